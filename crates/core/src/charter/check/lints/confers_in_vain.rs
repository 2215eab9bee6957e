//! A conferral on subjects of a kind that may not hold the role.

use super::*;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    let model = charter.model;
    for confer in model.confers.iter().filter(|confer| confer.holds.is_none()) {
        let role = &model.roles[confer.role.index()];
        let Some(Step::Relation(name)) = confer.path.steps.last() else { continue };
        let ends: HashSet<KindId> = model
            .kinds
            .iter()
            .filter_map(|kind| kind.relation(*name))
            .flat_map(|relation| relation.to.iter().copied())
            .collect();
        let reaches = |kind: &KindId| *kind == KindId::GROUP || role.held_by(*kind);
        if !ends.iter().any(reaches) {
            let message = format!("nobody that {:?} leads to may hold {:?}", confer.path_text, role.key);
            let finding = Finding::warning("confers-in-vain", confer.span, message);
            findings.push(finding.help("widen held-by of the role"));
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn a_role_for_services_on_a_user() {
        doubts(
            "confers-in-vain",
            r#"
[role.feed]
held-by = ["service"]
permissions = ["vessel:view"]
[[resource.vessel.confer]]
role = "feed"
#      ^^^^^^ nobody that "agent" leads to may hold "feed"
to = { relation = "agent" }
"#,
        );
    }
}
