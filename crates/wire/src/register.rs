//! Facts as they are read and written.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::borrow::Cow;
use std::collections::BTreeMap;

/// A page of a list.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Page<T> {
    /// What is listed.
    pub items: Vec<T>,
    /// Where the next page begins, if there is one.
    pub next: Option<String>,
}

/// All that is said of an entity, as a register line. What is left out is not said.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct EntityLine {
    /// `type:id`.
    pub entity: String,
    /// `suspended`; a user or service that is active has none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub state: Option<String>,
    /// What a resource lies within.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub within: Option<String>,
    /// Whether roles that arrive outside stop at it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub detached: bool,
    /// The tenant of a group.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tenant: Option<String>,
    /// The tenants a user or service is a member of.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tenants: Vec<String>,
    /// The members of a group.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub members: Vec<String>,
    /// How many members a group has, where not all of them are told.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub member_count: Option<usize>,
    /// Attributes by name.
    #[serde(default, skip_serializing_if = "Map::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = Object))]
    pub attributes: Map<String, Value>,
    /// Relations by name.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub relations: BTreeMap<String, Vec<String>>,
}

/// A grant as a register line.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct GrantLine {
    /// The grant.
    pub grant: Grant,
}

/// A role given to a holder at a place.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Grant {
    /// Its id.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub id: Option<String>,
    /// The role's key; of a tenant's own role `tenant/key`.
    pub role: String,
    /// A user, service or group.
    pub to: String,
    /// `everywhere`, a tenant or a resource.
    pub at: String,
    /// First moment it counts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// First moment it counts no more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
    /// Values by name.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = Object))]
    pub values: BTreeMap<String, Vec<Value>>,
}

/// An activation as a register line.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ActivationLine {
    /// The activation.
    pub activation: Activation,
}

/// That a grant on standby counts for somebody.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Activation {
    /// Its id.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub id: Option<String>,
    /// The grant's id.
    pub grant: String,
    /// For whom.
    pub subject: String,
    /// In which session only.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub session: Option<String>,
    /// From when; the present moment unless stated.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Until when; as long as its role lets it unless stated.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
    /// Why.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
}

/// A grant to activate.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ActivationRequest {
    /// An id to give it; one is made unless stated.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub id: Option<String>,
    /// The grant's id.
    pub grant: String,
    /// For whom.
    pub subject: String,
    /// In which session only; an application's key must say one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub session: Option<String>,
    /// From when; the present moment unless stated.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Until when; as long as its role lets it unless stated.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
    /// Why.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// What the role's condition is asked with.
    #[serde(default, skip_serializing_if = "Map::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = Object))]
    pub context: Map<String, Value>,
}

/// A tenant's own role as a register line.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct TenantRoleLine {
    /// The role.
    pub tenant_role: TenantRole,
}

/// A role that a tenant made.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct TenantRole {
    /// Whose: `tenant:id`, or the id alone.
    pub tenant: String,
    /// Its key.
    pub key: String,
    /// For people.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Patterns of permissions.
    pub permissions: Vec<String>,
}

/// What a write came to.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Written {
    /// The position it ends at, `<epoch>.<n>`: an answer at this position includes it.
    pub position: String,
    /// The digest of the journal there, in hexadecimal: it tells this history from another.
    pub digest: String,
    /// What changed, as lines of the journal, as far as the caller may read them; empty if it was so already.
    #[cfg_attr(feature = "schema", schema(value_type = Vec<Object>))]
    pub changed: Vec<Value>,
    /// What of it charters that are live for other applications do not declare, and ignore.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub ignored: Vec<String>,
}

/// The result of one line of a load that is read as it comes.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LineResult {
    /// Which line, from 1.
    pub line: usize,
    /// The position it is in force from.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub position: Option<String>,
    /// Why it is not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub error: Option<String>,
}

/// How a load is done.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::IntoParams))]
#[cfg_attr(feature = "schema", into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub struct LoadQuery {
    /// Only says what would be refused and what would change.
    #[serde(default)]
    pub check: bool,
    /// Only if nothing was written since this position.
    pub at: Option<i64>,
}

/// Facts to set and to remove.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Facts {
    /// Fact lines that shall hold.
    #[serde(default)]
    pub set: Vec<String>,
    /// Fact lines that shall not.
    #[serde(default)]
    pub remove: Vec<String>,
}

/// Which entities.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::IntoParams))]
#[cfg_attr(feature = "schema", into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub struct EntityQuery {
    /// Only names that begin so.
    #[serde(default)]
    pub prefix: String,
    /// Only those in whose name, or in a text that is stated of them, this stands; upper and lower
    /// case of Latin letters are one.
    #[serde(default)]
    pub containing: String,
    /// Only those of which this is stated: `name=value`, the value as JSON or as a bare text.
    pub attribute: Option<String>,
    /// Only what lies directly within this.
    pub within: Option<String>,
    /// Only names after this one: the last of the page before.
    #[serde(default)]
    pub after: String,
    /// At most so many; 100 unless stated, at most 1000.
    pub limit: Option<usize>,
    /// Groups with the number of their members (`member-count`) in place of all of them.
    #[serde(default)]
    pub brief: bool,
}

/// How one entity is told.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::IntoParams))]
#[cfg_attr(feature = "schema", into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub struct BriefQuery {
    /// A group with the number of its members (`member-count`) in place of all of them. Written back, such
    /// a line would say that it has none.
    #[serde(default)]
    pub brief: bool,
}

