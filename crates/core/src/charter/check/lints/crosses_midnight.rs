//! Hours that cross midnight, joined by `and`: no wall clock reads later than ten at night and
//! earlier than six in the morning at once.

use super::*;
use crate::charter::model::Order;
use crate::value::Value;

/// What a wall clock can read before it begins anew, in seconds and in hours.
const DAY: (i64, i64) = (86_400, 24);

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    for condition in charter.model.conditions() {
        for test in &condition.tests {
            let Test::All(parts) = test else { continue };
            let bounds: Vec<Bound<'_>> =
                parts.iter().filter_map(|part| bound(condition, part.index())).collect();
            for from in bounds.iter().filter(|bound| bound.from) {
                for until in bounds
                    .iter()
                    .filter(|bound| !bound.from && same_clock(condition, bound.clock, from.clock))
                {
                    if until.at <= from.at {
                        let span = condition.test_spans[until.test];
                        let message = "these hours cross midnight, and no moment is in both";
                        let finding = Finding::warning("crosses-midnight", span, message);
                        findings.push(finding.help("join the two with or"));
                    }
                }
            }
        }
        for at in 0..condition.tests.len() {
            if let Some(bound) = bound(condition, at)
                && bound.at > bound.day
            {
                let span = condition.test_spans[at];
                let finding =
                    Finding::warning("crosses-midnight", span, "no wall clock reads as late as this");
                findings.push(finding.help("a day has 24 hours; hour() gives 0 to 23"));
            }
        }
    }
}

/// A clock compared with a time of day.
struct Bound<'c> {
    test: usize,
    clock: &'c Operand,
    /// Whether it is the earliest; else the latest.
    from: bool,
    at: i64,
    day: i64,
}

fn same_clock(condition: &Condition, a: &Operand, b: &Operand) -> bool {
    match (a, b) {
        (Operand::Clock(x, here), Operand::Clock(y, there))
        | (Operand::Hour(x, here), Operand::Hour(y, there)) => {
            here == there && condition.operands[x.index()] == condition.operands[y.index()]
        }
        _ => false,
    }
}

fn bound(condition: &Condition, test: usize) -> Option<Bound<'_>> {
    let Test::Order(order, a, b) = &condition.tests[test] else { return None };
    let clock = &condition.operands[a.index()];
    let Operand::Value(value) = &condition.operands[b.index()] else { return None };
    let (at, day) = match (clock, value) {
        (Operand::Clock(..), Value::Duration(length)) => (length.as_secs(), DAY.0),
        (Operand::Hour(..), Value::Integer(hour)) => (*hour, DAY.1),
        _ => return None,
    };
    Some(Bound { test, clock, from: matches!(order, Order::Greater | Order::AtLeast), at, day })
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn a_night_watch_that_nobody_keeps() {
        doubts(
            "crosses-midnight",
            r#"
[[rule]]
key = "night"
effect = "allow"
permissions = ["vessel:moor"]
when = "clock(now, 'Europe/Lisbon') >= duration('22h') and clock(now, 'Europe/Lisbon') < duration('6h')"
#                                                          ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^ these hours cross midnight
[[rule]]
key = "late"
effect = "allow"
permissions = ["vessel:moor"]
when = "hour(now, 'Europe/Lisbon') >= 25"
#       ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^ no wall clock reads as late
[[rule]]
key = "night-meant"
effect = "allow"
permissions = ["vessel:moor"]
when = "clock(now, 'Europe/Lisbon') >= duration('22h') or clock(now, 'Europe/Lisbon') < duration('6h')"
"#,
        );
    }
}
