//! A text compared with one that it can never be: `lower(…)` with capitals, a weekday that is none.

use super::*;
use crate::names::nearest;
use crate::source::Span;
use crate::value::Value;

const WEEKDAYS: [&str; 7] = ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"];

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    for condition in charter.model.conditions() {
        for test in &condition.tests {
            let pairs: Vec<(OperandId, Vec<OperandOrText<'_>>)> = match test {
                Test::Equal(a, b) => {
                    vec![(*a, vec![OperandOrText::Operand(*b)]), (*b, vec![OperandOrText::Operand(*a)])]
                }
                Test::In(a, crate::charter::model::List::Values(values)) => {
                    vec![(*a, values.iter().map(OperandOrText::Value).collect())]
                }
                Test::Starts(a, b) | Test::Ends(a, b) | Test::Contains(a, b) => {
                    vec![(*a, vec![OperandOrText::Operand(*b)])]
                }
                _ => continue,
            };
            for (side, others) in pairs {
                for other in others {
                    let Some(text) = other.text(condition) else { continue };
                    let span = condition.operand_spans[side.index()];
                    findings.extend(never(&condition.operands[side.index()], span, text, test));
                }
            }
        }
    }
}

enum OperandOrText<'c> {
    Operand(OperandId),
    Value(&'c Value<'static>),
}

impl OperandOrText<'_> {
    fn text<'c>(&'c self, condition: &'c Condition) -> Option<&'c str> {
        let value = match self {
            OperandOrText::Value(value) => value,
            OperandOrText::Operand(id) => match &condition.operands[id.index()] {
                Operand::Value(value) => value,
                _ => return None,
            },
        };
        match value {
            Value::Text(text) => Some(text),
            _ => None,
        }
    }
}

fn never(operand: &Operand, span: Span, text: &str, test: &Test) -> Option<Finding> {
    let doubt = |message: String| Finding::warning("another-case", span, message);
    match operand {
        Operand::Lower(_) if text.to_lowercase() != text => Some(
            doubt(format!("this is in lower case, and '{text}' is not"))
                .help(format!("write '{}'", text.to_lowercase())),
        ),
        Operand::Weekday(..)
            if matches!(test, Test::Equal(..) | Test::In(..)) && !WEEKDAYS.contains(&text) =>
        {
            let mut finding = doubt(format!("no weekday is called '{text}'"));
            if let Some(day) = nearest(&text.to_lowercase(), WEEKDAYS) {
                finding = finding.meant_surely(text, day);
            }
            Some(finding.help(format!("they are: {}", WEEKDAYS.join(", "))))
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn texts_that_are_never_met() {
        doubts(
            "another-case",
            r#"
[[rule]]
key = "flags"
effect = "allow"
permissions = ["vessel:moor"]
when = "lower(resource.flag) == 'PT' and weekday(now, 'Europe/Lisbon') in ['Monday', 'friday']"
#       ^^^^^^^^^^^^^^^^^^^^ this is in lower case
#                                        ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^ no weekday is called 'Monday'; did you mean "monday"?
"#,
        );
    }
}
