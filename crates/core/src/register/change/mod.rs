//! Applying changes: a batch is checked and applied whole, or refused whole with every reason.

mod entities;
mod fits;
mod grants;
mod retract;
mod shape;

use fits::{declared_attribute, declared_relation, fits_attribute, fits_role};

pub(super) use fits::{entity_fits, fits_tenant_clauses, grant_fits};

use super::fact::Retraction;
use super::line::{ActivationLine, Change, EntityLine, GrantLine, TenantRoleLine};
use super::{
    Activation, EntityId, Grant, GrantId, MAX_CONTAINMENT, MAX_NESTING, MadeRole, NextIds, OwnGrant, PlaceOf,
    Record, Register, State, Sym, Terms,
};
use crate::charter::model::{Attribute, KindId, Relation, Stated};
use crate::charter::policy::Policy;
use crate::names::{did_you_mean, is_key, split_entity};
use jiff::Timestamp;
use serde_json::{Value, json};
use std::collections::HashSet;

/// Most values of one attribute, or targets of one relation, that are kept.
const MAX_LIST: usize = 10_000;

/// Why one change of a batch cannot be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Refusal {
    /// Which change, from 0.
    pub change: usize,
    /// What is wrong, and what to do.
    pub message: String,
}

/// What a batch did.
#[derive(Clone, Debug, PartialEq)]
pub enum Effect {
    /// More or something else is said of an entity now.
    Entity(EntityId),
    /// An entity is gone.
    Deleted(EntityId),
    /// A grant was given.
    Granted(Box<str>),
    /// A grant was ended.
    Ended(Box<str>),
    /// A grant was activated.
    Activated(Box<str>),
    /// An activation was ended.
    Deactivated(Box<str>),
    /// A tenant made a role, or made it anew.
    Made(Sym),
    /// A tenant's role was ended.
    Unmade(Sym),
}

/// An applied batch: what it did, and how to take it back.
#[derive(Debug)]
pub struct Applied {
    /// In order, each with the change it came from, counted from 0; empty if everything was so
    /// already.
    pub effects: Vec<(usize, Effect)>,
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
    /// Names may be used before the line that registers them, within one batch. Everything is
    /// checked against each of `policies`; without one, only what every register keeps to is. Where
    /// `now` is known, grants that have ended by then separate nobody from anything. Costs time in the size of the changes and of what they touch, not of the register.
    ///
    /// # Errors
    /// One refusal for every change that cannot be; the register is as before.
    pub fn apply(
        &mut self,
        changes: &[Change],
        policies: &[&Policy],
        now: Option<Timestamp>,
    ) -> Result<Applied, Vec<Refusal>> {
        let next = self.next;
        let mut batch = Batch {
            register: self,
            policies,
            now,
            parted: Vec::new(),
            left: Vec::new(),
            effects: Vec::new(),
            undo: Vec::new(),
            noted: HashSet::new(),
            at: 0,
            moved: Vec::new(),
        };
        let mut refusals = Vec::new();
        for (at, change) in changes.iter().enumerate() {
            batch.at = at;
            if let Change::Entity(line) = change
                && let Err(message) = batch.announce(line)
            {
                refusals.push(Refusal { change: at, message });
            }
        }
        // Grants may name a tenant's role that is made further down; what is wrong with it is told there.
        for (at, change) in changes.iter().enumerate() {
            if let (Change::TenantRole(line), true) = (change, refusals.is_empty()) {
                batch.at = at;
                let _ = batch.tenant_role(line);
            }
        }
        if refusals.is_empty() {
            for (at, change) in changes.iter().enumerate() {
                batch.at = at;
                if let Err(message) = batch.one(change, at) {
                    refusals.push(Refusal { change: at, message });
                }
            }
        }
        if refusals.is_empty() {
            batch.settle();
            refusals.extend(batch.shape());
        }
        let applied = Applied { effects: batch.effects, undo: batch.undo, next };
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

    /// Lines that make this register anew: entities, tenants' own roles, grants, activations.
    pub fn lines(&self) -> impl Iterator<Item = Value> + '_ {
        let entities = self.all_entities().map(|id| self.entity_json(id));
        let made = self.made_roles().map(|(key, role)| self.made_json(key, role));
        let grants = self.all_grants().map(|grant| self.grant_json(&grant));
        let activations = self.all_activations().map(|activation| self.activation_json(activation));
        entities.chain(made).chain(grants).chain(activations)
    }

