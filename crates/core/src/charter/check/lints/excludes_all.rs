//! A role that takes out all that a role it includes gives: one of the two was not meant.

use super::*;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    for role in charter.model.roles.iter().filter(|role| !role.except.is_empty()) {
        for inner in &role.includes {
            let gives = &charter.gives[inner.index()];
            if !gives.is_empty() && gives.iter().all(|permission| role.except.contains(permission)) {
                let key = &charter.model.roles[inner.index()].key;
                let message = format!("{:?} includes {key:?} and takes out all that it gives", role.key);
                let finding = Finding::warning("excludes-all", role.span, message);
                findings.push(finding.help(format!("take {key:?} out of includes")));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn what_is_included_is_excluded() {
        doubts(
            "excludes-all",
            r#"
[role.watcher]
permissions = ["vessel:view"]
[role.blind]
#     ^^^^^ "blind" includes "watcher" and takes out all that it gives
includes = ["watcher"]
permissions = ["vessel:moor"]
except = ["vessel:view"]
"#,
        );
    }
}
