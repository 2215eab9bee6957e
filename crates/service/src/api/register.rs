//! The register as a whole: loads and facts, and what its other calls share.

use crate::App;
use crate::body::{Lines, Params, StrictJson};
use crate::node::gate::{self, Changed, Operator};
use crate::node::write::Conditions;
use crate::problem::{Problem, Refused, part};
use axum::Json;
use axum::extract::State;
use ostrog_core::prelude::{Change, Wrong, fact, line};
use ostrog_wire::problem::ProblemPart;
use ostrog_wire::register::{Facts, LoadQuery, Written};

/// Most lines of one load.
pub const MAX_LINES: usize = 10_000;
/// Most rows of one page.
pub const MAX_PAGE: usize = 1_000;
/// Most things wrong that are told.
const MAX_WRONG: usize = 100;

/// What a write came to, as it is told.
pub fn written(changed: Result<Changed, Problem>) -> Result<Json<Written>, Problem> {
    let Changed { entries, position, digest, ignored } = changed?;
    let changed = entries.iter().map(|entry| entry.to_json()).collect();
    Ok(Json(Written { position, digest, changed, ignored }))
}

/// What ending one thing came to: where there is none of that name, the address leads to nothing.
pub fn ended(changed: Result<Changed, Problem>) -> Result<Json<Written>, Problem> {
    let is_missing = |problem: &Problem| {
        let mut codes = problem.errors().iter().map(|part| part.code.as_deref().unwrap_or_default());
        problem.status() == 422 && codes.all(|code| matches!(code, "not-found" | "not-registered"))
    };
    written(changed.map_err(|problem| match is_missing(&problem) {
        true => Problem::not_found(problem.detail()).with(problem.errors().to_vec()),
        false => problem,
    }))
}

fn conditions(query: &LoadQuery) -> Conditions {
    Conditions { check_only: query.check, at: query.at, ..Conditions::default() }
}

/// Loads register lines (NDJSON), all of them or none.
#[utoipa::path(post, path = "/api/v1/register", tag = "register", params(LoadQuery),
    request_body(content = String, content_type = "application/x-ndjson"),
    responses(
        (status = 200, description = "All lines are in force", body = Written),
        Refused,
    ), security(("key" = [])))]
pub async fn load(
    State(app): State<App>,
    operator: Operator,
    Params(query): Params<LoadQuery>,
    Lines(body, _held): Lines,
) -> Result<Json<Written>, Problem> {
    let key = operator.key_id().to_owned();
    let read = move |_: &crate::lanes::Ticket| changes(&body);
    let changes = app.node.lanes.questions.run(&key, super::PATIENCE, read).await?;
    written(operator.change(changes, None, conditions(&query)).await)
}

/// Reads lines, or says of each what is wrong with it.
fn changes(body: &str) -> Result<Vec<Change>, Problem> {
    let mut changes = Vec::new();
    let mut parts = Vec::new();
    for (at, text) in body.lines().enumerate().filter(|(_, text)| !text.trim().is_empty()) {
        if changes.len() >= MAX_LINES {
            return Err(Problem::malformed(format!("At most {MAX_LINES} lines at a time.")));
        }
        match line::parse(text) {
            Ok(change) => changes.push(change),
            Err(wrong) => parts.push(wrong_part((at + 1).to_string(), &wrong)),
        }
        if parts.len() >= MAX_WRONG {
            break;
        }
    }
    match parts.first() {
        None => Ok(changes),
        Some(first) => {
            let told = format!("Nothing was changed: line {}: {}.", first.at, first.detail);
            Err(Problem::invalid(told).with(parts))
        }
    }
}

/// What is wrong with a line or a fact, with its code.
pub fn wrong_part(at: String, wrong: &Wrong) -> ProblemPart {
    let code = Some(wrong.code().to_owned());
    ProblemPart { code, meant: wrong.near().map(str::to_owned), ..part(at, wrong) }
}

/// Sets and removes facts, all or none.
#[utoipa::path(post, path = "/api/v1/facts", tag = "register", params(LoadQuery), request_body = Facts,
    responses(
        (status = 200, description = "They are in force", body = Written),
        Refused,
    ), security(("key" = [])))]
pub async fn set_facts(
    operator: Operator,
    Params(query): Params<LoadQuery>,
    StrictJson(facts, _held): StrictJson<Facts>,
) -> Result<Json<Written>, Problem> {
    if facts.set.len() + facts.remove.len() > MAX_LINES {
        return Err(Problem::malformed(format!("At most {MAX_LINES} facts at a time.")));
    }
    let changes = fact_changes(operator.facts()?, &facts.set, &facts.remove)?;
    written(operator.change(changes, None, conditions(&query)).await)
}

/// The change that a fact line means, under the charters that may say so.
fn meant(facts: gate::Facts<'_>, line: &str, set: bool) -> Result<Change, Wrong> {
    let read = |policy| {
        let fact = fact::Fact::parse(line)?;
        if set { fact.assert(policy) } else { fact.retract(policy) }
    };
    let mut policies = facts.policies_of(line.split(':').next().unwrap_or_default());
    let first = read(policies.next().unwrap_or(facts.policy()));
    first.or_else(|why| policies.find_map(|policy| read(policy).ok()).ok_or(why))
}

/// Fact lines as changes.
fn fact_changes(facts: gate::Facts<'_>, set: &[String], remove: &[String]) -> Result<Vec<Change>, Problem> {
    let lines = set.iter().map(|line| (line, true)).chain(remove.iter().map(|line| (line, false)));
    let mut changes = Vec::new();
    let mut parts = Vec::new();
    for (line, set) in lines {
        match meant(facts, line, set) {
            Ok(change) => changes.push(change),
            Err(wrong) => parts.push(wrong_part(line.clone(), &wrong)),
        }
        if parts.len() >= MAX_WRONG {
            break;
        }
    }
    match parts.first() {
        None => Ok(changes),
        Some(first) => Err(Problem::invalid(format!("{}: {}.", first.at, first.detail)).with(parts)),
    }
}
