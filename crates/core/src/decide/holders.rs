//! Who may? Classes of subjects first, where every one of a class may, then individuals. Exact:
//! everybody who could be allowed is decided about one by one.

use super::question::{Malformed, Question, Request, Subject};
use super::walk::Walk;
use super::ways::Ways;
use super::{Decision, Engine, Reason, Tenant, decide, with_scratch};
use crate::charter::model::RoleId;
use crate::charter::syntax::GivenTo;
use crate::register::{EntityId, Sym};
use jiff::Timestamp;
use std::collections::HashMap;

/// Who may.
#[derive(Clone, Debug, Default)]
pub struct Holders {
    /// Whether somebody who is not signed in may.
    pub anonymous: bool,
    /// Classes of which every registered, active subject may.
    pub classes: Vec<Class>,
    /// Everybody else who may, in the order they were registered.
    pub subjects: Vec<(EntityId, Reason)>,
    /// How many may, those of classes among them.
    pub allowed: usize,
    /// How many were decided about.
    pub examined: usize,
    /// Whether everybody who could be allowed was decided about; if not, no class is told.
    pub whole: bool,
}

/// A class of subjects, every one of whom may.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Class {
    /// Everybody who is signed in, or every member of the tenant.
    pub given_to: GivenTo,
    /// By this role, which is given to them without a grant.
    pub role: RoleId,
    /// Of the subjects it may be held by: users, services or both.
    pub users: bool,
    /// Whether services are of it.
    pub services: bool,
    /// How many there are now.
    pub count: usize,
}

impl Class {
    /// Whether a subject is of it, where the resource has this tenant.
    fn has(&self, engine: Engine<'_>, id: EntityId, tenant: Tenant) -> bool {
        let is_user = engine.register.kind(id) == Sym::USER;
        (if is_user { self.users } else { self.services })
            && (self.given_to == GivenTo::SignedIn
                || matches!(tenant, Tenant::Is(of) if engine.register.tenants(id).contains(&of)))
    }
}

/// Searches. `go_on` is asked now and then; once it says no, the search ends where it is.
///
/// What the request says of the subject is left out. Costs a decision for each subject that could
/// be allowed: whom a grant, a relation, a group or the tenant leads to; all, if it may come otherwise.
///
/// # Errors
/// If the request is malformed.
pub fn holders(
    engine: Engine<'_>,
    request: &Request,
    now: Timestamp,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<Holders, Malformed> {
    let request =
        Request { subject: "anonymous".into(), of_subject: serde_json::Map::new(), ..request.clone() };
    let asked = request.resolve_quietly(engine, now)?;
    let mut holders = Holders { whole: true, ..Holders::default() };
    let Ok(mut question) = asked.question else { return Ok(holders) };
    holders.anonymous = with_scratch(|scratch| decide(engine, &question, scratch)).allowed;

    let candidates = could_be(engine, &question);
    let mut gifts: HashMap<RoleId, (Class, bool)> = HashMap::new();
    for role in
        engine.policy.given().iter().filter(|role| engine.policy.may_give(**role, question.permission))
    {
        let declared = &engine.policy.model().roles[role.index()];
        let Some(given_to) = declared.given_to else { continue };
        let class = Class {
            given_to: if given_to == GivenTo::Anyone { GivenTo::SignedIn } else { given_to },
            role: *role,
            users: declared.held_by_users,
            services: declared.held_by_services,
            count: 0,
        };
        gifts.insert(*role, (class, true));
    }
    let tenant = with_scratch(|scratch| Walk::new(engine, &question, scratch).site.tenant);
    let mut found = Vec::new();
    for id in candidates {
        if holders.examined % 256 == 255 && !go_on() {
            holders.whole = false;
            break;
        }
        question.subject = Subject::Entity(id);
        let decision = with_scratch(|scratch| decide(engine, &question, scratch));
        holders.examined += 1;
        for (class, all) in gifts.values_mut() {
            if class.has(engine, id, tenant) {
                class.count += 1;
                *all &= decision.allowed;
            }
        }
        if let Decision { allowed: true, reason } = decision {
            found.push((id, reason));
        }
    }
    let whole = holders.whole;
    holders.allowed = found.len();
    let classes = gifts.into_values().filter(|(class, all)| whole && *all && class.count > 0);
    holders.classes = classes.map(|(class, _)| class).collect();
    holders.classes.sort_by_key(|class| (class.given_to == GivenTo::Members, class.role));
    let classes = &holders.classes;
    found.retain(|(id, _)| !classes.iter().any(|class| class.has(engine, *id, tenant)));
    holders.subjects = found;
    Ok(holders)
}

/// A page of those who may.
#[derive(Clone, Debug)]
pub struct Page {
    /// Who may, in the order they were registered.
    pub subjects: Vec<(EntityId, Reason)>,
    /// The last one looked at, if others may come after.
    pub next: Option<EntityId>,
    /// Whether it ends where a page does, and was not broken off.
    pub whole: bool,
}

/// Those who may and were registered after somebody, at most so many. `go_on` is asked now and then;
/// once it says no, the page ends where it is, and the next one goes on from there.
///
/// # Errors
/// If the request is malformed.
pub fn page(
    engine: Engine<'_>,
    request: &Request,
    (after, limit): (Option<EntityId>, usize),
    now: Timestamp,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<Page, Malformed> {
    let request =
        Request { subject: "anonymous".into(), of_subject: serde_json::Map::new(), ..request.clone() };
    let asked = request.resolve_quietly(engine, now)?;
    let mut page = Page { subjects: Vec::new(), next: None, whole: true };
    let Ok(mut question) = asked.question else { return Ok(page) };
    let candidates = could_be(engine, &question).filter(|id| after.is_none_or(|after| *id > after));
    for (at, id) in candidates.enumerate() {
        question.subject = Subject::Entity(id);
        let decision = with_scratch(|scratch| decide(engine, &question, scratch));
        if decision.allowed {
            page.subjects.push((id, decision.reason));
        }
        if page.subjects.len() >= limit {
            page.next = Some(id);
            break;
        }
        if at % 256 == 255 && !go_on() {
            (page.next, page.whole) = (Some(id), false);
            break;
        }
    }
    Ok(page)
}

/// Every active user and service who could be let in, in order. Whoever is of a class is among them.
pub(super) fn could_be<'e>(
    engine: Engine<'e>,
    question: &Question,
) -> Box<dyn Iterator<Item = EntityId> + 'e> {
    Ways::of(engine.policy, question.permission).subjects(engine, question)
}
