//! Whose facts a batch touches: what an operator needs to make it, and what of it they may read.
//!
//! A batch is looked at twice. Its words say what it asks to write: needed before anything is said about
//! it, so that neither a refusal nor a silence tells of what is not theirs; what is out of sight counts
//! as not there. What it came to says what it touched, as things were and as they are.

use super::lacks;
use super::permission::Permission;
use crate::node::write::Done;
use crate::operators::Rights;
use crate::problem::Problem;
use ostrog_core::names::split_made_role;
use ostrog_core::prelude::{Change, Register, Sight};
use ostrog_core::register::change::Thing;
use ostrog_core::register::fact::Retraction;
use ostrog_core::register::journal::{Accepted, Entry};
use ostrog_core::register::line::EntityLine;
use ostrog_core::register::{EntityId, Grant, MAX_CONTAINMENT, PlaceOf, State};
use std::collections::{BTreeSet, HashMap};

/// A permission, and the tenant it is needed at; none: everywhere.
type Needed = (Permission, Option<String>);

/// Refuses changes that ask to write what their author may not.
///
/// # Errors
/// With what is missing.
pub fn may_ask(
    rights: &Rights,
    register: &Register,
    sight: &Sight,
    changes: &[Change],
) -> Result<(), Problem> {
    let lines = changes.iter().filter_map(|change| match change {
        Change::Entity(line) => Some((line.name.as_str(), &**line)),
        _ => None,
    });
    let asking = Asking { register, sight, lines: lines.collect() };
    let needed: BTreeSet<Needed> = changes.iter().flat_map(|change| asking.needs(change)).collect();
    all(rights, needed)
}

/// Refuses what came to touch what its author may not write.
///
/// # Errors
/// With what is missing.
pub fn may_touch(rights: &Rights, before: &Register, accepted: &Accepted) -> Result<(), Problem> {
    let mut needed: BTreeSet<Needed> = BTreeSet::new();
    for touch in accepted.touched.iter().filter(|touch| !touch.aside) {
        for register in [before, &accepted.register] {
            needed.extend(needed_for(register, &touch.thing));
        }
    }
    all(rights, needed)
}

fn all(rights: &Rights, needed: BTreeSet<Needed>) -> Result<(), Problem> {
    match needed.into_iter().find(|(permission, tenant)| !rights.may(*permission, tenant.as_deref())) {
        None => Ok(()),
        Some((permission, tenant)) => Err(lacks(permission, tenant.as_deref())),
    }
}

fn needed_for(register: &Register, thing: &Thing) -> Option<Needed> {
    match thing {
        Thing::Entity(id) => {
            let known = id.0 < register.entity_end() && register.state(*id) != State::Deleted;
            known.then(|| (Permission::RegisterEntities, tenant_of(register, *id)))
        }
        Thing::Grant(id) => {
            register.grant_by_id(id).map(|grant| (Permission::RegisterGrants, place_of(register, &grant)))
        }
        Thing::Activation(id) => {
            let grant = register.activation_by_id(id).and_then(|of| register.grant(of.grant));
            grant.map(|grant| (Permission::RegisterActivate, place_of(register, &grant)))
        }
        Thing::Made(key) => {
            let role = register.made_role(*key)?;
            Some((Permission::RegisterRoles, tenant_of(register, role.tenant)))
        }
    }
}

/// The name of the tenant that something lies in.
fn tenant_of(register: &Register, id: EntityId) -> Option<String> {
    register.tenant_of(id).map(|tenant| register.name(tenant).to_owned())
}

/// The name of the tenant that a grant was given in.
fn place_of(register: &Register, grant: &Grant<'_>) -> Option<String> {
    match grant.at {
        PlaceOf::Everywhere => None,
        PlaceOf::At(place) => tenant_of(register, place),
    }
}

struct Asking<'w> {
    register: &'w Register,
    sight: &'w Sight,
    lines: HashMap<&'w str, &'w EntityLine>,
}

