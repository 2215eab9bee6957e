//! The scopes of a document as roles to start from.

use super::document::{Document, Scope, Security};
use super::guess::{Guessed, Meaning};
use super::words;
use std::collections::{BTreeMap, BTreeSet};

/// Most roles that are made of scopes.
const MAX_ROLES: usize = 500;

/// What one set of scopes lets whoever has all of it do.
#[derive(Debug)]
pub struct ScopeRole {
    pub key: String,
    /// The scopes.
    pub scopes: String,
    /// How many operations ask for them.
    pub operations: usize,
    pub permissions: BTreeSet<String>,
}

/// What operations ask for, in words: `berths:read, or berths:write and yard`.
pub fn asked(document: &Document, operations: &[usize]) -> Option<String> {
    let ways: BTreeSet<String> = operations
        .iter()
        .filter_map(|at| match &document.operations[*at].security {
            Security::Scoped(ways) => Some(ways),
            _ => None,
        })
        .flatten()
        .map(told)
        .collect();
    (!ways.is_empty()).then(|| words::one_line(&ways.into_iter().collect::<Vec<_>>().join(", or ")))
}

fn told(way: &BTreeSet<Scope>) -> String {
    way.iter().map(|scope| scope.name.as_str()).collect::<Vec<_>>().join(" and ")
}

/// A role for each set of scopes that some operation asks for.
///
/// A permission is in it only if every operation that needs the permission lets these scopes in: what several
/// operations need together must not be given by the least of them.
pub fn roles(document: &Document, guessed: &Guessed, application: &str) -> Vec<ScopeRole> {
    let mut needed: BTreeMap<String, BTreeSet<usize>> = BTreeMap::new();
    for route in &guessed.routes {
        let Meaning::Needs(needs) = &route.meaning else { continue };
        for need in needs {
            let of = needed.entry(format!("{}:{}", need.kind, need.action)).or_default();
            of.extend(route.operations.iter().copied());
        }
    }
    let mut sets: BTreeMap<&BTreeSet<Scope>, usize> = BTreeMap::new();
    for operation in &document.operations {
        if let Security::Scoped(ways) = &operation.security {
            ways.iter().for_each(|way| *sets.entry(way).or_default() += 1);
        }
    }
    let sets: Vec<(&BTreeSet<Scope>, usize)> = sets.into_iter().take(MAX_ROLES).collect();
    let mut gives: BTreeMap<&BTreeSet<Scope>, BTreeSet<String>> = BTreeMap::new();
    for (permission, operations) in &needed {
        let all: BTreeSet<&Vec<BTreeSet<Scope>>> = operations
            .iter()
            .filter_map(|at| match &document.operations[*at].security {
                Security::Scoped(ways) => Some(ways),
                _ => None,
            })
            .collect();
        let lets_in =
            |set: &BTreeSet<Scope>| all.iter().all(|ways| ways.iter().any(|way| way.is_subset(set)));
        for (set, _) in sets.iter().filter(|(set, _)| !all.is_empty() && lets_in(set)) {
            gives.entry(set).or_default().insert(permission.clone());
        }
    }
    let mut keys: BTreeSet<String> = BTreeSet::new();
    let mut roles = Vec::new();
    for (set, operations) in sets {
        let Some(permissions) = gives.remove(set) else { continue };
        let words_of: Vec<String> = set.iter().filter_map(|scope| words::key(&scope.name)).collect();
        let key = words::short(&format!("{application}-scope-{}", words_of.join("-and-")));
        let key = key.trim_end_matches('-').to_owned();
        let key = match keys.contains(&key) {
            false => key,
            true => {
                let numbered = (2..).map(|n| words::short(&format!("{key}-{n}")));
                numbered.into_iter().find(|key| !keys.contains(key)).unwrap_or_default()
            }
        };
        keys.insert(key.clone());
        roles.push(ScopeRole { key, scopes: told(set), operations, permissions });
    }
    roles
}
