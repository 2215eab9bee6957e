//! What the values of attributes can be: numbers with an order, texts with patterns, addresses in
//! networks, and what is equal to what.
//!
//! Each fact about values is one bit of the formula. The solver may set those bits as no values
//! could be; [`Theory::check`] looks at what it found and either gives values that fit, or clauses
//! that rule the impossible combination out. A clause is made only of what cannot be, so nothing
//! that can be is ever lost; where no values are found and none are ruled out, it says so.

mod equal;
mod patterns;
mod sums;
mod texts;

pub use equal::Equal;

use super::formula::{Bit, Formula};
use crate::decide::fits;
use hashbrown::HashMap;
use ipnet::IpNet;
use std::collections::BTreeMap;
use sums::{Row, Sum};

/// One whole, in the unit numbers are kept in.
pub const UNIT: i128 = 1_000_000_000;

/// A number: an unknown plus a constant. The unknown 0 is nothing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Number {
    /// Which unknown.
    pub unknown: u32,
    /// What is added, in billionths; for times and durations in nanoseconds.
    pub add: i128,
    /// The least step between two values: [`UNIT`] for integers, 1 for times; 0 if there is none.
    pub step: i128,
}

/// A text, by its place.
pub type TextId = u32;
/// An address, by its place.
pub type AddressId = u32;

#[derive(Clone, Debug)]
enum Text {
    Is(String),
    /// One of these, or anything.
    Unknown(Option<Vec<String>>),
}

/// `x - y ≤ limit`, or `<`, with `x` before `y`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
struct Bound {
    x: u32,
    y: u32,
    limit: i128,
    below: bool,
}

/// A limit, and how often "less than" stands in it, as less than nothing.
type Weight = (i128, i64);

/// All terms and the bits about them.
#[derive(Debug, Default)]
pub struct Theory {
    unknowns: u32,
    /// How far apart the values of each unknown are; the first is nothing.
    steps: Vec<i128>,
    sums: Vec<Sum>,
    bounds: BTreeMap<Bound, (Bit, i128)>,
    texts: Vec<Text>,
    /// Texts and what they are in lower case.
    lower: Vec<(TextId, TextId)>,
    same_text: Equal,
    /// Patterns that texts fit or do not.
    patterns: Vec<(TextId, String, Bit)>,
    addresses: Vec<Option<IpNet>>,
    same_address: Equal,
    networks: Vec<(AddressId, IpNet, Bit)>,
}

/// Values that fit what the solver found.
#[derive(Clone, Debug, Default)]
pub struct Values {
    numbers: Vec<i128>,
    texts: HashMap<TextId, String>,
    addresses: HashMap<AddressId, IpNet>,
}

impl Values {
    /// What a number came to.
    pub fn number(&self, number: Number) -> i128 {
        self.numbers.get(number.unknown as usize).copied().unwrap_or(0) + number.add
    }
    /// What a text came to.
    pub fn text(&self, id: TextId) -> Option<&str> {
        self.texts.get(&id).map(String::as_str)
    }
    /// What an address came to.
    pub fn address(&self, id: AddressId) -> Option<IpNet> {
        self.addresses.get(&id).copied()
    }
}

/// What a look at the solver's findings came to.
#[derive(Debug)]
pub enum Checked {
    /// Values that fit.
    Fits(Values),
    /// It cannot be; clauses that say so were added.
    Refuted,
    /// Neither was found.
    Unclear,
}

impl Theory {
    /// A new number.
    pub fn number(&mut self, step: i128) -> Number {
        self.unknowns += 1;
        self.steps.resize(self.unknowns as usize + 1, step);
        Number { unknown: self.unknowns, add: 0, step }
    }

    /// The sum of two numbers, or their difference; nothing where it is too large to be told.
    pub fn sum(&mut self, a: Number, b: Number, minus: bool) -> Option<Number> {
        let step = a.step.min(b.step);
        let add = if minus { a.add.checked_sub(b.add)? } else { a.add.checked_add(b.add)? };
        if b.unknown == 0 {
            return Some(Number { unknown: a.unknown, add, step });
        }
        if a.unknown == 0 && !minus {
            return Some(Number { unknown: b.unknown, add, step });
        }
        if a.unknown == b.unknown && minus {
            return Some(Theory::constant(add, step));
        }
        let (left, right) = (a.unknown, b.unknown);
        let known = |sum: &&Sum| (sum.left, sum.right, sum.minus) == (left, right, minus);
        let is = match self.sums.iter().find(known) {
            Some(sum) => sum.is,
            None => {
                let is = self.number(step).unknown;
                self.sums.push(Sum { is, left, right, minus, add: 0 });
                is
            }
        };
        Some(Number { unknown: is, add, step })
    }

