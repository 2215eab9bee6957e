//! Two routes that cross: each is more literal than the other somewhere, and a request may match both.

use super::*;
use crate::charter::model::{Route, Segment};

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    let routes = &charter.model.routes;
    for (at, route) in routes.iter().enumerate() {
        let beside = |other: &&Route| {
            other.application == route.application && other.method == route.method && cross(other, route)
        };
        let Some(other) = routes[..at].iter().find(beside) else { continue };
        let decides = if is_first(other, route) { other } else { route };
        let message =
            format!("this route crosses another: of a request that matches both, {} decides", path(decides));
        let finding = Finding::warning("routes-cross", route.span, message).beside(other.span, "the other");
        findings.push(finding.help("write the path out that both match, with what it needs"));
    }
}

/// Whether both match some request, and neither matches all that the other does.
fn cross(a: &Route, b: &Route) -> bool {
    use Segment::{Literal, Parameter};
    let pairs = || a.segments.iter().zip(&b.segments);
    a.segments.len() == b.segments.len()
        && pairs().all(|pair| !matches!(pair, (Literal(a), Literal(b)) if a != b))
        && pairs().any(|pair| matches!(pair, (Literal(_), Parameter(_))))
        && pairs().any(|pair| matches!(pair, (Parameter(_), Literal(_))))
}

/// Whether a route is the more literal one where two first differ.
fn is_first(a: &Route, b: &Route) -> bool {
    let is_literal = |segment: &Segment| matches!(segment, Segment::Literal(_));
    let differ = a.segments.iter().zip(&b.segments).find(|(a, b)| is_literal(a) != is_literal(b));
    differ.is_some_and(|(a, _)| is_literal(a))
}

fn path(route: &Route) -> String {
    let segment = |segment: &Segment| match segment {
        Segment::Literal(text) => format!("/{text}"),
        Segment::Parameter(name) => format!("/{{{name}}}"),
    };
    route.segments.iter().map(segment).collect()
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn the_first_difference_decides() {
        doubts(
            "routes-cross",
            r#"
[[route]]
application = "quay"
method = "GET"
path = "/{fleet}/first"
needs = ["vessel:view"]
resource = { any = "vessel" }
[[route]]
application = "quay"
method = "GET"
path = "/vessels/{vessel}"
#      ^^^^^^^^^^^^^^^^^^^ this route crosses another: of a request that matches both, /vessels/{vessel} decides
needs = ["vessel:view"]
resource = "vessel:{vessel}"
[[route]]
application = "quay"
method = "GET"
path = "/vessels/first"
needs = ["vessel:view"]
resource = { any = "vessel" }
"#,
        );
    }
}
