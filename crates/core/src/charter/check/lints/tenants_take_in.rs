//! A wildcard in what tenants may put into their roles, over a type in which something is guarded: what is
//! added to the type tomorrow is theirs to give as well.

use super::*;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    let model = charter.model;
    for pattern in charter.tree.tenant_roles.iter().flat_map(|clause| &clause.permissions) {
        let Some(key) = pattern.value.strip_suffix(":*") else { continue };
        let of_type = |permission: &PermId| charter.key(model.permissions[permission.index()].kind) == key;
        let rule = model.rules.iter().find(|rule| {
            rule.effect == Effect::Deny && rule.when.is_some() && rule.permissions.iter().any(of_type)
        });
        let role = model.roles.iter().find(|role| {
            let guarded = role.when.iter().flat_map(|_| &role.permissions);
            guarded.chain(role.clauses.iter().flat_map(|clause| &clause.permissions)).any(of_type)
        });
        let by = match (rule, role) {
            (Some(rule), _) => format!("the rule {:?} denies some", rule.key),
            (None, Some(role)) => format!("the role {:?} gives some under a condition", role.key),
            (None, None) => continue,
        };
        let message = format!("this lets tenants give all of {key}, of which {by}");
        let finding = Finding::warning("tenants-take-in", pattern.span, message);
        findings.push(finding.help("list what tenants may give, so that what comes later is not among it"));
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn all_of_a_type_that_is_guarded() {
        doubts(
            "tenants-take-in",
            r#"
[[tenant-roles.clause]]
permissions = ["vessel:*"]
#              ^^^^^^^^^^ this lets tenants give all of vessel, of which the role "hand" gives some
when = "not resource.held"
[[tenant-roles.clause]]
permissions = ["vessel:moor"]
when = "not resource.held"
"#,
        );
    }
}
