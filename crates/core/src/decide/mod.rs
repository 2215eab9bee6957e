//! Decisions: one walk over compiled tables and the register, with a listener that either does
//! nothing or records what the explanation is made of. There is no second way to an answer.
//!
//! - [`question`]: what is asked, from texts and JSON to ids;
//! - this file: the steps of a decision, in their order;
//! - [`evaluate`]: conditions, paths and the tenant seal;
//! - [`explain`]: the recording listener, and its words.

mod evaluate;
pub mod explain;
pub mod question;
mod world;

pub use evaluate::Part;
pub use world::World;

use crate::charter::model::{KindId, RoleId, RuleId};
use crate::charter::policy::Policy;
use crate::charter::syntax::GivenTo;
use crate::register::{EntityId, Grant, Held, PlaceOf, Register, State, Sym};
use crate::value::Truth;
use evaluate::Bound;
use foldhash::fast::RandomState;
use hashbrown::HashSet;
use question::{Question, Resource, Subject};
use std::cell::RefCell;

/// How the names of one charter and one register correspond. Cheap to make; made anew after a
/// change to either.
#[derive(Clone, Debug)]
pub struct Link {
    kinds: Vec<Option<KindId>>,
    roles: Vec<Option<RoleId>>,
    names: Vec<Option<Sym>>,
    groups: Vec<Option<EntityId>>,
}

