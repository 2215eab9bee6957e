//! A separation that names a role which comes from a relationship: where the relation is not stated it is not
//! known whether somebody holds it, and then the other role gives them nothing.

use super::*;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    let model = charter.model;
    for separation in &model.separations {
        let conferred = separation.roles.iter().find_map(|role| {
            let confer = model.confers.iter().find(|confer| confer.role == *role)?;
            Some((role, confer))
        });
        let Some((role, confer)) = conferred else { continue };
        let key = |role: &crate::charter::model::RoleId| model.roles[role.index()].key.as_str();
        let other = separation.roles.iter().find(|other| *other != role).map_or("the other", key);
        let message = format!(
            "{:?} is conferred: where {} of a {} is not stated, {other:?} silently gives nothing to anybody there",
            key(role),
            confer.path_text,
            charter.key(confer.kind)
        );
        let finding = Finding::warning("separates-conferred", separation.span, message);
        let help =
            "state the relation always, or empty by default; or deny by a rule that asks known(…) first";
        findings.push(finding.beside(confer.span, "conferred here").help(help));
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn a_relation_that_nobody_stated() {
        doubts(
            "separates-conferred",
            r#"
[role.agent]
permissions = ["vessel:moor"]
grantable = false
[[resource.vessel.confer]]
role = "agent"
to = { relation = "agent" }
[[separation]]
key = "apart"
#     ^^^^^^^ "agent" is conferred: where agent of a vessel is not stated, "hand" silently gives nothing
roles = ["agent", "hand"]
"#,
        );
    }
}
