//! Doubts about a charter that is correct: what was probably not meant.

use crate::charter::model::{Condition, KindId, Model, PermId, Root, Step, Test};
use crate::charter::syntax::{Effect, Tree};
use crate::source::Finding;
use std::collections::HashSet;

/// Looks for all of them.
pub fn look(model: &Model, tree: &Tree, findings: &mut Vec<Finding>) {
    types_without_actions(model, tree, findings);
    let given = what_roles_give(model);
    roles_without_effect(model, &given, findings);
    permissions_nobody_gets(model, tree, &given, findings);
    leaks_past_guards(model, findings);
    for rule in model.rules.iter().filter(|rule| rule.effect == Effect::Deny) {
        if let Some(when) = &rule.when {
            shuts_out(model, &rule.key, when, findings);
        } else {
            let message = format!("the deny rule {:?} has no when: nobody is ever allowed", rule.key);
            findings.push(Finding::warning("nobody-left", rule.span, message));
        }
    }
}

fn types_without_actions(model: &Model, tree: &Tree, findings: &mut Vec<Finding>) {
    for resource in tree.resources.iter().filter(|resource| resource.actions.is_empty()) {
        // A type that others lie within is a place, even if nothing is done to it.
        let is_place = model
            .kinds
            .iter()
            .any(|kind| kind.within.iter().any(|outer| model.kinds[outer.index()].key == resource.key.value));
        if !is_place {
            let message = format!("the type {:?} has no actions", resource.key.value);
            findings.push(Finding::warning("no-actions", resource.key.span, message));
        }
    }
}

/// What each role gives if all conditions are true.
fn what_roles_give(model: &Model) -> Vec<HashSet<PermId>> {
    fn give(model: &Model, at: usize, done: &mut Vec<Option<HashSet<PermId>>>) -> HashSet<PermId> {
        if let Some(known) = &done[at] {
            return known.clone();
        }
        let role = &model.roles[at];
        let mut all: HashSet<PermId> = role.permissions.iter().copied().collect();
        all.extend(role.clauses.iter().flat_map(|clause| clause.permissions.iter()));
        for inner in &role.includes {
            all.extend(give(model, inner.index(), done));
        }
        all.retain(|permission| !role.except.contains(permission));
        done[at] = Some(all.clone());
        all
    }
    let mut done = vec![None; model.roles.len()];
    (0..model.roles.len()).map(|at| give(model, at, &mut done)).collect()
}

fn roles_without_effect(model: &Model, given: &[HashSet<PermId>], findings: &mut Vec<Finding>) {
    for (role, gives) in model.roles.iter().zip(given) {
        if gives.is_empty() {
            let message = format!("the role {:?} gives nothing", role.key);
            findings.push(Finding::warning("gives-nothing", role.span, message));
        }
    }
}

fn permissions_nobody_gets(
    model: &Model,
    tree: &Tree,
    given: &[HashSet<PermId>],
    findings: &mut Vec<Finding>,
) {
    for (at, permission) in model.permissions.iter().enumerate() {
        let id = PermId::at(at);
        let by_rule = |rule: &crate::charter::model::Rule| {
            rule.effect == Effect::Allow && rule.permissions.contains(&id)
        };
        if given.iter().any(|gives| gives.contains(&id)) || model.rules.iter().any(by_rule) {
            continue;
        }
        let kind = &model.kinds[permission.kind.index()].key;
        let place = tree
            .resources
            .iter()
            .filter(|resource| resource.key.value == *kind)
            .flat_map(|resource| &resource.actions)
            .find(|(action, _)| action.value == permission.action);
        if let Some((action, _)) = place {
            let message = format!("no role or rule gives {:?}", permission.text);
            findings.push(Finding::warning("never-given", action.span, message));
        }
    }
}

/// A role that includes a guarded role has that role's guard; one that lists the same permission
/// itself, or includes it a second time without a guard, gives it unguarded.
fn leaks_past_guards(model: &Model, findings: &mut Vec<Finding>) {
    for role in &model.roles {
        for inner in role.includes.iter().map(|id| &model.roles[id.index()]) {
            let guarded = inner.when.is_some();
            let twice =
                inner.permissions.iter().find(|p| role.permissions.contains(p) && role.when.is_none());
            if let (true, Some(permission)) = (guarded, twice) {
                let text = &model.permissions[permission.index()].text;
                let message = format!(
                    "{:?} gives {text:?} itself, past the when of {:?}, which it includes",
                    role.key, inner.key
                );
                findings.push(Finding::warning("leaks-past-guard", role.span, message));
            }
        }
    }
}

/// A deny counts where its condition is undetermined. One that reads what may be missing shuts
/// everybody out there, which is seldom meant.
fn shuts_out(model: &Model, key: &str, when: &Condition, findings: &mut Vec<Finding>) {
    let known: Vec<_> = when
        .tests
        .iter()
        .filter_map(|test| match test {
            Test::Known(path) => Some(&when.paths[path.index()].steps),
            _ => None,
        })
        .collect();
    for (path, span) in when.paths.iter().zip(&when.path_spans) {
        if known.contains(&&path.steps) {
            continue;
        }
        let Some(first) = path.steps.first() else { continue };
        let kinds: &[KindId] = match path.root {
            Root::Subject => &[KindId::USER, KindId::SERVICE],
            _ => continue,
        };
        let declares = |kind: &KindId| {
            let kind = &model.kinds[kind.index()];
            match first {
                Step::Attribute(name) => kind.attribute(*name).is_some(),
                Step::Relation(name) => kind.relation(*name).is_some(),
                _ => true,
            }
        };
        if let Some(without) = kinds.iter().find(|kind| !declares(kind)) {
            let without = &model.kinds[without.index()].key;
            let message = format!(
                "the deny rule {key:?} reads what no {without} has, and so shuts every {without} out"
            );
            let finding = Finding::warning("shuts-out", *span, message);
            findings.push(finding.help("if that is not meant, say known(…) and …"));
        }
    }
}
