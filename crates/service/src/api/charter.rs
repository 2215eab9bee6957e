//! What is live, and every text that was.

use crate::body::InPath;
use crate::node::gate::Operator;
use crate::problem::{Problem, Refused};
use axum::Json;
use ostrog_core::source::{SourceFile, Sources};
use ostrog_store::revision::RevisionInfo;
use ostrog_wire::charter::{File, RevisionShown, RevisionText};

/// A revision as it is told.
pub fn revision_shown(info: &RevisionInfo) -> RevisionShown {
    RevisionShown {
        number: info.number,
        digest: info.digest.to_string(),
        title: info.title.clone(),
        author: info.author.clone(),
        created_at: info.created_at.to_string(),
        approved: info.standing.approved,
        urgent: info.standing.urgent,
        barred: info.standing.barred.as_ref().map(|(_, why)| why.clone()),
    }
}

/// The files of a text as they are told.
pub fn files_shown(sources: &Sources) -> Vec<File> {
    let file = |file: &SourceFile| File { path: file.path.clone(), text: file.text.clone() };
    sources.files().iter().map(file).collect()
}

/// All revisions, newest first.
#[utoipa::path(get, path = "/api/v1/revisions", tag = "charter",
    responses(
        (status = 200, description = "At most 1000", body = Vec<RevisionShown>),
        Refused,
    ), security(("key" = [])))]
pub async fn revisions(operator: Operator) -> Result<Json<Vec<RevisionShown>>, Problem> {
    let all = operator.texts()?.revisions().await?;
    Ok(Json(all.iter().map(revision_shown).collect()))
}

/// One revision with its text.
#[utoipa::path(get, path = "/api/v1/revisions/{number}", tag = "charter",
    params(("number" = String, Path, description = "A number, or live")),
    responses(
        (status = 200, description = "The revision", body = RevisionText),
        Refused,
    ), security(("key" = [])))]
pub async fn revision(
    operator: Operator,
    InPath(number): InPath<String>,
) -> Result<Json<RevisionText>, Problem> {
    let texts = operator.texts()?;
    let live = texts.live().map(|(info, _)| info.number);
    let wanted = if number == "live" { live } else { number.parse().ok() };
    let wanted = wanted.ok_or_else(|| Problem::not_found(format!("There is no revision {number}.")))?;
    let found = texts.revision(wanted).await?;
    Ok(Json(RevisionText { revision: revision_shown(&found.info), files: files_shown(&found.sources) }))
}
