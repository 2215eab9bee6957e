//! Values that each grant of a role must name and that nothing reads: they narrow nothing.

use super::*;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    let model = charter.model;
    for (at, role) in model.roles.iter().enumerate() {
        for (name, _) in &role.values {
            let reads = |condition: &Condition| {
                condition
                    .paths
                    .iter()
                    .any(|path| matches!(path.root, Root::Grant(of, _) if model.names.text(of.0) == name))
            };
            let mut seen = vec![false; model.roles.len()];
            let mut waiting = vec![at];
            let mut read = false;
            while let Some(next) = waiting.pop() {
                if std::mem::replace(&mut seen[next], true) {
                    continue;
                }
                let of = &model.roles[next];
                read |= of.when.iter().any(reads) || of.clauses.iter().any(|clause| reads(&clause.when));
                waiting.extend(of.includes.iter().map(|inner| inner.index()));
                // A role made to be included may leave the reading to those that include it.
                let outer = model
                    .roles
                    .iter()
                    .enumerate()
                    .filter(|(_, outer)| outer.includes.iter().any(|inner| inner.index() == next));
                waiting.extend(outer.map(|(outer, _)| outer));
            }
            if !read {
                let message = format!("each grant of {:?} names its {name}, and nothing reads it", role.key);
                let finding = Finding::warning("unread-values", role.span, message);
                findings
                    .push(finding.help(format!("say when = \"… in grant.{name}\", or take the value out")));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn lines_that_do_not_count() {
        doubts(
            "unread-values",
            r#"
[role.agent]
#     ^^^^^ each grant of "agent" names its line, and nothing reads it
values = { line = "text" }
permissions = ["vessel:moor"]
[role.agent-meant]
values = { flag = "text" }
permissions = ["vessel:moor"]
when = "resource.flag in grant.flag"
"#,
        );
    }
}
