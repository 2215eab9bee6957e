//! What is equal to what: a bit a pair, and what follows from several of them.

use super::super::formula::{Bit, Formula};
use std::collections::{BTreeMap, VecDeque};

/// Equalities between things of one sort, each known by a number.
#[derive(Debug, Default)]
pub struct Equal {
    bits: BTreeMap<(u32, u32), Bit>,
}

impl Equal {
    /// The bit that says whether two are equal.
    pub fn bit(&mut self, formula: &mut Formula, a: u32, b: u32) -> Bit {
        if a == b {
            return formula.yes();
        }
        *self.bits.entry((a.min(b), a.max(b))).or_insert_with(|| formula.free())
    }

    /// The bit of a pair, if somebody asked for it.
    pub fn asked(&self, a: u32, b: u32) -> Option<Bit> {
        self.bits.get(&(a.min(b), a.max(b))).copied()
    }

    /// All pairs that were asked for.
    pub fn pairs(&self) -> impl Iterator<Item = (u32, u32, Bit)> {
        self.bits.iter().map(|((a, b), bit)| (*a, *b, *bit))
    }

    /// For each of `count`, the least that it is equal to. Adds a clause for every pair that is said
    /// to differ and is equal by others.
    pub fn classes(&self, formula: &Formula, count: usize, lemmas: &mut Vec<Vec<Bit>>) -> Vec<u32> {
        let mut class: Vec<u32> = (0..count).map(super::id).collect();
        fn least(class: &mut [u32], mut at: u32) -> u32 {
            while class[at as usize] != at {
                class[at as usize] = class[class[at as usize] as usize];
                at = class[at as usize];
            }
            at
        }
        for (a, b, bit) in self.pairs() {
            if formula.is(bit) {
                let (a, b) = (least(&mut class, a), least(&mut class, b));
                class[a.max(b) as usize] = a.min(b);
            }
        }
        for at in 0..count {
            class[at] = least(&mut class, super::id(at));
        }
        for (a, b, bit) in self.pairs() {
            if !formula.is(bit) && class[a as usize] == class[b as usize] {
                let way = self.way(formula, a, b).into_iter().map(|bit| !bit);
                lemmas.push(way.chain([bit]).collect());
            }
        }
        class
    }

    /// The equalities that lead from one to the other.
    fn way(&self, formula: &Formula, from: u32, to: u32) -> Vec<Bit> {
        let mut came: BTreeMap<u32, (u32, Bit)> = BTreeMap::new();
        let mut waiting = VecDeque::from([from]);
        while let Some(at) = waiting.pop_front() {
            if at == to {
                break;
            }
            for (a, b, bit) in self.pairs().filter(|(.., bit)| formula.is(*bit)) {
                let next = if a == at {
                    b
                } else if b == at {
                    a
                } else {
                    continue;
                };
                if next != from && !came.contains_key(&next) {
                    came.insert(next, (at, bit));
                    waiting.push_back(next);
                }
            }
        }
        let mut way = Vec::new();
        let mut at = to;
        while let Some((before, bit)) = came.get(&at) {
            way.push(*bit);
            at = *before;
        }
        way
    }

    /// The equalities, denied, that hold these together.
    pub fn why(&self, formula: &Formula, members: &[u32]) -> Vec<Bit> {
        let all =
            self.pairs().filter(|(a, b, bit)| formula.is(*bit) && members.contains(a) && members.contains(b));
        all.map(|(.., bit)| !bit).collect()
    }
}
