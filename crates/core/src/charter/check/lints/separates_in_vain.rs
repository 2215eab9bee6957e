//! A separation of roles that nobody could hold together anyway, since no kind of subject may hold
//! both.

use super::*;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    for separation in &charter.model.separations {
        let by = |of: fn(&Role) -> bool| {
            separation.roles.iter().filter(|role| of(&charter.model.roles[role.index()])).count()
        };
        if by(|role| role.held_by_users) < 2 && by(|role| role.held_by_services) < 2 {
            let message = format!("no subject may hold two of the roles that {:?} separates", separation.key);
            let finding = Finding::warning("separates-in-vain", separation.span, message);
            findings.push(finding.help("held-by keeps them apart already"));
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn users_from_services() {
        doubts(
            "separates-in-vain",
            r#"
[role.person]
permissions = ["vessel:view"]
[role.feed]
held-by = ["service"]
permissions = ["vessel:view"]
[[separation]]
key = "apart"
#     ^^^^^^^ no subject may hold two of the roles
roles = ["person", "feed"]
"#,
        );
    }
}
