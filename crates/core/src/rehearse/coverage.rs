//! What a rehearsal does not look at: roles, rules and clauses that no case or guarantee touches,
//! and parts of the charter that could be left out with every case still passing.

use super::{CaseReport, Rehearsal};
use crate::charter::policy::Policy;
use crate::prove::{self, Claim};
use crate::register::Register;
use crate::source::Sources;
use jiff::Timestamp;
use serde::Serialize;
use std::collections::BTreeSet;
use std::sync::Arc;

/// What is not looked at.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Coverage {
    /// Roles that arrive in no case, and that no guarantee is about.
    pub roles: Vec<String>,
    /// Rules likewise.
    pub rules: Vec<String>,
    /// Clauses of roles whose condition no case and no guarantee asks, with their places.
    pub clauses: Vec<String>,
    /// What could be left out with every case still passing, with its place.
    pub removable: Vec<String>,
    /// How many parts were tried to leave out, of how many.
    pub tried: usize,
    /// See there.
    pub parts: usize,
}

impl Rehearsal {
    /// Finds what is not looked at. `go_on` is asked before each part that is left out for a trial.
    pub fn coverage(
        &self,
        policy: &Arc<Policy>,
        facts: &Register,
        sources: &Sources,
        now: Timestamp,
        (cases, guarantees): (&[CaseReport], &[prove::Guarantee]),
        go_on: &dyn Fn() -> bool,
    ) -> Coverage {
        let mut made = untouched(policy, cases, guarantees);
        if cases.is_empty() || cases.iter().any(|case| !case.passed) {
            // What fails already would fail without anything.
            return made;
        }
        let parts = policy.parts();
        made.parts = parts.len();
        for (part, words) in parts {
            if !go_on() {
                break;
            }
            made.tried += 1;
            let without = Arc::new(policy.without(part));
            let passes =
                self.run(&without, facts.clone(), sources, now).is_ok_and(|report| report.failed == 0);
            if passes {
                made.removable.push(words);
            }
        }
        made
    }
}

fn untouched(policy: &Policy, cases: &[CaseReport], guarantees: &[prove::Guarantee]) -> Coverage {
    let model = policy.model();
    let mut roles = BTreeSet::new();
    let mut rules = BTreeSet::new();
    let mut places = BTreeSet::new();
    for explanation in cases.iter().flat_map(|case| &case.checks).map(|check| &check.explanation) {
        let arrived = explanation.arrivals.iter().map(|arrival| arrival.role.as_str());
        for role in
            arrived.chain(explanation.also_held.iter().map(String::as_str)).filter_map(|key| policy.role(key))
        {
            let inner = model
                .roles
                .iter()
                .enumerate()
                .filter(|(at, _)| policy.includes(role, crate::charter::model::RoleId::at(*at)));
            roles.extend(inner.map(|(_, inner)| inner.key.as_str()));
        }
        rules.extend(explanation.rules.iter().map(|rule| rule.key.as_str()));
        let conditions = explanation.arrivals.iter().flat_map(|arrival| &arrival.conditions);
        places.extend(conditions.map(|condition| condition.place.as_str()));
    }
    let claimed: Vec<_> = guarantees
        .iter()
        .flat_map(|guarantee| match guarantee.claim {
            Claim::Never(permission) | Claim::Always(permission) => vec![permission],
            Claim::Alike(a, b) => vec![a, b],
        })
        .collect();
    let mut made = Coverage::default();
    for (at, role) in model.roles.iter().enumerate() {
        let id = crate::charter::model::RoleId::at(at);
        let about = claimed.iter().any(|permission| policy.may_give(id, *permission));
        if !about && !roles.contains(role.key.as_str()) {
            made.roles.push(role.key.clone());
        }
        for clause in &role.clauses {
            let place = policy.sources().place(clause.when.span());
            let place = format!("{}:{}", place.path, place.line);
            let about = clause.permissions.iter().any(|permission| claimed.contains(permission));
            if !about && !places.contains(place.as_str()) {
                made.clauses.push(format!("a clause of {} ({place})", role.key));
            }
        }
    }
    for rule in &model.rules {
        let about = rule.permissions.iter().any(|permission| claimed.contains(permission));
        if !about && !rules.contains(rule.key.as_str()) {
            made.rules.push(rule.key.clone());
        }
    }
    made
}
