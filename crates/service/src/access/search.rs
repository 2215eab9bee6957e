//! The three searches: who may, with what, and what.

use super::wire::{Action, Evaluation, Found, PageTold, Search};
use super::{live, owns, request, unvouched, with_position};
use crate::App;
use crate::body::StrictJson;
use crate::caller::{AtLeast, Caller};
use crate::node::Live;
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::State as Shared;
use axum::response::Response;
use jiff::Timestamp;
use ostrog_core::decide::actions::actions;
use ostrog_core::decide::search;
use ostrog_core::prelude::{Request, decide, with_scratch};
use ostrog_store::key::{Key, KeyKind};
use serde_json::{Map, Value, json};
use sha2::{Digest as _, Sha256};
use std::time::{Duration, Instant};

/// Most results of one page.
const MAX_PAGE: usize = 1_000;
/// How long one page may take; what is left is on the next.
const PATIENCE: Duration = Duration::from_millis(500);

/// Who may? The subject has a type only.
#[utoipa::path(post, path = "/access/v1/search/subject", tag = "decisions", request_body = Search,
    responses(
        (status = 200, description = "Registered subjects of the type who may, by name", body = Found),
        Refused,
    ), security(("key" = [])))]
pub async fn subject(
    Shared(app): Shared<App>,
    caller: Caller,
    _at: AtLeast,
    StrictJson(search): StrictJson<Search>,
) -> Result<Response, Problem> {
    let kind = search.subject.kind.clone();
    if !matches!(kind.as_str(), "user" | "service") {
        return Err(Problem::malformed("Subjects that can be searched are of the type user or service."));
    }
    run(&app, &caller, "subject", search, |live, request, page, go_on| {
        let found = search::subjects(live.world.engine(), &kind, request, Timestamp::now(), page, go_on)?;
        Ok((found, false))
    })
    .await
}

/// With what? The resource has a type only.
#[utoipa::path(post, path = "/access/v1/search/resource", tag = "decisions", request_body = Search,
    responses(
        (status = 200, description = "Registered resources of the type, by name", body = Found),
        Refused,
    ), security(("key" = [])))]
pub async fn resource(
    Shared(app): Shared<App>,
    caller: Caller,
    _at: AtLeast,
    StrictJson(search): StrictJson<Search>,
) -> Result<Response, Problem> {
    run(&app, &caller, "resource", search, |live, request, page, go_on| {
        let (engine, now) = (live.world.engine(), Timestamp::now());
        let found = search::resources(engine, request, now, page, go_on)?;
        let new = Request { resource: None, ..request.clone() };
        let new = new.resolve(engine, now)?.question.ok();
        let new =
            new.is_some_and(|question| with_scratch(|scratch| decide(engine, &question, scratch)).allowed);
        Ok((found, new))
    })
    .await
}

/// What? The action is left out.
#[utoipa::path(post, path = "/access/v1/search/action", tag = "decisions", request_body = Search,
    responses(
        (status = 200, description = "Actions of the resource's type that are allowed", body = Found),
        Refused,
    ), security(("key" = [])))]
pub async fn action(
    Shared(app): Shared<App>,
    caller: Caller,
    _at: AtLeast,
    StrictJson(search): StrictJson<Search>,
) -> Result<Response, Problem> {
    caller.calls("search")?;
    let state = app.node.state();
    let live = live(&app, &state)?;
    let mut results = Vec::new();
    if owns(live, &caller.0, &search.resource.kind) {
        let engine = live.world.engine();
        let (request, _) = asked(live, &caller.0, "action", &search, Some("any"))?;
        let found = actions(engine, &request, Timestamp::now()).map_err(malformed)?;
        let allowed = found.iter().filter(|(_, decision)| decision.allowed);
        let name = |id: usize| &engine.policy.model().permissions[id].action;
        results.extend(allowed.map(|(permission, _)| json!({ "name": name(permission.index()) })));
    }
    let page = PageTold { next_token: String::new() };
    Ok(with_position(&app, &state, live, Json(Found { results, page, context: Map::new() })))
}

fn malformed(malformed: impl std::fmt::Display) -> Problem {
    Problem::malformed(format!("{malformed}."))
}