    /// A number that is known.
    pub fn constant(add: i128, step: i128) -> Number {
        Number { unknown: 0, add, step }
    }

    /// `a < b` if `below`, else `a ≤ b`.
    pub fn order(&mut self, formula: &mut Formula, a: Number, b: Number, below: bool) -> Bit {
        // Further apart than can be told: it may be either.
        let Some(limit) = b.add.checked_sub(a.add) else { return formula.free() };
        if a.unknown == b.unknown {
            return formula.constant(if below { 0 < limit } else { 0 <= limit });
        }
        let step = a.step.min(b.step);
        if a.unknown < b.unknown {
            self.bound(formula, Bound { x: a.unknown, y: b.unknown, limit, below }, step)
        } else {
            // x - y ≤ c is the same as not (y - x < -c).
            let other = Bound { x: b.unknown, y: a.unknown, limit: -limit, below: !below };
            !self.bound(formula, other, step)
        }
    }

    fn bound(&mut self, formula: &mut Formula, mut bound: Bound, step: i128) -> Bit {
        if step > 0 {
            // Between values a step apart, `<` is `≤` one step lower.
            if bound.below {
                bound = Bound { limit: (bound.limit - 1).div_euclid(step) * step, below: false, ..bound };
            } else {
                bound.limit = bound.limit.div_euclid(step) * step;
            }
        }
        if let Some((known, _)) = self.bounds.get(&bound) {
            return *known;
        }
        let bit = formula.free();
        let all = Bound { limit: i128::MIN, below: false, ..bound }..Bound {
            limit: i128::MAX,
            below: true,
            ..bound
        };
        for (other, (known, _)) in self.bounds.range(all) {
            let lower = (other.limit, !other.below) < (bound.limit, !bound.below);
            if lower { formula.implies(*known, bit) } else { formula.implies(bit, *known) }
        }
        self.bounds.insert(bound, (bit, step));
        bit
    }

    /// Whether two numbers are equal.
    pub fn same_number(&mut self, formula: &mut Formula, a: Number, b: Number) -> Bit {
        let (at_most, at_least) = (self.order(formula, a, b, false), self.order(formula, b, a, false));
        formula.and(at_most, at_least)
    }

    /// A text that is known.
    pub fn literal(&mut self, text: &str) -> TextId {
        let known = self.texts.iter().position(|known| matches!(known, Text::Is(known) if known == text));
        known.map_or_else(|| self.add_text(Text::Is(text.to_owned())), id)
    }

    /// A text that is not known, but perhaps one of a few.
    pub fn text(&mut self, values: Option<Vec<String>>) -> TextId {
        self.add_text(Text::Unknown(values))
    }

    fn add_text(&mut self, text: Text) -> TextId {
        self.texts.push(text);
        id(self.texts.len() - 1)
    }

    /// The text, if it is known.
    pub fn known_text(&self, id: TextId) -> Option<&str> {
        match &self.texts[id as usize] {
            Text::Is(text) => Some(text),
            Text::Unknown(_) => None,
        }
    }

    /// A text in lower case.
    pub fn lower(&mut self, formula: &mut Formula, text: TextId) -> TextId {
        if let Some(known) = self.known_text(text).map(str::to_lowercase) {
            return self.literal(&known);
        }
        if let Some((_, lower)) = self.lower.iter().find(|(of, _)| *of == text) {
            return *lower;
        }
        let values = match &self.texts[text as usize] {
            Text::Unknown(values) => values.clone(),
            Text::Is(_) => None,
        };
        let lower = self.text(values.as_ref().map(|all| all.iter().map(|one| one.to_lowercase()).collect()));
        self.lower.push((text, lower));
        // Of one of a few it is one of a few.
        let mut one_of = Vec::new();
        for value in values.iter().flatten() {
            let (own, lowered) = (self.literal(value), self.literal(&value.to_lowercase()));
            let (is, so) = (self.same_text(formula, text, own), self.same_text(formula, lower, lowered));
            formula.implies(is, so);
            one_of.push(is);
        }
        if values.is_some() {
            formula.clause(&one_of);
        }
        lower
    }

    /// Whether two texts are equal.
    pub fn same_text(&mut self, formula: &mut Formula, a: TextId, b: TextId) -> Bit {
        if let (Some(a), Some(b)) = (self.known_text(a), self.known_text(b)) {
            return formula.constant(a == b);
        }
        self.same_text.bit(formula, a, b)
    }

    /// Whether a text is of a pattern: `*` any run, `?` one character.
    pub fn fits(&mut self, formula: &mut Formula, text: TextId, pattern: &str) -> Bit {
        if let Some(known) = self.known_text(text) {
            return formula.constant(fits(known, pattern));
        }
        if let Some((.., bit)) = self.patterns.iter().find(|(at, known, _)| *at == text && known == pattern) {
            return *bit;
        }
        let bit = formula.free();
        self.patterns.push((text, pattern.to_owned(), bit));
        bit
    }

