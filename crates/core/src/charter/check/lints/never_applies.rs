//! A condition that can never be true: a rule or clause that never fires.

use super::*;
use crate::charter::model::Order;
use crate::value::Value;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    for condition in charter.model.conditions() {
        let root = &condition.tests[condition.root.index()];
        if *root == Test::Constant(false) {
            let finding = Finding::warning("never-applies", condition.span(), "this is never true");
            findings.push(finding.help("take it out, with what it stands for"));
            continue;
        }
        for test in &condition.tests {
            let Test::All(parts) = test else { continue };
            let told: Vec<Said<'_>> = parts.iter().filter_map(|part| said(condition, *part)).collect();
            for (at, part) in told.iter().enumerate() {
                if let Some(other) = told[..at].iter().find(|other| other.excludes(part)) {
                    let message =
                        format!("this is never true together with what stands before it ({})", other.words);
                    let span = condition.test_spans[part.test];
                    let finding = Finding::warning("never-applies", span, message);
                    findings.push(finding.help("one thing cannot be both; was or meant?"));
                }
            }
        }
    }
}

/// A path compared with a literal.
struct Said<'c> {
    test: usize,
    path: &'c Path,
    order: Option<Order>,
    value: &'c Value<'static>,
    words: String,
}

fn said(condition: &Condition, id: crate::charter::model::TestId) -> Option<Said<'_>> {
    let (order, a, b) = match &condition.tests[id.index()] {
        Test::Equal(a, b) => (None, *a, *b),
        Test::Order(order, a, b) => (Some(*order), *a, *b),
        _ => return None,
    };
    let path = path_of(condition, a)?;
    let Operand::Value(value) = &condition.operands[b.index()] else { return None };
    let sign = match order {
        None => "==",
        Some(Order::Less) => "<",
        Some(Order::AtMost) => "<=",
        Some(Order::Greater) => ">",
        Some(Order::AtLeast) => ">=",
    };
    Some(Said { test: id.index(), path, order, value, words: format!("{sign} {value}") })
}

impl Said<'_> {
    fn excludes(&self, other: &Said<'_>) -> bool {
        if self.path.root != other.path.root || self.path.steps != other.path.steps {
            return false;
        }
        match (self.order, other.order) {
            (None, None) => self.value != other.value,
            (Some(a), Some(b)) => {
                let (Value::Integer(x), Value::Integer(y)) = (self.value, other.value) else { return false };
                match (is_upper(a), is_upper(b)) {
                    // x bounds from above, y from below.
                    (true, false) => x < y || x == y && (a == Order::Less || b == Order::Greater),
                    (false, true) => y < x || x == y && (a == Order::Greater || b == Order::Less),
                    _ => false,
                }
            }
            _ => false,
        }
    }
}

fn is_upper(order: Order) -> bool {
    matches!(order, Order::Less | Order::AtMost)
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn what_is_never_true() {
        doubts(
            "never-applies",
            r#"
[[rule]]
key = "off"
effect = "deny"
permissions = ["vessel:moor"]
when = "false"
#       ^^^^^ this is never true
[[rule]]
key = "both"
effect = "allow"
permissions = ["vessel:moor"]
when = "resource.flag == 'PT' and resource.flag == 'NO'"
#                                 ^^^^^^^^^^^^^^^^^^^^^ this is never true together
[[rule]]
key = "between"
effect = "allow"
permissions = ["vessel:moor"]
when = "subject.rank > 5 and subject.rank < 3"
#                            ^^^^^^^^^^^^^^^^ this is never true together
[[rule]]
key = "fine"
effect = "allow"
permissions = ["vessel:moor"]
when = "subject.rank > 3 and subject.rank < 5"
"#,
        );
    }
}
