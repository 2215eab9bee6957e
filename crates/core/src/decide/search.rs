//! Searches by pages, in the order of names: the same wherever and whenever it is asked, so that a
//! page can be asked of another node than the one before.

use super::question::{Malformed, Request, Resource, Subject};
use super::reach::candidates;
use super::{Engine, decide, with_scratch};
use crate::register::EntityId;
use jiff::Timestamp;
use std::cmp::Reverse;
use std::collections::BinaryHeap;

/// One page.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Found {
    /// Who or what was found, by name.
    pub names: Vec<String>,
    /// The name to go on after, if there may be more.
    pub next: Option<String>,
}

/// The registered resources of the permission's type that the subject may act on.
///
/// What the request says of the resource is left out. `go_on` is asked before each decision; once it
/// says no, the page ends. Costs a look at each resource that could be reached, and a decision for
/// each up to the page's end.
///
/// # Errors
/// If the request is malformed.
pub fn resources(
    engine: Engine<'_>,
    request: &Request,
    now: Timestamp,
    page: (&str, usize),
    go_on: &mut dyn FnMut() -> bool,
) -> Result<Found, Malformed> {
    let request = Request { resource: None, of_resource: serde_json::Map::new(), ..request.clone() };
    let Ok(mut question) = request.resolve(engine, now)?.question else { return Ok(Found::default()) };
    let kind = engine.policy.model().permissions[question.permission.index()].kind;
    let fits = |id: &EntityId| engine.kind(*id) == Some(kind);
    let all: Vec<EntityId> = match candidates(engine, &question) {
        None => engine.register.all_entities().filter(fits).collect(),
        Some(some) => some.into_iter().filter(fits).collect(),
    };
    Ok(by_name(engine, all, page, go_on, |id| {
        question.resource = Resource::Registered(id);
        with_scratch(|scratch| decide(engine, &question, scratch)).allowed
    }))
}

/// The registered subjects of a kind (`user` or `service`) who may.
///
/// What the request says of the subject is left out. Costs as [`resources`], with all of the kind.
///
/// # Errors
/// If the request is malformed.
pub fn subjects(
    engine: Engine<'_>,
    kind: &str,
    request: &Request,
    now: Timestamp,
    page: (&str, usize),
    go_on: &mut dyn FnMut() -> bool,
) -> Result<Found, Malformed> {
    let nobody =
        Request { subject: "anonymous".to_owned(), of_subject: serde_json::Map::new(), ..request.clone() };
    let Ok(mut question) = nobody.resolve(engine, now)?.question else { return Ok(Found::default()) };
    let register = engine.register;
    let all = register.all_entities().filter(|id| register.text(register.kind(*id)) == kind).collect();
    Ok(by_name(engine, all, page, go_on, |id| {
        question.subject = Subject::Entity(id);
        with_scratch(|scratch| decide(engine, &question, scratch)).allowed
    }))
}

fn by_name(
    engine: Engine<'_>,
    all: Vec<EntityId>,
    (after, limit): (&str, usize),
    go_on: &mut dyn FnMut() -> bool,
    mut may: impl FnMut(EntityId) -> bool,
) -> Found {
    let named = all.into_iter().map(|id| (engine.register.name(id), id));
    let mut heap: BinaryHeap<_> = named.filter(|(name, _)| *name > after).map(Reverse).collect();
    let mut found = Found::default();
    let mut last = after;
    while let Some(Reverse((name, id))) = heap.pop() {
        if found.names.len() >= limit || !go_on() {
            found.next = Some(last.to_owned());
            break;
        }
        last = name;
        if may(id) {
            found.names.push(name.to_owned());
        }
    }
    found
}