    /// An address, if it is known; else any.
    pub fn address(&mut self, known: Option<IpNet>) -> AddressId {
        self.addresses.push(known);
        id(self.addresses.len() - 1)
    }

    /// Whether two addresses are equal.
    pub fn same_address(&mut self, formula: &mut Formula, a: AddressId, b: AddressId) -> Bit {
        if let (Some(a), Some(b)) = (self.addresses[a as usize], self.addresses[b as usize]) {
            return formula.constant(a == b);
        }
        self.same_address.bit(formula, a, b)
    }

    /// Whether an address lies in another; unbound where neither is known.
    pub fn in_network(&mut self, formula: &mut Formula, address: AddressId, network: AddressId) -> Bit {
        match (self.addresses[address as usize], self.addresses[network as usize]) {
            (Some(address), Some(network)) => formula.constant(network.contains(&address)),
            (None, Some(network)) => {
                let known = self.networks.iter().find(|(at, known, _)| *at == address && *known == network);
                if let Some((.., bit)) = known {
                    return *bit;
                }
                let bit = formula.free();
                self.networks.push((address, network, bit));
                bit
            }
            _ => formula.free(),
        }
    }

    /// Looks at what the solver found.
    pub fn check(&mut self, formula: &mut Formula) -> Checked {
        let mut lemmas = Vec::new();
        let numbers = self.numbers(formula, &mut lemmas);
        let text_classes = self.same_text.classes(formula, self.texts.len(), &mut lemmas);
        let address_classes = self.same_address.classes(formula, self.addresses.len(), &mut lemmas);
        self.lowered(formula, &text_classes, &mut lemmas);
        if lemmas.is_empty() {
            let texts = self.find_texts(formula, &text_classes, &mut lemmas);
            let addresses = self.find_addresses(formula, &address_classes, &mut lemmas);
            if lemmas.is_empty() {
                return match (numbers, texts, addresses) {
                    (Some(numbers), Some(texts), Some(addresses)) => {
                        Checked::Fits(Values { numbers, texts, addresses })
                    }
                    _ => Checked::Unclear,
                };
            }
        }
        for lemma in lemmas {
            formula.clause(&lemma);
        }
        Checked::Refuted
    }

    /// Values for all unknown numbers; what is a sum of others is that.
    fn numbers(&self, formula: &Formula, lemmas: &mut Vec<Vec<Bit>>) -> Option<Vec<i128>> {
        let edges = self.differences(formula);
        let found = self.by_differences(&edges, lemmas)?;
        let value = |at: u32| found.get(at as usize).copied().unwrap_or(0);
        let is_sum = |sum: &Sum| {
            let right = if sum.minus { -value(sum.right) } else { value(sum.right) };
            value(sum.is) == value(sum.left) + right + sum.add
        };
        if self.sums.iter().all(is_sum) {
            return Some(found);
        }
        let rows = edges.iter().map(|(from, to, (limit, below), bit)| {
            let times = [(*to as u32, 1), (*from as u32, -1)].into_iter().filter(|(at, _)| *at != 0);
            Row { times: times.collect(), limit: *limit, below: *below < 0, because: vec![!*bit] }
        });
        match sums::find(rows.collect(), &self.sums, &|at| self.steps.get(at as usize).copied().unwrap_or(0))
        {
            sums::Found::Values(values) => {
                Some((0..=self.unknowns).map(|at| values.get(&at).copied().unwrap_or(0)).collect())
            }
            sums::Found::Nothing(because) => {
                lemmas.push(because);
                None
            }
            sums::Found::Unclear => None,
        }
    }

    /// What the solver says of two numbers: the second is at most the first and so much more.
    fn differences(&self, formula: &Formula) -> Vec<(usize, usize, Weight, Bit)> {
        let mut edges: Vec<(usize, usize, Weight, Bit)> = Vec::new();
        for (bound, (bit, step)) in &self.bounds {
            let (x, y) = (bound.x as usize, bound.y as usize);
            if formula.is(*bit) {
                edges.push((y, x, (bound.limit, -i64::from(bound.below)), *bit));
            } else if *step > 0 {
                edges.push((x, y, (-bound.limit - step, 0), !*bit));
            } else {
                edges.push((x, y, (-bound.limit, -i64::from(!bound.below)), !*bit));
            }
        }
        edges
    }

