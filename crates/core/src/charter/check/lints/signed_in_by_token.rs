//! Bearers who are not registered count as signed in, and something is given to everybody who is.

use super::*;
use crate::charter::syntax::{GivenTo, Unregistered};

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    let given = |role: &&Role| role.given_to == Some(GivenTo::SignedIn);
    let Some(role) = charter.model.roles.iter().find(given) else { return };
    for issuer in &charter.tree.issuers {
        let Some(word) = issuer.unregistered.as_ref().filter(|word| word.value == Unregistered::SignedIn)
        else {
            continue;
        };
        let message = format!("whoever gets a token of {:?} holds {:?}", issuer.key.value, role.key);
        let finding = Finding::warning("signed-in-by-token", word.span, message);
        let help = "write unregistered = \"anonymous\", or give the role to members";
        findings.push(finding.beside(role.span, "given to everybody who is signed in").help(help));
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn everybody_with_a_token() {
        doubts(
            "signed-in-by-token",
            r#"
[role.guest]
given-to = "signed-in"
permissions = ["vessel:view"]
[issuer.port]
applications = ["quay"]
services = { claim = "kind", is = "machine" }
unregistered = "signed-in"
#              ^^^^^^^^^^^ whoever gets a token of "port" holds "guest"
"#,
        );
    }
}
