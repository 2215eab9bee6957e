//! What is live, every text that was, and what goes live.

use super::standing;
use crate::App;
use crate::body::{InPath, StrictJson};
use crate::node::gate::Operator;
use crate::node::write::Rollout;
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::State;
use ostrog_core::source::{SourceFile, Sources};
use ostrog_store::draft::Draft;
use ostrog_store::revision::RevisionInfo;
use ostrog_wire::charter::{File, RevisionShown, RevisionText, RolloutAsked};

/// A revision as it is told.
pub fn revision_shown(info: &RevisionInfo) -> RevisionShown {
    RevisionShown {
        number: info.number,
        digest: info.digest.to_string(),
        title: info.title.clone(),
        author: info.author.clone(),
        created_at: info.created_at.to_string(),
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

/// Puts a draft or an earlier revision live, for all applications.
#[utoipa::path(post, path = "/api/v1/rollouts", tag = "charter", request_body = RolloutAsked,
    responses(
        (status = 200, description = "It is live", body = RevisionShown),
        Refused,
    ), security(("key" = [])))]
pub async fn roll_out(
    State(app): State<App>,
    operator: Operator,
    StrictJson(asked, _held): StrictJson<RolloutAsked>,
) -> Result<Json<RevisionShown>, Problem> {
    let releasing = operator.releasing()?;
    if asked.r#for != "all" {
        return Err(Problem::malformed("A rollout is for all applications: say \"for\": \"all\"."));
    }
    let what = match asked.what.as_str() {
        "back" => Rollout::Back(None),
        what if what.starts_with("D-") => {
            let draft = operator.texts()?.draft(what).await?;
            if !asked.accept_unfit {
                is_fit(&app, &operator, what, &draft).await?;
            }
            Rollout::Draft(draft)
        }
        number => {
            let number = number.parse().map_err(|_| {
                Problem::malformed(format!("{number:?} is no draft (D-1), no revision (1), and not back."))
            })?;
            Rollout::Back(Some(number))
        }
    };
    let info = releasing.roll_out(what, asked.note).await?;
    Ok(Json(revision_shown(&info)))
}

/// Refuses a draft under which facts of the register would give nothing.
async fn is_fit(app: &App, operator: &Operator, id: &str, draft: &Draft) -> Result<(), Problem> {
    let unfit = standing::of(app, operator, draft.sources.clone(), draft.info.base).await?.unfit;
    let Some(first) = unfit.first() else { return Ok(()) };
    let more = if unfit.len() > 1 { format!(", and {} more", unfit.len() - 1) } else { String::new() };
    Err(Problem::conflict(format!(
        "The register would not be valid under {id}: {first}{more}. Mend the facts or the draft, or accept that they give nothing (accept-unfit)."
    )))
}
