//! An exception that takes nothing out.

use crate::source::Finding;
use crate::source::Span;

/// `at` is where the pattern stands.
pub fn told(at: Span, pattern: &str, role: &str) -> Finding {
    let message = format!("{pattern:?} takes nothing out: {role:?} does not give it");
    Finding::error("except-nothing", at, message).help("leave it out; an exception is not a deny")
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::refuses;

    #[test]
    fn an_exception_meant_as_a_deny() {
        refuses(
            "except-nothing",
            r#"
[role.watcher]
permissions = ["vessel:view"]
except = ["vessel:moor"]
#         ^^^^^^^^^^^^^ "vessel:moor" takes nothing out
"#,
        );
    }
}
