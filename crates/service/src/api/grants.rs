//! Grants, and activations of those on standby.

use super::register::{MAX_PAGE, Page, Readable, WrittenShown, live, shown};
use crate::App;
use crate::body::{Params, StrictJson};
use crate::caller::{Caller, Operator};
use crate::node::{By, Wanted};
use crate::operators::Rights;
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::{Path, State};
use jiff::Timestamp;
use ostrog_core::charter::model::PermId;
use ostrog_core::decide::standby::may_begin;
use ostrog_core::prelude::{Change, World, line};
use ostrog_core::register::{Grant, GrantId, PlaceOf};
use ostrog_store::key::KeyKind;
use serde::Deserialize;
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;
use utoipa::IntoParams;

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
    pub fn by(self, operator: Operator) -> Result<By, Problem> {
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

/// Activates a grant on standby: an operator, or an application for one of its sessions. The
/// `context` beside the activation's members is what its role's condition is asked with.
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
    StrictJson(mut activation): StrictJson<Value>,
) -> Result<Json<WrittenShown>, Problem> {
    let context = activation.as_object_mut().and_then(|line| line.shift_remove("context"));
    let change = line::from_json(&json!({ "activation": activation }))
        .map_err(|detail| Problem::malformed(format!("{detail}.")))?;
    let context = match context {
        None => Map::new(),
        Some(Value::Object(context)) => context,
        Some(_) => return Err(Problem::malformed("context is an object.")),
    };
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
    let (grant, subject, now) = (asked.grant.clone(), asked.subject.clone(), Timestamp::now());
    let besides = Box::new(move |world: &World| {
        let may = may_begin(world.engine(), &grant, &subject, &context, now);
        may.map_err(|why| Problem::invalid(format!("{why}.")))
    });
    let written =
        app.node.change(vec![change], by, Wanted { besides: Some(besides), ..Wanted::default() }).await?;
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
