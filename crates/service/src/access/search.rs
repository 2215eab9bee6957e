//! The three searches: who may, with what, and what.

use super::answer;
use super::ask::{Asker, Who, malformed, permission};
use super::tokens::{TOKEN, Tokens};
use crate::App;
use crate::body::StrictJson;
use crate::lanes::Ticket;
use crate::node::gate::Scope;
use crate::node::gate::permission::Permission;
use crate::problem::{Problem, Refused};
use axum::extract::State;
use axum::response::Response;
use jiff::Timestamp;
use ostrog_core::decide::actions::actions;
use ostrog_core::decide::search::{self, Found, Page};
use ostrog_core::prelude::{Engine, Malformed, Reason, Request, decide, with_scratch};
use ostrog_wire::access::{Entity, PageRequest, SearchRequest, SearchResponse, SearchResult};
use serde_json::json;
use sha2::{Digest as _, Sha256};
use std::time::Duration;

/// Results of a page unless stated, and the most of one.
const PAGE: u32 = 100;
const MAX_PAGE: u32 = 1_000;
/// How long one page may take; what is left is on the next.
const PATIENCE: Duration = Duration::from_millis(500);
/// How long a search may take in all: gathering whom to decide about comes before the first page's patience
/// counts.
const AT_MOST: Duration = Duration::from_secs(10);

/// What a search is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum For {
    Subjects,
    Resources,
    Actions,
}

/// Who may? The subject has a type only.
#[utoipa::path(post, path = "/access/v1/search/subject", tag = "decisions", request_body = SearchRequest,
    responses(
        (status = 200, description = "Registered subjects of the type who may, by name", body = SearchResponse),
        Refused,
    ), security(("key" = [])))]
pub async fn search_subjects(
    State(app): State<App>,
    scope: Scope,
    StrictJson(search, _held): StrictJson<SearchRequest>,
) -> Result<Response, Problem> {
    if !matches!(search.subject.kind.as_str(), "user" | "service") {
        return Err(Problem::malformed("Subjects that can be searched are of the type user or service."));
    }
    run(app, scope, For::Subjects, search).await
}

/// With what? The resource has a type only.
#[utoipa::path(post, path = "/access/v1/search/resource", tag = "decisions", request_body = SearchRequest,
    responses(
        (status = 200, description = "Registered resources of the type, by name", body = SearchResponse),
        Refused,
    ), security(("key" = [])))]
pub async fn search_resources(
    State(app): State<App>,
    scope: Scope,
    StrictJson(search, _held): StrictJson<SearchRequest>,
) -> Result<Response, Problem> {
    run(app, scope, For::Resources, search).await
}

/// What? The action is left out.
#[utoipa::path(post, path = "/access/v1/search/action", tag = "decisions", request_body = SearchRequest,
    responses(
        (status = 200, description = "Actions of the resource's type that are allowed", body = SearchResponse),
        Refused,
    ), security(("key" = [])))]
pub async fn search_actions(
    State(app): State<App>,
    scope: Scope,
    StrictJson(search, _held): StrictJson<SearchRequest>,
) -> Result<Response, Problem> {
    run(app, scope, For::Actions, search).await
}

/// Runs a search for one page.
async fn run(app: App, scope: Scope, wanted: For, search: SearchRequest) -> Result<Response, Problem> {
    scope.decisions(Permission::Search)?;
    let bound = bound(&scope, wanted, &search);
    let token = search.page.token.as_deref().filter(|token| !token.is_empty());
    let (scope, after) = match token {
        None => (scope, String::new()),
        Some(token) => {
            let stale = || Problem::malformed("The page token is of another search; begin anew.");
            let (position, after) = read_token(token, &bound).ok_or_else(stale)?;
            app.node.wait_for(&position, None).await?;
            (scope.again()?, after)
        }
    };
    let key = scope.key_id().to_owned();
    let lane = app.clone();
    // Of whoever goes on with another page, too.
    let token = search.subject.id.clone().filter(|_| search.subject.kind == TOKEN);
    let tokens = Tokens::of(&scope, token.into_iter().collect()).await;
    let work = move |ticket: &Ticket| {
        let decisions = scope.decisions(Permission::Search)?.about(&search.resource.kind);
        let asker = Asker::new(&app, &scope, decisions, &tokens);
        let mut response = SearchResponse::default();
        let who = asker.who(&subject(wanted, &search), false)?;
        response.context.subject = who.told();
        if who.is_refused() {
            response.context.reason = Some(Reason::TokenRefused.code(decisions.engine()));
        } else if asker.may_ask_about(&search.resource.kind) {
            let request = request(&asker, wanted, &search, &who)?;
            let limit = search.page.limit.unwrap_or(PAGE).min(MAX_PAGE) as usize;
            let ticket = ticket.within(PATIENCE);
            let mut go_on = || ticket.goes_on() && scope.counts();
            let page = (after.as_str(), limit);
            let engine = asker.engine_for(&who);
            let found = found(engine, wanted, &search, &request, page, &mut go_on).map_err(malformed)?;
            response.results = found.results;
            let next = |after: String| next_token(&scope.position(), &after, &bound);
            response.page.next_token = found.next.map_or_else(String::new, next);
            response.context.unregistered = found.unregistered;
        }
        Ok(answer(&scope, decisions, &response))
    };
    lane.node.lanes.questions.run(&key, AT_MOST, work).await
}

