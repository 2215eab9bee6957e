//! Rehearsals: their files, and runs of them in the background.

use super::register::live;
use crate::App;
use crate::body::StrictJson;
use crate::caller::Operator;
use crate::jobs::Job;
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::http::header::CONTENT_TYPE;
use axum::response::{IntoResponse as _, Response};
use jiff::Timestamp;
use ostrog_core::prelude::{Policy, Register, SourceFile, Sources, World};
use ostrog_core::rehearse::{Rehearsal, read, write};
use ostrog_core::shift::{Only, shift};
use ostrog_core::source::{Finding, Severity, wrong_path};
use ostrog_report::{Against, Rehearsed, html, junit};
use ostrog_store::rehearsal::{Found, Ran};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use utoipa::ToSchema;

/// Most files of a rehearsal, and bytes of all of them.
const MAX_FILES: usize = 100;
const MAX_BYTES: usize = 2 << 20;

/// A file.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
#[schema(as = RehearsalFile)]
pub struct File {
    /// `cases.toml`, or `cases.csv` for a table.
    path: String,
    /// What stands in it.
    text: String,
}

/// The rehearsal's files.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub struct RehearsalText {
    /// 1, 2, 3 …; 0 where none was saved.
    number: i64,
    /// The files.
    files: Vec<File>,
    /// What is wrong with them, under what is live.
    findings: Vec<String>,
    /// Who saved them.
    #[serde(skip_serializing_if = "Option::is_none")]
    author: Option<String>,
    /// When.
    #[serde(skip_serializing_if = "Option::is_none")]
    saved_at: Option<String>,
}

/// Files to save.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct RehearsalSaved {
    /// The files.
    files: Vec<File>,
    /// The number of those they were made from.
    from: i64,
}

/// What to rehearse.
#[derive(Debug, Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct RehearsalAsked {
    /// A draft; without one, what is live.
    draft: Option<String>,
    /// Only cases and guarantees whose name contains this.
    only: Option<String>,
}

/// A rehearsal that was run, or runs.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub struct RanShown {
    /// 1, 2, 3 …
    number: i64,
    /// Which text.
    of: String,
    /// Who ran it.
    author: String,
    /// When it began.
    started_at: String,
    /// When it ended.
    #[serde(skip_serializing_if = "Option::is_none")]
    ended_at: Option<String>,
    /// `running`, `held`, `failed`, or `broken-off`: it found nothing.
    state: &'static str,
    /// What it came to, or does now.
    words: String,
    /// Guarantees settled so far, of how many.
    #[serde(skip_serializing_if = "Option::is_none")]
    progress: Option<(usize, usize)>,
}

impl RanShown {
    fn of(ran: Ran, app: &App) -> RanShown {
        let job = app.jobs.find(ran.number);
        let state = match (ran.ended_at, ran.holds, &job) {
            (None, _, Some(_)) => "running",
            (Some(_), Some(true), _) => "held",
            (Some(_), _, _) => "failed",
            // Its node went away, or it runs on another one.
            (None, _, None) => "broken-off",
        };
        let progress = job
            .as_ref()
            .map(|job| (job.settled.load(Ordering::Relaxed), job.guarantees.load(Ordering::Relaxed)));
        let words = ran.words.unwrap_or_else(|| match &job {
            Some(job) => job.what().to_owned(),
            None => "it did not come to an end on this node".to_owned(),
        });
        RanShown {
            number: ran.number,
            of: ran.of,
            author: ran.author,
            started_at: ran.started_at.to_string(),
            ended_at: ran.ended_at.map(|at| at.to_string()),
            state,
            words,
            progress,
        }
    }
}

fn sources(files: &[File]) -> Sources {
    Sources::new(
        files.iter().map(|file| SourceFile { path: file.path.clone(), text: file.text.clone() }).collect(),
    )
}

/// The rehearsal's files, with what is wrong with them.
#[utoipa::path(get, path = "/api/v1/rehearsal", tag = "rehearsal",
    responses((status = 200, description = "Its files", body = RehearsalText), Refused),
    security(("key" = [])))]
