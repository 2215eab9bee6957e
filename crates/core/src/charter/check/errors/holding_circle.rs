//! Holding a role that depends on itself in a way that has no meaning.

use crate::source::Finding;
use crate::source::Span;

/// Through a `holds` in the condition of a conferral.
pub fn asked(span: Span, role: &str, asked: &str) -> Finding {
    let message = format!("whether {role:?} is held here depends on itself, through holds('{asked}')");
    Finding::error("holds-circle", span, message)
        .help("a condition of a confer may ask only for roles that do not come from it")
}

/// Through a path that leads to many.
pub fn wide(span: Span, role: &str, path: &str) -> Finding {
    let message = format!("{role:?} is conferred in a circle through {path:?}, which may lead to many");
    Finding::error("wide-circle", span, message)
        .help("a role that comes from itself follows relations to one thing only")
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::refuses;

    #[test]
    fn held_because_it_is_not() {
        refuses(
            "holds-circle",
            r#"
[[resource.vessel.confer]]
role = "hand"
to = { relation = "agent" }
when = "not holds('hand')"
#           ^^^^^^^^^^^^^ whether "hand" is held here depends on itself
"#,
        );
    }

    #[test]
    fn a_circle_that_fans_out() {
        refuses(
            "wide-circle",
            r#"
[resource.buoy]
application = "quay"
actions = { view = "" }
[resource.buoy.relations]
next = { to = "buoy", many = true }
[role.keeper]
permissions = ["buoy:view"]
[[resource.buoy.confer]]
role = "keeper"
#      ^^^^^^^^ "keeper" is conferred in a circle through "next"
to = { holds = "keeper", at = "next" }
"#,
        );
    }
}
