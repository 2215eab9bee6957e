//! Drafts, and what goes live.

use super::charter::{File, RevisionShown};
use super::text::{Range, Units};
use crate::App;
use crate::body::{LARGE, StrictJson};
use crate::caller::Operator;
use crate::node::{By, Rollout};
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::{Path, State};
use ostrog_core::charter;
use ostrog_core::charter::compare::{Direction, compare};
use ostrog_core::names::suggested;
use ostrog_core::register::against;
use ostrog_core::source::{Finding, MAX_CHARTER_BYTES, MAX_FILES, Severity, SourceFile, Sources, wrong_path};
use ostrog_store::draft::{Draft, DraftInfo, Onto};
use ostrog_store::presence::Present;
use serde::{Deserialize, Serialize};
use std::collections::HashSet;
use utoipa::ToSchema;

/// Most facts that are told of those a draft does not permit.
const MAX_UNFIT: usize = 100;

/// A draft.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub struct DraftShown {
    /// `D-1`, `D-2` …
    id: String,
    /// What it is about.
    title: String,
    /// The revision it began from.
    base: Option<i64>,
    /// Everybody who saved it, by the ids of their keys.
    authors: Vec<String>,
    /// SHA-256 of its files, in hexadecimal.
    digest: String,
    /// When it was begun.
    created_at: String,
    /// When it was last saved.
    saved_at: String,
}

impl From<&DraftInfo> for DraftShown {
    fn from(info: &DraftInfo) -> Self {
        DraftShown {
            id: format!("D-{}", info.number),
            title: info.title.clone(),
            base: info.base,
            authors: info.authors.clone(),
            digest: info.digest.to_string(),
            created_at: info.created_at.to_string(),
            saved_at: info.saved_at.to_string(),
        }
    }
}

/// A draft with its text, and what is to be said of it.
#[derive(Debug, Serialize, ToSchema)]
pub struct DraftText {
    /// What it is.
    draft: DraftShown,
    /// Its files, by path.
    files: Vec<File>,
    /// What is to be said of it.
    standing: Standing,
}

/// How a draft stands beside what is live.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Standing {
    /// Errors and warnings of its text.
    findings: Vec<FindingShown>,
    /// Whether it began from what is live now.
    fits: bool,
    /// What it changes, in words; nothing if it has errors or nothing is live.
    changes: Vec<ChangeOfText>,
    /// Facts of the register that it does not permit, the first hundred.
    unfit: Vec<String>,
}

/// An error or a warning.
#[derive(Debug, Serialize, ToSchema)]
pub struct FindingShown {
    /// `file:line:column`.
    at: String,
    /// `error` or `warning`.
    severity: &'static str,
    /// The stable name of the kind of finding.
    code: &'static str,
    /// What is wrong.
    message: String,
    /// What to do.
    help: Option<String>,
    /// What could stand there instead, if one thing is likely meant.
    fix: Option<String>,
    #[serde(flatten)]
    range: Range,
}

/// The text of a place with the name that was likely meant.
fn fix(text: &str, message: &str) -> Option<String> {
    let (wrong, meant) = suggested(message)?;
    (text.matches(wrong).count() == 1).then(|| text.replacen(wrong, meant, 1))
}

/// One difference in meaning.
#[derive(Debug, Serialize, ToSchema)]
pub struct ChangeOfText {
    /// What it is about: `role`, `rule`, `type` …
    about: &'static str,
    /// Its key.
    key: String,
    /// What is different, in words.
    words: String,
    /// Whether more may be done than before (`wider`), less (`narrower`), or neither surely (`other`).
    effect: &'static str,
}

/// A draft of an id `D-1` that has not ended.
pub async fn find(app: &App, id: &str) -> Result<Draft, Problem> {
    let missing = || Problem::not_found(format!("There is no draft {id}, or it has ended."));
    let number = id.strip_prefix("D-").unwrap_or(id).parse().map_err(|_| missing())?;
    app.node.store().draft(number).await?.ok_or_else(missing)
}

/// How a text that began from a revision stands beside what is live.
pub fn standing(app: &App, sources: &Sources, base: Option<i64>) -> Standing {
    let reading = charter::read(sources);
    let units = Units::new(sources);
    let finding = |finding: &Finding| FindingShown {
        at: sources.place(finding.span).to_string(),
        range: units.range(finding.span),
        severity: if finding.severity == Severity::Error { "error" } else { "warning" },
        code: finding.code,
        message: finding.message.clone(),
        help: finding.help.clone(),
        fix: fix(sources.text(finding.span), &finding.message),
    };
    let findings = reading.findings.iter().map(finding).collect();
    let state = app.node.state();
    let live = state.live.as_ref();
    let fits = base == live.map(|live| live.revision.number);
    let (Some(policy), Some(live)) = (reading.policy, live) else {
        return Standing { findings, fits, changes: Vec::new(), unfit: Vec::new() };
    };
    let changes = compare(live.world.policy(), &policy).into_iter().map(|difference| ChangeOfText {
        about: difference.about,
        key: difference.key,
        words: difference.words,
        effect: match difference.effect {
            Direction::Wider => "wider",
            Direction::Narrower => "narrower",
            Direction::Other => "other",
        },
    });
    let unfit = against::unfit(&policy, live.world.register(), MAX_UNFIT);
    Standing { findings, fits, changes: changes.collect(), unfit }
}

/// All drafts that have not ended, newest first.
#[utoipa::path(get, path = "/api/v1/drafts", tag = "charter",
    responses(
        (status = 200, description = "Drafts", body = Vec<DraftShown>),
        Refused,
    ), security(("key" = [])))]