impl Link {
    /// Looks every name up.
    pub fn new(policy: &Policy, register: &Register) -> Link {
        let model = policy.model();
        let syms = (0..register.names()).map(|at| Sym(u32::try_from(at).unwrap_or(u32::MAX)));
        Link {
            kinds: syms.clone().map(|sym| policy.kind(register.text(sym))).collect(),
            roles: syms.map(|sym| policy.role(register.text(sym))).collect(),
            names: (0..model.names.len())
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
}

impl<'a> Engine<'a> {
    fn kind(&self, id: EntityId) -> Option<KindId> {
        self.link.kinds[self.register.kind(id).0 as usize]
    }

    fn tenant_of(&self, id: EntityId) -> Tenant {
        match self.register.kind(id) {
            Sym::TENANT => Tenant::Is(id),
            Sym::USER | Sym::SERVICE => Tenant::None,
            Sym::GROUP => self.register.group_tenant(id).map_or(Tenant::None, Tenant::Is),
            _ => match self.kind(id) {
                Some(kind) if self.policy.model().kinds[kind.index()].within.is_empty() => Tenant::None,
                Some(_) => {
                    self.register.within(id).map_or(Tenant::Unknown, |outer| self.tenant_at_end(outer))
                }
                None => Tenant::Unknown,
            },
        }
    }

    /// The tenant that a walk from `outer` ends at. The register keeps containment without loops.
    fn tenant_at_end(&self, mut outer: EntityId) -> Tenant {
        loop {
            if self.register.kind(outer) == Sym::TENANT {
                return Tenant::Is(outer);
            }
            match self.register.within(outer) {
                Some(next) => outer = next,
                None => return Tenant::Unknown,
            }
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

/// Memory a decision works in; hand in the same one again and deciding allocates nothing.
#[derive(Debug, Default)]
pub struct Scratch {
    /// The resource, what it lies within as far as roles arrive, and its tenant if they do.
    places: Vec<EntityId>,
    /// The subject and the groups that stand for it here, each with the one it was reached from.
    holders: Vec<(EntityId, u32)>,
    /// The holders as a set, once there are too many to look through.
    many_holders: HashSet<EntityId, RandomState>,
}

/// Why a decision is what it is: the stable codes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Reason {
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
    Role(RoleId),
    /// A rule allows or denies it.
    Rule(RuleId),
    /// Something that could have allowed it was undetermined.
    Undetermined,
    /// A role arrives or a rule applies, but its condition is false.
    Condition,
    /// Nothing that arrives gives it.
    NoRole,
}

impl Reason {
    /// The code, e.g. `role:inspector`, `no-role`.
    pub fn code(self, policy: &Policy) -> String {
        match self {
            Reason::UnknownType => "unknown-type".to_owned(),
            Reason::UnknownPermission => "unknown-permission".to_owned(),
            Reason::SubjectSuspended => "subject-suspended".to_owned(),
            Reason::SubjectDeleted => "subject-deleted".to_owned(),
            Reason::ResourceDeleted => "resource-deleted".to_owned(),
            Reason::Role(role) => format!("role:{}", policy.model().roles[role.index()].key),
            Reason::Rule(rule) => format!("rule:{}", policy.model().rules[rule.index()].key),
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
}

/// What a walk tells while it walks.
trait Listener {
    /// Whether anything is listened to; if not, the walk stops as soon as the answer is sure.
    const ON: bool;
    fn arrival(&mut self, role: RoleId, via: Via, gives: Truth);
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
}

#[derive(Debug)]
struct Silent;

impl Listener for Silent {
    const ON: bool = false;
    fn arrival(&mut self, _: RoleId, _: Via, _: Truth) {}
    fn rule(&mut self, _: RuleId, _: Truth, _: bool) {}
    fn condition(&mut self, _: Owner, _: Truth, _: Part, _: Vec<Part>) {}
}

/// Decides one question.
///
/// Costs time in the subject's groups and grants and in the conditions of the roles and rules
/// that could matter; allocates nothing once `scratch` has grown, unless a condition lowers a
/// text or a link is longer than ever before.
pub fn decide(engine: Engine<'_>, question: &Question, scratch: &mut Scratch) -> Decision {
    walk(engine, question, scratch, &mut Silent)
}

fn walk<L: Listener>(
    engine: Engine<'_>,
    question: &Question,
    scratch: &mut Scratch,
    listener: &mut L,
) -> Decision {
    if let Subject::Entity(subject) = question.subject {
        match engine.register.state(subject) {
            State::Active => {}
            State::Suspended => return Decision::deny(Reason::SubjectSuspended),
            State::Deleted => return Decision::deny(Reason::SubjectDeleted),
        }
    }
    if let Resource::Registered(resource) = question.resource
        && engine.register.state(resource) == State::Deleted
    {
        return Decision::deny(Reason::ResourceDeleted);
    }
    let mut walk = Walk::new(engine, question, scratch);
    if let Some(rule) = walk.denies(listener) {
        if L::ON {
            walk.candidates(listener);
        }
        return Decision::deny(Reason::Rule(rule));
    }
    walk.candidates(listener)
}

/// One decision under way.
struct Walk<'e> {
    engine: Engine<'e>,
    question: &'e Question,
    scratch: &'e Scratch,
    /// The subject; none if it is anonymous.
    subject: Option<EntityId>,
    tenant: Tenant,
}

impl<'e> Walk<'e> {
    fn new(engine: Engine<'e>, question: &'e Question, scratch: &'e mut Scratch) -> Walk<'e> {
        let subject = match question.subject {
            Subject::Entity(id) => Some(id),
            Subject::Anonymous => None,
        };
        let kind = engine.policy.model().permissions[question.permission.index()].kind;
        let outermost = scratch.find_places(engine.register, &question.resource);
        let tenant = match outermost {
            _ if engine.policy.model().kinds[kind.index()].within.is_empty() => Tenant::None,
            Some(end) if engine.register.kind(end) == Sym::TENANT => Tenant::Is(end),
            _ => Tenant::Unknown,
        };
        scratch.find_holders(engine.register, subject, tenant);
        Walk { engine, question, scratch, subject, tenant }
    }

    // -- rules ---------------------------------------------------------------------------------

    /// The first deny rule that applies: true or undetermined, or without a condition.
    fn denies<L: Listener>(&mut self, listener: &mut L) -> Option<RuleId> {
        let mut first = None;
        for id in self.engine.policy.denies(self.question.permission) {
            let rule = &self.engine.policy.model().rules[id.index()];
            let value = rule.when.as_ref().map_or(Truth::True, |when| {
                self.condition(Bound { condition: when, grant: None }, Owner::Rule(*id), listener)
            });
            listener.rule(*id, value, true);
            if value != Truth::False {
                first = first.or(Some(*id));
                if !L::ON {
                    break;
                }
            }
        }
        first
    }

    /// Whether an allow rule reaches this subject here at all.
    fn reaches(&self, rule: &crate::charter::model::Rule) -> bool {
        if self.subject.is_none() && !rule.for_anyone {
            return false;
        }
        rule.across_tenants
            || match self.tenant {
                Tenant::None => true,
                Tenant::Unknown => false,
                Tenant::Is(_) => self.is_member_of_tenant(),
            }
    }

    fn is_member_of_tenant(&self) -> bool {
        let (Some(subject), Tenant::Is(tenant)) = (self.subject, self.tenant) else { return false };
        self.engine.register.record(subject).tenants.contains(&tenant)
    }

    // -- candidates ----------------------------------------------------------------------------

    fn candidates<L: Listener>(&mut self, listener: &mut L) -> Decision {
        let mut found = Found::default();
        self.by_grant(&mut found, listener);
        self.by_gift(&mut found, listener);
        if found.role.is_none() || L::ON {
            self.by_rule(&mut found, listener);
        }
        match (found.role, found.rule) {
            (Some(role), _) => Decision { allowed: true, reason: Reason::Role(role) },
            (None, Some(rule)) => Decision { allowed: true, reason: Reason::Rule(rule) },
            (None, None) if found.undetermined => Decision::deny(Reason::Undetermined),
            (None, None) if found.condition => Decision::deny(Reason::Condition),
            (None, None) => Decision::deny(Reason::NoRole),
        }
    }

    fn by_grant<L: Listener>(&self, found: &mut Found, listener: &mut L) {
        for (holder, (id, _)) in self.scratch.holders.iter().enumerate() {
            for held in self.engine.register.held(*id) {
                let Some(role) = self.engine.link.roles[held.role.0 as usize] else { continue };
                let settled = !L::ON && found.role.is_some_and(|first| first <= role);
                if settled || !self.engine.policy.may_give(role, self.question.permission) {
                    continue;
                }
                let Some(grant) = self.counts(held, role) else { continue };
                let gives = self.gives(role, Some(grant), listener);
                let holder = u32::try_from(holder).unwrap_or(u32::MAX);
                listener.arrival(role, Via::Grant { grant: held.grant, holder }, gives);
                found.arrival(role, gives);
            }
        }
    }

    fn by_gift<L: Listener>(&self, found: &mut Found, listener: &mut L) {
        for role in self.engine.policy.given() {
            let settled = !L::ON && found.role.is_some_and(|first| first <= *role);
            if settled || !self.engine.policy.may_give(*role, self.question.permission) {
                continue;
            }
            let Some(given) = self.gift(*role) else { continue };
            let gives = self.gives(*role, None, listener);
            listener.arrival(*role, Via::Given(given), gives);
            found.arrival(*role, gives);
        }
    }

    fn by_rule<L: Listener>(&self, found: &mut Found, listener: &mut L) {
        for id in self.engine.policy.allows(self.question.permission) {
            let rule = &self.engine.policy.model().rules[id.index()];
            let reaches = self.reaches(rule);
            if !reaches && !L::ON {
                continue;
            }
            // The check refuses an allow rule without a condition; should one come, it is shut.
            let value = rule.when.as_ref().map_or(Truth::False, |when| {
                self.condition(Bound { condition: when, grant: None }, Owner::Rule(*id), listener)
            });
            listener.rule(*id, value, reaches);
            if !reaches {
                continue;
            }
            match value {
                Truth::True => found.rule = found.rule.or(Some(*id)),
                Truth::Undetermined => found.undetermined = true,
                Truth::False => found.condition = true,
            }
            if !L::ON && found.rule.is_some() {
                return;
            }
        }
    }

    /// A grant of a role to one of the holders, if it counts for this question.
    fn counts(&self, held: &Held, role: RoleId) -> Option<&'e Grant> {
        let place = match held.at {
            PlaceOf::Everywhere => None,
            PlaceOf::At(id) if self.scratch.places.contains(&id) => Some(id),
            PlaceOf::At(_) => return None,
        };
        let declared = &self.engine.policy.model().roles[role.index()];
        let permitted = declared.grantable
            && self.may_hold(declared)
            && declared.held_at.as_ref().is_none_or(|held_at| {
                let kind = place.map(|id| self.engine.kind(id));
                // A place of a type this charter does not declare is no place it permits.
                kind != Some(None) && held_at.permits(kind.flatten())
            });
        self.engine.register.grant(held.grant).filter(|grant| permitted && grant.is_live(self.question.now))
    }

    fn may_hold(&self, role: &crate::charter::model::Role) -> bool {
        let kind = self.subject.and_then(|subject| self.engine.kind(subject));
        kind.is_some_and(|kind| role.held_by(kind))
    }

    /// How a role arrives without a grant, if it does.
    fn gift(&self, role: RoleId) -> Option<GivenTo> {
        let declared = &self.engine.policy.model().roles[role.index()];
        let given = declared.given_to?;
        let arrives = match given {
            GivenTo::Anyone => self.subject.is_none() || self.may_hold(declared),
            GivenTo::SignedIn => self.may_hold(declared),
            GivenTo::Members => self.may_hold(declared) && self.is_member_of_tenant(),
        };
        arrives.then_some(given)
    }

    /// Whether some role that is `role` or includes it arrives, whatever it gives.
    fn holds(&self, role: RoleId) -> bool {
        let policy = self.engine.policy;
        let given =
            policy.given().iter().any(|outer| policy.includes(*outer, role) && self.gift(*outer).is_some());
        given
            || self.scratch.holders.iter().any(|(id, _)| {
                self.engine.register.held(*id).iter().any(|held| {
                    self.engine.link.roles[held.role.0 as usize].is_some_and(|outer| {
                        policy.includes(outer, role) && self.counts(held, outer).is_some()
                    })
                })
            })
    }

    /// Every role that arrives, whatever it gives: what an explanation can say of a subject that
    /// holds something else.
    fn arrivals(&self) -> Vec<(RoleId, Via)> {
        let mut all = Vec::new();
        for (holder, (id, _)) in self.scratch.holders.iter().enumerate() {
            let holder = u32::try_from(holder).unwrap_or(u32::MAX);
            for held in self.engine.register.held(*id) {
                let role = self.engine.link.roles[held.role.0 as usize];
                if let Some(role) = role.filter(|role| self.counts(held, *role).is_some()) {
                    all.push((role, Via::Grant { grant: held.grant, holder }));
                }
            }
        }
        for role in self.engine.policy.given() {
            all.extend(self.gift(*role).map(|given| (*role, Via::Given(given))));
        }
        all
    }

    /// Whether an arriving role gives the permission.
    fn gives<L: Listener>(&self, role: RoleId, grant: Option<&'e Grant>, listener: &mut L) -> Truth {
        let permission = self.question.permission;
        let policy = self.engine.policy;
        if !policy.may_give(role, permission) {
            return Truth::False;
        }
        if policy.surely_gives(role, permission) && !L::ON {
            return Truth::True;
        }
        let declared = &policy.model().roles[role.index()];
        let guard = declared.when.as_ref().map_or(Truth::True, |when| {
            self.condition(Bound { condition: when, grant }, Owner::Role(role), listener)
        });
        if guard == Truth::False && !L::ON {
            return Truth::False;
        }
        let mut given = Truth::from(declared.permissions.binary_search(&permission).is_ok());
        for (at, clause) in declared.clauses.iter().enumerate() {
            if (given == Truth::True && !L::ON) || clause.permissions.binary_search(&permission).is_err() {
                continue;
            }
            let owner = Owner::Clause(role, u32::try_from(at).unwrap_or(u32::MAX));
            given = given.or(self.condition(Bound { condition: &clause.when, grant }, owner, listener));
        }
        for inner in &declared.includes {
            if given == Truth::True && !L::ON {
                break;
            }
            given = given.or(self.gives(*inner, grant, listener));
        }
        guard.and(given)
    }

    fn condition<L: Listener>(&self, bound: Bound<'e>, owner: Owner, listener: &mut L) -> Truth {
        let value = self.test(bound, bound.condition.root);
        if L::ON {
            listener.condition(owner, value, self.culprit(bound, value), self.parts(bound));
        }
        value
    }
}

/// What the candidates came to.
#[derive(Debug, Default)]
struct Found {
    role: Option<RoleId>,
    rule: Option<RuleId>,
    undetermined: bool,
    condition: bool,
}

impl Found {
    /// An arriving role that gives if its conditions let it.
    fn arrival(&mut self, role: RoleId, gives: Truth) {
        match gives {
            Truth::True => self.role = Some(self.role.map_or(role, |first| first.min(role))),
            Truth::Undetermined => self.undetermined = true,
            Truth::False => self.condition = true,
        }
    }
}

impl Scratch {
    /// Too many holders to look through one by one.
    const MANY: usize = 64;

    /// The resource and, until something is detached, what it lies within. Gives what the walk
    /// ends at, detached or not.
    fn find_places(&mut self, register: &Register, resource: &Resource) -> Option<EntityId> {
        self.places.clear();
        let mut next = match resource {
            Resource::Registered(id) => Some(*id),
            Resource::Stated { within, .. } => *within,
        };
        let mut arrives = true;
        let mut end = None;
        while let Some(id) = next {
            if arrives {
                self.places.push(id);
            }
            arrives &= !register.is_detached(id);
            end = next;
            next = register.within(id);
        }
        end
    }

    /// The subject and every group that stands for it where the resource lies: a group of another
    /// tenant stands for nobody there, nor does any group reached only through it.
    fn find_holders(&mut self, register: &Register, subject: Option<EntityId>, tenant: Tenant) {
        self.holders.clear();
        self.many_holders.clear();
        let Some(subject) = subject else { return };
        self.holders.push((subject, 0));
        let mut at = 0;
        while at < self.holders.len() {
            let (id, _) = self.holders[at];
            for group in register.groups(id) {
                let counts = match register.group_tenant(*group) {
                    None => true,
                    Some(of) => tenant == Tenant::Is(of),
                };
                if counts && !self.is_holder(*group) {
                    self.holders.push((*group, u32::try_from(at).unwrap_or(u32::MAX)));
                    if self.holders.len() == Self::MANY {
                        self.many_holders.extend(self.holders.iter().map(|(id, _)| *id));
                    } else if self.holders.len() > Self::MANY {
                        self.many_holders.insert(*group);
                    }
                }
            }
            at += 1;
        }
    }

    fn is_holder(&self, id: EntityId) -> bool {
        if self.holders.len() < Self::MANY {
            self.holders.iter().any(|(known, _)| *known == id)
        } else {
            self.many_holders.contains(&id)
        }
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
