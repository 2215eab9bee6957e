//! A role that includes a guarded one, and gives one of its permissions itself, past the guard.

use super::*;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    let model = charter.model;
    for role in &model.roles {
        for id in &role.includes {
            let inner = &model.roles[id.index()];
            if inner.when.is_none() || role.when.is_some() {
                continue;
            }
            let others = role.includes.iter().filter(|other| *other != id);
            let elsewhere: HashSet<PermId> = others
                .filter(|other| model.roles[other.index()].when.is_none())
                .flat_map(|other| charter.gives[other.index()].iter().copied())
                .chain(role.permissions.iter().copied())
                .collect();
            let mut leaked: Vec<&PermId> = charter.gives[id.index()].intersection(&elsewhere).collect();
            leaked.sort_unstable();
            if let Some(permission) = leaked.first() {
                let message = format!(
                    "{:?} gives {:?} past the when of {:?}, which it includes",
                    role.key,
                    model.permissions[permission.index()].text,
                    inner.key
                );
                let finding = Finding::warning("leaks-past-guard", role.span, message);
                findings.push(finding.help("give it in one way only, or say the condition here too"));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn a_permission_listed_beside_the_guarded_role_that_gives_it() {
        doubts(
            "leaks-past-guard",
            r#"
[role.guarded]
permissions = ["vessel:moor"]
when = "not resource.held"
[role.outer]
#     ^^^^^ "outer" gives "vessel:moor" past the when of "guarded"
includes = ["guarded"]
permissions = ["vessel:moor"]
[role.fine]
includes = ["guarded"]
permissions = ["vessel:view"]
"#,
        );
    }
}
