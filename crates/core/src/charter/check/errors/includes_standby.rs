//! A role that includes one on standby, and is not on standby itself.

use crate::source::Finding;
use crate::source::Span;

/// `at` is where the inner role is named.
pub fn told(at: Span, outer: &str, inner: &str) -> Finding {
    let message = format!("{outer:?} includes {inner:?}, which is on standby, and is not on standby itself");
    Finding::error("includes-standby", at, message)
        .help("give this role a standby of its own; it applies to all the role gives")
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::refuses;

    #[test]
    fn a_reserve_within_a_role_at_hand() {
        refuses(
            "includes-standby",
            r#"
[role.welder]
permissions = ["vessel:moor"]
standby = { longest = "2h" }
[role.warden]
includes = ["welder"]
#           ^^^^^^^^ "warden" includes "welder", which is on standby
[role.reserve]
includes = ["welder"]
standby = { longest = "1h" }
"#,
        );
    }
}
