//! Conditions on three truth values: every operator, every function, every step of a path.
//!
//! Whatever cannot be read is a [`Lack`], and what needs it is undetermined. The tenant seal is
//! applied in one place, [`Walk::step_counts`].

use super::question::{Resource, Said};
use super::{Tenant, Walk};
use crate::charter::model::{
    Attribute, Condition, KindId, List, NameId, Operand, OperandId, Order, Path, PathId, Relation, Root,
    Stated, Step, Test, TestId,
};
use crate::register::{EntityId, Grant, Sym};
use crate::source::Span;
use crate::value::{MAX_MEMBERS, Scalar, Truth, Value, ValueType};
use jiff::{SignedDuration, Timestamp};
use std::borrow::Cow;
use std::cmp::Ordering;

/// Why something could not be read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Lack {
    /// Nothing states it.
    Missing,
    /// What is stated is of another type, or not one of its values.
    IllTyped,
    /// The step leads out of the tenant.
    Sealed,
    /// It is out of range.
    Overflow,
    /// It is a list with a member or step missing.
    Incomplete,
}

impl Lack {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Lack::Missing => "missing",
            Lack::IllTyped => "of the wrong type",
            Lack::Sealed => "in another tenant",
            Lack::Overflow => "out of range",
            Lack::Incomplete => "an incomplete list",
        }
    }
}

/// An entity on a path.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Thing<'e> {
    /// One of the register.
    Registered(EntityId),
    /// The question's own resource, which the register does not know.
    Own,
    /// One named in the charter that the register does not know.
    Named(&'e str),
}

/// What a path or operand reads.
#[derive(Clone, Debug)]
enum Read<'e> {
    Value(Value<'e>),
    /// An entity, and how it was reached: what [`Walk::among`] needs for the seal.
    Thing(Thing<'e>, Reached<'e>),
}

/// The last step to an entity.
#[derive(Clone, Copy, Debug)]
struct Reached<'e> {
    from: Option<Thing<'e>>,
    across: bool,
}

const DIRECTLY: Reached<'static> = Reached { from: None, across: false };

/// Whether a list was read whole.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Whole {
    Yes,
    No(Lack),
}

/// A condition with the grant at hand.
#[derive(Clone, Copy, Debug)]
pub(super) struct Bound<'e> {
    pub condition: &'e Condition,
    pub grant: Option<&'e Grant>,
}

/// One part of a condition with what it came to.
#[derive(Clone, Debug)]
pub struct Part {
    /// The part as written.
    pub span: Span,
    /// Its value.
    pub value: Truth,
    /// The paths in it, with what was read.
    pub reads: Vec<(Span, String)>,
}

enum Source<'e> {
    Scalars(&'e [Scalar], &'e Attribute),
    Things(&'e [EntityId], &'e Relation),
}

impl<'e> Walk<'e> {
    // -- tests ---------------------------------------------------------------------------------

    pub(super) fn test(&self, bound: Bound<'e>, id: TestId) -> Truth {
        match &bound.condition.tests[id.index()] {
            Test::Constant(value) => Truth::from(*value),
            Test::Not(inner) => !self.test(bound, *inner),
            Test::All(parts) => self.all(bound, parts),
            Test::Any(parts) => self.any(bound, parts),
            Test::Holds(operand) => match self.operand(bound, *operand) {
                Ok(Read::Value(Value::Boolean(value))) => Truth::from(value),
                _ => Truth::Undetermined,
            },
            Test::Equal(a, b) => self.equal(bound, *a, *b),
            Test::Order(order, a, b) => self.order(bound, *order, *a, *b),
            Test::In(needle, list) => self.is_in(bound, *needle, list),
            Test::InNetwork(needle, list) => self.in_network(bound, *needle, list),
            Test::Overlaps(a, b) => self.overlaps(bound, a, b),
            Test::HoldsRole(role) => Truth::from(self.holds(*role)),
            Test::Member(group) => match (self.subject, self.engine.link.groups[group.index()]) {
                (None, _) => Truth::Undetermined,
                (Some(_), group) => Truth::from(group.is_some_and(|group| self.scratch.is_holder(group))),
            },
            Test::Among(path) => self.among(bound, *path),
            Test::Known(path) => self.known(bound, *path),
            Test::Starts(a, b) => self.texts(bound, *a, *b, |a, b| a.starts_with(b)),
            Test::Ends(a, b) => self.texts(bound, *a, *b, |a, b| a.ends_with(b)),
            Test::Contains(a, b) => self.texts(bound, *a, *b, |a, b| a.contains(b)),
            Test::Fits(text, pattern) => match self.operand(bound, *text) {
                Ok(Read::Value(Value::Text(text))) => Truth::from(fits(&text, pattern)),
                _ => Truth::Undetermined,
            },
        }
    }

