//! The files of a charter as a tree that says no more than was written. Names are texts, nothing
//! is resolved, everything has its place. Reading always yields a tree plus findings.

pub mod condition;
mod read;
mod toml;

pub use read::{condition_in, read};
pub use toml::{Field, Fields, TomlFile, parse_file};

use crate::source::{At, Span};
use crate::value::{Scalar, ValueType};
use condition::Expr;
use jiff::SignedDuration;

/// A charter as written.
#[derive(Clone, Debug, Default)]
pub struct Tree {
    /// `[charter]`
    pub head: Option<Head>,
    /// `[application.KEY]`
    pub applications: Vec<Application>,
    /// `[resource.KEY]`
    pub resources: Vec<Resource>,
    /// `[subject.user]`, `[subject.service]`
    pub subjects: Vec<SubjectKind>,
    /// `[tenant.attributes]`
    pub tenant: Vec<Attribute>,
    /// `[group.KEY]`
    pub groups: Vec<Group>,
    /// `[condition.KEY]`
    pub conditions: Vec<NamedCondition>,
    /// `[context]`
    pub context: Vec<Attribute>,
    /// `[role.KEY]`
    pub roles: Vec<Role>,
    /// `[[rule]]`
    pub rules: Vec<Rule>,
    /// `[[separation]]`
    pub separations: Vec<Separation>,
    /// `[[tenant-roles.clause]]`
    pub tenant_roles: Vec<TenantClause>,
    /// `[[route]]`
    pub routes: Vec<Route>,
    /// `[[affordance]]`
    pub affordances: Vec<Affordance>,
    /// `[issuer.KEY]`
    pub issuers: Vec<Issuer>,
}

/// `[charter]`
#[derive(Clone, Debug)]
pub struct Head {
    /// What the charter is called.
    pub name: Option<At<String>>,
    /// Its format; 1.
    pub format: Option<At<i64>>,
    /// Its place.
    pub span: Span,
}

/// `[application.KEY]`
#[derive(Clone, Debug)]
pub struct Application {
    /// Its key.
    pub key: At<String>,
    /// For people.
    pub name: Option<At<String>>,
    /// For people.
    pub description: Option<At<String>>,
}

/// `[resource.KEY]`
#[derive(Clone, Debug)]
pub struct Resource {
    /// Its key.
    pub key: At<String>,
    /// The application that owns it.
    pub application: Option<At<String>>,
    /// For people.
    pub name: Option<At<String>>,
    /// The types it may lie within.
    pub within: Vec<At<String>>,
    /// Action and description.
    pub actions: Vec<(At<String>, String)>,
    /// Declared attributes.
    pub attributes: Vec<Attribute>,
    /// Declared relations.
    pub relations: Vec<Relation>,
    /// `[[resource.KEY.confer]]`
    pub confers: Vec<Confer>,
}

/// `[[resource.KEY.confer]]`
#[derive(Clone, Debug)]
pub struct Confer {
    /// The role conferred.
    pub role: Option<At<String>>,
    /// On whom.
    pub to: Option<ConferTo>,
    /// Its condition.
    pub when: Option<Expr>,
    /// `regardless = true`
    pub regardless: bool,
    /// `through-detached = true`
    pub through_detached: bool,
    /// Its place.
    pub span: Span,
}

/// On whom a role is conferred.
#[derive(Clone, Debug)]
pub enum ConferTo {
    /// `{ relation = "PATH" }`: whoever stands at its end.
    Relation(At<String>),
    /// `{ holds = "ROLE", at = "PATH" }`: whoever holds the role there.
    Holds(At<String>, At<String>),
}

/// `[subject.user]` or `[subject.service]`
#[derive(Clone, Debug)]
pub struct SubjectKind {
    /// `user` or `service`.
    pub key: At<String>,
    /// Declared attributes.
    pub attributes: Vec<Attribute>,
    /// Declared relations.
    pub relations: Vec<Relation>,
}

/// Where an attribute's value is taken from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Source {
    /// Register, then default.
    Register,
    /// Request, then default.
    Request,
    /// Register, then request, then default.
    Either,
    /// A verified token, then default.
    Token,
    /// Register, then a verified token, then default.
    RegisterOrToken,
}

impl Source {
    /// Whether what the register says counts.
    pub fn reads_register(self) -> bool {
        matches!(self, Source::Register | Source::Either | Source::RegisterOrToken)
    }

    /// Whether what comes with the question counts: stated by the application, or vouched for by a token.
    pub fn reads_request(self) -> bool {
        self != Source::Register
    }

    /// Whether the application that asks may state it.
    pub fn may_be_stated(self) -> bool {
        matches!(self, Source::Request | Source::Either)
    }

    /// As it is told: `register or request`.
    pub fn words(self) -> &'static str {
        match self {
            Source::Register => "register",
            Source::Request => "request",
            Source::Either => "register or request",
            Source::Token => "token",
            Source::RegisterOrToken => "register or token",
        }
    }
}

