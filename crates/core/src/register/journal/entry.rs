//! Entries, and how they are written.

use crate::charter::model::Stated;
use crate::names::{is_id, is_key, made_role_name, split_entity, split_made_role};
use crate::register::line::{
    self, ActivationLine, Change, EntityLine, GrantLine, Related, TenantRoleLine, from_json,
};
use crate::register::wrong::Wrong;
use crate::register::{Activation, EntityId, Grant, MadeRole, NextIds, PlaceOf, Register, State, Sym};
use crate::value::Scalar;
use serde_json::{Map, Value, json};

/// One net effect.
#[derive(Clone, Debug, PartialEq)]
pub enum Entry {
    /// All that is said of an entity now.
    Entity(Box<EntityLine>),
    /// An entity is gone, and known as deleted.
    Deleted(String),
    /// A grant was given.
    Grant(Box<GrantLine>),
    /// A grant has ended.
    GrantEnded {
        /// Its id.
        id: String,
        /// What it was.
        was: Option<Box<GrantLine>>,
    },
    /// A grant was activated.
    Activation(Box<ActivationLine>),
    /// An activation has ended.
    ActivationEnded {
        /// Its id.
        id: String,
        /// What it was.
        was: Option<Box<ActivationLine>>,
    },
    /// A tenant's own role is this now.
    TenantRole(Box<TenantRoleLine>),
    /// A tenant's own role has ended.
    TenantRoleEnded(String),
    /// The numbers that are given next.
    Next(NextIds),
    /// Why it was done.
    Note(String),
}

/// A line that is no entry.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("line {}: {why}", at + 1)]
pub struct Unreadable {
    /// Which line, from 0.
    pub at: usize,
    /// Why.
    pub why: Wrong,
}

impl Unreadable {
    pub(super) fn new(at: usize, why: Wrong) -> Self {
        Unreadable { at, why }
    }
}

impl Entry {
    // -- made from a register ------------------------------------------------------------------

    /// All that is said of an entity.
    pub fn entity(register: &Register, id: EntityId) -> Entry {
        Entry::of(register, id, true)
    }

    /// The same without the members that a group may have a million of.
    pub fn entity_without_members(register: &Register, id: EntityId) -> Entry {
        Entry::of(register, id, false)
    }

    fn of(register: &Register, id: EntityId, members: bool) -> Entry {
        let record = register.record(id);
        let name = |id: EntityId| register.name(id).to_owned();
        let sorted = |ids: &[EntityId]| {
            let mut names: Vec<String> = ids.iter().map(|id| name(*id)).collect();
            names.sort_unstable();
            (!names.is_empty()).then_some(names)
        };
        let mut attributes: Vec<(String, Option<Stated>)> = record
            .attributes
            .iter()
            .map(|(key, value)| (register.text(*key).to_owned(), Some(value.clone())))
            .collect();
        attributes.sort_by(|a, b| a.0.cmp(&b.0));
        let related = |to: &[EntityId]| Related { to: to.iter().map(|id| name(*id)).collect(), add: false };
        let mut relations: Vec<(String, Option<Related>)> = record
            .relations
            .iter()
            .map(|(key, to)| (register.text(*key).to_owned(), Some(related(to))))
            .collect();
        relations.sort_by(|a, b| a.0.cmp(&b.0));
        Entry::Entity(Box::new(EntityLine {
            name: name(id),
            state: (record.state != State::Active).then(|| record.state.word().to_owned()),
            within: record.within.map(|outer| Some(name(outer))),
            detached: record.detached.then_some(true),
            tenant: record.tenant.map(|tenant| Some(name(tenant))),
            tenants: sorted(&record.tenants),
            members: members.then(|| sorted(&record.members)).flatten(),
            attributes,
            relations,
            ..EntityLine::default()
        }))
    }

    /// A grant.
    pub fn grant(register: &Register, grant: &Grant<'_>) -> Entry {
        Entry::Grant(Box::new(grant_line(register, grant)))
    }

    /// That a grant has ended.
    pub fn grant_ended(register: &Register, grant: &Grant<'_>) -> Entry {
        let was = grant_line(register, grant);
        let id = grant.id.to_string();
        Entry::GrantEnded { id, was: Some(Box::new(GrantLine { id: None, ..was })) }
    }

