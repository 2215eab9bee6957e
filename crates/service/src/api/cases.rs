//! Answers that were right once and shall stay so: cases, kept from trying.

use super::register::live;
use crate::App;
use crate::body::StrictJson;
use crate::caller::Operator;
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::header::CONTENT_TYPE;
use axum::response::{IntoResponse as _, Response};
use ostrog_core::rehearse::write;
use ostrog_core::value::parse_time;
use ostrog_store::case::Case;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use utoipa::ToSchema;

/// Most cases that are kept.
const MAX_CASES: usize = 10_000;

/// A case.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub struct CaseShown {
    /// 1, 2, 3 …
    number: i64,
    /// As the rehearsal format writes it.
    #[schema(value_type = Object)]
    case: Value,
    /// Who kept it.
    author: String,
    /// When.
    created_at: String,
}

impl From<Case> for CaseShown {
    fn from(case: Case) -> Self {
        CaseShown {
            number: case.number,
            case: case.body,
            author: case.author,
            created_at: case.created_at.to_string(),
        }
    }
}

/// A question and the answer it shall have.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct CaseAsked {
    /// What it shows.
    name: String,
    /// Who.
    subject: String,
    /// May do what.
    permission: String,
    /// With what; none: a new resource.
    #[serde(default)]
    resource: Option<String>,
    /// Whether they may.
    may: bool,
    /// The context.
    #[serde(default)]
    #[schema(value_type = Object)]
    context: Map<String, Value>,
    /// What the request says of the subject and of the resource.
    #[serde(default)]
    properties: Properties,
    /// The moment.
    #[serde(default)]
    now: Option<String>,
    /// The reason code it shall have.
    #[serde(default)]
    because: Option<String>,
}

/// What a request says.
#[derive(Debug, Default, Deserialize, Serialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Properties {
    /// Of the subject.
    #[serde(skip_serializing_if = "Map::is_empty")]
    #[schema(value_type = Object)]
    subject: Map<String, Value>,
    /// Of the resource.
    #[serde(skip_serializing_if = "Map::is_empty")]
    #[schema(value_type = Object)]
    resource: Map<String, Value>,
}

/// All cases, oldest first.
#[utoipa::path(get, path = "/api/v1/cases", tag = "charter",
    responses(
        (status = 200, description = "Cases", body = Vec<CaseShown>),
        Refused,
    ), security(("key" = [])))]
pub async fn cases(State(app): State<App>, operator: Operator) -> Result<Json<Vec<CaseShown>>, Problem> {
    operator.needs("charter:read")?;
    Ok(Json(app.node.store().cases().await?.into_iter().map(CaseShown::from).collect()))
}

/// Keeps a case.
#[utoipa::path(post, path = "/api/v1/cases", tag = "charter", request_body = CaseAsked,
    responses(
        (status = 200, description = "It is kept", body = CaseShown),
        Refused,
    ), security(("key" = [])))]
pub async fn keep(
    State(app): State<App>,
    operator: Operator,
    StrictJson(asked): StrictJson<CaseAsked>,
) -> Result<Json<CaseShown>, Problem> {
    operator.needs("charter:draft")?;
    let body = asked.body(&app)?;
    let all = app.node.store().cases().await?;
    if all.len() >= MAX_CASES {
        return Err(Problem::conflict(format!("At most {MAX_CASES} cases are kept.")));
    }
    if all.iter().any(|case| case.body["name"] == body["name"]) {
        return Err(Problem::conflict("There is a case of that name; give this one another."));
    }
    let ((number, now), _) = app
        .node
        .write(async |write, now| Ok((write.keep_case(&body, &operator.key.id, now).await?, now)))
        .await?;
    let author = operator.key.id.clone();
    Ok(Json(CaseShown { number, case: body, author, created_at: now.to_string() }))
}

impl CaseAsked {
    /// The case, if it can be asked: a misspelt name would be a denial for ever.
    fn body(self, app: &App) -> Result<Value, Problem> {
        if self.name.trim().is_empty() || self.name.len() > 400 {
            return Err(Problem::malformed("A case has a name, of at most 400 bytes."));
        }
        if let Some(now) = self.now.as_deref().filter(|now| parse_time(now).is_none()) {
            return Err(Problem::malformed(format!("{now:?} is no moment such as 2026-11-23T09:00:00Z.")));
        }
        let state = app.node.state();
        let world = &live(&state)?.world;
        if world.policy().permission(&self.permission).is_none() {
            return Err(Problem::invalid(format!("The charter declares no permission {}.", self.permission)));
        }
        for name in [Some(&self.subject), self.resource.as_ref()].into_iter().flatten() {
            if name != "anonymous" && world.register().registered(name).is_none() {
                return Err(Problem::invalid(format!("{name} is not registered.")));
            }
        }
        let list = if self.may { "may" } else { "may-not" };
        let mut body = json!({ "name": self.name.trim(), "as": self.subject, list: [self.permission] });
        let said = !self.properties.subject.is_empty() || !self.properties.resource.is_empty();
        let more = [
            ("on", self.resource.map(Value::from)),
            ("properties", said.then(|| json!(self.properties))),
            ("context", (!self.context.is_empty()).then(|| self.context.into())),
            ("now", self.now.map(Value::from)),
            ("because", self.because.map(Value::from)),
        ];
        for (key, value) in more {
            if let Some(value) = value {
                body[key] = value;
            }
        }
        Ok(body)
    }
}

/// Takes a case away.
#[utoipa::path(delete, path = "/api/v1/cases/{number}", tag = "charter",
    params(("number" = String, Path, description = "The case's number")),
    responses(
        (status = 204, description = "It is gone"),
        Refused,
    ), security(("key" = [])))]
pub async fn take_away(
    State(app): State<App>,
    operator: Operator,
    Path(number): Path<String>,
) -> Result<Response, Problem> {
    operator.needs("charter:draft")?;
    let missing = || Problem::not_found(format!("There is no case {number}."));
    let at: i64 = number.parse().map_err(|_| missing())?;
    let (ended, _) =
        app.node.write(async |write, now| Ok(write.end_case(at, &operator.key.id, now).await?)).await?;
    if !ended {
        return Err(missing());
    }
    Ok(axum::http::StatusCode::NO_CONTENT.into_response())
}

/// All cases as a file of a rehearsal that is laid over the register.
#[utoipa::path(get, path = "/api/v1/cases/file", tag = "charter",
    responses(
        (status = 200, description = "TOML", body = String, content_type = "application/toml"),
        Refused,
    ), security(("key" = [])))]
pub async fn file(State(app): State<App>, operator: Operator) -> Result<Response, Problem> {
    operator.needs("charter:read")?;
    let cases: Vec<Value> = app.node.store().cases().await?.into_iter().map(|case| case.body).collect();
    let over = Map::from_iter([("stand-alone".to_owned(), false.into())]);
    let text = write(&over, &Map::new(), &cases);
    Ok(([(CONTENT_TYPE, "application/toml")], text).into_response())
}
