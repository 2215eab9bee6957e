//! Routes whose requests meet: what no route can tell apart, and what an open one would take from another.

use super::guess::{Meaning, Route};
use super::paths::Written;
use crate::charter::check::crossing;
use crate::charter::model::{Parameter, Paths, Segment};
use std::collections::{BTreeSet, HashSet};

/// Most routes that are added to refuse what an open one would take.
const MAX_SHUT: usize = 1_000;
/// How many pairs of routes are looked at for that.
const MAX_LOOKED: usize = 100_000;

/// Patterns with text around a parameter: only two of those can cross so that neither says more.
#[derive(Default)]
pub struct Crossing {
    tree: Paths,
    patterns: Vec<(usize, Vec<Segment>)>,
}

impl Crossing {
    /// The first known pattern that one crosses.
    pub fn meets(&self, segments: &[Segment]) -> Option<usize> {
        if !is_partial(segments) {
            return None;
        }
        self.tree.meeting(segments, &mut |at| {
            let (route, other) = &self.patterns[at];
            crossing(segments, other).map(|_| *route)
        })
    }

    pub fn add(&mut self, route: usize, segments: &[Segment]) {
        if is_partial(segments) {
            self.tree.add(segments, self.patterns.len());
            self.patterns.push((route, segments.to_vec()));
        }
    }
}

fn is_partial(segments: &[Segment]) -> bool {
    segments.iter().any(|segment| match segment {
        Segment::Literal(_) => false,
        Segment::Parameter(of) => !(of.before.is_empty() && of.after.is_empty()),
    })
}

/// Refuses the requests that an open route would take, although they fit another one too that is not open: of two
/// that cross, nobody can say which of them the application takes.
///
/// Of an open route that meets too many, all is refused: it is told which.
pub fn shut(routes: &mut Vec<Route>) -> Vec<usize> {
    let mut tree = Paths::default();
    for (at, route) in routes.iter().enumerate().filter(|(_, route)| route.meaning != Meaning::Open) {
        tree.add(&route.path.segments, at);
    }
    let mut known: HashSet<(String, String)> =
        routes.iter().map(|route| (route.method.clone(), route.path.shape())).collect();
    let mut added: Vec<Route> = Vec::new();
    let mut looked = 0;
    let mut refused = Vec::new();
    for at in 0..routes.len() {
        let open = &routes[at];
        if open.meaning != Meaning::Open {
            continue;
        }
        let mut shut = Vec::new();
        let too_many = tree.meeting(&open.path.segments, &mut |other| {
            let other = &routes[other];
            looked += 1;
            let methods = [open.method.as_str(), other.method.as_str()];
            let together =
                methods[0] == methods[1] || (methods.contains(&"GET") && methods.contains(&"HEAD"));
            let (ours, theirs) = (&open.path.segments, &other.path.segments);
            if together && !lies_in(ours, theirs) && !lies_in(theirs, ours) {
                let both = both(ours, theirs);
                if known.insert((open.method.clone(), both.shape())) {
                    let why = format!("some requests fit {} too, which is not open", other.path.text);
                    shut.push((both, why));
                }
            }
            (added.len() + shut.len() > MAX_SHUT || looked > MAX_LOOKED).then_some(())
        });
        if too_many.is_some() {
            let why = "too many others that are not open fit its requests too".to_owned();
            routes[at].meaning = Meaning::Refused;
            routes[at].why = vec![why];
            refused.push(at);
            continue;
        }
        added.extend(shut.into_iter().map(|(path, why)| Route {
            method: open.method.clone(),
            path,
            meaning: Meaning::Refused,
            why: vec![why],
            operations: Vec::new(),
            guesses: BTreeSet::new(),
            group: open.group.clone(),
        }));
    }
    routes.extend(added);
    refused
}

fn lies_in(inner: &[Segment], outer: &[Segment]) -> bool {
    inner.iter().zip(outer).all(|(inner, outer)| inner.lies_in(outer))
}

/// The pattern that fits what fits both.
fn both(a: &[Segment], b: &[Segment]) -> Written {
    let segments: Vec<Segment> = a
        .iter()
        .zip(b)
        .enumerate()
        .map(|(at, (a, b))| match if a.lies_in(b) { a } else { b } {
            Segment::Literal(text) => Segment::Literal(text.clone()),
            Segment::Parameter(of) => {
                Segment::Parameter(Parameter { name: format!("part-{at}"), ..of.clone() })
            }
        })
        .collect();
    let text: Vec<String> = segments.iter().map(ToString::to_string).collect();
    Written { text: format!("/{}", text.join("/")), segments, called: Vec::new() }
}