/// A page of a search.
#[derive(Default)]
struct Results {
    results: Vec<SearchResult>,
    /// What to go on after, if there may be more.
    next: Option<String>,
    unregistered: bool,
}

fn found(
    engine: Engine<'_>,
    wanted: For,
    search: &SearchRequest,
    request: &Request,
    page: Page<'_>,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<Results, Malformed> {
    let now = Timestamp::now();
    match wanted {
        For::Subjects => {
            let found = search::subjects(engine, &search.subject.kind, request, now, page, go_on)?;
            Ok(Results { results: entities(&found), next: found.next, unregistered: false })
        }
        For::Resources => {
            let found = search::resources(engine, request, now, page, go_on)?;
            let new = Request { resource: None, ..request.clone() }.resolve(engine, now)?.question.ok();
            let may = |question| with_scratch(|scratch| decide(engine, &question, scratch)).allowed;
            Ok(Results { results: entities(&found), next: found.next, unregistered: new.is_some_and(may) })
        }
        For::Actions => {
            let all = actions(engine, request, now)?;
            let allowed = all.iter().filter(|(_, decision)| decision.allowed);
            let name = |id: usize| engine.policy.model().permissions[id].action.as_str();
            let mut names: Vec<&str> = allowed.map(|(permission, _)| name(permission.index())).collect();
            names.sort_unstable();
            let (after, limit) = page;
            let mut rest = names.into_iter().filter(|name| *name > after);
            let results: Vec<&str> = rest.by_ref().take(limit).collect();
            let last = results.last().copied().unwrap_or(after).to_owned();
            Ok(Results {
                next: rest.next().map(|_| last),
                results: results
                    .into_iter()
                    .map(|name| SearchResult::Action { name: name.to_owned() })
                    .collect(),
                unregistered: false,
            })
        }
    }
}

fn entities(found: &Found) -> Vec<SearchResult> {
    let parts = found.names.iter().filter_map(|name| name.split_once(':'));
    parts.map(|(kind, id)| SearchResult::Entity { kind: kind.to_owned(), id: id.to_owned() }).collect()
}

/// What is asked: whoever or whatever is wanted for stands in the place of nobody or nothing.
fn request(asker: &Asker<'_>, wanted: For, search: &SearchRequest, who: &Who) -> Result<Request, Problem> {
    let kind = &search.resource.kind;
    let subject = subject(wanted, search);
    let action = match (&search.action, wanted) {
        (Some(action), _) => action.name.as_str(),
        (None, For::Actions) => "any",
        (None, _) => return Err(Problem::malformed("action is missing.")),
    };
    let parts = (&subject, Some(&search.resource));
    asker.request(who, parts, permission(kind, action)?, search.context.as_ref())
}

/// Who asks: where that is what is searched for, nobody.
fn subject(wanted: For, search: &SearchRequest) -> Entity {
    match wanted {
        For::Subjects => Entity { kind: "anonymous".to_owned(), ..Entity::default() },
        For::Resources | For::Actions => search.subject.clone(),
    }
}

/// What a token is bound to: the key and the query, but for the page.
fn bound(scope: &Scope, wanted: For, search: &SearchRequest) -> String {
    let query = SearchRequest { page: PageRequest::default(), ..search.clone() };
    json!([scope.key_id(), format!("{wanted:?}"), query]).to_string()
}

/// A page token: position, name, and a digest over both and what the token is bound to. It opens
/// nothing that the query without it would not: the digest is against mistakes.
fn next_token(position: &str, after: &str, bound: &str) -> String {
    let after = hex::encode(after);
    format!("{position}.{after}.{}", digest(position, &after, bound))
}

fn digest(position: &str, after: &str, bound: &str) -> String {
    hex::encode(&Sha256::digest(json!([position, after, bound]).to_string())[..12])
}

fn read_token(token: &str, bound: &str) -> Option<(String, String)> {
    let (rest, told) = token.rsplit_once('.')?;
    let (position, after) = rest.rsplit_once('.')?;
    if digest(position, after, bound) != told {
        return None;
    }
    let name = String::from_utf8(hex::decode(after).ok()?).ok()?;
    Some((position.to_owned(), name))
}
