//! The register: reading it, writing it, and what happened to it.

use super::ask::changes as fact_changes;
use crate::App;
use crate::body::{Params, StrictJson, Text};
use crate::caller::Operator;
use crate::node::{By, Live, Written};
use crate::problem::{Problem, ProblemPart};
use axum::Json;
use axum::extract::{Path, State};
use ostrog_core::names::nearest;
use ostrog_core::prelude::{Change, line};
use ostrog_core::register::{Grant, GrantId, PlaceOf, Register};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;
use utoipa::{IntoParams, ToSchema};

/// Most lines of one load.
pub const MAX_LINES: usize = 10_000;
/// Most rows of one page.
const MAX_PAGE: usize = 1_000;

/// Which entities.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct EntityQuery {
    /// Only names that begin so.
    #[serde(default)]
    prefix: String,
    /// Only names after this one: the last of the page before.
    #[serde(default)]
    after: String,
    /// At most so many; 100 unless stated, at most 1000.
    limit: Option<usize>,
}

/// A page of register lines.
#[derive(Debug, Serialize, ToSchema)]
pub struct Page {
    /// The lines.
    #[schema(value_type = Vec<Object>)]
    items: Vec<Value>,
    /// Where the next page begins, if there is one.
    next: Option<String>,
}

fn live(state: &crate::node::State) -> Result<&Live, Problem> {
    state.live.as_ref().ok_or_else(|| Problem::unavailable("No charter is live."))
}

/// Entities by name.
#[utoipa::path(get, path = "/api/v1/entities", tag = "register", params(EntityQuery),
    responses(
        (status = 200, description = "Entities as register lines, by name", body = Page),
        (status = 400, description = "Malformed", body = Problem, content_type = "application/problem+json"),
        (status = 401, description = "No key, or none that counts", body = Problem, content_type = "application/problem+json"),
        (status = 403, description = "Not an operator's key", body = Problem, content_type = "application/problem+json"),
        (status = 503, description = "No charter is live", body = Problem, content_type = "application/problem+json"),
    ), security(("key" = [])))]
pub async fn entities(
    State(app): State<App>,
    _operator: Operator,
    Params(query): Params<EntityQuery>,
) -> Result<Json<Page>, Problem> {
    let limit = query.limit.unwrap_or(100).clamp(1, MAX_PAGE);
    let state = app.node.state();
    let register = live(&state)?.world.register();
    let mut names: Vec<&str> = register
        .all_entities()
        .map(|id| register.name(id))
        .filter(|name| name.starts_with(&query.prefix) && *name > query.after.as_str())
        .collect();
    let more = names.len() > limit;
    if more {
        names.select_nth_unstable(limit);
        names.truncate(limit);
    }
    names.sort_unstable();
    let next = names.last().filter(|_| more).map(|name| (*name).to_owned());
    let items = names
        .iter()
        .filter_map(|name| register.registered(name))
        .map(|id| register.entity_json(id))
        .collect();
    Ok(Json(Page { items, next }))
}

/// An entity with what is known of it and what names it.
#[derive(Debug, Serialize, ToSchema)]
pub struct EntityShown {
    /// Its line.
    #[schema(value_type = Object)]
    entity: Value,
    /// The groups it is a direct member of.
    groups: Vec<String>,
    /// Grants to it.
    #[schema(value_type = Vec<Object>)]
    grants: Vec<Value>,
    /// What lies directly within it, at most 1000.
    contents: Vec<String>,
    /// The position this was read at.
    position: i64,
}

/// One entity.
#[utoipa::path(get, path = "/api/v1/entities/{name}", tag = "register",
    params(("name" = String, Path, description = "type:id")),
    responses(
        (status = 200, description = "All that is known of it", body = EntityShown),
        (status = 401, description = "No key, or none that counts", body = Problem, content_type = "application/problem+json"),
        (status = 403, description = "Not an operator's key", body = Problem, content_type = "application/problem+json"),
        (status = 404, description = "Not registered", body = Problem, content_type = "application/problem+json"),
        (status = 503, description = "No charter is live", body = Problem, content_type = "application/problem+json"),
    ), security(("key" = [])))]
