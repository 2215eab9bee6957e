//! Answers that were right once and shall stay so: cases, kept from trying.

use crate::body::{InPath, StrictJson};
use crate::node::gate::{Facts, Operator};
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::http::StatusCode;
use axum::http::header::CONTENT_TYPE;
use axum::response::{IntoResponse as _, Response};
use ostrog_core::rehearse::write;
use ostrog_core::value::parse_time;
use ostrog_store::case::Case;
use ostrog_wire::rehearsals::{CaseAsked, CaseShown};
use serde_json::{Map, Value, json};

/// Longest name of a case, in bytes.
const MAX_NAME: usize = 400;

fn case_shown(case: Case) -> CaseShown {
    CaseShown {
        number: case.number,
        case: case.body,
        author: case.author,
        created_at: case.created_at.to_string(),
    }
}

/// All cases, oldest first.
#[utoipa::path(get, path = "/api/v1/cases", tag = "charter",
    responses(
        (status = 200, description = "Cases", body = Vec<CaseShown>),
        Refused,
    ), security(("key" = [])))]
pub async fn cases(operator: Operator) -> Result<Json<Vec<CaseShown>>, Problem> {
    Ok(Json(operator.texts()?.cases().await?.into_iter().map(case_shown).collect()))
}

/// Keeps a case.
#[utoipa::path(post, path = "/api/v1/cases", tag = "charter", request_body = CaseAsked,
    responses(
        (status = 200, description = "It is kept", body = CaseShown),
        Refused,
    ), security(("key" = [])))]
pub async fn keep_case(
    operator: Operator,
    StrictJson(asked, _held): StrictJson<CaseAsked>,
) -> Result<Json<CaseShown>, Problem> {
    let drafting = operator.drafting()?;
    let body = body(asked, operator.facts()?)?;
    drafting.keep_case(body).await.map(case_shown).map(Json)
}

/// The case as the rehearsal format writes it, if it can be asked: a misspelt name would be a denial for
/// ever.
fn body(asked: CaseAsked, facts: Facts<'_>) -> Result<Value, Problem> {
    if asked.name.trim().is_empty() || asked.name.len() > MAX_NAME {
        return Err(Problem::malformed(format!("A case has a name, of at most {MAX_NAME} bytes.")));
    }
    if let Some(now) = asked.now.as_deref().filter(|now| parse_time(now).is_none()) {
        return Err(Problem::malformed(format!("{now:?} is no moment such as 2026-11-23T09:00:00Z.")));
    }
    if facts.policy().permission(&asked.permission).is_none() {
        return Err(Problem::invalid(format!("The charter declares no permission {}.", asked.permission)));
    }
    for name in [Some(&asked.subject), asked.resource.as_ref()].into_iter().flatten() {
        if name != "anonymous" && facts.named(name).is_none() {
            return Err(Problem::invalid(format!("{name} is not registered.")));
        }
    }
    let list = if asked.may { "may" } else { "may-not" };
    let mut body = json!({ "name": asked.name.trim(), "as": asked.subject, list: [asked.permission] });
    let said = !asked.properties.subject.is_empty() || !asked.properties.resource.is_empty();
    let more = [
        ("on", asked.resource.map(Value::from)),
        ("properties", said.then(|| json!(asked.properties))),
        ("context", (!asked.context.is_empty()).then(|| asked.context.into())),
        ("now", asked.now.map(Value::from)),
        ("because", asked.because.map(Value::from)),
    ];
    for (key, value) in more {
        if let Some(value) = value {
            body[key] = value;
        }
    }
    Ok(body)
}

/// Takes a case away.
#[utoipa::path(delete, path = "/api/v1/cases/{number}", tag = "charter",
    params(("number" = String, Path, description = "The case's number")),
    responses(
        (status = 204, description = "It is gone"),
        Refused,
    ), security(("key" = [])))]
pub async fn take_case_away(
    operator: Operator,
    InPath(number): InPath<String>,
) -> Result<StatusCode, Problem> {
    operator.drafting()?.take_case_away(&number).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// All cases as a file of a rehearsal that is laid over the register.
#[utoipa::path(get, path = "/api/v1/cases/file", tag = "charter",
    responses(
        (status = 200, description = "TOML", body = String, content_type = "application/toml"),
        Refused,
    ), security(("key" = [])))]
pub async fn cases_file(operator: Operator) -> Result<Response, Problem> {
    let cases: Vec<Value> = operator.texts()?.cases().await?.into_iter().map(|case| case.body).collect();
    Ok(([(CONTENT_TYPE, "application/toml")], file(&cases)).into_response())
}

/// Cases as a file of a rehearsal that is laid over the register.
pub fn file(cases: &[Value]) -> String {
    let over = Map::from_iter([("stand-alone".to_owned(), false.into())]);
    write(&over, &Map::new(), cases)
}
