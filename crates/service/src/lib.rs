//! The Ostrog service: decisions, management and console over HTTP.
//!
//! - [`access`]: decisions, in the AuthZEN Authorization API 1.0;
//! - [`api`]: management, for the command line and the console;
//! - [`node`]: what is answered from, and how a write becomes part of it;
//! - [`operators`]: what operators may do;
//! - [`caller`], [`body`], [`problem`]: who calls, what they send, how they are refused;
//! - [`asked`]: what applications asked lately;
//! - [`texts`]: charters that are not live, compiled;
//! - [`console`]: the console's files.
//!
//! A handler is a sentence: extractors parse and refuse, one call does the work, a response type
//! writes it. Whatever decides lives in the core.

#![forbid(unsafe_code)]

pub mod access;
pub mod api;
pub mod asked;
pub mod body;
pub mod caller;
pub mod console;
pub mod jobs;
pub mod node;
pub mod operators;
pub mod problem;
pub mod texts;

use crate::texts::Texts;
use axum::Router;
use axum::extract::State;
use axum::http::{HeaderName, StatusCode};
use axum::response::{IntoResponse as _, Response};
use axum::routing::get;
use caller::Sessions;
use node::Node;
use problem::Problem;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;
use tokio::sync::Semaphore;
use tower_http::catch_panic::CatchPanicLayer;
use tower_http::compression::CompressionLayer;
use tower_http::request_id::{MakeRequestId, PropagateRequestIdLayer, RequestId, SetRequestIdLayer};
use utoipa::openapi::security::{HttpAuthScheme, HttpBuilder, SecurityScheme};
use utoipa_axum::router::OpenApiRouter;

/// Longest a call may take.
const PATIENCE: Duration = Duration::from_secs(30);
/// How long open requests are waited for at the end.
const FAREWELL: Duration = Duration::from_secs(10);

/// What every handler shares.
#[derive(Clone, Debug)]
pub struct App {
    /// The node.
    pub node: Arc<Node>,
    /// Console sessions.
    pub sessions: Arc<Sessions>,
    /// How callers reach this service.
    pub public_url: Arc<str>,
    /// Texts that were asked under lately.
    pub texts: Arc<Texts>,
    /// What applications asked lately.
    pub asked: Arc<asked::Log>,
    /// Rehearsals under way.
    pub jobs: Arc<jobs::Jobs>,
    /// Room for streams of changes.
    pub streams: Arc<Semaphore>,
}

impl App {
    /// Shares a node under an address.
    pub fn new(node: Arc<Node>, public_url: &str) -> App {
        App {
            node,
            sessions: Arc::default(),
            public_url: public_url.into(),
            texts: Arc::default(),
            asked: Arc::default(),
            jobs: Arc::default(),
            streams: Arc::new(Semaphore::new(api::MAX_STREAMS)),
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
        .route(
            "/api/v1/openapi.json",
            get(move || async move { ([("content-type", "application/json")], description.to_string()) }),
        )
        .route("/healthz", get(|| async { "alive\n" }))
        .route("/readyz", get(ready))
        .fallback_service(Router::new().fallback(console::serve).layer(CompressionLayer::new()))
        .method_not_allowed_fallback(|| async { Problem::wrong_method("This path has no such method.") })
        .layer(axum::middleware::from_fn(patience))
        .layer(CatchPanicLayer::custom(|_: Box<dyn std::any::Any + Send>| {
            tracing::error!("a handler panicked");
            Problem::internal("The request was broken off; the log says why.").into_response()
        }))
        .layer(PropagateRequestIdLayer::new(request_id.clone()))
        .layer(SetRequestIdLayer::new(request_id, Counted::new()))
        .with_state(app)
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

async fn patience(request: axum::extract::Request, next: axum::middleware::Next) -> Response {
    match tokio::time::timeout(PATIENCE, next.run(request)).await {
        Ok(response) => response,
        Err(_) => Problem::timeout(
            "The call took longer than 30 seconds; whether a write was made is in the changes.",
        )
        .into_response(),
    }
}

/// Ready once a charter is live.
async fn ready(State(app): State<App>) -> (StatusCode, &'static str) {
    if app.node.state().live.is_some() {
        (StatusCode::OK, "ready\n")
    } else {
        (StatusCode::SERVICE_UNAVAILABLE, "no charter is live\n")
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
                .schema_from::<problem::Problem>()
                .schema_from::<problem::ProblemPart>()
                .build(),
        ))
        .build()
}

/// Serves until `stop` resolves, then answers what is open and returns.
///
/// # Errors
/// If the listener fails.
pub async fn serve(
    listener: tokio::net::TcpListener,
    app: App,
    stop: impl Future<Output = ()> + Send + 'static,
) -> std::io::Result<()> {
    let node = Arc::clone(&app.node);
    let (tell, told) = tokio::sync::oneshot::channel::<()>();
    let server = axum::serve(listener, router(app)).with_graceful_shutdown(async move {
        stop.await;
        node.stop();
        let _ = tell.send(());
    });
    tokio::select! {
        done = async { server.await } => done,
        () = async { let _ = told.await; tokio::time::sleep(FAREWELL).await } => {
            tracing::warn!("some requests were still open at the end");
            Ok(())
        }
    }
}