/// A declared attribute.
#[derive(Clone, Debug)]
pub struct Attribute {
    /// Its name.
    pub key: At<String>,
    /// Its type; `None` if what was written is none.
    pub kind: Option<At<ValueType>>,
    /// `many = true`
    pub many: bool,
    /// `from`
    pub from: Option<At<Source>>,
    /// `values = […]`
    pub values: Option<At<Vec<At<Scalar>>>>,
    /// `default`; a single value is a list of one.
    pub default: Option<At<Default>>,
}

/// A default as written.
#[derive(Clone, Debug)]
pub enum Default {
    /// One value.
    One(Scalar),
    /// A list.
    Many(Vec<Scalar>),
}

/// A declared relation.
#[derive(Clone, Debug)]
pub struct Relation {
    /// Its name.
    pub key: At<String>,
    /// The types it may lead to.
    pub to: Vec<At<String>>,
    /// `many = true`
    pub many: bool,
    /// `from`
    pub from: Option<At<Source>>,
    /// `default = []`
    pub default_empty: bool,
    /// `across-tenants = true`
    pub across_tenants: bool,
}

/// `[group.KEY]`
#[derive(Clone, Debug)]
pub struct Group {
    /// Its key: the id of the group entity.
    pub key: At<String>,
    /// For people.
    pub name: Option<At<String>>,
}

/// `[condition.KEY]`
#[derive(Clone, Debug)]
pub struct NamedCondition {
    /// Its key.
    pub key: At<String>,
    /// Its condition.
    pub when: Option<Expr>,
    /// `regardless = true`
    pub regardless: bool,
}

/// `[role.KEY]`
#[derive(Clone, Debug)]
pub struct Role {
    /// Its key.
    pub key: At<String>,
    /// For people.
    pub name: Option<At<String>>,
    /// For people.
    pub description: Option<At<String>>,
    /// Patterns of permissions.
    pub permissions: Vec<At<String>>,
    /// Roles it includes.
    pub includes: Vec<At<String>>,
    /// Patterns it takes out.
    pub except: Vec<At<String>>,
    /// Kinds of subject; `None` where not stated.
    pub held_by: Option<Vec<At<String>>>,
    /// Places; `None` where not stated.
    pub held_at: Option<Vec<At<String>>>,
    /// `grantable`; true unless stated.
    pub grantable: bool,
    /// `values`
    pub values: Vec<(At<String>, At<ValueType>)>,
    /// `when`
    pub when: Option<Expr>,
    /// `regardless = true`
    pub regardless: bool,
    /// `given-to`
    pub given_to: Option<At<GivenTo>>,
    /// `[[role.KEY.clause]]`
    pub clauses: Vec<Clause>,
    /// `standby`
    pub standby: Option<Standby>,
}

/// `standby = { … }`
#[derive(Clone, Debug)]
pub struct Standby {
    /// How long one activation lasts at most.
    pub longest: Option<SignedDuration>,
    /// What must be so for an activation to count.
    pub when: Option<Expr>,
    /// Whether an activation needs a reason.
    pub reason: bool,
    /// Whether its holder may activate it.
    pub by_self: bool,
    /// Its place.
    pub span: Span,
}

/// To whom a role is given without a grant.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum GivenTo {
    /// Everybody, known or not.
    Anyone,
    /// Every active subject.
    SignedIn,
    /// The members of the resource's tenant.
    Members,
}

impl GivenTo {
    /// As it is written.
    pub fn text(self) -> &'static str {
        match self {
            GivenTo::Anyone => "anyone",
            GivenTo::SignedIn => "signed-in",
            GivenTo::Members => "members",
        }
    }
}

/// `[[role.KEY.clause]]`
#[derive(Clone, Debug)]
pub struct Clause {
    /// Patterns of permissions.
    pub permissions: Vec<At<String>>,
    /// Their condition.
    pub when: Option<Expr>,
    /// `regardless = true`
    pub regardless: bool,
    /// Its place.
    pub span: Span,
}

/// `[[separation]]`
#[derive(Clone, Debug)]
pub struct Separation {
    /// Its key.
    pub key: Option<At<String>>,
    /// For people.
    pub name: Option<At<String>>,
    /// The roles of which nobody may hold two.
    pub roles: Vec<At<String>>,
    /// Its place.
    pub span: Span,
}

/// `[[tenant-roles.clause]]`
#[derive(Clone, Debug)]
pub struct TenantClause {
    /// Patterns of permissions.
    pub permissions: Vec<At<String>>,
    /// Their condition.
    pub when: Option<Expr>,
    /// `regardless = true`
    pub regardless: bool,
    /// `unguarded = true`
    pub unguarded: bool,
    /// Its place.
    pub span: Span,
}

