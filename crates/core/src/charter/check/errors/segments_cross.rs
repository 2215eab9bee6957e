//! Two segments with text around a parameter that both match something, neither all that the other does: nobody
//! can say which of the routes is meant.

use crate::source::{Finding, Span};

/// `first` is where the other route stands.
pub fn told(span: Span, one: &str, other: &str, first: Span) -> Finding {
    let message = format!("the segments {one} and {other} cross: a request may match both");
    let finding = Finding::error("segments-cross", span, message).beside(first, "the other");
    finding.help("write out what both match, or let one of them hold all of the other's text")
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::refuses;

    #[test]
    fn a_beginning_and_an_end() {
        refuses(
            "segments-cross",
            r#"
[[route]]
application = "quay"
method = "GET"
path = "/files/report-{number}"
needs = ["vessel:view"]
resource = "vessel:{number}"
[[route]]
application = "quay"
method = "GET"
path = "/files/{name}.pdf"
#      ^^^^^^^^^^^^^^^^^^^ the segments {name}.pdf and report-{number} cross
needs = ["vessel:view"]
resource = "vessel:{name}"
[[route]]
application = "quay"
method = "GET"
path = "/files/report-{number}.txt"
needs = ["vessel:view"]
resource = "vessel:{number}"
[[route]]
application = "quay"
method = "POST"
path = "/files/{name}.pdf"
refuse = true
"#,
        );
    }
}
