//! Routes and affordances: the same truth for proxies and interfaces.

use super::{Scope, errors};
use crate::charter::model::{
    Affordance, Application, KindId, Need, Needs, Parameter, Paths, PermId, Piece, Route, RouteTarget,
    Segment, Template,
};
use crate::charter::syntax::{self, RouteResource, Tree};
use crate::names::nearest;
use crate::source::{At, Finding, Span};

/// Methods a route may have. TRACE and CONNECT are refused at every door.
/// Methods that a route can have.
pub const METHODS: [&str; 7] = ["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"];
/// Most segments of a route's path.
pub const MAX_SEGMENTS: usize = 64;

pub(super) fn application(
    key: Option<&At<String>>,
    applications: &[Application],
    findings: &mut Vec<Finding>,
) -> Option<usize> {
    let key = key?;
    let at = applications.iter().position(|application| application.key == key.value);
    if at.is_none() {
        let message = format!("unknown application {:?}", key.value);
        let finding = Finding::error("unknown-application", key.span, message);
        findings.push(finding.meant(&key.value, applications.iter().map(|a| a.key.as_str())));
    }
    at
}

// -- routes --------------------------------------------------------------------------------------

/// All routes, in the order they were written, and for each application a tree of their paths.
pub fn routes(
    scope: &Scope<'_>,
    tree: &Tree,
    applications: &[Application],
    findings: &mut Vec<Finding>,
) -> (Vec<Route>, Vec<Paths>) {
    let mut all: Vec<Route> = Vec::new();
    let mut paths = vec![Paths::default(); applications.len()];
    // Only two that have text around a parameter can cross.
    let mut partial = paths.clone();
    for written in &tree.routes {
        let Some(route) = route(scope, written, applications, findings) else { continue };
        let alike = |other: &Route| {
            let mut pairs = other.segments.iter().zip(&route.segments);
            other.method == route.method && pairs.all(|(a, b)| a.shape() == b.shape())
        };
        let (before, partial) = (&mut paths[route.application], &mut partial[route.application]);
        let same = before.same(&route.segments).iter().find(|other| alike(&all[**other]));
        if let Some(same) = same {
            let path = written.path.as_ref().map_or("", |path| path.value.as_str());
            findings.push(errors::routes_equal::told(route.span, &route.method, path, all[*same].span));
        }
        if route.segments.iter().any(is_partial) {
            let crossed = partial.meeting(&route.segments, &mut |other| {
                let other = &all[other];
                let (one, two) = crossing(&route.segments, &other.segments)
                    .filter(|_| together(&route.method, &other.method))?;
                Some(errors::segments_cross::told(route.span, &one.to_string(), &two.to_string(), other.span))
            });
            findings.extend(crossed);
            partial.add(&route.segments, all.len());
        }
        before.add(&route.segments, all.len());
        all.push(route);
    }
    (all, paths)
}

/// Of two paths that some request fits: two segments at one place, text around a parameter in both, of which neither
/// lies in the other.
pub(crate) fn crossing<'r>(a: &'r [Segment], b: &'r [Segment]) -> Option<(&'r Segment, &'r Segment)> {
    let meet = a.len() == b.len() && a.iter().zip(b).all(|(a, b)| a.meets(b));
    if !meet {
        return None;
    }
    let mut pairs = a.iter().zip(b);
    pairs.find(|(a, b)| is_partial(a) && is_partial(b) && a.meets(b) && !a.lies_in(b) && !b.lies_in(a))
}

/// Whether one request may take routes of both methods: HEAD is answered by what GET is, too.
pub(crate) fn together(one: &str, other: &str) -> bool {
    let methods = [one, other];
    one == other || (methods.contains(&"GET") && methods.contains(&"HEAD"))
}

/// Whether it has text around a parameter.
pub(crate) fn is_partial(segment: &Segment) -> bool {
    let (literal, before, after) = segment.shape();
    literal.is_none() && !(before.is_empty() && after.is_empty())
}

fn route(
    scope: &Scope<'_>,
    written: &syntax::Route,
    applications: &[Application],
    findings: &mut Vec<Finding>,
) -> Option<Route> {
    let application = application(written.application.as_ref(), applications, findings);
    let method = written.method.as_ref().and_then(|method| self::method(method, findings));
    let segments = written.path.as_ref().and_then(|path| segments(path, findings));
    let needs = needs(scope, written, segments.as_deref(), findings);
    let span = written.path.as_ref().map_or(written.span, |path| path.span);
    Some(Route {
        application: application?,
        method: method?,
        segments: segments?,
        needs: needs?,
        unregistered: written.unregistered,
        span,
    })
}

