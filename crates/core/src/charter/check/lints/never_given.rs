//! A permission that no role or rule gives: nobody can ever do it.

use super::*;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    let model = charter.model;
    for (at, permission) in model.permissions.iter().enumerate() {
        let id = PermId::at(at);
        let by_rule =
            model.rules.iter().any(|rule| rule.effect == Effect::Allow && rule.permissions.contains(&id));
        let by_tenant = model.tenant_clauses.iter().any(|clause| clause.permissions.contains(&id));
        if by_rule || by_tenant || charter.gives.iter().any(|gives| gives.contains(&id)) {
            continue;
        }
        let kind = charter.key(permission.kind);
        let actions = charter.tree.resources.iter().filter(|resource| resource.key.value == kind);
        let place =
            actions.flat_map(|resource| &resource.actions).find(|(key, _)| key.value == permission.action);
        if let Some((action, _)) = place {
            let message = format!("no role or rule gives {:?}", permission.text);
            let finding = Finding::warning("never-given", action.span, message);
            findings.push(finding.help("give it in a role, or take the action out"));
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn an_action_that_nobody_gets() {
        doubts(
            "never-given",
            r#"
[resource.buoy]
application = "quay"
within = "tenant"
actions = { view = "", drag = "" }
#                      ^^^^ no role or rule gives "buoy:drag"
[role.keeper]
permissions = ["buoy:view"]
"#,
        );
    }
}
