//! A role that is conferred, but needs a grant: to name its values, or to be activated.

use crate::source::Finding;
use crate::source::Span;

/// `at` is where the role is named.
pub fn values(at: Span, role: &str) -> Finding {
    let message = format!("{role:?} has values, which only a grant can name");
    Finding::error("confers-values", at, message)
        .help("confer a role without values; say in its when what the values would have said")
}

/// `at` is where the role is named.
pub fn standby(at: Span, role: &str) -> Finding {
    let message = format!("{role:?} is on standby, and there is no grant to activate");
    Finding::error("confers-standby", at, message).help("confer another role")
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::refuses;

    #[test]
    fn values_that_nobody_names() {
        refuses(
            "confers-values",
            r#"
[role.agent]
values = { flag = "text" }
permissions = ["vessel:moor"]
when = "resource.flag in grant.flag"
[[resource.vessel.confer]]
role = "agent"
#      ^^^^^^^ "agent" has values, which only a grant can name
to = { relation = "agent" }
"#,
        );
    }

    #[test]
    fn a_reserve_that_nobody_activates() {
        refuses(
            "confers-standby",
            r#"
[role.welder]
permissions = ["vessel:moor"]
standby = { longest = "2h" }
[[resource.vessel.confer]]
role = "welder"
#      ^^^^^^^^ "welder" is on standby, and there is no grant to activate
to = { relation = "agent" }
"#,
        );
    }
}