fn method(written: &At<String>, findings: &mut Vec<Finding>) -> Option<String> {
    if METHODS.contains(&written.value.as_str()) {
        return Some(written.value.clone());
    }
    let message = format!("{:?} is not a method of a route", written.value);
    let mut finding = Finding::error("unknown-word", written.span, message);
    if let Some(method) = nearest(&written.value.to_uppercase(), METHODS) {
        finding = finding.meant_surely(&written.value, method);
    }
    findings.push(finding.help(format!("write one of: {}", METHODS.join(", "))));
    None
}

fn segments(path: &At<String>, findings: &mut Vec<Finding>) -> Option<Vec<Segment>> {
    let mut wrong = |message: String, help: &str| {
        findings.push(Finding::error("route-path", path.span, message).help(help));
    };
    let Some(rest) = path.value.strip_prefix('/') else {
        wrong(format!("the path {:?} does not begin with /", path.value), "write it from the root");
        return None;
    };
    let parts: Vec<&str> = rest.split('/').collect();
    if parts.len() > MAX_SEGMENTS {
        wrong(format!("a path has at most {MAX_SEGMENTS} segments"), "shorten it");
        return None;
    }
    let mut all: Vec<Segment> = Vec::new();
    for (at, part) in parts.iter().enumerate() {
        let Some(segment) = segment(part) else {
            wrong(
                format!("{part:?} is not a segment of a path"),
                "a segment is a text as it is when decoded, or one {parameter} with text around it",
            );
            return None;
        };
        if part.is_empty() && at + 1 < parts.len() {
            wrong(format!("the path {:?} has an empty segment", path.value), "take one / out");
            return None;
        }
        let name = |segment: &Segment| match segment {
            Segment::Parameter(parameter) => Some(parameter.name.clone()),
            Segment::Literal(_) => None,
        };
        if name(&segment).is_some() && all.iter().any(|other| name(other) == name(&segment)) {
            wrong(
                format!("{{{}}} stands twice in the path", name(&segment).unwrap_or_default()),
                "give each parameter a name of its own",
            );
            return None;
        }
        all.push(segment);
    }
    Some(all)
}

/// A path's template as it is: the names of its parameters say nothing.
pub(crate) fn pattern(path: &str) -> Option<Vec<Segment>> {
    path.strip_prefix('/')?.split('/').map(segment).collect()
}

/// A text, or a parameter with text around it.
fn segment(part: &str) -> Option<Segment> {
    let is_text = |text: &str| {
        !text.contains(['{', '}', '?', '#', '%', '\\', ';'])
            && !text.chars().any(char::is_control)
            && unicode_normalization::is_nfc(text)
    };
    let Some((before, rest)) = part.split_once('{') else {
        return (is_text(part) && part != "." && part != "..").then(|| Segment::Literal(part.to_owned()));
    };
    let (name, after) = rest.split_once('}')?;
    (is_parameter(name) && is_text(before) && is_text(after)).then(|| {
        Segment::Parameter(Parameter {
            before: before.to_owned(),
            name: name.to_owned(),
            after: after.to_owned(),
        })
    })
}

fn is_parameter(name: &str) -> bool {
    !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '-' || c == '_')
}

fn needs(
    scope: &Scope<'_>,
    written: &syntax::Route,
    segments: Option<&[Segment]>,
    findings: &mut Vec<Finding>,
) -> Option<Needs> {
    let place = written.path.as_ref().map_or(written.span, |path| path.span);
    let mut wrong = |code, message: &str, help: &str| {
        findings.push(Finding::error(code, place, message).help(help));
        None
    };
    let needs_nothing = written.needs.is_empty() && written.each.is_empty();
    match (written.open, written.refuse) {
        (true, true) => {
            return wrong("route-needs", "a route is open or refuses, not both", "take one of them out");
        }
        (true, _) | (_, true) if !needs_nothing || written.resource.is_some() => {
            return wrong(
                "route-needs",
                "a route that is open or refuses needs nothing",
                "take open or refuse out, or the rest",
            );
        }
        (true, _) => return Some(Needs::Open),
        (_, true) => return Some(Needs::Refused),
        (false, false) if needs_nothing => {
            return wrong(
                "route-needs",
                "this route needs nothing",
                "say needs = […], or open = true, or refuse = true",
            );
        }
        (false, false) => {}
    }
    let mut all: Vec<Need> = Vec::new();
    let mut whole = true;
    if !written.needs.is_empty() {
        let Some(resource) = &written.resource else {
            return wrong(
                "route-resource",
                "this route does not say which resource its needs are about",
                "say resource = \"type:{parameter}\", { new = \"type\" } or { any = \"type\" }",
            );
        };
        match need(scope, &written.needs, resource, segments, place, findings) {
            Some(need) => all.push(need),
            None => whole = false,
        }
    }
    for (permission, resource) in &written.each {
        let permissions = std::slice::from_ref(permission);
        match need(scope, permissions, resource, segments, place, findings) {
            // What is needed of one thing is needed of it together.
            Some(need) => match all
                .iter_mut()
                .find(|known| known.target == need.target && same_type(scope, known, &need))
            {
                Some(known) => known.permissions.extend(need.permissions),
                None => all.push(need),
            },
            None => whole = false,
        }
    }
    whole.then_some(Needs::All(all))
}

