//! Which things a document's paths speak of: each path as steps from one thing to the next, and the types that the
//! steps are of.
//!
//! A literal segment that some path follows with a parameter numbers things: it is a collection. Another one is a part
//! of the way (`/api/v1`, `admin`) where a collection follows, and what is done where it stands last.

use super::paths::Written;
use super::words;
use crate::charter::model::{Parameter, Segment};
use crate::names::RESERVED_TYPES;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::fmt::Write as _;

/// How far it is looked whether types would lie in a circle.
const MAX_AROUND: usize = 1_000;

/// One step of a path: a thing, and the parameters that name one of them.
#[derive(Clone, Debug)]
pub struct Step {
    /// What it is of: the same for all steps that lead to the same place.
    pub position: String,
    /// Its parameters, as the route writes them.
    pub parameters: Vec<String>,
    /// By what else than its id it is looked up: `by-name`.
    pub lookup: Option<String>,
}

/// A path as steps.
#[derive(Clone, Debug, Default)]
pub struct Way {
    pub steps: Vec<Step>,
    /// What stands behind the last step: what is done, or a part of it.
    pub rest: Vec<String>,
    /// A verb behind a colon: `/dogs/{dog}:adopt`.
    pub verb: Option<String>,
    /// The first segment that says something.
    pub first: Option<String>,
}

/// A place that steps lead to.
#[derive(Clone, Debug)]
struct Position {
    /// Keys of what stands before it, outermost first: things, and parts of the way.
    before: Vec<String>,
    /// Whether a part of the way is among those.
    apart: bool,
    /// One of it.
    key: String,
    /// The nearest place before it of which one is named.
    outer: Option<String>,
    /// What its parameters are called where one of it is named.
    named: BTreeSet<Vec<String>>,
    /// Whether the document says that these are the same nowhere else.
    unique: bool,
    /// A path that leads to it.
    path: String,
}

/// A resource type.
#[derive(Clone, Debug, Default)]
pub struct Type {
    /// What it lies within, each with a path that shows it.
    pub within: BTreeMap<String, String>,
    /// What it would lie within too, were that not a circle.
    pub circle: BTreeMap<String, String>,
    /// Paths that were taken to be about the same things.
    pub same: Vec<String>,
    /// What it has its longer name from: another that would have been called so.
    pub apart_from: Option<String>,
    /// A path that leads to it.
    pub path: String,
    /// Whether one of it is named with nothing around it.
    named_at_root: bool,
}

/// What all paths come to.
#[derive(Debug, Default)]
pub struct Kinds {
    /// For each path, in its order: its steps, or why it has none.
    pub ways: Vec<Result<Way, String>>,
    /// By key.
    pub types: BTreeMap<String, Type>,
    positions: BTreeMap<String, Position>,
    /// The type of each position.
    of: BTreeMap<String, String>,
}

/// The key of what is an application's tenant already.
pub const TENANT: &str = "tenant";

/// What is known of all paths together.
#[derive(Default)]
struct Shapes {
    /// Beginnings of paths that end in a literal which a parameter follows, with the most parameters that name one.
    numbered: HashMap<String, usize>,
    /// Such literals, wherever they stand.
    texts: HashSet<String>,
    /// How many segments all paths begin with alike.
    common: usize,
}

impl Kinds {
    /// Makes sense of paths, each with those of its parameters that are the same nowhere else. `taken` are keys of types that others have already.
    pub fn of(paths: &[(&Written, &BTreeSet<String>)], taken: &BTreeSet<String>, application: &str) -> Kinds {
        let all: Vec<&Written> = paths.iter().map(|(path, _)| *path).collect();
        let shapes = Shapes::of(&all);
        let mut kinds = Kinds::default();
        for (path, unique) in paths {
            let way = kinds.way(path, unique, &shapes);
            kinds.ways.push(way);
        }
        kinds.name(taken, application);
        kinds.contain();
        kinds
    }

    /// The type of a step.
    pub fn kind(&self, step: &Step) -> &str {
        self.of.get(&step.position).map_or("", String::as_str)
    }

