//! Decisions: one walk over compiled tables and the register, with a listener that either does
//! nothing or records what the explanation is made of. There is no second way to an answer.
//!
//! - [`question`]: what is asked, from texts and JSON to ids;
//! - [`bearer`]: who asks with a token, and what it vouches for;
//! - [`site`]: what counts at a place: the places around it, the groups that stand for a subject;
//! - [`walk`](mod@walk): the steps of a decision, in their order;
//! - [`confer`]: roles that come from relationships;
//! - [`evaluate`]: conditions, paths and the tenant seal;
//! - [`explain`]: the recording listener, and its words;
//! - [`actions`], [`reach`], [`holders`], [`hints`], [`rows`]: the other questions, each made of
//!   decisions;
//! - [`gains`]: what a token adds;
//! - [`in_force`]: charters that are live side by side;
//! - [`take`]: what it would take.

pub mod actions;
pub mod bearer;
mod confer;
mod evaluate;
pub mod explain;
pub(crate) mod facts;
pub mod gains;
pub mod hints;
pub mod holders;
pub mod in_force;
pub mod question;
pub mod reach;
pub mod rows;
pub mod search;
mod site;
pub mod standby;
pub mod take;
pub mod told;
mod walk;
pub(crate) mod ways;
mod world;

pub use confer::MAX_PAIRS;
pub(crate) use evaluate::Lack;
pub use evaluate::Part;
pub use in_force::InForce;
pub use world::{NotSupposed, World};

use crate::charter::model::{Condition, ConferId, KindId, PermId, RoleId, RuleId};
use crate::charter::policy::Policy;
use crate::charter::syntax::GivenTo;
use crate::register::sight::Sight;
use crate::register::{EntityId, Register, State, Sym};
use crate::value::Truth;
use confer::Conferral;
use evaluate::Bound;
pub(crate) use evaluate::{fits, networks_overlap};
use question::{Question, Resource, Subject};
use site::{Holders, Site};
use std::cell::RefCell;
use walk::Walk;

/// How the names of one charter and one register correspond. Cheap to make; made anew after a
/// change to either.
#[derive(Clone, Debug)]
pub struct Link {
    kinds: Vec<Option<KindId>>,
    roles: Vec<Option<Named>>,
    made: Vec<Made>,
    names: Vec<Option<Sym>>,
    groups: Vec<Option<EntityId>>,
}

/// What the name of a role stands for under a charter.
#[derive(Clone, Copy, Debug)]
enum Named {
    /// A role of the charter.
    Role(RoleId),
    /// A role that a tenant made, by its place in the link.
    Made(u32),
}

/// A role that a tenant made, under a charter.
#[derive(Clone, Debug)]
struct Made {
    key: Sym,
    tenant: EntityId,
    /// Sorted.
    permissions: Vec<PermId>,
}

impl Link {
    /// Looks every name up.
    pub fn new(policy: &Policy, register: &Register) -> Link {
        let model = policy.model();
        let syms = (0..register.names()).map(|at| Sym(u32::try_from(at).unwrap_or(u32::MAX)));
        let mut roles: Vec<Option<Named>> =
            syms.clone().map(|sym| policy.role(register.text(sym)).map(Named::Role)).collect();
        let mut made = Vec::new();
        for (key, role) in register.made_roles() {
            roles[key.0 as usize] = Some(Named::Made(u32::try_from(made.len()).unwrap_or(u32::MAX)));
            let mut permissions: Vec<PermId> =
                role.permissions.iter().flat_map(|pattern| policy.expand(pattern)).collect();
            permissions.sort_unstable();
            permissions.dedup();
            made.push(Made { key, tenant: role.tenant, permissions });
        }
        Link {
            kinds: syms.map(|sym| policy.kind(register.text(sym))).collect(),
            roles,
            made,
            names: (0..model.names.end())
                .map(|at| register.sym(model.names.text(u32::try_from(at).unwrap_or(u32::MAX))))
                .collect(),
            groups: model.groups.iter().map(|key| register.registered(&format!("group:{key}"))).collect(),
        }
    }
}

/// A charter and a register, ready to be asked.
#[derive(Clone, Copy, Debug)]
pub struct Engine<'a> {
    /// The charter.
    pub policy: &'a Policy,
    /// The register.
    pub register: &'a Register,
    /// Their names, side by side.
    pub link: &'a Link,
    /// What may be named: what may not is not there.
    pub sight: &'a Sight,
}

impl<'a> Engine<'a> {
    fn kind(&self, id: EntityId) -> Option<KindId> {
        self.link.kinds[self.register.kind(id).0 as usize]
    }