    /// An activation.
    pub fn activation(register: &Register, activation: &Activation) -> Entry {
        Entry::Activation(Box::new(activation_line(register, activation)))
    }

    /// That an activation has ended.
    pub fn activation_ended(register: &Register, activation: &Activation) -> Entry {
        let was = activation_line(register, activation);
        let id = activation.id.to_string();
        Entry::ActivationEnded { id, was: Some(Box::new(ActivationLine { id: None, ..was })) }
    }
    /// A tenant's own role.
    pub fn made(register: &Register, key: Sym, role: &MadeRole) -> Entry {
        let key = split_made_role(register.text(key)).map_or("", |(_, key)| key);
        Entry::TenantRole(Box::new(TenantRoleLine {
            tenant: register.name(role.tenant).to_owned(),
            key: key.to_owned(),
            name: role.name.as_deref().map(str::to_owned),
            permissions: role.permissions.iter().map(|pattern| pattern.to_string()).collect(),
        }))
    }

    // -- written -------------------------------------------------------------------------------

    /// As a line of a register is written; what is only of the journal has lines of its own.
    pub fn to_json(&self) -> Value {
        match self {
            Entry::Entity(line) => entity_json(line),
            Entry::Deleted(name) => json!({ "delete": name }),
            Entry::Grant(line) => json!({ "grant": grant_json(line) }),
            Entry::GrantEnded { id, was } => ended_json("end-grant", id, was.as_deref().map(grant_json)),
            Entry::Activation(line) => json!({ "activation": activation_json(line) }),
            Entry::ActivationEnded { id, was } => {
                ended_json("end-activation", id, was.as_deref().map(activation_json))
            }
            Entry::TenantRole(line) => {
                let mut inner =
                    json!({ "tenant": line.tenant, "key": line.key, "permissions": line.permissions });
                if let Some(name) = &line.name {
                    inner["name"] = name.as_str().into();
                }
                json!({ "tenant-role": inner })
            }
            Entry::TenantRoleEnded(name) => json!({ "end-tenant-role": name }),
            Entry::Next(next) => json!({ "next": { "grant": next.grant, "activation": next.activation } }),
            Entry::Note(note) => json!({ "note": note }),
        }
    }

    // -- read ----------------------------------------------------------------------------------

    /// Reads the line of an entry: as a register's line, but with nothing left to be filled in.
    ///
    /// # Errors
    /// If it is none, or leaves something open.
    pub fn read(line: &[u8]) -> Result<Entry, Wrong> {
        Entry::from_json(&crate::json::parse(line).map_err(|why| Wrong::NotJson(why.into()))?)
    }

    /// As [`Entry::read`], of a line that is JSON already.
    ///
    /// # Errors
    /// As [`Entry::read`].
    pub fn from_json(value: &Value) -> Result<Entry, Wrong> {
        let object = value.as_object().ok_or_else(|| Wrong::NotAnObject { what: "an entry".into() })?;
        match object.iter().next() {
            Some((key, note)) if key == "note" && object.len() == 1 => {
                let note = note.as_str().ok_or_else(|| Wrong::NotAText("note".into()))?;
                return Ok(Entry::Note(note.to_owned()));
            }
            Some((key, next)) if key == "next" && object.len() == 1 => {
                return next_ids(next).map(Entry::Next);
            }
            Some((key, id)) if key == "end-grant" => {
                let was = was(object)?.map(line::grant).transpose()?.map(Box::new);
                return Ok(Entry::GrantEnded { id: ended_id(id, "a grant")?, was });
            }
            Some((key, id)) if key == "end-activation" => {
                let was = was(object)?.map(line::activation).transpose()?.map(Box::new);
                return Ok(Entry::ActivationEnded { id: ended_id(id, "an activation")?, was });
            }
            _ => {}
        }
        Ok(match from_json(value)? {
            Change::Entity(line) => {
                whole_entity(&line)?;
                Entry::Entity(line)
            }
            Change::Delete { name, contents: false } => {
                split_entity(&name)?;
                Entry::Deleted(name)
            }
            Change::Grant(line) => {
                whole_id(line.id.as_deref(), "a grant")?;
                split_entity(&line.to)?;
                if line.at != "everywhere" {
                    split_entity(&line.at)?;
                }
                if !is_key(&line.role) && split_made_role(&line.role).is_none() {
                    return Err(Wrong::NotAKey(line.role.as_str().into()));
                }
                Entry::Grant(line)
            }
            Change::Activate(line) => {
                whole_id(line.id.as_deref(), "an activation")?;
                split_entity(&line.subject)?;
                Entry::Activation(line)
            }
            Change::TenantRole(line) => {
                whole_of(&line.tenant, "tenant")?;
                if !is_key(&line.key) {
                    return Err(Wrong::NotARoleKey(line.key.as_str().into()));
                }
                Entry::TenantRole(line)
            }
            Change::EndTenantRole(name) => {
                if split_made_role(&name).is_none() {
                    return Err(Wrong::NotARoleKey(name.as_str().into()));
                }
                Entry::TenantRoleEnded(name)
            }
            Change::Delete { .. } | Change::EndGrant(_) | Change::EndActivation(_) | Change::Retract(_) => {
                return Err(Wrong::BeginsNoLine {
                    found: "delete with contents".into(),
                    near: crate::names::Near::default(),
                    known: "a net effect".into(),
                });
            }
        })
    }

