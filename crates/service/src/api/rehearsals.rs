//! Rehearsals: their files, and runs of them in the background.

use super::run::{Beside, Run, kept, sources, told};
use crate::App;
use crate::body::{InPath, StrictJson};
use crate::jobs::{Begun, Job, Place};
use crate::lanes::Ticket;
use crate::node::gate::Operator;
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use axum::http::header::{CONTENT_SECURITY_POLICY, CONTENT_TYPE};
use axum::response::{IntoResponse as _, Response};
use jiff::Timestamp;
use ostrog_core::prelude::InForce;
use ostrog_core::rehearse::read;
use ostrog_core::source::{Finding, wrong_rehearsal_path};
use ostrog_store::rehearsal::{Of, Ran, Text};
use ostrog_wire::rehearsals::{RehearsalAsked, RehearsalFile, RehearsalSaved, RehearsalText, RunShown};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::sync::Arc;

/// Most files of a rehearsal, and bytes of all of them.
const MAX_FILES: usize = 100;
const MAX_BYTES: usize = 2 << 20;

fn run_shown(job: Option<&Arc<Job>>, ran: Ran) -> RunShown {
    let state = match (ran.ended_at, ran.holds, job) {
        (None, _, Some(_)) => "running",
        (Some(_), Some(true), _) => "held",
        (Some(_), _, _) => "failed",
        // Its node went away, or it runs on another one.
        (None, _, None) => "broken-off",
    };
    let stage = job.map(|job| job.stage());
    let words = ran.words.unwrap_or_else(|| match &stage {
        Some(stage) => stage.what.to_owned(),
        None => "it did not come to an end on this node".to_owned(),
    });
    let progress = stage.filter(|stage| stage.of > 0).map(|stage| (stage.done, stage.of));
    RunShown {
        number: ran.number,
        of: ran.of,
        author: ran.author,
        started_at: ran.started_at.to_string(),
        ended_at: ran.ended_at.map(|at| at.to_string()),
        state: state.into(),
        words,
        progress,
    }
}

fn files(saved: Option<&Text>) -> Vec<RehearsalFile> {
    saved.and_then(|saved| serde_json::from_value(saved.files.clone()).ok()).unwrap_or_default()
}

/// The rehearsal's files as they are told.
async fn rehearsal_text(app: &App, operator: &Operator) -> Result<Json<RehearsalText>, Problem> {
    let saved = operator.texts()?.rehearsal().await?;
    let files = files(saved.as_ref());
    let findings = {
        let (files, scope) = (files.clone(), operator.clone());
        let work = move |_: &Ticket| findings(&scope, &files);
        app.node.lanes.questions.run(operator.key_id(), super::PATIENCE, work).await?
    };
    Ok(Json(RehearsalText {
        number: saved.as_ref().map_or(0, |saved| saved.number),
        files,
        findings,
        author: saved.as_ref().map(|saved| saved.author.clone()),
        saved_at: saved.as_ref().map(|saved| saved.created_at.to_string()),
    }))
}

/// What is wrong with files, under what is live.
fn findings(operator: &Operator, files: &[RehearsalFile]) -> Result<Vec<String>, Problem> {
    let sources = sources(files);
    let mut found: Vec<Finding> = Vec::new();
    let rehearsal = read(&sources, &mut found);
    let nothing = || Problem::unavailable("No charter is live.");
    let (_, policy) = operator.texts()?.live().ok_or_else(nothing)?;
    found.extend(rehearsal.checked(policy, &sources).err().unwrap_or_default());
    Ok(told(&sources, &found))
}

/// The rehearsal's files, with what is wrong with them.
#[utoipa::path(get, path = "/api/v1/rehearsal", tag = "rehearsal",
    responses((status = 200, description = "Its files", body = RehearsalText), Refused),
    security(("key" = [])))]
pub async fn rehearsal(State(app): State<App>, operator: Operator) -> Result<Json<RehearsalText>, Problem> {
    rehearsal_text(&app, &operator).await
}

