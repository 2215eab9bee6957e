//! Which registered resources may a subject act on? Exact: what is found was decided one by one,
//! and what is left out without a decision is only what no grant, gift, rule or conferral could
//! reach.

use super::question::{Malformed, Question, Request, Resource};
use super::ways::Ways;
use super::{Decision, Engine, Reason, decide, with_scratch};
use crate::register::sight::Sight;
use crate::register::{EntityId, Register, State};
use hashbrown::HashSet;
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

/// The registered resources of the permission's type that could be reached, of those in sight, in order.
pub(super) fn within_reach(engine: Engine<'_>, question: &Question) -> Vec<EntityId> {
    let kind = engine.policy.model().permissions[question.permission.index()].kind;
    let fits = |id: &EntityId| engine.kind(*id) == Some(kind) && engine.register.state(*id) != State::Deleted;
    let mut all: Vec<EntityId> = match (engine.sight, places(engine, question)) {
        (Sight::Everything, None) => engine.register.all_entities().filter(fits).collect(),
        (Sight::Everything, Some(places)) => {
            at_and_within(engine.register, places).into_iter().filter(fits).collect()
        }
        // What is not in sight is not even looked at.
        (Sight::Tenants(_), _) => engine.sight.all(engine.register).filter(fits).collect(),
    };
    all.sort_unstable();
    all
}

fn places(engine: Engine<'_>, question: &Question) -> Option<Vec<EntityId>> {
    Ways::of(engine.policy, question.permission).places(engine, question, &|_| false)
}

/// Everything at these places and within them.
pub(crate) fn at_and_within(register: &Register, mut waiting: Vec<EntityId>) -> HashSet<EntityId> {
    let mut found = HashSet::new();
    while let Some(id) = waiting.pop() {
        if found.insert(id) {
            waiting.extend_from_slice(register.contents(id));
        }
    }
    found
}