pub async fn drafts(State(app): State<App>, operator: Operator) -> Result<Json<Vec<DraftShown>>, Problem> {
    operator.needs("charter:read")?;
    Ok(Json(app.node.store().drafts().await?.iter().map(DraftShown::from).collect()))
}

/// A text to save.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Saved {
    /// What it is about.
    title: String,
    /// Its files.
    files: Vec<File>,
    /// The draft that this is the new text of; none: a new draft, from what is live now.
    #[serde(default)]
    draft: Option<String>,
    /// The digest of the text that this one was made from: refused if somebody saved another since.
    #[serde(default)]
    from: Option<String>,
    /// The text holds what is live now, with the draft's changes: it begins from there.
    #[serde(default)]
    onto_live: bool,
}

/// Saves a draft. One with errors is kept too, and says so.
#[utoipa::path(post, path = "/api/v1/drafts", tag = "charter", request_body = Saved,
    responses(
        (status = 200, description = "It is kept", body = DraftText),
        Refused,
    ), security(("key" = [])))]
pub async fn save(
    State(app): State<App>,
    operator: Operator,
    StrictJson(saved): StrictJson<Saved, LARGE>,
) -> Result<Json<DraftText>, Problem> {
    operator.needs("charter:draft")?;
    if saved.title.trim().is_empty() || saved.title.len() > 200 {
        return Err(Problem::malformed("A draft has a title, of at most 200 bytes."));
    }
    let before = match &saved.draft {
        Some(id) => Some(find(&app, id).await?),
        None => None,
    };
    if let (Some(from), Some(before)) = (&saved.from, &before)
        && *from != before.info.digest.to_string()
    {
        return Err(Problem::changed(format!("{} was saved anew since; read it again.", before.info.title)));
    }
    let sources = sources(saved.files)?;
    let onto = if saved.onto_live { Onto::Live } else { Onto::Base };
    let number = before.as_ref().map(|draft| (draft.info.number, onto));
    let (number, _) = app
        .node
        .write(async |write, now| {
            Ok(write.save_draft(number, &sources, &saved.title, &operator.key.id, now).await?)
        })
        .await?;
    let number = number.ok_or_else(|| Problem::conflict("The draft has ended meanwhile."))?;
    show_text(&app, find(&app, &number.to_string()).await?)
}

/// Files as they come, if they can be a charter's.
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

fn show_text(app: &App, draft: Draft) -> Result<Json<DraftText>, Problem> {
    let files = draft.sources.files().iter().map(File::from).collect();
    let standing = tokio::task::block_in_place(|| standing(app, &draft.sources, draft.info.base));
    Ok(Json(DraftText { draft: DraftShown::from(&draft.info), files, standing }))
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
    Path(id): Path<String>,
) -> Result<Json<DraftText>, Problem> {
    operator.needs("charter:read")?;
    show_text(&app, find(&app, &id).await?)
}

/// Who has a draft open, and whether its text is still the one that was read.
#[derive(Debug, Serialize, ToSchema)]
pub struct PresenceShown {
    /// Who else has it open just now, by the names of their keys.
    others: Vec<String>,
    /// SHA-256 of its files as they are saved now.
    digest: String,
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
    State(app): State<App>,
    operator: Operator,
    Path(id): Path<String>,
) -> Result<Json<PresenceShown>, Problem> {
    operator.needs("charter:draft")?;
    let draft = find(&app, &id).await?;
    let others = app.node.store().be_present(draft.info.number, &operator.key.id).await?;
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
pub async fn discard(
    State(app): State<App>,
    operator: Operator,
    Path(id): Path<String>,
) -> Result<Json<DraftShown>, Problem> {
    operator.needs("charter:draft")?;
    let draft = find(&app, &id).await?;
    let number = draft.info.number;
    let (ended, _) = app
        .node
        .write(async |write, now| Ok(write.end_draft(number, None, &operator.key.id, now).await?))
        .await?;
    if !ended {
        return Err(Problem::conflict("The draft has ended meanwhile."));
    }
    Ok(Json(DraftShown::from(&draft.info)))
}

/// What is to go live.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct RolloutAsked {
    /// A draft, `D-1`; a revision, `3`; or `back`, the revision that was live before.
    what: String,
    /// For which applications: `all`, as yet.
    r#for: String,
    /// Why; kept with the change.
    #[serde(default)]
    note: Option<String>,
    /// Go live even if facts of the register do not fit: they will give nothing.
    #[serde(default)]
    accept_unfit: bool,
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
    StrictJson(asked): StrictJson<RolloutAsked>,
) -> Result<Json<RevisionShown>, Problem> {
    operator.needs("charter:release")?;
    if asked.r#for != "all" {
        return Err(Problem::malformed("A rollout is for all applications: say \"for\": \"all\"."));
    }
    let what = match asked.what.as_str() {
        "back" => Rollout::Back(None),
        what if what.starts_with("D-") => {
            let draft = find(&app, what).await?;
            let unfit = tokio::task::block_in_place(|| standing(&app, &draft.sources, draft.info.base)).unfit;
            if let (Some(first), false) = (unfit.first(), asked.accept_unfit) {
                return Err(Problem::conflict(format!(
                    "The register would not be valid under {what}: {first}{}. Mend the facts or the draft, or accept that they give nothing (accept-unfit).",
                    if unfit.len() > 1 { format!(", and {} more", unfit.len() - 1) } else { String::new() }
                )));
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
    let (info, _) = app.node.roll_out(what, By::operator(operator, asked.note)).await?;
    Ok(Json(RevisionShown::from(&info)))
}
