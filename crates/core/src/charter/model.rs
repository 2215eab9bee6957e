//! The checked form of a charter: names are ids, types are known, wildcards are expanded, and
//! every condition is typed. Made only by [`super::check`]; everything in it refers to something
//! that exists.
//!
//! What holds here:
//! - kinds 0 to 3 are `user`, `service`, `group`, `tenant`; resource types follow by key;
//! - permissions are grouped by type, in the order they were declared;
//! - roles and rules are sorted by key, bytewise, so that comparing ids compares keys.

use super::syntax::{Effect, GivenTo, Source};
use crate::interner::Interner;
use crate::source::Span;
use crate::value::{Scalar, Value, ValueType};
use jiff::SignedDuration;
use jiff::tz::TimeZone;

mod connect;
mod paths;

pub use connect::*;
pub use paths::Paths;

macro_rules! id {
    ($(#[$doc:meta])* $name:ident) => {
        $(#[$doc])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
        pub struct $name(pub u32);
        impl $name {
            /// As an index into the table of its kind.
            pub fn index(self) -> usize {
                self.0 as usize
            }
            /// The id of an index.
            ///
            /// # Panics
            /// Beyond 2³² entries; the bounds on a charter's size keep that out of reach.
            pub fn at(index: usize) -> Self {
                $name(u32::try_from(index).expect("a charter's size is bounded"))
            }
        }
    };
}
id!(
    /// A type of entity.
    KindId
);
id!(
    /// A permission, `type:action`.
    PermId
);
id!(
    /// A role of the charter.
    RoleId
);
id!(
    /// A rule.
    RuleId
);
id!(
    /// A conferral.
    ConferId
);
id!(
    /// The name of an attribute or relation.
    NameId
);
id!(
    /// A declared group.
    GroupId
);
id!(
    /// A node of a condition that has a truth value.
    TestId
);
id!(
    /// A node of a condition that has a value.
    OperandId
);
id!(
    /// A path of a condition.
    PathId
);

/// The kinds every charter has.
impl KindId {
    /// `user`
    pub const USER: KindId = KindId(0);
    /// `service`
    pub const SERVICE: KindId = KindId(1);
    /// `group`
    pub const GROUP: KindId = KindId(2);
    /// `tenant`
    pub const TENANT: KindId = KindId(3);

    /// Whether it is a user or a service.
    pub fn is_subject(self) -> bool {
        self == KindId::USER || self == KindId::SERVICE
    }

    /// Whether it is declared by the charter.
    pub fn is_resource(self) -> bool {
        self.0 > KindId::TENANT.0
    }
}

/// A checked charter.
#[derive(Clone, Debug)]
pub struct Model {
    /// What it is called.
    pub name: String,
    /// Its applications, by key.
    pub applications: Vec<Application>,
    /// All kinds of entity.
    pub kinds: Vec<Kind>,
    /// Names of attributes and relations.
    pub names: Interner,
    /// All permissions.
    pub permissions: Vec<Permission>,
    /// Keys of the declared groups.
    pub groups: Vec<String>,
    /// What a question may carry in its context.
    pub context: Vec<Attribute>,
    /// All roles, by key.
    pub roles: Vec<Role>,
    /// All rules, by key.
    pub rules: Vec<Rule>,
    /// All conferrals, each type's together, in the order they were written.
    pub confers: Vec<Confer>,
    /// For each role, its place in the order in which holding is worked out: what it depends on
    /// has a lower one, and roles that depend on each other share one.
    pub strata: Vec<u32>,
    /// All separations, by key.
    pub separations: Vec<Separation>,
    /// What tenants may put into roles of their own making.
    pub tenant_clauses: Vec<TenantClause>,
    /// All routes, in the order they were written.
    pub routes: Vec<Route>,
    /// For each application, its routes by their paths.
    pub paths: Vec<Paths>,
    /// All affordances, in the order they were written.
    pub affordances: Vec<Affordance>,
    /// What tokens mean, by key.
    pub issuers: Vec<Issuer>,
    /// Conditions with names, in the order they were written. Where one is met it stands in the
    /// condition that meets it.
    pub named: Vec<Named>,
}

impl Model {
    /// Every condition there is.
    pub fn conditions(&self) -> impl Iterator<Item = &Condition> {
        self.roles
            .iter()
            .flat_map(Role::conditions)
            .chain(self.rules.iter().filter_map(|rule| rule.when.as_ref()))
            .chain(self.confers.iter().filter_map(|confer| confer.when.as_ref()))
            .chain(self.tenant_clauses.iter().filter_map(|clause| clause.when.as_ref()))
    }
}

/// An application.
#[derive(Clone, Debug)]
pub struct Application {
    /// Its key.
    pub key: String,
    /// For people.
    pub name: String,
    /// For people.
    pub description: String,
}

/// A kind of entity: subject, group, tenant or resource type.
#[derive(Clone, Debug)]
pub struct Kind {
    /// Its key.
    pub key: String,
    /// For people; the key where nothing better was given.
    pub name: String,
    /// The application that owns it: an index; `None` for the reserved kinds.
    pub application: Option<usize>,
    /// The kinds it may lie within; empty: it lies nowhere.
    pub within: Vec<KindId>,
    /// Its attributes.
    pub attributes: Vec<Attribute>,
    /// Its relations.
    pub relations: Vec<Relation>,
    /// Its permissions.
    pub permissions: std::ops::Range<u32>,
    /// The roles it confers.
    pub confers: std::ops::Range<u32>,
}

impl Kind {
    /// The attribute of a name.
    pub fn attribute(&self, name: NameId) -> Option<&Attribute> {
        self.attributes.iter().find(|attribute| attribute.name == name)
    }

    /// The relation of a name.
    pub fn relation(&self, name: NameId) -> Option<&Relation> {
        self.relations.iter().find(|relation| relation.name == name)
    }
}

/// A stated value: one scalar or a list of them.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Stated {
    /// One.
    One(Scalar),
    /// A list.
    Many(Vec<Scalar>),
    /// Something no attribute can be, such as an object: it hides what stands behind it.
    Unfit,
}

impl Stated {
    /// The same as JSON; what no attribute can be is nothing.
    pub fn to_json(&self) -> serde_json::Value {
        match self {
            Stated::One(scalar) => scalar.to_json(),
            Stated::Many(scalars) => scalars.iter().map(Scalar::to_json).collect(),
            Stated::Unfit => serde_json::Value::Null,
        }
    }
}

/// A declared attribute.
#[derive(Clone, Debug)]
pub struct Attribute {
    /// Its name.
    pub name: NameId,
    /// The type of its value, or of each.
    pub kind: ValueType,
    /// Whether it is a list.
    pub many: bool,
    /// Where it is read from.
    pub from: Source,
    /// The only values it may have.
    pub values: Option<Vec<Value<'static>>>,
    /// What it is where nothing states it.
    pub default: Option<Stated>,
}

/// A declared relation.
#[derive(Clone, Debug)]
pub struct Relation {
    /// Its name.
    pub name: NameId,
    /// What it may lead to.
    pub to: Vec<KindId>,
    /// Whether it may lead to several.
    pub many: bool,
    /// Where it is read from.
    pub from: Source,
    /// Whether it is empty, not missing, where nothing states it.
    pub default_empty: bool,
    /// Whether it may lead into another tenant.
    pub across_tenants: bool,
}

/// A permission.
#[derive(Clone, Debug)]
pub struct Permission {
    /// `type:action`.
    pub text: String,
    /// Its type.
    pub kind: KindId,
    /// Its action.
    pub action: String,
    /// For people.
    pub description: String,
}

/// Where a role may be granted.
#[derive(Clone, Debug, Default)]
pub struct HeldAt {
    /// `everywhere`
    pub everywhere: bool,
    /// Tenants and resource types.
    pub kinds: Vec<KindId>,
}

impl HeldAt {
    /// Whether a grant at such a place may be: `None` is everywhere.
    pub fn permits(&self, place: Option<KindId>) -> bool {
        place.map_or(self.everywhere, |kind| self.kinds.contains(&kind))
    }
}

/// A role.
#[derive(Clone, Debug)]
pub struct Role {
    /// Its key.
    pub key: String,
    /// For people; the key where nothing better was given.
    pub name: String,
    /// For people.
    pub description: String,
    /// Its own permissions, wildcards expanded.
    pub permissions: Vec<PermId>,
    /// The roles it includes.
    pub includes: Vec<RoleId>,
    /// What it takes out, wildcards expanded.
    pub except: Vec<PermId>,
    /// Whether users may hold it.
    pub held_by_users: bool,
    /// Whether services may hold it.
    pub held_by_services: bool,
    /// Where it may be granted; `None`: anywhere.
    pub held_at: Option<HeldAt>,
    /// Whether it may be granted at all.
    pub grantable: bool,
    /// The values each grant of it names.
    pub values: Vec<(String, ValueType)>,
    /// What guards all it gives.
    pub when: Option<Condition>,
    /// To whom it is given without a grant.
    pub given_to: Option<GivenTo>,
    /// Permissions under their own condition.
    pub clauses: Vec<Clause>,
    /// If it is there, a grant gives nothing until it is activated.
    pub standby: Option<Standby>,
    /// Where its key stands.
    pub span: Span,
}

impl Role {
    /// The conditions that stand in it.
    pub fn conditions(&self) -> impl Iterator<Item = &Condition> {
        let standby = self.standby.iter().filter_map(|standby| standby.when.as_ref());
        self.when.iter().chain(self.clauses.iter().map(|clause| &clause.when)).chain(standby)
    }

    /// Whether subjects of this kind may hold it.
    pub fn held_by(&self, kind: KindId) -> bool {
        match kind {
            KindId::USER => self.held_by_users,
            KindId::SERVICE => self.held_by_services,
            _ => false,
        }
    }
}

/// Permissions of a role under a condition.
#[derive(Clone, Debug)]
pub struct Clause {
    /// Wildcards expanded.
    pub permissions: Vec<PermId>,
    /// Its condition.
    pub when: Condition,
    /// Its place.
    pub span: Span,
}

/// On what terms grants of a role are activated.
#[derive(Clone, Debug)]
pub struct Standby {
    /// How long one activation lasts at most.
    pub longest: SignedDuration,
    /// What must be so for an activation to count.
    pub when: Option<Condition>,
    /// Whether an activation needs a reason.
    pub reason: bool,
    /// Whether its holder may activate it.
    pub by_self: bool,
}

/// A role that a resource confers on whoever stands in some relation to it.
#[derive(Clone, Debug)]
pub struct Confer {
    /// The role.
    pub role: RoleId,
    /// The type that confers it.
    pub kind: KindId,
    /// If it is there, on whoever holds this role at the end of the path; else on who is there.
    pub holds: Option<RoleId>,
    /// From the conferring resource.
    pub path: Path,
    /// The path as written.
    pub path_text: String,
    /// What must be so of the conferring resource.
    pub when: Option<Condition>,
    /// Whether the path leads on out of what is detached.
    pub through_detached: bool,
    /// Its place.
    pub span: Span,
}

/// Roles of which nobody may hold two where both count.
#[derive(Clone, Debug)]
pub struct Separation {
    /// Its key.
    pub key: String,
    /// For people; the key where nothing better was given.
    pub name: String,
    /// Two roles or more.
    pub roles: Vec<RoleId>,
    /// Its place.
    pub span: Span,
}

/// Permissions that a tenant may put into a role of its own making.
#[derive(Clone, Debug)]
pub struct TenantClause {
    /// Wildcards expanded.
    pub permissions: Vec<PermId>,
    /// What then guards them.
    pub when: Option<Condition>,
    /// Its place.
    pub span: Span,
}

/// A condition with a name.
#[derive(Clone, Debug)]
pub struct Named {
    /// Its key.
    pub key: String,
    /// As it is written.
    pub text: String,
    /// Its place.
    pub span: Span,
}

/// A rule.
#[derive(Clone, Debug)]
pub struct Rule {
    /// Its key.
    pub key: String,
    /// Allow or deny.
    pub effect: Effect,
    /// Wildcards expanded.
    pub permissions: Vec<PermId>,
    /// `None`: always.
    pub when: Option<Condition>,
    /// For the person refused.
    pub message: Option<String>,
    /// For the application.
    pub advice: Vec<(String, String)>,
    /// Whether it reaches anyone, or only who is signed in.
    pub for_anyone: bool,
    /// Whether it reaches members of other tenants.
    pub across_tenants: bool,
    /// Its place.
    pub span: Span,
}

/// A typed condition: dense nodes that refer to each other by id, with their places beside them.
#[derive(Clone, Debug)]
pub struct Condition {
    pub(crate) tests: Vec<Test>,
    pub(crate) operands: Vec<Operand>,
    pub(crate) paths: Vec<Path>,
    pub(crate) test_spans: Vec<Span>,
    pub(crate) operand_spans: Vec<Span>,
    pub(crate) path_spans: Vec<Span>,
    pub(crate) root: TestId,
}

impl Condition {
    /// The roles its `holds` ask for.
    pub fn roles_asked(&self) -> impl Iterator<Item = RoleId> + '_ {
        self.tests.iter().filter_map(|test| match test {
            Test::HoldsRole(role) => Some(*role),
            _ => None,
        })
    }

    /// What is never so.
    pub(crate) fn never() -> Condition {
        Condition {
            tests: vec![Test::Constant(false)],
            operands: Vec::new(),
            paths: Vec::new(),
            test_spans: vec![Span::new(0, 0..0)],
            operand_spans: Vec::new(),
            path_spans: Vec::new(),
            root: TestId(0),
        }
    }

    /// The whole of it, as a place.
    pub fn span(&self) -> Span {
        self.test_spans[self.root.index()]
    }
}

