//! What weakens the checks: cases, samples and guarantees that were taken out or changed, and what is assumed.

use super::guarantee::Written;
use super::{Case, Guarantee, Rehearsal, Sample};
use crate::source::At;
use std::collections::BTreeMap;

/// Something by which later mistakes could pass that would have been found before.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Weaker {
    /// `case`, `sample` or `guarantee`.
    pub what: &'static str,
    /// Its sentence, or its name.
    pub name: String,
    /// What became of it.
    pub words: String,
    /// What stands there now, so that another change of it is another thing.
    pub mark: String,
}

/// What of a rehearsal is not in another as it was. That a change is no weakening is not looked for: whoever
/// approves looks at it.
pub fn weaker(before: &Rehearsal, after: &Rehearsal) -> Vec<Weaker> {
    let mut found = Vec::new();
    let cases =
        |of: &Rehearsal| of.cases.iter().map(|case| (case.name.clone(), said_of_case(case))).collect();
    let samples =
        |of: &Rehearsal| of.samples.iter().map(|one| (one.line.name.clone(), said_of_sample(one))).collect();
    let claims = |of: &Rehearsal| {
        let said = |one: &Guarantee| format!("{} {:?}", one.claim(), one.when.as_ref().map(text));
        of.guarantees.iter().map(|one| (one.name.clone(), said(one))).collect()
    };
    gone(&mut found, "case", &cases(before), &cases(after));
    gone(&mut found, "sample", &samples(before), &samples(after));
    gone(&mut found, "guarantee", &claims(before), &claims(after));
    let assumed = |of: &Rehearsal| -> BTreeMap<String, String> {
        let assume = |one: &Guarantee| Some((one.name.clone(), text(one.assume.as_ref()?).to_owned()));
        of.guarantees.iter().filter_map(assume).collect()
    };
    // What was not claimed before is not weakened by what it takes for granted.
    let claimed = |name: &str| before.guarantees.iter().any(|one| one.name == name);
    let known = assumed(before);
    for (name, assume) in assumed(after) {
        if claimed(&name) && known.get(&name) != Some(&assume) {
            let words = format!("assumes {assume}");
            found.push(Weaker { what: "guarantee", name, words, mark: assume });
        }
    }
    if !before.cases.is_empty() && (before.now != after.now || before.over != after.over) {
        let mark = format!("{:?} {}", after.now, after.over);
        let words = "asked at another moment, or over other facts".to_owned();
        found.push(Weaker { what: "case", name: "all of them".to_owned(), words, mark });
    }
    found
}

/// Several cases may have one name: all of them are held against all.
type Said = Vec<(String, String)>;

fn gone(found: &mut Vec<Weaker>, what: &'static str, before: &Said, after: &Said) {
    let mut left = after.clone();
    let mut open = Vec::new();
    for one in before {
        match left.iter().position(|other| other == one) {
            Some(at) => {
                left.swap_remove(at);
            }
            None => open.push(one),
        }
    }
    for (name, _) in open {
        let at = left.iter().position(|(other, _)| other == name);
        let mark = at.map(|at| left.swap_remove(at).1);
        let words = if mark.is_some() { "changed" } else { "taken out" };
        let mark = mark.unwrap_or_default();
        found.push(Weaker { what, name: name.clone(), words: words.to_owned(), mark });
    }
}

/// All that a case says, without where it stands.
fn said_of_case(case: &Case) -> String {
    let values = |all: &[At<String>]| -> Vec<String> {
        let mut values: Vec<String> = all.iter().map(|one| one.value.clone()).collect();
        values.sort();
        values
    };
    let token = case.token.as_ref().map(|token| &token.value);
    let because = case.because.as_ref().map(|because| &because.value);
    let (may, may_not) = (values(&case.may), values(&case.may_not));
    format!("{:?} {token:?} {may:?} {may_not:?} {because:?} {:?}", case.request, case.now)
}

fn said_of_sample(sample: &Sample) -> String {
    let grants: Vec<_> = sample.grants.iter().map(|grant| &grant.value).collect();
    format!("{:?} {:?} {grants:?}", sample.line, sample.groups)
}

fn text(written: &At<Written>) -> &str {
    &written.value.text
}
