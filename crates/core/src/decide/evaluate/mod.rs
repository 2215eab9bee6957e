//! Conditions on three truth values: every operator, every function, every step of a path.
//!
//! Whatever cannot be read is a [`Lack`], and what needs it is undetermined. The tenant seal is
//! applied in one place, `Walk::step_counts`.

mod columns;
mod operands;
mod paths;
mod told;
mod values;

use super::Tenant;
use super::question::{Resource, Said};
use super::walk::Walk;
use crate::charter::model::{
    Attribute, Condition, Confer, GroupId, KindId, List, NameId, Operand, OperandId, Order, Path, PathId,
    Relation, Root, Stated, Step, Test, TestId,
};
use crate::register::{EntityId, Sym, Terms};
use crate::source::Span;
use crate::value::{MAX_MEMBERS, Scalar, Truth, Value, ValueType};
use jiff::{SignedDuration, Timestamp};
use std::borrow::Cow;
use std::cmp::Ordering;
pub(crate) use values::fits;
use values::{borrow, compare, minus, one_scalar, plus, same_value, scalars, typed, visit_scalars, weekday};

pub(super) use columns::column_test;

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
pub(super) enum Thing<'e> {
    /// One of the register.
    Registered(EntityId),
    /// The question's own resource, which the register does not know.
    Own,
    /// One named in the charter that the register does not know.
    Named(&'e str),
}

/// What a path or operand reads.
#[derive(Clone, Debug)]
pub(super) enum Read<'e> {
    Value(Value<'e>),
    /// An entity, and how it was reached: what `Walk::among` needs for the seal.
    Thing(Thing<'e>, Reached<'e>),
}

/// The last step to an entity.
#[derive(Clone, Copy, Debug)]
pub(super) struct Reached<'e> {
    from: Option<Thing<'e>>,
    across: bool,
}

const DIRECTLY: Reached<'static> = Reached { from: None, across: false };

impl<'e> Reached<'e> {
    /// From somewhere, without leaving its tenant.
    pub fn from(thing: Thing<'e>) -> Self {
        Reached { from: Some(thing), across: false }
    }
}

/// Whether a conferral's path could be followed to all its ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Ends {
    /// To all of them.
    All,
    /// A step is missing.
    Some,
}

/// Whether a list was read whole.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Whole {
    Yes,
    No(Lack),
}

/// A condition with the grant at hand.
#[derive(Clone, Copy, Debug)]
pub(super) struct Bound<'e> {
    pub condition: &'e Condition,
    /// The terms of the grant at hand.
    pub grant: Option<&'e Terms>,
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

/// Whether one network lies in, or is, the other.
pub fn networks_overlap(a: &Value<'_>, b: &Value<'_>) -> Truth {
    match (a, b) {
        (Value::Address(a), Value::Address(b)) => Truth::from(a.contains(b) || b.contains(a)),
        _ => Truth::Undetermined,
    }
}

impl<'e> Walk<'e> {
    pub(super) fn test(&self, bound: Bound<'e>, id: TestId) -> Truth {
        let test = &bound.condition.tests[id.index()];
        if let Some(sheet) = self.sheet
            && let Some(value) = self.row_test(sheet, bound, test)
        {
            return value;
        }
        match test {
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
            Test::Overlaps(a, b) => self.overlaps(bound, a, b, &mut |a, b| self.same(a, b)),
            Test::OverlapNetworks(a, b) => self.overlaps(bound, a, b, &mut |a, b| match (a, b) {
                (Read::Value(a), Read::Value(b)) => networks_overlap(a, b),
                _ => Truth::Undetermined,
            }),
            Test::HoldsRole(role) => self.holds(*role),
            Test::Member(group) => match (self.subject, self.engine.link.groups[group.index()]) {
                (None, _) => Truth::Undetermined,
                (Some(_), Some(known)) => self.holders.standing(known),
                (Some(_), None) => self.is_declared_member(*group),
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

    pub(super) fn own_name(&self) -> Option<&'e str> {
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

    fn overlaps(
        &self,
        bound: Bound<'e>,
        a: &'e List,
        b: &'e List,
        meet: &mut dyn FnMut(&Read<'e>, &Read<'e>) -> Truth,
    ) -> Truth {
        // The second list is read whole even where the first is empty: both must be complete.
        let mut found = Truth::False;
        let whole = self.each(bound, a, &mut |item| {
            found = found.or(self.some(bound, b, &mut |other| meet(&item, other)));
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
        let mut found = Truth::False;
        let whole = self.each_of(bound, path, &mut |item| {
            if let Read::Thing(Thing::Registered(id), reached) = item {
                found = found.or(self.is_or_stands_for(id, subject, reached));
            }
            found != Truth::True
        });
        match whole {
            Whole::Yes => found,
            Whole::No(_) => found.or(Truth::Undetermined),
        }
    }

    /// Membership in a declared group that the register does not know: only a token can vouch for it.
    fn is_declared_member(&self, group: GroupId) -> Truth {
        match self.vouched() {
            Some(vouched) if vouched.declared.contains(&group) => Truth::True,
            Some(vouched) if vouched.perhaps_declared.contains(&group) => Truth::Undetermined,
            _ => Truth::False,
        }
    }

    /// Whether something that was reached is the subject, or a group that has it as a member.
    pub(super) fn is_or_stands_for(&self, id: EntityId, subject: EntityId, reached: Reached<'e>) -> Truth {
        if id == subject { Truth::True } else { self.stands_for(id, subject, reached) }
    }

    /// Whether a group reached by a step has the subject as a member, through groups that count
    /// where the step began.
    pub(super) fn stands_for(&self, group: EntityId, subject: EntityId, reached: Reached<'e>) -> Truth {
        let register = self.engine.register;
        if register.kind(group) != Sym::GROUP {
            return Truth::False;
        }
        let sealed_in = match reached.from {
            None => None,
            Some(Thing::Registered(id)) if matches!(register.kind(id), Sym::USER | Sym::SERVICE) => None,
            Some(from) => Some(self.tenant_of(from)),
        };
        // A group that a step across tenants leads to stands for those inside it of its own tenant too.
        let own = register.group_tenant(group).filter(|_| reached.across);
        let counts = |id: EntityId| match (sealed_in, register.group_tenant(id)) {
            (None, _) | (_, None) => true,
            (Some(tenant), Some(of)) => tenant == Tenant::Is(of) || own == Some(of),
        };
        // Upwards from the subject, as groups are found fastest that way.
        let mut seen: Vec<EntityId> = vec![subject];
        let mut at = 0;
        let leads_to_it = |seen: &mut Vec<EntityId>, at: &mut usize| {
            while *at < seen.len() {
                for next in register.groups(seen[*at]) {
                    if counts(*next) && !seen.contains(next) {
                        seen.push(*next);
                    }
                }
                *at += 1;
                if seen.contains(&group) {
                    return true;
                }
            }
            false
        };
        if leads_to_it(&mut seen, &mut at) {
            return Truth::True;
        }
        let Some(vouched) = self.vouched() else { return Truth::False };
        for (groups, found) in [(&vouched.groups, Truth::True), (&vouched.perhaps, Truth::Undetermined)] {
            let more = groups.iter().copied().filter(|of| counts(*of) && !seen.contains(of));
            let more: Vec<EntityId> = more.collect();
            seen.extend(more);
            if leads_to_it(&mut seen, &mut at) {
                return found;
            }
        }
        Truth::False
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
}
