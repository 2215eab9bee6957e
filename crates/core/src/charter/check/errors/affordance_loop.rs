//! Affordances that stand under one another in a circle.

use crate::source::Finding;
use crate::source::Span;

/// `keys` runs from an affordance back to itself.
pub fn told(span: Span, keys: &[&str]) -> Finding {
    let message = format!("affordances stand under one another: {}", keys.join(" -> "));
    Finding::error("affordance-loop", span, message).help("let one of them stand alone")
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::refuses;

    #[test]
    fn a_menu_within_its_own_entry() {
        refuses(
            "affordance-loop",
            r#"
[[affordance]]
application = "quay"
key = "menu"
#     ^^^^^^ affordances stand under one another: menu -> entry -> menu
visible = "vessel:view"
under = "entry"
[[affordance]]
application = "quay"
key = "entry"
visible = "vessel:view"
under = "menu"
"#,
        );
    }
}
