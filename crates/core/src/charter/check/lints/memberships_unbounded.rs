//! One issuer of several that may vouch for membership in anybody's tenant.

use super::*;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    if charter.model.issuers.len() < 2 {
        return;
    }
    for issuer in &charter.model.issuers {
        let vouches = issuer.tenants.is_some() || !issuer.groups.is_empty();
        if vouches && issuer.tenants.as_ref().is_none_or(|tenants| tenants.only.is_none()) {
            let message = format!(
                "the issuer {:?} vouches for memberships in every tenant, and it is not the only one",
                issuer.key
            );
            let finding = Finding::warning("memberships-unbounded", issuer.span, message);
            findings.push(finding.help("say whose: tenants = { claim = \"…\", only = [\"…\"] }"));
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn two_issuers_and_one_bound() {
        doubts(
            "memberships-unbounded",
            r#"
[issuer.port]
#       ^^^^ the issuer "port" vouches for memberships in every tenant
applications = ["quay"]
services = { claim = "kind", is = "machine" }
tenants = { claim = "org" }
[issuer.town]
applications = ["quay"]
prefix = "town-"
services = { claim = "kind", is = "machine" }
tenants = { claim = "org", only = ["town"] }
"#,
        );
    }
}
