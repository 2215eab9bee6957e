//! What paths mean: `/voyages/{voyage}/manifests/{manifest}/release` is the action `release` of a
//! manifest that lies within a voyage.

use super::document::{Document, Operation};
use crate::charter::check::{MAX_SEGMENTS, crossing, pattern};
use crate::charter::model::Segment;
use crate::names::{RESERVED_TYPES, as_key};
use std::collections::{BTreeMap, BTreeSet, HashSet};

/// What a document comes to.
#[derive(Debug, Default)]
pub struct Guessed {
    pub types: BTreeMap<String, Type>,
    pub routes: Vec<Route>,
    pub unmapped: Vec<String>,
    /// Segments that begin every path and name nothing.
    pub prefix: Vec<String>,
}

/// A resource type.
#[derive(Debug, Default)]
pub struct Type {
    /// What it lies within, and the path that shows it.
    pub within: BTreeMap<String, String>,
    /// Whether it stands at the root of some path.
    pub root: Option<String>,
    /// Its actions, each with a description and the operation it was guessed from.
    pub actions: BTreeMap<String, Action>,
    /// The segment its name was made from.
    pub segment: String,
}

/// An action.
#[derive(Clone, Debug)]
pub struct Action {
    pub description: String,
    pub from: String,
    /// Whether it changes nothing.
    pub reads: bool,
}

/// An endpoint.
#[derive(Debug)]
pub struct Route {
    pub method: String,
    pub path: String,
    pub why: String,
    pub needs: Option<(String, String)>,
    pub target: Target,
}

/// What a route is about.
#[derive(Debug)]
pub enum Target {
    Open,
    Named(String),
    New(Option<(String, String)>),
    Any,
}

/// One step of a path: a thing, and the parameter that names one of them.
struct Step<'p> {
    segment: &'p str,
    parameter: Option<&'p str>,
}

/// Makes sense of a document.
pub fn guess(document: &Document) -> Guessed {
    let mut guessed = Guessed { prefix: prefix(&document.operations), ..Guessed::default() };
    let collections = collections(&document.operations);
    let mut shapes: HashSet<(String, String)> = HashSet::new();
    let mut ids: BTreeSet<&str> = BTreeSet::new();
    let mut twice: BTreeSet<&str> = BTreeSet::new();
    let mut patterns: Vec<(Vec<Segment>, &str)> = Vec::new();
    for operation in &document.operations {
        let place = format!("{} {}", operation.method, operation.path);
        if let Some(id) = &operation.id
            && !ids.insert(id)
        {
            twice.insert(id);
        }
        if operation.method == "TRACE" {
            guessed.unmapped.push(format!("{place}: TRACE is refused at every door"));
            continue;
        }
        let segments = match segments(&operation.path) {
            Ok(segments) => segments,
            Err(why) => {
                guessed.unmapped.push(format!("{place}: {why}"));
                continue;
            }
        };
        let shape = segments.iter().map(|segment| match parameter(segment) {
            Some((before, _, after)) => format!("{before}{{}}{after}"),
            None => (*segment).to_owned(),
        });
        let shape = shape.collect::<Vec<_>>().join("/");
        if !shapes.insert((operation.method.clone(), shape)) {
            guessed.unmapped.push(format!("{place}: another path matches the same requests"));
            continue;
        }
        let Some(own) = pattern(&operation.path) else {
            guessed.unmapped.push(format!("{place}: it is no path of a route"));
            continue;
        };
        // Whatever the methods are: of GET and HEAD one is looked at with the other.
        if let Some((_, other)) = patterns.iter().find(|(other, _)| crossing(&own, other).is_some()) {
            let why = "some requests fit both, and neither says more";
            guessed.unmapped.push(format!("{place}: it crosses {other}: {why}"));
            continue;
        }
        match operation_route(&mut guessed, operation, &segments, &collections) {
            Ok(route) => {
                patterns.push((own, &operation.path));
                guessed.routes.push(route);
            }
            Err(why) => guessed.unmapped.push(format!("{place}: {why}")),
        }
    }
    for id in twice {
        guessed
            .unmapped
            .push(format!("the operation id {id:?} stands twice; each operation was mapped by its path"));
    }
    guessed
}

fn is_parameter(segment: &str) -> bool {
    segment.contains('{')
}

/// The parameter of a segment: the text before it, its name, the text behind it.
fn parameter(segment: &str) -> Option<(&str, &str, &str)> {
    let (before, rest) = segment.split_once('{')?;
    let (name, after) = rest.split_once('}')?;
    Some((before, name, after))
}

