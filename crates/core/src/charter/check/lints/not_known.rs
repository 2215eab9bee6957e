//! `not known(…)` where something is given: whoever can keep a fact from being stated is let in.

use super::*;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    for (condition, _) in charter.openings() {
        for (test, span) in condition.tests.iter().zip(&condition.test_spans) {
            let Test::Not(inner) = test else { continue };
            if matches!(condition.tests[inner.index()], Test::Known(_)) {
                let message = "this opens where a fact is missing, whyever it is";
                let finding = Finding::warning("not-known", *span, message);
                findings.push(finding.help("state the fact, or a default, and ask for that"));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn a_gap_that_lets_in() {
        doubts(
            "not-known",
            r#"
[[rule]]
key = "ownerless"
effect = "allow"
permissions = ["vessel:moor"]
when = "not known(resource.agent)"
#       ^^^^^^^^^^^^^^^^^^^^^^^^^ this opens where a fact is missing
[[rule]]
key = "owned"
effect = "deny"
permissions = ["vessel:moor"]
when = "not known(resource.agent)"
"#,
        );
    }
}
