//! A deny rule that applies wherever something it reads is missing, since a deny counts where it is
//! undetermined: it shuts everybody out there, or every service, and that is seldom meant.

use super::*;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    for rule in charter.model.rules.iter().filter(|rule| rule.effect == Effect::Deny) {
        let Some(when) = &rule.when else { continue };
        let known = asked_known(when);
        let mut told = false;
        for (path, span) in when.paths.iter().zip(&when.path_spans) {
            let is_asked = known.iter().any(|asked| asked.root == path.root && asked.steps == path.steps);
            if is_asked || told {
                continue;
            }
            let message = if let Some(kind) = charter.lacking(path).first() {
                let without = charter.key(*kind);
                format!(
                    "the deny rule {:?} reads what no {without} has, and so shuts every {without} out",
                    rule.key
                )
            } else if charter.may_be_missing(path) {
                format!("the deny rule {:?} shuts everybody out where this is missing", rule.key)
            } else {
                continue;
            };
            told = true;
            let finding = Finding::warning("shuts-out", *span, message);
            findings.push(
                finding.help(
                    "say known(…) and … if it should not apply there, or not known(…) or … if it should",
                ),
            );
        }
    }
}

impl Charter<'_> {
    /// Whether some step of a path reads what may never have been stated.
    fn may_be_missing(&self, path: &Path) -> bool {
        if !matches!(path.root, Root::Subject | Root::Resource) {
            return false;
        }
        path.steps.iter().any(|step| {
            self.model.kinds.iter().any(|kind| match step {
                Step::Attribute(name) => kind.attribute(*name).is_some_and(|of| of.default.is_none()),
                Step::Relation(name) => kind.relation(*name).is_some_and(|of| !of.default_empty),
                _ => false,
            })
        })
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn a_relation_that_nobody_stated() {
        doubts(
            "shuts-out",
            r#"
[[rule]]
key = "own"
effect = "deny"
permissions = ["vessel:moor"]
when = "subject == resource.agent"
#                  ^^^^^^^^^^^^^^ the deny rule "own" shuts everybody out
[[rule]]
key = "own-if-known"
effect = "deny"
permissions = ["vessel:moor"]
when = "known(resource.agent) and subject == resource.agent"
[[rule]]
key = "held"
effect = "deny"
permissions = ["vessel:moor"]
when = "resource.held"
"#,
        );
    }

    #[test]
    fn an_attribute_that_only_users_have() {
        doubts(
            "shuts-out",
            r#"
[[rule]]
key = "juniors"
effect = "deny"
permissions = ["vessel:moor"]
when = "subject.rank < 3"
#       ^^^^^^^^^^^^ the deny rule "juniors" reads what no service has
"#,
        );
    }
}