pub async fn text(State(app): State<App>, operator: Operator) -> Result<Json<RehearsalText>, Problem> {
    operator.needs("charter:read")?;
    let saved = app.node.store().rehearsal().await?;
    let files: Vec<File> = match &saved {
        Some(saved) => serde_json::from_value(saved.files.clone()).unwrap_or_default(),
        None => Vec::new(),
    };
    let findings = findings(&app, &files)?;
    Ok(Json(RehearsalText {
        number: saved.as_ref().map_or(0, |saved| saved.number),
        files,
        findings,
        author: saved.as_ref().map(|saved| saved.author.clone()),
        saved_at: saved.as_ref().map(|saved| saved.created_at.to_string()),
    }))
}

/// What is wrong with files, under what is live.
fn findings(app: &App, files: &[File]) -> Result<Vec<String>, Problem> {
    let sources = sources(files);
    let mut found: Vec<Finding> = Vec::new();
    let rehearsal = read(&sources, &mut found);
    let state = app.node.state();
    let policy = live(&state)?.world.policy();
    found.extend(rehearsal.checked(policy, &sources).err().unwrap_or_default());
    Ok(found.iter().map(|finding| format!("{}  {}", sources.place(finding.span), finding.message)).collect())
}

/// Saves the rehearsal's files; refused if somebody saved others since.
#[utoipa::path(put, path = "/api/v1/rehearsal", tag = "rehearsal", request_body = RehearsalSaved,
    responses((status = 200, description = "They are saved", body = RehearsalText), Refused),
    security(("key" = [])))]
pub async fn save(
    State(app): State<App>,
    operator: Operator,
    StrictJson(saved): StrictJson<RehearsalSaved>,
) -> Result<Json<RehearsalText>, Problem> {
    operator.needs("charter:draft")?;
    let bytes: usize = saved.files.iter().map(|file| file.text.len()).sum();
    if saved.files.len() > MAX_FILES || bytes > MAX_BYTES {
        return Err(Problem::invalid(format!(
            "A rehearsal has at most {MAX_FILES} files and {MAX_BYTES} bytes."
        )));
    }
    for file in &saved.files {
        let wrong = wrong_path(&file.path).map(str::to_owned).or_else(|| {
            let known = file.path.ends_with(".toml") || file.path.ends_with(".csv");
            (!known).then(|| "a file of a rehearsal ends in .toml or .csv".to_owned())
        });
        if let Some(wrong) = wrong {
            return Err(Problem::invalid(format!("{:?}: {wrong}.", file.path)));
        }
    }
    let now = app.node.store().rehearsal().await?.map_or(0, |text| text.number);
    if now != saved.from {
        return Err(Problem::conflict("Somebody saved other files since; read them, and save again."));
    }
    let files = json!(saved.files);
    let by = operator.key.id.clone();
    app.node.write(async |write, now| Ok(write.save_rehearsal(&files, &by, now).await?)).await?;
    text(State(app), operator).await
}

/// The last runs, newest first.
#[utoipa::path(get, path = "/api/v1/rehearsals", tag = "rehearsal",
    responses((status = 200, description = "Runs", body = Vec<RanShown>), Refused),
    security(("key" = [])))]
pub async fn runs(State(app): State<App>, operator: Operator) -> Result<Json<Vec<RanShown>>, Problem> {
    operator.needs("charter:read")?;
    let all = app.node.store().rehearsals().await?;
    Ok(Json(all.into_iter().map(|ran| RanShown::of(ran, &app)).collect()))
}

/// Begins one; it runs in the background.
#[utoipa::path(post, path = "/api/v1/rehearsals", tag = "rehearsal", request_body = RehearsalAsked,
    responses((status = 202, description = "It runs", body = RanShown), Refused),
    security(("key" = [])))]
