//! Questions as an operator puts them: explained, with a blank, at another moment, under another
//! text, and with facts supposed.
//!
//! What is supposed is supposed in a copy that shares with what is live all that is the same: nobody
//! else sees it, and nobody waits for it.

use super::register::wrong_part;
use crate::App;
use crate::access::not_told;
use crate::body::StrictJson;
use crate::lanes::Ticket;
use crate::node::gate::permission::Permission;
use crate::node::gate::{Decisions, Operator};
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::State;
use axum::response::{IntoResponse as _, Response};
use jiff::Timestamp;
use ostrog_core::decide::NotSupposed;
use ostrog_core::decide::bearer::{Bearer, Token};
use ostrog_core::decide::hints::{Hint, Judged};
use ostrog_core::decide::in_force::{self, Under};
use ostrog_core::decide::take::what_it_would_take;
use ostrog_core::decide::told::{self, ActionTold, HolderTold, Listed, NotTold, ResourceTold, RowsTold};
use ostrog_core::prelude::{Engine, Policy, Request, World, explain, with_scratch};
use ostrog_core::value::parse_time;
use ostrog_wire::issuers::TokenText;
use ostrog_wire::questions::{AskAnswer, AskedOf, BlankAnswer, BlankOptions, QuestionRequest};
use serde::Serialize;
use serde_json::Value;
use std::sync::Arc;
use std::time::Duration;

/// Most facts of one supposition.
const MAX_SUPPOSED: usize = 100;
/// Most resources of one list.
const MAX_ITEMS: usize = 10_000;
/// How long a question may take.
const PATIENCE: Duration = Duration::from_secs(2);
/// How long is looked for what it would take.
const TAKE: Duration = Duration::from_millis(500);

/// Tries a question.
///
/// Nothing that is supposed is kept, and no other question ever sees it.
#[utoipa::path(post, path = "/api/v1/ask", tag = "questions", request_body = QuestionRequest,
    responses(
        (status = 200, description = "The answer, explained", body = AskAnswer),
        Refused,
    ), security(("key" = [])))]
pub async fn ask(
    State(app): State<App>,
    operator: Operator,
    StrictJson(question, _held): StrictJson<QuestionRequest>,
) -> Result<Response, Problem> {
    let would_take = question.would_take;
    pose(&app, operator, (About::One, None), question, move |asking, of| {
        let asked = asking.request.resolve(asking.engine(), asking.now);
        let asked = asked.map_err(|malformed| Problem::malformed(format!("{malformed}.")))?;
        let (decision, explanation) = with_scratch(|scratch| explain(asking.engine(), &asked, scratch));
        // A token is read beside one register, and vouches for nothing in another.
        let would_take = if would_take && !decision.allowed && asking.bearer.is_none() {
            let ticket = asking.ticket.within(TAKE);
            let mut world = asking.apart();
            let take = what_it_would_take(
                &mut world,
                &asking.request,
                asking.now,
                asking.decisions.sight(),
                &mut || ticket.goes_on(),
            );
            take.ok()
        } else {
            None
        };
        Ok(AskAnswer { explanation, would_take, of })
    })
    .await
}

/// What a subject may do with a resource.
#[utoipa::path(post, path = "/api/v1/actions", tag = "questions", request_body = QuestionRequest,
    responses(
        (status = 200, description = "Each permission of its type, with its answer", body = BlankAnswer<Listed<ActionTold>>),
        Refused,
    ), security(("key" = [])))]
pub async fn actions(
    State(app): State<App>,
    operator: Operator,
    StrictJson(question, _held): StrictJson<QuestionRequest>,
) -> Result<Response, Problem> {
    blank(&app, operator, About::One, question, |asking, _, _| {
        told::actions(asking.engine(), &asking.request, asking.now)
    })
    .await
}

