//! The register: reading it and writing it.

use super::questions::changes as fact_changes;
use crate::App;
use crate::body::{Params, StrictJson, Text};
use crate::caller::{Caller, Operator};
use crate::node::{By, Expected, Live, Wanted, Written, tenant_of};
use crate::operators::Rights;
use crate::problem::{Problem, ProblemPart, Refused};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, HeaderValue, header};
use axum::response::{IntoResponse as _, Response};
use jiff::Timestamp;
use ostrog_core::charter::model::{PermId, Stated};
use ostrog_core::names::nearest;
use ostrog_core::prelude::{Change, World, line};
use ostrog_core::register::{EntityId, Grant, GrantId, MadeRole, PlaceOf, Register};
use ostrog_store::key::KeyKind;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use sha2::{Digest as _, Sha256};
use std::collections::{BTreeMap, HashMap};
use utoipa::{IntoParams, ToSchema};

/// Most lines of one load.
pub const MAX_LINES: usize = 10_000;
/// Most rows of one page.
const MAX_PAGE: usize = 1_000;

/// Which entities.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct EntityQuery {
    /// Only names that begin so.
    #[serde(default)]
    prefix: String,
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

/// A page of register lines.
#[derive(Debug, Serialize, ToSchema)]
pub struct Page {
    /// The lines.
    #[schema(value_type = Vec<Object>)]
    items: Vec<Value>,
    /// Where the next page begins, if there is one.
    next: Option<String>,
}

pub fn live(state: &crate::node::State) -> Result<&Live, Problem> {
    state.live.as_ref().ok_or_else(|| Problem::unavailable("No charter is live."))
}

/// What a tenant's operator sees: what lies in tenants that they may read.
pub struct Readable<'a> {
    operator: &'a Operator,
    world: &'a World,
    /// Whether that is everything.
    pub everything: bool,
    tenants: HashMap<String, bool>,
}

impl<'a> Readable<'a> {
    pub fn new(operator: &'a Operator, world: &'a World) -> Self {
        let everything = operator.rights.may("register:read", None);
        Readable { operator, world, everything, tenants: HashMap::new() }
    }

    pub fn has(&mut self, id: EntityId) -> bool {
        self.everything
            || tenant_of(self.world, id).is_some_and(|tenant| {
                let may = || self.operator.rights.may("register:read", Some(&tenant));
                *self.tenants.entry(tenant.clone()).or_insert_with(may)
            })
    }
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
        .filter(|(_, id)| has(*id) && readable.has(*id))
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
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct LoadQuery {
    /// Only says what would be refused and what would change.
    #[serde(default)]
    check: bool,
    /// Only if nothing was written since this position.
    at: Option<i64>,
}

impl LoadQuery {
    fn wanted(&self) -> Wanted {
        let at = self.at;
        Wanted { check_only: self.check, at, expected: None }
    }
}

/// Loads register lines (NDJSON), all of them or none.
#[utoipa::path(post, path = "/api/v1/register", tag = "register", params(LoadQuery),
    request_body(content = String, content_type = "application/x-ndjson"),
    responses(
        (status = 200, description = "All lines are in force", body = WrittenShown),
        Refused,
    ), security(("key" = [])))]
pub async fn load(
    State(app): State<App>,
    operator: Operator,
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
    let written = app.node.change(changes, By::operator(operator, None), query.wanted()).await?;
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
#[utoipa::path(post, path = "/api/v1/facts", tag = "register", params(LoadQuery), request_body = Facts,
    responses(
        (status = 200, description = "They are in force", body = WrittenShown),
        Refused,
    ), security(("key" = [])))]
pub async fn facts(
    State(app): State<App>,
    operator: Operator,
    Params(query): Params<LoadQuery>,
    StrictJson(facts): StrictJson<Facts>,
) -> Result<Json<WrittenShown>, Problem> {
    let changes = {
        let state = app.node.state();
        fact_changes(&live(&state)?.world, &facts.set, &facts.remove)?
    };
    let written = app.node.change(changes, By::operator(operator, None), query.wanted()).await?;
    Ok(shown(&app, written))
}

/// Which grants.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct GrantQuery {
    /// Only the one with this id.
    id: Option<String>,
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
        Refused,
    ), security(("key" = [])))]
