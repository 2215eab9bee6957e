//! Searches by pages, in the order of names: the same wherever and whenever it is asked, so that a
//! page can be asked of another node than the one before.

use super::question::{Malformed, Request, Resource, Subject};
use super::{Engine, decide, with_scratch};
use crate::register::{EntityId, Sym};
use jiff::Timestamp;
use std::cmp::Reverse;
use std::collections::BinaryHeap;

/// How many are decided about on each page, however little time there is: a page that found nobody moves
/// on all the same.
const AT_LEAST: usize = 64;

/// Which page: what comes after a name, so many at most.
pub type Page<'p> = (&'p str, usize);

/// One page.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Found {
    /// Who or what was found, by name.
    pub names: Vec<String>,
    /// The name to go on after, if there may be more.
    pub next: Option<String>,
}

/// The registered resources of the permission's type that the subject may act on, of those in sight.
///
/// What the request says of the resource is left out. `go_on` is asked before each decision but the first
/// few; once it says no, the page ends. Costs a look at each resource that could be reached, and a decision
/// for each up to the page's end.
///
/// # Errors
/// If the request is malformed.
pub fn resources(
    engine: Engine<'_>,
    request: &Request,
    now: Timestamp,
    page: Page<'_>,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<Found, Malformed> {
    let request = Request { resource: None, of_resource: serde_json::Map::new(), ..request.clone() };
    let asked = request.resolve_quietly(engine, now)?;
    let Ok(mut question) = asked.question else { return Ok(Found::default()) };
    let all = super::reach::within_reach(engine, &question);
    Ok(by_name(engine, all, page, go_on, |id| {
        question.resource = Resource::Registered(id);
        with_scratch(|scratch| decide(engine, &question, scratch)).allowed
    }))
}

/// The registered subjects of a kind (`user` or `service`) who may.
///
/// What the request says of the subject is left out. Costs as [`resources`], with everybody who could be
/// let in, as of [`super::holders::holders`].
///
/// # Errors
/// If the request is malformed.
pub fn subjects(
    engine: Engine<'_>,
    kind: &str,
    request: &Request,
    now: Timestamp,
    page: Page<'_>,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<Found, Malformed> {
    let nobody =
        Request { subject: "anonymous".to_owned(), of_subject: serde_json::Map::new(), ..request.clone() };
    let asked = nobody.resolve_quietly(engine, now)?;
    let Ok(mut question) = asked.question else { return Ok(Found::default()) };
    let kind = if kind == "service" { Sym::SERVICE } else { Sym::USER };
    let of_kind = |id: &EntityId| engine.register.kind(*id) == kind;
    let all = super::holders::could_be(engine, &question).filter(of_kind).collect();
    Ok(by_name(engine, all, page, go_on, |id| {
        question.subject = Subject::Entity(id);
        with_scratch(|scratch| decide(engine, &question, scratch)).allowed
    }))
}

fn by_name(
    engine: Engine<'_>,
    all: Vec<EntityId>,
    (after, limit): Page<'_>,
    go_on: &mut dyn FnMut() -> bool,
    mut may: impl FnMut(EntityId) -> bool,
) -> Found {
    let named = all.into_iter().map(|id| (engine.register.name(id), id));
    let mut heap: BinaryHeap<_> = named.filter(|(name, _)| *name > after).map(Reverse).collect();
    let mut found = Found::default();
    let mut last = after;
    let mut decided = 0;
    while let Some(Reverse((name, id))) = heap.pop() {
        if found.names.len() >= limit || (decided >= AT_LEAST && !go_on()) {
            found.next = Some(last.to_owned());
            break;
        }
        last = name;
        decided += 1;
        if may(id) {
            found.names.push(name.to_owned());
        }
    }
    found
}
