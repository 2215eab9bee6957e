//! Patterns of paths as a tree of their segments, so that what fits one is found without looking at all.

use super::connect::Segment;
use std::collections::BTreeMap;

/// Patterns, each with what it stands for.
#[derive(Clone, Debug, Default)]
pub struct Paths {
    /// The tree's nodes; the first is its root.
    nodes: Vec<Node>,
}

#[derive(Clone, Debug, Default)]
struct Node {
    literals: BTreeMap<String, usize>,
    /// Parameters that differ in the text around them, whatever they are called.
    parameters: Vec<(Segment, usize)>,
    /// What ends here.
    ends: Vec<usize>,
}

impl Node {
    fn parameter(&self, segment: &Segment) -> Option<usize> {
        let same = |known: &&(Segment, usize)| known.0.shape() == segment.shape();
        self.parameters.iter().find(same).map(|(_, next)| *next)
    }
}

impl Paths {
    /// Adds a pattern that stands for a number.
    pub fn add(&mut self, segments: &[Segment], number: usize) {
        if self.nodes.is_empty() {
            self.nodes.push(Node::default());
        }
        let mut at = 0;
        for segment in segments {
            let node = &self.nodes[at];
            let known = match segment {
                Segment::Literal(text) => node.literals.get(text).copied(),
                Segment::Parameter(_) => node.parameter(segment),
            };
            at = known.unwrap_or_else(|| self.grow(at, segment));
        }
        self.nodes[at].ends.push(number);
    }

    fn grow(&mut self, at: usize, segment: &Segment) -> usize {
        let next = self.nodes.len();
        match segment {
            Segment::Literal(text) => drop(self.nodes[at].literals.insert(text.clone(), next)),
            Segment::Parameter(_) => self.nodes[at].parameters.push((segment.clone(), next)),
        }
        self.nodes.push(Node::default());
        next
    }

    /// What stands for the very same pattern, whatever its parameters are called.
    pub fn same(&self, segments: &[Segment]) -> &[usize] {
        let mut at = self.nodes.first();
        for segment in segments {
            let next = at.and_then(|node| match segment {
                Segment::Literal(text) => node.literals.get(text).copied(),
                Segment::Parameter(_) => node.parameter(segment),
            });
            at = next.map(|next| &self.nodes[next]);
        }
        at.map_or(&[], |node| &node.ends)
    }

    /// Goes to all patterns that a path fits, until told to stop.
    ///
    /// Costs the segments of the path, times the patterns that begin as it does.
    pub fn fitting<T>(&self, path: &[String], visit: &mut impl FnMut(usize) -> Option<T>) -> Option<T> {
        self.walk(0, path, visit)
    }

    /// Goes to all patterns that some path fits together with this one, until told to stop.
    pub fn meeting<T>(&self, pattern: &[Segment], visit: &mut impl FnMut(usize) -> Option<T>) -> Option<T> {
        self.walk(0, pattern, visit)
    }

    fn walk<T>(
        &self,
        node: usize,
        left: &[impl Asked],
        visit: &mut impl FnMut(usize) -> Option<T>,
    ) -> Option<T> {
        let node = self.nodes.get(node)?;
        let Some((first, rest)) = left.split_first() else {
            return node.ends.iter().find_map(|number| visit(*number));
        };
        if let Some(text) = first.literal() {
            if let Some(next) = node.literals.get(text)
                && let Some(found) = self.walk(*next, rest, visit)
            {
                return Some(found);
            }
        } else {
            let mut taken = node.literals.iter().filter(|(text, _)| first.takes(text));
            if let Some(found) = taken.find_map(|(_, next)| self.walk(*next, rest, visit)) {
                return Some(found);
            }
        }
        let mut met = node.parameters.iter().filter(|(segment, _)| first.meets(segment));
        met.find_map(|(_, next)| self.walk(*next, rest, visit))
    }
}

/// One segment of what is looked for.
trait Asked {
    /// Its text, if it has but one.
    fn literal(&self) -> Option<&str>;
    /// Whether it may be this text.
    fn takes(&self, text: &str) -> bool;
    /// Whether some text is it, and fits a segment with a parameter.
    fn meets(&self, parameter: &Segment) -> bool;
}

impl Asked for String {
    fn literal(&self) -> Option<&str> {
        Some(self)
    }
    fn takes(&self, text: &str) -> bool {
        self == text
    }
    fn meets(&self, parameter: &Segment) -> bool {
        matches!(parameter, Segment::Parameter(of) if of.value(self).is_some())
    }
}

impl Asked for Segment {
    fn literal(&self) -> Option<&str> {
        match self {
            Segment::Literal(text) => Some(text),
            Segment::Parameter(_) => None,
        }
    }
    fn takes(&self, text: &str) -> bool {
        match self {
            Segment::Literal(own) => own == text,
            Segment::Parameter(of) => of.value(text).is_some(),
        }
    }
    fn meets(&self, parameter: &Segment) -> bool {
        Segment::meets(self, parameter)
    }
}
