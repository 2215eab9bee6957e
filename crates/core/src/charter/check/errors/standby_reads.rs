//! The condition of a standby that reads more than an activation knows.

use crate::source::Finding;
use crate::source::Span;

/// A resource: an activation is for none.
pub fn resource(at: Span) -> Finding {
    let message = "the when of a standby is about no resource";
    Finding::error("standby-reads", at, message).help("it reads subject, context and now")
}

/// Holding: it is asked at a resource.
pub fn holding(span: Span) -> Finding {
    let message = "the when of a standby is about no place where a role could be held";
    Finding::error("standby-reads", span, message).help("it reads subject, context and now")
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::refuses;

    #[test]
    fn a_berth_that_is_not_known_yet() {
        refuses(
            "standby-reads",
            r#"
[role.welder]
permissions = ["vessel:moor"]
standby = { longest = "2h", when = "resource.held and holds('hand')" }
#                                   ^^^^^^^^ the when of a standby is about no resource
#                                                     ^^^^^^^^^^^^^ the when of a standby is about no place
"#,
        );
    }
}
