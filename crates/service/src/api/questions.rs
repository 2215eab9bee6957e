//! Questions as an operator puts them: explained, with a blank, at another moment, under another
//! text, and with facts supposed.

use crate::App;
use crate::body::StrictJson;
use crate::caller::{AtLeast, Operator};
use crate::node::{Live, tenant_of};
use crate::problem::{Problem, ProblemPart, Refused};
use axum::Json;
use axum::extract::State;
use jiff::Timestamp;
use ostrog_core::decide::take::{Take, what_it_would_take};
use ostrog_core::decide::told::{Beside, Blank, told};
use ostrog_core::prelude::{
    Change, Engine, Explanation, Link, Policy, Request, World, explain, fact, with_scratch,
};
use ostrog_core::value::parse_time;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::sync::Arc;
use std::time::{Duration, Instant};
use utoipa::ToSchema;

/// Most facts of one supposition.
const MAX_SUPPOSED: usize = 100;
/// Most resources of one list.
const MAX_ITEMS: usize = 10_000;
/// How long a search may take. Writes wait for it.
const PATIENCE: Duration = Duration::from_secs(2);
/// How long one may take while something is supposed, or is looked for that would be needed: all
/// other questions wait for it.
const ALONE: Duration = Duration::from_millis(100);
const TAKE: Duration = Duration::from_millis(10);

/// A question to try. What its blank does not need may be left out.
#[derive(Debug, Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct Posed {
    /// `user:ines`, `service:crane-feed` or `anonymous`.
    subject: String,
    /// `type:action`.
    permission: String,
    /// `type:id`; without one, a new resource.
    resource: Option<String>,
    /// What the request says of the subject.
    #[schema(value_type = Object)]
    subject_properties: Map<String, Value>,
    /// What the request says of the resource.
    #[schema(value_type = Object)]
    resource_properties: Map<String, Value>,
    /// The context.
    #[schema(value_type = Object)]
    context: Map<String, Value>,
    /// Another moment than the present one.
    now: Option<String>,
    /// Fact lines supposed to hold.
    suppose: Vec<String>,
    /// Fact lines supposed not to hold.
    without: Vec<String>,
    /// Under the text of this revision.
    revision: Option<i64>,
    /// Under the text of this draft.
    draft: Option<String>,
    /// `ask`: of a denial, what it would take.
    would_take: bool,
    /// What else the question needs: `under`, `after`, `limit`, `through`, `columns`, `application`.
    #[schema(value_type = Object)]
    beside: Beside,
}

/// The answer and why.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Asked {
    /// Decision, reason, sentence, way, conditions.
    explanation: Explanation,
    /// What would change a denial.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Take>)]
    would_take: Option<Value>,
    #[serde(flatten)]
    of: Of,
}

/// The answer to a question with a blank.
#[derive(Debug, Serialize, ToSchema)]
#[schema(as = Filled)]
pub struct Told {
    /// `items`, or a `filter`; `whole`, `next`, `new` where there is a list.
    #[serde(flatten)]
    #[schema(value_type = Object)]
    told: Value,
    #[serde(flatten)]
    of: Of,
}

/// What was asked of.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Of {
    /// How many facts were supposed: the answer is not one about what is.
    supposed: usize,
    /// The moment asked about.
    now: String,
    /// The live revision, or the one asked under.
    revision: i64,
    /// The position asked at.
    position: i64,
}

/// Tries a question.
///
/// Nothing that is supposed is kept, and no other question ever sees it.
#[utoipa::path(post, path = "/api/v1/ask", tag = "questions", request_body = Posed,
    responses(
        (status = 200, description = "The answer, explained", body = Asked),
        Refused,
    ), security(("key" = [])))]
pub async fn ask(
    State(app): State<App>,
    operator: Operator,
    _at: AtLeast,
    StrictJson(posed): StrictJson<Posed>,
) -> Result<Json<Asked>, Problem> {
    let would_take = posed.would_take;
    let ((explanation, would_take), of) = posed
        .pose(&app, &operator, would_take, |mut asking| {
            let Asking { request, now, .. } = &asking;
            let asked = request
                .resolve(asking.engine(), *now)
                .map_err(|malformed| Problem::malformed(format!("{malformed}.")))?;
            let (decision, explanation) = with_scratch(|scratch| explain(asking.engine(), &asked, scratch));
            let take = if decision.allowed { None } else { asking.would_take() };
            Ok((explanation, take))
        })
        .await?;
    Ok(Json(Asked { explanation, would_take, of }))
}

/// What a subject may do with a resource.
#[utoipa::path(post, path = "/api/v1/actions", tag = "questions", request_body = Posed,
    responses(
        (status = 200, description = "Each permission of its type, with its answer", body = Told),
        Refused,
    ), security(("key" = [])))]
