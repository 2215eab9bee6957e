//! Doubts about a charter that is correct: what was probably not meant. One file each: what is
//! looked for, the words, what to do, and a charter that shows it.

mod another_case;
mod anyone_beside;
mod by_name;
mod claim_unread;
mod confers_in_vain;
mod crosses_midnight;
mod excludes_all;
mod gives_nothing;
mod leaks_past_guard;
mod memberships_unbounded;
mod negated;
mod never_applies;
mod never_given;
mod no_actions;
mod no_services;
mod nobody_can_hold;
mod nobody_left;
mod not_known;
mod open_beside;
mod other_kind;
mod rests_on_request;
mod routes_cross;
mod separates_conferred;
mod separates_in_vain;
mod shuts_out;
mod shuts_out_conferred;
mod signed_in_by_token;
mod silent_without;
mod subject_can_change;
mod tenants_take_in;
mod unread_values;
mod unused;
mod vouched_apart;

use crate::charter::model::{
    Condition, KindId, Model, Operand, OperandId, Path, PermId, Role, Root, Step, Test,
};
use crate::charter::syntax::{Effect, Tree};
use crate::source::Finding;
use std::collections::HashSet;

/// How many pairs of routes one of these looks at: where everything crosses everything, enough has been told.
const MAX_LOOKS: usize = 200_000;

/// A checked charter with its text.
struct Charter<'a> {
    model: &'a Model,
    tree: &'a Tree,
    /// What each role gives if all conditions are true.
    gives: Vec<HashSet<PermId>>,
}

const LINTS: [fn(&Charter<'_>, &mut Vec<Finding>); 33] = [
    another_case::look,
    anyone_beside::look,
    by_name::look,
    claim_unread::look,
    confers_in_vain::look,
    crosses_midnight::look,
    excludes_all::look,
    gives_nothing::look,
    leaks_past_guard::look,
    memberships_unbounded::look,
    negated::look,
    never_applies::look,
    never_given::look,
    no_actions::look,
    no_services::look,
    nobody_can_hold::look,
    nobody_left::look,
    not_known::look,
    open_beside::look,
    other_kind::look,
    rests_on_request::look,
    routes_cross::look,
    separates_conferred::look,
    separates_in_vain::look,
    shuts_out::look,
    shuts_out_conferred::look,
    signed_in_by_token::look,
    silent_without::look,
    subject_can_change::look,
    tenants_take_in::look,
    unread_values::look,
    unused::look,
    vouched_apart::look,
];

/// Looks for all of them.
pub fn look(model: &Model, tree: &Tree, findings: &mut Vec<Finding>) {
    let mut done = vec![None; model.roles.len()];
    let gives = (0..model.roles.len()).map(|at| give(model, at, &mut done)).collect();
    let charter = Charter { model, tree, gives };
    LINTS.iter().for_each(|lint| lint(&charter, findings));
}

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

impl Charter<'_> {
    /// Every condition under which something is given: of allow rules, roles and their clauses.
    /// With the role, if it is one's.
    fn openings(&self) -> impl Iterator<Item = (&Condition, Option<&Role>)> {
        let rules = self.model.rules.iter().filter(|rule| rule.effect == Effect::Allow);
        let rules = rules.filter_map(|rule| Some((rule.when.as_ref()?, None)));
        let roles = self.model.roles.iter().flat_map(|role| {
            let clauses = role.clauses.iter().map(|clause| &clause.when);
            role.when.iter().chain(clauses).map(move |when| (when, Some(role)))
        });
        rules.chain(roles)
    }

    fn key(&self, kind: KindId) -> &str {
        &self.model.kinds[kind.index()].key
    }

    /// The subject kinds that do not declare what a path reads of the subject first.
    fn lacking(&self, path: &Path) -> Vec<KindId> {
        let (Root::Subject, Some(first)) = (path.root, path.steps.first()) else { return Vec::new() };
        let declares = |kind: &KindId| {
            let kind = &self.model.kinds[kind.index()];
            match first {
                Step::Attribute(name) => kind.attribute(*name).is_some(),
                Step::Relation(name) => kind.relation(*name).is_some(),
                _ => true,
            }
        };
        [KindId::USER, KindId::SERVICE].into_iter().filter(|kind| !declares(kind)).collect()
    }
}

/// The path an operand is, if it is one.
fn path_of(condition: &Condition, operand: OperandId) -> Option<&Path> {
    match &condition.operands[operand.index()] {
        Operand::Path(path) => Some(&condition.paths[path.index()]),
        _ => None,
    }
}

/// The paths that a condition asks `known` of.
fn asked_known(condition: &Condition) -> Vec<&Path> {
    let known = condition.tests.iter().filter_map(|test| match test {
        Test::Known(path) => Some(&condition.paths[path.index()]),
        _ => None,
    });
    known.collect()
}
