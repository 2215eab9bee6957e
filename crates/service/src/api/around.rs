//! One thing and what stands around it: what it lies within, what lies in it, who stands in a
//! relation to it, and what that confers.

use super::entities::first;
use super::told;
use crate::App;
use crate::body::InPath;
use crate::node::gate::{Facts, Operator, Seen};
use crate::problem::{Problem, Refused};
use axum::extract::State;
use axum::response::Response;
use ostrog_wire::register::{Around, Counted, Namer, Outer, Related};
use std::collections::BTreeMap;

/// Most names of one list.
const MAX_NAMES: usize = 100;

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
    InPath(name): InPath<String>,
) -> Result<Response, Problem> {
    told(&app, operator, move |operator, _| {
        let facts = operator.facts()?;
        let seen = facts.find(&name);
        let seen = seen.ok_or_else(|| Problem::not_found(format!("{name} is not registered.")))?;
        Ok(surroundings(facts, seen))
    })
    .await
}

fn frame(seen: &Seen<'_>) -> Outer {
    Outer { name: seen.name().to_owned(), detached: seen.is_detached() }
}

fn counted(all: BTreeMap<&str, usize>) -> Vec<Counted> {
    all.into_iter().map(|(key, count)| Counted { key: key.to_owned(), count }).collect()
}

fn surroundings(facts: Facts<'_>, seen: Seen<'_>) -> Around {
    let mut contents = BTreeMap::<&str, usize>::new();
    for inner in seen.contents() {
        *contents.entry(inner.kind()).or_default() += 1;
    }
    let mut named_by = BTreeMap::<&str, usize>::new();
    let mut namers = Vec::new();
    for (namer, relation) in seen.namers() {
        *named_by.entry(relation).or_default() += 1;
        namers.push((namer.name(), relation));
    }
    first(&mut namers, MAX_NAMES);
    namers.sort_unstable();
    let mut inside: Vec<_> = seen.contents().map(|inner| (inner.name(), inner)).collect();
    first(&mut inside, MAX_NAMES);
    let nearest = seen.outer().next();
    Around {
        name: seen.name().to_owned(),
        detached: seen.is_detached(),
        outer: seen.outer().map(|outer| frame(&outer)).collect(),
        siblings: nearest.map_or(0, |outer| outer.contents().len().saturating_sub(1)),
        contents: counted(contents),
        inside: inside.iter().map(|(_, inner)| frame(inner)).collect(),
        relations: relations(facts, seen),
        named_by: counted(named_by),
        namers: namers
            .into_iter()
            .map(|(name, relation)| Namer { name: name.to_owned(), relation: relation.to_owned() })
            .collect(),
        grants: seen.grants_here(),
    }
}

fn relations(facts: Facts<'_>, seen: Seen<'_>) -> Vec<Related> {
    let policy = facts.policy();
    let kind = policy.kind(seen.kind());
    let confers = |relation: &str| {
        let all = kind.into_iter().flat_map(|kind| policy.confers_of(kind));
        let along = all.filter(|(_, confer)| confer.holds.is_none() && confer.path_text == relation);
        along.map(|(_, confer)| policy.model().roles[confer.role.index()].key.clone()).collect()
    };
    let related = |(relation, to): (&str, &[_])| Related {
        relation: relation.to_owned(),
        to: to.iter().take(MAX_NAMES).map(|id| facts.name(*id).to_owned()).collect(),
        count: to.len(),
        confers: confers(relation),
    };
    seen.relations().map(related).collect()
}
