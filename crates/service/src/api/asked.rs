//! What applications asked lately.

use super::register::live;
use crate::App;
use crate::asked::Short;
use crate::caller::Operator;
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::State;
use ostrog_core::names::nearest;
use serde::Serialize;
use utoipa::ToSchema;

/// What applications asked lately, of this node, since its start.
#[derive(Debug, Serialize, ToSchema)]
pub struct AskedLately {
    /// Each application and its last question.
    applications: Vec<LastAsked>,
    /// Questions about what the charter does not declare, oftenest first.
    unknown: Vec<UnknownAsked>,
}

/// An application and its last question.
#[derive(Debug, Serialize, ToSchema)]
pub struct LastAsked {
    /// Its key.
    application: String,
    /// Its name.
    name: String,
    /// The question; none: it asked nothing yet.
    last: Option<LastQuestion>,
}

/// A question in short.
#[derive(Debug, Serialize, ToSchema)]
pub struct LastQuestion {
    /// Who.
    subject: String,
    /// `type:action`.
    permission: String,
    /// With what.
    resource: Option<String>,
    /// The decision.
    allowed: bool,
    /// Why.
    reason: String,
    /// When.
    at: String,
}

impl From<Short> for LastQuestion {
    fn from(short: Short) -> Self {
        LastQuestion {
            subject: short.subject,
            permission: short.permission,
            resource: short.resource,
            allowed: short.allowed,
            reason: short.reason,
            at: short.at.to_string(),
        }
    }
}

/// A permission that the charter does not declare.
#[derive(Debug, Serialize, ToSchema)]
pub struct UnknownAsked {
    /// The application that asked, or `operator`.
    application: String,
    /// As it asked.
    permission: String,
    /// The nearest that there is.
    nearest: Option<String>,
    /// How often.
    count: u64,
    /// When last.
    last: String,
}

/// What applications asked lately.
#[utoipa::path(get, path = "/api/v1/asked", tag = "questions",
    responses(
        (status = 200, description = "Last questions, and unknown ones", body = AskedLately),
        Refused,
    ), security(("key" = [])))]
pub async fn asked(State(app): State<App>, operator: Operator) -> Result<Json<AskedLately>, Problem> {
    operator.needs("log:read")?;
    let state = app.node.state();
    let model = live(&state)?.world.policy().model();
    let applications = model.applications.iter().map(|known| LastAsked {
        application: known.key.clone(),
        name: known.name.clone(),
        last: app.asked.last(&known.key).map(LastQuestion::from),
    });
    let all = || model.permissions.iter().map(|permission| permission.text.as_str());
    let unknown = app.asked.all_unknown().into_iter().map(|(application, permission, times)| UnknownAsked {
        nearest: nearest(&permission, all()).map(str::to_owned),
        application,
        permission,
        count: times.count,
        last: times.last.to_string(),
    });
    let mut unknown: Vec<_> = unknown.collect();
    unknown.sort_by(|a, b| (b.count, &a.permission).cmp(&(a.count, &b.permission)));
    Ok(Json(AskedLately { applications: applications.collect(), unknown }))
}
