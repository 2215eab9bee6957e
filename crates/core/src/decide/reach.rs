//! Which registered resources may a subject act on? Exact: what is found was decided one by one,
//! and what is left out without a decision is only what no grant, gift, rule or conferral could
//! reach.

use super::question::{Malformed, Question, Request, Resource, Subject};
use super::{Decision, Engine, Named, Reason, decide, with_scratch};
use crate::charter::model::PermId;
use crate::register::sight::Sight;
use crate::register::{EntityId, PlaceOf, Register, State};
use jiff::Timestamp;

/// Where to look, and how much of it.
#[derive(Clone, Debug, Default)]
pub struct Reaching {
    /// Only what lies within this, itself among it.
    pub under: Option<String>,
    /// Only what was registered after this: where the page before ended.
    pub after: Option<EntityId>,
    /// Most resources to find; none: all.
    pub limit: Option<usize>,
}

/// What was found.
#[derive(Clone, Debug, Default)]
pub struct Reached {
    /// Resources the subject may act on, in the order they were registered.
    pub found: Vec<(EntityId, Reason)>,
    /// How many were decided about.
    pub examined: usize,
    /// Where to go on, if the search stopped before its end.
    pub next: Option<EntityId>,
    /// Whether one that is not registered, and of which nothing is said, may be acted on too.
    pub new: bool,
}

/// Searches. `go_on` is asked now and then; once it says no, the search ends where it is.
///
/// What the request says of the resource is left out, as it is about no one resource. Costs a
/// decision for each resource that could be reached.
///
/// # Errors
/// If the request is malformed, or `under` is not registered.
pub fn reach(
    engine: Engine<'_>,
    request: &Request,
    now: Timestamp,
    at: &Reaching,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<Reached, Malformed> {
    let request = Request { resource: None, of_resource: serde_json::Map::new(), ..request.clone() };
    let asked = request.resolve(engine, now)?;
    let mut reached = Reached::default();
    let Ok(mut question) = asked.question else { return Ok(reached) };
    reached.new = with_scratch(|scratch| decide(engine, &question, scratch)).allowed;
    let under = match &at.under {
        None => None,
        Some(name) => {
            let found =
                engine.register.registered(name).filter(|id| engine.sight.names(engine.register, *id));
            Some(found.ok_or_else(|| Malformed(format!("{name} is not registered")))?)
        }
    };
    let fits = |id: &EntityId| {
        at.after.is_none_or(|after| *id > after)
            && under.is_none_or(|under| lies_within(engine.register, *id, under))
    };
    let mut last = at.after;
    for id in within_reach(engine, &question).into_iter().filter(fits) {
        let full = at.limit.is_some_and(|limit| reached.found.len() >= limit);
        if full || (reached.examined % 256 == 255 && !go_on()) {
            // What the last page ended with was decided; the next one begins behind it.
            reached.next = last;
            break;
        }
        question.resource = Resource::Registered(id);
        let decision = with_scratch(|scratch| decide(engine, &question, scratch));
        reached.examined += 1;
        last = Some(id);
        if let Decision { allowed: true, reason } = decision {
            reached.found.push((id, reason));
        }
    }
    Ok(reached)
}

fn lies_within(register: &Register, inner: EntityId, outer: EntityId) -> bool {
    let mut at = Some(inner);
    while let Some(id) = at {
        if id == outer {
            return true;
        }
        at = register.within(id);
    }
    false
}

/// Whether a permission can be had only by a grant at a place around the resource.
pub(super) fn by_grant_alone(engine: Engine<'_>, permission: PermId) -> bool {
    let policy = engine.policy;
    let gives = |role: &crate::charter::model::RoleId| policy.may_give(*role, permission);
    policy.allows(permission).is_empty()
        && !policy.given().iter().any(gives)
        && !policy.conferred_roots(permission).iter().any(gives)
}

/// The registered resources of the permission's type that could be reached, of those in sight, in order.
pub(super) fn within_reach(engine: Engine<'_>, question: &Question) -> Vec<EntityId> {
    let kind = engine.policy.model().permissions[question.permission.index()].kind;
    let fits = |id: &EntityId| engine.kind(*id) == Some(kind) && engine.register.state(*id) != State::Deleted;
    let mut all: Vec<EntityId> = match (engine.sight, candidates(engine, question)) {
        (Sight::Everything, None) => engine.register.all_entities().filter(fits).collect(),
        (Sight::Everything, Some(some)) => some.into_iter().filter(fits).collect(),
        // What is not in sight is not even looked at.
        (Sight::Tenants(_), _) => engine.sight.all(engine.register).filter(fits).collect(),
    };
    all.sort_unstable();
    all
}

/// The resources that the subject's grants could reach, in order; none if it could be any.
pub(crate) fn candidates(engine: Engine<'_>, question: &Question) -> Option<Vec<EntityId>> {
    let mut waiting = giving_places(engine, question)?;
    let mut all: Vec<EntityId> = Vec::new();
    while let Some(next) = waiting.pop() {
        all.push(next);
        waiting.extend_from_slice(engine.register.contents(next));
    }
    all.sort_unstable();
    all.dedup();
    Some(all)
}

/// The places of the subject's grants that could give the permission; none if it could come without
/// one, or by one everywhere.
pub(crate) fn giving_places(engine: Engine<'_>, question: &Question) -> Option<Vec<EntityId>> {
    let Subject::Entity(subject) = question.subject else { return None };
    if !by_grant_alone(engine, question.permission) {
        return None;
    }
    let mut places: Vec<EntityId> = Vec::new();
    for holder in engine.register.holders_of(subject) {
        for held in engine.register.held(holder) {
            let gives = match engine.link.roles[held.role.0 as usize] {
                Some(Named::Role(role)) => engine.policy.may_give(role, question.permission),
                Some(Named::Made(at)) => {
                    engine.link.made[at as usize].permissions.binary_search(&question.permission).is_ok()
                }
                None => false,
            };
            match held.at() {
                _ if !gives => {}
                PlaceOf::Everywhere => return None,
                PlaceOf::At(place) => places.push(place),
            }
        }
    }
    places.sort_unstable();
    places.dedup();
    Some(places)
}
