//! A separation that separates nothing, or what one role includes.

use crate::source::Finding;
use crate::source::Span;

/// It names one role, or one twice.
pub fn nothing(span: Span, key: &str) -> Finding {
    let message = format!("the separation {key:?} names fewer than two roles");
    Finding::error("separates-nothing", span, message).help("name two roles or more")
}

/// `both` is or includes the two others.
pub fn included(span: Span, key: &str, one: &str, other: &str, both: &str) -> Finding {
    let message = format!("{key:?} separates {one:?} from {other:?}, but {both:?} includes both");
    Finding::error("separates-included", span, message)
        .help("whoever holds it could do nothing with it: take one of the two out of it")
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::refuses;

    #[test]
    fn one_role_alone() {
        refuses(
            "separates-nothing",
            r#"
[[separation]]
key = "alone"
#     ^^^^^^^ the separation "alone" names fewer than two roles
roles = ["hand", "hand"]
"#,
        );
    }

    #[test]
    fn a_role_that_is_both() {
        refuses(
            "separates-included",
            r#"
[role.declarer]
permissions = ["vessel:view"]
[role.inspector]
permissions = ["vessel:moor"]
[role.chief]
includes = ["declarer", "inspector"]
[[separation]]
key = "apart"
#     ^^^^^^^ "apart" separates "declarer" from "inspector", but "chief" includes both
roles = ["declarer", "inspector"]
"#,
        );
    }
}
