//! Two issuers whose tokens name users alike: the token of one would be taken for somebody of the other.

use crate::source::{At, Finding, Span};

/// `other` is the key of the other issuer.
pub fn told(span: Span, key: &str, other: &At<String>) -> Finding {
    let message = format!("the issuers {key:?} and {:?} name users alike", other.value);
    let finding = Finding::error("issuers-alike", span, message).beside(other.span, "the other");
    finding.help(
        "give one of them a prefix; or write same-people = true in each, if the same id is the same person",
    )
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::refuses;

    #[test]
    fn one_prefix_for_two() {
        refuses(
            "issuers-alike",
            r#"
[issuer.port]
applications = ["quay"]
services = { claim = "kind", is = "machine" }
prefix = "p-"
[issuer.town]
applications = ["quay"]
services = { claim = "kind", is = "machine" }
prefix = "p-"
#        ^^^^ the issuers "town" and "port" name users alike
[issuer.ships]
applications = ["quay"]
services = { claim = "kind", is = "machine" }
prefix = "s-"
same-people = true
[issuer.yards]
applications = ["quay"]
services = { claim = "kind", is = "machine" }
prefix = "s-"
same-people = true
"#,
        );
    }
}
