//! One line of a register file: an entity or a grant, or the end of one, as JSON.

use super::wrong::Wrong;
use crate::charter::model::Stated;
use crate::names::{Near, is_key};
use crate::value::{Scalar, parse_time};
use jiff::Timestamp;
use serde_json::{Map, Value};

/// Longest line read, in bytes.
pub const MAX_LINE_BYTES: usize = 1 << 20;

/// One change to the register, as it was written.
#[derive(Clone, Debug, PartialEq)]
pub enum Change {
    /// Says all there is to say of an entity, or with `merge` something more.
    Entity(Box<EntityLine>),
    /// Removes an entity and every fact that names it.
    Delete {
        /// `type:id`
        name: String,
        /// Whether what lies within goes with it.
        contents: bool,
    },
    /// Gives a role.
    Grant(Box<GrantLine>),
    /// Ends a grant.
    EndGrant(String),
    /// Activates a grant on standby.
    Activate(Box<ActivationLine>),
    /// Ends an activation.
    EndActivation(String),
    /// Makes a tenant's role, or makes it anew.
    TenantRole(Box<TenantRoleLine>),
    /// Ends a tenant's role, and its grants: `tenant/key`.
    EndTenantRole(String),
    /// Takes something away that was said of an entity.
    Retract(super::fact::Retraction),
}

/// `{"activation":…}`
#[derive(Clone, Debug, Default, PartialEq)]
pub struct ActivationLine {
    /// Its id; one is made if none is stated.
    pub id: Option<String>,
    /// The grant's id.
    pub grant: String,
    /// For whom.
    pub subject: String,
    /// In which session only.
    pub session: Option<String>,
    /// From when.
    pub from: Option<Timestamp>,
    /// Until when.
    pub until: Option<Timestamp>,
    /// Why.
    pub reason: Option<String>,
    /// Taken as rightly made, without an end or a reason: of samples and suppositions only, and
    /// never read from a line.
    pub assumed: bool,
}

/// `{"tenant-role":…}`
#[derive(Clone, Debug, Default, PartialEq)]
pub struct TenantRoleLine {
    /// Whose.
    pub tenant: String,
    /// Its key.
    pub key: String,
    /// For people.
    pub name: Option<String>,
    /// Patterns of permissions.
    pub permissions: Vec<String>,
}

/// `{"entity":…}`
#[derive(Clone, Debug, Default, PartialEq)]
pub struct EntityLine {
    /// `type:id`
    pub name: String,
    /// Adds to what is said instead of replacing it.
    pub merge: bool,
    /// `active` or `suspended`.
    pub state: Option<String>,
    /// What it lies within; in a merge, `Some(None)` removes.
    pub within: Option<Option<String>>,
    /// Whether it is detached.
    pub detached: Option<bool>,
    /// A group's tenant; in a merge, `Some(None)` removes.
    pub tenant: Option<Option<String>>,
    /// Tenants it is a member of.
    pub tenants: Option<Vec<String>>,
    /// A group's members.
    pub members: Option<Vec<String>>,
    /// Attributes; `None` removes.
    pub attributes: Vec<(String, Option<Stated>)>,
    /// Relations; `None` removes.
    pub relations: Vec<(String, Option<Related>)>,
    /// A move into another tenant drops the grants, activations and relations of all that moves.
    pub drop: bool,
}

/// What a relation is said to lead to.
#[derive(Clone, Debug, PartialEq)]
pub struct Related {
    /// The names as written.
    pub to: Vec<String>,
    /// Whether they are added to those there are.
    pub add: bool,
}

/// `{"grant":…}`
#[derive(Clone, Debug, Default, PartialEq)]
pub struct GrantLine {
    /// Its id; one is made if none is stated.
    pub id: Option<String>,
    /// The role's key.
    pub role: String,
    /// To whom.
    pub to: String,
    /// Where.
    pub at: String,
    /// From when.
    pub from: Option<Timestamp>,
    /// Until when.
    pub until: Option<Timestamp>,
    /// Values by name.
    pub values: Vec<(String, Vec<Scalar>)>,
}

/// Reads one line.
///
/// # Errors
/// What is wrong with it.
pub fn parse(line: &str) -> Result<Change, Wrong> {
    if line.len() > MAX_LINE_BYTES {
        return Err(Wrong::LineTooLong(MAX_LINE_BYTES));
    }
    from_json(&crate::json::parse(line.as_bytes()).map_err(|why| Wrong::NotJson(why.into()))?)
}

/// What a line begins with.
const STARTS: [&str; 8] = [
    "entity",
    "grant",
    "delete",
    "end-grant",
    "activation",
    "end-activation",
    "tenant-role",
    "end-tenant-role",
];