pub async fn actions(
    State(app): State<App>,
    operator: Operator,
    _at: AtLeast,
    StrictJson(posed): StrictJson<Posed>,
) -> Result<Json<Told>, Problem> {
    posed.tell(&app, &operator, Blank::Actions).await
}

/// Which registered resources a subject may act on.
#[utoipa::path(post, path = "/api/v1/reach", tag = "questions", request_body = Posed,
    responses(
        (status = 200, description = "At most 10000, in the order they were registered", body = Told),
        Refused,
    ), security(("key" = [])))]
pub async fn reach(
    State(app): State<App>,
    operator: Operator,
    _at: AtLeast,
    StrictJson(posed): StrictJson<Posed>,
) -> Result<Json<Told>, Problem> {
    posed.tell(&app, &operator, Blank::Reach).await
}

/// Who may do something: classes first, then individuals.
#[utoipa::path(post, path = "/api/v1/holders", tag = "questions", request_body = Posed,
    responses(
        (status = 200, description = "Who may", body = Told),
        Refused,
    ), security(("key" = [])))]
pub async fn holders(
    State(app): State<App>,
    operator: Operator,
    _at: AtLeast,
    StrictJson(posed): StrictJson<Posed>,
) -> Result<Json<Told>, Problem> {
    posed.tell(&app, &operator, Blank::Holders).await
}

/// The row filter: a question turned into a condition on an application's own rows.
#[utoipa::path(post, path = "/api/v1/rows", tag = "questions", request_body = Posed,
    responses(
        (status = 200, description = "The filter, as JSON and, with columns, as SQL", body = Told),
        Refused,
    ), security(("key" = [])))]
pub async fn rows(
    State(app): State<App>,
    operator: Operator,
    _at: AtLeast,
    StrictJson(posed): StrictJson<Posed>,
) -> Result<Json<Told>, Problem> {
    posed.tell(&app, &operator, Blank::Rows).await
}

/// What an application's interface shows and enables for a subject.
#[utoipa::path(post, path = "/api/v1/hints", tag = "questions", request_body = Posed,
    responses(
        (status = 200, description = "Each affordance", body = Told),
        Refused,
    ), security(("key" = [])))]
pub async fn hints(
    State(app): State<App>,
    operator: Operator,
    _at: AtLeast,
    StrictJson(posed): StrictJson<Posed>,
) -> Result<Json<Told>, Problem> {
    posed.tell(&app, &operator, Blank::Hints).await
}

/// A question under way.
struct Asking<'w> {
    of: What<'w>,
    request: Request,
    now: Timestamp,
    until: Instant,
}

/// What it is asked of: facts that others read too, or a state that is this question's alone.
enum What<'w> {
    Shared(Engine<'w>),
    Alone(&'w mut World),
}

impl Asking<'_> {
    fn engine(&self) -> Engine<'_> {
        match &self.of {
            What::Shared(engine) => *engine,
            What::Alone(world) => world.engine(),
        }
    }

    fn would_take(&mut self) -> Option<Value> {
        let What::Alone(world) = &mut self.of else { return None };
        let until = Instant::now() + TAKE;
        let take = what_it_would_take(world, &self.request, self.now, &mut || Instant::now() < until);
        take.ok().and_then(|take| serde_json::to_value(take).ok())
    }
}

impl Posed {
    async fn tell(mut self, app: &App, operator: &Operator, blank: Blank) -> Result<Json<Told>, Problem> {
        let mut beside = std::mem::take(&mut self.beside);
        if blank == Blank::Reach {
            beside.limit = Some(beside.limit.unwrap_or(MAX_ITEMS).min(MAX_ITEMS));
        }
        let (told, of) = self
            .pose(app, operator, false, |asking| {
                let mut go_on = || Instant::now() < asking.until;
                told(asking.engine(), blank, &asking.request, &beside, asking.now, &mut go_on)
                    .map_err(|wrong| Problem::invalid(format!("{wrong}.")))
            })
            .await?;
        Ok(Json(Told { told, of }))
    }

    /// The text to ask under, if it is not the live one.
    async fn text(&self, app: &App) -> Result<Option<(Arc<Policy>, i64)>, Problem> {
        match (self.revision, &self.draft) {
            (Some(_), Some(_)) => Err(Problem::malformed("Ask under a revision or under a draft, not both.")),
            (Some(number), None) => {
                let revision = app.node.store().revision(number).await?;
                let missing = || Problem::not_found(format!("There is no revision {number}."));
                Ok(Some((app.texts.compiled(&revision.ok_or_else(missing)?.sources)?, number)))
            }
            (None, Some(id)) => {
                let draft = super::draft::find(app, id).await?;
                Ok(Some((app.texts.compiled(&draft.sources)?, draft.info.base.unwrap_or(0))))
            }
            (None, None) => Ok(None),
        }
    }

