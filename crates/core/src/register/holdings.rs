//! Which grants arrive at a place, which reach a subject, and how each stands at a moment.
//!
//! This tells what was given. Whether a question is allowed is for a decision alone.

use super::change::grant_fits;
use super::wrong::Wrong;
use super::{EntityId, Grant, PlaceOf, Register};
use crate::charter::model::RoleId;
use crate::charter::policy::Policy;
use jiff::Timestamp;
use std::collections::HashSet;

/// How a grant stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Standing {
    /// It counts.
    Counts,
    /// It begins later.
    Later,
    /// It has ended.
    Ended,
    /// Its role is on standby, and it is not active.
    Standby,
    /// Its role is on standby, and it is active for so many subjects.
    Active(usize),
    /// The charter does not permit it: it gives nothing.
    Idle(Wrong),
}

impl Standing {
    /// One word for it.
    pub fn word(&self) -> &'static str {
        match self {
            Standing::Counts => "counts",
            Standing::Later => "later",
            Standing::Ended => "ended",
            Standing::Standby => "standby",
            Standing::Active(_) => "active",
            Standing::Idle(_) => "idle",
        }
    }
}

/// How a grant stands at a moment.
pub fn standing(policy: &Policy, register: &Register, grant: &Grant<'_>, now: Timestamp) -> Standing {
    if let Err(why) = grant_fits(policy, register, grant) {
        return Standing::Idle(why);
    }
    if grant.terms.until.is_some_and(|until| until <= now) {
        return Standing::Ended;
    }
    if !grant.is_live(now) {
        return Standing::Later;
    }
    let role = policy.role(register.text(grant.role));
    let Some(standby) = role.and_then(|role| policy.model().roles[role.index()].standby.as_ref()) else {
        return Standing::Counts;
    };
    let place = register.grant_place(&grant.id.to_string());
    let active = place.map_or(0, |at| {
        register.activations_of(at).filter(|activation| activation.is_live(now, standby.longest)).count()
    });
    if active == 0 { Standing::Standby } else { Standing::Active(active) }
}

/// The places from which grants arrive at a place: itself and, until something is detached, what it
/// lies within. Grants everywhere arrive too.
pub fn places(register: &Register, place: EntityId) -> Vec<EntityId> {
    let mut places = vec![place];
    let mut last = place;
    while !register.is_detached(last)
        && let Some(outer) = register.within(last)
    {
        places.push(outer);
        last = outer;
    }
    places
}

/// The grants that arrive at a place; none: those everywhere. Soonest end first, then by id; what has
/// ended comes last.
pub fn arriving(register: &Register, place: Option<EntityId>, now: Timestamp) -> Vec<Grant<'_>> {
    let everywhere = register.all_grants().filter(|grant| grant.at == PlaceOf::Everywhere);
    let places = place.map_or_else(Vec::new, |place| places(register, place));
    let here = places.iter().flat_map(|place| register.grants_at(*place));
    sorted(here.filter_map(|at| register.grant(*at)).chain(everywhere), now)
}

/// The grants to a subject and to the groups it is in, through groups too. Soonest end first, then
/// by id; what has ended comes last.
pub fn reaching(register: &Register, subject: EntityId, now: Timestamp) -> Vec<Grant<'_>> {
    let holders = register.holders_of(subject);
    sorted(holders.iter().flat_map(|holder| register.grants_to(*holder)).map(|(_, grant)| grant), now)
}

fn sorted<'r>(grants: impl Iterator<Item = Grant<'r>>, now: Timestamp) -> Vec<Grant<'r>> {
    let mut grants: Vec<_> = grants.collect();
    grants.sort_by_key(|grant| {
        let until = grant.terms.until.unwrap_or(Timestamp::MAX);
        (until <= now, until, grant.id)
    });
    grants
}

/// How many subjects a role reaches by grants of it, or of a role that includes it, at whatever place.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Touched {
    /// Grants.
    pub grants: usize,
    /// Users and services, each once.
    pub subjects: usize,
    /// Whether all were counted.
    pub whole: bool,
}

/// Counts whom a role reaches by grants, up to `most` subjects. Costs a look at every grant. `go_on` is
/// asked now and then; once it says no, the count ends where it is.
pub fn touched(
    policy: &Policy,
    register: &Register,
    role: RoleId,
    most: usize,
    go_on: &mut dyn FnMut() -> bool,
) -> Touched {
    let mut subjects = HashSet::new();
    let mut grants = 0;
    for (at, grant) in register.all_grants().enumerate() {
        if at % 1024 == 1023 && !go_on() {
            return Touched { grants, subjects: subjects.len(), whole: false };
        }
        let outer = policy.role(register.text(grant.role));
        if !outer.is_some_and(|outer| policy.includes(outer, role)) {
            continue;
        }
        grants += 1;
        subjects.extend(register.subjects_of(grant.to));
        if subjects.len() >= most {
            return Touched { grants, subjects: most, whole: false };
        }
    }
    Touched { grants, subjects: subjects.len(), whole: true }
}