    fn all(&self, bound: Bound<'e>, parts: &[TestId]) -> Truth {
        let mut value = Truth::True;
        for part in parts {
            value = value.and(self.test(bound, *part));
            if value == Truth::False {
                break;
            }
        }
        value
    }

    fn any(&self, bound: Bound<'e>, parts: &[TestId]) -> Truth {
        let mut value = Truth::False;
        for part in parts {
            value = value.or(self.test(bound, *part));
            if value == Truth::True {
                break;
            }
        }
        value
    }

    fn equal(&self, bound: Bound<'e>, a: OperandId, b: OperandId) -> Truth {
        match (self.operand(bound, a), self.operand(bound, b)) {
            (Ok(a), Ok(b)) => self.same(&a, &b),
            _ => Truth::Undetermined,
        }
    }

    fn same(&self, a: &Read<'_>, b: &Read<'_>) -> Truth {
        match (a, b) {
            (Read::Value(a), Read::Value(b)) => same_value(a, b),
            (Read::Thing(a, _), Read::Thing(b, _)) => self.same_thing(*a, *b),
            _ => Truth::Undetermined,
        }
    }

    fn same_thing(&self, a: Thing<'_>, b: Thing<'_>) -> Truth {
        match (a, b) {
            (Thing::Registered(a), Thing::Registered(b)) => Truth::from(a == b),
            (Thing::Named(a), Thing::Named(b)) => Truth::from(a == b),
            (Thing::Own, Thing::Own) => Truth::True,
            (Thing::Own, Thing::Named(name)) | (Thing::Named(name), Thing::Own) => {
                // Without an id nobody can tell which one it will be.
                self.own_name().map_or(Truth::Undetermined, |own| Truth::from(own == name))
            }
            // One of the two is registered and the other is not.
            (Thing::Registered(_), _) | (_, Thing::Registered(_)) => Truth::False,
        }
    }