/// Saves the rehearsal's files; refused if somebody saved others since.
#[utoipa::path(put, path = "/api/v1/rehearsal", tag = "rehearsal", request_body = RehearsalSaved,
    responses((status = 200, description = "They are saved", body = RehearsalText), Refused),
    security(("key" = [])))]
pub async fn save_rehearsal(
    State(app): State<App>,
    operator: Operator,
    StrictJson(saved, _held): StrictJson<RehearsalSaved>,
) -> Result<Json<RehearsalText>, Problem> {
    let drafting = operator.drafting()?;
    let bytes: usize = saved.files.iter().map(|file| file.text.len()).sum();
    if saved.files.len() > MAX_FILES || bytes > MAX_BYTES {
        return Err(Problem::invalid(format!(
            "A rehearsal has at most {MAX_FILES} files and {MAX_BYTES} bytes."
        )));
    }
    for file in &saved.files {
        let wrong = wrong_rehearsal_path(&file.path);
        if let Some(wrong) = wrong {
            return Err(Problem::invalid(format!("{:?}: {wrong}.", file.path)));
        }
    }
    drafting.save_rehearsal(json!(saved.files), saved.from).await?;
    rehearsal_text(&app, &operator).await
}

/// The last runs, newest first.
#[utoipa::path(get, path = "/api/v1/rehearsals", tag = "rehearsal",
    responses((status = 200, description = "Runs", body = Vec<RunShown>), Refused),
    security(("key" = [])))]
pub async fn rehearsals(State(app): State<App>, operator: Operator) -> Result<Json<Vec<RunShown>>, Problem> {
    let texts = operator.texts()?;
    let jobs = app.jobs.all();
    let all = texts.runs().await?;
    Ok(Json(all.into_iter().map(|ran| run_shown(jobs.get(&ran.number), ran)).collect()))
}

/// Begins one; it runs in the background.
#[utoipa::path(post, path = "/api/v1/rehearsals", tag = "rehearsal", request_body = RehearsalAsked,
    responses((status = 202, description = "It runs", body = RunShown), Refused),
    security(("key" = [])))]
pub async fn begin_rehearsal(
    State(app): State<App>,
    operator: Operator,
    StrictJson(asked, _held): StrictJson<RehearsalAsked>,
) -> Result<Response, Problem> {
    let drafting = operator.drafting()?;
    // Before anything is copied for it.
    let place = app.jobs.place()?;
    let texts = operator.texts()?;
    let policy = match &asked.draft {
        Some(id) => Some(texts.compiled(texts.draft(id).await?.sources).await?),
        None => None,
    };
    let needs = drafting.rehearsing().await?;
    let of = asked.draft.clone().unwrap_or_else(|| "live".to_owned());
    let own = policy.as_ref().unwrap_or(&needs.policy);
    let number = drafting
        .begin_rehearsal(Of {
            name: of.clone(),
            digest: own.digest(),
            files: needs.files_digest(),
            against: needs.placed.clone(),
        })
        .await?;
    let beside = policy.as_ref().map(|policy| Beside {
        of: live_in_words(&needs.placed),
        charter: needs.policy.digest().to_string(),
        before: needs.live.clone(),
        after: InForce::alone(Arc::clone(policy), &needs.facts),
        people: needs.people.clone(),
    });
    let begun = app.jobs.begin(number, operator.scope().clone());
    let run = Run {
        files: sources(&files(needs.files.as_ref())),
        kept: kept(&needs.cases),
        only: asked.only,
        policy: policy.clone().unwrap_or_else(|| Arc::clone(&needs.policy)),
        against: beside,
        facts: needs.facts,
        of: of.clone(),
        job: Arc::clone(&begun.job),
    };
    let ran = Ran {
        number,
        of,
        author: operator.key_id().to_owned(),
        started_at: Timestamp::now(),
        ended_at: None,
        holds: None,
        words: None,
    };
    let answer = run_shown(Some(&begun.job), ran);
    tokio::spawn(rehearse(operator, place, begun, number, run));
    Ok((StatusCode::ACCEPTED, Json(answer)).into_response())
}