/// Which registered resources a subject may act on.
#[utoipa::path(post, path = "/api/v1/reach", tag = "questions", request_body = QuestionRequest,
    responses(
        (status = 200, description = "At most 10000, in the order they were registered", body = BlankAnswer<Listed<ResourceTold>>),
        Refused,
    ), security(("key" = [])))]
pub async fn reach(
    State(app): State<App>,
    operator: Operator,
    StrictJson(question, _held): StrictJson<QuestionRequest>,
) -> Result<Response, Problem> {
    blank(&app, operator, About::Many, question, |asking, beside, go_on| {
        let limit = beside.limit.unwrap_or(MAX_ITEMS).min(MAX_ITEMS);
        let at = (beside.under.as_deref(), beside.after.as_deref(), Some(limit));
        told::reach(asking.engine(), &asking.request, at, asking.now, go_on)
    })
    .await
}

/// Who may do something: classes first, then individuals.
#[utoipa::path(post, path = "/api/v1/holders", tag = "questions", request_body = QuestionRequest,
    responses(
        (status = 200, description = "Who may", body = BlankAnswer<Listed<HolderTold>>),
        Refused,
    ), security(("key" = [])))]
pub async fn holders(
    State(app): State<App>,
    operator: Operator,
    StrictJson(question, _held): StrictJson<QuestionRequest>,
) -> Result<Response, Problem> {
    if question.token.is_some() {
        return Err(Problem::malformed("Who may is asked of the register: a token names one who asks."));
    }
    blank(&app, operator, About::One, question, |asking, beside, go_on| {
        let (engine, request, now) = (asking.engine(), &asking.request, asking.now);
        match beside.limit {
            _ if beside.count => told::holders_counted(engine, request, now, go_on),
            Some(limit) => {
                let at = (beside.after.as_deref(), limit.clamp(1, MAX_ITEMS));
                told::holders_page(engine, request, at, now, go_on)
            }
            None => told::holders(engine, request, beside.through, now, go_on),
        }
    })
    .await
}

/// The row filter: a question turned into a condition on an application's own rows.
#[utoipa::path(post, path = "/api/v1/rows", tag = "questions", request_body = QuestionRequest,
    responses(
        (status = 200, description = "The filter, as JSON and, with columns, as SQL", body = BlankAnswer<RowsTold>),
        Refused,
    ), security(("key" = [])))]
pub async fn rows(
    State(app): State<App>,
    operator: Operator,
    StrictJson(question, _held): StrictJson<QuestionRequest>,
) -> Result<Response, Problem> {
    // A filter tells of rows of all tenants.
    operator.need(Permission::RegisterRead)?;
    blank(&app, operator, About::Many, question, |asking, beside, go_on| {
        told::rows(asking.engine(), &asking.request, beside.columns.as_ref(), asking.now, go_on)
    })
    .await
}

/// What an application's interface shows and enables for a subject.
#[utoipa::path(post, path = "/api/v1/hints", tag = "questions", request_body = QuestionRequest,
    responses(
        (status = 200, description = "Each affordance", body = BlankAnswer<Listed<Hint>>),
        Refused,
    ), security(("key" = [])))]
pub async fn hints(
    State(app): State<App>,
    operator: Operator,
    StrictJson(question, _held): StrictJson<QuestionRequest>,
) -> Result<Response, Problem> {
    blank(&app, operator, About::Many, question, |asking, beside, go_on| {
        let (application, request) = (beside.application.as_str(), &asking.request);
        let under = |kind: &str| asking.under(kind);
        let judged = Judged { application, request, asks: &|_| true, under: &under };
        told::hints(asking.engine(), judged, asking.now, go_on)
    })
    .await
}

/// A question under way.
struct Asking<'a> {
    decisions: Decisions<'a>,
    /// What is supposed, or asked under; none: what is live.
    world: Option<World>,
    /// The same question under each charter that is live.
    beside: in_force::Asking<'a>,
    /// Who bears the token that stands for the subject.
    bearer: Option<Arc<Bearer>>,
    request: Request,
    now: Timestamp,
    ticket: &'a Ticket,
}