    /// A tenant's operator asks about what lies in the tenant.
    fn readable(&self, app: &App, operator: &Operator) -> Result<(), Problem> {
        let state = app.node.state();
        let tenant = state.live.as_ref().zip(self.resource.as_deref()).and_then(|(live, resource)| {
            let id = live.world.register().registered(resource)?;
            tenant_of(&live.world, id)
        });
        operator.rights.need("register:read", tenant.as_deref())
    }

    /// Asks, of what is live or supposed. `alone` asks for a state that may be tried on.
    async fn pose<T>(
        self,
        app: &App,
        operator: &Operator,
        alone: bool,
        ask: impl FnOnce(Asking<'_>) -> Result<T, Problem>,
    ) -> Result<(T, Of), Problem> {
        let now = match &self.now {
            None => Timestamp::now(),
            Some(text) => parse_time(text).ok_or_else(|| {
                Problem::malformed(format!("{text:?} is no moment such as 2026-11-23T09:00:00Z."))
            })?,
        };
        let supposed = self.suppose.len() + self.without.len();
        if supposed > MAX_SUPPOSED {
            return Err(Problem::malformed(format!("At most {MAX_SUPPOSED} facts are supposed at a time.")));
        }
        app.node.fresh()?;
        self.readable(app, operator)?;
        if self.revision.is_some() || self.draft.is_some() {
            // An explanation tells conditions of the text it is asked under.
            operator.needs("charter:read")?;
        }
        let text = self.text(app).await?;
        let request = Request {
            subject: self.subject,
            permission: self.permission,
            resource: self.resource,
            of_subject: self.subject_properties,
            of_resource: self.resource_properties,
            context: self.context,
        };
        let of = |live: &Live, position: i64| Of {
            supposed,
            now: now.to_string(),
            revision: text.as_ref().map_or(live.revision.number, |(_, number)| *number),
            position,
        };
        if supposed > 0 || alone {
            return tokio::task::block_in_place(|| {
                app.node.supposing(|live, position| {
                    let of = of(live, position);
                    let until = Instant::now() + ALONE;
                    let (set, remove) = (self.suppose, self.without);
                    let under = text.as_ref().map(|(policy, _)| Arc::clone(policy));
                    let answer = trying(&mut live.world, under, &set, &remove, |world| {
                        ask(Asking { of: What::Alone(world), request, now, until })
                    })?;
                    Ok((answer, of))
                })
            });
        }
        let state = app.node.state();
        let live = state.live.as_ref().ok_or_else(|| Problem::unavailable("No charter is live."))?;
        let until = Instant::now() + PATIENCE;
        let answer = tokio::task::block_in_place(|| match &text {
            None => ask(Asking { of: What::Shared(live.world.engine()), request, now, until }),
            Some((policy, _)) => {
                let register = live.world.register();
                let link = Link::new(policy, register);
                let engine = Engine { policy, register, link: &link };
                ask(Asking { of: What::Shared(engine), request, now, until })
            }
        })?;
        Ok((answer, of(live, state.position)))
    }
}

/// Asks of a world in which facts are supposed, perhaps under another text. Whatever happens in
/// between, it is as before when this returns.
fn trying<T>(
    world: &mut World,
    text: Option<Arc<Policy>>,
    set: &[String],
    remove: &[String],
    ask: impl FnOnce(&mut World) -> Result<T, Problem>,
) -> Result<T, Problem> {
    let live = Arc::clone(world.policy());
    if let Some(text) = text {
        world.set_policy(text);
    }
    let answer = match world.suppose(set, remove) {
        Err(wrong) => {
            let told = format!("{}.", wrong.join("; "));
            let parts = wrong.into_iter().enumerate();
            let parts = parts.map(|(at, detail)| ProblemPart { at: (at + 1).to_string(), detail });
            Ok(Err(Problem::invalid(told).with(parts.collect())))
        }
        Ok(applied) => {
            let answer = catch_unwind(AssertUnwindSafe(|| ask(world)));
            world.undo(applied);
            answer
        }
    };
    if !Arc::ptr_eq(&live, world.policy()) {
        world.set_policy(live);
    }
    answer.unwrap_or_else(|panic| resume_unwind(panic))
}

/// Fact lines as changes.
pub fn changes(world: &World, set: &[String], remove: &[String]) -> Result<Vec<Change>, Problem> {
    let lines = set.iter().map(|line| (line, true)).chain(remove.iter().map(|line| (line, false)));
    let mut changes = Vec::new();
    let mut parts = Vec::new();
    for (line, set) in lines {
        let change = fact::Fact::parse(line)
            .and_then(|fact| if set { fact.assert(world.policy()) } else { fact.retract(world.policy()) });
        match change {
            Ok(change) => changes.push(change),
            Err(detail) => parts.push(ProblemPart { at: line.clone(), detail }),
        }
    }
    match parts.first() {
        None => Ok(changes),
        Some(first) => Err(Problem::invalid(format!("{}: {}.", first.at, first.detail)).with(parts)),
    }
}