/// A node with a truth value.
#[derive(Clone, Debug, PartialEq)]
pub enum Test {
    /// `true`, `false`
    Constant(bool),
    /// `not`
    Not(TestId),
    /// `and`
    All(Box<[TestId]>),
    /// `or`
    Any(Box<[TestId]>),
    /// A boolean attribute.
    Holds(OperandId),
    /// `==`
    Equal(OperandId, OperandId),
    /// `< <= > >=`
    Order(Order, OperandId, OperandId),
    /// `in`, of any but addresses
    In(OperandId, List),
    /// `in`, of an address in networks
    InNetwork(OperandId, List),
    /// `overlaps`, of any but addresses
    Overlaps(List, List),
    /// `overlaps`, of networks: one lies in, or is, the other
    OverlapNetworks(List, List),
    /// `holds('role')`
    HoldsRole(RoleId),
    /// `member('group')`
    Member(GroupId),
    /// `among(subject, path)`
    Among(PathId),
    /// `known(path)`
    Known(PathId),
    /// `starts(a, b)`
    Starts(OperandId, OperandId),
    /// `ends(a, b)`
    Ends(OperandId, OperandId),
    /// `contains(a, b)`
    Contains(OperandId, OperandId),
    /// `fits(text, 'pattern')`
    Fits(OperandId, Box<str>),
}

