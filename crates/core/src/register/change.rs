//! Applying changes: a batch is checked and applied whole, or refused whole with every reason.

use super::fact::Retraction;
use super::line::{Change, EntityLine, GrantLine};
use super::{EntityId, Grant, MAX_CONTAINMENT, MAX_NESTING, PlaceOf, Record, Register, State, Sym};
use crate::charter::model::{Attribute, KindId, Relation, Stated};
use crate::charter::policy::Policy;
use crate::names::{did_you_mean, split_entity};
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
}

/// An applied batch: what it did, and how to take it back.
#[derive(Debug)]
pub struct Applied {
    /// In order, each with the change it came from, counted from 0; empty if everything was so
    /// already.
    pub effects: Vec<(usize, Effect)>,
    undo: Vec<Undo>,
}

#[derive(Debug)]
enum Undo {
    Created(EntityId, Option<EntityId>),
    Record(EntityId, Record),
    Granted(u32),
    Ended(u32, Grant),
}

impl Register {
    /// Applies changes in order: all of them, or none and every reason why not.
    ///
    /// Names may be used before the line that registers them, within one batch. Everything is
    /// checked against each of `policies`; without one, only what every register keeps to is.
    /// Costs time in the size of the changes and of what they touch, not of the register.
    ///
    /// # Errors
    /// One refusal for every change that cannot be; the register is as before.
    pub fn apply(&mut self, changes: &[Change], policies: &[&Policy]) -> Result<Applied, Vec<Refusal>> {
        let mut batch = Batch {
            register: self,
            policies,
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
        if refusals.is_empty() {
            for (at, change) in changes.iter().enumerate() {
                batch.at = at;
                if let Err(message) = batch.one(change, at) {
                    refusals.push(Refusal { change: at, message });
                }
            }
        }
        if refusals.is_empty() {
            refusals.extend(batch.shape());
        }
        let applied = Applied { effects: batch.effects, undo: batch.undo };
        if refusals.is_empty() {
            return Ok(applied);
        }
        self.undo(applied);
        Err(refusals)
    }

    /// Takes a batch back. Only the last one applied can be.
    pub fn undo(&mut self, applied: Applied) {
        for step in applied.undo.into_iter().rev() {
            match step {
                Undo::Created(id, before) => self.uncreate(id, before),
                Undo::Record(id, record) => {
                    self.set_record(id, record);
                }
                Undo::Granted(at) => {
                    self.take_grant(at);
                    self.grants.truncate(at as usize);
                }
                Undo::Ended(at, grant) => self.put_grant(at, grant),
            }
        }
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
            line["attributes"][self.text(*name)] = stated_json(value);
        }
        for (name, to) in &record.relations {
            line["relations"][self.text(*name)] = names(to).into();
        }
        line
    }

    /// A grant as its line.
    pub fn grant_json(&self, grant: &Grant) -> Value {
        let at = match grant.at {
            PlaceOf::Everywhere => "everywhere",
            PlaceOf::At(place) => self.name(place),
        };
        let mut inner =
            json!({ "id": grant.id, "role": self.text(grant.role), "to": self.name(grant.to), "at": at });
        if let Some(from) = grant.from {
            inner["from"] = from.to_string().into();
        }
        if let Some(until) = grant.until {
            inner["until"] = until.to_string().into();
        }
        for (name, values) in &grant.values {
            inner["values"][self.text(*name)] = values.iter().map(crate::value::Scalar::to_json).collect();
        }
        json!({ "grant": inner })
    }
}

fn stated_json(value: &Stated) -> Value {
    match value {
        Stated::One(scalar) => scalar.to_json(),
        Stated::Many(scalars) => scalars.iter().map(crate::value::Scalar::to_json).collect(),
        Stated::Unfit => Value::Null,
    }
}

