//! Roles that nobody should hold two of, while tokens vouch for groups: what a token says is not looked at when a
//! grant is written.

use super::*;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    let model = charter.model;
    let vouching = model.issuers.iter().find(|issuer| {
        let groups = issuer.groups.iter();
        groups.map(|groups| if groups.by_name { 2 } else { groups.map.len() }).sum::<usize>() > 1
    });
    let Some(issuer) = vouching else { return };
    for separation in &model.separations {
        let granted = separation.roles.iter().filter(|role| model.roles[role.index()].grantable).count();
        if granted < 2 {
            continue;
        }
        let message = format!(
            "groups that {:?} vouches for can give somebody two roles of {:?}, and no write is refused for it",
            issuer.key, separation.key
        );
        let finding = Finding::warning("vouched-apart", separation.span, message);
        let help =
            "every decision takes both away from whoever holds both; grant one of them to people alone";
        findings.push(finding.beside(issuer.span, "vouched for here").help(help));
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn two_groups_and_two_roles() {
        doubts(
            "vouched-apart",
            r#"
[role.agent]
permissions = ["vessel:moor"]
[[separation]]
key = "apart"
#     ^^^^^^^ groups that "port" vouches for can give somebody two roles of "apart"
roles = ["agent", "hand"]
[issuer.port]
applications = ["quay"]
services = { claim = "kind", is = "machine" }
[[issuer.port.groups]]
claim = "groups"
map = { "Night" = "night", "Day" = "day" }
"#,
        );
    }
}