/// The request of a search, with what was left out of it because the key cannot vouch for it.
fn asked(
    live: &Live,
    key: &Key,
    looks_for: &str,
    search: &Search,
    action: Option<&str>,
) -> Result<(Request, Option<String>), Problem> {
    let action = match (&search.action, action) {
        (Some(action), _) => action.clone(),
        (None, Some(any)) => Action { name: any.to_owned() },
        (None, None) => return Err(Problem::malformed("action is missing.")),
    };
    let mut subject = search.subject.clone();
    if looks_for == "subject" {
        // Whoever is looked for stands in the place of nobody; elsewhere a subject without an id is a
        // mistake, never anonymous.
        subject.kind = "anonymous".to_owned();
    }
    let question =
        Evaluation { subject, action, resource: search.resource.clone(), context: search.context.clone() };
    let mut request = request(question.question())?;
    let ignored = unvouched(live, key, &mut request, &search.resource.kind);
    Ok((request, ignored))
}

type Page<'p> = (&'p str, usize);

/// Runs a search for one page.
async fn run(
    app: &App,
    caller: &Caller,
    looks_for: &str,
    search: Search,
    find: impl FnOnce(
        &Live,
        &Request,
        Page<'_>,
        &mut dyn FnMut() -> bool,
    ) -> Result<(search::Found, bool), ostrog_core::prelude::Malformed>,
) -> Result<Response, Problem> {
    caller.calls("search")?;
    let bound = bound(&caller.0, looks_for, &search);
    let after = match &search.page.token {
        None => String::new(),
        Some(token) => {
            let stale = || Problem::malformed("The page token is of another search; begin anew.");
            let (position, after) = read_token(token, &bound).ok_or_else(stale)?;
            app.node.wait_for(&position).await?;
            after
        }
    };
    let limit = search.page.limit.unwrap_or(100).clamp(1, MAX_PAGE);
    let state = app.node.state();
    let live = live(app, &state)?;
    let mut results = Vec::new();
    let mut page = PageTold { next_token: String::new() };
    let mut context = Map::new();
    if owns(live, &caller.0, &search.resource.kind) {
        let (request, _) = asked(live, &caller.0, looks_for, &search, None)?;
        let until = Instant::now() + PATIENCE;
        let mut go_on = || Instant::now() < until;
        let (found, new) = tokio::task::block_in_place(|| find(live, &request, (&after, limit), &mut go_on))
            .map_err(malformed)?;
        results.extend(found.names.iter().map(|name| {
            let (kind, id) = name.split_once(':').unwrap_or_default();
            json!({ "type": kind, "id": id })
        }));
        let position = format!("{}.{}", state.epoch, state.position);
        page.next_token = found.next.map_or_else(String::new, |after| token(&position, &after, &bound));
        if new {
            context.insert("unregistered".to_owned(), Value::Bool(true));
        }
    }
    Ok(with_position(app, &state, live, Json(Found { results, page, context })))
}

/// What a token is bound to: the key and the query, but for the page.
fn bound(key: &Key, looks_for: &str, search: &Search) -> String {
    let who = match &key.making.kind {
        KeyKind::Operator => key.id.clone(),
        KeyKind::Application(application) => format!("{} {application}", key.id),
    };
    let part = |entity: &super::wire::Entity| json!([entity.kind, entity.id, entity.properties]);
    let action = search.action.as_ref().map(|action| &action.name);
    json!([who, looks_for, part(&search.subject), action, part(&search.resource), search.context]).to_string()
}

/// A page token: position, name, and a digest over both and what the token is bound to. It opens
/// nothing that the query without it would not: the digest is against mistakes.
fn token(position: &str, after: &str, bound: &str) -> String {
    let after: String = after.bytes().map(|byte| format!("{byte:02x}")).collect();
    format!("{position}.{after}.{}", digest(position, &after, bound))
}

fn digest(position: &str, after: &str, bound: &str) -> String {
    let digest = Sha256::digest(json!([position, after, bound]).to_string());
    digest.iter().take(12).map(|byte| format!("{byte:02x}")).collect()
}

fn read_token(token: &str, bound: &str) -> Option<(String, String)> {
    let (rest, told) = token.rsplit_once('.')?;
    let (position, hex) = rest.rsplit_once('.')?;
    if digest(position, hex, bound) != told {
        return None;
    }
    let bytes =
        hex.as_bytes().chunks(2).map(|pair| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok());
    let after = String::from_utf8(bytes.collect::<Option<_>>()?).ok()?;
    Some((position.to_owned(), after))
}
