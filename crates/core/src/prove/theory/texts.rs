//! Texts that are equal or not, fit patterns or not, and are lower case of each other.

use super::super::formula::{Bit, Formula};
use super::{Text, TextId, Theory, id, patterns};
use crate::decide::fits;
use hashbrown::HashMap;
use std::collections::{BTreeMap, BTreeSet};

impl Theory {
    /// Rules out what lower case cannot be: two of one text that differ, another text than that of
    /// what is known, and capitals in it.
    pub(super) fn lowered(&mut self, formula: &mut Formula, classes: &[u32], lemmas: &mut Vec<Vec<Bit>>) {
        for n in 0..self.lower.len() {
            let (text, lower) = self.lower[n];
            let (own, lowered) = (members(classes, text), members(classes, lower));
            let known = |all: &[TextId]| all.iter().find_map(|at| self.known_text(*at).map(str::to_owned));
            if let Some(capital) = known(&lowered).filter(|known| *known != known.to_lowercase()) {
                let other = self.literal(&capital);
                let is = self.same_text(formula, lower, other);
                lemmas.push(self.same_text.why(formula, &lowered).into_iter().chain([!is]).collect());
                continue;
            }
            if let Some(known) = known(&own) {
                let right = self.literal(&known.to_lowercase());
                let is = self.same_text(formula, lower, right);
                if !formula.is(is) {
                    lemmas.push(self.same_text.why(formula, &own).into_iter().chain([is]).collect());
                }
            }
            for at in n + 1..self.lower.len() {
                let (other, of_other) = self.lower[at];
                if own.contains(&other) {
                    let same = self.same_text(formula, lower, of_other);
                    if !formula.is(same) {
                        lemmas.push(self.same_text.why(formula, &own).into_iter().chain([same]).collect());
                    }
                }
            }
        }
    }

    /// Values for all texts.
    pub(super) fn find_texts(
        &self,
        formula: &Formula,
        classes: &[u32],
        lemmas: &mut Vec<Vec<Bit>>,
    ) -> Option<HashMap<TextId, String>> {
        let mut members: BTreeMap<u32, Vec<TextId>> = BTreeMap::new();
        for (at, class) in classes.iter().enumerate() {
            members.entry(*class).or_default().push(id(at));
        }
        let mut found: HashMap<u32, String> = HashMap::new();
        let mut clear = true;
        let known = |texts: &[TextId]| {
            texts.iter().find_map(|at| self.known_text(*at).map(|text| (*at, text.to_owned())))
        };
        for (class, texts) in &members {
            if let Some((_, text)) = known(texts) {
                found.insert(*class, text);
            }
            // Two texts that are known are not equal.
            if texts.iter().filter(|at| self.known_text(**at).is_some()).count() > 1 {
                lemmas.push(self.same_text.why(formula, texts));
            }
        }
        for (class, texts) in &members {
            let mut reasons: Vec<Bit> = Vec::new();
            let mut patterns = Vec::new();
            for (text, pattern, bit) in &self.patterns {
                if classes[*text as usize] == *class {
                    let value = formula.is(*bit);
                    patterns.push((pattern.as_str(), value));
                    reasons.push(if value { !*bit } else { *bit });
                }
            }
            let why_same = self.same_text.why(formula, texts);
            if let Some((_, text)) = known(texts) {
                let limits = |at: &TextId| match &self.texts[*at as usize] {
                    Text::Unknown(Some(values)) => values.contains(&text),
                    _ => true,
                };
                if !patterns.iter().all(|(pattern, value)| fits(&text, pattern) == *value)
                    || !texts.iter().all(limits)
                {
                    lemmas.push(reasons.into_iter().chain(why_same).collect());
                }
                continue;
            }
            // Known texts that it is not; and other unknown ones that were given a value before.
            let mut not: BTreeSet<&str> = BTreeSet::new();
            let mut not_yet: BTreeSet<&str> = BTreeSet::new();
            for (a, b, bit) in self.same_text.pairs().filter(|(.., bit)| !formula.is(*bit)) {
                let (a_class, b_class) = (classes[a as usize], classes[b as usize]);
                let other = if a_class == *class {
                    b_class
                } else if b_class == *class {
                    a_class
                } else {
                    continue;
                };
                let Some(text) = found.get(&other) else { continue };
                if known(&members[&other]).is_some() {
                    not.insert(text);
                    reasons.push(bit);
                    // That the other's class is that text holds only by its equalities.
                    reasons.extend(self.same_text.why(formula, &members[&other]));
                } else {
                    not_yet.insert(text);
                }
            }
            let limits: Vec<&Vec<String>> = texts
                .iter()
                .filter_map(|at| match &self.texts[*at as usize] {
                    Text::Unknown(Some(values)) => Some(values),
                    _ => None,
                })
                .collect();
            let right = |text: &str| {
                !not.contains(text) && patterns.iter().all(|(pattern, value)| fits(text, pattern) == *value)
            };
            // What is lower case of another is found with that one.
            if self.lower.iter().any(|(_, lower)| classes[*lower as usize] == *class) && limits.is_empty() {
                continue;
            }
            let lowered: Vec<u32> = self
                .lower
                .iter()
                .filter(|(of, _)| classes[*of as usize] == *class)
                .map(|(_, lower)| classes[*lower as usize])
                .collect();
            let text = if let Some((first, rest)) = limits.split_first() {
                let mut possible = first
                    .iter()
                    .filter(|text| rest.iter().all(|all| all.contains(text)))
                    .filter(|text| right(text))
                    .peekable();
                if possible.peek().is_none() {
                    lemmas.push(reasons.into_iter().chain(why_same).collect());
                    continue;
                }
                possible.find(|text| !not_yet.contains(text.as_str())).cloned()
            } else if !lowered.is_empty() {
                let pleases = |text: &str| {
                    let lower = text.to_lowercase();
                    right(text)
                        && !not_yet.contains(text)
                        && lowered.iter().all(|class| self.may_be(formula, classes, *class, &found, &lower))
                };
                let own = match patterns::find(&patterns, &right, &not) {
                    patterns::Found::Text(text) => Some(text),
                    patterns::Found::Unclear => None,
                    patterns::Found::Nothing => {
                        lemmas.push(reasons.into_iter().chain(why_same).collect());
                        continue;
                    }
                };
                let stated = lowered.iter().find_map(|class| found.get(class).cloned());
                let shapes = patterns.iter().map(|(pattern, _)| *pattern);
                let of_lower =
                    self.patterns.iter().filter(|(text, ..)| lowered.contains(&classes[*text as usize]));
                let shapes = shapes.chain(of_lower.map(|(_, pattern, _)| pattern.as_str()));
                cased(stated.into_iter().chain(own), shapes).into_iter().find(|text| pleases(text))
            } else {
                match patterns::find(&patterns, &|text| right(text) && !not_yet.contains(text), &not) {
                    patterns::Found::Text(text) => Some(text),
                    patterns::Found::Nothing => {
                        lemmas.push(reasons.into_iter().chain(why_same).collect());
                        continue;
                    }
                    patterns::Found::Unclear => None,
                }
            };
            match text {
                Some(text) => {
                    found.extend(lowered.iter().map(|class| (*class, text.to_lowercase())));
                    found.insert(*class, text);
                }
                None => clear = false,
            }
        }
        clear.then(|| {
            let of = |(at, class): (usize, &u32)| Some((id(at), found.get(class)?.clone()));
            classes.iter().enumerate().filter_map(of).collect()
        })
    }