impl Asking<'_> {
    fn engine(&self) -> Engine<'_> {
        let world = self.world.as_ref().unwrap_or_else(|| self.decisions.world());
        let world = self.bearer.as_ref().map_or(world, |bearer| bearer.world(world));
        world.engine_in(self.decisions.sight())
    }

    /// What a question about a type is asked under: what is supposed, or the charter that answers about it.
    fn under(&self, kind: &str) -> Under<'_> {
        match &self.world {
            Some(_) => Under::one(self.engine(), &self.request),
            None => self.beside.under(kind),
        }
    }

    /// A copy to try changes in.
    fn apart(&self) -> World {
        self.world.clone().unwrap_or_else(|| self.decisions.apart())
    }
}

/// Asks a question with a blank.
async fn blank<T: Serialize>(
    app: &App,
    operator: Operator,
    about: About,
    mut question: QuestionRequest,
    ask: impl FnOnce(&Asking<'_>, &BlankOptions, &mut dyn FnMut() -> bool) -> Result<T, NotTold> + Send + 'static,
) -> Result<Response, Problem> {
    let beside = std::mem::take(&mut question.beside);
    let of = beside.application.clone();
    let of = (!of.is_empty()).then_some(of);
    pose(app, operator, (about, of), question, move |asking, of| {
        let mut go_on = || asking.ticket.goes_on();
        let answer = ask(asking, &beside, &mut go_on).map_err(not_told)?;
        Ok(BlankAnswer { answer, of })
    })
    .await
}

/// The text to ask under, if it is not the live one, and its revision.
async fn text(
    operator: &Operator,
    question: &QuestionRequest,
) -> Result<Option<(Arc<Policy>, i64)>, Problem> {
    let texts = match (question.revision, &question.draft) {
        (None, None) => return Ok(None),
        (Some(_), Some(_)) => {
            return Err(Problem::malformed("Ask under a revision or under a draft, not both."));
        }
        // An explanation tells conditions of the text it is asked under.
        _ => operator.texts()?,
    };
    let (sources, number) = match (question.revision, &question.draft) {
        (Some(number), _) => (texts.revision(number).await?.sources, number),
        (None, draft) => {
            let draft = texts.draft(draft.as_deref().unwrap_or_default()).await?;
            (draft.sources, draft.info.base.unwrap_or(0))
        }
    };
    Ok(Some((texts.compiled(sources).await?, number)))
}

/// A tenant's operator asks about what lies in the tenant: what is not there and what lies elsewhere
/// answer alike.
fn is_theirs(operator: &Operator, question: &QuestionRequest, about: About) -> Result<(), Problem> {
    let facts = operator.facts()?;
    if facts.is_everything() {
        return Ok(());
    }
    let within = || question.resource_properties.get("within").and_then(Value::as_str);
    match &question.resource {
        Some(resource) if facts.find(resource).is_some() => Ok(()),
        Some(resource) => Err(Problem::not_found(format!("{resource} is not registered."))),
        None if about == About::Many => Ok(()),
        // A new one, in the tenant.
        None if within().is_some_and(|outer| facts.find(outer).is_some()) => Ok(()),
        None => operator.need(Permission::RegisterRead),
    }
}

/// What a question is about.
#[derive(Clone, Copy, PartialEq, Eq)]
enum About {
    /// One resource, registered or new.
    One,
    /// Those that are found.
    Many,
}

/// Asks, of what is live or supposed, beside the threads that answer decisions.
async fn pose<T: Serialize>(
    app: &App,
    operator: Operator,
    (about, application): (About, Option<String>),
    question: QuestionRequest,
    ask: impl FnOnce(&Asking<'_>, AskedOf) -> Result<T, Problem> + Send + 'static,
) -> Result<Response, Problem> {
    let now = match &question.now {
        None => Timestamp::now(),
        Some(text) => parse_time(text).ok_or_else(|| {
            Problem::malformed(format!("{text:?} is no moment such as 2026-11-23T09:00:00Z."))
        })?,
    };
    let supposed = question.suppose.len() + question.without.len();
    if supposed > MAX_SUPPOSED {
        return Err(Problem::malformed(format!("At most {MAX_SUPPOSED} facts are supposed at a time.")));
    }
    operator.decisions(Permission::RegisterRead)?;
    is_theirs(&operator, &question, about)?;
    let text = text(&operator, &question).await?;
    let token = match &question.token {
        None => None,
        Some(_) if !question.subject.is_empty() => {
            return Err(Problem::malformed("A subject is asked about, or the bearer of a token, not both."));
        }
        Some(TokenText(token)) => {
            // Whatever moment is asked about, a token is held against the clock.
            let verified = operator.verified(token, Timestamp::now()).await;
            Some(verified.map_err(|why| Problem::invalid(format!("The token is refused: {why}.")))?)
        }
    };
    let key = operator.key_id().to_owned();
    let work = move |ticket: &Ticket| {
        let decisions = operator.decisions(Permission::RegisterRead)?;
        // The charter that is live for whoever owns the type asked about, or for the application.
        let named = question.resource.as_deref().unwrap_or_default();
        let kind = [question.permission.as_str(), named].into_iter().find(|text| !text.is_empty());
        let decisions = match &application {
            Some(application) => decisions.of_application(application),
            None => decisions.about(kind.and_then(|text| text.split(':').next()).unwrap_or_default()),
        };
        let of = AskedOf {
            supposed,
            now: now.to_string(),
            revision: text.as_ref().map_or(decisions.revision(), |(_, number)| *number),
            position: operator.position_number(),
            until: token.as_ref().map(|token| token.until.to_string()),
        };
        let world = apart(decisions, text.map(|(policy, _)| policy), &question)?;
        let claims = token.map(|token| Token { issuer: token.issuer.clone(), claims: token.claims.clone() });
        let borne = claims.as_ref().map(|token| {
            Bearer::of(world.as_ref().unwrap_or_else(|| decisions.world()), token, None).map(Arc::new)
        });
        let bearer = borne.as_ref().and_then(|borne| borne.as_ref().ok()).map(Arc::clone);
        let request = Request {
            subject: question.subject,
            bearer: borne,
            permission: question.permission,
            resource: question.resource,
            of_subject: question.subject_properties,
            of_resource: question.resource_properties,
            context: question.context,
            ..Request::default()
        };
        let beside = decisions.asking(claims, None);
        let asking = Asking { decisions, world, beside, bearer, request, now, ticket };
        Ok(Json(ask(&asking, of)?).into_response())
    };
    app.node.lanes.questions.run(&key, PATIENCE, work).await
}

/// The world to ask of, if it is not what is live: under another text, with facts supposed.
fn apart(
    decisions: Decisions<'_>,
    text: Option<Arc<Policy>>,
    question: &QuestionRequest,
) -> Result<Option<World>, Problem> {
    if text.is_none() && question.suppose.is_empty() && question.without.is_empty() {
        return Ok(None);
    }
    let mut world = decisions.apart();
    if let Some(text) = text {
        world.set_policy(text);
    }
    let supposed = world.suppose(&question.suppose, &question.without, decisions.sight());
    supposed.map_err(|wrong| not_supposed(&wrong))?;
    Ok(Some(world))
}

fn not_supposed(wrong: &[NotSupposed]) -> Problem {
    let all: Vec<String> = wrong.iter().map(ToString::to_string).collect();
    let parts = wrong.iter().map(|wrong| wrong_part(wrong.line.clone(), &wrong.why)).collect();
    Problem::invalid(format!("{}.", all.join("; "))).with(parts)
}