    /// Whether a step is to an application's tenant itself.
    pub fn is_tenant(&self, step: &Step) -> bool {
        self.positions.get(&step.position).is_some_and(Position::is_tenant)
    }

    /// The type that things lie within that lie within a step's: a tenant's is no resource of the application.
    pub fn outer_kind(&self, step: &Step) -> &str {
        if self.is_tenant(step) { TENANT } else { self.kind(step) }
    }

    /// The id of what the last of some steps names, as a template.
    pub fn id(&self, steps: &[Step]) -> Option<String> {
        let (last, before) = steps.split_last()?;
        if last.parameters.is_empty() {
            return None;
        }
        let own: Vec<String> = last.parameters.iter().map(|name| format!("{{{name}}}")).collect();
        let own = match &last.lookup {
            Some(by) => format!("{by}/{}", own.join("/")),
            None => own.join("/"),
        };
        let outer = before.iter().rposition(|step| !step.parameters.is_empty());
        match outer.and_then(|at| self.id(&before[..=at])) {
            Some(outer) if !self.alone(last) => Some(format!("{outer}/{own}")),
            _ => Some(own),
        }
    }

    /// Whether what names a step's thing is taken to name no other one, whatever it lies within.
    fn alone(&self, step: &Step) -> bool {
        let Some(position) = self.positions.get(&step.position) else { return false };
        let is_id = |names: &Vec<String>| names.last().is_some_and(|name| words::called(name).is_id);
        let named_at_root = || self.types.get(self.kind(step)).is_some_and(|of| of.named_at_root);
        position.unique || position.named.iter().all(is_id) || named_at_root()
    }

    // -- steps -----------------------------------------------------------------------------------

    fn way(&mut self, path: &Written, unique: &BTreeSet<String>, shapes: &Shapes) -> Result<Way, String> {
        let mut segments = &path.segments[..];
        if let [before @ .., Segment::Literal(last)] = segments
            && last.is_empty()
        {
            segments = before;
        }
        let mut way = Way::default();
        let mut passed: Vec<String> = Vec::new();
        let mut beginning = String::new();
        let mut at = 0;
        while let Some(segment) = segments.get(at) {
            let is_last = at + 1 == segments.len();
            match segment {
                Segment::Literal(text) => {
                    let (thing, verb) = match text.split_once(':') {
                        Some((thing, verb)) if is_last && !thing.is_empty() && !verb.is_empty() => {
                            (thing, Some(verb))
                        }
                        _ => (text.as_str(), None),
                    };
                    let _ = write!(beginning, "/{thing}");
                    if way.first.is_none() && at >= shapes.common {
                        way.first = words::key(thing);
                    }
                    at += 1;
                    let follow = parameters(&segments[at..]);
                    let is_done = words::key(thing).is_some_and(|key| words::is_verb(&key))
                        && follow.len() == segments.len() - at;
                    if !(shapes.numbered.contains_key(&beginning) || shapes.texts.contains(thing)) {
                        if at > shapes.common || is_last {
                            passed.push(thing.to_owned());
                        }
                        way.verb = verb.map(str::to_owned);
                        continue;
                    }
                    if is_done && passed.is_empty() && !way.steps.is_empty() {
                        // Something done, with what it is done by: nothing that is named.
                        way.rest.push(thing.to_owned());
                        return Ok(way);
                    }
                    let most = shapes.numbered.get(&beginning).copied().unwrap_or(0);
                    let own = follow.len().min(own_parameters(thing, path, &follow));
                    if let Some(last) = way.steps.last_mut()
                        && is_lookup(thing)
                        && passed.is_empty()
                        && last.parameters.is_empty()
                        && own > 0
                    {
                        last.lookup = Some(words::key(thing).unwrap_or_else(|| "by".to_owned()));
                        last.parameters = follow[..own].iter().map(|of| of.name.clone()).collect();
                    } else {
                        // Of several parameters that name one, the first few name none yet.
                        let named = if own < most { &[][..] } else { &follow[..own] };
                        let key =
                            words::key(thing).ok_or_else(|| format!("{thing:?} gives no name for a type"))?;
                        self.step(&mut way, &mut passed, &words::singular(&key), named, (path, unique));
                    }
                    at += own;
                    for _ in 0..own {
                        beginning.push_str("/{}");
                    }
                    way.verb =
                        follow[..own].last().and_then(|of| verb_behind(of)).or(verb).map(str::to_owned);
                }
                Segment::Parameter(of) => {
                    let called = path.original(&of.name);
                    let around = words::key(&of.before).filter(|key| key.len() > 1);
                    let key =
                        around.or_else(|| words::called(called).of).unwrap_or_else(|| "item".to_owned());
                    let key = words::singular(&key);
                    self.step(&mut way, &mut passed, &key, &[of], (path, unique));
                    beginning.push_str("/{}");
                    at += 1;
                    way.verb = verb_behind(of).map(str::to_owned);
                }
            }
        }
        way.rest = passed;
        Ok(way)
    }

