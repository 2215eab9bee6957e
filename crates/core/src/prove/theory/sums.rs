//! Values for numbers of which some are sums of others, or the certainty that there are none.
//!
//! Sums are written out into the numbers they are made of; then one number after the other is
//! eliminated: what is at most something and at least something else makes the one at least the
//! other. What is left when none is left is true or false. Each inequality knows which bits it came
//! from, so a contradiction names its reasons; and the way back gives each number a value.

use super::super::formula::Bit;
use std::collections::BTreeMap;

/// Most inequalities at a time, before the search is given up.
const MAX_ROWS: usize = 3_000;

/// A number that is the sum or the difference of two others, and something constant.
#[derive(Clone, Copy, Debug)]
pub struct Sum {
    /// Which unknown it is.
    pub is: u32,
    pub left: u32,
    pub right: u32,
    /// It is their difference.
    pub minus: bool,
    pub add: i128,
}

/// `Σ times · unknown ≤ limit`, or `<`.
#[derive(Clone, Debug, PartialEq)]
pub struct Row {
    pub times: BTreeMap<u32, i128>,
    pub limit: i128,
    pub below: bool,
    /// What makes it so.
    pub because: Vec<Bit>,
}

/// What was found.
pub enum Found {
    /// A value for each unknown that stands in a row.
    Values(BTreeMap<u32, i128>),
    /// It cannot be, for these reasons.
    Nothing(Vec<Bit>),
    /// The search was given up.
    Unclear,
}

impl Row {
    /// The same, with sums written out; those made last first, as they may be made of others.
    fn written_out(mut self, sums: &[Sum]) -> Option<Row> {
        for sum in sums.iter().rev() {
            let Some(times) = self.times.remove(&sum.is) else { continue };
            for (part, sign) in [(sum.left, 1), (sum.right, if sum.minus { -1 } else { 1 })] {
                if part != 0 {
                    let all = self.times.entry(part).or_insert(0);
                    *all = all.checked_add(times.checked_mul(sign)?)?;
                }
            }
            self.limit = self.limit.checked_sub(times.checked_mul(sum.add)?)?;
        }
        self.times.retain(|_, times| *times != 0);
        Some(self)
    }

    /// Whether it is false, with nothing unknown in it.
    fn is_false(&self) -> bool {
        self.times.is_empty() && if self.below { self.limit <= 0 } else { self.limit < 0 }
    }

    /// This one and another, each so often that the unknown disappears.
    fn without(&self, unknown: u32, other: &Row) -> Option<Row> {
        let (a, b) = (self.times[&unknown].unsigned_abs(), other.times[&unknown].unsigned_abs());
        let (own, others) = (i128::try_from(b).ok()?, i128::try_from(a).ok()?);
        let mut times: BTreeMap<u32, i128> = BTreeMap::new();
        for (row, by) in [(self, own), (other, others)] {
            for (at, value) in &row.times {
                let sum = times.entry(*at).or_insert(0);
                *sum = sum.checked_add(value.checked_mul(by)?)?;
            }
        }
        times.retain(|_, times| *times != 0);
        let limit = self.limit.checked_mul(own)?.checked_add(other.limit.checked_mul(others)?)?;
        let mut because = self.because.clone();
        because.extend(other.because.iter().filter(|bit| !self.because.contains(bit)));
        Some(Row { times, limit, below: self.below || other.below, because })
    }
}

/// Of rows over the same numbers only the narrowest is kept.
fn keep(rows: &mut BTreeMap<Vec<(u32, i128)>, Row>, row: Row) {
    let key: Vec<(u32, i128)> = row.times.iter().map(|(at, times)| (*at, *times)).collect();
    let narrower = |known: &Row| (row.limit, !row.below) < (known.limit, !known.below);
    if rows.get(&key).is_none_or(narrower) {
        rows.insert(key, row);
    }
}