    /// Whether a class of texts may have this value beside what was found for others.
    fn may_be(
        &self,
        formula: &Formula,
        classes: &[u32],
        class: u32,
        found: &HashMap<u32, String>,
        value: &str,
    ) -> bool {
        let fits_all = self
            .patterns
            .iter()
            .filter(|(text, ..)| classes[*text as usize] == class)
            .all(|(_, pattern, bit)| fits(value, pattern) == formula.is(*bit));
        let differs = self.same_text.pairs().filter(|(.., bit)| !formula.is(*bit)).all(|(a, b, _)| {
            let (a, b) = (classes[a as usize], classes[b as usize]);
            let other = if a == class { b } else { a };
            (a != class && b != class) || found.get(&other).is_none_or(|other| other != value)
        });
        fits_all && differs && found.get(&class).is_none_or(|known| known == value)
    }
}

/// Texts that may do where their lower case is asked about too: what is known, and what fits the
/// patterns with something in the place of what may be anything; in small letters and in capitals.
fn cased<'t>(known: impl Iterator<Item = String>, patterns: impl Iterator<Item = &'t str>) -> Vec<String> {
    let filled =
        patterns.flat_map(|pattern| ["", "x"].map(|run| pattern.replace('*', run).replace('?', "y")));
    let all: Vec<String> = known.chain(filled).chain(["z".to_owned(), String::new()]).collect();
    let capital = |text: &str| {
        let mut letters = text.chars();
        let first: String = letters.next().map(|c| c.to_uppercase().collect()).unwrap_or_default();
        format!("{first}{}", letters.as_str())
    };
    let cases = |text: &String| [text.clone(), text.to_uppercase(), capital(text), text.to_lowercase()];
    all.iter().flat_map(cases).collect()
}

/// All that are one with one of them.
fn members(classes: &[u32], of: TextId) -> Vec<TextId> {
    let class = classes.get(of as usize);
    (0..classes.len()).filter(|at| classes.get(*at) == class).map(id).collect()
}
