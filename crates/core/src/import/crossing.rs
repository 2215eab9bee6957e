//! Routes whose requests meet: what no route can tell apart, and what an open one would take from another.

use super::guess::{Meaning, Route};
use super::paths::Written;
use crate::charter::check::{crossing, is_partial, together};
use crate::charter::model::{Parameter, Paths, Segment};
use std::collections::{BTreeSet, HashSet};

/// Most routes that are added to refuse what an open one would take.
const MAX_SHUT: usize = 1_000;
/// How many pairs of routes are looked at for that.
const MAX_LOOKED: usize = 300_000;

/// Patterns with text around a parameter: only two of those can cross so that neither says more.
#[derive(Default)]
pub struct Crossing {
    tree: Paths,
    /// Each with its route, and that one's method.
    patterns: Vec<(usize, String, Vec<Segment>)>,
}

impl Crossing {
    /// All known routes that one crosses: of a request that fits both, nobody can say which is meant.
    pub fn met(&self, method: &str, segments: &[Segment]) -> Vec<usize> {
        let mut met = Vec::new();
        if segments.iter().any(is_partial) {
            self.tree.meeting(segments, &mut |at| {
                let (route, other, pattern) = &self.patterns[at];
                if together(method, other) && crossing(segments, pattern).is_some() {
                    met.push(*route);
                }
                None::<()>
            });
        }
        met
    }

    pub fn add(&mut self, route: usize, method: &str, segments: &[Segment]) {
        if segments.iter().any(is_partial) {
            self.tree.add(segments, self.patterns.len());
            self.patterns.push((route, method.to_owned(), segments.to_vec()));
        }
    }
}

/// A path without text around its parameters: what it refuses, it refuses to all that the path fits.
pub fn widened(path: &Written) -> Written {
    let bare = |segment: &Segment| match segment {
        Segment::Parameter(of) => Segment::Parameter(Parameter {
            before: String::new(),
            name: of.name.clone(),
            after: String::new(),
        }),
        Segment::Literal(text) => Segment::Literal(text.clone()),
    };
    Written::of(path.segments.iter().map(bare).collect(), path.called.clone())
}

/// Refuses the requests that an open route would take, although they fit another one too that is not open: of two
/// that cross, nobody can say which of them the application takes.
///
/// Where too many meet, no route stays open: it is told which those were.
pub fn shut(routes: &mut Vec<Route>) -> Vec<usize> {
    let mut tree = Paths::default();
    for (at, route) in routes.iter().enumerate().filter(|(_, route)| route.meaning != Meaning::Open) {
        tree.add(&route.path.segments, at);
    }
    let mut known: HashSet<(String, String)> =
        routes.iter().map(|route| (route.method.clone(), route.path.shape())).collect();
    let mut added: Vec<Route> = Vec::new();
    let mut looked = 0;
    for at in 0..routes.len() {
        let open = &routes[at];
        if open.meaning != Meaning::Open {
            continue;
        }
        let mut shut = Vec::new();
        let too_many = tree.meeting(&open.path.segments, &mut |other| {
            let other = &routes[other];
            looked += 1;
            let (ours, theirs) = (&open.path.segments, &other.path.segments);
            if together(&open.method, &other.method) && !lies_in(ours, theirs) && !lies_in(theirs, ours) {
                let both = both(ours, theirs);
                if known.insert((open.method.clone(), both.shape())) {
                    let why = format!("some requests fit {} too, which is not open", other.path.text);
                    shut.push((both, why));
                }
            }
            (added.len() + shut.len() > MAX_SHUT || looked > MAX_LOOKED).then_some(())
        });
        if too_many.is_some() {
            let open = |at: &usize| routes[*at].meaning == Meaning::Open;
            let refused: Vec<usize> = (0..routes.len()).filter(open).collect();
            for at in &refused {
                routes[*at].meaning = Meaning::Refused;
                routes[*at].why = vec!["too many that are not open fit the requests of open ones".to_owned()];
            }
            return refused;
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
    Vec::new()
}

/// Whether some requests fit both, and not all that fit the first are among them.
pub fn takes_of(one: &[Segment], other: &[Segment]) -> bool {
    one.len() == other.len() && one.iter().zip(other).all(|(a, b)| a.meets(b)) && !lies_in(one, other)
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
    Written::of(segments, Vec::new())
}
