//! Two routes that cross: each is more literal than the other somewhere, and a request may match both.

use super::*;
use crate::charter::model::Route;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    let routes = &charter.model.routes;
    let mut looks = 0;
    for (at, route) in routes.iter().enumerate() {
        let paths = &charter.model.paths[route.application];
        let crossed = paths.meeting(&route.segments, &mut |other| {
            looks += 1;
            let before = (other < at).then(|| &routes[other]);
            let found = before.filter(|other| other.method == route.method && cross(other, route));
            (found.is_some() || looks > MAX_LOOKS).then_some(found)
        });
        let Some(other) = crossed.flatten() else { continue };
        let decides = if other.precedence(route).is_lt() { other } else { route };
        let message =
            format!("this route crosses another: of a request that matches both, {} decides", decides.path());
        let finding = Finding::warning("routes-cross", route.span, message).beside(other.span, "the other");
        findings.push(finding.help("write the path out that both match, with what it needs"));
    }
}

/// Whether both match some request, and neither matches all that the other does.
fn cross(a: &Route, b: &Route) -> bool {
    let all_in = |a: &Route, b: &Route| a.segments.iter().zip(&b.segments).all(|(a, b)| a.lies_in(b));
    a.meets(b) && !all_in(a, b) && !all_in(b, a)
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
