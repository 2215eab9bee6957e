//! Roles that come from relationships, and the order in which holding them is worked out.

use super::typing::{self, Surroundings};
use super::{Scope, errors};
use crate::charter::model::{Condition, Confer, KindId, Path, Role, RoleId, Test};
use crate::charter::syntax::condition::{Expr, ExprKind};
use crate::charter::syntax::{self, ConferTo, Tree};
use crate::source::{At, Finding, Span};
use std::collections::HashMap;
use std::ops::Range;

/// All conferrals, each type's together, and the range of each kind.
pub fn confers(
    scope: &Scope<'_>,
    tree: &Tree,
    roles: &[Role],
    findings: &mut Vec<Finding>,
) -> (Vec<Confer>, Vec<Range<u32>>) {
    let mut all = Vec::new();
    let mut ranges = Vec::new();
    let count = |all: &Vec<Confer>| u32::try_from(all.len()).unwrap_or(u32::MAX);
    // A type defined twice has been told; its first definition is looked at.
    let resources = tree.resources.iter().rev();
    let resources: HashMap<&str, &syntax::Resource> =
        resources.map(|resource| (resource.key.value.as_str(), resource)).collect();
    for (at, kind) in scope.kinds.iter().enumerate() {
        let start = count(&all);
        if let Some(written) = resources.get(kind.key.as_str()) {
            let made = written.confers.iter();
            all.extend(made.filter_map(|one| confer(scope, KindId::at(at), one, roles, findings)));
        }
        ranges.push(start..count(&all));
    }
    (all, ranges)
}

fn confer(
    scope: &Scope<'_>,
    kind: KindId,
    written: &syntax::Confer,
    roles: &[Role],
    findings: &mut Vec<Finding>,
) -> Option<Confer> {
    let role = written.role.as_ref().and_then(|key| scope.known_role(key, findings));
    if let (Some(role), Some(at)) = (role, &written.role) {
        may_be_conferred(role, at, roles, findings);
    }
    let around = Surroundings {
        kinds: &[kind],
        grant: None,
        regardless: written.regardless,
        standby: false,
        split: "a confer of its own",
    };
    let when = written.when.as_ref().map(|expr| typing::condition(scope, around, expr, findings));
    let (holds, path_text, path) = match written.to.as_ref()? {
        ConferTo::Relation(path) => (None, path, to_subjects(scope, kind, path, findings)),
        ConferTo::Holds(held, path) => {
            let path_found = to_places(scope, kind, path, findings);
            let held = held_role(scope, held, written.regardless, findings)?;
            (Some(held), path, path_found)
        }
    };
    Some(Confer {
        role: role?,
        kind,
        holds,
        path: path?,
        path_text: path_text.value.clone(),
        // A condition that could not be typed has been told.
        when: match when {
            Some(typed) => Some(typed?),
            None => None,
        },
        through_detached: written.through_detached,
        span: written.role.as_ref()?.span,
    })
}

fn may_be_conferred(role: RoleId, at: &At<String>, roles: &[Role], findings: &mut Vec<Finding>) {
    let Some(role) = roles.get(role.index()) else { return };
    if !role.values.is_empty() {
        findings.push(errors::conferred_without_grant::values(at.span, &role.key));
    }
    if role.standby.is_some() {
        findings.push(errors::conferred_without_grant::standby(at.span, &role.key));
    }
}

fn held_role(
    scope: &Scope<'_>,
    key: &At<String>,
    regardless: bool,
    findings: &mut Vec<Finding>,
) -> Option<RoleId> {
    let role = scope.known_role(key, findings)?;
    typing::unguarded(scope, role, key.span, regardless, findings).then_some(role)
}

/// A path as written, as if `resource.` stood before it.
fn path(
    scope: &Scope<'_>,
    kind: KindId,
    written: &At<String>,
    findings: &mut Vec<Finding>,
) -> Option<(Path, Vec<KindId>)> {
    let mut names = vec![("resource".to_owned(), written.span)];
    // The text stands within quotes; with an escape in it, its whole place has to do.
    let exact = scope.text(written.span).get(1..).is_some_and(|inner| inner.starts_with(&written.value));
    let mut at = written.span.start as usize + 1;
    for name in written.value.split('.') {
        if name.is_empty() {
            let message = format!("{:?} is not a path: write names with dots between", written.value);
            findings.push(Finding::error("not-a-path", written.span, message));
            return None;
        }
        let span = if exact { Span::new(written.span.file, at..at + name.len()) } else { written.span };
        names.push((name.to_owned(), span));
        at += name.len() + 1;
    }
    if written.value.starts_with("resource.") {
        let finding =
            Finding::error("not-a-path", written.span, "a confer's path starts at the resource already");
        findings.push(finding.help(format!("write {:?}", &written.value["resource.".len()..])));
        return None;
    }
    let expr = Expr { kind: ExprKind::Path(names), span: written.span };
    typing::path_from(scope, kind, &expr, findings)
}