impl Asking<'_> {
    fn needs(&self, change: &Change) -> Vec<Needed> {
        use Permission::{RegisterActivate, RegisterEntities, RegisterGrants, RegisterRoles};
        let one = |permission, tenant| vec![(permission, tenant)];
        match change {
            Change::Entity(line) => {
                self.of_entity(&line.name).into_iter().map(|at| (RegisterEntities, at)).collect()
            }
            Change::Delete { name, .. } => one(RegisterEntities, self.tenant(name)),
            Change::Grant(line) => one(RegisterGrants, self.tenant(&line.at)),
            Change::EndGrant(id) => one(RegisterGrants, self.of_grant(id)),
            Change::Activate(line) => one(RegisterActivate, self.of_grant(&line.grant)),
            Change::EndActivation(id) => {
                let grant = self.register.activation_by_id(id).and_then(|of| self.register.grant(of.grant));
                one(RegisterActivate, grant.and_then(|grant| self.at(&grant)))
            }
            Change::TenantRole(line) => one(RegisterRoles, self.tenant(&full_tenant(&line.tenant))),
            Change::EndTenantRole(name) => {
                let tenant = split_made_role(name).map(|(tenant, _)| full_tenant(tenant));
                one(RegisterRoles, tenant.and_then(|tenant| self.tenant(&tenant)))
            }
            Change::Retract(retraction) => match retraction {
                Retraction::Attribute { entity, .. }
                | Retraction::Related { entity, .. }
                | Retraction::Detached(entity)
                | Retraction::Suspended(entity) => one(RegisterEntities, self.tenant(entity)),
                Retraction::Member { entity, of } if of.starts_with("tenant:") => {
                    one(RegisterEntities, self.tenant(entity))
                }
                Retraction::Member { of, .. } => one(RegisterEntities, self.tenant(of)),
                Retraction::Grant(line) => one(RegisterGrants, self.tenant(&line.at)),
                Retraction::Activation(line) => one(RegisterActivate, self.of_grant(&line.grant)),
            },
        }
    }

    /// Something registered, if it may be named.
    fn named(&self, name: &str) -> Option<EntityId> {
        self.register.registered(name).filter(|id| self.sight.names(self.register, *id))
    }

    /// Where an entity lies, and where a line would put it.
    fn of_entity(&self, name: &str) -> BTreeSet<Option<String>> {
        let mut all = BTreeSet::new();
        if self.named(name).is_some() {
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
        for _ in 0..=MAX_CONTAINMENT {
            if let Some(id) = self.named(&name) {
                return tenant_of(self.register, id);
            }
            let line = self.lines.get(name.as_str())?;
            if name.starts_with("tenant:") {
                return Some(name);
            }
            let tenant = line.tenant.iter().flatten().map(|tenant| full_tenant(tenant)).next();
            name = line.within.iter().flatten().next().cloned().or(tenant)?;
        }
        None
    }

    fn of_grant(&self, id: &str) -> Option<String> {
        self.register.grant_by_id(id).and_then(|grant| self.at(&grant))
    }

    /// Where a grant was given, if it may be read.
    fn at(&self, grant: &Grant<'_>) -> Option<String> {
        if !self.sight.reads_grant(self.register, grant) {
            return None;
        }
        place_of(self.register, grant)
    }
}

fn full_tenant(tenant: &str) -> String {
    if tenant.starts_with("tenant:") { tenant.to_owned() } else { format!("tenant:{tenant}") }
}

// -- what came of it -----------------------------------------------------------------------------

/// What a write came to, as far as its author may read it: of what is gone, as it was before.
pub fn readable(done: &Done, sight: &Sight) -> Vec<Entry> {
    let entries = done.entries.iter().filter(|entry| !matches!(entry, Entry::Next(_) | Entry::Note(_)));
    if sight.is_everything() {
        return entries.cloned().collect();
    }
    let registers =
        [&done.before, &done.view].map(|view| view.live.as_ref().map(|live| live.world().register()));
    let reads = |name: &str| {
        let mut known = registers.iter().copied().flatten();
        known.any(|register| register.registered(name).is_some_and(|id| sight.reads(register, id)))
    };
    let reads_grant = |id: &str| {
        let mut known = registers.iter().copied().flatten();
        known
            .any(|register| register.grant_by_id(id).is_some_and(|grant| sight.reads_grant(register, &grant)))
    };
    entries
        .filter(|entry| match entry {
            Entry::Entity(line) => reads(&line.name),
            Entry::Deleted(name) => reads(name),
            Entry::Grant(line) => line.id.as_deref().is_some_and(reads_grant),
            Entry::GrantEnded { id, .. } => reads_grant(id),
            Entry::Activation(line) => reads_grant(&line.grant),
            Entry::ActivationEnded { was, .. } => was.as_ref().is_some_and(|was| reads_grant(&was.grant)),
            Entry::TenantRole(line) => reads(&line.tenant),
            Entry::TenantRoleEnded(name) => {
                split_made_role(name).is_some_and(|(tenant, _)| reads(&format!("tenant:{tenant}")))
            }
            Entry::Next(_) | Entry::Note(_) => false,
        })
        .cloned()
        .collect()
}
