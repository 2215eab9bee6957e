//! What is live for whom: rollouts, rollbacks, and what was.

use super::charter::revision_shown;
use crate::body::{InPath, Params, StrictJson};
use crate::node::gate::Operator;
use crate::node::gate::release::for_whom;
use crate::node::release::{Released, Rolling, What};
use crate::problem::{Problem, Refused};
use axum::Json;
use jiff::SignedDuration;
use ostrog_wire::charter::RevisionShown;
use ostrog_wire::release::{
    LiveShown, NodeShown, NoteAsked, ReleasedShown, RollbackAsked, RolloutAsked, StepShown,
};
use serde::Deserialize;
use utoipa::IntoParams;

/// Most steps of what was live that are told at a time.
const MAX_STEPS: i64 = 200;

fn released_shown(released: &Released) -> ReleasedShown {
    ReleasedShown {
        revision: revision_shown(&released.revision),
        live: released.moves.clone(),
        position: released.position.clone(),
        words: released.shift.in_words(),
        shift: released.shift.clone(),
        unfit: released.unfit.clone(),
    }
}

/// What is live for each application, since when, and what it would go back to.
#[utoipa::path(get, path = "/api/v1/live", tag = "rollouts",
    responses((status = 200, description = "By application", body = Vec<LiveShown>), Refused),
    security(("key" = [])))]
pub async fn live(operator: Operator) -> Result<Json<Vec<LiveShown>>, Problem> {
    let texts = operator.texts()?;
    let names = texts.names().await?;
    let all = texts.live_for().await?;
    let shown = all.into_iter().map(|one| LiveShown {
        application: one.step.application,
        revision: one.revision.number,
        title: one.revision.title,
        since: one.step.at.to_string(),
        by: names.get(&one.step.actor).cloned().unwrap_or(one.step.actor),
        urgent: one.revision.standing.urgent && !one.revision.standing.approved,
        back: one.back,
    });
    Ok(Json(shown.collect()))
}

/// Of which application.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct Which {
    /// Of this application; without it, of all.
    application: Option<String>,
}

/// What was live, newest first: at most 200 steps.
#[utoipa::path(get, path = "/api/v1/rollouts", tag = "rollouts", params(Which),
    responses((status = 200, description = "Steps", body = Vec<StepShown>), Refused),
    security(("key" = [])))]
pub async fn rollouts(
    operator: Operator,
    Params(which): Params<Which>,
) -> Result<Json<Vec<StepShown>>, Problem> {
    let texts = operator.texts()?;
    let names = texts.names().await?;
    let all = texts.releases(which.application.as_deref(), MAX_STEPS).await?;
    let shown = all.into_iter().map(|step| StepShown {
        position: step.position,
        application: step.application,
        revision: step.revision,
        before: step.before,
        back: step.back,
        at: step.at.to_string(),
        actor: names.get(&step.actor).cloned().unwrap_or(step.actor),
        note: step.note,
        shift: step.shift,
    });
    Ok(Json(shown.collect()))
}

/// Puts a revision live, for all applications or for some.
///
/// A draft goes live where nobody has to approve it (it becomes a revision), or urgently; one that was approved is the
/// revision that it became. Who gains and who loses is
/// worked out at that moment: gains and losses that no approver accepted are refused. Costs that comparison.
#[utoipa::path(post, path = "/api/v1/rollouts", tag = "rollouts", request_body = RolloutAsked,
    responses((status = 200, description = "It is live", body = ReleasedShown), Refused),
    security(("key" = [])))]
pub async fn roll_out(
    operator: Operator,
    StrictJson(asked, _held): StrictJson<RolloutAsked>,
) -> Result<Json<ReleasedShown>, Problem> {
    let releasing = operator.releasing()?;
    let r#for = for_whom(&asked.r#for)?;
    if asked.urgent && !asked.check {
        releasing.urgently(asked.note.as_deref())?;
    }
    let what =
        match asked.what.as_str() {
            what if what.starts_with("D-") => match operator.texts()?.became(what).await? {
                Some(revision) if !asked.urgent => What::Revision(revision),
                _ => {
                    let draft = operator.texts()?.draft(what).await?.info;
                    let digest = draft.digest.to_string();
                    What::Draft { number: draft.number, digest, urgent: asked.urgent }
                }
            },
            number => What::Revision(number.parse().map_err(|_| {
                Problem::malformed(format!("{number:?} is no draft (D-1) and no revision (1)."))
            })?),
        };
    let rolling =
        Rolling { what, r#for, accept_unfit: asked.accept_unfit, over: asked.over, note: asked.note };
    let released =
        if asked.check { releasing.check(rolling).await? } else { releasing.roll_out(rolling).await? };
    Ok(Json(released_shown(&released)))
}

/// Goes back to what was live before, for all applications or for some. It asks for nothing but a way back: facts that
/// do not fit give nothing, and who gains and loses is told.
#[utoipa::path(post, path = "/api/v1/rollbacks", tag = "rollouts", request_body = RollbackAsked,
    responses((status = 200, description = "It is live", body = ReleasedShown), Refused),
    security(("key" = [])))]
pub async fn roll_back(
    operator: Operator,
    StrictJson(asked, _held): StrictJson<RollbackAsked>,
) -> Result<Json<ReleasedShown>, Problem> {
    let releasing = operator.releasing()?;
    let r#for = for_whom(&asked.r#for)?;
    let released = releasing.roll_back(r#for, asked.to, asked.note).await?;
    Ok(Json(released_shown(&released)))
}

/// Shuts a revision for good: it never goes live again.
#[utoipa::path(post, path = "/api/v1/revisions/{number}/bar", tag = "rollouts", request_body = NoteAsked,
    params(("number" = String, Path, description = "A number")),
    responses((status = 200, description = "It is shut", body = RevisionShown), Refused),
    security(("key" = [])))]
pub async fn bar(
    operator: Operator,
    InPath(number): InPath<String>,
    StrictJson(asked, _held): StrictJson<NoteAsked>,
) -> Result<Json<RevisionShown>, Problem> {
    let reviewing = operator.reviewing()?;
    if asked.note.trim().is_empty() {
        return Err(Problem::malformed("Say why: a note is kept with it."));
    }
    let missing = || Problem::not_found(format!("There is no revision {number}."));
    let at: i64 = number.parse().map_err(|_| missing())?;
    reviewing.bar(at, asked.note).await?;
    Ok(Json(revision_shown(&operator.texts()?.revision(at).await?.info)))
}

/// Which nodes there are, and how far they answer.
#[utoipa::path(get, path = "/api/v1/nodes", tag = "rollouts",
    responses((status = 200, description = "Nodes, oldest first", body = Vec<NodeShown>), Refused),
    security(("key" = [])))]
pub async fn nodes(operator: Operator) -> Result<Json<Vec<NodeShown>>, Problem> {
    let shown = operator.nodes().await?.into_iter().map(|node| {
        let until = node.seen_at.checked_add(SignedDuration::from_secs(node.max_stale));
        NodeShown {
            id: node.id,
            address: node.address,
            started: node.started_at.to_string(),
            position: node.position,
            seen: node.seen_at.to_string(),
            until: until.unwrap_or(node.seen_at).to_string(),
        }
    });
    Ok(Json(shown.collect()))
}
