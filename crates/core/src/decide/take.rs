//! What it would take: single changes, then pairs, that would turn a denial into an allow. Each
//! was tried: made, asked about, and taken back.

use super::question::{Malformed, Question, Request, Resource, Subject};
use super::walk::Walk;
use super::{Engine, Reason, World, decide, with_scratch};
use crate::charter::model::{
    Condition, HeldAt, KindId, List, NameId, Operand, OperandId, Order, Path, Root, Step, Test,
};
use crate::register::EntityId;
use crate::register::sight::Sight;
use crate::value::Value;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

/// Most changes tried for one answer.
pub const MAX_TRIALS: usize = 200;

/// What it would take.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct Take {
    /// Each is enough: a change, or two together.
    pub ways: Vec<Vec<Proposal>>,
    /// The deny rule that stands whatever roles the subject holds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub denied_by: Option<String>,
    /// How many were tried.
    pub trials: usize,
    /// Whether every change and every pair was tried that this search knows of.
    pub exhaustive: bool,
}

/// One change that could be made.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct Proposal {
    /// In words: `user:ines.clearance to be at least 5`.
    pub words: String,
    /// The change itself.
    #[serde(flatten)]
    pub change: Proposed,
}

/// Where a change would be made.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Proposed {
    /// A fact of the register, as a fact line.
    Fact(String),
    /// What the application sends along.
    Context(String, Json),
    /// What the question says of the resource.
    Property(String, Json),
}

/// Searches, among what is in sight. `go_on` is asked before each trial; once it says no, the search ends
/// where it is.
///
/// # Errors
/// If the request is malformed.
pub fn what_it_would_take(
    world: &mut World,
    request: &Request,
    now: Timestamp,
    sight: &Sight,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<Take, Malformed> {
    let asked = request.resolve(world.engine_in(sight), now)?;
    let mut take = Take { exhaustive: true, ..Take::default() };
    let Ok(question) = asked.question else { return Ok(take) };
    let decision = with_scratch(|scratch| decide(world.engine_in(sight), &question, scratch));
    if decision.allowed
        || decision.reason == Reason::ResourceDeleted
        || decision.reason == Reason::SubjectDeleted
    {
        return Ok(take);
    }
    let proposals = propose(world.engine_in(sight), &question, request);
    let mut alone = vec![false; proposals.len()];
    let mut search = Search { world, request, now, sight, take: &mut take, go_on };
    for (at, proposal) in proposals.iter().enumerate() {
        alone[at] = search.tries(&[proposal]);
    }
    if search.take.ways.is_empty() {
        'pairs: for (at, first) in proposals.iter().enumerate() {
            for second in &proposals[at + 1..] {
                if search.is_over() {
                    break 'pairs;
                }
                search.tries(&[first, second]);
            }
        }
    }
    if let Reason::Rule(rule) = decision.reason
        && take.ways.is_empty()
    {
        take.denied_by = Some(world.policy().model().rules[rule.index()].key.clone());
    }
    Ok(take)
}

struct Search<'w, 'g> {
    world: &'w mut World,
    request: &'w Request,
    now: Timestamp,
    sight: &'w Sight,
    take: &'w mut Take,
    go_on: &'g mut dyn FnMut() -> bool,
}

impl Search<'_, '_> {
    fn is_over(&self) -> bool {
        !self.take.exhaustive
    }

    /// Makes changes, asks, takes them back; notes them if they were enough.
    fn tries(&mut self, proposals: &[&Proposal]) -> bool {
        if self.take.trials >= MAX_TRIALS || !(self.go_on)() {
            self.take.exhaustive = false;
            return false;
        }
        self.take.trials += 1;
        let mut facts = Vec::new();
        let mut request = self.request.clone();
        for proposal in proposals {
            match &proposal.change {
                Proposed::Fact(line) => facts.push(line.clone()),
                Proposed::Context(key, value) => {
                    request.context.insert(key.clone(), value.clone());
                }
                Proposed::Property(key, value) => {
                    request.of_resource.insert(key.clone(), value.clone());
                }
            }
        }
        // What the register would refuse, a separation among it, is no way.
        let Ok(applied) = self.world.suppose(&facts, &[], self.sight) else { return false };
        let asked = request.resolve_quietly(self.world.engine_in(self.sight), self.now);
        let allowed = asked.is_ok_and(|asked| {
            let question = asked.question.ok();
            question.is_some_and(|question| {
                with_scratch(|scratch| decide(self.world.engine_in(self.sight), &question, scratch)).allowed
            })
        });
        self.world.undo(applied);
        if allowed {
            self.take.ways.push(proposals.iter().map(|proposal| (*proposal).clone()).collect());
        }
        allowed
    }
}