struct Batch<'r, 'p> {
    register: &'r mut Register,
    policies: &'p [&'p Policy],
    effects: Vec<(usize, Effect)>,
    undo: Vec<Undo>,
    noted: HashSet<EntityId>,
    /// The change under way.
    at: usize,
    /// Entities whose containment or membership changed, and by which change.
    moved: Vec<(EntityId, usize)>,
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
            Change::Retract(retraction) => self.retract(retraction, at),
        }
    }

    // -- entities ------------------------------------------------------------------------------

    fn found(&self, name: &str) -> Result<EntityId, String> {
        split_entity(name)?;
        self.register.registered(name).ok_or_else(|| {
            let deleted = self.register.find(name).is_some();
            if deleted { format!("{name} is deleted") } else { format!("{name} is not registered") }
        })
    }

    /// An entity of one of some kinds; where only one is possible its prefix may be left out.
    fn reference(&self, text: &str, kinds: &[&str], what: &str) -> Result<EntityId, String> {
        let prefix = text.split_once(':').map(|(prefix, _)| prefix);
        let known = prefix.is_some_and(|prefix| {
            kinds.contains(&prefix) || self.policies.iter().any(|policy| policy.kind(prefix).is_some())
        });
        let full = match kinds {
            [only] if !known => format!("{only}:{text}"),
            _ => text.to_owned(),
        };
        let (kind, _) = split_entity(&full)?;
        if !kinds.is_empty() && !kinds.contains(&kind) {
            return Err(format!("{what} is a {}, not {full}", kinds.join(" or ")));
        }
        self.found(&full)
    }

    fn set(&mut self, id: EntityId, record: Record, at: usize) {
        let old = self.register.record(id);
        if *old == record {
            return;
        }
        if old.within != record.within || old.members != record.members {
            self.moved.push((id, at));
        }
        let old = self.register.set_record(id, record);
        self.undo.push(Undo::Record(id, old));
        self.note(at, id);
    }

    /// Notes that more or something else is said of an entity: once, however often it is said.
    fn note(&mut self, at: usize, id: EntityId) {
        if self.noted.insert(id) {
            self.effects.push((at, Effect::Entity(id)));
        }
    }

    fn entity(&mut self, line: &EntityLine, at: usize) -> Result<(), String> {
        let id = self.found(&line.name)?;
        let (kind, _) = split_entity(&line.name)?;
        let kind = kind.to_owned();
        let old = self.register.record(id).clone();
        let mut record = if line.merge { old.clone() } else { Record::default() };
        let subject = kind == "user" || kind == "service";
        let resource = !subject && kind != "group" && kind != "tenant";
        for (stated, fits, key, whose) in [
            (line.state.is_some(), subject, "state", "users and services"),
            (line.tenants.is_some(), subject, "tenants", "users and services"),
            (line.tenant.is_some(), kind == "group", "tenant", "groups"),
            (line.members.is_some(), kind == "group", "members", "groups"),
            (line.within.is_some(), resource, "within", "resources"),
            (line.detached.is_some(), resource, "detached", "resources"),
        ] {
            if stated && !fits {
                return Err(format!("{key} is said of {whose} only, and {} is a {kind}", line.name));
            }
        }
        match line.state.as_deref() {
            None => {}
            Some("active") => record.state = State::Active,
            Some("suspended") => record.state = State::Suspended,
            Some("deleted") => return Err("to delete, write {\"delete\":\"type:id\"}".to_owned()),
            Some(other) => {
                return Err(format!(
                    "unknown state {other:?}{}",
                    did_you_mean(other, ["active", "suspended"])
                ));
            }
        }
        if let Some(within) = &line.within {
            record.within = within.as_ref().map(|outer| self.outer(outer, &kind)).transpose()?;
        }
        if let Some(detached) = line.detached {
            record.detached = detached;
        }
        if let Some(tenant) = &line.tenant {
            record.tenant =
                tenant.as_ref().map(|tenant| self.reference(tenant, &["tenant"], "tenant")).transpose()?;
        }
        if let Some(tenants) = &line.tenants {
            self.add_all(&mut record.tenants, tenants, &["tenant"], "each of tenants")?;
        }
        if let Some(members) = &line.members {
            self.add_all(&mut record.members, members, &["user", "service", "group"], "a member")?;
        }
        self.attributes(&mut record, line, &kind)?;
        self.relations(&mut record, line, &kind)?;
        self.fits(&line.name, &kind, &record)?;
        self.stays_in_tenant(id, &old, &record)?;
        self.set(id, record, at);
        Ok(())
    }

    fn outer(&self, outer: &str, kind: &str) -> Result<EntityId, String> {
        let allowed: Vec<&str> = self.policies.first().map_or_else(Vec::new, |policy| {
            let model = policy.model();
            let within = policy.kind(kind).map_or(&[][..], |kind| &model.kinds[kind.index()].within);
            within.iter().map(|kind| model.kinds[kind.index()].key.as_str()).collect()
        });
        if allowed.is_empty() && !self.policies.is_empty() {
            return Err(format!("a {kind} lies nowhere: its type declares no within"));
        }
        self.reference(outer, &allowed, &format!("what a {kind} lies within"))
    }

    fn add_all(
        &self,
        list: &mut Vec<EntityId>,
        names: &[String],
        kinds: &[&str],
        what: &str,
    ) -> Result<(), String> {
        for name in names {
            list.push(self.reference(name, kinds, what)?);
        }
        list.sort_unstable();
        list.dedup();
        if list.len() > MAX_LIST * 100 {
            return Err(format!("more than {} in one list", MAX_LIST * 100));
        }
        Ok(())
    }

    fn attributes(&mut self, record: &mut Record, line: &EntityLine, kind: &str) -> Result<(), String> {
        for (name, value) in &line.attributes {
            for policy in self.policies {
                let attribute = declared_attribute(policy, kind, name)?;
                if let Some(value) = value {
                    fits_attribute(attribute, name, value)?;
                }
            }
            if value == &Some(Stated::Unfit) {
                return Err(format!("the attribute {name:?} is a text, number, boolean or a list of them"));
            }
            let sym = self.register.intern(name);
            record.attributes.retain(|(known, _)| *known != sym);
            if let Some(value) = value {
                // Under a charter a list attribute is a list, even where one value was written.
                let many = self
                    .policies
                    .first()
                    .is_some_and(|policy| declared_attribute(policy, kind, name).is_ok_and(|a| a.many));
                let value = match value {
                    Stated::One(one) if many => Stated::Many(vec![one.clone()]),
                    value => value.clone(),
                };
                record.attributes.push((sym, value));
            }
        }
        record.attributes.sort_by_key(|(name, _)| *name);
        Ok(())
    }

    fn relations(&mut self, record: &mut Record, line: &EntityLine, kind: &str) -> Result<(), String> {
        for (name, related) in &line.relations {
            let mut kinds: Vec<String> = Vec::new();
            let mut single = false;
            for policy in self.policies {
                let relation = declared_relation(policy, kind, name)?;
                kinds =
                    relation.to.iter().map(|kind| policy.model().kinds[kind.index()].key.clone()).collect();
                single |= !relation.many;
            }
            let sym = self.register.intern(name);
            let mut to = Vec::new();
            if let Some(known) = record.relation(sym).filter(|_| related.as_ref().is_some_and(|r| r.add)) {
                to.extend_from_slice(known);
            }
            record.relations.retain(|(known, _)| *known != sym);
            let Some(related) = related else { continue };
            let kinds: Vec<&str> = kinds.iter().map(String::as_str).collect();
            for target in &related.to {
                let target = self.reference(target, &kinds, &format!("{name:?}"))?;
                if !to.contains(&target) {
                    to.push(target);
                }
            }
            if single && to.len() != 1 {
                return Err(format!("{name:?} leads to one thing, not {}; null removes it", to.len()));
            }
            if to.len() > MAX_LIST {
                return Err(format!("{name:?} leads to more than {MAX_LIST} things"));
            }
            record.relations.push((sym, to));
        }
        record.relations.sort_by_key(|(name, _)| *name);
        Ok(())
    }

    /// What a whole record must have.
    fn fits(&self, name: &str, kind: &str, record: &Record) -> Result<(), String> {
        for policy in self.policies {
            let Some(declared) = policy.kind(kind).map(|kind| &policy.model().kinds[kind.index()]) else {
                continue;
            };
            if !declared.within.is_empty() && record.within.is_none() {
                let outer: Vec<&str> = declared
                    .within
                    .iter()
                    .map(|kind| policy.model().kinds[kind.index()].key.as_str())
                    .collect();
                return Err(format!("{name} must lie within a {}", outer.join(" or ")));
            }
        }
        Ok(())
    }

    /// A resource does not change its tenant: grants and relations made under one would count
    /// under another.
    fn stays_in_tenant(&self, id: EntityId, old: &Record, new: &Record) -> Result<(), String> {
        let (Some(from), Some(to)) = (old.within, new.within) else { return Ok(()) };
        if from == to {
            return Ok(());
        }
        let root = |mut at: EntityId| {
            for _ in 0..=MAX_CONTAINMENT {
                match self.register.record(at).within {
                    Some(outer) => at = outer,
                    None => break,
                }
            }
            at
        };
        if root(from) != root(to) {
            let name = self.register.name(id);
            return Err(format!(
                "{name} cannot move from {} to {}: it would change its tenant; delete it and register it anew",
                self.register.name(root(from)),
                self.register.name(root(to))
            ));
        }
        Ok(())
    }

    fn delete(&mut self, name: &str, contents: bool) -> Result<(), String> {
        let id = self.found(name)?;
        let inside = self.register.contents(id).to_vec();
        if !inside.is_empty() && !contents {
            let first = self.register.name(inside[0]);
            return Err(format!(
                "{name} contains {} more, {first} among them; delete those first, or say \"with-contents\": true",
                inside.len()
            ));
        }
        // Innermost first. Within a batch containment may run in a circle until the batch is
        // looked at as a whole, so each is visited once.
        let mut waiting = vec![id];
        let mut order = Vec::new();
        let mut seen = HashSet::new();
        while let Some(next) = waiting.pop() {
            if seen.insert(next) {
                order.push(next);
                waiting.extend_from_slice(self.register.contents(next));
            }
        }
        for id in order.into_iter().rev() {
            self.delete_one(id);
        }
        Ok(())
    }

    /// Ends every fact that names an entity, and the entity.
    fn delete_one(&mut self, id: EntityId) {
        let mut grants: Vec<u32> = self.register.grants_to(id).map(|(at, _)| at).collect();
        grants.extend(self.register.placed.get(&id).into_iter().flatten());
        for at in grants {
            self.end_grant_at(at);
        }
        for group in self.register.groups(id).to_vec() {
            self.change_record(group, |record| record.members.retain(|member| *member != id));
        }
        for other in self.register.named_by.get(&id).cloned().unwrap_or_default() {
            self.change_record(other, |record| {
                record.tenants.retain(|tenant| *tenant != id);
                record.tenant = record.tenant.filter(|tenant| *tenant != id);
                // What led only there is missing now; what was stated empty stays so.
                record.relations.retain(|(_, to)| *to != [id]);
                for (_, to) in &mut record.relations {
                    to.retain(|target| *target != id);
                }
            });
        }
        let old = self.register.set_record(id, Record { state: State::Deleted, ..Record::default() });
        self.undo.push(Undo::Record(id, old));
        self.effects.push((self.at, Effect::Deleted(id)));
    }

    fn change_record(&mut self, id: EntityId, edit: impl FnOnce(&mut Record)) {
        let mut record = self.register.record(id).clone();
        edit(&mut record);
        if record != *self.register.record(id) {
            let old = self.register.set_record(id, record);
            self.undo.push(Undo::Record(id, old));
            self.note(self.at, id);
        }
    }

    // -- grants --------------------------------------------------------------------------------

    fn grant(&mut self, line: &GrantLine) -> Result<(), String> {
        let to = self.found(&line.to)?;
        let at = match line.at.as_str() {
            "everywhere" => PlaceOf::Everywhere,
            place => PlaceOf::At(self.found(place)?),
        };
        if let (Some(from), Some(until)) = (line.from, line.until)
            && from >= until
        {
            return Err(format!("it would end at {until}, before it begins at {from}"));
        }
        let holder = self.register.text(self.register.kind(to)).to_owned();
        if !matches!(holder.as_str(), "user" | "service" | "group") {
            return Err(format!("roles are held by users, services and groups, not by {}", line.to));
        }
        let place = match at {
            PlaceOf::Everywhere => None,
            PlaceOf::At(id) => Some(self.register.text(self.register.kind(id)).to_owned()),
        };
        if matches!(place.as_deref(), Some("user" | "service" | "group")) {
            return Err(format!("{} is no place: a place is everywhere, a tenant or a resource", line.at));
        }
        for policy in self.policies {
            fits_role(policy, line, &holder, place.as_deref())?;
        }
        let mut values: Vec<_> =
            line.values.iter().map(|(name, values)| (self.register.intern(name), values.clone())).collect();
        values.sort_by_key(|(name, _)| *name);
        let role = self.register.intern(&line.role);
        let id = line.id.clone().unwrap_or_default();
        let grant =
            Grant { id: id.as_str().into(), role, to, at, from: line.from, until: line.until, values };
        if let Some((_, same)) = self.register.grants_to(to).find(|(_, known)| known.is_same(&grant)) {
            if line.id.as_deref().is_none_or(|id| id == &*same.id) {
                return Ok(());
            }
            return Err(format!("{} says the same already", same.id));
        }
        self.add_grant(grant)
    }

    fn add_grant(&mut self, mut grant: Grant) -> Result<(), String> {
        if grant.id.is_empty() {
            while self.register.grant_ids.contains_key(format!("g-{}", self.register.next_grant).as_str()) {
                self.register.next_grant += 1;
            }
            grant.id = format!("g-{}", self.register.next_grant).into();
        } else if self.register.grant_ids.contains_key(&grant.id) {
            return Err(format!("another grant is called {} already", grant.id));
        } else {
            split_entity(&format!("grant:{}", grant.id)).map_err(|_| {
                format!("{:?} is no id for a grant: no white space, at most 250 bytes", grant.id)
            })?;
        }
        let id = grant.id.clone();
        let at = self.register.add_grant(grant);
        self.undo.push(Undo::Granted(at));
        self.effects.push((self.at, Effect::Granted(id)));
        Ok(())
    }

    fn end_grant(&mut self, id: &str) -> Result<(), String> {
        let at = *self.register.grant_ids.get(id).ok_or_else(|| {
            let near = did_you_mean(id, self.register.grant_ids.keys().take(10_000).map(AsRef::as_ref));
            format!("no grant is called {id:?}{near}")
        })?;
        self.end_grant_at(at);
        Ok(())
    }

    fn end_grant_at(&mut self, at: u32) {
        if let Some(grant) = self.register.take_grant(at) {
            self.effects.push((self.at, Effect::Ended(grant.id.clone())));
            self.undo.push(Undo::Ended(at, grant));
        }
    }

    // -- taking away ---------------------------------------------------------------------------

    fn retract(&mut self, retraction: &Retraction, at: usize) -> Result<(), String> {
        match retraction {
            Retraction::Attribute { entity, name, value } => {
                let id = self.found(entity)?;
                let sym = self.register.sym(name);
                let known = sym.and_then(|sym| self.register.record(id).attribute(sym)).cloned();
                let (Some(sym), Some(known)) = (sym, known) else {
                    return Err(format!("nothing is stated of {entity}.{name}"));
                };
                if value.as_ref().is_some_and(|value| *value != known) {
                    return Err(format!("{entity}.{name} is {}, not that", stated_json(&known)));
                }
                let mut record = self.register.record(id).clone();
                record.attributes.retain(|(known, _)| *known != sym);
                self.set(id, record, at);
            }
            Retraction::Related { entity, name, target } => {
                let id = self.found(entity)?;
                let mut record = self.register.record(id).clone();
                let sym = self.register.sym(name);
                let target = target.as_ref().map(|target| self.found(target)).transpose()?;
                let before = record.clone();
                for (known, to) in &mut record.relations {
                    if Some(*known) == sym {
                        to.retain(|known| target.is_some_and(|target| *known != target));
                    }
                }
                record.relations.retain(|(known, to)| Some(*known) != sym || !to.is_empty());
                if record == before {
                    return Err(format!("{entity}.{name} does not lead there"));
                }
                self.set(id, record, at);
            }
            Retraction::Member { entity, of } => {
                let id = self.found(entity)?;
                let of = self.found(of)?;
                let of_group = self.register.kind(of) == Sym::GROUP;
                let (changed, gone) = if of_group { (of, id) } else { (id, of) };
                let mut record = self.register.record(changed).clone();
                let list = if of_group { &mut record.members } else { &mut record.tenants };
                let before = list.len();
                list.retain(|known| *known != gone);
                if list.len() == before {
                    return Err(format!("{entity} is not in {}", self.register.name(of)));
                }
                self.set(changed, record, at);
            }
            Retraction::Detached(entity) => {
                let id = self.found(entity)?;
                self.change_record(id, |record| record.detached = false);
            }
            Retraction::Suspended(entity) => {
                let id = self.found(entity)?;
                self.change_record(id, |record| record.state = State::Active);
            }
            Retraction::Grant(line) => {
                let to = self.found(&line.to)?;
                let place = if line.at == "everywhere" {
                    PlaceOf::Everywhere
                } else {
                    PlaceOf::At(self.found(&line.at)?)
                };
                let role = self.register.sym(&line.role);
                let same = |grant: &Grant| {
                    Some(grant.role) == role
                        && grant.at == place
                        && line.from.is_none_or(|from| grant.from == Some(from))
                        && line.until.is_none_or(|until| grant.until == Some(until))
                };
                let found: Vec<u32> =
                    self.register.grants_to(to).filter(|(_, grant)| same(grant)).map(|(at, _)| at).collect();
                match found.as_slice() {
                    [] => {
                        return Err(format!(
                            "{} holds no {} at {} by a grant of its own",
                            line.to, line.role, line.at
                        ));
                    }
                    [one] => self.end_grant_at(*one),
                    many => return Err(format!("{} grants say that; end one by its id", many.len())),
                }
            }
        }
        Ok(())
    }

    // -- the shape of the whole ----------------------------------------------------------------

    /// Loops and depth, for everything that was moved.
    fn shape(&self) -> Vec<Refusal> {
        let mut refusals = Vec::new();
        for (id, change) in &self.moved {
            if self.register.state(*id) == State::Deleted {
                continue;
            }
            if let Err(message) = self.containment(*id).and_then(|()| self.nesting(*id)) {
                refusals.push(Refusal { change: *change, message });
            }
        }
        refusals
    }

    fn containment(&self, id: EntityId) -> Result<(), String> {
        let register = &self.register;
        let mut above = 0;
        let mut at = id;
        while let Some(outer) = register.record(at).within {
            above += 1;
            if outer == id {
                return Err(format!("{} would lie within itself", register.name(id)));
            }
            if above > MAX_CONTAINMENT {
                return Err(format!(
                    "{} would lie more than {MAX_CONTAINMENT} deep, or in a circle",
                    register.name(id)
                ));
            }
            at = outer;
        }
        let mut level = vec![id];
        for below in 0.. {
            if above + below > MAX_CONTAINMENT {
                return Err(format!(
                    "what lies within {} would lie more than {MAX_CONTAINMENT} deep",
                    register.name(id)
                ));
            }
            level = level.iter().flat_map(|id| register.contents(*id).iter().copied()).collect();
            if level.is_empty() {
                break;
            }
        }
        Ok(())
    }

    fn nesting(&self, id: EntityId) -> Result<(), String> {
        let register = &self.register;
        if register.kind(id) != Sym::GROUP {
            return Ok(());
        }
        let groups_in = |id: &EntityId| {
            let members = register.record(*id).members.iter().copied();
            members.filter(|member| register.kind(*member) == Sym::GROUP).collect::<Vec<_>>()
        };
        let groups_of = |id: &EntityId| register.groups(*id).to_vec();
        let mut total = 1;
        for step in [&groups_of as &dyn Fn(&EntityId) -> Vec<EntityId>, &groups_in] {
            let mut level = vec![id];
            loop {
                let mut next: Vec<EntityId> = level.iter().flat_map(step).collect();
                next.sort_unstable();
                next.dedup();
                if next.contains(&id) {
                    return Err(format!("{} would be a member of itself", register.name(id)));
                }
                if next.is_empty() {
                    break;
                }
                total += 1;
                if total > MAX_NESTING {
                    return Err(format!(
                        "{} would stand in groups more than {MAX_NESTING} deep",
                        register.name(id)
                    ));
                }
                level = next;
            }
        }
        Ok(())
    }
}