    /// What the entry names: entities, and ids of grants. The history of a thing is found by them.
    pub fn names(&self) -> Vec<&str> {
        match self {
            Entry::Entity(line) => vec![&line.name],
            Entry::Deleted(name) => vec![name],
            Entry::Grant(line) => named_by_grant(line.id.as_deref(), line),
            Entry::GrantEnded { id, was: Some(was) } => named_by_grant(Some(id), was),
            Entry::GrantEnded { id, was: None } => vec![id],
            Entry::Activation(line) => vec![&line.grant, &line.subject],
            Entry::ActivationEnded { was: Some(was), .. } => vec![&was.grant, &was.subject],
            Entry::TenantRole(line) => vec![&line.tenant],
            Entry::ActivationEnded { .. } | Entry::TenantRoleEnded(_) | Entry::Next(_) | Entry::Note(_) => {
                Vec::new()
            }
        }
    }

    /// The name of the role that a line of a tenant's own role is about.
    pub(super) fn role_name(line: &TenantRoleLine) -> String {
        let id = line.tenant.split_once(':').map_or("", |(_, id)| id);
        made_role_name(id, &line.key)
    }
}

fn named_by_grant<'l>(id: Option<&'l str>, line: &'l GrantLine) -> Vec<&'l str> {
    [id, Some(&line.to), Some(&line.at)].into_iter().flatten().collect()
}

fn grant_line(register: &Register, grant: &Grant<'_>) -> GrantLine {
    let mut values: Vec<(String, Vec<Scalar>)> = grant
        .terms
        .values
        .iter()
        .map(|(key, values)| (register.text(*key).to_owned(), values.clone()))
        .collect();
    values.sort_by(|a, b| a.0.cmp(&b.0));
    GrantLine {
        id: Some(grant.id.to_string()),
        role: register.text(grant.role).to_owned(),
        to: register.name(grant.to).to_owned(),
        at: match grant.at {
            PlaceOf::Everywhere => "everywhere".to_owned(),
            PlaceOf::At(place) => register.name(place).to_owned(),
        },
        from: grant.terms.from,
        until: grant.terms.until,
        values,
    }
}

fn activation_line(register: &Register, activation: &Activation) -> ActivationLine {
    ActivationLine {
        id: Some(activation.id.to_string()),
        grant: register.grant(activation.grant).map_or_else(String::new, |grant| grant.id.to_string()),
        subject: register.name(activation.subject).to_owned(),
        session: activation.session.as_deref().map(str::to_owned),
        from: activation.from,
        until: activation.until,
        reason: Some(activation.reason.to_string()).filter(|reason| !reason.is_empty()),
        assumed: false,
    }
}

/// That something has ended, and what it was.
fn ended_json(key: &str, id: &str, was: Option<Value>) -> Value {
    let mut line = json!({ key: id });
    if let Some(mut was) = was {
        // Its id stands before it.
        if let Some(was) = was.as_object_mut() {
            was.shift_remove("id");
        }
        line["was"] = was;
    }
    line
}

/// What something was that has ended: the one other key of its line.
fn was(object: &Map<String, Value>) -> Result<Option<&Value>, Wrong> {
    match object.keys().find(|key| !matches!(key.as_str(), "end-grant" | "end-activation" | "was")) {
        Some(key) => Err(Wrong::UnknownKey {
            key: key.as_str().into(),
            what: "an end",
            near: crate::names::Near::default(),
        }),
        None => Ok(object.get("was")),
    }
}

