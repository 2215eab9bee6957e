//! A typed condition as text in one canonical way: named conditions are written out, and two
//! conditions read alike exactly if they are built alike.

use super::model::{
    Condition, List, Model, Operand, OperandId, Order, Path, PathId, Root, Step, Test, TestId,
};
use crate::value::{Value, ValueType};

/// The whole of a condition.
pub fn condition(model: &Model, condition: &Condition) -> String {
    Printer { model, condition }.test(condition.root, false)
}

/// One of its tests.
pub fn test(model: &Model, condition: &Condition, id: TestId) -> String {
    Printer { model, condition }.test(id, false)
}

/// One of its operands.
pub fn operand(model: &Model, condition: &Condition, id: OperandId) -> String {
    Printer { model, condition }.operand(id)
}

struct Printer<'m> {
    model: &'m Model,
    condition: &'m Condition,
}

impl Printer<'_> {
    fn test(&self, id: TestId, inside: bool) -> String {
        let joined = |parts: &[TestId], word: &str| {
            let parts: Vec<String> = parts.iter().map(|part| self.test(*part, true)).collect();
            let text = parts.join(word);
            if inside { format!("({text})") } else { text }
        };
        match &self.condition.tests[id.index()] {
            Test::Constant(value) => value.to_string(),
            Test::Not(inner) => match &self.condition.tests[inner.index()] {
                Test::Equal(a, b) => format!("{} != {}", self.operand(*a), self.operand(*b)),
                Test::In(needle, list) | Test::InNetwork(needle, list) => {
                    format!("{} not in {}", self.operand(*needle), self.list(list))
                }
                _ => format!("not {}", self.test(*inner, true)),
            },
            Test::All(parts) => joined(parts, " and "),
            Test::Any(parts) => joined(parts, " or "),
            Test::Holds(operand) => self.operand(*operand),
            Test::Equal(a, b) => format!("{} == {}", self.operand(*a), self.operand(*b)),
            Test::Order(order, a, b) => {
                let sign = match order {
                    Order::Less => "<",
                    Order::AtMost => "<=",
                    Order::Greater => ">",
                    Order::AtLeast => ">=",
                };
                format!("{} {sign} {}", self.operand(*a), self.operand(*b))
            }
            Test::In(needle, list) | Test::InNetwork(needle, list) => {
                format!("{} in {}", self.operand(*needle), self.list(list))
            }
            Test::Overlaps(a, b) | Test::OverlapNetworks(a, b) => {
                format!("{} overlaps {}", self.list(a), self.list(b))
            }
            Test::HoldsRole(role) => format!("holds('{}')", self.model.roles[role.index()].key),
            Test::Member(group) => format!("member('{}')", self.model.groups[group.index()]),
            Test::Among(path) => format!("among(subject, {})", self.path_of(*path)),
            Test::Known(path) => format!("known({})", self.path_of(*path)),
            Test::Starts(a, b) => format!("starts({}, {})", self.operand(*a), self.operand(*b)),
            Test::Ends(a, b) => format!("ends({}, {})", self.operand(*a), self.operand(*b)),
            Test::Contains(a, b) => format!("contains({}, {})", self.operand(*a), self.operand(*b)),
            Test::Fits(text, pattern) => {
                format!("fits({}, '{}')", self.operand(*text), pattern.replace('\'', "''"))
            }
        }
    }

    fn operand(&self, id: OperandId) -> String {
        let zoned = |name: &str, time: OperandId, zone: &jiff::tz::TimeZone| {
            format!("{name}({}, '{}')", self.operand(time), zone.iana_name().unwrap_or("UTC"))
        };
        match &self.condition.operands[id.index()] {
            Operand::Value(value) => literal(value),
            Operand::Entity(name) => format!("entity('{name}')"),
            Operand::Now => "now".to_owned(),
            Operand::Path(path) => self.path_of(*path),
            Operand::Test(test) => self.test(*test, true),
            Operand::Plus(a, b) => format!("({} + {})", self.operand(*a), self.operand(*b)),
            Operand::Minus(a, b) => format!("({} - {})", self.operand(*a), self.operand(*b)),
            Operand::Lower(text) => format!("lower({})", self.operand(*text)),
            Operand::Clock(time, zone) => zoned("clock", *time, zone),
            Operand::Hour(time, zone) => zoned("hour", *time, zone),
            Operand::Weekday(time, zone) => zoned("weekday", *time, zone),
            Operand::Count(list) => format!("count({})", self.list(list)),
        }
    }

    fn list(&self, list: &List) -> String {
        match list {
            List::Values(values) => {
                format!("[{}]", values.iter().map(literal).collect::<Vec<_>>().join(", "))
            }
            List::Entities(names) => {
                let names: Vec<String> = names.iter().map(|name| format!("entity('{name}')")).collect();
                format!("[{}]", names.join(", "))
            }
            List::Path(path) => self.path_of(*path),
        }
    }

    fn path_of(&self, id: PathId) -> String {
        path(self.model, &self.condition.paths[id.index()])
    }
}

/// A path, from its root.
pub fn path(model: &Model, path: &Path) -> String {
    let name = |id: super::model::NameId| model.names.text(id.0);
    let mut text = match path.root {
        Root::Subject => "subject".to_owned(),
        Root::Resource => "resource".to_owned(),
        Root::Context(at) => format!("context.{}", name(model.context[at].name)),
        Root::Grant(value, _) => format!("grant.{}", name(value)),
    };
    for step in &*path.steps {
        text.push('.');
        text.push_str(match step {
            Step::Id => "id",
            Step::Type => "type",
            Step::Tenant => "tenant",
            Step::Within => "within",
            Step::Detached => "detached",
            Step::Attribute(id) | Step::Relation(id) => name(*id),
        });
    }
    text
}

/// A value as it is written in a condition.
fn literal(value: &Value<'_>) -> String {
    let kind = match value {
        Value::Time(_) => ValueType::Time,
        Value::Duration(_) => ValueType::Duration,
        Value::Address(_) => ValueType::Address,
        other => return other.to_string(),
    };
    format!("{kind}('{value}')")
}
