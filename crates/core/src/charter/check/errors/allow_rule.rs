//! An allow rule that opens to more than can be meant.

use crate::source::Finding;
use crate::source::Span;

/// It has no condition.
pub fn without_when(span: Span, key: &str) -> Finding {
    let message = format!("the allow rule {key:?} has no when and would open to everybody it reaches");
    Finding::error("allow-without-when", span, message).help("add a when, or give a role instead")
}

/// It is for anyone, on a type that lies in a tenant.
pub fn anyone_in_tenant(span: Span, key: &str, kind: &str) -> Finding {
    let message =
        format!("{key:?} is for anyone, but {kind:?} lies in a tenant, and anonymous is a member of none");
    let help = format!(
        "leave `for` out, and it reaches the signed-in members of each {kind:?}'s tenant; across-tenants = true would open every {kind:?} of every tenant on which its when is true, to people of other tenants and to those who are not signed in"
    );
    Finding::error("anyone-in-tenant", span, message).help(help)
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::refuses;

    #[test]
    fn an_open_door() {
        refuses(
            "allow-without-when",
            r#"
[[rule]]
key = "open"
#     ^^^^^^ the allow rule "open" has no when
effect = "allow"
permissions = ["vessel:view"]
"#,
        );
    }

    #[test]
    fn anyone_who_is_nobody_there() {
        refuses(
            "anyone-in-tenant",
            r#"
[[rule]]
key = "public"
#     ^^^^^^^^ "public" is for anyone, but "vessel" lies in a tenant
effect = "allow"
permissions = ["vessel:view"]
when = "resource.held"
for = "anyone"
"#,
        );
    }
}
