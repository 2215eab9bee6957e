//! What happened: by pages, and as it happens.

use crate::App;
use crate::body::Params;
use crate::caller::Operator;
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, header};
use axum::response::sse::{Event, KeepAlive, Sse};
use axum::response::{IntoResponse as _, Response};
use futures_util::{Stream, stream};
use ostrog_store::change::Change;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::VecDeque;
use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::OwnedSemaphorePermit;
use utoipa::{IntoParams, ToSchema};

/// How often a silent stream says that it is there.
const HEARTBEAT: Duration = Duration::from_secs(10);
/// How many changes are read at a time.
const CHUNK: i64 = 100;
/// How many streams a node keeps open.
pub const MAX_STREAMS: usize = 256;

/// Which changes.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct ChangeQuery {
    /// Only those before this position.
    before: Option<i64>,
    /// Only those whose lines name this entity; of each only those lines.
    about: Option<String>,
    /// Only the first 20 lines of each.
    #[serde(default)]
    brief: bool,
    /// A stream: only those after this position.
    after: Option<i64>,
    /// At most so many; 50 unless stated, at most 1000.
    limit: Option<i64>,
}

/// One change.
#[derive(Debug, Serialize, ToSchema)]
pub struct ChangeShown {
    /// 1, 2, 3 … without gaps.
    position: i64,
    /// When.
    at: String,
    /// The id of the key that did it.
    actor: String,
    /// `register`, `draft`, `rollout`, `case` or `key`.
    kind: String,
    /// What, as register lines.
    #[schema(value_type = Vec<Object>)]
    lines: Value,
    /// How many lines there are, where not all are told.
    count: i64,
}

impl From<Change> for ChangeShown {
    fn from(change: Change) -> Self {
        ChangeShown {
            position: change.position,
            at: change.at.to_string(),
            actor: change.actor,
            kind: change.kind,
            lines: change.lines,
            count: change.count,
        }
    }
}

/// What happened, newest first; or, asked for as `text/event-stream`, what happens from now on or
/// from a position on, oldest first.
///
/// Each event has the position as its id, so that a broken stream is taken up with `Last-Event-ID`.
#[utoipa::path(get, path = "/api/v1/changes", tag = "register", params(ChangeQuery),
    responses(
        (status = 200, description = "Changes", body = Vec<ChangeShown>),
        Refused,
    ), security(("key" = [])))]
pub async fn changes(
    State(app): State<App>,
    operator: Operator,
    headers: HeaderMap,
    Params(query): Params<ChangeQuery>,
) -> Result<Response, Problem> {
    operator.needs("log:read")?;
    let text = |name: &str| headers.get(name).and_then(|value| value.to_str().ok());
    if text(header::ACCEPT.as_str()).is_some_and(|accept| accept.contains("text/event-stream")) {
        let resumed = text("last-event-id").and_then(|id| id.rsplit('.').next()?.parse().ok());
        let (epoch, now) = {
            let state = app.node.state();
            (state.epoch.clone(), state.position)
        };
        let from = resumed.or(query.after).unwrap_or(now);
        let room = Arc::clone(&app.streams).try_acquire_owned().map_err(|_| {
            Problem::unavailable(format!("{MAX_STREAMS} streams are open already; follow at another node."))
        })?;
        let stream = follow(app, epoch, from, room);
        return Ok(Sse::new(stream).keep_alive(KeepAlive::new().interval(HEARTBEAT)).into_response());
    }
    let limit = query.limit.unwrap_or(50).clamp(1, 1_000);
    let store = app.node.store();
    let found = match &query.about {
        None => store.changes_before(query.before, limit, query.brief).await?,
        Some(name) => store.changes_about(name, query.before, limit).await?,
    };
    Ok(Json(found.into_iter().map(ChangeShown::from).collect::<Vec<_>>()).into_response())
}

/// Changes after a position, as this node reaches them. Ends when the epoch does, when the database
/// cannot be read, and when the service stops.
fn follow(
    app: App,
    epoch: String,
    from: i64,
    room: OwnedSemaphorePermit,
) -> impl Stream<Item = Result<Event, Infallible>> {
    struct At {
        app: App,
        epoch: Arc<str>,
        after: i64,
        waiting: VecDeque<Change>,
        _room: OwnedSemaphorePermit,
    }
    let at = At { app, epoch: epoch.into(), after: from, waiting: VecDeque::new(), _room: room };
    stream::unfold(at, async |mut at| {
        let mut positions = at.app.node.positions();
        while at.waiting.is_empty() {
            tokio::select! {
                reached = positions.wait_for(|reached| *reached > at.after) => { reached.ok()?; }
                () = at.app.node.stopping() => return None,
            }
            if at.app.node.state().epoch != *at.epoch {
                return None;
            }
            at.waiting = at.app.node.store().changes_after(at.after, CHUNK).await.ok()?.into();
        }
        let change = at.waiting.pop_front()?;
        at.after = change.position;
        let event =
            Event::default().id(format!("{}.{}", at.epoch, change.position)).event(change.kind.clone());
        let event = event.json_data(ChangeShown::from(change)).ok()?;
        Some((Ok(event), at))
    })
}
