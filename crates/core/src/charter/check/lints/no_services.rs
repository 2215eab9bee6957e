//! An issuer that does not say which of its tokens are services': then only those whose `sub` is their
//! `client_id` are.

use super::*;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    for issuer in charter.model.issuers.iter().filter(|issuer| issuer.services.is_none()) {
        let message = format!(
            "the issuer {:?} does not say which tokens are services': only those whose sub is their client_id",
            issuer.key
        );
        let finding = Finding::warning("no-services", issuer.span, message);
        findings.push(finding.help("add services = { claim = \"…\", is = [\"…\"] }"));
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn by_client_id_alone() {
        doubts(
            "no-services",
            r#"
[issuer.port]
#       ^^^^ the issuer "port" does not say which tokens are services'
applications = ["quay"]
"#,
        );
    }
}
