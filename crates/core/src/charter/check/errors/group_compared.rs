//! The subject compared with what may be a group: it is never a group itself.

use crate::source::Finding;
use crate::source::Span;

/// `path` may be a group.
pub fn told(span: Span, path: &str, operator: &str) -> Finding {
    let message =
        format!("{path} may be a group, and subject {operator} it would leave out the group's members");
    Finding::error("group-compared", span, message).help(format!("write among(subject, {path})"))
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::refuses;

    #[test]
    fn a_crew_that_is_left_out() {
        refuses(
            "group-compared",
            r#"
[resource.buoy]
application = "quay"
within = "tenant"
actions = { view = "" }
[resource.buoy.relations]
crew = { to = ["user", "group"], many = true }
[[rule]]
key = "crew"
effect = "allow"
permissions = ["buoy:view"]
when = "subject in resource.crew"
#       ^^^^^^^^^^^^^^^^^^^^^^^^ resource.crew may be a group
[role.keeper]
permissions = ["buoy:view"]
"#,
        );
    }
}