// -- what a charter says of a fact ---------------------------------------------------------------

fn declared_attribute<'p>(policy: &'p Policy, kind: &str, name: &str) -> Result<&'p Attribute, String> {
    let model = policy.model();
    let declared = &policy.kind(kind).map_or(&[][..], |kind| &model.kinds[kind.index()].attributes);
    declared.iter().find(|attribute| policy.name(attribute.name) == name).ok_or_else(|| {
        let known = declared.iter().map(|attribute| policy.name(attribute.name));
        let relation = declared_relation(policy, kind, name).is_ok();
        let near = if relation { "; it is a relation".to_owned() } else { did_you_mean(name, known) };
        format!("a {kind} has no attribute {name:?}{near}")
    })
}

fn declared_relation<'p>(policy: &'p Policy, kind: &str, name: &str) -> Result<&'p Relation, String> {
    let model = policy.model();
    let declared = &policy.kind(kind).map_or(&[][..], |kind| &model.kinds[kind.index()].relations);
    declared.iter().find(|relation| policy.name(relation.name) == name).ok_or_else(|| {
        let known = declared.iter().map(|relation| policy.name(relation.name));
        format!("a {kind} has no relation {name:?}{}", did_you_mean(name, known))
    })
}

fn fits_attribute(attribute: &Attribute, name: &str, value: &Stated) -> Result<(), String> {
    let scalars = match value {
        Stated::One(one) => std::slice::from_ref(one),
        Stated::Many(many) if attribute.many => many,
        _ => return Err(format!("the attribute {name:?} is one {}", attribute.kind)),
    };
    if scalars.len() > MAX_LIST {
        return Err(format!("the attribute {name:?} has more than {MAX_LIST} values"));
    }
    for scalar in scalars {
        let Some(value) = scalar.read(attribute.kind) else {
            return Err(format!(
                "the attribute {name:?} is of type {}, and {} is not",
                attribute.kind,
                scalar.to_json()
            ));
        };
        if let Some(values) = attribute.values.as_ref().filter(|values| !values.contains(&value)) {
            let known: Vec<String> = values.iter().map(ToString::to_string).collect();
            return Err(format!("the attribute {name:?} is one of {}, not {value}", known.join(", ")));
        }
    }
    Ok(())
}

