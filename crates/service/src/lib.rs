//! The Ostrog service: decisions, management and console over HTTP.
//!
//! - [`access`]: decisions, in the AuthZEN Authorization API 1.0;
//! - [`api`]: management, for the command line and the console;
//! - [`node`]: what is answered from, how a write becomes part of it, and the gate: who may reach which of it;
//! - [`operators`]: what operators may do;
//! - [`measures`]: what is measured;
//! - [`lanes`]: where work is done that takes longer than a decision;
//! - [`body`], [`problem`]: what callers send, how they are refused;
//! - [`serving`]: connections, and their limits;
//! - [`asked`]: what applications asked lately; [`jobs`]: rehearsals under way;
//! - [`issuers`]: whose tokens count, and how their keys are had;
//! - [`sign_in`]: how operators sign in with an issuer;
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
pub mod issuers;
pub mod jobs;
pub mod lanes;
pub mod measures;
pub mod node;
pub mod operators;
pub mod problem;
pub mod serving;
pub mod sign_in;

use axum::Router;
use axum::extract::{MatchedPath, State};
use axum::http::header::{CONTENT_TYPE, HOST};
use axum::http::{HeaderName, HeaderValue, StatusCode, Version};
use axum::middleware::{Next, from_fn_with_state};
use axum::response::{IntoResponse as _, Response};
use axum::routing::get;
use futures_util::FutureExt as _;
use node::Node;
use node::gate::Looks;
use problem::Problem;
use std::collections::BTreeMap;
use std::panic::AssertUnwindSafe;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;
use tower_http::compression::CompressionLayer;
use tower_http::compression::predicate::{DefaultPredicate, Predicate as _, SizeAbove};
use utoipa::openapi::security::{HttpAuthScheme, HttpBuilder, SecurityScheme};
use utoipa_axum::router::OpenApiRouter;

/// Longest a call may take.
const PATIENCE: Duration = Duration::from_secs(30);
/// A node that has not heard from the database for longer says for how many seconds.
const SOON: Duration = Duration::from_secs(3);

/// What a call is named by, in its answer and in the log.
const REQUEST_ID: HeaderName = HeaderName::from_static("x-request-id");

/// What every handler shares.
#[derive(Clone, Debug)]
pub struct App(Arc<Shared>);

/// What an [`App`] leads to.
#[derive(Debug)]
pub struct Shared {
    /// The node.
    pub node: Arc<Node>,
    /// Signing in with issuers.
    pub sign_ins: sign_in::SignIns,
    /// How callers reach this service.
    pub public_url: Arc<str>,
    /// What applications asked lately.
    pub asked: Arc<asked::Log>,
    /// Rehearsals under way.
    pub jobs: Arc<jobs::Jobs>,
    /// Room for bodies.
    pub room: body::Room,
    /// Questions that are answered once more, in a shadow.
    pub shadows: access::Shadows,
    /// What is measured.
    pub measures: measures::Measures,
    /// One at a time has the changes verified.
    pub verifying: Arc<tokio::sync::Semaphore>,
    /// Room for what stays open.
    pub streams: Arc<api::Streams>,
    /// Names of requests.
    requests: Counted,
    /// Names of decisions.
    decided: Counted,
}

impl std::ops::Deref for App {
    type Target = Shared;
    fn deref(&self) -> &Shared {
        &self.0
    }
}

impl App {
    /// Shares a node under an address.
    pub fn new(node: Arc<Node>, public_url: &str) -> App {
        App::with_secrets(node, public_url, BTreeMap::new())
    }

    /// The same, which is known to issuers by secrets.
    pub fn with_secrets(node: Arc<Node>, public_url: &str, secrets: BTreeMap<String, String>) -> App {
        App(Arc::new_cyclic(|app| Shared {
            shadows: access::Shadows::start(app),
            measures: measures::Measures::start(app),
            node,
            sign_ins: sign_in::SignIns::new(secrets),
            public_url: public_url.trim_end_matches('/').into(),
            asked: Arc::default(),
            jobs: Arc::default(),
            room: body::Room::default(),
            verifying: Arc::new(tokio::sync::Semaphore::new(1)),
            streams: Arc::default(),
            requests: Counted::new(),
            decided: Counted::new(),
        }))
    }

