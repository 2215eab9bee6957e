//! What is live, and every text that was.

use crate::App;
use crate::caller::Operator;
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::{Path, State};
use ostrog_core::source::SourceFile;
use ostrog_store::revision::RevisionInfo;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How things stand.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Status {
    /// The program's version.
    version: &'static str,
    /// Since when this node runs.
    started: String,
    /// Changes when the database was restored.
    epoch: String,
    /// The position of the register.
    position: i64,
    /// What is live.
    revision: Option<RevisionShown>,
    /// The charter's name.
    charter: Option<String>,
    /// How many entities are registered.
    entities: usize,
    /// How many grants there are.
    grants: usize,
    /// Whether the database answers.
    database: bool,
    /// For how many seconds this node has not been known to be in step with it.
    stale: u64,
    /// What the register takes in memory, in bytes.
    memory: usize,
}

/// A revision.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub struct RevisionShown {
    /// 1, 2, 3 …
    number: i64,
    /// SHA-256 of its files, in hexadecimal.
    digest: String,
    /// What its author said of it.
    title: String,
    /// Who made it.
    author: String,
    /// When.
    created_at: String,
}

impl From<&RevisionInfo> for RevisionShown {
    fn from(info: &RevisionInfo) -> Self {
        RevisionShown {
            number: info.number,
            digest: info.digest.to_string(),
            title: info.title.clone(),
            author: info.author.clone(),
            created_at: info.created_at.to_string(),
        }
    }
}

/// How things stand.
#[utoipa::path(get, path = "/api/v1/status", tag = "charter",
    responses(
        (status = 200, description = "Revision, position, counts", body = Status),
        Refused,
    ), security(("key" = [])))]
pub async fn status(State(app): State<App>, _operator: Operator) -> Json<Status> {
    let database = app.node.store().ping().await.is_ok();
    let state = app.node.state();
    let live = state.live.as_ref();
    Json(Status {
        version: env!("CARGO_PKG_VERSION"),
        started: app.node.started().to_string(),
        epoch: state.epoch.clone(),
        position: state.position,
        revision: live.map(|live| RevisionShown::from(&live.revision)),
        charter: live.map(|live| live.world.policy().model().name.clone()),
        entities: live.map_or(0, |live| live.world.register().entity_count()),
        grants: live.map_or(0, |live| live.world.register().grant_count()),
        database,
        stale: app.node.age().as_secs(),
        memory: live.map_or(0, |live| live.world.register().size_bytes()),
    })
}

/// All revisions, newest first.
#[utoipa::path(get, path = "/api/v1/revisions", tag = "charter",
    responses(
        (status = 200, description = "At most 1000", body = Vec<RevisionShown>),
        Refused,
    ), security(("key" = [])))]
pub async fn revisions(
    State(app): State<App>,
    operator: Operator,
) -> Result<Json<Vec<RevisionShown>>, Problem> {
    operator.needs("charter:read")?;
    let all = app.node.store().revisions(1_000).await?;
    Ok(Json(all.iter().map(RevisionShown::from).collect()))
}

/// One file of a charter.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct File {
    /// Its path, with `/` between folders.
    pub path: String,
    /// Its text.
    pub text: String,
}

impl From<&SourceFile> for File {
    fn from(file: &SourceFile) -> Self {
        File { path: file.path.clone(), text: file.text.clone() }
    }
}

/// A revision with its text.
#[derive(Debug, Serialize, ToSchema)]
pub struct RevisionText {
    /// What it is.
    revision: RevisionShown,
    /// Its files, by path.
    files: Vec<File>,
}

/// One revision with its text.
#[utoipa::path(get, path = "/api/v1/revisions/{number}", tag = "charter",
    params(("number" = String, Path, description = "A number, or live")),
    responses(
        (status = 200, description = "The revision", body = RevisionText),
        Refused,
    ), security(("key" = [])))]
pub async fn revision(
    State(app): State<App>,
    operator: Operator,
    Path(number): Path<String>,
) -> Result<Json<RevisionText>, Problem> {
    operator.needs("charter:read")?;
    let missing = || Problem::not_found(format!("There is no revision {number}."));
    let live = app.node.state().live.as_ref().map(|live| live.revision.number);
    let wanted = if number == "live" { live } else { number.parse().ok() };
    let found = app.node.store().revision(wanted.ok_or_else(missing)?).await?.ok_or_else(missing)?;
    let files = found.sources.files().iter().map(File::from).collect();
    Ok(Json(RevisionText { revision: RevisionShown::from(&found.info), files }))
}