    /// The tenant of an entity.
    pub fn tenant(&self, id: EntityId) -> Tenant {
        match self.register.kind(id) {
            Sym::TENANT => Tenant::Is(id),
            Sym::USER | Sym::SERVICE => Tenant::None,
            Sym::GROUP => self.register.group_tenant(id).map_or(Tenant::None, Tenant::Is),
            _ => {
                let mut end = id;
                // The register keeps containment without loops.
                while let Some(outer) = self.register.within(end) {
                    end = outer;
                }
                self.tenant_at_end(end, self.register.kind(end))
            }
        }
    }

    /// The tenant of what a walk outwards ends at: that itself; none where its type lies nowhere; unknown
    /// where it should lie in something.
    fn tenant_at_end(&self, end: EntityId, kind: Sym) -> Tenant {
        match self.link.kinds[kind.0 as usize] {
            _ if kind == Sym::TENANT => Tenant::Is(end),
            Some(kind) if self.policy.model().kinds[kind.index()].within.is_empty() => Tenant::None,
            _ => Tenant::Unknown,
        }
    }
}

/// The tenant of a thing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tenant {
    /// It lies nowhere.
    None,
    /// It should lie in one, but the walk ends elsewhere.
    Unknown,
    /// This one.
    Is(EntityId),
}

/// Memory a decision works in; hand in the same one again and deciding allocates nothing, but
/// where roles come from relationships.
#[derive(Debug, Default)]
pub struct Scratch {
    site: Site,
    holders: Holders,
    conferral: Conferral,
}

impl Scratch {
    /// Whether the last decision depended on more than [`MAX_PAIRS`] pairs of role and resource, so
    /// that all that relationships confer was undetermined in it.
    pub fn was_too_much(&self) -> bool {
        self.conferral.is_too_much()
    }
}

/// A role as it arrives: of the charter, or one that a tenant made.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Arrived {
    /// A role of the charter.
    Role(RoleId),
    /// A tenant's, by its name in the register, `tenant/key`.
    Made(Sym),
}

impl Arrived {
    /// Its key.
    pub fn key(self, engine: Engine<'_>) -> &str {
        match self {
            Arrived::Role(role) => &engine.policy.model().roles[role.index()].key,
            Arrived::Made(key) => engine.register.text(key),
        }
    }

    /// Whether its key comes before another's, bytewise.
    fn before(self, other: Arrived, engine: Engine<'_>) -> bool {
        match (self, other) {
            // Roles are sorted by key.
            (Arrived::Role(a), Arrived::Role(b)) => a < b,
            (a, b) => a.key(engine) < b.key(engine),
        }
    }
}

/// Why a decision is what it is: the stable codes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Reason {
    /// The token that stands for the subject does not count.
    TokenRefused,
    /// The resource's type is not declared.
    UnknownType,
    /// The permission is not declared.
    UnknownPermission,
    /// The subject is suspended.
    SubjectSuspended,
    /// The subject is deleted.
    SubjectDeleted,
    /// The resource is deleted.
    ResourceDeleted,
    /// A role gives it.
    Role(Arrived),
    /// A rule allows or denies it.
    Rule(RuleId),
    /// Without a separation of roles it would be allowed.
    Separated,
    /// Something that could have allowed it was undetermined.
    Undetermined,
    /// A role arrives or a rule applies, but its condition is false.
    Condition,
    /// A grant on standby would give it if it were active.
    Standby,
    /// Nothing that arrives gives it.
    NoRole,
}

impl Reason {
    /// The code, e.g. `role:inspector`, `no-role`.
    pub fn code(self, engine: Engine<'_>) -> String {
        match self {
            Reason::TokenRefused => "token-refused".to_owned(),
            Reason::UnknownType => "unknown-type".to_owned(),
            Reason::UnknownPermission => "unknown-permission".to_owned(),
            Reason::SubjectSuspended => "subject-suspended".to_owned(),
            Reason::SubjectDeleted => "subject-deleted".to_owned(),
            Reason::ResourceDeleted => "resource-deleted".to_owned(),
            Reason::Role(role) => format!("role:{}", role.key(engine)),
            Reason::Rule(rule) => format!("rule:{}", engine.policy.model().rules[rule.index()].key),
            Reason::Separated => "separated".to_owned(),
            Reason::Standby => "standby".to_owned(),
            Reason::Undetermined => "undetermined".to_owned(),
            Reason::Condition => "condition".to_owned(),
            Reason::NoRole => "no-role".to_owned(),
        }
    }
}

