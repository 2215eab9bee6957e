//! Trying a question: explained, at another moment, and with facts supposed.

use crate::App;
use crate::body::StrictJson;
use crate::caller::Operator;
use crate::problem::{Problem, ProblemPart};
use axum::Json;
use axum::extract::State;
use jiff::Timestamp;
use ostrog_core::prelude::{Change, Explanation, Request, World, explain, fact, with_scratch};
use ostrog_core::value::parse_time;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use utoipa::ToSchema;

/// Most facts of one supposition.
const MAX_SUPPOSED: usize = 100;

/// A question to try.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Ask {
    /// `user:ines`, `service:crane-feed` or `anonymous`.
    subject: String,
    /// `type:action`.
    permission: String,
    /// `type:id`; without one, a new resource.
    #[serde(default)]
    resource: Option<String>,
    /// What the request says of the subject.
    #[serde(default)]
    #[schema(value_type = Object)]
    subject_properties: Map<String, Value>,
    /// What the request says of the resource.
    #[serde(default)]
    #[schema(value_type = Object)]
    resource_properties: Map<String, Value>,
    /// The context.
    #[serde(default)]
    #[schema(value_type = Object)]
    context: Map<String, Value>,
    /// Another moment than the present one.
    #[serde(default)]
    now: Option<String>,
    /// Fact lines supposed to hold.
    #[serde(default)]
    suppose: Vec<String>,
    /// Fact lines supposed not to hold.
    #[serde(default)]
    without: Vec<String>,
}

/// The answer and why.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Asked {
    /// Decision, reason, sentence, way, conditions.
    #[schema(value_type = Object)]
    explanation: Explanation,
    /// How many facts were supposed: the answer is not one about what is.
    supposed: usize,
    /// The moment asked about.
    now: String,
    /// The live revision.
    revision: i64,
    /// The position asked at.
    position: i64,
}

/// Tries a question.
///
/// Nothing that is supposed is kept, and no other question ever sees it.
#[utoipa::path(post, path = "/api/v1/ask", tag = "questions", request_body = Ask,
    responses(
        (status = 200, description = "The answer, explained", body = Asked),
        (status = 400, description = "The question is malformed", body = Problem, content_type = "application/problem+json"),
        (status = 401, description = "No key, or none that counts", body = Problem, content_type = "application/problem+json"),
        (status = 403, description = "Not an operator's key", body = Problem, content_type = "application/problem+json"),
        (status = 413, description = "Too large", body = Problem, content_type = "application/problem+json"),
        (status = 415, description = "Not JSON", body = Problem, content_type = "application/problem+json"),
        (status = 422, description = "What is supposed cannot be", body = Problem, content_type = "application/problem+json"),
        (status = 503, description = "No charter is live", body = Problem, content_type = "application/problem+json"),
    ), security(("key" = [])))]
pub async fn ask(
    State(app): State<App>,
    _operator: Operator,
    StrictJson(ask): StrictJson<Ask>,
) -> Result<Json<Asked>, Problem> {
    let now = match &ask.now {
        None => Timestamp::now(),
        Some(text) => parse_time(text).ok_or_else(|| {
            Problem::malformed(format!("{text:?} is no moment such as 2026-11-23T09:00:00Z."))
        })?,
    };
    let supposed = ask.suppose.len() + ask.without.len();
    if supposed > MAX_SUPPOSED {
        return Err(Problem::malformed(format!("At most {MAX_SUPPOSED} facts are supposed at a time.")));
    }
    let request = Request {
        subject: ask.subject,
        permission: ask.permission,
        resource: ask.resource,
        of_subject: ask.subject_properties,
        of_resource: ask.resource_properties,
        context: ask.context,
    };
    let nothing_live = || Problem::unavailable("No charter is live.");
    let answer = |world: &World| -> Result<Explanation, Problem> {
        let asked = request
            .resolve(world.engine(), now)
            .map_err(|malformed| Problem::malformed(format!("{malformed}.")))?;
        Ok(with_scratch(|scratch| explain(world.engine(), &asked, scratch)).1)
    };
    let (explanation, revision, position) = if supposed == 0 {
        let state = app.node.state();
        let live = state.live.as_ref().ok_or_else(nothing_live)?;
        (answer(&live.world)?, live.revision.number, state.position)
    } else {
        app.node.supposing(|live, position| {
            let applied = live.world.suppose(&ask.suppose, &ask.without).map_err(|wrong| {
                let told = format!("{}.", wrong.join("; "));
                let parts = wrong.into_iter().enumerate();
                let parts = parts.map(|(at, detail)| ProblemPart { at: (at + 1).to_string(), detail });
                Problem::invalid(told).with(parts.collect())
            })?;
            // Whatever happens in between, what was supposed is taken back before anybody else asks.
            let explanation = catch_unwind(AssertUnwindSafe(|| answer(&live.world)));
            live.world.undo(applied);
            let explanation = explanation.unwrap_or_else(|panic| resume_unwind(panic))?;
            Ok((explanation, live.revision.number, position))
        })?
    };
    Ok(Json(Asked { explanation, supposed, now: now.to_string(), revision, position }))
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
