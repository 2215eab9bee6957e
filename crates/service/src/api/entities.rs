//! Entities: found, read, written and deleted, and the members of groups.

use super::register::{MAX_PAGE, Page, Readable, WrittenShown, live, shown};
use crate::App;
use crate::body::{Params, StrictJson};
use crate::caller::Operator;
use crate::node::{By, Expected, Wanted};
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, HeaderValue, header};
use axum::response::{IntoResponse as _, Response};
use ostrog_core::charter::model::Stated;
use ostrog_core::names::nearest;
use ostrog_core::prelude::{Change, World, line};
use ostrog_core::register::{EntityId, Register};
use ostrog_core::value::Scalar;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use sha2::{Digest as _, Sha256};
use utoipa::{IntoParams, ToSchema};

/// Which entities.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct EntityQuery {
    /// Only names that begin so.
    #[serde(default)]
    prefix: String,
    /// Only those in whose name, or in a text that is stated of them, this stands; upper and lower
    /// case of Latin letters are one.
    #[serde(default)]
    containing: String,
    /// Only those of which this is stated: `name=value`, the value as JSON or as a bare text.
    attribute: Option<String>,
    /// Only names after this one: the last of the page before.
    #[serde(default)]
    after: String,
    /// At most so many; 100 unless stated, at most 1000.
    limit: Option<usize>,
    /// Groups with the number of their members (`member-count`) in place of all of them.
    #[serde(default)]
    brief: bool,
}

fn attribute_wanted(text: &str) -> Result<(&str, Value), Problem> {
    let (name, value) = text
        .split_once('=')
        .ok_or_else(|| Problem::malformed("attribute is name=value, such as zone=quay."))?;
    Ok((name, serde_json::from_str(value).unwrap_or_else(|_| value.into())))
}

/// Entities by name.
#[utoipa::path(get, path = "/api/v1/entities", tag = "register", params(EntityQuery),
    responses(
        (status = 200, description = "Entities as register lines, by name", body = Page),
        Refused,
    ), security(("key" = [])))]
pub async fn entities(
    State(app): State<App>,
    operator: Operator,
    Params(query): Params<EntityQuery>,
) -> Result<Json<Page>, Problem> {
    let limit = query.limit.unwrap_or(100).clamp(1, MAX_PAGE);
    let state = app.node.state();
    let world = &live(&state)?.world;
    let register = world.register();
    let wanted = query.attribute.as_deref().map(attribute_wanted).transpose()?;
    let has = |id: EntityId| match &wanted {
        None => true,
        Some((name, value)) => {
            let stated = register.sym(name).and_then(|name| register.attribute(id, name));
            stated.is_some_and(|stated| match stated {
                Stated::One(one) => one.to_json() == *value,
                Stated::Many(many) => many.iter().any(|one| one.to_json() == *value),
                Stated::Unfit => false,
            })
        }
    };
    let mut readable = Readable::new(&operator, world);
    let mut names: Vec<&str> = register
        .all_entities()
        .map(|id| (register.name(id), id))
        .filter(|(name, _)| name.starts_with(&query.prefix) && *name > query.after.as_str())
        .filter(|(_, id)| mentions(register, *id, query.containing.trim()) && has(*id) && readable.has(*id))
        .map(|(name, _)| name)
        .collect();
    let next = first(&mut names, limit);
    let items = names
        .iter()
        .filter_map(|name| register.registered(name))
        .map(|id| if query.brief { brief(register, id) } else { register.entity_json(id) })
        .collect();
    Ok(Json(Page { items, next }))
}

/// Whether a text stands in an entity's name or in what is stated of it.
fn mentions(register: &Register, id: EntityId, text: &str) -> bool {
    let stands_in = |whole: &str| {
        let parts = whole.as_bytes().windows(text.len());
        parts.into_iter().any(|part| part.eq_ignore_ascii_case(text.as_bytes()))
    };
    let is_said = |one: &Scalar| matches!(one, Scalar::Text(said) if stands_in(said));
    text.is_empty()
        || stands_in(register.name(id))
        || register.attributes(id).any(|(_, stated)| match stated {
            Stated::One(one) => is_said(one),
            Stated::Many(many) => many.iter().any(is_said),
            Stated::Unfit => false,
        })
}