/// An order between two values.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Order {
    /// `<`
    Less,
    /// `<=`
    AtMost,
    /// `>`
    Greater,
    /// `>=`
    AtLeast,
}

/// A node with a value.
#[derive(Clone, Debug, PartialEq)]
pub enum Operand {
    /// A literal.
    Value(Value<'static>),
    /// `entity('type:id')`
    Entity(Box<str>),
    /// `now`
    Now,
    /// A path with at most one value.
    Path(PathId),
    /// A test taken as a boolean.
    Test(TestId),
    /// `+`
    Plus(OperandId, OperandId),
    /// `-`
    Minus(OperandId, OperandId),
    /// `lower(text)`
    Lower(OperandId),
    /// `clock(time, 'Zone/Name')`
    Clock(OperandId, Box<TimeZone>),
    /// `hour(time, 'Zone/Name')`
    Hour(OperandId, Box<TimeZone>),
    /// `weekday(time, 'Zone/Name')`
    Weekday(OperandId, Box<TimeZone>),
    /// `count(list)`
    Count(List),
}

/// What stands right of `in`.
#[derive(Clone, Debug, PartialEq)]
pub enum List {
    /// Literals.
    Values(Box<[Value<'static>]>),
    /// Entities.
    Entities(Box<[Box<str>]>),
    /// A path with many values, or a network.
    Path(PathId),
}

/// A path.
#[derive(Clone, Debug, PartialEq)]
pub struct Path {
    /// Where it starts.
    pub root: Root,
    /// Its steps, one `.name` each.
    pub steps: Box<[Step]>,
    /// Whether it gives a list.
    pub many: bool,
}

/// Where a path starts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Root {
    /// The question's subject.
    Subject,
    /// The question's resource.
    Resource,
    /// A key of the context, by its index in [`Model::context`].
    Context(usize),
    /// A value of the grant at hand, by its name in the model's names.
    Grant(NameId, ValueType),
}

/// One step.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Step {
    /// The text after the colon.
    Id,
    /// The text before the colon.
    Type,
    /// The tenant at the end of containment.
    Tenant,
    /// What it lies within.
    Within,
    /// Whether it is detached.
    Detached,
    /// A declared attribute.
    Attribute(NameId),
    /// A declared relation.
    Relation(NameId),
}