pub async fn entity(
    State(app): State<App>,
    _operator: Operator,
    Path(name): Path<String>,
) -> Result<Json<EntityShown>, Problem> {
    let state = app.node.state();
    let register = live(&state)?.world.register();
    let id = register.registered(&name).ok_or_else(|| missing(register, &name))?;
    Ok(Json(EntityShown {
        entity: register.entity_json(id),
        groups: register.groups(id).iter().map(|group| register.name(*group).to_owned()).collect(),
        grants: register.grants_to(id).map(|(_, grant)| register.grant_json(&grant)).collect(),
        contents: register
            .contents(id)
            .iter()
            .take(MAX_PAGE)
            .map(|inner| register.name(*inner).to_owned())
            .collect(),
        position: state.position,
    }))
}

fn missing(register: &Register, name: &str) -> Problem {
    let near = nearest(name, register.all_entities().take(100_000).map(|id| register.name(id)));
    let near = near.map_or_else(String::new, |near| format!("; did you mean {near}?"));
    Problem::not_found(format!("{name} is not registered{near}"))
}

/// What a write came to.
#[derive(Debug, Serialize, ToSchema)]
pub struct WrittenShown {
    /// The position it ends at: an answer at this position includes it.
    position: String,
    /// What changed, as register lines; empty if it was so already.
    #[schema(value_type = Vec<Object>)]
    changed: Vec<Value>,
}

fn shown(app: &App, written: Written) -> Json<WrittenShown> {
    let epoch = app.node.state().epoch.clone();
    Json(WrittenShown { position: format!("{epoch}.{}", written.position), changed: written.lines })
}

/// How a load is done.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct LoadQuery {
    /// Only says what would be refused and what would change.
    #[serde(default)]
    check: bool,
}

/// Loads register lines (NDJSON), all of them or none.
#[utoipa::path(post, path = "/api/v1/register", tag = "register", params(LoadQuery),
    request_body(content = String, content_type = "application/x-ndjson"),
    responses(
        (status = 200, description = "All lines are in force", body = WrittenShown),
        (status = 400, description = "Malformed, or more than 10000 lines", body = Problem, content_type = "application/problem+json"),
        (status = 401, description = "No key, or none that counts", body = Problem, content_type = "application/problem+json"),
        (status = 403, description = "Not an operator's key", body = Problem, content_type = "application/problem+json"),
        (status = 413, description = "Too large", body = Problem, content_type = "application/problem+json"),
        (status = 422, description = "What is wrong, by line; nothing was changed", body = Problem, content_type = "application/problem+json"),
        (status = 503, description = "The database is away, or no charter is live", body = Problem, content_type = "application/problem+json"),
    ), security(("key" = [])))]
pub async fn load(
    State(app): State<App>,
    Operator(key): Operator,
    Params(query): Params<LoadQuery>,
    Text(body): Text,
) -> Result<Json<WrittenShown>, Problem> {
    let mut changes = Vec::new();
    let mut parts = Vec::new();
    for (at, text) in body.lines().enumerate().filter(|(_, text)| !text.trim().is_empty()) {
        if changes.len() >= MAX_LINES {
            return Err(Problem::malformed(format!("At most {MAX_LINES} lines at a time.")));
        }
        match line::parse(text) {
            Ok(change) => changes.push(change),
            Err(detail) => parts.push(ProblemPart { at: (at + 1).to_string(), detail }),
        }
        if parts.len() >= 100 {
            break;
        }
    }
    if let Some(first) = parts.first() {
        return Err(Problem::invalid(format!("Nothing was changed: line {}: {}.", first.at, first.detail))
            .with(parts));
    }
    let written = app.node.change(changes, By::actor(&key.id), query.check).await?;
    Ok(shown(&app, written))
}

/// Facts to set and to remove.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Facts {
    /// Fact lines that shall hold.
    #[serde(default)]
    set: Vec<String>,
    /// Fact lines that shall not.
    #[serde(default)]
    remove: Vec<String>,
}