pub async fn grants(
    State(app): State<App>,
    operator: Operator,
    Params(query): Params<GrantQuery>,
) -> Result<Json<Page>, Problem> {
    let limit = query.limit.unwrap_or(100).clamp(1, MAX_PAGE);
    let state = app.node.state();
    let world = &live(&state)?.world;
    let register = world.register();
    let mut readable = Readable::new(&operator, world);
    let is = |wanted: &Option<String>, name: &str| wanted.as_deref().is_none_or(|wanted| wanted == name);
    let after = Some(query.after.as_str()).filter(|after| !after.is_empty()).map(GrantId::new);
    let fits = |grant: &Grant<'_>| {
        let seen = match grant.at {
            PlaceOf::Everywhere => readable.everything,
            PlaceOf::At(place) => readable.has(place),
        };
        let at = match grant.at {
            PlaceOf::Everywhere => "everywhere",
            PlaceOf::At(place) => register.name(place),
        };
        seen && after.is_none_or(|after| grant.id > after)
            && query.id.as_deref().is_none_or(|id| GrantId::new(id) == grant.id)
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
        Refused,
    ), security(("key" = [])))]
pub async fn give(
    State(app): State<App>,
    operator: Operator,
    StrictJson(grant): StrictJson<Value>,
) -> Result<Json<WrittenShown>, Problem> {
    let grant = line::grant(&grant).map_err(|detail| Problem::malformed(format!("{detail}.")))?;
    let written = app
        .node
        .change(vec![Change::Grant(Box::new(grant))], By::operator(operator, None), Wanted::default())
        .await?;
    Ok(shown(&app, written))
}

/// Longest note, in bytes.
const MAX_NOTE: usize = 4 << 10;

/// Why something is done.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct NoteQuery {
    /// The reason, kept with the change.
    note: Option<String>,
}

impl NoteQuery {
    fn by(self, operator: Operator) -> Result<By, Problem> {
        if self.note.as_ref().is_some_and(|note| note.len() > MAX_NOTE) {
            return Err(Problem::malformed(format!("A note has at most {MAX_NOTE} bytes.")));
        }
        Ok(By::operator(operator, self.note))
    }
}

/// Ends a grant.
#[utoipa::path(delete, path = "/api/v1/grants/{id}", tag = "register",
    params(("id" = String, Path, description = "The grant's id"), NoteQuery),
    responses(
        (status = 200, description = "It has ended", body = WrittenShown),
        Refused,
    ), security(("key" = [])))]
pub async fn end(
    State(app): State<App>,
    operator: Operator,
    Path(id): Path<String>,
    Params(query): Params<NoteQuery>,
) -> Result<Json<WrittenShown>, Problem> {
    let written = app.node.change(vec![Change::EndGrant(id)], query.by(operator)?, Wanted::default()).await?;
    Ok(shown(&app, written))
}

/// Which activations.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct ActivationQuery {
    /// Only those for this subject.
    subject: Option<String>,
}

/// Grants on standby that are active, or will be, soonest end first; at most 1000.
#[utoipa::path(get, path = "/api/v1/activations", tag = "register", params(ActivationQuery),
    responses(
        (status = 200, description = "Activations as register lines", body = Page),
        Refused,
    ), security(("key" = [])))]
pub async fn activations(
    State(app): State<App>,
    operator: Operator,
    Params(query): Params<ActivationQuery>,
) -> Result<Json<Page>, Problem> {
    let now = Timestamp::now();
    let state = app.node.state();
    let world = &live(&state)?.world;
    let register = world.register();
    let mut readable = Readable::new(&operator, world);
    let mut found: Vec<_> = register
        .all_activations()
        .filter(|activation| activation.until.is_none_or(|until| now < until))
        .filter(|of| query.subject.as_deref().is_none_or(|wanted| register.name(of.subject) == wanted))
        .filter(|activation| match register.grant(activation.grant).map(|grant| grant.at) {
            Some(PlaceOf::At(place)) => readable.has(place),
            _ => readable.everything,
        })
        .collect();
    found.sort_by_key(|activation| activation.until);
    let items = found.iter().take(MAX_PAGE).map(|activation| register.activation_json(activation)).collect();
    Ok(Json(Page { items, next: None }))
}

/// Activates a grant on standby: an operator, or an application for one of its sessions.
///
/// An application's key names the session, and only roles that subjects may activate themselves
/// (`self = true`), and that give something of its own types.
#[utoipa::path(post, path = "/api/v1/activations", tag = "register", request_body = Object,
    responses(
        (status = 200, description = "It counts", body = WrittenShown),
        Refused,
    ), security(("key" = [])))]
