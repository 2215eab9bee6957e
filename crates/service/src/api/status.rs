//! How things stand.

use super::charter::revision_shown;
use crate::node::gate::Operator;
use crate::problem::{Problem, Refused};
use axum::Json;
use ostrog_wire::charter::Status;

/// How things stand.
#[utoipa::path(get, path = "/api/v1/status", tag = "charter",
    responses(
        (status = 200, description = "Revision, position, counts", body = Status),
        Refused,
    ), security(("key" = [])))]
pub async fn status(operator: Operator) -> Result<Json<Status>, Problem> {
    let standing = operator.standing().await;
    let revision = standing.revision();
    let counts = standing.counts();
    Ok(Json(Status {
        version: env!("CARGO_PKG_VERSION").into(),
        started: standing.started.to_string(),
        epoch: operator.epoch().to_owned(),
        position: operator.position_number(),
        digest: operator.digest(),
        live: standing.placed(),
        revision: revision.map(|(info, _)| revision_shown(info)),
        charter: revision.map(|(_, name)| name.to_owned()),
        entities: counts.map(|(entities, _, _)| entities),
        grants: counts.map(|(_, grants, _)| grants),
        database: standing.database,
        stale: standing.stale,
        memory: counts.map(|(_, _, bytes)| bytes),
    }))
}
