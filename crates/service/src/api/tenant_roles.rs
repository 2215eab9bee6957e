//! Roles that tenants made.

use super::grants::NoteQuery;
use super::register::{Page, Readable, WrittenShown, live, shown};
use crate::App;
use crate::body::{Params, StrictJson};
use crate::caller::Operator;
use crate::node::{By, Wanted};
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::{Path, State};
use ostrog_core::prelude::{Change, line};
use ostrog_core::register::MadeRole;
use serde::Deserialize;
use serde_json::{Value, json};
use utoipa::IntoParams;

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