// -- what could be changed -----------------------------------------------------------------------

fn propose(engine: Engine<'_>, question: &Question, request: &Request) -> Vec<Proposal> {
    let mut all: Vec<Proposal> = Vec::new();
    let Subject::Entity(subject) = question.subject else { return all };
    let name = engine.register.name(subject);
    if with_scratch(|scratch| decide(engine, question, scratch)).reason == Reason::SubjectSuspended {
        all.push(fact(format!("{name} state active"), format!("{name} to be active again")));
        return all;
    }
    with_scratch(|scratch| {
        let walk = Walk::new(engine, question, scratch);
        let proposer = Proposer { walk, request, subject };
        proposer.activations(&mut all);
        proposer.conditions(&mut all);
        proposer.grants(&mut all);
        proposer.memberships(&mut all);
    });
    let mut seen = Vec::new();
    all.retain(|proposal| {
        let new = !seen.contains(&proposal.change);
        seen.push(proposal.change.clone());
        new
    });
    all
}

fn fact(line: String, words: String) -> Proposal {
    Proposal { words, change: Proposed::Fact(line) }
}

struct Proposer<'e> {
    walk: Walk<'e>,
    request: &'e Request,
    subject: EntityId,
}

impl<'e> Proposer<'e> {
    fn name(&self, id: EntityId) -> &'e str {
        self.walk.engine.register.name(id)
    }

    fn activations(&self, all: &mut Vec<Proposal>) {
        let engine = self.walk.engine;
        for holder in engine.register.holders_of(self.subject) {
            for (_, grant) in engine.register.grants_to(holder) {
                let role = engine.policy.role(engine.register.text(grant.role));
                let standby =
                    role.is_some_and(|role| engine.policy.model().roles[role.index()].standby.is_some());
                let seen = engine.sight.reads_grant(engine.register, &grant);
                if standby && seen && grant.is_live(self.walk.question.now) {
                    let line = format!("activate {} for {}", grant.id, self.name(self.subject));
                    let key = engine.register.text(grant.role);
                    all.push(fact(line, format!("activating {} ({key})", grant.id)));
                }
            }
        }
    }

    /// A grant of each role that may give the permission, at the nearest place it may be held at.
    fn grants(&self, all: &mut Vec<Proposal>) {
        let (engine, permission) = (self.walk.engine, self.walk.question.permission);
        let subject = self.name(self.subject);
        for (at, role) in engine.policy.model().roles.iter().enumerate() {
            let id = crate::charter::model::RoleId::at(at);
            if !engine.policy.may_give(id, permission)
                || !role.grantable
                || !self.walk.may_hold(id)
                || !role.values.is_empty()
                || role.standby.is_some()
            {
                continue;
            }
            if let Some(place) = self.place(role.held_at.as_ref()) {
                let line = format!("grant {} to {subject} at {place}", role.key);
                let at = if place == "everywhere" { place.to_owned() } else { format!("at {place}") };
                all.push(fact(line, format!("a grant of {} {at}", role.key)));
            }
        }
    }

    fn place(&self, held_at: Option<&HeldAt>) -> Option<&'e str> {
        let engine = self.walk.engine;
        let permits = |kind: Option<KindId>| held_at.is_none_or(|held| held.permits(kind));
        let near = self.walk.site.places.iter().copied().find(|id| permits(engine.kind(*id)));
        match near {
            Some(id) => Some(self.name(id)),
            None => permits(None).then_some("everywhere"),
        }
    }

    fn memberships(&self, all: &mut Vec<Proposal>) {
        let engine = self.walk.engine;
        let subject = self.name(self.subject);
        if let super::Tenant::Is(tenant) = self.walk.site.tenant {
            let tenant = self.name(tenant);
            all.push(fact(format!("{subject} in {tenant}"), format!("{subject} to be in {tenant}")));
        }
        // Groups that hold something around here that may give it.
        for place in &self.walk.site.places {
            for grant in engine.register.grants_at(*place).iter().filter_map(|at| engine.register.grant(*at))
            {
                let gives = engine
                    .policy
                    .role(engine.register.text(grant.role))
                    .is_some_and(|role| engine.policy.may_give(role, self.walk.question.permission));
                let seen = engine.sight.names(engine.register, grant.to);
                if gives && seen && engine.register.kind(grant.to) == crate::register::Sym::GROUP {
                    let group = self.name(grant.to);
                    all.push(fact(format!("{subject} in {group}"), format!("{subject} to be in {group}")));
                }
            }
        }
    }

    // -- conditions ----------------------------------------------------------------------------

    /// Values that would make parts of the conditions on the way true or false.
    fn conditions(&self, all: &mut Vec<Proposal>) {
        let (policy, permission) = (self.walk.engine.policy, self.walk.question.permission);
        let model = policy.model();
        let mut conditions: Vec<&'e Condition> = Vec::new();
        let rules = policy.denies(permission).iter().chain(policy.allows(permission));
        conditions.extend(rules.filter_map(|rule| model.rules[rule.index()].when.as_ref()));
        for (at, role) in model.roles.iter().enumerate() {
            if policy.may_give(crate::charter::model::RoleId::at(at), permission) {
                conditions.extend(role.when.as_ref());
                conditions.extend(role.standby.as_ref().and_then(|standby| standby.when.as_ref()));
                let clauses = role.clauses.iter().filter(|clause| clause.permissions.contains(&permission));
                conditions.extend(clauses.map(|clause| &clause.when));
            }
        }
        let kind = model.permissions[permission.index()].kind;
        for (_, confer) in policy.confers_of(kind) {
            if let (None, [step]) = (confer.holds, &*confer.path.steps) {
                self.relation(Root::Resource, *step, all);
            }
            conditions.extend(confer.when.as_ref());
        }
        for condition in conditions {
            condition.tests.iter().for_each(|test| self.test(condition, test, all));
        }
    }

    fn test(&self, condition: &'e Condition, test: &'e Test, all: &mut Vec<Proposal>) {
        match test {
            Test::Holds(operand) => {
                if let Some(path) = path_of(condition, *operand) {
                    for value in [true, false] {
                        self.set(path, &Value::Boolean(value), &format!("to be {value}"), all);
                    }
                }
            }
            Test::Equal(a, b) => {
                for (side, other) in [(*a, *b), (*b, *a)] {
                    let Some(path) = path_of(condition, side) else { continue };
                    if let Some(value) = self.value(condition, other) {
                        self.set(path, &value, &format!("to be {value}"), all);
                    } else if self.is_subject(condition, other)
                        && let [step] = &*path.steps
                    {
                        self.relation(path.root, *step, all);
                    }
                }
            }
            Test::Order(order, a, b) => {
                for (side, other, order) in [(*a, *b, *order), (*b, *a, mirrored(*order))] {
                    let (Some(path), Some(value)) = (path_of(condition, side), self.value(condition, other))
                    else {
                        continue;
                    };
                    for order in [order, opposite(order)] {
                        if let Some(bound) = bound(&value, order) {
                            let words = match order {
                                Order::Less | Order::AtMost => format!("to be at most {bound}"),
                                Order::Greater | Order::AtLeast => format!("to be at least {bound}"),
                            };
                            self.set(path, &bound, &words, all);
                        }
                    }
                }
            }
            Test::In(needle, List::Values(values)) => {
                if let (Some(path), Some(first)) = (path_of(condition, *needle), values.first()) {
                    let shown: Vec<String> = values.iter().take(8).map(ToString::to_string).collect();
                    let words = format!("to be one of {}", shown.join(", "));
                    let words = if values.len() == 1 { format!("to be {first}") } else { words };
                    self.set(path, first, &words, all);
                }
            }
            Test::Among(path) => {
                let path = &condition.paths[path.index()];
                if let [step] = &*path.steps {
                    self.relation(path.root, *step, all);
                }
            }
            Test::Member(group) => {
                let (subject, group) = (self.name(self.subject), self.walk.engine.policy.group(*group));
                let line = format!("{subject} in group:{group}");
                all.push(fact(line, format!("{subject} to be in group:{group}")));
            }
            _ => {}
        }
    }

    /// What an operand is, if it is a value that can be read.
    fn value(&self, condition: &'e Condition, operand: OperandId) -> Option<Value<'e>> {
        let bound = super::evaluate::Bound { condition, grant: None };
        self.walk.value(bound, operand).ok()
    }

    fn is_subject(&self, condition: &Condition, operand: OperandId) -> bool {
        path_of(condition, operand).is_some_and(|path| path.root == Root::Subject && path.steps.is_empty())
    }

    fn registered(&self, root: Root) -> Option<EntityId> {
        match (root, &self.walk.question.resource) {
            (Root::Subject, _) => Some(self.subject),
            (Root::Resource, Resource::Registered(id)) => Some(*id),
            _ => None,
        }
    }

    fn set(&self, path: &Path, value: &Value<'_>, words: &str, all: &mut Vec<Proposal>) {
        let policy = self.walk.engine.policy;
        let model = policy.model();
        if let Root::Context(at) = path.root {
            let key = policy.name(model.context[at].name);
            let change = Proposed::Context(key.to_owned(), value.to_json());
            all.push(Proposal { words: format!("context.{key} {words}"), change });
            return;
        }
        let [Step::Attribute(name)] = &*path.steps else { return };
        let key = policy.name(*name);
        if let Some(id) = self.registered(path.root) {
            let line = format!("{}.{key} = {}", self.name(id), value);
            all.push(fact(line, format!("{}.{key} {words}", self.name(id))));
        }
        if path.root == Root::Resource && self.reads_request(*name) {
            let change = Proposed::Property(key.to_owned(), value.to_json());
            all.push(Proposal { words: format!("the property {key} {words}"), change });
        }
    }

    fn reads_request(&self, name: NameId) -> bool {
        let model = self.walk.engine.policy.model();
        let kind = &model.kinds[model.permissions[self.walk.question.permission.index()].kind.index()];
        kind.attribute(name).is_some_and(|attribute| attribute.from.reads_request())
            && !self.request.of_resource.contains_key(self.walk.engine.policy.name(name))
    }

    /// The subject at the end of a relation.
    fn relation(&self, root: Root, step: Step, all: &mut Vec<Proposal>) {
        let (Step::Relation(name), Some(id)) = (step, self.registered(root)) else { return };
        let engine = self.walk.engine;
        let many = engine
            .kind(id)
            .and_then(|kind| engine.policy.model().kinds[kind.index()].relation(name))
            .is_some_and(|relation| relation.many);
        let (of, key, subject) = (self.name(id), engine.policy.name(name), self.name(self.subject));
        let sign = if many { "+=" } else { "=" };
        let words = if many { "to hold" } else { "to be" };
        all.push(fact(format!("{of}.{key} {sign} {subject}"), format!("{of}.{key} {words} {subject}")));
    }
}