fn fits_role(policy: &Policy, line: &GrantLine, holder: &str, place: Option<&str>) -> Result<(), String> {
    let model = policy.model();
    let Some(role) = policy.role(&line.role).map(|role| &model.roles[role.index()]) else {
        let known = model.roles.iter().map(|role| role.key.as_str());
        return Err(format!("unknown role {:?}{}", line.role, did_you_mean(&line.role, known)));
    };
    if !role.grantable {
        return Err(format!("{:?} is not granted (grantable = false)", role.key));
    }
    if let Some(kind) = policy.kind(holder).filter(|kind| kind.is_subject() && !role.held_by(*kind)) {
        return Err(format!("{:?} is not held by a {}", role.key, model.kinds[kind.index()].key));
    }
    let kind: Option<KindId> = place.and_then(|place| policy.kind(place));
    if role.held_at.as_ref().is_some_and(|held| !held.permits(kind)) {
        return Err(format!(
            "{:?} is not granted at {}",
            role.key,
            place.map_or_else(|| "everywhere".to_owned(), |place| format!("a {place}"))
        ));
    }
    for (name, kind) in &role.values {
        let Some((_, values)) = line.values.iter().find(|(known, _)| known == name) else {
            return Err(format!(
                "a grant of {:?} names its {name}: \"values\": {{\"{name}\": […]}}",
                role.key
            ));
        };
        if values.is_empty() || values.len() > crate::value::MAX_MEMBERS {
            return Err(format!("the value {name:?} names 1 to {} things", crate::value::MAX_MEMBERS));
        }
        if let Some(wrong) = values.iter().find(|value| value.read(*kind).is_none()) {
            return Err(format!("the value {name:?} is of type {kind}, and {} is not", wrong.to_json()));
        }
    }
    if let Some((name, _)) =
        line.values.iter().find(|(name, _)| !role.values.iter().any(|(known, _)| known == name))
    {
        let known = role.values.iter().map(|(name, _)| name.as_str());
        return Err(format!("grants of {:?} have no value {name:?}{}", role.key, did_you_mean(name, known)));
    }
    Ok(())
}
