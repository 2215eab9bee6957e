//! Decisions over the network: the AuthZEN Authorization API 1.0.
//!
//! - [`affordances`]: what an application's interface shows and enables;
//! - [`ask`]: how one question of a caller is answered, whichever call it comes in;
//! - [`batch`]: several, of which what they share is read once;
//! - [`forwarded`]: a request as a reverse proxy tells it;
//! - [`position`]: the position that answers are of, as it moves;
//! - [`route_check`]: what a reverse proxy asks about a request;
//! - [`rows`]: decisions as conditions on an application's own rows;
//! - [`search`]: who may, with what, and what;
//! - [`shadow`]: live questions, answered once more under a revision that is not live;
//! - [`tokens`]: tokens that stand for a subject.

mod affordances;
mod ask;
mod batch;
mod forwarded;
mod position;
mod route_check;
mod rows;
mod search;
mod shadow;
mod tokens;

use crate::App;
use crate::body::{FEW, JsonBytes};
use crate::node::gate::permission::Permission;
use crate::node::gate::{Decisions, Scope};
use crate::problem::{Problem, Refused};
use ask::Asker;
use axum::extract::State;
use axum::http::{HeaderMap, HeaderValue, header};
use axum::response::{IntoResponse as _, Response};
use axum::routing::get;
use axum::{Json, Router};
use ostrog_wire::access::{BatchAnswer, Configuration, Evaluation, EvaluationRequest, EvaluationsRequest};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::time::{Duration, Instant};
use tokens::Tokens;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

pub use ask::not_told;
pub use batch::MAX_BATCH;
pub use shadow::Shadows;

/// How long a batch, or a question with an explanation, may take.
const PATIENCE: Duration = Duration::from_secs(5);
/// How long one may take where single decisions are answered.
const AT_ONCE: Duration = Duration::from_micros(500);
/// Where the metadata of this decision point are.
const METADATA: &str = "/.well-known/authzen-configuration";

/// The decision paths.
pub fn router() -> OpenApiRouter<App> {
    OpenApiRouter::new()
        .routes(routes!(evaluation))
        .routes(routes!(evaluations))
        .routes(routes!(search::search_subjects))
        .routes(routes!(search::search_resources))
        .routes(routes!(search::search_actions))
        .routes(routes!(rows::rows))
        .routes(routes!(affordances::affordances))
        .routes(routes!(position::position))
        .routes(routes!(configuration))
        .routes(routes!(route_check::route_check, route_check::route_check_by_post))
}

/// The metadata's path where the public address has a path: RFC 8615 puts the well-known part before it.
pub fn metadata(public_url: &str) -> Router<App> {
    let path = public_url.split_once("://").and_then(|(_, rest)| rest.split_once('/')).map(|(_, path)| path);
    match path.map(|path| path.trim_matches('/')).filter(|path| !path.is_empty()) {
        Some(path) if !path.contains(['{', '}']) => {
            Router::new().route(&format!("{METADATA}/{path}"), get(configuration))
        }
        _ => Router::new(),
    }
}

/// Answers one question.
///
/// A denial is a decision, not an error: HTTP 200 with `"decision": false`.
#[utoipa::path(post, path = "/access/v1/evaluation", tag = "decisions", request_body = EvaluationRequest,
    responses(
        (status = 200, description = "The decision", body = Evaluation,
            headers(("Ostrog-Revision" = i64, description = "The revision asked"),
                ("Ostrog-Position" = String, description = "The position asked at, `<epoch>.<n>`"),
                ("Ostrog-Position-Digest" = String, description = "The digest of the journal there"))),
        Refused,
    ), security(("key" = [])))]
async fn evaluation(
    State(app): State<App>,
    scope: Scope,
    JsonBytes(bytes, held): JsonBytes,
) -> Result<Response, Problem> {
    let decisions = scope.decisions(Permission::Evaluation)?;
    let tokens = Tokens::of_body(&scope, &bytes).await;
    if bytes.len() <= FEW {
        let request: EvaluationRequest = read(&bytes)?;
        let decisions = decisions.about(&request.resource.kind);
        let asker = Asker::new(&app, &scope, decisions, &tokens);
        if !asker.explains(request.context.as_ref()) {
            return Ok(answer(&scope, decisions, &asker.ask(&request)?));
        }
    }
    let (app, scope) = (app.clone(), scope.clone());
    apart(&app.clone(), &scope.clone(), move || {
        let _held = held;
        let request: EvaluationRequest = read(&bytes)?;
        let decisions = scope.decisions(Permission::Evaluation)?.about(&request.resource.kind);
        let asked = Asker::new(&app, &scope, decisions, &tokens).ask(&request)?;
        Ok(answer(&scope, decisions, &asked))
    })
    .await
}