fn segments(path: &str) -> Result<Vec<&str>, String> {
    let rest = path.strip_prefix('/').ok_or("the path does not begin with /")?;
    let parts: Vec<&str> = if rest.is_empty() { Vec::new() } else { rest.split('/').collect() };
    if path.chars().any(char::is_control) {
        return Err("the path holds a control character".to_owned());
    }
    if parts.len() > MAX_SEGMENTS {
        return Err(format!("it has more than {MAX_SEGMENTS} segments"));
    }
    for (at, part) in parts.iter().enumerate() {
        let braces = part.matches(['{', '}']).count();
        let (before, inner, after) = parameter(part).unwrap_or((part, "", ""));
        if braces > 0 && (braces != 2 || inner.is_empty()) {
            return Err(format!("the segment {part:?} is not one parameter with text around it"));
        }
        if !inner.chars().all(|c| c.is_ascii_alphanumeric() || c == '-' || c == '_') {
            return Err(format!("{inner:?} is no name for a parameter here"));
        }
        if part.is_empty() && at + 1 < parts.len() || *part == "." || *part == ".." {
            return Err("it has an empty segment".to_owned());
        }
        if [before, after].iter().any(|text| text.contains(['%', '?', '#', ';', '\\'])) {
            return Err(format!("the segment {part:?} is not as it is when decoded"));
        }
    }
    let parameters: Vec<&str> = parts.iter().filter_map(|part| Some(parameter(part)?.1)).collect();
    if parameters.iter().collect::<HashSet<_>>().len() != parameters.len() {
        return Err("a parameter stands twice in it".to_owned());
    }
    Ok(parts)
}

/// The literal segments that all paths begin with and that no parameter follows: `api`, `v1`.
fn prefix(operations: &[Operation]) -> Vec<String> {
    let mut paths = operations.iter().filter_map(|operation| segments(&operation.path).ok());
    let Some(first) = paths.next() else { return Vec::new() };
    let mut common: Vec<&str> = first;
    for path in paths {
        let same = common.iter().zip(&path).take_while(|(a, b)| a == b).count();
        common.truncate(same);
    }
    let literals = common.iter().take_while(|segment| !is_parameter(segment)).count();
    // The last literal before a parameter is the thing itself.
    let last_is_thing = operations.iter().any(|operation| {
        segments(&operation.path).is_ok_and(|path| path.len() <= literals || is_parameter(path[literals]))
    });
    let kept = if last_is_thing { literals.saturating_sub(1) } else { literals };
    common[..kept].iter().map(|segment| (*segment).to_owned()).collect()
}

/// The literal segments that some path follows with a parameter: those are things, not actions.
fn collections(operations: &[Operation]) -> HashSet<String> {
    let mut all = HashSet::new();
    for operation in operations {
        let Ok(segments) = segments(&operation.path) else { continue };
        for pair in segments.windows(2) {
            if !is_parameter(pair[0]) && is_parameter(pair[1]) {
                all.insert(pair[0].to_owned());
            }
        }
    }
    all
}

/// `manifests` names a manifest.
fn type_key(segment: &str) -> Option<String> {
    let key = as_key(segment)?;
    let single = if let Some(stem) = key.strip_suffix("ies") {
        format!("{stem}y")
    } else if let Some(stem) = ["sses", "shes", "ches", "xes"]
        .iter()
        .find_map(|end| key.ends_with(end).then(|| key[..key.len() - 2].to_owned()))
    {
        stem
    } else if key.len() > 3 && key.ends_with('s') && !key.ends_with("ss") && !key.ends_with("us") {
        key[..key.len() - 1].to_owned()
    } else {
        key
    };
    Some(if RESERVED_TYPES.contains(&single.as_str()) { format!("{single}-entry") } else { single })
}

