//! Whose facts a batch touches: what an operator needs to make it.

use ostrog_core::decide::Tenant;
use ostrog_core::prelude::{Change, World};
use ostrog_core::register::change::{Applied, Effect};
use ostrog_core::register::fact::Retraction;
use ostrog_core::register::{EntityId, Grant, PlaceOf, State};
use std::collections::{BTreeSet, HashMap};

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

/// What a batch asks to write, by its words alone: needed before anything is said about it, so that
/// neither a refusal nor a silence tells of what is not theirs.
pub fn asked(world: &World, changes: &[Change]) -> BTreeSet<Touched> {
    let lines = changes.iter().filter_map(|change| match change {
        Change::Entity(line) => Some((line.name.as_str(), &**line)),
        _ => None,
    });
    let asked = Asked { world, lines: lines.collect() };
    changes.iter().flat_map(|change| asked.by(change)).collect()
}

struct Asked<'w> {
    world: &'w World,
    lines: HashMap<&'w str, &'w ostrog_core::register::line::EntityLine>,
}

impl Asked<'_> {
    fn by(&self, change: &Change) -> Vec<Touched> {
        const ENTITIES: &str = "register:entities";
        match change {
            Change::Entity(line) => self.of_entity(&line.name).into_iter().map(|at| (ENTITIES, at)).collect(),
            Change::Delete { name, .. } => vec![(ENTITIES, self.tenant(name))],
            Change::Grant(line) => vec![("register:grants", self.tenant(&line.at))],
            Change::EndGrant(id) => vec![("register:grants", self.of_grant(id))],
            Change::Activate(line) => vec![("register:activate", self.of_grant(&line.grant))],
            Change::EndActivation(id) => {
                let register = self.world.register();
                let grant = register.activation_by_id(id).and_then(|of| register.grant(of.grant));
                vec![("register:activate", grant.and_then(|grant| self.at(grant)))]
            }
            Change::TenantRole(line) => {
                let tenant = line.tenant.strip_prefix("tenant:").unwrap_or(&line.tenant);
                vec![("register:roles", Some(format!("tenant:{tenant}")))]
            }
            Change::EndTenantRole(key) => {
                let tenant = key.split('/').next().unwrap_or_default();
                vec![("register:roles", Some(format!("tenant:{tenant}")))]
            }
            Change::Retract(retraction) => match retraction {
                Retraction::Attribute { entity, .. }
                | Retraction::Related { entity, .. }
                | Retraction::Detached(entity)
                | Retraction::Suspended(entity) => vec![(ENTITIES, self.tenant(entity))],
                Retraction::Member { entity, of } if of.starts_with("tenant:") => {
                    vec![(ENTITIES, self.tenant(entity))]
                }
                Retraction::Member { of, .. } => vec![(ENTITIES, self.tenant(of))],
                Retraction::Grant(line) => vec![("register:grants", self.tenant(&line.at))],
                Retraction::Activation(line) => vec![("register:activate", self.of_grant(&line.grant))],
            },
        }
    }

    /// Where an entity lies, and where a line would put it.
    fn of_entity(&self, name: &str) -> BTreeSet<Option<String>> {
        let mut all = BTreeSet::new();
        if self.world.register().registered(name).is_some() {
            all.insert(self.tenant(name));
        }
        if let Some(line) = self.lines.get(name) {
            let outer = line.within.iter().flatten().map(String::clone);
            let tenant = line.tenant.iter().flatten().map(|tenant| full_tenant(tenant));
            all.extend(outer.chain(tenant).map(|outer| self.tenant(&outer)));
        }
        if all.is_empty() {
            all.insert(None);
        }
        all
    }

    /// The tenant of something registered, or of something that a line of this batch registers.
    fn tenant(&self, name: &str) -> Option<String> {
        let mut name = name.to_owned();
        for _ in 0..=ostrog_core::register::MAX_CONTAINMENT {
            if let Some(id) = self.world.register().registered(&name) {
                return tenant_of(self.world, id);
            }
            if name.starts_with("tenant:") {
                return Some(name);
            }
            let line = self.lines.get(name.as_str())?;
            let tenant = line.tenant.iter().flatten().map(|tenant| full_tenant(tenant)).next();
            name = line.within.iter().flatten().next().cloned().or(tenant)?;
        }
        None
    }

    fn of_grant(&self, id: &str) -> Option<String> {
        self.world.register().grant_by_id(id).and_then(|grant| self.at(grant))
    }

    fn at(&self, grant: Grant<'_>) -> Option<String> {
        match grant.at {
            PlaceOf::Everywhere => None,
            PlaceOf::At(place) => tenant_of(self.world, place),
        }
    }
}

fn full_tenant(tenant: &str) -> String {
    if tenant.starts_with("tenant:") { tenant.to_owned() } else { format!("tenant:{tenant}") }
}
