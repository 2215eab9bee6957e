//! A claim that names a user and may name another one tomorrow: addresses and nicknames are given on.

use super::*;

const GIVEN_ON: [&str; 3] = ["email", "preferred_username", "nickname"];

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    for issuer in &charter.tree.issuers {
        let Some(claim) = issuer.subject.as_ref().filter(|claim| GIVEN_ON.contains(&claim.value.as_str()))
        else {
            continue;
        };
        let message = format!("{:?} may be somebody else's tomorrow", claim.value);
        let finding = Finding::warning("subject-can-change", claim.span, message);
        findings.push(finding.help("name users by \"sub\", or by another claim that is never given on"));
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn an_address() {
        doubts(
            "subject-can-change",
            r#"
[issuer.port]
applications = ["quay"]
subject = "email"
#         ^^^^^^^ "email" may be somebody else's tomorrow
services = { claim = "kind", is = "machine" }
"#,
        );
    }
}
