//! A role that includes one whose grants carry values, without declaring the same.

use crate::source::Finding;
use crate::source::Span;

/// `at` is where the inner role is named.
pub fn told(at: Span, outer: &str, inner: &str) -> Finding {
    let message = format!("{outer:?} includes {inner:?}, whose grants carry values");
    Finding::error("includes-values", at, message).help("declare the same values on this role")
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::refuses;

    #[test]
    fn values_left_behind() {
        refuses(
            "includes-values",
            r#"
[role.agent]
values = { flag = "text" }
permissions = ["vessel:moor"]
when = "resource.flag in grant.flag"
[role.chief]
includes = ["agent"]
#           ^^^^^^^ "chief" includes "agent", whose grants carry values
[role.partner]
values = { flag = "text" }
includes = ["agent"]
"#,
        );
    }
}
