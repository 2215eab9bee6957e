//! A role that may be held where, or by whom, one that it includes may not be.

use crate::source::Finding;
use crate::source::Span;

/// By more kinds of subjects.
pub fn by(at: Span, outer: &str, inner: &str) -> Finding {
    let message =
        format!("{outer:?} may be held by subjects that {inner:?}, which it includes, may not be held by");
    Finding::error("held-wider", at, message).help("narrow held-by here, or widen it there")
}

/// At more places.
pub fn places(at: Span, outer: &str, inner: &str) -> Finding {
    let message = format!("{outer:?} may be granted at places where {inner:?}, which it includes, may not");
    Finding::error("held-wider", at, message).help("narrow held-at here, or widen it there")
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::refuses;

    #[test]
    fn a_way_around_held_by() {
        refuses(
            "held-wider",
            r#"
[role.person]
held-at = ["tenant"]
permissions = ["vessel:moor"]
[role.feed]
held-by = ["service"]
held-at = ["tenant"]
includes = ["person"]
#           ^^^^^^^^ "feed" may be held by subjects that "person"
[role.roamer]
includes = ["person"]
#           ^^^^^^^^ "roamer" may be granted at places where "person"
"#,
        );
    }
}