/// Finds values under which all rows hold. `step` says how far apart an unknown's values are, 0
/// for as near as they are kept.
pub fn find(rows: Vec<Row>, sums: &[Sum], step: &dyn Fn(u32) -> i128) -> Found {
    let mut open: BTreeMap<Vec<(u32, i128)>, Row> = BTreeMap::new();
    for row in rows {
        match row.written_out(sums) {
            Some(row) if row.is_false() => return Found::Nothing(row.because),
            Some(row) => keep(&mut open, row),
            None => return Found::Unclear,
        }
    }
    let mut eliminated: Vec<(u32, Vec<Row>)> = Vec::new();
    loop {
        // The one that makes the fewest new rows goes first.
        let mut sides: BTreeMap<u32, (usize, usize)> = BTreeMap::new();
        for (at, times) in open.values().flat_map(|row| &row.times) {
            let (most, least) = sides.entry(*at).or_default();
            if *times > 0 { *most += 1 } else { *least += 1 }
        }
        let Some((unknown, _)) = sides.iter().min_by_key(|(_, (most, least))| most * least) else { break };
        let unknown = *unknown;
        let (about, rest): (Vec<Row>, Vec<Row>) =
            std::mem::take(&mut open).into_values().partition(|row| row.times.contains_key(&unknown));
        for row in rest {
            keep(&mut open, row);
        }
        let (most, least): (Vec<&Row>, Vec<&Row>) = about.iter().partition(|row| row.times[&unknown] > 0);
        for (a, b) in most.iter().flat_map(|a| least.iter().map(move |b| (a, b))) {
            match a.without(unknown, b) {
                Some(row) if row.is_false() => return Found::Nothing(row.because),
                Some(row) => keep(&mut open, row),
                None => return Found::Unclear,
            }
        }
        if open.len() > MAX_ROWS {
            return Found::Unclear;
        }
        eliminated.push((unknown, about));
    }
    let mut values: BTreeMap<u32, i128> = BTreeMap::new();
    for (unknown, about) in eliminated.iter().rev() {
        match between(*unknown, about, &values, step(*unknown).max(1)) {
            Some(value) => values.insert(*unknown, value),
            None => return Found::Unclear,
        };
    }
    for sum in sums {
        let part = |at: u32| values.get(&at).copied().unwrap_or(0);
        let right = if sum.minus { -part(sum.right) } else { part(sum.right) };
        let value = part(sum.left).checked_add(right).and_then(|both| both.checked_add(sum.add));
        match value {
            Some(value) => values.insert(sum.is, value),
            None => return Found::Unclear,
        };
    }
    Found::Values(values)
}

/// The value nearest to nothing, a whole number of steps, that the rows leave for an unknown.
fn between(unknown: u32, rows: &[Row], values: &BTreeMap<u32, i128>, step: i128) -> Option<i128> {
    let (mut least, mut most) = (i128::MIN, i128::MAX);
    for row in rows {
        let mut limit = row.limit;
        for (at, times) in row.times.iter().filter(|(at, _)| **at != unknown) {
            limit = limit.checked_sub(times.checked_mul(values.get(at).copied().unwrap_or(0))?)?;
        }
        let times = row.times[&unknown];
        // In the least steps that numbers are kept in, `<` is `≤` one step lower.
        let limit = if row.below { limit.checked_sub(1)? } else { limit };
        if times > 0 {
            most = most.min(limit.div_euclid(times));
        } else {
            least = least.max(-limit.div_euclid(-times));
        }
    }
    let up = |value: i128| value.checked_neg().map(|down| -(down.div_euclid(step) * step));
    let nearest = if least > 0 {
        up(least)?
    } else if most < 0 {
        most.div_euclid(step) * step
    } else {
        0
    };
    (least <= nearest && nearest <= most).then_some(nearest)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::prove::formula::Formula;
    use rstest::rstest;

    /// `Σ times · unknown ≤ limit`.
    fn row(bit: Bit, times: &[(u32, i128)], limit: i128) -> Row {
        Row { times: times.iter().copied().collect(), limit, below: false, because: vec![bit] }
    }

    const SUM: Sum = Sum { is: 3, left: 1, right: 2, minus: false, add: 0 };

    #[rstest]
    #[case::fits(vec![(vec![(3, -1)], -10), (vec![(1, 1)], 4)], true)]
    #[case::too_much(vec![(vec![(3, 1)], 9), (vec![(1, -1)], -5), (vec![(2, -1)], -5)], false)]
    #[case::just_so(vec![(vec![(3, 1)], 10), (vec![(1, -1)], -5), (vec![(2, -1)], -5)], true)]
    #[case::against_each_other(vec![(vec![(3, 1), (1, -1)], 3), (vec![(2, -1)], -4)], false)]
    #[case::a_sum_less_than_its_part(vec![(vec![(3, 1), (1, -1)], -1), (vec![(1, -1)], -1)], true)]
    fn finds_values_or_says_why_not(#[case] told: Vec<(Vec<(u32, i128)>, i128)>, #[case] is_there: bool) {
        let mut formula = Formula::default();
        let rows: Vec<Row> = told.iter().map(|(times, limit)| row(formula.free(), times, *limit)).collect();
        match find(rows.clone(), &[SUM], &|_| 1) {
            Found::Values(values) => {
                assert!(is_there, "{values:?}");
                let value = |at: &u32| values.get(at).copied().unwrap_or(0);
                assert_eq!(value(&3), value(&1) + value(&2));
                for row in &rows {
                    let sum: i128 = row.times.iter().map(|(at, times)| times * value(at)).sum();
                    assert!(sum <= row.limit, "{row:?} {values:?}");
                }
            }
            Found::Nothing(because) => {
                assert!(!is_there);
                assert!(because.iter().all(|bit| rows.iter().any(|row| row.because[0] == *bit)));
            }
            Found::Unclear => panic!("given up"),
        }
    }
}
