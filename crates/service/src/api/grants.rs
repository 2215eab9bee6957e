//! Grants, and activations of those on standby.

use super::register::{MAX_PAGE, ended, written};
use super::told;
use crate::App;
use crate::body::{InPath, Params, StrictJson};
use crate::node::gate::{Operator, Scope};
use crate::node::write::Conditions;
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::State;
use axum::response::Response;
use jiff::Timestamp;
use ostrog_core::prelude::{Change, line};
use ostrog_core::register::GrantId;
use ostrog_wire::register::{
    ActivationLine, ActivationQuery, ActivationRequest, Grant, GrantLine, GrantQuery, NoteQuery, Page,
    Written,
};
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// Longest note, in bytes.
const MAX_NOTE: usize = 4 << 10;

/// Grants by id.
#[utoipa::path(get, path = "/api/v1/grants", tag = "register", params(GrantQuery),
    responses(
        (status = 200, description = "Grants as register lines, by id", body = Page<GrantLine>),
        Refused,
    ), security(("key" = [])))]
pub async fn grants(
    State(app): State<App>,
    operator: Operator,
    Params(query): Params<GrantQuery>,
) -> Result<Response, Problem> {
    told(&app, operator, move |operator, ticket| {
        let limit = query.limit.unwrap_or(100).clamp(1, MAX_PAGE);
        let facts = operator.facts()?;
        if let Some(id) = &query.id {
            let found = facts.grant(id).filter(|grant| {
                let is =
                    |wanted: &Option<String>, name: &str| wanted.as_deref().is_none_or(|one| one == name);
                is(&query.to, facts.name(grant.to)) && is(&query.role, facts.text(grant.role))
            });
            return Ok(Page {
                items: found.map(|grant| facts.grant_line(&grant)).into_iter().collect(),
                next: None,
            });
        }
        let after = Some(query.after.as_str()).filter(|after| !after.is_empty()).map(GrantId::new);
        // The first so many in order, without all of them in one list.
        let mut found = BTreeMap::new();
        for (at, grant) in facts.grants(query.to.as_deref(), query.at.as_deref()).enumerate() {
            if at % 1024 == 1023 && !(ticket.goes_on() && operator.counts()) {
                return Err(Problem::timeout("Looking through all grants takes too long; say more of them."));
            }
            let is_role = query.role.as_deref().is_none_or(|role| role == facts.text(grant.role));
            if is_role && after.is_none_or(|after| grant.id > after) {
                found.insert(grant.id, grant);
                if found.len() > limit + 1 {
                    found.pop_last();
                }
            }
        }
        let more = found.len() > limit;
        let next = more.then(|| found.keys().nth(limit - 1).map(ToString::to_string)).flatten();
        Ok(Page { items: found.values().take(limit).map(|grant| facts.grant_line(grant)).collect(), next })
    })
    .await
}

/// Gives a role. The same grant given again changes nothing.
#[utoipa::path(post, path = "/api/v1/grants", tag = "register", request_body = Grant,
    responses(
        (status = 200, description = "It is in force", body = Written),
        Refused,
    ), security(("key" = [])))]
pub async fn give_grant(
    operator: Operator,
    StrictJson(grant, _held): StrictJson<Value>,
) -> Result<Json<Written>, Problem> {
    let grant = line::grant(&grant).map_err(|wrong| Problem::malformed(format!("{wrong}.")))?;
    let change = Change::Grant(Box::new(grant));
    written(operator.change(vec![change], None, Conditions::default()).await)
}

/// The reason, if it is not too long.
///
/// # Errors
/// If it is.
pub fn note(query: NoteQuery) -> Result<Option<String>, Problem> {
    if query.note.as_ref().is_some_and(|note| note.len() > MAX_NOTE) {
        return Err(Problem::malformed(format!("A note has at most {MAX_NOTE} bytes.")));
    }
    Ok(query.note)
}

/// Ends a grant.
#[utoipa::path(delete, path = "/api/v1/grants/{id}", tag = "register",
    params(("id" = String, Path, description = "The grant's id"), NoteQuery),
    responses(
        (status = 200, description = "It has ended", body = Written),
        Refused,
    ), security(("key" = [])))]
pub async fn end_grant(
    operator: Operator,
    InPath(id): InPath<String>,
    Params(query): Params<NoteQuery>,
) -> Result<Json<Written>, Problem> {
    let note = note(query)?;
    ended(operator.change(vec![Change::EndGrant(id)], note, Conditions::default()).await)
}

/// Grants on standby that are active, or will be, soonest end first.
#[utoipa::path(get, path = "/api/v1/activations", tag = "register", params(ActivationQuery),
    responses(
        (status = 200, description = "Activations as register lines", body = Page<ActivationLine>),
        Refused,
    ), security(("key" = [])))]
pub async fn activations(
    State(app): State<App>,
    operator: Operator,
    Params(query): Params<ActivationQuery>,
) -> Result<Response, Problem> {
    told(&app, operator, move |operator, _| {
        let now = Timestamp::now();
        let facts = operator.facts()?;
        let mut found: Vec<_> = facts
            .activations()
            .filter(|activation| activation.until.is_none_or(|until| now < until))
            .filter(|of| query.subject.as_deref().is_none_or(|wanted| facts.name(of.subject) == wanted))
            .collect();
        found.sort_by(|a, b| (a.until, &a.id).cmp(&(b.until, &b.id)));
        let limit = query.limit.unwrap_or(MAX_PAGE).clamp(1, MAX_PAGE);
        let end = query.after.saturating_add(limit);
        let page = found.iter().skip(query.after).take(limit);
        let items = page.map(|activation| facts.activation_line(activation)).collect();
        Ok(Page::<ActivationLine> { items, next: (end < found.len()).then(|| end.to_string()) })
    })
    .await
}

/// Activates a grant on standby: an operator, or an application for one of its sessions. The
/// `context` beside the activation's members is what its role's condition is asked with.
///
/// An application's key names the session, and only roles that subjects may activate themselves
/// (`self = true`), and that give something of its own types.
#[utoipa::path(post, path = "/api/v1/activations", tag = "register", request_body = ActivationRequest,
    responses(
        (status = 200, description = "It counts", body = Written),
        Refused,
    ), security(("key" = [])))]
pub async fn activate(
    scope: Scope,
    StrictJson(asked, _held): StrictJson<ActivationRequest>,
) -> Result<Json<Written>, Problem> {
    scope.may_activate(&asked)?;
    let line = ostrog_wire::register::Activation {
        id: asked.id,
        grant: asked.grant.clone(),
        subject: asked.subject.clone(),
        session: asked.session,
        from: asked.from,
        until: asked.until,
        reason: asked.reason,
    };
    let change = line::from_json(&json!({ "activation": line }));
    let change = change.map_err(|wrong| Problem::malformed(format!("{wrong}.")))?;
    let besides = Some(scope.condition_to_begin(asked.grant, asked.subject, asked.context));
    written(scope.change(vec![change], None, Conditions { besides, ..Conditions::default() }).await)
}

/// Ends an activation.
#[utoipa::path(delete, path = "/api/v1/activations/{id}", tag = "register",
    params(("id" = String, Path, description = "The activation's id"), NoteQuery),
    responses(
        (status = 200, description = "It has ended", body = Written),
        Refused,
    ), security(("key" = [])))]
pub async fn deactivate(
    operator: Operator,
    InPath(id): InPath<String>,
    Params(query): Params<NoteQuery>,
) -> Result<Json<Written>, Problem> {
    let note = note(query)?;
    ended(operator.change(vec![Change::EndActivation(id)], note, Conditions::default()).await)
}
