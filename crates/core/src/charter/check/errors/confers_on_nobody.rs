//! A conferral whose path ends where nobody stands, or where no role is held.

use crate::source::Finding;
use crate::source::Span;

/// The path of `relation` ends in no subject.
pub fn relation(at: Span, path: &str) -> Finding {
    let message = format!("{path:?} leads to no user, service or group");
    Finding::error("confers-on-nobody", at, message)
        .help("to confer on who holds a role there, write { holds = \"ROLE\", at = \"PATH\" }")
}

/// The path of `at` ends in a subject.
pub fn place(at: Span, path: &str) -> Finding {
    let message = format!("{path:?} may lead to a user, service or group, where no role is held");
    Finding::error("confers-on-nobody", at, message)
        .help("to confer on whoever is there, write { relation = \"PATH\" }")
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::refuses;

    #[test]
    fn a_path_to_the_wrong_end() {
        refuses(
            "confers-on-nobody",
            r#"
[[resource.vessel.confer]]
role = "hand"
to = { relation = "within" }
#                 ^^^^^^^^ "within" leads to no user, service or group
[[resource.vessel.confer]]
role = "hand"
to = { holds = "hand", at = "agent" }
#                           ^^^^^^^ "agent" may lead to a user
"#,
        );
    }
}