    fn step(
        &mut self,
        way: &mut Way,
        passed: &mut Vec<String>,
        key: &str,
        parameters: &[&Parameter],
        (path, unique): (&Written, &BTreeSet<String>),
    ) {
        let before = way.steps.last();
        let apart: Vec<String> = std::mem::take(passed)
            .iter()
            .filter(|text| !is_common_way(text))
            .filter_map(|text| words::key(text))
            .collect();
        let mut place = before.map_or(String::new(), |step| format!("{}/", step.position));
        for part in &apart {
            let _ = write!(place, "{part}//");
        }
        place.push_str(key);
        let outer = way.steps.iter().rev().find(|step| !step.parameters.is_empty());
        let known = before.and_then(|step| self.positions.get(&step.position));
        let mut all_before =
            known.map_or(Vec::new(), |of| of.before.iter().chain([&of.key]).cloned().collect());
        let is_apart = !apart.is_empty() || known.is_some_and(|of| of.apart);
        all_before.extend(apart);
        let called: Vec<String> = parameters.iter().map(|of| path.original(&of.name).to_owned()).collect();
        let position = self.positions.entry(place.clone()).or_insert_with(|| Position {
            before: all_before,
            apart: is_apart,
            key: key.to_owned(),
            outer: outer.map(|step| step.position.clone()),
            named: BTreeSet::new(),
            unique: false,
            path: path.text.clone(),
        });
        position.unique |= called.last().is_some_and(|name| unique.contains(name));
        if !called.is_empty() {
            position.named.insert(called);
        }
        let parameters = parameters.iter().map(|of| of.name.clone()).collect();
        way.steps.push(Step { position: place, parameters, lookup: None });
    }

    // -- types -----------------------------------------------------------------------------------

