//! What is read of the subject where a subject of a kind that never has it can come: the condition
//! is undetermined for every one of them.

use super::*;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    for (condition, role) in charter.openings() {
        let known = asked_known(condition);
        for (path, span) in condition.paths.iter().zip(&condition.path_spans) {
            if known.iter().any(|asked| asked.root == path.root && asked.steps == path.steps) {
                continue;
            }
            let comes = |kind: &KindId| role.is_some_and(|role| role.held_by(*kind));
            if let Some(kind) = charter.lacking(path).into_iter().find(comes) {
                let key = charter.key(kind);
                let message = format!("a {key} may hold this role, and no {key} has what is read here");
                let finding = Finding::warning("other-kind", *span, message);
                findings.push(finding.help(format!("give {key}s a clause or role of their own")));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn a_role_for_services_that_asks_for_a_rank() {
        doubts(
            "other-kind",
            r#"
[role.feed]
held-by = ["user", "service"]
permissions = ["vessel:view"]
[[role.feed.clause]]
permissions = ["vessel:moor"]
when = "subject.rank > 3"
#       ^^^^^^^^^^^^ a service may hold this role
[role.person]
permissions = ["vessel:view"]
[[role.person.clause]]
permissions = ["vessel:moor"]
when = "subject.rank > 3"
"#,
        );
    }
}
