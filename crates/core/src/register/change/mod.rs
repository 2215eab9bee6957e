//! Applying changes: a batch is checked and applied whole, or refused whole with every reason.

mod entities;
mod fits;
mod grants;
mod owners;
mod retract;
mod shape;

use fits::{
    declared_attribute, declared_permissions, declared_relation, declared_role, fits_attribute, fits_role,
    for_tenants,
};

pub(super) use fits::{entity_fits, fits_tenant_clauses, grant_fits};
pub use owners::{Ignored, Owners};

use super::fact::Retraction;
use super::line::{ActivationLine, Change, EntityLine, GrantLine, TenantRoleLine};
use super::sight::Sight;
use super::wrong::Wrong;
use super::{
    Activation, EntityId, Grant, GrantId, MAX_CONTAINMENT, MAX_NESTING, MadeRole, NextIds, OwnGrant, PlaceOf,
    Record, Register, State, Sym, Terms,
};
use crate::charter::model::{Attribute, KindId, PermId, Relation, Role, Stated};
use crate::charter::policy::Policy;
use crate::names::{Near, is_id, is_key, made_role_name, split_entity};
use jiff::Timestamp;
use std::collections::{HashMap, HashSet};

/// Most values of one attribute, or targets of one relation, that are kept.
const MAX_LIST: usize = 10_000;
/// Most members of a group, or tenants of a subject.
const MAX_MEMBERS: usize = 100 * MAX_LIST;

/// Why one change of a batch cannot be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Refusal {
    /// Which change, from 0.
    pub change: usize,
    /// What is wrong.
    pub why: Wrong,
}

/// What changes are held against.
#[derive(Clone, Copy, Debug)]
pub struct Checks<'a> {
    /// The charters that are live; without one, only what every register keeps to is checked.
    pub policies: &'a [&'a Policy],
    /// Which of them must declare what is said of a type, and which may ignore it.
    pub owners: &'a Owners,
    /// The moment: grants that have ended by then separate nobody from anything.
    pub now: Option<Timestamp>,
    /// Whose facts they may name.
    pub sight: &'a Sight,
}

impl<'a> Checks<'a> {
    /// Changes of somebody who sees everything, at no moment.
    pub fn of(policies: &'a [&'a Policy]) -> Self {
        Checks { policies, owners: Owners::of_one(), now: None, sight: &Sight::Everything }
    }
}

/// What a change touched.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Thing {
    /// An entity: more or something else is said of it now, or it is gone.
    Entity(EntityId),
    /// A grant, by its id.
    Grant(Box<str>),
    /// An activation, by its id.
    Activation(Box<str>),
    /// A tenant's own role.
    Made(Sym),
}

/// That a change touched something.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Touch {
    /// What.
    pub thing: Thing,
    /// Which change, from 0.
    pub change: usize,
    /// It is no more than a consequence: what named something that was deleted, say.
    pub aside: bool,
}

/// An applied batch: what it touched, and how to take it back.
#[derive(Debug)]
pub struct Applied {
    /// In order; empty if everything was so already.
    pub touched: Vec<Touch>,
    /// What charters that are live ignore of it.
    pub ignored: Vec<Ignored>,
    undo: Vec<Undo>,
    /// The numbers that were next before it.
    next: NextIds,
}

#[derive(Debug)]
enum Undo {
    Created(EntityId, Option<EntityId>),
    Record(EntityId, Record),
    Granted(u32),
    Ended(u32, OwnGrant),
    Activated(u32),
    Deactivated(Activation),
    Made(Sym, Option<MadeRole>),
}

impl Register {
    /// Applies changes in order: all of them, or none and every reason why not.
    ///
    /// Names may be used before the line that registers them, within one batch. Costs time in the size
    /// of the changes and of what they touch, not of the register.
    ///
    /// # Errors
    /// One refusal for every change that cannot be; the register is as before.
    pub fn apply(&mut self, changes: &[Change], checks: Checks<'_>) -> Result<Applied, Vec<Refusal>> {
        let next = self.next;
        let mut batch = Batch {
            register: self,
            checks,
            parted: Vec::new(),
            left: Vec::new(),
            touched: Vec::new(),
            ignored: Vec::new(),
            undo: Vec::new(),
            noted: HashMap::new(),
            awaited: HashSet::new(),
            later: HashMap::new(),
            aside: false,
            at: 0,
            moved: Vec::new(),
        };
        let mut refusals = batch.announce_all(changes);
        if refusals.is_empty() {
            for (at, change) in changes.iter().enumerate() {
                batch.at = at;
                if let Err(why) = batch.one(change) {
                    refusals.push(Refusal { change: at, why });
                }
            }
        }
        if refusals.is_empty() {
            batch.settle();
            refusals.extend(batch.shape());
        }
        let Batch { touched, ignored, undo, .. } = batch;
        let applied = Applied { touched, ignored, undo, next };
        if refusals.is_empty() {
            return Ok(applied);
        }
        self.undo(applied);
        Err(refusals)
    }