/// Answers several questions at one position and one moment.
///
/// An item that is malformed is denied, with its error in its context.
#[utoipa::path(post, path = "/access/v1/evaluations", tag = "decisions", request_body = EvaluationsRequest,
    responses(
        (status = 200, description = "The decisions; without items, one decision", body = BatchAnswer,
            headers(("Ostrog-Revision" = i64, description = "The revision asked"),
                ("Ostrog-Position" = String, description = "The position asked at, `<epoch>.<n>`"),
                ("Ostrog-Position-Digest" = String, description = "The digest of the journal there"))),
        Refused,
    ), security(("key" = [])))]
async fn evaluations(
    State(app): State<App>,
    scope: Scope,
    JsonBytes(bytes, held): JsonBytes,
) -> Result<Response, Problem> {
    let decisions = scope.decisions(Permission::Evaluations)?;
    let tokens = Tokens::of_body(&scope, &bytes).await;
    if bytes.len() <= FEW {
        // A small one is most often answered in less time than handing it over takes. If it is not, it is
        // begun anew beside: nothing was done that would have to be taken back.
        let until = Instant::now() + AT_ONCE;
        let asker = Asker::new(&app, &scope, decisions, &tokens);
        if let Some(answers) = batch::answers(&asker, &bytes, &mut || Instant::now() < until)? {
            return Ok(answer(&scope, decisions, &answers));
        }
    }
    let lane = &app.node.lanes.batches;
    let (app, scope) = (app.clone(), scope.clone());
    let key = scope.key_id().to_owned();
    let work = {
        let app = app.clone();
        move |ticket: &crate::lanes::Ticket| {
            let _held = held;
            let decisions = scope.decisions(Permission::Evaluations)?;
            let asker = Asker::new(&app, &scope, decisions, &tokens);
            let answers = batch::answers(&asker, &bytes, &mut || ticket.goes_on())?;
            let too_long = || Problem::timeout("The batch takes too long; ask it in parts.");
            Ok(answer(&scope, decisions, &answers.ok_or_else(too_long)?))
        }
    };
    lane.run(&key, PATIENCE, work).await
}

/// Works beside the threads that answer single decisions.
async fn apart(
    app: &App,
    scope: &Scope,
    work: impl FnOnce() -> Result<Response, Problem> + Send + 'static,
) -> Result<Response, Problem> {
    app.node.lanes.batches.run(scope.key_id(), PATIENCE, move |_| work()).await
}

/// Where this decision point answers.
#[utoipa::path(get, path = "/.well-known/authzen-configuration", tag = "decisions",
    responses((status = 200, description = "The addresses", body = Configuration), Refused))]
async fn configuration(State(app): State<App>) -> Json<Configuration> {
    let base = &app.public_url;
    Json(Configuration {
        access_evaluation_endpoint: format!("{base}/access/v1/evaluation"),
        access_evaluations_endpoint: format!("{base}/access/v1/evaluations"),
        search_subject_endpoint: format!("{base}/access/v1/search/subject"),
        search_resource_endpoint: format!("{base}/access/v1/search/resource"),
        search_action_endpoint: format!("{base}/access/v1/search/action"),
        policy_decision_point: base.to_string(),
    })
}

/// Reads a request as the standard has it: what it does not know is passed over.
fn read<T: DeserializeOwned>(bytes: &[u8]) -> Result<T, Problem> {
    serde_json::from_slice(bytes)
        .map_err(|error| Problem::malformed(format!("The body cannot be read: {error}.")))
}

/// An answer, with what it was asked of.
fn answer(scope: &Scope, decisions: Decisions<'_>, body: &impl Serialize) -> Response {
    let mut headers = HeaderMap::with_capacity(5);
    headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    headers.insert("ostrog-revision", decisions.revision().into());
    if let Some(tried) = scope.tried() {
        headers.insert("ostrog-tried", tried.into());
    }
    for (name, text) in [("ostrog-position", scope.position()), ("ostrog-position-digest", scope.digest())] {
        if let Ok(value) = text.parse() {
            headers.insert(name, value);
        }
    }
    (headers, Json(body)).into_response()
}