    /// Whether callers reach this service under https.
    pub fn is_secure(&self) -> bool {
        self.public_url.starts_with("https://")
    }

    /// What the next decision is called.
    fn next_decision(&self) -> String {
        format!("d-{}", self.decided.next())
    }
}

fn paths() -> OpenApiRouter<App> {
    // What operators read is sent compressed; decisions are too small to gain by it.
    let large = DefaultPredicate::new().and(SizeAbove::new(1024));
    let api = api::router().layer(CompressionLayer::new().compress_when(large));
    OpenApiRouter::with_openapi(document()).merge(access::router()).merge(api)
}

/// The OpenAPI document of this service, as it is published at `/api/v1/openapi.json`.
pub fn description() -> utoipa::openapi::OpenApi {
    paths().into_openapi()
}

/// All paths, and their description.
pub fn router(app: App) -> Router {
    let (calls, description) = paths().split_for_parts();
    let description: Arc<str> = description.to_json().unwrap_or_default().into();
    Router::new()
        .merge(calls)
        .merge(access::metadata(&app.public_url))
        .merge(measures::router())
        .merge(api::sign_in_pages())
        .route(
            "/api/v1/openapi.json",
            get(move || async move { ([(CONTENT_TYPE, "application/json")], description.to_string()) }),
        )
        .route("/healthz", get(|| async { "alive\n" }))
        .route("/readyz", get(ready))
        .with_state(app.clone())
        .merge(console::router())
        .fallback(|| async { Problem::not_found("There is nothing at this address.") })
        .method_not_allowed_fallback(|| async { Problem::wrong_method("This path has no such method.") })
        .layer(from_fn_with_state(app, meet))
}

/// Names things one after the other: of which start of the program, and the how manieth since.
#[derive(Debug)]
struct Counted {
    start: String,
    next: AtomicU64,
}

impl Counted {
    fn new() -> Counted {
        let start = format!("{:x}", jiff::Timestamp::now().as_microsecond());
        Counted { start, next: AtomicU64::new(0) }
    }

    fn next(&self) -> String {
        let number = self.next.fetch_add(1, Ordering::Relaxed);
        format!("{}-{number}", self.start)
    }

    fn next_header(&self) -> HeaderValue {
        HeaderValue::try_from(self.next()).unwrap_or_else(|_| HeaderValue::from_static("unnamed"))
    }
}

/// What holds of every call: it has a name, one host is asked for, it has an end, a panic is its own, what
/// it looked up is counted, and whoever is answered from memory that may be old is told.
async fn meet(State(app): State<App>, mut request: axum::extract::Request, next: Next) -> Response {
    let begun = std::time::Instant::now();
    let path = request.extensions().get::<MatchedPath>().cloned();
    let name = request.headers().get(&REQUEST_ID).cloned().unwrap_or_else(|| app.requests.next_header());
    let looks = Looks::default();
    let hosts = request.headers().get_all(HOST).iter().count();
    let mut response = if hosts > 1 || (hosts == 0 && request.version() == Version::HTTP_11) {
        Problem::malformed("A request has one Host header.").into_response()
    } else {
        request.extensions_mut().insert(looks.clone());
        let answer = AssertUnwindSafe(next.run(request)).catch_unwind();
        match tokio::time::timeout(PATIENCE, answer).await {
            Ok(Ok(response)) => response,
            Ok(Err(_)) => {
                tracing::error!(request = ?name, "a handler panicked");
                Problem::internal("The request was broken off; the log says why.").into_response()
            }
            Err(_) => Problem::timeout(
                "The call took longer than 30 seconds; whether a write was made is in the changes.",
            )
            .into_response(),
        }
    };
    response.extensions_mut().insert(looks);
    response.headers_mut().insert(REQUEST_ID, name);
    if let Some(path) = path {
        app.measures.answered(path.as_str(), begun);
    }
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