/// `[[route]]`
#[derive(Clone, Debug)]
pub struct Route {
    /// The application it belongs to.
    pub application: Option<At<String>>,
    /// The method.
    pub method: Option<At<String>>,
    /// The path, with `{parameters}`.
    pub path: Option<At<String>>,
    /// Permissions, all of them needed.
    pub needs: Vec<At<String>>,
    /// Permissions, each with what it is about; needed too.
    pub each: Vec<(At<String>, RouteResource)>,
    /// `open = true`
    pub open: bool,
    /// `refuse = true`
    pub refuse: bool,
    /// What the permissions are about.
    pub resource: Option<RouteResource>,
    /// `unregistered = true`
    pub unregistered: bool,
    /// Its place.
    pub span: Span,
}

/// What a route's permissions are about.
#[derive(Clone, Debug)]
pub enum RouteResource {
    /// `"type:{parameter}"`
    Named(At<String>),
    /// `{ new = "type", within = "type:{parameter}" }`
    New(At<String>, Option<At<String>>),
    /// `{ any = "type", within = "type:{parameter}" }`
    Any(At<String>, Option<At<String>>),
}

/// `[[affordance]]`
#[derive(Clone, Debug)]
pub struct Affordance {
    /// The application it belongs to.
    pub application: Option<At<String>>,
    /// Its key.
    pub key: Option<At<String>>,
    /// For people.
    pub name: Option<At<String>>,
    /// The permission that shows it.
    pub visible: Option<At<String>>,
    /// The permission that enables it.
    pub enabled: Option<At<String>>,
    /// The affordance it is hidden with.
    pub under: Option<At<String>>,
    /// Its place.
    pub span: Span,
}

/// `[issuer.KEY]`: what a verified token of an issuer means.
#[derive(Clone, Debug)]
pub struct Issuer {
    /// Its key.
    pub key: At<String>,
    /// For people.
    pub name: Option<At<String>>,
    /// Whose questions its tokens may accompany.
    pub applications: Vec<At<String>>,
    /// The claim that names a user; `sub` unless stated.
    pub subject: Option<At<String>>,
    /// What stands before it in a user's id.
    pub prefix: Option<At<String>>,
    /// `same-people = true`
    pub same_people: bool,
    /// `lower-case = true`
    pub lower_case: bool,
    /// `services = { claim, is }`
    pub services: Option<ServiceClaim>,
    /// The claim of the session.
    pub session: Option<At<String>>,
    /// What becomes of a bearer who is not registered.
    pub unregistered: Option<At<Unregistered>>,
    /// `tenants = { claim, only }`
    pub tenants: Option<TenantClaim>,
    /// Attribute and claim.
    pub attributes: Vec<(At<String>, At<String>)>,
    /// Field of the context and claim.
    pub context: Vec<(At<String>, At<String>)>,
    /// `[[issuer.KEY.groups]]`
    pub groups: Vec<GroupClaim>,
}

/// Which tokens are services'.
#[derive(Clone, Debug)]
pub struct ServiceClaim {
    /// The claim that says so.
    pub claim: At<String>,
    /// By one of these values.
    pub is: Vec<At<String>>,
}

/// The claim of memberships in tenants.
#[derive(Clone, Debug)]
pub struct TenantClaim {
    /// The claim.
    pub claim: At<String>,
    /// Ids of the tenants it may name; `None` where not stated.
    pub only: Option<Vec<At<String>>>,
}

/// `[[issuer.KEY.groups]]`
#[derive(Clone, Debug)]
pub struct GroupClaim {
    /// The claim.
    pub claim: At<String>,
    /// A value, and the id of the group it stands for.
    pub map: Vec<(At<String>, At<String>)>,
    /// Whether a group's bare id stands for it.
    pub by_name: Option<At<bool>>,
    /// Whether groups that a directory feeds count too.
    pub stale_ok: bool,
    /// Its place.
    pub span: Span,
}

/// What becomes of a bearer who is not registered.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Unregistered {
    /// They are anonymous.
    Anonymous,
    /// They are active for their own question.
    SignedIn,
}

/// What a rule does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Effect {
    /// Opens.
    Allow,
    /// Shuts.
    Deny,
}

/// `[[rule]]`
#[derive(Clone, Debug)]
pub struct Rule {
    /// Its key.
    pub key: Option<At<String>>,
    /// Its effect.
    pub effect: Option<At<Effect>>,
    /// Patterns of permissions.
    pub permissions: Vec<At<String>>,
    /// Its condition.
    pub when: Option<Expr>,
    /// `regardless = true`
    pub regardless: bool,
    /// For the person refused.
    pub message: Option<String>,
    /// For the application, with the decision.
    pub advice: Vec<(String, String)>,
    /// `for`
    pub for_whom: Option<At<GivenTo>>,
    /// `across-tenants = true`
    pub across_tenants: bool,
    /// Its place.
    pub span: Span,
}
