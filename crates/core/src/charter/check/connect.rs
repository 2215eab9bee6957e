//! Routes and affordances: the same truth for proxies and interfaces.

use super::{Scope, errors};
use crate::charter::model::{
    Affordance, Application, KindId, Needs, PermId, Route, RouteTarget, Segment, Template,
};
use crate::charter::syntax::{self, RouteResource, Tree};
use crate::names::nearest;
use crate::source::{At, Finding, Span};
use std::collections::HashMap;

/// Methods a route may have. TRACE and CONNECT are refused at every door.
const METHODS: [&str; 7] = ["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"];
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

/// All routes, in the order they were written.
pub fn routes(
    scope: &Scope<'_>,
    tree: &Tree,
    applications: &[Application],
    findings: &mut Vec<Finding>,
) -> Vec<Route> {
    let mut first: HashMap<(usize, String, Vec<Option<String>>), Span> = HashMap::new();
    let mut all = Vec::new();
    for written in &tree.routes {
        let Some(route) = route(scope, written, applications, findings) else { continue };
        // Parameters match alike whatever they are called.
        let shape = route.segments.iter().map(|segment| match segment {
            Segment::Literal(text) => Some(text.clone()),
            Segment::Parameter(_) => None,
        });
        let key = (route.application, route.method.clone(), shape.collect());
        if let Some(before) = first.get(&key) {
            let path = written.path.as_ref().map_or("", |path| path.value.as_str());
            findings.push(errors::routes_equal::told(route.span, &route.method, path, *before));
        }
        first.entry(key).or_insert(route.span);
        all.push(route);
    }
    all
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
    Some(Route { application: application?, method: method?, segments: segments?, needs: needs?, span })
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
        let last = at + 1 == parts.len();
        let parameter = part.strip_prefix('{').and_then(|inner| inner.strip_suffix('}'));
        let segment = match parameter {
            Some(name) if is_parameter(name) => Segment::Parameter(name.to_owned()),
            None if !part.contains(['{', '}', '?', '#', '%', '\\', ';']) && *part != "." && *part != ".." => {
                if part.is_empty() && !last {
                    wrong(format!("the path {:?} has an empty segment", path.value), "take one / out");
                    return None;
                }
                Segment::Literal((*part).to_owned())
            }
            _ => {
                wrong(
                    format!("{part:?} is not a segment of a path"),
                    "a segment is a text as it is when decoded, or one {parameter}",
                );
                return None;
            }
        };
        if matches!(segment, Segment::Parameter(_)) && all.contains(&segment) {
            wrong(format!("{part} stands twice in the path"), "give each parameter a name of its own");
            return None;
        }
        all.push(segment);
    }
    Some(all)
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
    match (written.open, written.needs.is_empty()) {
        (true, true) if written.resource.is_none() => return Some(Needs::Open),
        (true, _) => return wrong("route-needs", "an open route needs nothing", "take open or the rest out"),
        (false, true) => {
            return wrong("route-needs", "this route needs nothing", "say needs = […], or open = true");
        }
        (false, false) => {}
    }
    let Some(resource) = &written.resource else {
        return wrong(
            "route-resource",
            "this route does not say which resource its needs are about",
            "say resource = \"type:{parameter}\", { new = \"type\" } or { any = \"type\" }",
        );
    };
    let permissions = scope.expand_all(&written.needs, false, findings);
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
    Some(Needs::All(permissions, target))
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
        RouteResource::Any(kind) => {
            Some((scope.known_type(&kind.value, kind.span, findings)?, RouteTarget::Any))
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
    let mut pieces = Vec::new();
    while !rest.is_empty() {
        let (literal, more) = rest.split_once('{').unwrap_or((rest, ""));
        if !literal.is_empty() {
            pieces.push(Segment::Literal(literal.to_owned()));
        }
        if literal.len() == rest.len() {
            break;
        }
        let Some((name, after)) = more.split_once('}') else {
            wrong(format!("{:?} has a {{ without its }}", written.value), "close it", findings);
            return None;
        };
        let parameter = Segment::Parameter(name.to_owned());
        if segments.is_some_and(|segments| !segments.contains(&parameter)) {
            let known = segments.unwrap_or_default().iter().filter_map(|segment| match segment {
                Segment::Parameter(name) => Some(name.as_str()),
                Segment::Literal(_) => None,
            });
            let message = format!("the path has no parameter {name:?}");
            let finding = Finding::error("route-resource", written.span, message).meant(name, known);
            findings.push(finding.help("what the resource is called must stand in the path"));
            return None;
        }
        pieces.push(parameter);
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