    /// Takes a batch back. Only the last one applied can be.
    pub fn undo(&mut self, applied: Applied) {
        self.next = applied.next;
        for step in applied.undo.into_iter().rev() {
            match step {
                Undo::Created(id, before) => self.uncreate(id, before),
                Undo::Record(id, record) => {
                    self.set_record(id, &record);
                }
                Undo::Granted(at) => {
                    self.take_grant(at);
                    self.grants.truncate(at);
                }
                Undo::Ended(at, grant) => self.put_grant(at, grant),
                Undo::Activated(at) => {
                    self.active.take(at);
                }
                Undo::Deactivated(activation) => {
                    self.active.add(activation);
                }
                Undo::Made(key, before) => {
                    self.set_made(key, before);
                }
            }
        }
    }
}

struct Batch<'r, 'p> {
    register: &'r mut Register,
    checks: Checks<'p>,
    touched: Vec<Touch>,
    ignored: Vec<Ignored>,
    undo: Vec<Undo>,
    /// Entities that were touched, and whether as more than a consequence.
    noted: HashMap<EntityId, bool>,
    /// Entities that lines further down will speak of: nothing is said of them yet.
    awaited: HashSet<EntityId>,
    /// The last line that speaks of a name.
    later: HashMap<String, usize>,
    /// What happens now is no more than a consequence.
    aside: bool,
    /// The change under way.
    at: usize,
    /// Entities whose containment or membership changed, and by which change.
    moved: Vec<(EntityId, usize)>,
    /// Holders who may hold more now than before, and by which change.
    parted: Vec<(EntityId, usize)>,
    /// Who is a member of some group no longer, and by which change.
    left: Vec<(EntityId, usize)>,
}

impl Batch<'_, '_> {
    /// Makes the entities and roles that lines are about, so that other lines may name them before
    /// they are described.
    fn announce_all(&mut self, changes: &[Change]) -> Vec<Refusal> {
        let mut refusals = Vec::new();
        for (at, change) in changes.iter().enumerate() {
            self.at = at;
            if let Change::Entity(line) = change {
                match self.announce(&line.name, line.merge) {
                    Ok(()) => {
                        self.later.insert(line.name.clone(), at);
                    }
                    Err(why) => refusals.push(Refusal { change: at, why }),
                }
            }
        }
        // What is wrong with a tenant's role is told where it stands.
        for (at, change) in changes.iter().enumerate() {
            if let (Change::TenantRole(line), true) = (change, refusals.is_empty()) {
                self.at = at;
                let _ = self.tenant_role(line);
            }
        }
        refusals
    }

    /// Makes an entity that a line speaks of.
    fn announce(&mut self, name: &str, merge: bool) -> Result<(), Wrong> {
        let (kind, _) = split_entity(name)?;
        if crate::names::is_nobody(kind) {
            return Err(Wrong::Nobody { kind: kind.into() });
        }
        self.declared(kind, |policy| {
            policy.kind(kind).ok_or_else(|| {
                let known = policy.model().kinds.iter().map(|kind| kind.key.as_str());
                Wrong::UnknownType { kind: kind.into(), near: Near::of(kind, known) }
            })
        })?;
        match self.register.registered(name) {
            // Where not everything is seen, what is not there and what is not seen are one: a fact is added
            // to neither.
            Some(id) if merge && !self.sees(id) => return Err(Wrong::NotRegistered(name.into())),
            None if merge && !self.checks.sight.is_everything() => {
                return Err(Wrong::NotRegistered(name.into()));
            }
            None => self.create(name, kind),
            Some(id) if !self.sees(id) => return Err(Wrong::Taken(name.into())),
            Some(_) => {}
        }
        Ok(())
    }

    fn create(&mut self, name: &str, kind: &str) {
        let before = self.register.find(name);
        let kind = self.register.intern(kind);
        let id = self.register.create(name, kind);
        self.awaited.insert(id);
        self.undo.push(Undo::Created(id, before));
        self.note(id);
    }

    fn one(&mut self, change: &Change) -> Result<(), Wrong> {
        match change {
            Change::Entity(line) => self.entity(line),
            Change::Delete { name, contents } => self.delete(name, *contents),
            Change::Grant(line) => self.grant(line),
            Change::EndGrant(id) => self.end_grant(id),
            Change::Activate(line) => self.activate(line),
            Change::EndActivation(id) => self.end_activation(id),
            Change::TenantRole(line) => self.tenant_role(line),
            Change::EndTenantRole(key) => self.end_tenant_role(key),
            Change::Retract(retraction) => self.retract(retraction),
        }
    }

    /// Whether an entity may be named here.
    fn sees(&self, id: EntityId) -> bool {
        self.checks.sight.names(self.register, id)
    }

    fn touch(&mut self, thing: Thing) {
        self.touched.push(Touch { thing, change: self.at, aside: self.aside });
    }

    /// Notes that an entity is touched: once, however often, unless it is more than a consequence now.
    fn note(&mut self, id: EntityId) {
        let meant = !self.aside;
        if self.noted.insert(id, meant).is_none_or(|before| meant && !before) {
            self.touch(Thing::Entity(id));
        }
    }

    /// Does something as a consequence of something else.
    fn aside<T>(&mut self, work: impl FnOnce(&mut Self) -> T) -> T {
        let before = std::mem::replace(&mut self.aside, true);
        let done = work(self);
        self.aside = before;
        done
    }
}
