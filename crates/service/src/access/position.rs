//! The position that answers are of, as it moves: for applications that keep answers, or show them.

use crate::App;
use crate::api::Open;
use crate::node::gate::permission::Permission;
use crate::node::gate::{Moves, Scope};
use crate::problem::{Problem, Refused};
use axum::extract::State;
use axum::response::sse::{Event, KeepAlive, Sse};
use axum::response::{IntoResponse as _, Response};
use futures_util::{Stream, stream};
use ostrog_wire::access::Reached;
use std::convert::Infallible;
use std::time::Duration;

/// How often a silent stream says that it is there.
const HEARTBEAT: Duration = Duration::from_secs(10);

/// Revision and position as they are, and whenever they move: server-sent events named `position`.
///
/// Tells nothing of what changed. What moves while an event is under way is one event. The stream ends
/// with its epoch and with its key; whoever follows begins anew.
#[utoipa::path(get, path = "/access/v1/position", tag = "decisions",
    responses((status = 200, description = "Events", content_type = "text/event-stream", body = Reached), Refused),
    security(("key" = [])))]
pub async fn position(State(app): State<App>, scope: Scope) -> Result<Response, Problem> {
    scope.decisions(Permission::Position)?;
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
