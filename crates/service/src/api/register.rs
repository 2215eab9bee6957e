//! The register as a whole: loads and facts, and what its other calls share.

use super::questions::changes as fact_changes;
use crate::App;
use crate::body::{Params, StrictJson, Text};
use crate::caller::Operator;
use crate::node::{By, Live, Wanted, Written, tenant_of};
use crate::problem::{Problem, ProblemPart, Refused};
use axum::Json;
use axum::extract::State;
use ostrog_core::prelude::{World, line};
use ostrog_core::register::EntityId;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::HashMap;
use utoipa::{IntoParams, ToSchema};

/// Most lines of one load.
pub const MAX_LINES: usize = 10_000;
/// Most rows of one page.
pub const MAX_PAGE: usize = 1_000;

/// A page of register lines.
#[derive(Debug, Serialize, ToSchema)]
pub struct Page {
    /// The lines.
    #[schema(value_type = Vec<Object>)]
    pub items: Vec<Value>,
    /// Where the next page begins, if there is one.
    pub next: Option<String>,
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

/// What a write came to.
#[derive(Debug, Serialize, ToSchema)]
pub struct WrittenShown {
    /// The position it ends at: an answer at this position includes it.
    position: String,
    /// What changed, as register lines; empty if it was so already.
    #[schema(value_type = Vec<Object>)]
    changed: Vec<Value>,
}

pub fn shown(app: &App, written: Written) -> Json<WrittenShown> {
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
        Wanted { check_only: self.check, at, ..Wanted::default() }
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