/// Reads one line that is JSON already.
///
/// # Errors
/// What is wrong with it.
pub fn from_json(value: &Value) -> Result<Change, Wrong> {
    let object = object(value, "a line")?;
    let Some(start) = STARTS.iter().find(|start| object.contains_key(**start)) else {
        let found = object.keys().next().map_or("", String::as_str);
        let near = Near::of(found, STARTS);
        return Err(Wrong::BeginsNoLine { found: found.into(), near, known: STARTS.join(", ").into() });
    };
    let inner = &object[*start];
    match *start {
        "entity" => entity(object).map(|line| Change::Entity(Box::new(line))),
        "grant" => {
            only(object, &["grant"], "a grant's line")?;
            grant(inner).map(|line| Change::Grant(Box::new(line)))
        }
        "delete" => {
            only(object, &["delete", "with-contents"], "a delete")?;
            let contents = object.get("with-contents").map(|value| boolean(value, "with-contents"));
            Ok(Change::Delete {
                name: text(inner, "delete")?,
                contents: contents.transpose()?.unwrap_or(false),
            })
        }
        "end-grant" => {
            only(object, &["end-grant"], "an end-grant")?;
            text(inner, "end-grant").map(Change::EndGrant)
        }
        "activation" => {
            only(object, &["activation"], "an activation's line")?;
            activation(inner).map(|line| Change::Activate(Box::new(line)))
        }
        "end-activation" => {
            only(object, &["end-activation"], "an end-activation")?;
            text(inner, "end-activation").map(Change::EndActivation)
        }
        "tenant-role" => {
            only(object, &["tenant-role"], "a tenant role's line")?;
            tenant_role(inner).map(|line| Change::TenantRole(Box::new(line)))
        }
        _ => {
            only(object, &["end-tenant-role"], "an end-tenant-role")?;
            text(inner, "end-tenant-role").map(Change::EndTenantRole)
        }
    }
}

fn object<'v>(value: &'v Value, what: &str) -> Result<&'v Map<String, Value>, Wrong> {
    value.as_object().ok_or_else(|| Wrong::NotAnObject { what: what.into() })
}

fn only(object: &Map<String, Value>, known: &[&str], what: &'static str) -> Result<(), Wrong> {
    match object.keys().find(|key| !known.contains(&key.as_str())) {
        Some(key) => {
            let near = Near::of(key, known.iter().copied());
            Err(Wrong::UnknownKey { key: key.as_str().into(), what, near })
        }
        None => Ok(()),
    }
}

fn text(value: &Value, key: &str) -> Result<String, Wrong> {
    value.as_str().map(str::to_owned).ok_or_else(|| Wrong::NotAText(key.into()))
}

fn texts(value: &Value, key: &str) -> Result<Vec<String>, Wrong> {
    let items = value.as_array().ok_or_else(|| Wrong::NotTexts(key.into()))?;
    items.iter().map(|item| text(item, &format!("each of {key}"))).collect()
}

fn boolean(value: &Value, key: &'static str) -> Result<bool, Wrong> {
    value.as_bool().ok_or(Wrong::NotABoolean(key))
}

/// Names of attributes and relations are keys: a charter declares no others.
fn key(name: &str) -> Result<String, Wrong> {
    if is_key(name) { Ok(name.to_owned()) } else { Err(Wrong::NotAKey(name.into())) }
}

fn entity(object: &Map<String, Value>) -> Result<EntityLine, Wrong> {
    let known = [&["entity", "merge", "drop"][..], &EntityLine::KEYS].concat();
    only(object, &known, "an entity's line")?;
    let mut line = EntityLine { name: text(&object["entity"], "entity")?, ..EntityLine::default() };
    if let Some(merge) = object.get("merge") {
        line.merge = boolean(merge, "merge")?;
    }
    if let Some(drop) = object.get("drop") {
        line.drop = boolean(drop, "drop")?;
    }
    line.fill(object)?;
    Ok(line)
}