/// An entity with what is known of it and what names it.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EntityShown {
    /// Its line.
    pub entity: EntityLine,
    /// The groups it is a direct member of.
    pub groups: Vec<String>,
    /// Grants to it, as far as the caller may read their places.
    pub grants: Vec<GrantLine>,
    /// What lies directly within it, at most 1000.
    pub contents: Vec<String>,
    /// What stands for all that is said of it: for `If-Match`, as the `ETag` has it.
    pub tag: String,
    /// The position this was read at.
    pub position: i64,
}

/// Which members.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::IntoParams))]
#[cfg_attr(feature = "schema", into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub struct MemberQuery {
    /// Only names that begin so.
    #[serde(default)]
    pub prefix: String,
    /// Only names in which this stands.
    #[serde(default)]
    pub containing: String,
    /// Only names after this one.
    #[serde(default)]
    pub after: String,
    /// At most so many; 100 unless stated, at most 1000.
    pub limit: Option<usize>,
}

/// Members of a group.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Members {
    /// The page, by name.
    pub items: Vec<String>,
    /// Where the next page begins, if there is one.
    pub next: Option<String>,
    /// How many there are in all.
    pub total: usize,
}

/// How an entity is deleted.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::IntoParams))]
#[cfg_attr(feature = "schema", into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub struct DeleteQuery {
    /// What lies within it too.
    #[serde(default)]
    pub contents: bool,
}

/// Which grants.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::IntoParams))]
#[cfg_attr(feature = "schema", into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub struct GrantQuery {
    /// Only the one with this id.
    pub id: Option<String>,
    /// Only those to this holder.
    pub to: Option<String>,
    /// Only those at this place.
    pub at: Option<String>,
    /// Only those of this role.
    pub role: Option<String>,
    /// Only ids after this one.
    #[serde(default)]
    pub after: String,
    /// At most so many; 100 unless stated, at most 1000.
    pub limit: Option<usize>,
}

/// Why something is done.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::IntoParams))]
#[cfg_attr(feature = "schema", into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub struct NoteQuery {
    /// The reason, kept with the change.
    pub note: Option<String>,
}

/// Which activations.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::IntoParams))]
#[cfg_attr(feature = "schema", into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub struct ActivationQuery {
    /// Only those for this subject.
    pub subject: Option<String>,
    /// How many to pass over: `next` of the page before.
    #[serde(default)]
    pub after: usize,
    /// At most so many; 1000 unless stated, which is the most.
    pub limit: Option<usize>,
}

/// Whose roles.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::IntoParams))]
#[cfg_attr(feature = "schema", into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub struct TenantQuery {
    /// Only those of this tenant, by its id.
    pub tenant: Option<String>,
}

/// A thing in its surroundings.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct Around {
    /// The thing.
    pub name: String,
    /// Whether roles that arrive around it stop at it.
    pub detached: bool,
    /// What it lies within, from the inner to the outer.
    pub outer: Vec<Outer>,
    /// What else lies directly where it lies.
    pub siblings: usize,
    /// What lies directly in it, by type.
    pub contents: Vec<Counted>,
    /// The first of it, by name.
    pub inside: Vec<Outer>,
    /// Its relations.
    pub relations: Vec<Related>,
    /// What names it by relation.
    pub named_by: Vec<Counted>,
    /// The first of those, with the relation.
    pub namers: Vec<Namer>,
    /// How many grants were given at it.
    pub grants: usize,
}

/// A frame of the picture.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Outer {
    /// What it is called.
    pub name: String,
    /// Whether roles from around it stop at it.
    pub detached: bool,
}

/// So many of a kind.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Counted {
    /// A type, or a relation.
    pub key: String,
    /// How many.
    pub count: usize,
}

/// Who stands in a relation.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Related {
    /// The relation.
    pub relation: String,
    /// Who or what, the first hundred.
    pub to: Vec<String>,
    /// How many there are.
    pub count: usize,
    /// The roles that it confers on them.
    pub confers: Vec<String>,
}

/// Who names it.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Namer {
    /// Who.
    pub name: String,
    /// By which relation.
    pub relation: String,
}

/// Of a place, or of a subject.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::IntoParams))]
#[cfg_attr(feature = "schema", into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub struct HoldingQuery {
    /// What arrives at this place: a resource, a tenant, or `everywhere`.
    pub at: Option<String>,
    /// What reaches this subject.
    pub by: Option<String>,
    /// Only grants of this role.
    pub role: Option<String>,
    /// How many to pass over: `next` of the page before.
    #[serde(default)]
    pub after: usize,
    /// At most so many; 100 unless stated, at most 1000.
    pub limit: Option<usize>,
}

/// A grant, and how it stands.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Holding {
    /// The grant.
    pub grant: Grant,
    /// `counts`, `later`, `ended`, `standby`, `active`, or `idle`: the charter does not permit it.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub standing: Cow<'static, str>,
    /// Why it is idle.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// How many subjects a group that holds it has.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub members: Option<usize>,
}

/// Grants, soonest end first.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Holdings {
    /// The page.
    pub items: Vec<Holding>,
    /// What to pass over for the next page, if there is one.
    pub next: Option<usize>,
    /// How many there are in all.
    pub total: usize,
    /// The places they come from, from the inner to the outer; or the subject and its groups.
    pub from: Vec<String>,
}

/// How many a role reaches by grants.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RoleReach {
    /// Grants of it, or of a role that includes it.
    pub grants: usize,
    /// Users and services, each once.
    pub subjects: usize,
    /// Whether all were counted.
    pub whole: bool,
}