pub async fn activate(
    State(app): State<App>,
    Caller(key): Caller,
    StrictJson(activation): StrictJson<Value>,
) -> Result<Json<WrittenShown>, Problem> {
    let change = line::from_json(&json!({ "activation": activation }))
        .map_err(|detail| Problem::malformed(format!("{detail}.")))?;
    let Change::Activate(asked) = &change else { return Err(Problem::malformed("This is no activation.")) };
    let by = match &key.making.kind {
        KeyKind::Operator => By::operator(Operator { rights: Rights::of(&key), key }, None),
        KeyKind::Application(application) => {
            let state = app.node.state();
            let world = &live(&state)?.world;
            if asked.session.is_none() || !may_activate(world, application, &asked.grant) {
                return Err(Problem::forbidden(
                    "An application activates, for a session, only grants whose role says self = true and gives something of its own types.",
                ));
            }
            By::host(&key.id)
        }
    };
    let written = app.node.change(vec![change], by, Wanted::default()).await?;
    Ok(shown(&app, written))
}

fn may_activate(world: &World, application: &str, grant: &str) -> bool {
    let policy = world.policy();
    let model = policy.model();
    let register = world.register();
    let role = register.grant_by_id(grant).and_then(|grant| policy.role(register.text(grant.role)));
    role.is_some_and(|role| {
        let own = model.kinds.iter().filter(|kind| {
            kind.application.is_some_and(|owner| model.applications[owner].key == application)
        });
        let mut permissions = own.flat_map(|kind| kind.permissions.clone()).map(|at| PermId::at(at as usize));
        model.roles[role.index()].standby.as_ref().is_some_and(|standby| standby.by_self)
            && permissions.any(|permission| policy.may_give(role, permission))
    })
}

/// Ends an activation.
#[utoipa::path(delete, path = "/api/v1/activations/{id}", tag = "register",
    params(("id" = String, Path, description = "The activation's id"), NoteQuery),
    responses(
        (status = 200, description = "It has ended", body = WrittenShown),
        Refused,
    ), security(("key" = [])))]
pub async fn deactivate(
    State(app): State<App>,
    operator: Operator,
    Path(id): Path<String>,
    Params(query): Params<NoteQuery>,
) -> Result<Json<WrittenShown>, Problem> {
    let change = Change::EndActivation(id);
    let written = app.node.change(vec![change], query.by(operator)?, Wanted::default()).await?;
    Ok(shown(&app, written))
}

/// Whose roles.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct TenantQuery {
    /// Only those of this tenant, by its id.
    tenant: Option<String>,
}

/// The roles that tenants made.
#[utoipa::path(get, path = "/api/v1/tenant-roles", tag = "register", params(TenantQuery),
    responses(
        (status = 200, description = "Roles as register lines", body = Page),
        Refused,
    ), security(("key" = [])))]
pub async fn tenant_roles(
    State(app): State<App>,
    operator: Operator,
    Params(query): Params<TenantQuery>,
) -> Result<Json<Page>, Problem> {
    let state = app.node.state();
    let world = &live(&state)?.world;
    let register = world.register();
    let mut readable = Readable::new(&operator, world);
    let wanted = |role: &MadeRole| {
        query.tenant.as_deref().is_none_or(|tenant| register.id_text(role.tenant) == tenant)
    };
    let found = register.made_roles().filter(|(_, role)| wanted(role) && readable.has(role.tenant));
    Ok(Json(Page { items: found.map(|(key, role)| register.made_json(key, role)).collect(), next: None }))
}

/// Makes a tenant's own role, or makes it anew.
#[utoipa::path(put, path = "/api/v1/tenant-roles", tag = "register", request_body = Object,
    responses(
        (status = 200, description = "It is so", body = WrittenShown),
        Refused,
    ), security(("key" = [])))]
pub async fn put_tenant_role(
    State(app): State<App>,
    operator: Operator,
    StrictJson(role): StrictJson<Value>,
) -> Result<Json<WrittenShown>, Problem> {
    let change = line::from_json(&json!({ "tenant-role": role }))
        .map_err(|detail| Problem::malformed(format!("{detail}.")))?;
    let written = app.node.change(vec![change], By::operator(operator, None), Wanted::default()).await?;
    Ok(shown(&app, written))
}

/// Ends a tenant's own role, and the grants of it.
#[utoipa::path(delete, path = "/api/v1/tenant-roles/{tenant}/{key}", tag = "register",
    params(("tenant" = String, Path, description = "The tenant's id"), ("key" = String, Path, description = "The role's key"), NoteQuery),
    responses(
        (status = 200, description = "It has ended", body = WrittenShown),
        Refused,
    ), security(("key" = [])))]
pub async fn end_tenant_role(
    State(app): State<App>,
    operator: Operator,
    Path((tenant, key)): Path<(String, String)>,
    Params(query): Params<NoteQuery>,
) -> Result<Json<WrittenShown>, Problem> {
    let change = Change::EndTenantRole(format!("{tenant}/{key}"));
    let written = app.node.change(vec![change], query.by(operator)?, Wanted::default()).await?;
    Ok(shown(&app, written))
}