    /// Gives each position its type: one name for one thing, and none for two.
    fn name(&mut self, taken: &BTreeSet<String>, application: &str) {
        let mut groups: BTreeMap<&str, Vec<(&String, &Position)>> = BTreeMap::new();
        for (place, position) in &self.positions {
            groups.entry(&position.key).or_default().push((place, position));
        }
        let mut wanted: Vec<(Vec<&String>, String, bool)> = Vec::new();
        for (key, group) in &groups {
            let root = group.iter().find(|(_, one)| one.before.is_empty());
            let inner: Vec<_> =
                group.iter().filter(|(_, one)| !one.before.is_empty() && !one.apart).collect();
            let named_within = inner.iter().filter(|(_, one)| !one.named.is_empty()).count();
            let same = |one: &Position| match root {
                Some((_, root)) if !one.before.is_empty() && !one.apart => {
                    one.named.is_empty()
                        || if root.named.is_empty() { named_within == 1 } else { root.is_named_as(one) }
                }
                Some(_) => one.before.is_empty(),
                None => false,
            };
            let (joined, others): (Vec<_>, Vec<_>) = group.iter().copied().partition(|(_, one)| same(one));
            if !joined.is_empty() {
                wanted.push((joined.iter().map(|(place, _)| *place).collect(), (*key).to_owned(), false));
            }
            let least = usize::from(root.is_some());
            for (place, name, longer) in told_apart(&others, least) {
                wanted.push((vec![place], name, longer));
            }
        }
        let mut used: BTreeSet<String> = BTreeSet::new();
        let mut of = BTreeMap::new();
        for (places, name, longer) in wanted {
            let mut key = words::short(&name);
            if RESERVED_TYPES.contains(&key.as_str()) {
                key = format!("{key}-entry");
            }
            if taken.contains(&key) {
                key = words::short(&format!("{application}-{key}"));
            }
            let free = |key: &String| !used.contains(key) && !taken.contains(key);
            if !free(&key) {
                key = (2..).map(|n| words::short(&format!("{key}-{n}"))).find(free).unwrap_or(key);
            }
            used.insert(key.clone());
            let all = || places.iter().filter_map(|place| self.positions.get(*place));
            let first = all().min_by_key(|one| one.before.len());
            let plain = first.map_or("", |one| one.key.as_str());
            let kind = Type {
                path: first.map_or_else(String::new, |one| one.path.clone()),
                same: all().skip(1).map(|one| one.path.clone()).collect(),
                apart_from: longer.then(|| plain.to_owned()),
                named_at_root: all().any(|one| one.before.is_empty() && !one.named.is_empty()),
                ..Type::default()
            };
            self.types.insert(key.clone(), kind);
            of.extend(places.into_iter().map(|place| (place.clone(), key.clone())));
        }
        self.of = of;
    }

    /// Says what lies within what, without circles.
    fn contain(&mut self) {
        let mut within: Vec<(String, String, String)> = Vec::new();
        for (place, position) in &self.positions {
            let Some(kind) = self.of.get(place) else { continue };
            let outer = position.outer.as_ref().and_then(|outer| {
                let is_tenant = self.positions.get(outer).is_some_and(Position::is_tenant);
                if is_tenant { Some(TENANT.to_owned()) } else { self.of.get(outer).cloned() }
            });
            let outer = outer.unwrap_or_else(|| TENANT.to_owned());
            within.push((kind.clone(), outer, position.path.clone()));
        }
        // What stands at the root is told first: that never closes a circle.
        within.sort_by_key(|(_, outer, path)| (outer != TENANT, path.matches('/').count(), path.clone()));
        for (kind, outer, path) in within {
            let circle = outer != kind && self.reaches(&outer, &kind);
            let Some(of) = self.types.get_mut(&kind) else { continue };
            let edges = if circle { &mut of.circle } else { &mut of.within };
            edges.entry(outer).or_insert(path);
        }
    }

    /// Whether what one type lies within leads to another.
    fn reaches(&self, from: &str, to: &str) -> bool {
        let mut seen: HashSet<&str> = HashSet::from([from]);
        let mut left: Vec<&str> = vec![from];
        while let Some(kind) = left.pop() {
            if kind == to || seen.len() > MAX_AROUND {
                return true;
            }
            let outer = self.types.get(kind).into_iter().flat_map(|of| of.within.keys());
            left.extend(outer.map(String::as_str).filter(|outer| seen.insert(outer)));
        }
        false
    }
}

/// Names for places of one key: with as much of what stands before each as tells them apart.
fn told_apart<'p>(places: &[(&'p String, &Position)], least: usize) -> Vec<(&'p String, String, bool)> {
    let deepest = places.iter().map(|(_, one)| one.before.len()).max().unwrap_or(0);
    let named = |more: usize| -> Vec<(&'p String, String, bool)> {
        let name = |one: &Position| {
            let before = &one.before[one.before.len().saturating_sub(more)..];
            before.iter().chain([&one.key]).cloned().collect::<Vec<_>>().join("-")
        };
        places.iter().map(|(place, one)| (*place, name(one), more > 0)).collect()
    };
    let differ = |all: &[(&String, String, bool)]| {
        all.iter().map(|(_, name, _)| name).collect::<HashSet<_>>().len() == all.len()
    };
    (least..deepest).map(named).find(|all| differ(all)).unwrap_or_else(|| named(deepest.max(least)))
}