fn path_of(condition: &Condition, operand: OperandId) -> Option<&Path> {
    match &condition.operands[operand.index()] {
        Operand::Path(path) => Some(&condition.paths[path.index()]),
        _ => None,
    }
}

fn mirrored(order: Order) -> Order {
    match order {
        Order::Less => Order::Greater,
        Order::AtMost => Order::AtLeast,
        Order::Greater => Order::Less,
        Order::AtLeast => Order::AtMost,
    }
}

fn opposite(order: Order) -> Order {
    match order {
        Order::Less => Order::AtLeast,
        Order::AtMost => Order::Greater,
        Order::Greater => Order::AtMost,
        Order::AtLeast => Order::Less,
    }
}

/// The value nearest to another that stands in an order to it.
fn bound<'v>(value: &Value<'v>, order: Order) -> Option<Value<'v>> {
    let step: i64 = match order {
        Order::AtMost | Order::AtLeast => return Some(value.clone()),
        Order::Less => -1,
        Order::Greater => 1,
    };
    match value {
        Value::Integer(number) => number.checked_add(step).map(Value::Integer),
        Value::Decimal(number) => number.checked_add(step.into()).map(Value::Decimal),
        Value::Time(time) => time.checked_add(SignedDuration::from_secs(step)).ok().map(Value::Time),
        Value::Duration(length) => length.checked_add(SignedDuration::from_secs(step)).map(Value::Duration),
        _ => None,
    }
}
