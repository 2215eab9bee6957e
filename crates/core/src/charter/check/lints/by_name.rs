//! Groups that stand for themselves: whoever names a group there decides who is in one of that name here.

use super::*;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    for groups in charter.tree.issuers.iter().flat_map(|issuer| &issuer.groups) {
        let Some(by_name) = groups.by_name.as_ref().filter(|by_name| by_name.value) else { continue };
        let message =
            format!("any value of {:?} that is a group's id makes a member of it", groups.claim.value);
        let finding = Finding::warning("by-name", by_name.span, message);
        findings.push(finding.help("map the values that are meant: map = { \"VALUE\" = \"GROUP\" }"));
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn every_group() {
        doubts(
            "by-name",
            r#"
[issuer.port]
applications = ["quay"]
services = { claim = "kind", is = "machine" }
[[issuer.port.groups]]
claim = "groups"
by-name = true
#         ^^^^ any value of "groups" that is a group's id makes a member of it
[[issuer.port.groups]]
claim = "teams"
map = { "Night" = "night" }
by-name = false
"#,
        );
    }
}
