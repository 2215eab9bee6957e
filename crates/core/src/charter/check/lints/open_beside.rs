//! An open route that matches what a route with needs matches too, or that shares its path: one of
//! the two is open by oversight, more often than not.

use super::*;
use crate::charter::model::{Needs, RouteTarget};

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    let routes = &charter.model.routes;
    let mut looks = 0;
    for loose in routes {
        let (message, help) = match &loose.needs {
            Needs::Open => (
                "this route is open, and one beside it needs something",
                "if it is meant, give the open one a path of its own",
            ),
            Needs::All(all) if all.iter().all(|need| matches!(need.target, RouteTarget::Any(None))) => (
                "this route needs any one, and one beside it that is more literal needs more",
                "say which one it needs, or keep the other under another path",
            ),
            _ => continue,
        };
        let is_open = loose.needs == Needs::Open;
        let beside = charter.model.paths[loose.application].meeting(&loose.segments, &mut |other| {
            looks += 1;
            let other = &routes[other];
            let needs_more = match (&other.needs, &loose.needs) {
                (Needs::All(_), Needs::Open) => true,
                // Of any one the same is needed as of that one; something else is more.
                (Needs::All(more), Needs::All(less)) => {
                    let all = |needs: &Vec<_>| -> HashSet<PermId> {
                        needs
                            .iter()
                            .flat_map(|need: &crate::charter::model::Need| need.permissions.clone())
                            .collect()
                    };
                    !all(more).is_subset(&all(less))
                }
                _ => false,
            };
            let told = needs_more
                && match is_open {
                    true => other.method == loose.method || other.segments == loose.segments,
                    false => other.method == loose.method && other.precedence(loose).is_lt(),
                };
            (told || looks > MAX_LOOKS).then_some(told.then_some(other))
        });
        if let Some(other) = beside.flatten() {
            let finding =
                Finding::warning("open-beside", loose.span, message).beside(other.span, "the other");
            findings.push(finding.help(help));
        }
    }
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
[[route]]
application = "quay"
method = "POST"
path = "/berths/{berth}"
#      ^^^^^^^^^^^^^^^^ this route needs any one, and one beside it that is more literal needs more
needs = ["vessel:view"]
resource = { any = "vessel" }
[[route]]
application = "quay"
method = "POST"
path = "/berths/moor"
needs = ["vessel:moor"]
resource = { any = "vessel" }
"#,
        );
    }
}
