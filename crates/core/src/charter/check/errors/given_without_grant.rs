//! A role that is given without a grant, but needs one: to name its values, or to be activated.

use crate::source::Finding;
use crate::source::Span;

/// `whom` is whom it is given to.
pub fn values(span: Span, role: &str, whom: &str) -> Finding {
    let message = format!("{role:?} is given to {whom}, so no grant of it names its values");
    Finding::error("given-values", span, message).help("take given-to or values away")
}

/// `whom` is whom it is given to.
pub fn standby(span: Span, role: &str, whom: &str) -> Finding {
    let message = format!("{role:?} is given to {whom}, so there is no grant of it to activate");
    Finding::error("given-standby", span, message).help("take given-to or standby away")
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::refuses;

    #[test]
    fn values_that_nobody_names() {
        refuses(
            "given-values",
            r#"
[role.agent]
values = { flag = "text" }
permissions = ["vessel:moor"]
given-to = "signed-in"
#          ^^^^^^^^^^^ "agent" is given to signed-in, so no grant of it names its values
when = "resource.flag in grant.flag"
"#,
        );
    }

    #[test]
    fn a_reserve_that_nobody_activates() {
        refuses(
            "given-standby",
            r#"
[role.welder]
permissions = ["vessel:moor"]
given-to = "members"
#          ^^^^^^^^^ "welder" is given to members, so there is no grant of it to activate
standby = { longest = "2h" }
"#,
        );
    }
}