impl EntityLine {
    /// What can be said of an entity, on a line or in a sample.
    pub const KEYS: [&'static str; 8] =
        ["state", "within", "detached", "tenant", "tenants", "members", "attributes", "relations"];

    /// Takes everything but the name and `merge` from an object: what samples share with lines.
    ///
    /// # Errors
    /// Which value has a wrong shape.
    pub fn fill(&mut self, object: &Map<String, Value>) -> Result<(), Wrong> {
        let get = |key: &str| object.get(key);
        let one = |value: &Value, key: &str| match value {
            Value::Null => Ok(None),
            value => text(value, key).map(Some),
        };
        self.state = get("state").map(|value| text(value, "state")).transpose()?;
        self.within = get("within").map(|value| one(value, "within")).transpose()?;
        self.tenant = get("tenant").map(|value| one(value, "tenant")).transpose()?;
        self.tenants = get("tenants").map(|value| texts(value, "tenants")).transpose()?;
        self.members = get("members").map(|value| texts(value, "members")).transpose()?;
        self.detached = get("detached").map(|value| boolean(value, "detached")).transpose()?;
        if let Some(attributes) = get("attributes") {
            for (name, value) in self::object(attributes, "attributes")? {
                self.attributes.push((key(name)?, stated(value)));
            }
        }
        if let Some(relations) = get("relations") {
            for (name, value) in self::object(relations, "relations")? {
                let related = match value {
                    Value::Null => None,
                    Value::String(one) => Some(Related { to: vec![one.clone()], add: false }),
                    value => Some(Related { to: texts(value, name)?, add: false }),
                };
                self.relations.push((key(name)?, related));
            }
        }
        Ok(())
    }
}

/// A JSON value as what is stated; null is nothing.
pub fn stated(value: &Value) -> Option<Stated> {
    match value {
        Value::Null => None,
        Value::Array(items) => {
            let scalars: Option<Vec<Scalar>> = items.iter().map(Scalar::from_json).collect();
            Some(scalars.map_or(Stated::Unfit, Stated::Many))
        }
        value => Some(Scalar::from_json(value).map_or(Stated::Unfit, Stated::One)),
    }
}

fn required(object: &Map<String, Value>, key: &'static str, what: &'static str) -> Result<String, Wrong> {
    object.get(key).ok_or(Wrong::KeyMissing { what, key }).and_then(|value| text(value, key))
}

fn moment(object: &Map<String, Value>, key: &'static str) -> Result<Option<Timestamp>, Wrong> {
    match object.get(key) {
        None | Some(Value::Null) => Ok(None),
        Some(value) => {
            let written = text(value, key)?;
            parse_time(&written).map(Some).ok_or(Wrong::NotAMoment { key, written: written.into() })
        }
    }
}

fn optional(object: &Map<String, Value>, key: &str) -> Result<Option<String>, Wrong> {
    object.get(key).filter(|value| !value.is_null()).map(|value| text(value, key)).transpose()
}

/// The content of `{"activation":…}`.
///
/// # Errors
/// What is wrong with it.
pub fn activation(value: &Value) -> Result<ActivationLine, Wrong> {
    let object = object(value, "an activation")?;
    only(object, &["id", "grant", "subject", "session", "from", "until", "reason"], "an activation")?;
    Ok(ActivationLine {
        id: optional(object, "id")?,
        grant: required(object, "grant", "an activation")?,
        subject: required(object, "subject", "an activation")?,
        session: optional(object, "session")?,
        from: moment(object, "from")?,
        until: moment(object, "until")?,
        reason: optional(object, "reason")?,
        assumed: false,
    })
}

/// The content of `{"tenant-role":…}`.
///
/// # Errors
/// What is wrong with it.
pub fn tenant_role(value: &Value) -> Result<TenantRoleLine, Wrong> {
    let object = object(value, "a tenant role")?;
    only(object, &["tenant", "key", "name", "permissions"], "a tenant role")?;
    let missing = Wrong::KeyMissing { what: "a tenant role", key: "permissions" };
    let permissions = object.get("permissions").ok_or(missing)?;
    Ok(TenantRoleLine {
        tenant: required(object, "tenant", "a tenant role")?,
        key: required(object, "key", "a tenant role")?,
        name: optional(object, "name")?,
        permissions: texts(permissions, "permissions")?,
    })
}

/// The content of `{"grant":…}`.
///
/// # Errors
/// What is wrong with it.
pub fn grant(value: &Value) -> Result<GrantLine, Wrong> {
    let object = object(value, "a grant")?;
    only(object, &["id", "role", "to", "at", "from", "until", "values"], "a grant")?;
    let mut values = Vec::new();
    if let Some(stated) = object.get("values") {
        for (name, value) in self::object(stated, "values")? {
            let items = match value {
                Value::Array(items) => items.as_slice(),
                one => std::slice::from_ref(one),
            };
            let scalars: Option<Vec<Scalar>> = items.iter().map(Scalar::from_json).collect();
            values.push((key(name)?, scalars.ok_or_else(|| Wrong::NotScalars(name.as_str().into()))?));
        }
    }
    Ok(GrantLine {
        id: optional(object, "id")?,
        role: required(object, "role", "a grant")?,
        to: required(object, "to", "a grant")?,
        at: required(object, "at", "a grant")?,
        from: moment(object, "from")?,
        until: moment(object, "until")?,
        values,
    })
}