    fn own_name(&self) -> Option<&'e str> {
        match &self.question.resource {
            Resource::Registered(id) => Some(self.engine.register.name(*id)),
            Resource::Stated { name, .. } => name.as_deref(),
        }
    }

    fn order(&self, bound: Bound<'e>, order: Order, a: OperandId, b: OperandId) -> Truth {
        let (Ok(Read::Value(a)), Ok(Read::Value(b))) = (self.operand(bound, a), self.operand(bound, b))
        else {
            return Truth::Undetermined;
        };
        let Some(found) = compare(&a, &b) else { return Truth::Undetermined };
        Truth::from(match order {
            Order::Less => found == Ordering::Less,
            Order::AtMost => found != Ordering::Greater,
            Order::Greater => found == Ordering::Greater,
            Order::AtLeast => found != Ordering::Less,
        })
    }

    fn texts(&self, bound: Bound<'e>, a: OperandId, b: OperandId, test: fn(&str, &str) -> bool) -> Truth {
        match (self.operand(bound, a), self.operand(bound, b)) {
            (Ok(Read::Value(Value::Text(a))), Ok(Read::Value(Value::Text(b)))) => Truth::from(test(&a, &b)),
            _ => Truth::Undetermined,
        }
    }

    fn is_in(&self, bound: Bound<'e>, needle: OperandId, list: &'e List) -> Truth {
        let Ok(needle) = self.operand(bound, needle) else { return Truth::Undetermined };
        self.some(bound, list, &mut |item| self.same(&needle, item))
    }

    fn in_network(&self, bound: Bound<'e>, needle: OperandId, list: &'e List) -> Truth {
        let Ok(Read::Value(Value::Address(needle))) = self.operand(bound, needle) else {
            return Truth::Undetermined;
        };
        self.some(bound, list, &mut |item| match item {
            Read::Value(Value::Address(network)) => Truth::from(network.contains(&needle)),
            _ => Truth::Undetermined,
        })
    }

    fn overlaps(&self, bound: Bound<'e>, a: &'e List, b: &'e List) -> Truth {
        // The second list is read whole even where the first is empty: both must be complete.
        let mut found = Truth::False;
        let whole = self.each(bound, a, &mut |item| {
            found = found.or(self.some(bound, b, &mut |other| self.same(&item, other)));
            found != Truth::True
        });
        if found == Truth::True {
            return found;
        }
        let other = self.each(bound, b, &mut |_| true);
        if whole == Whole::Yes && other == Whole::Yes { found } else { Truth::Undetermined }
    }

    /// Whether some member of a list is so: true if one is, false only if the list is whole.
    fn some(&self, bound: Bound<'e>, list: &'e List, test: &mut dyn FnMut(&Read<'e>) -> Truth) -> Truth {
        let mut found = Truth::False;
        let whole = self.each(bound, list, &mut |item| {
            found = found.or(test(&item));
            found != Truth::True
        });
        if found != Truth::True && whole != Whole::Yes { Truth::Undetermined } else { found }
    }

    /// `among(subject, path)`: is the subject one of these, or a member of a group that is?
    fn among(&self, bound: Bound<'e>, path: PathId) -> Truth {
        let Some(subject) = self.subject else { return Truth::Undetermined };
        let path = &bound.condition.paths[path.index()];
        let mut found = false;
        let whole = self.each_of(bound, path, &mut |item| {
            if let Read::Thing(Thing::Registered(id), reached) = item {
                found |= id == subject || self.stands_for(id, subject, reached);
            }
            !found
        });
        match (found, whole) {
            (true, _) => Truth::True,
            (false, Whole::Yes) => Truth::False,
            (false, Whole::No(_)) => Truth::Undetermined,
        }
    }

    /// Whether a group reached by a step has the subject as a member, through groups that count
    /// where the step began.
    fn stands_for(&self, group: EntityId, subject: EntityId, reached: Reached<'e>) -> bool {
        let register = self.engine.register;
        if register.kind(group) != Sym::GROUP {
            return false;
        }
        let sealed_in = match reached.from {
            None => None,
            Some(Thing::Registered(id)) if matches!(register.kind(id), Sym::USER | Sym::SERVICE) => None,
            Some(from) => Some(self.tenant_of(from)),
        };
        let counts = |id: EntityId| match (sealed_in, register.group_tenant(id)) {
            (None, _) | (_, None) => true,
            (Some(tenant), Some(of)) => tenant == Tenant::Is(of) || (reached.across && id == group),
        };
        // Upwards from the subject, as groups are found fastest that way.
        let mut seen: Vec<EntityId> = vec![subject];
        let mut at = 0;
        while at < seen.len() {
            for next in register.groups(seen[at]) {
                if counts(*next) && !seen.contains(next) {
                    if *next == group {
                        return true;
                    }
                    seen.push(*next);
                }
            }
            at += 1;
        }
        false
    }

    fn known(&self, bound: Bound<'e>, path: PathId) -> Truth {
        let path = &bound.condition.paths[path.index()];
        let mut ill = false;
        let mut present = true;
        let whole = self.each_or_lack(bound, path, &mut |item| {
            match item {
                Ok(_) => {}
                Err(Lack::IllTyped) => ill = true,
                Err(_) => present = false,
            }
            true
        });
        match whole {
            _ if ill => Truth::Undetermined,
            Whole::No(Lack::IllTyped) => Truth::Undetermined,
            Whole::No(_) => Truth::False,
            Whole::Yes => Truth::from(present),
        }
    }

    // -- operands ------------------------------------------------------------------------------

    fn operand(&self, bound: Bound<'e>, id: OperandId) -> Result<Read<'e>, Lack> {
        let value = match &bound.condition.operands[id.index()] {
            Operand::Value(value) => borrow(value),
            Operand::Now => Value::Time(self.question.now),
            Operand::Entity(name) => return Ok(Read::Thing(self.named(name), DIRECTLY)),
            Operand::Path(path) => return self.one(bound, &bound.condition.paths[path.index()]),
            Operand::Test(test) => match self.test(bound, *test) {
                Truth::True => Value::Boolean(true),
                Truth::False => Value::Boolean(false),
                Truth::Undetermined => return Err(Lack::Missing),
            },
            Operand::Plus(a, b) => plus(&self.value(bound, *a)?, &self.value(bound, *b)?)?,
            Operand::Minus(a, b) => minus(&self.value(bound, *a)?, &self.value(bound, *b)?)?,
            Operand::Lower(text) => match self.value(bound, *text)? {
                Value::Text(text) if text.chars().any(char::is_uppercase) => {
                    Value::Text(Cow::Owned(text.to_lowercase()))
                }
                text => text,
            },
            Operand::Clock(time, zone) => {
                let at = zone.to_datetime(self.time(bound, *time)?);
                let seconds =
                    i64::from(at.hour()) * 3_600 + i64::from(at.minute()) * 60 + i64::from(at.second());
                Value::Duration(SignedDuration::new(seconds, at.subsec_nanosecond()))
            }
            Operand::Hour(time, zone) => {
                Value::Integer(i64::from(zone.to_datetime(self.time(bound, *time)?).hour()))
            }
            Operand::Weekday(time, zone) => {
                Value::Text(Cow::Borrowed(weekday(zone.to_datetime(self.time(bound, *time)?).weekday())))
            }
            Operand::Count(list) => {
                let mut count = 0;
                match self.each(bound, list, &mut |_| {
                    count += 1;
                    true
                }) {
                    Whole::Yes => Value::Integer(count),
                    Whole::No(lack) => return Err(lack),
                }
            }
        };
        Ok(Read::Value(value))
    }

    fn value(&self, bound: Bound<'e>, id: OperandId) -> Result<Value<'e>, Lack> {
        match self.operand(bound, id)? {
            Read::Value(value) => Ok(value),
            Read::Thing(..) => Err(Lack::IllTyped),
        }
    }

    fn time(&self, bound: Bound<'e>, id: OperandId) -> Result<Timestamp, Lack> {
        match self.value(bound, id)? {
            Value::Time(time) => Ok(time),
            _ => Err(Lack::IllTyped),
        }
    }

    fn named(&self, name: &'e str) -> Thing<'e> {
        self.engine.register.registered(name).map_or(Thing::Named(name), Thing::Registered)
    }

    // -- lists ---------------------------------------------------------------------------------

    /// Visits the members of a list until told to stop; a member that cannot be read makes the
    /// list incomplete.
    fn each(&self, bound: Bound<'e>, list: &'e List, visit: &mut dyn FnMut(Read<'e>) -> bool) -> Whole {
        match list {
            List::Values(values) => {
                let _ = values.iter().all(|value| visit(Read::Value(borrow(value))));
                Whole::Yes
            }
            List::Entities(names) => {
                let _ = names.iter().all(|name| visit(Read::Thing(self.named(name), DIRECTLY)));
                Whole::Yes
            }
            List::Path(path) => self.each_of(bound, &bound.condition.paths[path.index()], visit),
        }
    }

    fn each_of(&self, bound: Bound<'e>, path: &'e Path, visit: &mut dyn FnMut(Read<'e>) -> bool) -> Whole {
        let mut lack = None;
        let whole = self.each_or_lack(bound, path, &mut |item| match item {
            Ok(item) => visit(item),
            Err(why) => {
                lack = Some(why);
                true
            }
        });
        match (whole, lack) {
            (Whole::Yes, Some(lack)) => Whole::No(lack),
            (whole, _) => whole,
        }
    }

    /// Visits what a path gives: one thing, or the members of its list, present or not.
    fn each_or_lack(
        &self,
        bound: Bound<'e>,
        path: &'e Path,
        visit: &mut dyn FnMut(Result<Read<'e>, Lack>) -> bool,
    ) -> Whole {
        if !path.many {
            visit(self.one(bound, path));
            return Whole::Yes;
        }
        match path.root {
            Root::Context(index) => {
                let declared = &self.engine.policy.model().context[index];
                match self.question.context[index].as_ref().or(declared.default.as_ref()) {
                    None => Whole::No(Lack::Missing),
                    Some(stated) => match scalars(stated, declared) {
                        Ok(scalars) => visit_scalars(scalars, declared, visit),
                        Err(lack) => Whole::No(lack),
                    },
                }
            }
            Root::Grant(name, kind) => self.each_granted(bound, name, kind, visit),
            Root::Subject | Root::Resource => self.each_along(path, visit),
        }
    }

    fn each_granted(
        &self,
        bound: Bound<'e>,
        name: NameId,
        kind: ValueType,
        visit: &mut dyn FnMut(Result<Read<'e>, Lack>) -> bool,
    ) -> Whole {
        let sym = self.engine.link.names[name.index()];
        let values = bound.grant.and_then(|grant| grant.values.iter().find(|(known, _)| Some(*known) == sym));
        let Some((_, values)) = values else { return Whole::No(Lack::Missing) };
        for value in values.iter().take(MAX_MEMBERS) {
            if !visit(value.read(kind).map(Read::Value).ok_or(Lack::IllTyped)) {
                return Whole::Yes;
            }
        }
        if values.len() > MAX_MEMBERS { Whole::No(Lack::Incomplete) } else { Whole::Yes }
    }

    fn each_along(&self, path: &'e Path, visit: &mut dyn FnMut(Result<Read<'e>, Lack>) -> bool) -> Whole {
        let mut read = match self.root(path.root) {
            Ok(read) => read,
            Err(lack) => return Whole::No(lack),
        };
        for (at, step) in path.steps.iter().enumerate() {
            let Read::Thing(thing, _) = read else { return Whole::No(Lack::IllTyped) };
            if !self.is_many(thing, *step) {
                read = match self.step(thing, *step) {
                    Ok(read) => read,
                    Err(lack) => return Whole::No(lack),
                };
                continue;
            }
            let rest = &path.steps[at + 1..];
            return match self.source(thing, *step) {
                Err(lack) => Whole::No(lack),
                Ok(Source::Scalars(scalars, declared)) => visit_scalars(scalars, declared, visit),
                Ok(Source::Things(things, relation)) => {
                    for target in things.iter().take(MAX_MEMBERS) {
                        let reached = self.follow(thing, *target, relation);
                        if !visit(reached.and_then(|read| self.steps(read, rest))) {
                            return Whole::Yes;
                        }
                    }
                    if things.len() > MAX_MEMBERS { Whole::No(Lack::Incomplete) } else { Whole::Yes }
                }
            };
        }
        Whole::No(Lack::IllTyped)
    }

    // -- paths ---------------------------------------------------------------------------------

    fn one(&self, bound: Bound<'e>, path: &'e Path) -> Result<Read<'e>, Lack> {
        match path.root {
            Root::Subject | Root::Resource => self.steps(self.root(path.root)?, &path.steps),
            Root::Context(index) => {
                let declared = &self.engine.policy.model().context[index];
                let stated = self.question.context[index].as_ref().or(declared.default.as_ref());
                one_scalar(stated.ok_or(Lack::Missing)?, declared).map(Read::Value)
            }
            Root::Grant(name, kind) => {
                let mut first = Err(Lack::Missing);
                self.each_granted(bound, name, kind, &mut |item| {
                    first = item;
                    false
                });
                first
            }
        }
    }

    fn root(&self, root: Root) -> Result<Read<'e>, Lack> {
        let thing = match root {
            Root::Subject => Thing::Registered(self.subject.ok_or(Lack::Missing)?),
            _ => match self.question.resource {
                Resource::Registered(id) => Thing::Registered(id),
                Resource::Stated { .. } => Thing::Own,
            },
        };
        Ok(Read::Thing(thing, DIRECTLY))
    }

    fn steps(&self, mut read: Read<'e>, steps: &[Step]) -> Result<Read<'e>, Lack> {
        for step in steps {
            let Read::Thing(thing, _) = read else { return Err(Lack::IllTyped) };
            read = self.step(thing, *step)?;
        }
        Ok(read)
    }

    fn step(&self, thing: Thing<'e>, step: Step) -> Result<Read<'e>, Lack> {
        let register = self.engine.register;
        let value = match step {
            Step::Id | Step::Type => {
                let name = match thing {
                    Thing::Registered(id) => Some(register.name(id)),
                    Thing::Named(name) => Some(name),
                    Thing::Own => self.own_name(),
                };
                if step == Step::Type {
                    let kind = match name {
                        Some(name) => name.split_once(':').map(|(kind, _)| kind),
                        None => Some(self.engine.policy.model().kinds[self.own_kind().index()].key.as_str()),
                    };
                    Value::Text(Cow::Borrowed(kind.ok_or(Lack::Missing)?))
                } else {
                    let id = name.and_then(|name| name.split_once(':')).map(|(_, id)| id);
                    Value::Text(Cow::Borrowed(id.ok_or(Lack::Missing)?))
                }
            }
            Step::Detached => match thing {
                Thing::Registered(id) => Value::Boolean(register.is_detached(id)),
                _ => return Err(Lack::Missing),
            },
            Step::Tenant => {
                return match self.tenant_of(thing) {
                    Tenant::Is(id) => {
                        Ok(Read::Thing(Thing::Registered(id), Reached { from: Some(thing), across: false }))
                    }
                    _ => Err(Lack::Missing),
                };
            }
            Step::Within => return self.within(thing),
            Step::Attribute(name) => return self.attribute(thing, name).map(Read::Value),
            Step::Relation(_) => {
                return match self.source(thing, step)? {
                    Source::Things([only], relation) => self.follow(thing, *only, relation),
                    _ => Err(Lack::IllTyped),
                };
            }
        };
        Ok(Read::Value(value))
    }

    fn own_kind(&self) -> KindId {
        self.engine.policy.model().permissions[self.question.permission.index()].kind
    }

    fn kind_of(&self, thing: Thing<'e>) -> Option<&'e crate::charter::model::Kind> {
        let kind = match thing {
            Thing::Registered(id) => self.engine.kind(id)?,
            Thing::Own => self.own_kind(),
            Thing::Named(_) => return None,
        };
        Some(&self.engine.policy.model().kinds[kind.index()])
    }

    fn is_many(&self, thing: Thing<'e>, step: Step) -> bool {
        self.kind_of(thing).is_some_and(|kind| match step {
            Step::Attribute(name) => kind.attribute(name).is_some_and(|attribute| attribute.many),
            Step::Relation(name) => kind.relation(name).is_some_and(|relation| relation.many),
            _ => false,
        })
    }

    fn tenant_of(&self, thing: Thing<'_>) -> Tenant {
        match thing {
            Thing::Registered(id) => self.engine.tenant_of(id),
            Thing::Own => self.tenant,
            Thing::Named(_) => Tenant::Unknown,
        }
    }

    fn within(&self, thing: Thing<'e>) -> Result<Read<'e>, Lack> {
        let outer = match thing {
            Thing::Registered(id) => self.engine.register.within(id),
            Thing::Own => match self.question.resource {
                Resource::Stated { within, .. } => within,
                Resource::Registered(_) => None,
            },
            Thing::Named(_) => None,
        };
        let outer = outer.ok_or(Lack::Missing)?;
        if self.tenant_of(thing) == Tenant::Unknown {
            return Err(Lack::Sealed);
        }
        let declared = self.kind_of(thing).zip(self.engine.kind(outer));
        if declared.is_some_and(|(kind, outer)| kind.within.contains(&outer)) {
            Ok(Read::Thing(Thing::Registered(outer), Reached { from: Some(thing), across: false }))
        } else {
            Err(Lack::IllTyped)
        }
    }

    /// The step from a thing to what a relation of it names, if type and seal let it.
    fn follow(&self, from: Thing<'e>, to: EntityId, relation: &Relation) -> Result<Read<'e>, Lack> {
        if !self.engine.kind(to).is_some_and(|kind| relation.to.contains(&kind)) {
            return Err(Lack::IllTyped);
        }
        if !relation.across_tenants && !self.step_counts(from, to) {
            return Err(Lack::Sealed);
        }
        Ok(Read::Thing(Thing::Registered(to), Reached { from: Some(from), across: relation.across_tenants }))
    }

    /// The tenant seal: a step from a resource counts only to what has no tenant or the same one.
    /// Steps from a subject are not sealed.
    fn step_counts(&self, from: Thing<'e>, to: EntityId) -> bool {
        if let Thing::Registered(id) = from
            && matches!(self.engine.register.kind(id), Sym::USER | Sym::SERVICE)
        {
            return true;
        }
        let of = self.tenant_of(from);
        let at = self.engine.tenant_of(to);
        of != Tenant::Unknown && (at == Tenant::None || (at == of && at != Tenant::Unknown))
    }

    /// What the request said of a thing: only the question's subject and resource have that.
    fn said(&self, thing: Thing<'e>) -> Option<&'e Said> {
        let own = match (&self.question.resource, thing) {
            (Resource::Registered(id), Thing::Registered(thing)) => *id == thing,
            (Resource::Stated { .. }, Thing::Own) => true,
            _ => false,
        };
        if own {
            return Some(&self.question.of_resource);
        }
        match (self.subject, thing) {
            (Some(subject), Thing::Registered(thing)) if subject == thing => Some(&self.question.of_subject),
            _ => None,
        }
    }

    fn attribute(&self, thing: Thing<'e>, name: NameId) -> Result<Value<'e>, Lack> {
        // A subject of a kind that does not declare it simply has none.
        let declared = self.kind_of(thing).and_then(|kind| kind.attribute(name)).ok_or(Lack::Missing)?;
        one_scalar(self.stated(thing, declared)?, declared)
    }

    /// The first source that states an attribute hides those behind it.
    fn stated(&self, thing: Thing<'e>, declared: &'e Attribute) -> Result<&'e Stated, Lack> {
        let registered = || match thing {
            Thing::Registered(id) => {
                let sym = self.engine.link.names[declared.name.index()]?;
                self.engine.register.record(id).attribute(sym)
            }
            _ => None,
        };
        let requested = || {
            let said = self.said(thing)?;
            said.attributes.iter().find(|(name, _)| *name == declared.name).map(|(_, stated)| stated)
        };
        let from = declared.from;
        let found = Some(()).filter(|()| from.reads_register()).and_then(|()| registered());
        let found = found.or_else(|| Some(()).filter(|()| from.reads_request()).and_then(|()| requested()));
        found.or(declared.default.as_ref()).ok_or(Lack::Missing)
    }

    /// Everything an attribute or relation states, as a list.
    fn source(&self, thing: Thing<'e>, step: Step) -> Result<Source<'e>, Lack> {
        let kind = self.kind_of(thing).ok_or(Lack::Missing)?;
        match step {
            Step::Attribute(name) => {
                let declared = kind.attribute(name).ok_or(Lack::Missing)?;
                scalars(self.stated(thing, declared)?, declared).map(|all| Source::Scalars(all, declared))
            }
            Step::Relation(name) => {
                let relation = kind.relation(name).ok_or(Lack::Missing)?;
                self.related(thing, relation).map(|all| Source::Things(all, relation))
            }
            _ => Err(Lack::IllTyped),
        }
    }

    fn related(&self, thing: Thing<'e>, relation: &'e Relation) -> Result<&'e [EntityId], Lack> {
        if let (true, Thing::Registered(id)) = (relation.from.reads_register(), thing)
            && let Some(sym) = self.engine.link.names[relation.name.index()]
            && let Some(to) = self.engine.register.record(id).relation(sym)
        {
            return Ok(to);
        }
        if relation.from.reads_request()
            && let Some(said) = self.said(thing)
            && let Some((_, to)) = said.relations.iter().find(|(name, _)| *name == relation.name)
        {
            return to.as_deref().ok_or(Lack::IllTyped);
        }
        if relation.default_empty { Ok(&[]) } else { Err(Lack::Missing) }
    }

    // -- for the explanation -------------------------------------------------------------------

    /// Every part of a condition with its value: the smallest tests, in the order written.
    pub(super) fn parts(&self, bound: Bound<'e>) -> Vec<Part> {
        let condition = bound.condition;
        let mut parts: Vec<Part> = condition
            .tests
            .iter()
            .enumerate()
            .filter(|(_, test)| !matches!(test, Test::Not(_) | Test::All(_) | Test::Any(_)))
            .map(|(at, _)| {
                let span = condition.test_spans[at];
                Part { span, value: self.test(bound, TestId::at(at)), reads: self.reads(bound, span) }
            })
            .collect();
        parts.sort_by_key(|part| part.span);
        parts
    }

    /// The part that made a condition what it is: of an `and`, the first that did.
    pub(super) fn culprit(&self, bound: Bound<'e>, value: Truth) -> Part {
        let mut id = bound.condition.root;
        while let Test::All(parts) = &bound.condition.tests[id.index()] {
            match parts.iter().find(|part| self.test(bound, **part) == value) {
                Some(part) => id = *part,
                None => break,
            }
        }
        let span = bound.condition.test_spans[id.index()];
        Part { span, value, reads: self.reads(bound, span) }
    }

    /// The paths that stand within a place, with what they give.
    fn reads(&self, bound: Bound<'e>, place: Span) -> Vec<(Span, String)> {
        let mut reads = Vec::new();
        for (path, span) in bound.condition.paths.iter().zip(&bound.condition.path_spans) {
            if span.file == place.file && span.start >= place.start && span.end <= place.end {
                reads.push((*span, self.shown(bound, path)));
            }
        }
        for (operand, span) in bound.condition.operands.iter().zip(&bound.condition.operand_spans) {
            if *operand == Operand::Now && span.start >= place.start && span.end <= place.end {
                reads.push((*span, self.question.now.to_string()));
            }
        }
        reads.sort_by_key(|(span, _)| *span);
        reads
    }

    fn shown(&self, bound: Bound<'e>, path: &'e Path) -> String {
        /// Longer lists are told by their beginning.
        const SHOWN: usize = 8;
        let mut items = Vec::new();
        let whole = self.each_or_lack(bound, path, &mut |item| {
            items.push(match item {
                Ok(Read::Value(value)) => value.to_string(),
                Ok(Read::Thing(thing, _)) => self.shown_thing(thing),
                Err(lack) => lack.word().to_owned(),
            });
            items.len() <= SHOWN
        });
        if items.len() > SHOWN {
            items.truncate(SHOWN);
            items.push("…".to_owned());
        }
        match (path.many, whole) {
            (false, _) => items.pop().unwrap_or_default(),
            (true, Whole::Yes) => format!("[{}]", items.join(", ")),
            (true, Whole::No(lack)) if items.is_empty() => lack.word().to_owned(),
            (true, Whole::No(_)) => format!("[{}, and not all could be read]", items.join(", ")),
        }
    }

    fn shown_thing(&self, thing: Thing<'_>) -> String {
        match thing {
            Thing::Registered(id) => self.engine.register.name(id).to_owned(),
            Thing::Named(name) => name.to_owned(),
            Thing::Own => self.own_name().map_or_else(|| "a new one".to_owned(), str::to_owned),
        }
    }
}

// -- values ------------------------------------------------------------------------------------

fn borrow<'v>(value: &'v Value<'static>) -> Value<'v> {
    match value {
        Value::Text(text) => Value::Text(Cow::Borrowed(text)),
        other => other.clone(),
    }
}

fn one_scalar<'v>(stated: &'v Stated, declared: &Attribute) -> Result<Value<'v>, Lack> {
    match stated {
        Stated::One(scalar) if !declared.many => typed(scalar, declared),
        _ => Err(Lack::IllTyped),
    }
}

/// The members of a list; if one is of the wrong type, so is the list.
fn scalars<'v>(stated: &'v Stated, declared: &Attribute) -> Result<&'v [Scalar], Lack> {
    match stated {
        Stated::Many(scalars)
            if scalars.iter().take(MAX_MEMBERS).all(|scalar| typed(scalar, declared).is_ok()) =>
        {
            Ok(scalars)
        }
        _ => Err(Lack::IllTyped),
    }
}

fn typed<'v>(scalar: &'v Scalar, declared: &Attribute) -> Result<Value<'v>, Lack> {
    let value = scalar.read(declared.kind).ok_or(Lack::IllTyped)?;
    match &declared.values {
        Some(values) if !values.contains(&value) => Err(Lack::IllTyped),
        _ => Ok(value),
    }
}

fn visit_scalars<'e>(
    all: &'e [Scalar],
    declared: &Attribute,
    visit: &mut dyn FnMut(Result<Read<'e>, Lack>) -> bool,
) -> Whole {
    for scalar in all.iter().take(MAX_MEMBERS) {
        if !visit(typed(scalar, declared).map(Read::Value)) {
            return Whole::Yes;
        }
    }
    if all.len() > MAX_MEMBERS { Whole::No(Lack::Incomplete) } else { Whole::Yes }
}

fn same_value(a: &Value<'_>, b: &Value<'_>) -> Truth {
    match (a, b) {
        (Value::Integer(_), Value::Decimal(_)) | (Value::Decimal(_), Value::Integer(_)) => {
            compare(a, b).map_or(Truth::Undetermined, |found| Truth::from(found == Ordering::Equal))
        }
        _ => Truth::from(a == b),
    }
}

fn compare(a: &Value<'_>, b: &Value<'_>) -> Option<Ordering> {
    Some(match (a, b) {
        (Value::Integer(a), Value::Integer(b)) => a.cmp(b),
        (Value::Integer(_) | Value::Decimal(_), Value::Integer(_) | Value::Decimal(_)) => {
            decimal(a)?.cmp(&decimal(b)?)
        }
        (Value::Time(a), Value::Time(b)) => a.cmp(b),
        (Value::Duration(a), Value::Duration(b)) => a.cmp(b),
        _ => return None,
    })
}

fn decimal(value: &Value<'_>) -> Option<rust_decimal::Decimal> {
    match value {
        Value::Integer(value) => Some((*value).into()),
        Value::Decimal(value) => Some(*value),
        _ => None,
    }
}

fn plus<'v>(a: &Value<'v>, b: &Value<'v>) -> Result<Value<'v>, Lack> {
    let sum = match (a, b) {
        (Value::Integer(a), Value::Integer(b)) => a.checked_add(*b).map(Value::Integer),
        (Value::Duration(a), Value::Duration(b)) => a.checked_add(*b).map(Value::Duration),
        (Value::Time(time), Value::Duration(more)) | (Value::Duration(more), Value::Time(time)) => {
            time.checked_add(*more).ok().map(Value::Time)
        }
        _ => decimal(a).zip(decimal(b)).and_then(|(a, b)| a.checked_add(b)).map(Value::Decimal),
    };
    sum.ok_or(Lack::Overflow)
}

fn minus<'v>(a: &Value<'v>, b: &Value<'v>) -> Result<Value<'v>, Lack> {
    let difference = match (a, b) {
        (Value::Integer(a), Value::Integer(b)) => a.checked_sub(*b).map(Value::Integer),
        (Value::Duration(a), Value::Duration(b)) => a.checked_sub(*b).map(Value::Duration),
        (Value::Time(time), Value::Duration(less)) => time.checked_sub(*less).ok().map(Value::Time),
        (Value::Time(a), Value::Time(b)) => Some(Value::Duration(a.duration_since(*b))),
        _ => decimal(a).zip(decimal(b)).and_then(|(a, b)| a.checked_sub(b)).map(Value::Decimal),
    };
    difference.ok_or(Lack::Overflow)
}

fn weekday(day: jiff::civil::Weekday) -> &'static str {
    use jiff::civil::Weekday::{Friday, Monday, Saturday, Sunday, Thursday, Tuesday, Wednesday};
    match day {
        Monday => "monday",
        Tuesday => "tuesday",
        Wednesday => "wednesday",
        Thursday => "thursday",
        Friday => "friday",
        Saturday => "saturday",
        Sunday => "sunday",
    }
}

/// Whether a text is of a pattern: `*` any run, `?` one character. Takes time in the product of
/// the two lengths at the worst, and no memory.
pub(super) fn fits(text: &str, pattern: &str) -> bool {
    let (mut text, mut pattern) = (text.chars(), pattern.chars());
    // Where the last star stands, and the text it has not swallowed yet.
    let mut star: Option<(std::str::Chars<'_>, std::str::Chars<'_>)> = None;
    loop {
        let before = text.clone();
        match (pattern.next(), text.next()) {
            (Some('*'), _) => {
                text = before;
                star = Some((pattern.clone(), text.clone()));
            }
            (Some('?'), Some(_)) => {}
            (Some(wanted), Some(found)) if wanted == found => {}
            (None, None) => return true,
            _ => {
                let Some((after, rest)) = &mut star else { return false };
                if rest.next().is_none() {
                    return false;
                }
                pattern = after.clone();
                text = rest.clone();
            }
        }
    }
}
