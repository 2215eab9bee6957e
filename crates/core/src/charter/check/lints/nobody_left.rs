//! A deny rule without a condition: nobody is ever allowed what it names.

use super::*;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    for rule in charter.model.rules.iter().filter(|rule| rule.effect == Effect::Deny && rule.when.is_none()) {
        let message = format!("the deny rule {:?} has no when: nobody is ever allowed", rule.key);
        let finding = Finding::warning("nobody-left", rule.span, message);
        findings.push(finding.help("add a when; to switch an action off, take it out"));
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn a_deny_that_always_applies() {
        doubts(
            "nobody-left",
            r#"
[[rule]]
key = "shut"
#     ^^^^^^ the deny rule "shut" has no when
effect = "deny"
permissions = ["vessel:moor"]
"#,
        );
    }
}
