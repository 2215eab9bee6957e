//! What a batch came to, beside what was before.

use super::Entry;
use crate::register::change::{Thing, Touch};
use crate::register::{Grant, MadeRole, NextIds, Register, Sym};
use std::collections::HashSet;

/// What was touched, by names that both registers understand.
#[derive(Debug, Default)]
pub(super) struct Things {
    entities: Vec<String>,
    grants: Vec<Box<str>>,
    activations: Vec<Box<str>>,
    made: Vec<String>,
}

/// What was touched, each once, in the order it was first touched.
pub(super) fn things(register: &Register, touched: &[Touch]) -> Things {
    let mut things = Things::default();
    let (mut entities, mut ids) = (HashSet::new(), HashSet::new());
    for touch in touched {
        match &touch.thing {
            Thing::Entity(id) => {
                let name = register.name(*id);
                if entities.insert(name) {
                    things.entities.push(name.to_owned());
                }
            }
            Thing::Grant(id) if ids.insert(('g', &**id)) => things.grants.push(id.clone()),
            Thing::Activation(id) if ids.insert(('a', &**id)) => things.activations.push(id.clone()),
            Thing::Made(key) if ids.insert(('r', register.text(*key))) => {
                things.made.push(register.text(*key).to_owned());
            }
            _ => {}
        }
    }
    things
}

/// The entries of a batch.
pub(super) fn entries(before: &Register, after: &Register, touched: &[Touch]) -> Vec<Entry> {
    entries_of(before, after, &things(after, touched))
}

/// What is otherwise with some things: first what ended, innermost first, then what is so now.
pub(super) fn entries_of(before: &Register, after: &Register, things: &Things) -> Vec<Entry> {
    let mut ended = Vec::new();
    let mut now = Vec::new();
    for id in &things.activations {
        let (old, new) = (before.activation_by_id(id), after.activation_by_id(id));
        if old == new {
            continue;
        }
        ended.extend(old.map(|activation| Entry::activation_ended(before, activation)));
        now.extend(new.map(|activation| Entry::activation(after, activation)));
    }
    let mut grants = Vec::new();
    for id in &things.grants {
        let (old, new) = (before.grant_by_id(id), after.grant_by_id(id));
        if same_grant(old, new) {
            continue;
        }
        ended.extend(old.map(|grant| Entry::grant_ended(before, &grant)));
        grants.extend(new.map(|grant| Entry::grant(after, &grant)));
    }
    let mut made = Vec::new();
    for name in &things.made {
        let of = |register: &Register| -> Option<(Sym, MadeRole)> {
            let key = register.sym(name)?;
            Some((key, register.made_role(key)?.clone()))
        };
        let (old, new) = (of(before), of(after));
        let is_new =
            |(_, role): &(Sym, MadeRole)| old.as_ref().is_some_and(|(_, old)| old.tenant == role.tenant);
        if old.as_ref().map(|(_, role)| role) == new.as_ref().map(|(_, role)| role) {
            continue;
        }
        // One of a tenant that was deleted and made again is another role, even under the same name.
        if old.is_some() && !new.as_ref().is_some_and(is_new) {
            ended.push(Entry::TenantRoleEnded(name.clone()));
        }
        made.extend(new.map(|(key, role)| Entry::made(after, key, &role)));
    }
    let mut entities = Vec::new();
    for name in &things.entities {
        match (before.registered(name), after.registered(name)) {
            // Made and deleted: nobody knew it before, and everybody knows it as deleted now.
            (None, None) if before.find(name).is_none() => ended.push(Entry::Deleted(name.clone())),
            (None, None) => {}
            (Some(_), None) => ended.push(Entry::Deleted(name.clone())),
            (None, Some(new)) => entities.push(Entry::entity(after, new)),
            (Some(old), Some(new)) => {
                if old != new {
                    ended.push(Entry::Deleted(name.clone()));
                }
                if old != new || before.record(old) != after.record(new) {
                    entities.push(Entry::entity(after, new));
                }
            }
        }
    }
    ended.extend(entities);
    ended.extend(made);
    ended.extend(grants);
    ended.extend(now);
    if next_after(before, after, things) != after.next_ids() {
        ended.push(Entry::Next(after.next_ids()));
    }
    ended
}

/// Whether a grant is the same as before: of the same things, not only of things that are called so.
fn same_grant(old: Option<Grant<'_>>, new: Option<Grant<'_>>) -> bool {
    match (old, new) {
        (None, None) => true,
        (Some(old), Some(new)) => old == new,
        _ => false,
    }
}

/// The numbers that are next once the grants and activations there are have been folded in: where that
/// is not what is next, some were given and ended meanwhile.
fn next_after(before: &Register, after: &Register, things: &Things) -> NextIds {
    let mut next = before.next_ids();
    let number = |id: &str, mark: &str| {
        let digits = id.strip_prefix(mark).filter(|digits| !digits.starts_with(['0', '+']));
        digits.and_then(|digits| digits.parse::<u32>().ok()).map(|number| u64::from(number) + 1)
    };
    for id in things.grants.iter().filter(|id| after.grant_by_id(id).is_some()) {
        next.grant = next.grant.max(number(id, "g-").filter(|next| *next <= 1 << 31).unwrap_or(0));
    }
    for id in things.activations.iter().filter(|id| after.activation_by_id(id).is_some()) {
        next.activation = next.activation.max(number(id, "a-").unwrap_or(0));
    }
    next
}