/// An answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Decision {
    /// Allowed or denied.
    pub allowed: bool,
    /// Why.
    pub reason: Reason,
}

impl Decision {
    fn deny(reason: Reason) -> Decision {
        Decision { allowed: false, reason }
    }
}

/// How a role arrived.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Via {
    /// By a grant, to the holder at this position of the chain.
    Grant {
        /// The grant's place in the register.
        grant: u32,
        /// The holder's place among the holders.
        holder: u32,
    },
    /// Without a grant.
    Given(GivenTo),
    /// From a relationship.
    Conferred,
}

/// A role that may arrive, and what it would do.
#[derive(Clone, Copy, Debug)]
struct Arrival {
    role: Arrived,
    via: Via,
    arrives: Truth,
    gives: Truth,
    /// Whether a separation takes away all it gives.
    separated: bool,
}

/// What a walk tells while it walks.
trait Listener {
    /// Whether anything is listened to; if not, the walk stops as soon as the answer is sure.
    const ON: bool;
    fn arrival(&mut self, arrival: Arrival);
    fn rule(&mut self, rule: RuleId, value: Truth, reaches: bool);
    fn condition(&mut self, owner: Owner, value: Truth, culprit: Part, parts: Vec<Part>);
}

/// Whose condition it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Owner {
    /// The `when` of a role.
    Role(RoleId),
    /// The `when` of a clause of a role.
    Clause(RoleId, u32),
    /// The `when` of a rule.
    Rule(RuleId),
    /// The `when` of a clause of what tenants may make.
    TenantClause(u32),
    /// The `when` of a conferral.
    Confer(ConferId),
}

#[derive(Debug)]
struct Silent;

impl Listener for Silent {
    const ON: bool = false;
    fn arrival(&mut self, _: Arrival) {}
    fn rule(&mut self, _: RuleId, _: Truth, _: bool) {}
    fn condition(&mut self, _: Owner, _: Truth, _: Part, _: Vec<Part>) {}
}

/// Decides one question.
///
/// Costs time in the subject's groups and grants and in the conditions of the roles and rules
/// that could matter; allocates nothing once `scratch` has grown, unless a condition lowers a
/// text or a link is longer than ever before.
pub fn decide(engine: Engine<'_>, question: &Question, scratch: &mut Scratch) -> Decision {
    run(engine, question, scratch, &mut Silent)
}

fn run<L: Listener>(
    engine: Engine<'_>,
    question: &Question,
    scratch: &mut Scratch,
    listener: &mut L,
) -> Decision {
    match refused_at_once(engine, question) {
        Some(reason) => Decision::deny(reason),
        None => Walk::new(engine, question, scratch).decide(listener),
    }
}

/// What a condition of its own, that stands beside a charter, comes to for a question.
pub(crate) fn truth_of(engine: Engine<'_>, question: &Question, condition: &Condition) -> Truth {
    let mut scratch = Scratch { conferral: Conferral::of_all(), ..Scratch::default() };
    let walk = Walk::new(engine, question, &mut scratch);
    walk.test(Bound { condition, grant: None }, condition.root)
}

/// Decides about a row of which some facts are columns.
fn decide_rows(engine: Engine<'_>, question: &Question, sheet: &rows::Sheet) -> bool {
    if refused_at_once(engine, question).is_some() {
        return false;
    }
    with_scratch(|scratch| Walk { sheet: Some(sheet), ..Walk::new(engine, question, scratch) }.allows())
}

/// The states of subject and resource that nothing can outweigh.
fn refused_at_once(engine: Engine<'_>, question: &Question) -> Option<Reason> {
    if let Subject::Entity(subject) = question.subject {
        match engine.register.state(subject) {
            State::Active => {}
            State::Suspended => return Some(Reason::SubjectSuspended),
            State::Deleted => return Some(Reason::SubjectDeleted),
        }
    }
    match question.resource {
        Resource::Registered(id) if engine.register.state(id) == State::Deleted => {
            Some(Reason::ResourceDeleted)
        }
        _ => None,
    }
}

thread_local! {
    static SCRATCH: RefCell<Scratch> = RefCell::default();
}

/// Runs with this thread's scratch memory, so that callers need not carry one around.
pub fn with_scratch<T>(run: impl FnOnce(&mut Scratch) -> T) -> T {
    SCRATCH.with(|scratch| match scratch.try_borrow_mut() {
        Ok(mut scratch) => run(&mut scratch),
        Err(_) => run(&mut Scratch::default()),
    })
}