/// `live, revision 42`; where there are several, `live, revision 42 (customs) and 41 (quay)`.
fn live_in_words(placed: &BTreeMap<String, i64>) -> String {
    let mut by: BTreeMap<i64, Vec<&str>> = BTreeMap::new();
    for (application, revision) in placed.iter().rev() {
        by.entry(*revision).or_default().insert(0, application);
    }
    let one = by.len() == 1;
    let words = |(revision, applications): (&i64, &Vec<&str>)| match one {
        true => revision.to_string(),
        false => format!("{revision} ({})", applications.join(", ")),
    };
    format!("live, revision {}", by.iter().rev().map(words).collect::<Vec<_>>().join(" and "))
}

/// Runs one, and keeps what it found.
async fn rehearse(operator: Operator, place: Place, begun: Begun, number: i64, run: Run) {
    let found = begun.run(place, move || run.found()).await;
    let ended = match operator.drafting() {
        Ok(drafting) => drafting.end_rehearsal(number, found).await,
        Err(problem) => Err(problem),
    };
    if let Err(problem) = ended {
        tracing::error!(number, problem = problem.detail(), "what a rehearsal found could not be kept");
    }
}

/// What one found.
#[utoipa::path(get, path = "/api/v1/rehearsals/{number}", tag = "rehearsal",
    params(("number" = String, Path, description = "The run's number")),
    responses((status = 200, description = "Cases, guarantees, shift, coverage", body = Object), Refused),
    security(("key" = [])))]
pub async fn rehearsal_report(
    operator: Operator,
    InPath(number): InPath<String>,
) -> Result<Json<Value>, Problem> {
    Ok(Json(operator.texts()?.found(&number).await?.report))
}

/// The same as one HTML page.
#[utoipa::path(get, path = "/api/v1/rehearsals/{number}/page", tag = "rehearsal",
    params(("number" = String, Path, description = "The run's number")),
    responses((status = 200, description = "A page", body = String, content_type = "text/html"), Refused),
    security(("key" = [])))]
pub async fn rehearsal_page(operator: Operator, InPath(number): InPath<String>) -> Result<Response, Problem> {
    let page = operator.texts()?.found(&number).await?.page;
    // It holds what people wrote: nothing in it may run.
    let policy = "default-src 'none'; style-src 'unsafe-inline'";
    let headers = [(CONTENT_TYPE, "text/html; charset=utf-8"), (CONTENT_SECURITY_POLICY, policy)];
    Ok((headers, page).into_response())
}

/// The same as JUnit XML.
#[utoipa::path(get, path = "/api/v1/rehearsals/{number}/junit", tag = "rehearsal",
    params(("number" = String, Path, description = "The run's number")),
    responses((status = 200, description = "XML", body = String, content_type = "application/xml"), Refused),
    security(("key" = [])))]
pub async fn rehearsal_junit(
    operator: Operator,
    InPath(number): InPath<String>,
) -> Result<Response, Problem> {
    let junit = operator.texts()?.found(&number).await?.junit;
    Ok(([(CONTENT_TYPE, "application/xml")], junit).into_response())
}

/// Stops one where it is; what it has found so far is kept.
#[utoipa::path(delete, path = "/api/v1/rehearsals/{number}", tag = "rehearsal",
    params(("number" = String, Path, description = "The run's number")),
    responses((status = 204, description = "It is asked to stop"), Refused),
    security(("key" = [])))]
pub async fn stop_rehearsal(
    State(app): State<App>,
    operator: Operator,
    InPath(number): InPath<String>,
) -> Result<StatusCode, Problem> {
    operator.drafting()?;
    let missing = || Problem::not_found(format!("No rehearsal {number} runs on this node."));
    let number: i64 = number.parse().map_err(|_| missing())?;
    let job = app.jobs.find(number).ok_or_else(missing)?;
    // One that is told to be over does not run, though its job may still be noted.
    let runs = operator.texts()?.runs().await?;
    if runs.iter().any(|run| run.number == number && run.ended_at.is_some()) {
        return Err(missing());
    }
    job.stop();
    Ok(StatusCode::NO_CONTENT)
}
