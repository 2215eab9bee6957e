//! What every role gives under a condition only, and a tenant's own role would give under none.

use crate::source::Finding;
use crate::source::Span;

/// `at` is where the permission is named.
pub fn told(at: Span, permission: &str) -> Finding {
    let message = format!(
        "every role gives {permission:?} under a condition only, and a tenant's own role would give it under none"
    );
    Finding::error("tenant-unguarded", at, message)
        .help("give this clause a when, or say unguarded = true if that is meant")
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::refuses;

    #[test]
    fn a_way_around_every_guard() {
        refuses(
            "tenant-unguarded",
            r#"
[resource.berth]
application = "quay"
within = "tenant"
actions = { weld = "" }
[role.welder]
permissions = ["berth:weld"]
when = "context.zone == 'quay'"
[[tenant-roles.clause]]
permissions = ["berth:weld"]
#              ^^^^^^^^^^^^ every role gives "berth:weld" under a condition only
[[tenant-roles.clause]]
permissions = ["berth:weld"]
unguarded = true
[[tenant-roles.clause]]
permissions = ["vessel:view"]
"#,
        );
    }
}
