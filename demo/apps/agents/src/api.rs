//! What the page asks.

use crate::{Error, Portal};
use axum::extract::{OriginalUri, Path, Query, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::sse::{Event, KeepAlive, Sse};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use axum::{Json, Router};
use futures_util::{Stream, stream};
use ostrog_client::guard::{Caller, Refusal, may, open};
use ostrog_client::wire::access::{Action, Entity, PageRequest, SearchRequest, SearchResult};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::convert::Infallible;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// Most of one list: the page shows no more.
const MOST: u32 = 100;
/// How many pages of a search are asked for it.
const MOST_PAGES: u32 = 20;

/// A booking or an invoice.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Entry {
    /// `booking:bk-31`
    pub name: String,
    /// What it lies within.
    pub within: Option<String>,
    /// What is known of it.
    pub facts: serde_json::Map<String, Value>,
    /// `open`, and what became of it: `cancelled`, `disputed`, `approved`.
    pub state: &'static str,
}

/// What of a register's line the portal keeps.
#[derive(Debug, Deserialize)]
struct Line {
    entity: String,
    within: Option<String>,
    #[serde(default)]
    attributes: serde_json::Map<String, Value>,
}

/// Bookings and invoices, in memory.
#[derive(Debug)]
pub struct Book(Mutex<BTreeMap<String, Entry>>);

impl Book {
    pub(crate) fn of(register: &str) -> Result<Book, Error> {
        let mut all = BTreeMap::new();
        for text in register.lines().filter(|line| line.starts_with(r#"{"entity":"#)) {
            let line: Line = serde_json::from_str(text)?;
            if line.entity.starts_with("booking:") || line.entity.starts_with("invoice:") {
                let entry = Entry {
                    name: line.entity.clone(),
                    within: line.within,
                    facts: line.attributes,
                    state: "open",
                };
                all.insert(line.entity, entry);
            }
        }
        Ok(Book(Mutex::new(all)))
    }

    fn all(&self) -> MutexGuard<'_, BTreeMap<String, Entry>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Ends what is open; what is not there, or ended before, stays as it is.
    fn end(&self, name: &str, state: &'static str) -> Response {
        match self.all().get_mut(name) {
            Some(entry) if entry.state == "open" => {
                entry.state = state;
                Json(entry.clone()).into_response()
            }
            Some(entry) => (StatusCode::CONFLICT, Json(entry.clone())).into_response(),
            None => StatusCode::NOT_FOUND.into_response(),
        }
    }
}

pub(crate) fn router(portal: &Portal) -> Result<Router, Error> {
    let routes = portal.guard.routes::<Portal>();
    let (booking, invoice) = ("booking:{booking}", "invoice:{invoice}");
    let guarded = routes
        .get("/bookings/{booking}", show, may("booking:view").on(booking))
        .post("/bookings/{booking}/cancel", cancel, may("booking:cancel").on(booking))
        .post("/invoices/{invoice}/dispute", dispute, may("invoice:dispute").on(invoice))
        .post("/invoices/{invoice}/approve", approve, may("invoice:approve").on(invoice))
        // Each asks for whoever it answers.
        .get("/bookings", bookings, open())
        .get("/invoices", invoices, open())
        .get("/affordances", affordances, open())
        .build()?;
    Ok(guarded.route("/moves", get(moves)).with_state(portal.clone()))
}

async fn show(State(portal): State<Portal>, Path(booking): Path<String>) -> Response {
    let entry = portal.book.all().get(&format!("booking:{booking}")).cloned();
    entry.map_or(StatusCode::NOT_FOUND.into_response(), |entry| Json(entry).into_response())
}

async fn cancel(State(portal): State<Portal>, Path(booking): Path<String>) -> Response {
    portal.book.end(&format!("booking:{booking}"), "cancelled")
}

async fn dispute(State(portal): State<Portal>, Path(invoice): Path<String>) -> Response {
    portal.book.end(&format!("invoice:{invoice}"), "disputed")
}

async fn approve(State(portal): State<Portal>, Path(invoice): Path<String>) -> Response {
    portal.book.end(&format!("invoice:{invoice}"), "approved")
}

async fn bookings(portal: State<Portal>, headers: HeaderMap, uri: OriginalUri) -> Result<Response, Refusal> {
    list(portal, &headers, &uri, "booking").await
}

async fn invoices(portal: State<Portal>, headers: HeaderMap, uri: OriginalUri) -> Result<Response, Refusal> {
    list(portal, &headers, &uri, "invoice").await
}

/// Those of a type that somebody may view: found by a search, since there is no table to filter.
async fn list(
    State(portal): State<Portal>,
    headers: &HeaderMap,
    OriginalUri(uri): &OriginalUri,
    kind: &str,
) -> Result<Response, Refusal> {
    let caller = Caller::of(&portal.guard, headers, uri)?;
    let mut search = SearchRequest {
        subject: caller.entity(),
        action: Some(Action { name: "view".to_owned() }),
        resource: Entity { kind: kind.to_owned(), ..Entity::default() },
        page: PageRequest { limit: Some(MOST), token: None },
        ..SearchRequest::default()
    };
    let mut names = Vec::new();
    // A page ends where its time does: it may have fewer than were asked for, or none, and another one after it.
    for _ in 0..MOST_PAGES {
        let Ok(found) = portal.client.search_resources(&search).await else {
            return Ok(StatusCode::SERVICE_UNAVAILABLE.into_response());
        };
        if found.context.reason.as_deref() == Some("token-refused") {
            return Ok(StatusCode::UNAUTHORIZED.into_response());
        }
        names.extend(found.results.into_iter().filter_map(|result| match result {
            SearchResult::Entity { kind, id } => Some(format!("{kind}:{id}")),
            SearchResult::Action { .. } => None,
        }));
        search.page.token = Some(found.page.next_token).filter(|token| !token.is_empty());
        if search.page.token.is_none() || names.len() >= MOST as usize {
            break;
        }
    }
    let book = portal.book.all();
    let items: Vec<&Entry> = names.iter().take(MOST as usize).filter_map(|name| book.get(name)).collect();
    Ok(Json(json!({ "items": items, "more": search.page.token.is_some() })).into_response())
}

/// On what.
#[derive(Debug, Deserialize)]
struct On {
    resource: Option<String>,
}

async fn affordances(
    State(portal): State<Portal>,
    headers: HeaderMap,
    OriginalUri(uri): OriginalUri,
    Query(on): Query<On>,
) -> Result<Json<Value>, Refusal> {
    let caller = Caller::of(&portal.guard, &headers, &uri)?;
    let shown = caller.affordances(on.resource.as_deref()).await?;
    Ok(Json(json!({ "subject": shown.subject, "position": shown.position, "affordances": shown.all })))
}

/// An event whenever policy or facts have moved: what the page shows may be different now.
async fn moves(State(portal): State<Portal>) -> Sse<impl Stream<Item = Result<Event, Infallible>>> {
    let events = stream::unfold(portal.guard.reached(), async |mut reached| {
        reached.changed().await.ok()?;
        let position = reached.borrow_and_update().as_ref().map(|reached| reached.position.clone());
        Some((Ok(Event::default().event("moved").data(position.unwrap_or_default())), reached))
    });
    Sse::new(events).keep_alive(KeepAlive::new().interval(Duration::from_secs(10)))
}
