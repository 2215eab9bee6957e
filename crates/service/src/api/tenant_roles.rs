//! Roles that tenants made.

use super::grants::note;
use super::register::{ended, written};
use super::told;
use crate::App;
use crate::body::{InPath, Params, StrictJson};
use crate::node::gate::Operator;
use crate::node::write::Conditions;
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::State;
use axum::response::Response;
use ostrog_core::names::made_role_name;
use ostrog_core::prelude::{Change, line};
use ostrog_wire::register::{NoteQuery, Page, TenantQuery, TenantRole, TenantRoleLine, Written};
use serde_json::json;

/// The roles that tenants made.
#[utoipa::path(get, path = "/api/v1/tenant-roles", tag = "register", params(TenantQuery),
    responses(
        (status = 200, description = "Roles as register lines", body = Page<TenantRoleLine>),
        Refused,
    ), security(("key" = [])))]
pub async fn tenant_roles(
    State(app): State<App>,
    operator: Operator,
    Params(query): Params<TenantQuery>,
) -> Result<Response, Problem> {
    told(&app, operator, move |operator, _| {
        let facts = operator.facts()?;
        let wanted = query.tenant.map(|tenant| format!("tenant:{tenant}"));
        let all = facts.made_roles();
        let found =
            all.filter(|(_, role)| wanted.as_deref().is_none_or(|wanted| facts.name(role.tenant) == wanted));
        let items = found.map(|(key, role)| facts.made_line(key, role)).collect();
        Ok(Page::<TenantRoleLine> { items, next: None })
    })
    .await
}

/// Makes a tenant's own role, or makes it anew.
#[utoipa::path(put, path = "/api/v1/tenant-roles", tag = "register", request_body = TenantRole,
    responses(
        (status = 200, description = "It is so", body = Written),
        Refused,
    ), security(("key" = [])))]
pub async fn put_tenant_role(
    operator: Operator,
    StrictJson(role, _held): StrictJson<TenantRole>,
) -> Result<Json<Written>, Problem> {
    let change = line::from_json(&json!({ "tenant-role": role }));
    let change = change.map_err(|wrong| Problem::malformed(format!("{wrong}.")))?;
    written(operator.change(vec![change], None, Conditions::default()).await)
}

/// Ends a tenant's own role, and the grants of it.
#[utoipa::path(delete, path = "/api/v1/tenant-roles/{tenant}/{key}", tag = "register",
    params(("tenant" = String, Path, description = "The tenant's id"), ("key" = String, Path, description = "The role's key"), NoteQuery),
    responses(
        (status = 200, description = "It has ended", body = Written),
        Refused,
    ), security(("key" = [])))]
pub async fn end_tenant_role(
    operator: Operator,
    InPath((tenant, key)): InPath<(String, String)>,
    Params(query): Params<NoteQuery>,
) -> Result<Json<Written>, Problem> {
    let note = note(query)?;
    let change = Change::EndTenantRole(made_role_name(&tenant, &key));
    ended(operator.change(vec![change], note, Conditions::default()).await)
}
