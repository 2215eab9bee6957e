//! Asking whether a role is held that has a guard, or is included in one that has: holding says
//! nothing of it.

use crate::source::Finding;
use crate::source::Span;

/// `through` is the guarded role: `key` itself, or one that includes it.
pub fn told(place: Span, key: &str, through: &str) -> Finding {
    let why = if key == through {
        format!("{key:?} has a when or values of its own, and holds looks at neither")
    } else {
        format!("{key:?} is included in {through:?}, which has a when or values that holds does not look at")
    };
    Finding::error("holds-guarded", place, why).help("if that is meant, write regardless = true beside this")
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::refuses;

    #[test]
    fn a_guard_that_would_not_count() {
        refuses(
            "holds-guarded",
            r#"
[role.careful]
permissions = ["vessel:moor"]
when = "not resource.held"
[[rule]]
key = "fellows"
effect = "allow"
permissions = ["vessel:view"]
when = "holds('careful')"
#             ^^^^^^^^^ "careful" has a when or values of its own
[[rule]]
key = "fellows-meant"
effect = "allow"
permissions = ["vessel:view"]
when = "holds('careful')"
regardless = true
"#,
        );
    }
}
