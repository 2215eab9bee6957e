//! Quayside: tides, notices, the schedule and the cranes' logs. An example of an application that has no line of code
//! about who may do what: a reverse proxy in front of it asks, by the routes of the charter.
//!
//! It must be reached through that proxy alone, so it listens on loopback only.

#![forbid(unsafe_code)]

use axum::extract::{DefaultBodyLimit, Path, State};
use axum::http::StatusCode;
use axum::routing::{get, post};
use axum::{Json, Router};
use serde::Deserialize;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::io;
use std::sync::{Arc, Mutex, PoisonError};
use tokio::net::TcpListener;

/// Longest entry of a log, and most entries of one.
const MAX_BODY: usize = 4 << 10;
const MAX_ENTRIES: usize = 1_000;

type Logs = Arc<Mutex<BTreeMap<String, Vec<String>>>>;

/// What it serves.
pub fn router() -> Router {
    Router::new()
        .route("/tides", get(tides))
        .route("/notices/{notice}", get(notice))
        .route("/voyages/{voyage}", get(voyage))
        .route("/cranes/{crane}/log", post(append))
        .layer(DefaultBodyLimit::max(MAX_BODY))
        .with_state(Logs::default())
}

/// Serves it until `stop` resolves.
///
/// # Errors
/// If the listener fails, or is not on loopback.
pub async fn serve(listener: TcpListener, stop: impl Future<Output = ()> + Send + 'static) -> io::Result<()> {
    if !listener.local_addr()?.ip().is_loopback() {
        return Err(io::Error::other("whoever reaches it without its proxy is asked nothing: loopback only"));
    }
    axum::serve(listener, router()).with_graceful_shutdown(stop).await
}

async fn tides() -> Json<Value> {
    Json(
        json!([{ "at": "04:12", "metres": 3.1 }, { "at": "10:31", "metres": 0.6 }, { "at": "16:40", "metres": 2.9 }]),
    )
}

async fn notice(Path(notice): Path<String>) -> Json<Value> {
    Json(json!({ "notice": notice, "text": "The light on the north mole is out until further notice." }))
}

async fn voyage(Path(voyage): Path<String>) -> Json<Value> {
    Json(json!({ "voyage": voyage, "pilot-at": "05:00", "alongside-at": "06:15" }))
}

/// What a crane did.
#[derive(Debug, Deserialize)]
struct Lifted {
    lifted: String,
}

async fn append(
    State(logs): State<Logs>,
    Path(crane): Path<String>,
    Json(lifted): Json<Lifted>,
) -> (StatusCode, Json<Value>) {
    let mut logs = logs.lock().unwrap_or_else(PoisonError::into_inner);
    let log = logs.entry(crane.clone()).or_default();
    if log.len() >= MAX_ENTRIES {
        log.remove(0);
    }
    log.push(lifted.lifted);
    (StatusCode::CREATED, Json(json!({ "crane": crane, "entries": log.len() })))
}