fn operation_route(
    guessed: &mut Guessed,
    operation: &Operation,
    segments: &[&str],
    collections: &HashSet<String>,
) -> Result<Route, String> {
    let route = |why: String, needs, target| Route {
        method: operation.method.clone(),
        path: operation.path.clone(),
        why,
        needs,
        target,
    };
    if operation.open {
        return Ok(route("the document asks for no security here".to_owned(), None, Target::Open));
    }
    let mut rest = &segments[guessed.prefix.len().min(segments.len())..];
    if let [before @ .., ""] = rest {
        rest = before;
    }
    let mut steps: Vec<Step<'_>> = Vec::new();
    let mut action: Option<String> = None;
    let mut at = 0;
    while at < rest.len() {
        let segment = rest[at];
        if is_parameter(segment) {
            return Err(format!("nothing before {segment} says what it names"));
        }
        let named = rest.get(at + 1).and_then(|next| parameter(next));
        let parameter = named.map(|(_, name, _)| name);
        let is_last = at + 1 + usize::from(parameter.is_some()) == rest.len();
        // `/dogs/{dog}:adopt` and `/dogs:count`: what stands behind a colon is done.
        let (segment, verb) = match (named, segment.split_once(':')) {
            (Some((_, _, after)), _) => (segment, after.strip_prefix(':')),
            (None, Some((thing, verb))) if !thing.is_empty() => (thing, Some(verb)),
            (None, _) => (segment, None),
        };
        if let Some(verb) = verb.filter(|_| is_last) {
            action = Some(as_key(verb).ok_or_else(|| format!("{verb:?} gives no name for an action"))?);
            steps.push(Step { segment, parameter });
            break;
        }
        if parameter.is_none() && !collections.contains(segment) && !steps.is_empty() {
            // What no path numbers is something done to what stands before it.
            let words = if is_last { segment.to_owned() } else { rest[at..].join("-") };
            action = Some(as_key(&words).ok_or_else(|| format!("{words:?} gives no name for an action"))?);
            if rest[at..].iter().any(|segment| is_parameter(segment)) {
                return Err("it names something within an action".to_owned());
            }
            break;
        }
        steps.push(Step { segment, parameter });
        at += if parameter.is_some() { 2 } else { 1 };
    }
    let Some((last, outer)) = steps.split_last() else {
        return Err("the path names nothing".to_owned());
    };
    let kind = named(guessed, last, outer, &operation.path)?;
    let reads = matches!(operation.method.as_str(), "GET" | "HEAD" | "OPTIONS");
    let (key, why) = match (&action, last.parameter, operation.method.as_str()) {
        (Some(action), _, _) if reads => {
            (format!("view-{action}"), format!("{action} is read, and no path numbers it"))
        }
        (Some(action), _, "PUT" | "PATCH") => {
            (format!("change-{action}"), format!("{action} is changed, and no path numbers it"))
        }
        (Some(action), _, "DELETE") => {
            (format!("remove-{action}"), format!("{action} is removed, and no path numbers it"))
        }
        (Some(action), _, _) => (action.clone(), format!("{action} follows a {kind} and no path numbers it")),
        (None, _, _) if reads => ("view".to_owned(), format!("{} reads", operation.method)),
        (None, None, "POST") => ("create".to_owned(), "POST to a collection makes a new one".to_owned()),
        (None, None, "DELETE") => ("remove".to_owned(), "DELETE removes".to_owned()),
        (None, None, method) => ("change".to_owned(), format!("{method} changes")),
        (None, Some(_), "DELETE") => ("remove".to_owned(), "DELETE removes".to_owned()),
        (None, Some(_), "PUT" | "PATCH") => ("change".to_owned(), format!("{} changes", operation.method)),
        (None, Some(_), method) => {
            // What a POST to one thing does is said by its operation id at best.
            let id = operation.id.as_deref().and_then(as_key);
            let verb = id.as_deref().map(|id| id.split('-').next().unwrap_or(id).to_owned());
            match verb {
                Some(verb) => (
                    verb,
                    format!(
                        "{method} to one {kind}, called {:?}",
                        operation.id.as_deref().unwrap_or_default()
                    ),
                ),
                None => {
                    ("change".to_owned(), format!("{method} to one {kind}, and nothing says what it does"))
                }
            }
        }
    };
    let key = if key.len() > crate::names::MAX_KEY_BYTES {
        return Err(format!("{key:?} is too long for an action"));
    } else {
        key
    };
    let described = operation.summary.lines().next().unwrap_or_default().trim().to_owned();
    let of = guessed.types.entry(kind.clone()).or_default();
    of.actions.entry(key.clone()).or_insert_with(|| Action {
        description: described,
        from: operation.id.clone().unwrap_or_else(|| format!("{} {}", operation.method, operation.path)),
        reads,
    });
    let target = match (last.parameter, key.as_str()) {
        (Some(parameter), _) => Target::Named(parameter.to_owned()),
        (None, "create") => {
            let inner =
                outer.last().and_then(|step| Some((type_key(step.segment)?, step.parameter?.to_owned())));
            Target::New(inner)
        }
        (None, _) => Target::Any,
    };
    Ok(route(why, Some((kind, key)), target))
}

/// The type a step names, noted with what it lies within.
fn named(guessed: &mut Guessed, last: &Step<'_>, outer: &[Step<'_>], path: &str) -> Result<String, String> {
    let mut inside: Option<String> = None;
    let mut kind = String::new();
    for step in outer.iter().chain([last]) {
        kind =
            type_key(step.segment).ok_or_else(|| format!("{:?} gives no name for a type", step.segment))?;
        let of = guessed.types.entry(kind.clone()).or_default();
        if of.segment.is_empty() {
            step.segment.clone_into(&mut of.segment);
        }
        match &inside {
            None => {
                of.root.get_or_insert_with(|| path.to_owned());
            }
            Some(outer) if *outer != kind => {
                of.within.entry(outer.clone()).or_insert_with(|| path.to_owned());
            }
            Some(_) => {}
        }
        inside = Some(kind.clone());
    }
    Ok(kind)
}
