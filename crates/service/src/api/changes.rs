//! What happened: by pages, and as it happens.

use super::streams::Open;
use crate::App;
use crate::body::Params;
use crate::node::gate::{Followed, Operator};
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::State;
use axum::http::HeaderMap;
use axum::http::header::{ACCEPT, CACHE_CONTROL, CONTENT_TYPE};
use axum::response::sse::{Event, KeepAlive, Sse};
use axum::response::{IntoResponse as _, Response};
use futures_util::{Stream, stream};
use ostrog_store::journal::Row;
use ostrog_wire::changes::{
    ChangeQuery, ChangeShown, EpochDigest, FoundShown, Verification, VerificationQuery,
};
use ostrog_wire::register::Page;
use std::convert::Infallible;
use std::time::Duration;

/// How often a silent stream says that it is there.
const HEARTBEAT: Duration = Duration::from_secs(10);
/// Most lines of one change where it is told in short.
const BRIEF: usize = 20;

fn change_shown(row: &Row, brief: bool) -> ChangeShown {
    let mut lines = row.to_json();
    if brief {
        lines.truncate(BRIEF);
    }
    ChangeShown {
        position: row.position,
        at: row.at.to_string(),
        actor: row.actor.clone(),
        kind: row.kind.word().to_owned(),
        lines,
        count: row.lines,
        digest: row.digest.to_string(),
    }
}

/// What happened, newest first; or, asked for as `text/event-stream`, what happens from now on or
/// from a position on, oldest first.
///
/// Each event has `<epoch>.<position>` as its id, so that a broken stream is taken up with
/// `Last-Event-ID`. A stream ends with its epoch: positions of another one mean something else.
#[utoipa::path(get, path = "/api/v1/changes", tag = "register", params(ChangeQuery,
        ("Last-Event-ID" = Option<String>, Header, description = "A stream: the id of the last event")),
    responses(
        (status = 200, description = "Changes", content(
            (Page<ChangeShown> = "application/json"),
            (ChangeShown = "text/event-stream"))),
        Refused,
    ), security(("key" = [])))]
pub async fn changes(
    State(app): State<App>,
    operator: Operator,
    headers: HeaderMap,
    Params(query): Params<ChangeQuery>,
) -> Result<Response, Problem> {
    let journal = operator.journal()?;
    if is_stream(&headers) {
        let resumed =
            headers.get("last-event-id").map(|id| position(id.to_str().unwrap_or_default(), &operator));
        let from = resumed.transpose()?.or(query.after).unwrap_or(operator.position_number());
        let followed = journal.follow(from)?;
        let open = app.streams.open(operator.key_id())?;
        let stream = Sse::new(events(followed, open)).keep_alive(KeepAlive::new().interval(HEARTBEAT));
        return Ok(stream.into_response());
    }
    let limit = query.limit.unwrap_or(50).clamp(1, 1_000);
    let rows = match &query.about {
        None => journal.before(query.before, limit, query.brief).await?,
        Some(name) => journal.about(name, query.before, limit).await?,
    };
    // A page may be shorter than was asked for: it has at most so many bytes.
    let next = rows.last().filter(|row| row.position > 1).map(|row| row.position.to_string());
    let items = rows.iter().map(|row| change_shown(row, query.brief)).collect::<Vec<_>>();
    Ok(Json(Page { items, next }).into_response())
}

/// Whether the changes are what was written, and the tables what they come to.
///
/// Recomputes each row's digest, folds the changes, and holds the tables and what nodes tell against them, all at one
/// moment. Costs reading all of it, and a second register in memory; one at a time on a node.
#[utoipa::path(get, path = "/api/v1/verification", tag = "register", params(VerificationQuery),
    responses((status = 200, description = "What was found", body = Verification), Refused),
    security(("key" = [])))]
pub async fn verification(
    State(app): State<App>,
    operator: Operator,
    Params(query): Params<VerificationQuery>,
) -> Result<Response, Problem> {
    operator.journal()?.may_verify()?;
    let busy = || Problem::too_many("The changes are being verified on this node already.");
    let place = std::sync::Arc::clone(&app.verifying).try_acquire_owned().map_err(|_| busy())?;
    // It takes as long as it takes: the answer is begun, and goes on once there is something to tell.
    let told = async move {
        let _place = place;
        let told = verified(&operator, &query).await;
        let body = match told {
            Ok(told) => serde_json::to_vec(&told),
            // It has begun as an answer: what went wrong is told in its place, and read as no verification.
            Err(problem) => serde_json::to_vec(&problem.into_document()),
        };
        Ok::<_, Infallible>(body.unwrap_or_default())
    };
    let body = axum::body::Body::from_stream(stream::once(told));
    Ok(([(CONTENT_TYPE, "application/json"), (CACHE_CONTROL, "no-store")], body).into_response())
}

async fn verified(operator: &Operator, query: &VerificationQuery) -> Result<Verification, Problem> {
    let journal = operator.journal()?;
    let verified = journal.verify(query.from.unwrap_or(1)).await?;
    let at = match query.at {
        Some(at) => journal.row_at(at).await?,
        None => None,
    };
    let found = verified.found.into_iter();
    Ok(Verification {
        epoch: verified.epoch,
        position: verified.position,
        digest: verified.digest.to_string(),
        rows: verified.rows,
        chained: verified.chained,
        folded: verified.folded,
        at: at.map(|(epoch, digest)| EpochDigest { epoch, digest: digest.to_string() }),
        found: found.map(|found| FoundShown { position: found.position, words: found.words }).collect(),
    })
}

/// Whether a stream is asked for.
pub fn is_stream(headers: &HeaderMap) -> bool {
    let accept = headers.get(ACCEPT).and_then(|value| value.to_str().ok()).unwrap_or_default();
    accept.split(',').any(|kind| kind.trim().starts_with("text/event-stream"))
}

/// The position of an event's id, if it is of this epoch.
fn position(id: &str, operator: &Operator) -> Result<i64, Problem> {
    let epoch = operator.epoch();
    match id.rsplit_once('.') {
        Some((of, number)) if of == epoch => {
            number.parse().map_err(|_| Problem::malformed(format!("{id:?} is the id of no event.")))
        }
        Some(_) => Err(Problem::changed(format!(
            "The event {id:?} is of another epoch: the database was restored since. Read everything anew, and follow from {epoch}.",
        ))),
        None => Err(Problem::malformed(format!("{id:?} is the id of no event."))),
    }
}

/// Changes as they come.
fn events(followed: Followed, open: Open) -> impl Stream<Item = Result<Event, Infallible>> {
    stream::unfold((followed, open), async |(mut followed, open)| {
        let row = followed.next().await?;
        let id = format!("{}.{}", followed.epoch(), row.position);
        let event = Event::default().id(id).event(row.kind.word());
        let event = event.json_data(change_shown(&row, false)).ok()?;
        Some((Ok(event), (followed, open)))
    })
}
