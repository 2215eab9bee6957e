//! What applications asked lately.

use crate::App;
use crate::asked::Short;
use crate::node::gate::Operator;
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::State;
use ostrog_core::names::nearest;
use ostrog_wire::questions::{AskedLately, Decided, LastAsked, LastQuestion, UnknownAsked, UnmappedAsked};

fn last_question(short: Short) -> LastQuestion {
    LastQuestion {
        subject: short.subject,
        permission: short.permission,
        resource: short.resource,
        allowed: short.allowed,
        reason: short.reason,
        at: short.at.to_string(),
    }
}

/// What applications asked lately.
#[utoipa::path(get, path = "/api/v1/asked", tag = "questions",
    responses(
        (status = 200, description = "Last questions, and unknown ones", body = AskedLately),
        Refused,
    ), security(("key" = [])))]
pub async fn asked(State(app): State<App>, operator: Operator) -> Result<Json<AskedLately>, Problem> {
    operator.journal()?;
    let texts = operator.texts()?;
    let (_, policy) = texts.live().ok_or_else(|| Problem::unavailable("No charter is live."))?;
    let model = policy.model();
    let applications = model.applications.iter().map(|known| LastAsked {
        application: known.key.clone(),
        name: known.name.clone(),
        last: app.asked.last(&known.key).map(last_question),
        minutes: app
            .asked
            .minutes(&known.key, jiff::Timestamp::now())
            .into_iter()
            .map(|(allowed, denied)| Decided { allowed, denied })
            .collect(),
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
    let unmapped = app.asked.all_unmapped().into_iter().map(|(what, times)| UnmappedAsked {
        application: what.application,
        method: what.method,
        pattern: what.pattern,
        count: times.count,
        last: times.last.to_string(),
    });
    let mut unmapped: Vec<_> = unmapped.collect();
    unmapped.sort_by(|a, b| (b.count, &a.pattern).cmp(&(a.count, &b.pattern)));
    Ok(Json(AskedLately { applications: applications.collect(), unknown, unmapped }))
}