impl Position {
    fn is_tenant(&self) -> bool {
        self.key == TENANT && self.before.is_empty()
    }

    /// Whether one of it is named as one of another place is, as far as the names of parameters tell.
    fn is_named_as(&self, other: &Position) -> bool {
        let kind = |position: &Position| {
            let last = |names: &Vec<String>| names.last().cloned().unwrap_or_default();
            let names: BTreeSet<String> = position.named.iter().map(last).collect();
            let plain = |name: &String| {
                let called = words::called(name);
                called.is_id || !called.is_other && called.of.as_ref().is_none_or(|of| *of == position.key)
            };
            (names.iter().any(plain), names)
        };
        let ((plain, names), (other_plain, others)) = (kind(self), kind(other));
        (plain && other_plain) || names == others
    }
}

impl Shapes {
    fn of(paths: &[&Written]) -> Shapes {
        let mut shapes = Shapes { common: common(paths), ..Shapes::default() };
        for path in paths {
            let mut beginning = String::new();
            let mut at = 0;
            while let Some(segment) = path.segments.get(at) {
                at += 1;
                let Segment::Literal(text) = segment else {
                    beginning.push_str("/{}");
                    continue;
                };
                let _ = write!(beginning, "/{text}");
                let follow = parameters(&path.segments[at..]);
                if text.is_empty() || follow.is_empty() {
                    continue;
                }
                let own = own_parameters(text, path, &follow);
                let most = shapes.numbered.entry(beginning.clone()).or_default();
                *most = own.max(*most);
                shapes.texts.insert(text.clone());
            }
        }
        shapes
    }
}

/// How many literal segments all paths begin with alike, but for the last that says what a path is about.
fn common(paths: &[&Written]) -> usize {
    let mut all = paths.iter().map(|path| &path.segments);
    let Some(first) = all.next() else { return 0 };
    let same = |a: &[Segment], b: &[Segment]| a.iter().zip(b).take_while(|(a, b)| a == b).count();
    let alike = all.fold(first.len(), |least, other| least.min(same(&first[..least], other)));
    let literals = first[..alike].iter().take_while(|one| matches!(one, Segment::Literal(_))).count();
    let ends_there = paths
        .iter()
        .any(|path| path.segments.get(literals).is_none_or(|next| matches!(next, Segment::Parameter(_))));
    literals - usize::from(ends_there && literals > 0)
}

/// The parameters that segments begin with.
fn parameters(segments: &[Segment]) -> Vec<&Parameter> {
    let all = segments.iter().map_while(|segment| match segment {
        Segment::Parameter(of) => Some(of),
        Segment::Literal(_) => None,
    });
    all.collect()
}

/// How many of the parameters behind a collection name one of it: `repos/{owner}/{repo}` has two, and
/// `zones/{zone}/{record}` one, since that is what it is called.
fn own_parameters(text: &str, path: &Written, follow: &[&Parameter]) -> usize {
    let one = words::key(text).map(|key| words::singular(&key));
    let first = follow.first().map(|of| words::called(path.original(&of.name)));
    match first {
        Some(first) if follow.len() > 1 && (first.of == one || first.of.is_none()) => 1,
        _ => follow.len(),
    }
}

/// What stands behind a parameter and a colon.
fn verb_behind(of: &Parameter) -> Option<&str> {
    of.after.strip_prefix(':').filter(|verb| !verb.is_empty())
}

/// `by-name`, `byEmail`: another way to name one.
fn is_lookup(text: &str) -> bool {
    words::key(text).is_some_and(|key| key.starts_with("by-"))
}

/// Parts of the way that say nothing of what is there: versions, and what every interface is called.
fn is_common_way(text: &str) -> bool {
    let is_version = text.trim_start_matches(['v', 'V']).starts_with(|c: char| c.is_ascii_digit());
    is_version
        || matches!(
            text,
            "api" | "apis" | "rest" | "rpc" | "latest" | "beta" | "alpha" | "preview" | "stable"
        )
}