/// Leaves the first so many names, in order; gives where the next page begins, if there is one.
fn first(names: &mut Vec<&str>, limit: usize) -> Option<String> {
    let more = names.len() > limit;
    if more {
        // Without ordering all of them.
        names.select_nth_unstable(limit);
        names.truncate(limit);
    }
    names.sort_unstable();
    names.last().filter(|_| more).map(|name| (*name).to_owned())
}

/// An entity's line without the members it may have a million of.
fn brief(register: &Register, id: EntityId) -> Value {
    let members = register.members(id).len();
    let mut line =
        if members > MAX_PAGE { json!({ "entity": register.name(id) }) } else { register.entity_json(id) };
    if let (Some(line), true) = (line.as_object_mut(), members > 0) {
        line.remove("members");
        line.insert("member-count".to_owned(), members.into());
    }
    line
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
    /// What stands for all that is said of it: for `If-Match`, as the `ETag` has it.
    tag: String,
    /// The position this was read at.
    position: i64,
}

/// One entity.
#[utoipa::path(get, path = "/api/v1/entities/{name}", tag = "register",
    params(("name" = String, Path, description = "type:id")),
    responses(
        (status = 200, description = "All that is known of it", body = EntityShown),
        Refused,
    ), security(("key" = [])))]
pub async fn entity(
    State(app): State<App>,
    operator: Operator,
    Path(name): Path<String>,
) -> Result<Response, Problem> {
    let state = app.node.state();
    let world = &live(&state)?.world;
    let register = world.register();
    let mut readable = Readable::new(&operator, world);
    // What is not there and what is not theirs answer alike.
    let found = register.registered(&name).filter(|id| readable.has(*id));
    let id = found.ok_or_else(|| match readable.everything {
        true => missing(register, &name),
        false => Problem::not_found(format!("{name} is not registered")),
    })?;
    let entity = register.entity_json(id);
    let tag = etag(&entity);
    let shown = EntityShown {
        tag: tag.clone(),
        entity,
        groups: register.groups(id).iter().map(|group| register.name(*group).to_owned()).collect(),
        grants: register.grants_to(id).map(|(_, grant)| register.grant_json(&grant)).collect(),
        contents: register
            .contents(id)
            .iter()
            .take(MAX_PAGE)
            .map(|inner| register.name(*inner).to_owned())
            .collect(),
        position: state.position,
    };
    Ok(([(header::ETAG, tag)], Json(shown)).into_response())
}

/// Which members.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct MemberQuery {
    /// Only names that begin so.
    #[serde(default)]
    prefix: String,
    /// Only names after this one.
    #[serde(default)]
    after: String,
    /// At most so many; 100 unless stated, at most 1000.
    limit: Option<usize>,
}

/// Members of a group.
#[derive(Debug, Serialize, ToSchema)]
pub struct Members {
    /// The page, by name.
    items: Vec<String>,
    /// Where the next page begins, if there is one.
    next: Option<String>,
    /// How many there are in all.
    total: usize,
}

/// The direct members of a group, by name.
#[utoipa::path(get, path = "/api/v1/entities/{name}/members", tag = "register",
    params(("name" = String, Path, description = "group:id"), MemberQuery),
    responses(
        (status = 200, description = "A page of them", body = Members),
        Refused,
    ), security(("key" = [])))]
pub async fn members(
    State(app): State<App>,
    operator: Operator,
    Path(name): Path<String>,
    Params(query): Params<MemberQuery>,
) -> Result<Json<Members>, Problem> {
    let state = app.node.state();
    let world = &live(&state)?.world;
    let register = world.register();
    let mut readable = Readable::new(&operator, world);
    let found = register.registered(&name).filter(|id| readable.has(*id));
    let id = found.ok_or_else(|| Problem::not_found(format!("{name} is not registered.")))?;
    let limit = query.limit.unwrap_or(100).clamp(1, MAX_PAGE);
    let all = register.members(id);
    let mut names: Vec<&str> = all
        .iter()
        .map(|member| register.name(*member))
        .filter(|name| name.starts_with(&query.prefix) && *name > query.after.as_str())
        .collect();
    let next = first(&mut names, limit);
    Ok(Json(Members { items: names.into_iter().map(str::to_owned).collect(), next, total: all.len() }))
}