/// Sets and removes facts, all or none.
#[utoipa::path(post, path = "/api/v1/facts", tag = "register", request_body = Facts,
    responses(
        (status = 200, description = "They are in force", body = WrittenShown),
        (status = 400, description = "Malformed", body = Problem, content_type = "application/problem+json"),
        (status = 401, description = "No key, or none that counts", body = Problem, content_type = "application/problem+json"),
        (status = 403, description = "Not an operator's key", body = Problem, content_type = "application/problem+json"),
        (status = 413, description = "Too large", body = Problem, content_type = "application/problem+json"),
        (status = 415, description = "Not JSON", body = Problem, content_type = "application/problem+json"),
        (status = 422, description = "What is wrong; nothing was changed", body = Problem, content_type = "application/problem+json"),
        (status = 503, description = "The database is away, or no charter is live", body = Problem, content_type = "application/problem+json"),
    ), security(("key" = [])))]
pub async fn facts(
    State(app): State<App>,
    Operator(key): Operator,
    StrictJson(facts): StrictJson<Facts>,
) -> Result<Json<WrittenShown>, Problem> {
    let changes = {
        let state = app.node.state();
        fact_changes(&live(&state)?.world, &facts.set, &facts.remove)?
    };
    let written = app.node.change(changes, By::actor(&key.id), false).await?;
    Ok(shown(&app, written))
}

/// Which grants.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct GrantQuery {
    /// Only those to this holder.
    to: Option<String>,
    /// Only those at this place.
    at: Option<String>,
    /// Only those of this role.
    role: Option<String>,
    /// Only ids after this one.
    #[serde(default)]
    after: String,
    /// At most so many; 100 unless stated, at most 1000.
    limit: Option<usize>,
}

/// Grants by id.
#[utoipa::path(get, path = "/api/v1/grants", tag = "register", params(GrantQuery),
    responses(
        (status = 200, description = "Grants as register lines, by id", body = Page),
        (status = 400, description = "Malformed", body = Problem, content_type = "application/problem+json"),
        (status = 401, description = "No key, or none that counts", body = Problem, content_type = "application/problem+json"),
        (status = 403, description = "Not an operator's key", body = Problem, content_type = "application/problem+json"),
        (status = 503, description = "No charter is live", body = Problem, content_type = "application/problem+json"),
    ), security(("key" = [])))]
pub async fn grants(
    State(app): State<App>,
    _operator: Operator,
    Params(query): Params<GrantQuery>,
) -> Result<Json<Page>, Problem> {
    let limit = query.limit.unwrap_or(100).clamp(1, MAX_PAGE);
    let state = app.node.state();
    let register = live(&state)?.world.register();
    let is = |wanted: &Option<String>, name: &str| wanted.as_deref().is_none_or(|wanted| wanted == name);
    let after = Some(query.after.as_str()).filter(|after| !after.is_empty()).map(GrantId::new);
    let fits = |grant: &Grant<'_>| {
        let at = match grant.at {
            PlaceOf::Everywhere => "everywhere",
            PlaceOf::At(place) => register.name(place),
        };
        after.is_none_or(|after| grant.id > after)
            && is(&query.to, register.name(grant.to))
            && is(&query.at, at)
            && is(&query.role, register.text(grant.role))
    };
    // The first so many in order, without all of them in one list.
    let mut found = BTreeMap::new();
    for grant in register.all_grants().filter(fits) {
        found.insert(grant.id, grant);
        if found.len() > limit + 1 {
            found.pop_last();
        }
    }
    let next = (found.len() > limit).then(|| found.keys().nth(limit - 1).map(ToString::to_string)).flatten();
    Ok(Json(Page {
        items: found.values().take(limit).map(|grant| register.grant_json(grant)).collect(),
        next,
    }))
}