fn to_subjects(
    scope: &Scope<'_>,
    kind: KindId,
    written: &At<String>,
    findings: &mut Vec<Finding>,
) -> Option<Path> {
    let (path, ends) = path(scope, kind, written, findings)?;
    if ends.iter().any(|end| end.is_subject() || *end == KindId::GROUP) {
        return Some(path);
    }
    findings.push(errors::confers_on_nobody::relation(written.span, &written.value));
    None
}

fn to_places(
    scope: &Scope<'_>,
    kind: KindId,
    written: &At<String>,
    findings: &mut Vec<Finding>,
) -> Option<Path> {
    let (path, ends) = path(scope, kind, written, findings)?;
    if ends.iter().all(|end| end.is_resource() || *end == KindId::TENANT) {
        return Some(path);
    }
    findings.push(errors::confers_on_nobody::place(written.span, &written.value));
    None
}

// -- the order of holding ------------------------------------------------------------------------

/// The stratum of each role: who depends on whom for being held, circles put together.
///
/// A circle through a `holds` in a condition has no meaning: the role would be held because it is
/// not. One through what confers is the least that satisfies it, and its paths lead to one thing.
pub fn strata(scope: &Scope<'_>, confers: &[Confer], findings: &mut Vec<Finding>) -> Vec<u32> {
    let count = scope.roles.len();
    let mut needs: Vec<Vec<usize>> = vec![Vec::new(); count];
    for (outer, inner) in scope.includes.iter().enumerate() {
        for id in inner {
            needs[id.index()].push(outer);
        }
    }
    for confer in confers {
        let of = &mut needs[confer.role.index()];
        of.extend(confer.holds.map(RoleId::index));
        of.extend(strong(confer).map(|(role, _)| role.index()));
    }
    let strata = components(&needs);
    for confer in confers {
        let own = strata[confer.role.index()];
        let name = |role: RoleId| scope.roles[role.index()].key.value.as_str();
        if let Some((role, span)) = strong(confer).find(|(role, _)| strata[role.index()] == own) {
            findings.push(errors::holding_circle::asked(span, name(confer.role), name(role)));
        }
        let recursive = confer.holds.is_some_and(|held| strata[held.index()] == own);
        if recursive && confer.path.many {
            findings.push(errors::holding_circle::wide(confer.span, name(confer.role), &confer.path_text));
        }
    }
    strata
}

/// The roles that a conferral's condition asks for.
fn strong(confer: &Confer) -> impl Iterator<Item = (RoleId, Span)> + '_ {
    confer.when.iter().flat_map(asked)
}

fn asked(condition: &Condition) -> impl Iterator<Item = (RoleId, Span)> + '_ {
    condition.tests.iter().zip(&condition.test_spans).filter_map(|(test, span)| match test {
        Test::HoldsRole(role) => Some((*role, *span)),
        _ => None,
    })
}

/// Strongly connected components, numbered so that what a node needs has no higher number.
/// Without recursion: a charter may have very many roles.
fn components(needs: &[Vec<usize>]) -> Vec<u32> {
    const NEW: usize = usize::MAX;
    let count = needs.len();
    let (mut index, mut low) = (vec![NEW; count], vec![0; count]);
    let mut component = vec![u32::MAX; count];
    let (mut stack, mut next_index, mut next_component) = (Vec::new(), 0, 0);
    for start in 0..count {
        if index[start] != NEW {
            continue;
        }
        let mut calls = vec![(start, 0)];
        while let Some((node, at)) = calls.pop() {
            if at == 0 {
                (index[node], low[node]) = (next_index, next_index);
                next_index += 1;
                stack.push(node);
            }
            if let Some(&to) = needs[node].get(at) {
                calls.push((node, at + 1));
                if index[to] == NEW {
                    calls.push((to, 0));
                } else if component[to] == u32::MAX {
                    low[node] = low[node].min(index[to]);
                }
                continue;
            }
            if low[node] == index[node] {
                while let Some(member) = stack.pop() {
                    component[member] = next_component;
                    if member == node {
                        break;
                    }
                }
                next_component += 1;
            }
            if let Some(&(parent, _)) = calls.last() {
                low[parent] = low[parent].min(low[node]);
            }
        }
    }
    component
}