/// What stands for all that is said of an entity.
fn etag(entity: &Value) -> String {
    let digest = Sha256::digest(entity.to_string());
    let hex: String = digest.iter().take(12).map(|byte| format!("{byte:02x}")).collect();
    format!("\"{hex}\"")
}

/// Writes all that is said of an entity: a register line's members, without its name.
///
/// With `If-Match` only if it is still what the caller has read; with `If-None-Match: *` only if it
/// is not registered.
#[utoipa::path(put, path = "/api/v1/entities/{name}", tag = "register", request_body = Object,
    params(("name" = String, Path, description = "type:id")),
    responses(
        (status = 200, description = "It is so", body = WrittenShown),
        Refused,
    ), security(("key" = [])))]
pub async fn put_entity(
    State(app): State<App>,
    operator: Operator,
    Path(name): Path<String>,
    headers: HeaderMap,
    StrictJson(mut line): StrictJson<Map<String, Value>>,
) -> Result<Json<WrittenShown>, Problem> {
    if line.insert("entity".to_owned(), name.clone().into()).is_some_and(|told| told != name.as_str()) {
        return Err(Problem::malformed("The line is of another entity than the path."));
    }
    let change =
        line::from_json(&Value::Object(line)).map_err(|detail| Problem::malformed(format!("{detail}.")))?;
    let expected = expected(&headers, name);
    let written = app
        .node
        .change(vec![change], By::operator(operator, None), Wanted { expected, ..Wanted::default() })
        .await?;
    Ok(shown(&app, written))
}

/// Deletes an entity; with `contents=true` what lies within it too.
#[utoipa::path(delete, path = "/api/v1/entities/{name}", tag = "register",
    params(("name" = String, Path, description = "type:id"), DeleteQuery),
    responses(
        (status = 200, description = "It is gone, and every fact that named it", body = WrittenShown),
        Refused,
    ), security(("key" = [])))]
pub async fn delete_entity(
    State(app): State<App>,
    operator: Operator,
    Path(name): Path<String>,
    headers: HeaderMap,
    Params(query): Params<DeleteQuery>,
) -> Result<Json<WrittenShown>, Problem> {
    let expected = expected(&headers, name.clone());
    let change = Change::Delete { name, contents: query.contents };
    let written = app
        .node
        .change(vec![change], By::operator(operator, None), Wanted { expected, ..Wanted::default() })
        .await?;
    Ok(shown(&app, written))
}

/// How an entity is deleted.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct DeleteQuery {
    /// What lies within it too.
    #[serde(default)]
    contents: bool,
}

/// What a caller expects of an entity, by its preconditions.
fn expected(headers: &HeaderMap, name: String) -> Option<Expected> {
    let text = |header| headers.get(header).and_then(|value: &HeaderValue| value.to_str().ok());
    let tag = match (text(header::IF_MATCH), text(header::IF_NONE_MATCH)) {
        (Some(tag), _) => Some(tag.to_owned()),
        (None, Some(_)) => None,
        (None, None) => return None,
    };
    Some(Box::new(move |world: &World| {
        let register = world.register();
        let now = register.registered(&name).map(|id| etag(&register.entity_json(id)));
        match (&tag, now) {
            (Some(tag), Some(now)) if *tag == now || tag == "*" => Ok(()),
            (None, None) => Ok(()),
            (Some(_), None) => Err(Problem::changed(format!("{name} is not registered any more."))),
            _ => Err(Problem::changed(format!("{name} is not as you read it; read it again."))),
        }
    }))
}

fn missing(register: &Register, name: &str) -> Problem {
    let near = nearest(name, register.all_entities().take(100_000).map(|id| register.name(id)));
    let near = near.map_or_else(String::new, |near| format!("; did you mean {near}?"));
    Problem::not_found(format!("{name} is not registered{near}"))
}
