//! The position that answers are of, as it moves: for applications that keep answers, or show them.

use super::answer;
use crate::App;
use crate::api::{Open, is_stream};
use crate::node::gate::permission::Permission;
use crate::node::gate::{Moves, Scope};
use crate::problem::{Problem, Refused};
use axum::extract::State;
use axum::http::HeaderMap;
use axum::response::sse::{Event, KeepAlive, Sse};
use axum::response::{IntoResponse as _, Response};
use futures_util::{Stream, stream};
use ostrog_wire::access::Reached;
use std::convert::Infallible;
use std::time::Duration;

/// How often a silent stream says that it is there.
const HEARTBEAT: Duration = Duration::from_secs(10);

/// Revision and position that answers are of now; or, asked for as `text/event-stream`, as they are and whenever
/// they move: events named `position`.
///
/// Tells nothing of what changed. What moves while an event is under way is one event. The stream ends
/// with its epoch and with its key; whoever follows begins anew.
#[utoipa::path(get, path = "/access/v1/position", tag = "decisions",
    responses(
        (status = 200, description = "Where answers are", content(
            (Reached = "application/json"),
            (Reached = "text/event-stream"))),
        Refused,
    ), security(("key" = [])))]
pub async fn position(State(app): State<App>, scope: Scope, headers: HeaderMap) -> Result<Response, Problem> {
    let decisions = scope.decisions(Permission::Position)?;
    if !is_stream(&headers) {
        let reached = Reached { revision: decisions.revision(), position: scope.position() };
        return Ok(answer(&scope, decisions, &reached));
    }
    let open = app.streams.open(scope.key_id())?;
    let events = events(scope.moves(), open);
    Ok(Sse::new(events).keep_alive(KeepAlive::new().interval(HEARTBEAT)).into_response())
}

fn events(moves: Moves, open: Open) -> impl Stream<Item = Result<Event, Infallible>> {
    stream::unfold((moves, open), async |(mut moves, open)| {
        let (revision, position) = moves.next().await?;
        let event = Event::default().event("position").id(position.clone());
        let event = event.json_data(Reached { revision, position }).ok()?;
        Some((Ok(event), (moves, open)))
    })
}