    /// By shortest ways; a circle that falls is a contradiction.
    fn by_differences(
        &self,
        edges: &[(usize, usize, Weight, Bit)],
        lemmas: &mut Vec<Vec<Bit>>,
    ) -> Option<Vec<i128>> {
        let count = self.unknowns as usize + 1;
        let mut least: Vec<Weight> = vec![(0, 0); count];
        let mut by: Vec<Option<usize>> = vec![None; count];
        let mut fell = None;
        for _ in 0..=count {
            fell = None;
            for (at, (from, to, weight, _)) in edges.iter().enumerate() {
                let sum = least[*from].0.checked_add(weight.0)?;
                let sum = (sum, least[*from].1 + weight.1);
                if sum < least[*to] {
                    least[*to] = sum;
                    by[*to] = Some(at);
                    fell = Some(*to);
                }
            }
            if fell.is_none() {
                break;
            }
        }
        let Some(mut at) = fell else {
            // One billionth, or nanosecond, for each "less than" on the way.
            let value = |(sum, below): Weight| sum + i128::from(below);
            return Some(least.iter().map(|found| value(*found) - value(least[0])).collect());
        };
        for _ in 0..count {
            at = edges[by[at]?].0;
        }
        let (start, mut clause) = (at, Vec::new());
        loop {
            let (from, _, _, bit) = edges[by[at]?];
            clause.push(!bit);
            at = from;
            if at == start {
                break;
            }
        }
        lemmas.push(clause);
        None
    }

    fn find_addresses(
        &self,
        formula: &Formula,
        classes: &[u32],
        lemmas: &mut Vec<Vec<Bit>>,
    ) -> Option<HashMap<AddressId, IpNet>> {
        let mut members: BTreeMap<u32, Vec<AddressId>> = BTreeMap::new();
        for (at, class) in classes.iter().enumerate() {
            members.entry(*class).or_default().push(id(at));
        }
        let mut found: HashMap<u32, IpNet> = HashMap::new();
        let mut clear = true;
        for (class, all) in &members {
            let about: Vec<&(AddressId, IpNet, Bit)> =
                self.networks.iter().filter(|(at, ..)| classes[*at as usize] == *class).collect();
            let right = |address: &IpNet| {
                about.iter().all(|(_, network, bit)| network.contains(address) == formula.is(*bit))
            };
            let impossible = || {
                let bits = about.iter().map(|(.., bit)| if formula.is(*bit) { !*bit } else { *bit });
                bits.chain(self.same_address.why(formula, all)).collect::<Vec<Bit>>()
            };
            let mut stated = all.iter().filter_map(|at| self.addresses[*at as usize]);
            if let Some(known) = stated.next() {
                if !right(&known) || stated.any(|other| other != known) {
                    lemmas.push(impossible());
                }
                found.insert(*class, known);
                continue;
            }
            // The region is the smallest network it is in, less those it is not in. One address of
            // it is its first, or the one after a network left out; else a whole network may be.
            let inside = about.iter().filter(|(.., bit)| formula.is(*bit)).map(|(_, network, _)| *network);
            let smallest = inside.max_by_key(IpNet::prefix_len);
            let any = ["0.0.0.0/0", "::/0"].map(|text| text.parse::<IpNet>().ok());
            let starts: Vec<IpNet> =
                smallest.map_or_else(|| any.into_iter().flatten().collect(), |one| vec![one]);
            let after = about.iter().filter_map(|(_, network, _)| next_address(network));
            let singles = starts.iter().map(|net| IpNet::from(net.network())).chain(after);
            let tried: Vec<IpNet> = singles.chain(starts.iter().copied()).filter(right).collect();
            let taken = |address: &IpNet| {
                self.same_address.pairs().filter(|(.., bit)| !formula.is(*bit)).any(|(a, b, _)| {
                    let (a, b) = (classes[a as usize], classes[b as usize]);
                    let other = if a == *class { b } else { a };
                    (a == *class || b == *class) && found.get(&other) == Some(address)
                })
            };
            match tried.iter().find(|address| !taken(address)) {
                Some(address) => drop(found.insert(*class, *address)),
                None if tried.is_empty() => lemmas.push(impossible()),
                None => clear = false,
            }
        }
        clear.then(|| {
            let of = |(at, class): (usize, &u32)| Some((id(at), *found.get(class)?));
            classes.iter().enumerate().filter_map(of).collect()
        })
    }
}

fn next_address(network: &IpNet) -> Option<IpNet> {
    use std::net::IpAddr;
    Some(IpNet::from(match network.broadcast() {
        IpAddr::V4(last) => IpAddr::V4(u32::from(last).checked_add(1)?.into()),
        IpAddr::V6(last) => IpAddr::V6(u128::from(last).checked_add(1)?.into()),
    }))
}

fn id(at: usize) -> u32 {
    u32::try_from(at).unwrap_or(u32::MAX)
}
