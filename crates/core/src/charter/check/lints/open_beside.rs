//! An open route that matches what a route with needs matches too, or that shares its path: one of
//! the two is open by oversight, more often than not.

use super::*;
use crate::charter::model::{Needs, Route, Segment};

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    let routes = &charter.model.routes;
    for open in routes.iter().filter(|route| matches!(route.needs, Needs::Open)) {
        let beside = routes.iter().find(|other| {
            matches!(other.needs, Needs::All(..))
                && other.application == open.application
                && overlaps(open, other)
        });
        if let Some(other) = beside {
            let message = "this route is open, and one beside it needs something";
            let finding = Finding::warning("open-beside", open.span, message).beside(other.span, "the other");
            findings.push(finding.help("if it is meant, give the open one a path of its own"));
        }
    }
}

/// Whether a request's path could match both; the same method, or the same path altogether.
fn overlaps(a: &Route, b: &Route) -> bool {
    let same = a.segments.len() == b.segments.len()
        && a.segments.iter().zip(&b.segments).all(|pair| match pair {
            (Segment::Literal(a), Segment::Literal(b)) => a == b,
            _ => true,
        });
    same && (a.method == b.method || a.segments == b.segments)
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn an_open_route_within_a_guarded_one() {
        doubts(
            "open-beside",
            r#"
[[route]]
application = "quay"
method = "GET"
path = "/vessels/{vessel}"
needs = ["vessel:view"]
resource = "vessel:{vessel}"
[[route]]
application = "quay"
method = "GET"
path = "/vessels/new"
#      ^^^^^^^^^^^^^^ this route is open
open = true
[[route]]
application = "quay"
method = "GET"
path = "/tides"
open = true
"#,
        );
    }
}
