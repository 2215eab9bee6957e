//! A role that cannot be granted, is conferred by nothing, given to nobody and included in none.

use super::*;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    let model = charter.model;
    for (at, role) in model.roles.iter().enumerate() {
        let conferred = model.confers.iter().any(|confer| confer.role.index() == at);
        let included = model.roles.iter().any(|outer| outer.includes.iter().any(|inner| inner.index() == at));
        let held_by_none = !role.held_by_users && !role.held_by_services;
        if held_by_none || !role.grantable && role.given_to.is_none() && !conferred && !included {
            let message = format!("nobody can hold {:?}", role.key);
            let finding = Finding::warning("nobody-can-hold", role.span, message);
            findings.push(finding.help("confer it, let it be granted, or take it out"));
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn a_role_left_over() {
        doubts(
            "nobody-can-hold",
            r#"
[role.ghost]
#     ^^^^^ nobody can hold "ghost"
grantable = false
permissions = ["vessel:view"]
"#,
        );
    }
}
