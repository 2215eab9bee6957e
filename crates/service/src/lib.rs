//! The Ostrog service: decisions, management and console over HTTP.
//!
//! - [`access`]: decisions, in the AuthZEN Authorization API 1.0;
//! - [`api`]: management, for the command line and the console;
//! - [`node`]: what is answered from, how a write becomes part of it, and the gate: who may reach which of it;
//! - [`operators`]: what operators may do;
//! - [`lanes`]: where work is done that takes longer than a decision;
//! - [`body`], [`problem`]: what callers send, how they are refused;
//! - [`serving`]: connections, and their limits;
//! - [`asked`]: what applications asked lately; [`jobs`]: rehearsals under way;
//! - [`console`]: the console's files.
//!
//! A handler is a sentence: extractors parse and refuse, a scope opens what the caller may reach, the
//! core decides, a type of `ostrog-wire` tells it. [`router`] can be called without sockets.

#![forbid(unsafe_code)]

pub mod access;
pub mod api;
pub mod asked;
pub mod body;
pub mod console;
pub mod jobs;
pub mod lanes;
pub mod node;
pub mod operators;
pub mod problem;
pub mod serving;

use axum::Router;
use axum::extract::State;
use axum::http::header::{CONTENT_TYPE, HOST};
use axum::http::{HeaderName, StatusCode, Version};
use axum::middleware::{Next, from_fn, from_fn_with_state};
use axum::response::{IntoResponse as _, Response};
use axum::routing::get;
use node::Node;
use node::gate::Looks;
use node::gate::session::Sessions;
use problem::Problem;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;
use tower_http::catch_panic::CatchPanicLayer;
use tower_http::request_id::{MakeRequestId, PropagateRequestIdLayer, RequestId, SetRequestIdLayer};
use utoipa::openapi::security::{HttpAuthScheme, HttpBuilder, SecurityScheme};
use utoipa_axum::router::OpenApiRouter;

/// Longest a call may take.
const PATIENCE: Duration = Duration::from_secs(30);
/// A node that has not heard from the database for longer says for how many seconds.
const SOON: Duration = Duration::from_secs(3);

/// What every handler shares.
#[derive(Clone, Debug)]
pub struct App {
    /// The node.
    pub node: Arc<Node>,
    /// Console sessions.
    pub sessions: Arc<Sessions>,
    /// How callers reach this service.
    pub public_url: Arc<str>,
    /// What applications asked lately.
    pub asked: Arc<asked::Log>,
    /// Rehearsals under way.
    pub jobs: Arc<jobs::Jobs>,
    /// Room for bodies.
    pub room: body::Room,
    /// Room for what stays open.
    pub streams: Arc<api::Streams>,
}

impl App {
    /// Shares a node under an address.
    pub fn new(node: Arc<Node>, public_url: &str) -> App {
        App {
            node,
            sessions: Arc::default(),
            public_url: public_url.trim_end_matches('/').into(),
            asked: Arc::default(),
            jobs: Arc::default(),
            room: body::Room::default(),
            streams: Arc::default(),
        }
    }
}

fn paths() -> OpenApiRouter<App> {
    OpenApiRouter::with_openapi(document()).merge(access::router()).merge(api::router())
}

/// The OpenAPI document of this service, as it is published at `/api/v1/openapi.json`.
pub fn description() -> utoipa::openapi::OpenApi {
    paths().into_openapi()
}

