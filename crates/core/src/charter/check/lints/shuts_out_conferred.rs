//! A deny that shuts out those whom a relation makes holders of a role that gives the same.

use super::*;
use crate::charter::model::Rule;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    let model = charter.model;
    for rule in model.rules.iter().filter(|rule| rule.effect == Effect::Deny) {
        let Some(steps) = denied_relation(rule) else { continue };
        let conferred = model.confers.iter().find(|confer| {
            confer.holds.is_none()
                && confer.when.is_none()
                && *confer.path.steps == *steps
                && rule.permissions.iter().any(|permission| {
                    model.permissions[permission.index()].kind == confer.kind
                        && charter.gives[confer.role.index()].contains(permission)
                })
        });
        if let Some(confer) = conferred {
            let role = &model.roles[confer.role.index()].key;
            let (path, kind) = (&confer.path_text, charter.key(confer.kind));
            let message = format!(
                "whoever is {path} of a {kind} is {role:?} of it by that, and is shut out here from what that gives"
            );
            let finding = Finding::warning("shuts-out-conferred", rule.span, message);
            let help = "take the permission out of the role, or the conferral away, if the deny is meant";
            findings.push(finding.beside(confer.span, "conferred here").help(help));
        }
    }
}

/// The path whose end a rule denies, if that is all it asks.
fn denied_relation(rule: &Rule) -> Option<&[Step]> {
    let condition = rule.when.as_ref()?;
    let path = match &condition.tests[condition.root.index()] {
        Test::Among(path) => &condition.paths[path.index()],
        Test::Equal(a, b) => {
            let (a, b) = (path_of(condition, *a)?, path_of(condition, *b)?);
            let is_subject = |path: &Path| path.root == Root::Subject && path.steps.is_empty();
            if is_subject(a) { b } else { Some(a).filter(|_| is_subject(b))? }
        }
        _ => return None,
    };
    (path.root == Root::Resource).then_some(&*path.steps)
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn an_agent_who_may_and_may_not() {
        doubts(
            "shuts-out-conferred",
            r#"
[role.agent]
permissions = ["vessel:moor"]
grantable = false
[[resource.vessel.confer]]
role = "agent"
to = { relation = "agent" }
[[rule]]
key = "agents-do-not"
#     ^^^^^^^^^^^^^^^ whoever is agent of a vessel is "agent" of it by that, and is shut out here
effect = "deny"
permissions = ["vessel:moor"]
when = "subject == resource.agent"
[[rule]]
key = "agents-may-see"
effect = "deny"
permissions = ["vessel:view"]
when = "subject == resource.agent"
"#,
        );
    }
}
