//! Roles that include one another in a circle.

use crate::source::Finding;
use crate::source::Span;

/// `keys` runs from a role back to itself.
pub fn told(span: Span, keys: &[&str]) -> Finding {
    let message = format!("roles include one another: {}", keys.join(" -> "));
    Finding::error("inclusion-loop", span, message).help("take one of the inclusions out")
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::refuses;

    #[test]
    fn a_circle_of_two() {
        refuses(
            "inclusion-loop",
            r#"
[role.a]
#     ^ roles include one another: a -> b -> a
includes = ["b"]
[role.b]
includes = ["a"]
"#,
        );
    }
}
