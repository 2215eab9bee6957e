//! A text that is of some patterns and not of others, or the certainty that there is none.
//!
//! All patterns are followed at once, character by character; characters that stand in none of
//! them are alike, so one stands for all. There are finitely many places to be in, so the search
//! ends; it gives up where they are too many.

use std::collections::{BTreeSet, HashMap, VecDeque};

/// Most places looked at.
const MAX_PLACES: usize = 4_000;

/// What was found.
#[derive(Debug, PartialEq)]
pub enum Found {
    /// A text.
    Text(String),
    /// There is none.
    Nothing,
    /// The search was given up.
    Unclear,
}

/// Where one may be in a pattern, as bits.
type Places = Vec<u64>;

/// Finds a text that is of each pattern or not, as it says beside it, and that is `right`; what it
/// must not be for certain is told in `not`.
pub fn find(patterns: &[(&str, bool)], right: &dyn Fn(&str) -> bool, not: &BTreeSet<&str>) -> Found {
    let split: Vec<Vec<char>> = patterns.iter().map(|(pattern, _)| pattern.chars().collect()).collect();
    if split.iter().any(|pattern| pattern.len() >= 63) {
        return Found::Unclear;
    }
    let mut letters: BTreeSet<char> =
        split.iter().flatten().copied().filter(|c| !matches!(c, '*' | '?')).collect();
    letters.extend(not.iter().flat_map(|text| text.chars()));
    let other =
        ('a'..='z').chain('A'..='Z').chain('0'..='9').find(|c| !letters.contains(c)).unwrap_or('\u{2022}');
    letters.insert(other);
    // What it must not be is counted, not followed: so many more texts are asked of each place.
    let enough = not.len() + 4;
    let start: Places = split.iter().map(|pattern| rest(pattern, 1)).collect();
    let mut seen: HashMap<Places, usize> = HashMap::from([(start.clone(), 1)]);
    let mut waiting = VecDeque::from([(start, String::new())]);
    let mut accepted = 0;
    while let Some((places, text)) = waiting.pop_front() {
        let fits = patterns
            .iter()
            .zip(&split)
            .zip(&places)
            .all(|(((_, value), pattern), at)| (at >> pattern.len() & 1 == 1) == *value);
        if fits {
            accepted += 1;
            if right(&text) {
                return Found::Text(text);
            }
        }
        if seen.len() > MAX_PLACES || text.chars().count() > 200 {
            return Found::Unclear;
        }
        for letter in [other].iter().chain(letters.iter().filter(|letter| **letter != other)) {
            let next: Places =
                split.iter().zip(&places).map(|(pattern, at)| step(pattern, *at, *letter)).collect();
            let times = seen.entry(next.clone()).or_insert(0);
            if *times < enough {
                *times += 1;
                waiting.push_back((next, format!("{text}{letter}")));
            }
        }
    }
    // Each place was left at least as often as there are texts to avoid: what was not found there
    // is not there, unless all that was found was refused for another reason.
    if accepted == 0 { Found::Nothing } else { Found::Unclear }
}

/// The places one is in without reading on: a star may stand for nothing.
fn rest(pattern: &[char], mut at: u64) -> u64 {
    for (n, letter) in pattern.iter().enumerate() {
        if at >> n & 1 == 1 && *letter == '*' {
            at |= 1 << (n + 1);
        }
    }
    at
}

fn step(pattern: &[char], at: u64, letter: char) -> u64 {
    let mut next = 0;
    for (n, expected) in pattern.iter().enumerate().filter(|(n, _)| at >> n & 1 == 1) {
        match expected {
            '*' => next |= 1 << n,
            '?' => next |= 1 << (n + 1),
            expected if *expected == letter => next |= 1 << (n + 1),
            _ => {}
        }
    }
    rest(pattern, next)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::decide::fits;
    use rstest::rstest;

    #[rstest]
    #[case(&[("NL-*", true), ("*-7", true), ("NL-7", false)], true)]
    #[case(&[("NL-*", true), ("NL*", false)], false)]
    #[case(&[("??", true), ("?*", false)], false)]
    #[case(&[("*a*", true), ("*b*", true), ("???*", false)], true)]
    #[case(&[("*", false)], false)]
    #[case(&[("", false), ("?", false), ("*a*", false)], true)]
    fn finds_a_text_or_knows_that_there_is_none(#[case] patterns: &[(&str, bool)], #[case] is_there: bool) {
        let right = |text: &str| patterns.iter().all(|(pattern, value)| fits(text, pattern) == *value);
        match find(patterns, &right, &BTreeSet::new()) {
            Found::Text(text) => assert!(is_there && right(&text), "{text:?}"),
            found => assert_eq!((found, is_there), (Found::Nothing, false)),
        }
    }
}