    /// All that is said of an entity, as its line.
    pub fn entity_json(&self, id: EntityId) -> Value {
        let record = self.record(id);
        let names = |ids: &[EntityId]| ids.iter().map(|id| self.name(*id)).collect::<Vec<_>>();
        let mut line = json!({ "entity": self.name(id) });
        if record.state != State::Active {
            line["state"] = record.state.word().into();
        }
        if let Some(outer) = record.within {
            line["within"] = self.name(outer).into();
        }
        if record.detached {
            line["detached"] = true.into();
        }
        if let Some(tenant) = record.tenant {
            line["tenant"] = self.id_text(tenant).into();
        }
        if !record.tenants.is_empty() {
            line["tenants"] = record.tenants.iter().map(|id| self.id_text(*id)).collect();
        }
        if !record.members.is_empty() {
            line["members"] = names(&record.members).into();
        }
        for (name, value) in &record.attributes {
            line["attributes"][self.text(*name)] = value.to_json();
        }
        for (name, to) in &record.relations {
            line["relations"][self.text(*name)] = names(to).into();
        }
        line
    }

    /// A grant as its line.
    pub fn grant_json(&self, grant: &Grant<'_>) -> Value {
        let at = match grant.at {
            PlaceOf::Everywhere => "everywhere",
            PlaceOf::At(place) => self.name(place),
        };
        let mut inner = json!({ "id": grant.id.to_string(), "role": self.text(grant.role), "to": self.name(grant.to), "at": at });
        if let Some(from) = grant.terms.from {
            inner["from"] = from.to_string().into();
        }
        if let Some(until) = grant.terms.until {
            inner["until"] = until.to_string().into();
        }
        for (name, values) in &grant.terms.values {
            inner["values"][self.text(*name)] = values.iter().map(crate::value::Scalar::to_json).collect();
        }
        json!({ "grant": inner })
    }

    /// An activation as its line.
    pub fn activation_json(&self, activation: &Activation) -> Value {
        let grant = self.grant(activation.grant).map_or_else(String::new, |grant| grant.id.to_string());
        let mut inner =
            json!({ "id": activation.id, "grant": grant, "subject": self.name(activation.subject) });
        if let Some(session) = &activation.session {
            inner["session"] = session.as_ref().into();
        }
        for (key, moment) in [("from", activation.from), ("until", activation.until)] {
            if let Some(moment) = moment {
                inner[key] = moment.to_string().into();
            }
        }
        if !activation.reason.is_empty() {
            inner["reason"] = activation.reason.as_ref().into();
        }
        json!({ "activation": inner })
    }

    /// A tenant's role as its line.
    pub fn made_json(&self, key: Sym, role: &MadeRole) -> Value {
        let key = self.text(key).split_once('/').map_or("", |(_, key)| key);
        let mut inner =
            json!({ "tenant": self.id_text(role.tenant), "key": key, "permissions": role.permissions });
        if let Some(name) = &role.name {
            inner["name"] = name.as_ref().into();
        }
        json!({ "tenant-role": inner })
    }
}

struct Batch<'r, 'p> {
    register: &'r mut Register,
    policies: &'p [&'p Policy],
    now: Option<Timestamp>,
    effects: Vec<(usize, Effect)>,
    undo: Vec<Undo>,
    noted: HashSet<EntityId>,
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
    /// Makes the entity a line is about, so that other lines may name it before it is described.
    fn announce(&mut self, line: &EntityLine) -> Result<(), String> {
        let (kind, _) = split_entity(&line.name)?;
        if kind == "anonymous" || kind == "everywhere" {
            return Err(format!("{kind:?} is nobody that can be registered"));
        }
        for policy in self.policies {
            if policy.kind(kind).is_none() {
                let known = policy.model().kinds.iter().map(|kind| kind.key.as_str());
                return Err(format!("unknown type {kind:?}{}", did_you_mean(kind, known)));
            }
        }
        if self.register.registered(&line.name).is_none() {
            let before = self.register.find(&line.name);
            let kind = self.register.intern(kind);
            let id = self.register.create(&line.name, kind);
            self.undo.push(Undo::Created(id, before));
            self.note(self.at, id);
        }
        Ok(())
    }

    fn one(&mut self, change: &Change, at: usize) -> Result<(), String> {
        match change {
            Change::Entity(line) => self.entity(line, at),
            Change::Delete { name, contents } => self.delete(name, *contents),
            Change::Grant(line) => self.grant(line),
            Change::EndGrant(id) => self.end_grant(id),
            Change::Activate(line) => self.activate(line),
            Change::EndActivation(id) => self.end_activation(id),
            Change::TenantRole(line) => self.tenant_role(line),
            Change::EndTenantRole(key) => self.end_tenant_role(key),
            Change::Retract(retraction) => self.retract(retraction, at),
        }
    }
}
