//! One thing and what stands around it: what it lies within, what lies in it, who stands in a
//! relation to it, and what that confers.

use super::register::{Readable, live};
use crate::App;
use crate::caller::Operator;
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::{Path, State};
use ostrog_core::charter::policy::Policy;
use ostrog_core::prelude::Register;
use ostrog_core::register::EntityId;
use serde::Serialize;
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// Most names of one list.
const MAX_NAMES: usize = 100;

/// A thing in its surroundings.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Around {
    /// The thing.
    name: String,
    /// Whether roles that arrive around it stop at it.
    detached: bool,
    /// What it lies within, from the inner to the outer.
    outer: Vec<Outer>,
    /// What else lies directly where it lies.
    siblings: usize,
    /// What lies directly in it, by type.
    contents: Vec<Counted>,
    /// The first of it, by name.
    inside: Vec<Outer>,
    /// Its relations.
    relations: Vec<Related>,
    /// What names it by relation.
    named_by: Vec<Counted>,
    /// The first of those, with the relation.
    namers: Vec<Namer>,
    /// How many grants were given at it.
    grants: usize,
}

/// A frame of the picture.
#[derive(Debug, Serialize, ToSchema)]
pub struct Outer {
    /// What it is called.
    name: String,
    /// Whether roles from around it stop at it.
    detached: bool,
}

/// So many of a kind.
#[derive(Debug, Serialize, ToSchema)]
pub struct Counted {
    /// A type, or a relation.
    key: String,
    /// How many.
    count: usize,
}

/// Who stands in a relation.
#[derive(Debug, Serialize, ToSchema)]
pub struct Related {
    /// The relation.
    relation: String,
    /// Who or what, the first hundred.
    to: Vec<String>,
    /// How many there are.
    count: usize,
    /// The roles that it confers on them.
    confers: Vec<String>,
}

/// Who names it.
#[derive(Debug, Serialize, ToSchema)]
pub struct Namer {
    /// Who.
    name: String,
    /// By which relation.
    relation: String,
}

fn relations(policy: &Policy, register: &Register, id: EntityId) -> Vec<Related> {
    let kind = policy.kind(register.text(register.kind(id)));
    let confers = |relation: &str| {
        let all = kind.into_iter().flat_map(|kind| policy.confers_of(kind));
        let along = all.filter(|(_, confer)| confer.holds.is_none() && confer.path_text == relation);
        along.map(|(_, confer)| policy.model().roles[confer.role.index()].key.clone()).collect()
    };
    let named = |to: &[EntityId]| to.iter().take(MAX_NAMES).map(|id| register.name(*id).to_owned()).collect();
    let all = register.relations(id).map(|(name, to)| {
        let relation = register.text(name).to_owned();
        Related { to: named(to), count: to.len(), confers: confers(&relation), relation }
    });
    all.collect()
}

/// One thing and what stands around it.
#[utoipa::path(get, path = "/api/v1/entities/{name}/around", tag = "register",
    params(("name" = String, Path, description = "type:id")),
    responses(
        (status = 200, description = "Its surroundings; long lists as counts and their first names", body = Around),
        Refused,
    ), security(("key" = [])))]
pub async fn around(
    State(app): State<App>,
    operator: Operator,
    Path(name): Path<String>,
) -> Result<Json<Around>, Problem> {
    let state = app.node.state();
    let world = &live(&state)?.world;
    let register = world.register();
    let mut readable = Readable::new(&operator, world);
    let found = register.registered(&name).filter(|id| readable.has(*id));
    let id = found.ok_or_else(|| Problem::not_found(format!("{name} is not registered.")))?;
    let frame =
        |id: EntityId| Outer { name: register.name(id).to_owned(), detached: register.is_detached(id) };
    let outer = std::iter::successors(register.within(id), |outer| register.within(*outer)).map(frame);
    let mut contents = BTreeMap::<&str, usize>::new();
    for inner in register.contents(id) {
        *contents.entry(register.text(register.kind(*inner))).or_default() += 1;
    }
    let mut named_by = BTreeMap::<&str, usize>::new();
    let mut namers = Vec::new();
    for namer in register.named_by(id).iter().filter(|namer| readable.has(**namer)) {
        for (relation, _) in register.relations(*namer).filter(|(_, to)| to.contains(&id)) {
            let relation = register.text(relation);
            *named_by.entry(relation).or_default() += 1;
            if namers.len() < MAX_NAMES {
                namers.push(Namer { name: register.name(*namer).to_owned(), relation: relation.to_owned() });
            }
        }
    }
    let counted = |all: BTreeMap<&str, usize>| {
        all.into_iter().map(|(key, count)| Counted { key: key.to_owned(), count }).collect()
    };
    let mut inside: Vec<EntityId> = register.contents(id).iter().take(MAX_NAMES).copied().collect();
    inside.sort_by_key(|id| register.name(*id));
    Ok(Json(Around {
        name,
        detached: register.is_detached(id),
        outer: outer.collect(),
        siblings: register.within(id).map_or(0, |outer| register.contents(outer).len().saturating_sub(1)),
        contents: counted(contents),
        inside: inside.into_iter().map(frame).collect(),
        relations: relations(world.policy(), register, id),
        named_by: counted(named_by),
        namers,
        grants: register.grants_at(id).len(),
    }))
}