fn ended_id(id: &Value, what: &'static str) -> Result<String, Wrong> {
    let id = id.as_str().ok_or_else(|| Wrong::NotAText(what.into()))?;
    whole_id(Some(id), what)?;
    Ok(id.to_owned())
}

fn entity_json(line: &EntityLine) -> Value {
    let mut object = Map::new();
    let mut say = |key: &str, value: Value| object.insert(key.to_owned(), value);
    say("entity", line.name.as_str().into());
    if let Some(state) = &line.state {
        say("state", state.as_str().into());
    }
    if let Some(Some(outer)) = &line.within {
        say("within", outer.as_str().into());
    }
    if line.detached == Some(true) {
        say("detached", true.into());
    }
    if let Some(Some(tenant)) = &line.tenant {
        say("tenant", tenant.as_str().into());
    }
    if let Some(tenants) = &line.tenants {
        say("tenants", tenants.as_slice().into());
    }
    if let Some(members) = &line.members {
        say("members", members.as_slice().into());
    }
    let attributes: Map<String, Value> = line
        .attributes
        .iter()
        .filter_map(|(name, value)| Some((name.clone(), value.as_ref()?.to_json())))
        .collect();
    if !attributes.is_empty() {
        say("attributes", attributes.into());
    }
    let relations: Map<String, Value> = line
        .relations
        .iter()
        .filter_map(|(name, to)| Some((name.clone(), to.as_ref()?.to.as_slice().into())))
        .collect();
    if !relations.is_empty() {
        say("relations", relations.into());
    }
    object.into()
}

fn grant_json(line: &GrantLine) -> Value {
    let mut inner = json!({ "id": line.id, "role": line.role, "to": line.to, "at": line.at });
    for (key, moment) in [("from", line.from), ("until", line.until)] {
        if let Some(moment) = moment {
            inner[key] = moment.to_string().into();
        }
    }
    for (name, values) in &line.values {
        inner["values"][name] = values.iter().map(Scalar::to_json).collect();
    }
    inner
}

fn activation_json(line: &ActivationLine) -> Value {
    let mut inner = json!({ "id": line.id, "grant": line.grant, "subject": line.subject });
    if let Some(session) = &line.session {
        inner["session"] = session.as_str().into();
    }
    for (key, moment) in [("from", line.from), ("until", line.until)] {
        if let Some(moment) = moment {
            inner[key] = moment.to_string().into();
        }
    }
    if let Some(reason) = &line.reason {
        inner["reason"] = reason.as_str().into();
    }
    inner
}

fn next_ids(value: &Value) -> Result<NextIds, Wrong> {
    let number = |key: &'static str| {
        let missing = Wrong::KeyMissing { what: "next", key };
        value.get(key).and_then(Value::as_u64).ok_or(missing)
    };
    Ok(NextIds { grant: number("grant")?, activation: number("activation")? })
}

fn whole_id(id: Option<&str>, what: &'static str) -> Result<(), Wrong> {
    let id = id.ok_or(Wrong::KeyMissing { what, key: "id" })?;
    if is_id(id) { Ok(()) } else { Err(Wrong::NoId { what, id: id.into() }) }
}

fn whole_of(name: &str, kind: &str) -> Result<(), Wrong> {
    let (found, _) = split_entity(name)?;
    if found == kind {
        return Ok(());
    }
    Err(Wrong::WrongKind { what: kind.into(), kinds: kind.into(), name: name.into() })
}

/// An entity's entry says all there is to say, with whole names.
fn whole_entity(line: &line::EntityLine) -> Result<(), Wrong> {
    split_entity(&line.name)?;
    if line.merge || line.drop {
        return Err(Wrong::UnknownKey {
            key: "merge".into(),
            what: "an entry",
            near: crate::names::Near::default(),
        });
    }
    for outer in line.within.iter().flatten() {
        split_entity(outer)?;
    }
    for tenant in line.tenant.iter().flatten().chain(line.tenants.iter().flatten()) {
        whole_of(tenant, "tenant")?;
    }
    for member in line.members.iter().flatten() {
        split_entity(member)?;
    }
    for target in line.relations.iter().flat_map(|(_, related)| related.iter().flat_map(|to| &to.to)) {
        split_entity(target)?;
    }
    Ok(())
}