/// All paths, and their description.
pub fn router(app: App) -> Router {
    let (calls, description) = paths().split_for_parts();
    let description: Arc<str> = description.to_json().unwrap_or_default().into();
    let request_id = HeaderName::from_static("x-request-id");
    Router::new()
        .merge(calls)
        .merge(access::metadata(&app.public_url))
        .route(
            "/api/v1/openapi.json",
            get(move || async move { ([(CONTENT_TYPE, "application/json")], description.to_string()) }),
        )
        .layer(from_fn_with_state(app.clone(), stale))
        .route("/healthz", get(|| async { "alive\n" }))
        .route("/readyz", get(ready))
        .with_state(app)
        .merge(console::router())
        .fallback(|| async { Problem::not_found("There is nothing at this address.") })
        .method_not_allowed_fallback(|| async { Problem::wrong_method("This path has no such method.") })
        .layer(from_fn(meet))
        .layer(CatchPanicLayer::custom(|_: Box<dyn std::any::Any + Send>| {
            tracing::error!("a handler panicked");
            Problem::internal("The request was broken off; the log says why.").into_response()
        }))
        .layer(PropagateRequestIdLayer::new(request_id.clone()))
        .layer(SetRequestIdLayer::new(request_id, Counted::new()))
}

/// Names requests in logs: of which start of the program, and the how manieth since.
#[derive(Clone)]
struct Counted {
    start: Arc<str>,
    next: Arc<AtomicU64>,
}

impl Counted {
    fn new() -> Counted {
        let start = format!("{:x}", jiff::Timestamp::now().as_microsecond());
        Counted { start: start.into(), next: Arc::default() }
    }
}

impl MakeRequestId for Counted {
    fn make_request_id<B>(&mut self, _: &axum::http::Request<B>) -> Option<RequestId> {
        let number = self.next.fetch_add(1, Ordering::Relaxed);
        format!("{}-{number}", self.start).parse().ok().map(RequestId::new)
    }
}

/// What holds of every call: one host is asked for, it has an end, and what it looked up is counted.
async fn meet(mut request: axum::extract::Request, next: Next) -> Response {
    let hosts = request.headers().get_all(HOST).iter().count();
    if hosts > 1 || (hosts == 0 && request.version() == Version::HTTP_11) {
        return Problem::malformed("A request has one Host header.").into_response();
    }
    let looks = Looks::default();
    request.extensions_mut().insert(looks.clone());
    let mut response = match tokio::time::timeout(PATIENCE, next.run(request)).await {
        Ok(response) => response,
        Err(_) => Problem::timeout(
            "The call took longer than 30 seconds; whether a write was made is in the changes.",
        )
        .into_response(),
    };
    response.extensions_mut().insert(looks);
    response
}

/// Whoever is answered from memory that may be old is told.
async fn stale(State(app): State<App>, request: axum::extract::Request, next: Next) -> Response {
    let mut response = next.run(request).await;
    let age = app.node.age();
    if age > SOON {
        response.headers_mut().insert("ostrog-stale", age.as_secs().into());
    }
    response
}

/// Ready once a charter is live, for as long as it may be answered from.
async fn ready(State(app): State<App>) -> (StatusCode, String) {
    match app.node.not_ready() {
        None => (StatusCode::OK, "ready\n".to_owned()),
        Some(why) => (StatusCode::SERVICE_UNAVAILABLE, format!("{why}\n")),
    }
}

fn document() -> utoipa::openapi::OpenApi {
    let key = SecurityScheme::Http(
        HttpBuilder::new()
            .scheme(HttpAuthScheme::Bearer)
            .description(Some("An application's or operator's key"))
            .build(),
    );
    let info = utoipa::openapi::InfoBuilder::new()
        .title("Ostrog")
        .version(env!("CARGO_PKG_VERSION"))
        .description(Some("Decisions and management of central authorization policy"))
        .license(Some(
            utoipa::openapi::LicenseBuilder::new().name("Apache-2.0").identifier(Some("Apache-2.0")).build(),
        ));
    utoipa::openapi::OpenApiBuilder::new()
        .info(info)
        .components(Some(
            utoipa::openapi::ComponentsBuilder::new()
                .security_scheme("key", key)
                .schema_from::<ostrog_wire::problem::Problem>()
                .schema_from::<ostrog_wire::problem::ProblemPart>()
                .build(),
        ))
        .build()
}