fn same_type(scope: &Scope<'_>, a: &Need, b: &Need) -> bool {
    let kind = |need: &Need| need.permissions.first().map(|id| scope.permissions[id.index()].kind);
    kind(a) == kind(b)
}

/// Permissions that are needed of one thing.
fn need(
    scope: &Scope<'_>,
    permissions: &[At<String>],
    resource: &RouteResource,
    segments: Option<&[Segment]>,
    place: Span,
    findings: &mut Vec<Finding>,
) -> Option<Need> {
    let permissions = scope.expand_all(permissions, false, findings);
    let (kind, target) = target(scope, resource, segments, findings)?;
    for permission in &permissions {
        let declared = &scope.permissions[permission.index()];
        if declared.kind != kind {
            let message = format!(
                "the route is about a {}, and {:?} is not a permission for one",
                scope.kinds[kind.index()].key,
                declared.text
            );
            findings.push(Finding::error("route-resource", place, message));
            return None;
        }
    }
    (!permissions.is_empty()).then_some(Need { permissions, target })
}

fn target(
    scope: &Scope<'_>,
    resource: &RouteResource,
    segments: Option<&[Segment]>,
    findings: &mut Vec<Finding>,
) -> Option<(KindId, RouteTarget)> {
    match resource {
        RouteResource::Named(text) => {
            let template = template(scope, text, segments, findings)?;
            Some((template.kind, RouteTarget::Named(template)))
        }
        RouteResource::Any(kind, within) => {
            let id = scope.known_type(&kind.value, kind.span, findings)?;
            let Some(within) = within else { return Some((id, RouteTarget::Any(None))) };
            let outer = template(scope, within, segments, findings)?;
            if !lies_in(scope, id, outer.kind) {
                let message = format!("no {} lies in a {}", kind.value, scope.kinds[outer.kind.index()].key);
                findings.push(Finding::error("route-resource", within.span, message));
                return None;
            }
            Some((id, RouteTarget::Any(Some(outer))))
        }
        RouteResource::New(kind, within) => {
            let id = scope.known_type(&kind.value, kind.span, findings)?;
            let Some(within) = within else { return Some((id, RouteTarget::New(None))) };
            let outer = template(scope, within, segments, findings)?;
            if !scope.kinds[id.index()].within.contains(&outer.kind) {
                let message =
                    format!("a {} does not lie within a {}", kind.value, scope.kinds[outer.kind.index()].key);
                findings.push(Finding::error("route-resource", within.span, message));
                return None;
            }
            Some((id, RouteTarget::New(Some(outer))))
        }
    }
}

/// Whether things of a type can lie in one of another, directly or further in.
fn lies_in(scope: &Scope<'_>, inner: KindId, outer: KindId) -> bool {
    let mut seen = vec![inner];
    let mut at = 0;
    while at < seen.len() {
        for next in &scope.kinds[seen[at].index()].within {
            if *next == outer {
                return true;
            }
            if !seen.contains(next) {
                seen.push(*next);
            }
        }
        at += 1;
    }
    false
}

