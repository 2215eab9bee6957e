//! Whose facts a batch touches: what an operator needs to make it.

use ostrog_core::decide::Tenant;
use ostrog_core::prelude::World;
use ostrog_core::register::change::{Applied, Effect};
use ostrog_core::register::{EntityId, Grant, PlaceOf, State};
use std::collections::BTreeSet;

/// A permission, and the tenant it is needed at; none: everywhere.
pub type Touched = (&'static str, Option<String>);

/// What a batch named, by ids that can be looked up in the register from before it.
#[derive(Debug, Default)]
pub struct Ids {
    entities: Vec<EntityId>,
    grants: Vec<Box<str>>,
    activations: Vec<Box<str>>,
}

pub fn ids(applied: &Applied) -> Ids {
    let mut ids = Ids::default();
    for (_, effect) in &applied.effects {
        match effect {
            Effect::Entity(id) | Effect::Deleted(id) => ids.entities.push(*id),
            Effect::Granted(id) | Effect::Ended(id) => ids.grants.push(id.clone()),
            Effect::Activated(id) | Effect::Deactivated(id) => ids.activations.push(id.clone()),
            Effect::Made(_) | Effect::Unmade(_) => {}
        }
    }
    ids
}

/// What a batch touched, as things are after it.
pub fn touched(world: &World, applied: &Applied, all: &mut BTreeSet<Touched>) {
    touched_before(world, &ids(applied), all);
    for (_, effect) in &applied.effects {
        if let Effect::Made(key) | Effect::Unmade(key) = effect {
            let tenant = world.register().text(*key).split('/').next().unwrap_or_default();
            all.insert(("register:roles", Some(format!("tenant:{tenant}"))));
        }
    }
}

/// What a batch touches, as things are before it.
pub fn touched_before(world: &World, ids: &Ids, all: &mut BTreeSet<Touched>) {
    let register = world.register();
    let known = |id: EntityId| id.0 < register.entity_end() && register.state(id) != State::Deleted;
    for id in ids.entities.iter().filter(|id| known(**id)) {
        all.insert(("register:entities", tenant_of(world, *id)));
    }
    let of_grant = |grant: Grant<'_>| match grant.at {
        PlaceOf::Everywhere => None,
        PlaceOf::At(place) => tenant_of(world, place),
    };
    for grant in ids.grants.iter().filter_map(|id| register.grant_by_id(id)) {
        all.insert(("register:grants", of_grant(grant)));
    }
    let active = ids.activations.iter().filter_map(|id| register.activation_by_id(id));
    for grant in active.filter_map(|activation| register.grant(activation.grant)) {
        all.insert(("register:activate", of_grant(grant)));
    }
}

/// The tenant something lies in, by name; none if it lies in none, or is a tenant's frame itself.
pub fn tenant_of(world: &World, id: EntityId) -> Option<String> {
    match world.engine().tenant(id) {
        Tenant::Is(tenant) => Some(world.register().name(tenant).to_owned()),
        Tenant::None | Tenant::Unknown => None,
    }
}