/// Gives a role. The same grant given again changes nothing.
#[utoipa::path(post, path = "/api/v1/grants", tag = "register", request_body = Object,
    responses(
        (status = 200, description = "It is in force", body = WrittenShown),
        (status = 400, description = "Malformed", body = Problem, content_type = "application/problem+json"),
        (status = 401, description = "No key, or none that counts", body = Problem, content_type = "application/problem+json"),
        (status = 403, description = "Not an operator's key", body = Problem, content_type = "application/problem+json"),
        (status = 413, description = "Too large", body = Problem, content_type = "application/problem+json"),
        (status = 415, description = "Not JSON", body = Problem, content_type = "application/problem+json"),
        (status = 422, description = "The grant cannot be", body = Problem, content_type = "application/problem+json"),
        (status = 503, description = "The database is away, or no charter is live", body = Problem, content_type = "application/problem+json"),
    ), security(("key" = [])))]
pub async fn give(
    State(app): State<App>,
    Operator(key): Operator,
    StrictJson(grant): StrictJson<Value>,
) -> Result<Json<WrittenShown>, Problem> {
    let grant = line::grant(&grant).map_err(|detail| Problem::malformed(format!("{detail}.")))?;
    let written = app.node.change(vec![Change::Grant(Box::new(grant))], By::actor(&key.id), false).await?;
    Ok(shown(&app, written))
}

/// Longest note, in bytes.
const MAX_NOTE: usize = 4 << 10;

/// Why something is done.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct NoteQuery {
    /// The reason, kept with the change.
    note: Option<String>,
}

/// Ends a grant.
#[utoipa::path(delete, path = "/api/v1/grants/{id}", tag = "register",
    params(("id" = String, Path, description = "The grant's id"), NoteQuery),
    responses(
        (status = 200, description = "It has ended", body = WrittenShown),
        (status = 400, description = "Malformed", body = Problem, content_type = "application/problem+json"),
        (status = 401, description = "No key, or none that counts", body = Problem, content_type = "application/problem+json"),
        (status = 403, description = "Not an operator's key", body = Problem, content_type = "application/problem+json"),
        (status = 422, description = "There is no such grant", body = Problem, content_type = "application/problem+json"),
        (status = 503, description = "The database is away, or no charter is live", body = Problem, content_type = "application/problem+json"),
    ), security(("key" = [])))]
pub async fn end(
    State(app): State<App>,
    Operator(key): Operator,
    Path(id): Path<String>,
    Params(query): Params<NoteQuery>,
) -> Result<Json<WrittenShown>, Problem> {
    if query.note.as_ref().is_some_and(|note| note.len() > MAX_NOTE) {
        return Err(Problem::malformed(format!("A note has at most {MAX_NOTE} bytes.")));
    }
    let by = By { actor: key.id.clone(), note: query.note };
    let written = app.node.change(vec![Change::EndGrant(id)], by, false).await?;
    Ok(shown(&app, written))
}

/// Which changes.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct ChangeQuery {
    /// Only those before this position.
    before: Option<i64>,
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
    /// `register`, `rollout` or `key`.
    kind: String,
    /// What, as register lines.
    #[schema(value_type = Object)]
    lines: Value,
}

/// What happened, newest first.
#[utoipa::path(get, path = "/api/v1/changes", tag = "register", params(ChangeQuery),
    responses(
        (status = 200, description = "Changes", body = Vec<ChangeShown>),
        (status = 400, description = "Malformed", body = Problem, content_type = "application/problem+json"),
        (status = 401, description = "No key, or none that counts", body = Problem, content_type = "application/problem+json"),
        (status = 403, description = "Not an operator's key", body = Problem, content_type = "application/problem+json"),
        (status = 503, description = "The database is away", body = Problem, content_type = "application/problem+json"),
    ), security(("key" = [])))]
pub async fn changes(
    State(app): State<App>,
    _operator: Operator,
    Params(query): Params<ChangeQuery>,
) -> Result<Json<Vec<ChangeShown>>, Problem> {
    let found =
        app.node.store().changes_before(query.before, query.limit.unwrap_or(50).clamp(1, 1_000)).await?;
    let shown = found.into_iter().map(|change| ChangeShown {
        position: change.position,
        at: change.at.to_string(),
        actor: change.actor,
        kind: change.kind,
        lines: change.lines,
    });
    Ok(Json(shown.collect()))
}