/// `type:text-{parameter}`
fn template(
    scope: &Scope<'_>,
    written: &At<String>,
    segments: Option<&[Segment]>,
    findings: &mut Vec<Finding>,
) -> Option<Template> {
    let wrong = |message: String, help: &str, findings: &mut Vec<Finding>| {
        findings.push(Finding::error("route-resource", written.span, message).help(help));
    };
    let Some((kind, mut rest)) = written.value.split_once(':').filter(|(_, rest)| !rest.is_empty()) else {
        wrong(format!("{:?} names no resource", written.value), "write type:{parameter}", findings);
        return None;
    };
    let kind = match kind {
        "tenant" => KindId::TENANT,
        kind => scope.known_type(kind, written.span, findings)?,
    };
    let mut pieces: Vec<Piece> = Vec::new();
    while !rest.is_empty() {
        let (literal, more) = rest.split_once('{').unwrap_or((rest, ""));
        if !literal.is_empty() {
            pieces.push(Piece::Text(literal.to_owned()));
        }
        if literal.len() == rest.len() {
            break;
        }
        let Some((name, after)) = more.split_once('}') else {
            wrong(format!("{:?} has a {{ without its }}", written.value), "close it", findings);
            return None;
        };
        let known = || {
            segments.unwrap_or_default().iter().filter_map(|segment| match segment {
                Segment::Parameter(parameter) => Some(parameter.name.as_str()),
                Segment::Literal(_) => None,
            })
        };
        if segments.is_some() && known().all(|known| known != name) {
            let message = format!("the path has no parameter {name:?}");
            let finding = Finding::error("route-resource", written.span, message).meant(name, known());
            findings.push(finding.help("what the resource is called must stand in the path"));
            return None;
        }
        // A segment holds no /: only that keeps apart where one value ends and the next begins.
        let apart = matches!(pieces.last(), Some(Piece::Text(text)) if text.contains('/'));
        let before = pieces.iter().any(|piece| matches!(piece, Piece::Parameter(_)));
        if before && !apart {
            let message = format!("{:?} does not keep its parameters apart", written.value);
            wrong(message, "write a / between two: team:{org}/{slug}", findings);
            return None;
        }
        pieces.push(Piece::Parameter(name.to_owned()));
        rest = after;
    }
    Some(Template { kind, pieces })
}

// -- affordances ---------------------------------------------------------------------------------

/// All affordances, in the order they were written.
pub fn affordances(
    scope: &Scope<'_>,
    tree: &Tree,
    applications: &[Application],
    findings: &mut Vec<Finding>,
) -> Vec<Affordance> {
    let mut all: Vec<(Affordance, Option<&At<String>>)> = Vec::new();
    for written in &tree.affordances {
        let application = application(written.application.as_ref(), applications, findings);
        let mut permission = |text: Option<&At<String>>| -> Option<PermId> {
            text.and_then(|text| scope.known_permission(text, findings))
        };
        let visible = permission(written.visible.as_ref());
        let enabled = permission(written.enabled.as_ref().or(written.visible.as_ref()));
        let (Some(application), Some(key), Some(visible), Some(enabled)) =
            (application, &written.key, visible, enabled)
        else {
            continue;
        };
        let name = written.name.as_ref().unwrap_or(key).value.clone();
        let affordance = Affordance {
            application,
            key: key.value.clone(),
            name,
            visible,
            enabled,
            under: None,
            span: key.span,
        };
        all.push((affordance, written.under.as_ref()));
    }
    let under: Vec<Option<usize>> =
        all.iter().map(|(affordance, under)| parent(affordance, *under, &all, findings)).collect();
    for (at, (affordance, _)) in all.iter().enumerate() {
        if let Some(walk) = circle(at, &under) {
            let keys: Vec<&str> = walk.iter().map(|at| all[*at].0.key.as_str()).collect();
            findings.push(errors::affordance_loop::told(affordance.span, &keys));
            break;
        }
    }
    all.into_iter().zip(under).map(|((affordance, _), under)| Affordance { under, ..affordance }).collect()
}

fn parent(
    affordance: &Affordance,
    under: Option<&At<String>>,
    all: &[(Affordance, Option<&At<String>>)],
    findings: &mut Vec<Finding>,
) -> Option<usize> {
    let under = under?;
    let same = |other: &Affordance| other.application == affordance.application;
    let at = all.iter().position(|(other, _)| same(other) && other.key == under.value);
    if at.is_none() {
        let known = all.iter().filter(|(other, _)| same(other)).map(|(other, _)| other.key.as_str());
        let message = format!("unknown affordance {:?}", under.value);
        findings.push(Finding::error("unknown-affordance", under.span, message).meant(&under.value, known));
    }
    at
}

/// The way from an affordance back to itself, if there is one.
fn circle(start: usize, under: &[Option<usize>]) -> Option<Vec<usize>> {
    let mut walk = vec![start];
    while let Some(next) = under[walk[walk.len() - 1]] {
        walk.push(next);
        if next == start {
            return Some(walk);
        }
        if walk.len() > under.len() {
            return None;
        }
    }
    None
}