pub async fn begin(
    State(app): State<App>,
    operator: Operator,
    StrictJson(asked): StrictJson<RehearsalAsked>,
) -> Result<Response, Problem> {
    operator.needs("charter:draft")?;
    app.jobs.room()?;
    let files: Vec<File> = match app.node.store().rehearsal().await? {
        Some(saved) => serde_json::from_value(saved.files).unwrap_or_default(),
        None => Vec::new(),
    };
    let kept: Vec<Value> = app.node.store().cases().await?.into_iter().map(|case| case.body).collect();
    let policy = match &asked.draft {
        Some(id) => Some(app.texts.compiled(&super::draft::find(&app, id).await?.sources)?),
        None => None,
    };
    let (facts, live_policy, revision) = {
        let state = app.node.state();
        let live = live(&state)?;
        (live.world.register().clone(), Arc::clone(live.world.policy()), live.revision.number)
    };
    let of = asked.draft.clone().unwrap_or_else(|| "live".to_owned());
    let by = operator.key.id.clone();
    let (number, _) =
        app.node.write(async |write, now| Ok(write.begin_rehearsal(&of, &by, now).await?)).await?;
    let job = app.jobs.begin(number);
    let run = Run {
        files: sources(&files),
        kept: write_kept(&kept),
        only: asked.only,
        policy: policy.clone().unwrap_or_else(|| Arc::clone(&live_policy)),
        against: policy.map(|_| (format!("live, revision {revision}"), live_policy)),
        facts,
        of: of.clone(),
        job: Arc::clone(&job),
    };
    let shown = Ran {
        number,
        of,
        author: by.clone(),
        started_at: Timestamp::now(),
        ended_at: None,
        holds: None,
        words: None,
    };
    let answer = RanShown::of(shown, &app);
    tokio::spawn(async move {
        let found = tokio::task::spawn_blocking(move || run.found()).await;
        let found = found.unwrap_or_else(|_| Err("it was broken off; the log says why".to_owned()));
        let ended = app
            .node
            .write(async |write, now| {
                let found = found.as_ref().map_err(String::as_str);
                Ok(write.end_rehearsal(number, found, &by, now).await?)
            })
            .await;
        if let Err(problem) = ended {
            tracing::error!(number, problem = %problem.detail, "what a rehearsal found could not be kept");
        }
        app.jobs.end(number);
    });
    Ok((StatusCode::ACCEPTED, Json(answer)).into_response())
}

/// Cases that were kept from trying, as a file of a rehearsal over the register.
fn write_kept(cases: &[Value]) -> Sources {
    let over = Map::from_iter([("stand-alone".to_owned(), false.into())]);
    Sources::single("kept.toml", &write(&over, &Map::new(), cases))
}

/// One run, with all it needs.
struct Run {
    files: Sources,
    kept: Sources,
    only: Option<String>,
    policy: Arc<Policy>,
    against: Option<(String, Arc<Policy>)>,
    facts: Register,
    of: String,
    job: Arc<Job>,
}

impl Run {
    fn found(self) -> Result<Found, String> {
        let found = self.rehearsed()?;
        Ok(Found {
            holds: found.holds() && self.job.goes_on(),
            words: match self.job.goes_on() {
                true => found.in_words(),
                false => format!("stopped: {}", found.in_words()),
            },
            report: serde_json::to_value(&found).map_err(|error| error.to_string())?,
            page: html(&found),
            junit: junit(&found),
        })
    }

    fn read(&self, sources: &Sources) -> Result<Rehearsal, String> {
        let mut findings = Vec::new();
        let mut rehearsal = read(sources, &mut findings);
        if findings.iter().any(|finding| finding.severity == Severity::Error) {
            return Err(told(sources, &findings));
        }
        if let Some(only) = &self.only {
            rehearsal.cases.retain(|case| case.name.contains(only.as_str()));
            rehearsal.guarantees.retain(|one| one.name.contains(only.as_str()));
        }
        Ok(rehearsal)
    }

