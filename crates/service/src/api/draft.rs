//! Drafts: kept, read, discarded, and who has one open.

use super::charter::files_shown;
use super::standing;
use crate::App;
use crate::body::{InPath, LARGE, StrictJson};
use crate::node::gate::{Operator, Saving};
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::State;
use ostrog_core::source::{MAX_CHARTER_BYTES, MAX_FILES, SourceFile, Sources, wrong_path};
use ostrog_store::draft::{Draft, DraftInfo, Onto};
use ostrog_store::presence::Present;
use ostrog_wire::charter::{DraftShown, DraftText, File, PresenceShown, Saved};
use std::collections::HashSet;

fn draft_shown(info: &DraftInfo) -> DraftShown {
    DraftShown {
        id: format!("D-{}", info.number),
        title: info.title.clone(),
        base: info.base,
        authors: info.authors.clone(),
        digest: info.digest.to_string(),
        created_at: info.created_at.to_string(),
        saved_at: info.saved_at.to_string(),
        discarded_at: info.discarded_at.map(|at| at.to_string()),
    }
}

/// A draft with its text, and what is to be said of it.
async fn draft_text(app: &App, operator: &Operator, draft: Draft) -> Result<Json<DraftText>, Problem> {
    let standing = standing::of(app, operator, draft.sources.clone(), draft.info.base).await?;
    let files = files_shown(&draft.sources);
    Ok(Json(DraftText { draft: draft_shown(&draft.info), files, standing }))
}

/// Files as they come, if they can be a charter's.
///
/// # Errors
/// If they cannot.
pub fn sources(files: Vec<File>) -> Result<Sources, Problem> {
    let total: usize = files.iter().map(|file| file.text.len()).sum();
    if files.len() > MAX_FILES || total > MAX_CHARTER_BYTES {
        return Err(Problem::invalid(format!(
            "A charter has at most {MAX_FILES} files of {MAX_CHARTER_BYTES} bytes in all."
        )));
    }
    let mut seen = HashSet::new();
    for File { path, .. } in &files {
        if let Some(wrong) = wrong_path(path) {
            return Err(Problem::invalid(format!("{path:?}: {wrong}.")));
        }
        if !seen.insert(path.as_str()) {
            return Err(Problem::invalid(format!("{path:?} stands twice.")));
        }
    }
    Ok(Sources::new(files.into_iter().map(|file| SourceFile { path: file.path, text: file.text }).collect()))
}

/// All drafts that have not ended, newest first.
#[utoipa::path(get, path = "/api/v1/drafts", tag = "charter",
    responses(
        (status = 200, description = "Drafts", body = Vec<DraftShown>),
        Refused,
    ), security(("key" = [])))]
pub async fn drafts(operator: Operator) -> Result<Json<Vec<DraftShown>>, Problem> {
    Ok(Json(operator.texts()?.drafts().await?.iter().map(draft_shown).collect()))
}

/// Drafts that were discarded in the last thirty days, the last one first.
#[utoipa::path(get, path = "/api/v1/discarded-drafts", tag = "charter",
    responses(
        (status = 200, description = "Drafts", body = Vec<DraftShown>),
        Refused,
    ), security(("key" = [])))]
pub async fn discarded_drafts(operator: Operator) -> Result<Json<Vec<DraftShown>>, Problem> {
    Ok(Json(operator.texts()?.discarded_drafts().await?.iter().map(draft_shown).collect()))
}

/// Takes a discarded draft back, as it was.
#[utoipa::path(post, path = "/api/v1/discarded-drafts/{id}/restoration", tag = "charter",
    params(("id" = String, Path, description = "D-1")),
    responses(
        (status = 200, description = "It is under way again", body = DraftText),
        Refused,
    ), security(("key" = [])))]
pub async fn restore_draft(
    State(app): State<App>,
    operator: Operator,
    InPath(id): InPath<String>,
) -> Result<Json<DraftText>, Problem> {
    operator.drafting()?.restore(&id).await?;
    let draft = operator.texts()?.draft(&id).await?;
    draft_text(&app, &operator, draft).await
}

/// Saves a draft. One with errors is kept too, and says so.
#[utoipa::path(post, path = "/api/v1/drafts", tag = "charter", request_body = Saved,
    responses(
        (status = 200, description = "It is kept", body = DraftText),
        Refused,
    ), security(("key" = [])))]
pub async fn save_draft(
    State(app): State<App>,
    operator: Operator,
    StrictJson(saved, _held): StrictJson<Saved, LARGE>,
) -> Result<Json<DraftText>, Problem> {
    let drafting = operator.drafting()?;
    if saved.title.trim().is_empty() || saved.title.len() > 200 {
        return Err(Problem::malformed("A draft has a title, of at most 200 bytes."));
    }
    let before = match &saved.draft {
        Some(id) => Some(operator.texts()?.draft(id).await?.info.number),
        None => None,
    };
    let saving = Saving {
        draft: before,
        onto: if saved.onto_live { Onto::Live } else { Onto::Base },
        from: saved.from,
        title: saved.title,
        sources: sources(saved.files)?,
    };
    let number = drafting.save(saving).await?;
    let draft = operator.texts()?.draft(&number.to_string()).await?;
    draft_text(&app, &operator, draft).await
}

/// One draft, and how it stands beside what is live.
#[utoipa::path(get, path = "/api/v1/drafts/{id}", tag = "charter",
    params(("id" = String, Path, description = "D-1")),
    responses(
        (status = 200, description = "Its text, its checks, and its changes in words", body = DraftText),
        Refused,
    ), security(("key" = [])))]
pub async fn draft(
    State(app): State<App>,
    operator: Operator,
    InPath(id): InPath<String>,
) -> Result<Json<DraftText>, Problem> {
    let draft = operator.texts()?.draft(&id).await?;
    draft_text(&app, &operator, draft).await
}

/// Tells that a draft is open here, and asks who else has it open. Said anew every quarter of a
/// minute; whoever says nothing for forty seconds is taken to have left.
#[utoipa::path(put, path = "/api/v1/drafts/{id}/presence", tag = "charter",
    params(("id" = String, Path, description = "D-1")),
    responses(
        (status = 200, description = "Who else has it open", body = PresenceShown),
        Refused,
    ), security(("key" = [])))]
pub async fn be_present(
    operator: Operator,
    InPath(id): InPath<String>,
) -> Result<Json<PresenceShown>, Problem> {
    let drafting = operator.drafting()?;
    let draft = operator.texts()?.draft(&id).await?;
    let others = drafting.be_present(&draft).await?;
    let called = |one: Present| if one.name.is_empty() { one.key } else { one.name };
    Ok(Json(PresenceShown {
        others: others.into_iter().map(called).collect(),
        digest: draft.info.digest.to_string(),
    }))
}

/// Discards a draft.
#[utoipa::path(delete, path = "/api/v1/drafts/{id}", tag = "charter",
    params(("id" = String, Path, description = "D-1")),
    responses(
        (status = 200, description = "It has ended", body = DraftShown),
        Refused,
    ), security(("key" = [])))]
pub async fn discard_draft(
    operator: Operator,
    InPath(id): InPath<String>,
) -> Result<Json<DraftShown>, Problem> {
    let drafting = operator.drafting()?;
    let draft = operator.texts()?.draft(&id).await?;
    drafting.discard(&draft).await?;
    Ok(Json(draft_shown(&draft.info)))
}
