//! A negated role, group or comparison where everybody is let in who is not named: whoever the author did not
//! think of is among them.

use super::*;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    let rules = charter.model.rules.iter().filter(|rule| rule.effect == Effect::Allow);
    let rules = rules.filter_map(|rule| rule.when.as_ref());
    // A grant names its holder; what is given without one names nobody.
    let roles = charter.model.roles.iter().filter(|role| role.given_to.is_some());
    let roles = roles.flat_map(|role| role.when.iter().chain(role.clauses.iter().map(|clause| &clause.when)));
    for condition in rules.chain(roles) {
        for (test, span) in condition.tests.iter().zip(&condition.test_spans) {
            let Test::Not(inner) = test else { continue };
            let of_subject = |operand: &OperandId| {
                path_of(condition, *operand).is_some_and(|path| path.root == Root::Subject)
            };
            let what = match &condition.tests[inner.index()] {
                Test::HoldsRole(role) => format!("does not hold {:?}", charter.model.roles[role.index()].key),
                Test::Member(_) | Test::Among(_) => "is not in it".to_owned(),
                Test::Equal(a, b) if of_subject(a) || of_subject(b) => "is something else".to_owned(),
                Test::In(needle, _) if of_subject(needle) => "is something else".to_owned(),
                _ => continue,
            };
            let message = format!("this opens the door to everybody who {what}");
            let finding = Finding::warning("negated", *span, message);
            findings.push(finding.help("name whom it is for; what must not be is said better by a deny"));
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn everybody_but_the_one_that_was_thought_of() {
        doubts(
            "negated",
            r#"
[role.trainee]
permissions = ["vessel:view"]
[[rule]]
key = "no-trainees"
effect = "allow"
permissions = ["vessel:moor"]
when = "resource.flag == 'NL' and not holds('trainee')"
#                                 ^^^^^^^^^^^^^^^^^^^^ this opens the door to everybody who does not hold "trainee"
[[rule]]
key = "no-beginners"
effect = "allow"
permissions = ["vessel:moor"]
when = "resource.flag == 'NL' and subject.rank != 1"
#                                 ^^^^^^^^^^^^^^^^^ this opens the door to everybody who is something else
[[rule]]
key = "no-agents"
effect = "deny"
permissions = ["vessel:moor"]
when = "holds('trainee') or subject.rank != 1"
[role.given]
given-to = "signed-in"
[[role.given.clause]]
permissions = ["vessel:view"]
when = "subject.rank not in [1, 2]"
#       ^^^^^^^^^^^^^^^^^^^^^^^^^^ this opens the door to everybody who is something else
"#,
        );
    }
}
