//! Separations: roles of which nobody may hold two where both count.

use super::{Scope, errors};
use crate::charter::model::{RoleId, Separation};
use crate::charter::syntax::{self, Tree};
use crate::source::Finding;

/// All separations, by key.
pub fn separations(scope: &Scope<'_>, tree: &Tree, findings: &mut Vec<Finding>) -> Vec<Separation> {
    let mut all: Vec<Separation> =
        tree.separations.iter().filter_map(|written| separation(scope, written, findings)).collect();
    all.sort_by(|a, b| a.key.cmp(&b.key));
    all
}

fn separation(
    scope: &Scope<'_>,
    written: &syntax::Separation,
    findings: &mut Vec<Finding>,
) -> Option<Separation> {
    let mut roles: Vec<RoleId> =
        written.roles.iter().filter_map(|key| scope.known_role(key, findings)).collect();
    let key = written.key.as_ref()?;
    let known = roles.len();
    roles.sort_unstable();
    roles.dedup();
    // An unknown role has been told already; two roles were meant.
    if roles.len() < 2 && known == written.roles.len() && !written.roles.is_empty() {
        findings.push(errors::separation::nothing(key.span, &key.value));
    }
    for (at, a) in roles.iter().enumerate() {
        for b in &roles[at + 1..] {
            if let Some(both) = includes_both(scope, *a, *b) {
                let name = |role: RoleId| scope.roles[role.index()].key.value.as_str();
                findings.push(errors::separation::included(
                    key.span,
                    &key.value,
                    name(*a),
                    name(*b),
                    name(both),
                ));
            }
        }
    }
    let name = written.name.as_ref().unwrap_or(key).value.clone();
    Some(Separation { key: key.value.clone(), name, roles, span: key.span })
}

/// The first role that is or includes both.
fn includes_both(scope: &Scope<'_>, a: RoleId, b: RoleId) -> Option<RoleId> {
    let inner_of = |start: RoleId| {
        let mut seen = vec![false; scope.roles.len()];
        let mut waiting = vec![start];
        while let Some(next) = waiting.pop() {
            if !std::mem::replace(&mut seen[next.index()], true) {
                waiting.extend(&scope.includes[next.index()]);
            }
        }
        seen
    };
    (0..scope.roles.len()).map(RoleId::at).find(|role| {
        let inner = inner_of(*role);
        inner[a.index()] && inner[b.index()]
    })
}
