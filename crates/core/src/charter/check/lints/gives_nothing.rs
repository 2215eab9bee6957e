//! A role that gives nothing.

use super::*;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    for (role, gives) in charter.model.roles.iter().zip(&charter.gives) {
        if gives.is_empty() {
            let message = format!("the role {:?} gives nothing", role.key);
            let finding = Finding::warning("gives-nothing", role.span, message);
            findings.push(finding.help("add permissions or includes, or take it out"));
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn a_role_without_permissions() {
        doubts("gives-nothing", "[role.idle]\n#     ^^^^ the role \"idle\" gives nothing\n");
    }
}