    fn rehearsed(&self) -> Result<Rehearsed, String> {
        let now = Timestamp::now();
        let go_on = || self.job.goes_on();
        let (written, kept) = (self.read(&self.files)?, self.read(&self.kept)?);
        self.job.guarantees.store(written.guarantees.len(), Ordering::Relaxed);
        self.job.does("asking the cases");
        let failed = |sources: &Sources| {
            let sources = sources.clone();
            move |findings: Vec<Finding>| told(&sources, &findings)
        };
        let checked = written.checked(&self.policy, &self.files).map_err(failed(&self.files))?;
        let report =
            written.run(&self.policy, self.facts.clone(), &self.files, now).map_err(failed(&self.files))?;
        let over = kept.run(&self.policy, self.facts.clone(), &self.kept, now).map_err(failed(&self.kept))?;
        self.job.does("settling the guarantees");
        let guarantees = written
            .settle(&self.policy, &self.files, &go_on, &mut |_| {
                self.job.settled.fetch_add(1, Ordering::Relaxed);
            })
            .map_err(failed(&self.files))?;
        self.job.does("leaving parts out");
        let seen = (&report.cases[..], &checked[..]);
        let coverage = written.coverage(&self.policy, &self.facts, &self.files, now, seen, &go_on);
        self.job.does("who gains and who loses");
        let moved = self.against.as_ref().map(|(_, before)| {
            let world = |policy: &Arc<Policy>| World::new(Arc::clone(policy), self.facts.clone());
            shift(&world(before), &world(&self.policy), now, &Only::default(), &mut || go_on())
        });
        Ok(Rehearsed {
            version: env!("CARGO_PKG_VERSION").to_owned(),
            at: now.to_string(),
            name: self.policy.model().name.clone(),
            of: self.of.clone(),
            charter: report.charter,
            against: self
                .against
                .as_ref()
                .map(|(of, policy)| Against { of: of.clone(), charter: policy.digest().to_string() }),
            cases: report.cases.into_iter().chain(over.cases).collect(),
            guarantees,
            shift: moved,
            coverage,
        })
    }
}

fn told(sources: &Sources, findings: &[Finding]) -> String {
    let one = |finding: &Finding| format!("{}  {}", sources.place(finding.span), finding.message);
    findings.iter().map(one).collect::<Vec<_>>().join("\n")
}

async fn found(app: &App, operator: &Operator, number: &str) -> Result<Found, Problem> {
    operator.needs("charter:read")?;
    let missing = || Problem::not_found(format!("There is no rehearsal {number} that came to an end."));
    let number: i64 = number.parse().map_err(|_| missing())?;
    app.node.store().rehearsed(number).await?.ok_or_else(missing)
}

/// What one found.
#[utoipa::path(get, path = "/api/v1/rehearsals/{number}", tag = "rehearsal",
    params(("number" = String, Path, description = "The run's number")),
    responses((status = 200, description = "Cases, guarantees, shift, coverage", body = Object), Refused),
    security(("key" = [])))]
pub async fn report(
    State(app): State<App>,
    operator: Operator,
    Path(number): Path<String>,
) -> Result<Json<Value>, Problem> {
    Ok(Json(found(&app, &operator, &number).await?.report))
}

/// The same as one HTML page.
#[utoipa::path(get, path = "/api/v1/rehearsals/{number}/page", tag = "rehearsal",
    params(("number" = String, Path, description = "The run's number")),
    responses((status = 200, description = "A page", body = String, content_type = "text/html"), Refused),
    security(("key" = [])))]
pub async fn page(
    State(app): State<App>,
    operator: Operator,
    Path(number): Path<String>,
) -> Result<Response, Problem> {
    let page = found(&app, &operator, &number).await?.page;
    // It holds what people wrote: nothing in it may run.
    let policy = "default-src 'none'; style-src 'unsafe-inline'";
    Ok(([("content-type", "text/html; charset=utf-8"), ("content-security-policy", policy)], page)
        .into_response())
}

/// The same as JUnit XML.
#[utoipa::path(get, path = "/api/v1/rehearsals/{number}/junit", tag = "rehearsal",
    params(("number" = String, Path, description = "The run's number")),
    responses((status = 200, description = "XML", body = String, content_type = "application/xml"), Refused),
    security(("key" = [])))]
pub async fn xml(
    State(app): State<App>,
    operator: Operator,
    Path(number): Path<String>,
) -> Result<Response, Problem> {
    Ok(([(CONTENT_TYPE, "application/xml")], found(&app, &operator, &number).await?.junit).into_response())
}

/// Stops one where it is; what it has found so far is kept.
#[utoipa::path(delete, path = "/api/v1/rehearsals/{number}", tag = "rehearsal",
    params(("number" = String, Path, description = "The run's number")),
    responses((status = 204, description = "It is asked to stop"), Refused),
    security(("key" = [])))]
pub async fn stop(
    State(app): State<App>,
    operator: Operator,
    Path(number): Path<String>,
) -> Result<StatusCode, Problem> {
    operator.needs("charter:draft")?;
    let job = number.parse().ok().and_then(|number| app.jobs.find(number));
    job.ok_or_else(|| Problem::not_found(format!("No rehearsal {number} runs on this node.")))?.stop();
    Ok(StatusCode::NO_CONTENT)
}
