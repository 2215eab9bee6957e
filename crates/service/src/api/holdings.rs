//! Who holds what at a place, what reaches a subject, and whom a role reaches.

use super::told;
use crate::App;
use crate::body::{InPath, Params};
use crate::node::gate::{Facts, Operator};
use crate::problem::{Problem, Refused};
use axum::extract::State;
use axum::response::Response;
use jiff::Timestamp;
use ostrog_core::register::Grant;
use ostrog_core::register::holdings::{Standing, arriving, places, reaching, standing, touched};
use ostrog_wire::register::{Holding, HoldingQuery, Holdings, RoleReach};

/// Most rows of one page.
const MAX_PAGE: usize = 1_000;
/// Most subjects that are counted of a role.
const MAX_SUBJECTS: usize = 1_000_000;
/// Most members of a group that are counted.
const MAX_MEMBERS: usize = 10_000;

/// A grant with how it stands.
fn holding(facts: Facts<'_>, grant: &Grant<'_>, now: Timestamp) -> Holding {
    let engine = facts.engine();
    let register = engine.register;
    let members = register.members(grant.to);
    let members = (!members.is_empty()).then(|| {
        // A group as large as that is told by its direct members.
        if members.len() > MAX_MEMBERS { members.len() } else { register.subjects_of(grant.to).len() }
    });
    let standing = standing(engine.policy, register, grant, now);
    Holding {
        grant: facts.grant_line(grant).grant,
        standing: standing.word().into(),
        why: if let Standing::Idle(why) = standing { Some(why.to_string()) } else { None },
        members,
    }
}

/// Who holds what: at a place, with why, or by a subject.
#[utoipa::path(get, path = "/api/v1/holdings", tag = "register", params(HoldingQuery),
    responses(
        (status = 200, description = "Grants, soonest end first", body = Holdings),
        Refused,
    ), security(("key" = [])))]
pub async fn holdings(
    State(app): State<App>,
    operator: Operator,
    Params(query): Params<HoldingQuery>,
) -> Result<Response, Problem> {
    told(&app, operator, move |operator, _| {
        let now = Timestamp::now();
        let facts = operator.facts()?;
        let (grants, from) = match (query.at.as_deref(), query.by.as_deref()) {
            (Some(place), None) => at_place(facts, place, now)?,
            (None, Some(subject)) => by_subject(facts, subject, now)?,
            _ => return Err(Problem::malformed("Say at=PLACE or by=SUBJECT, one of them.")),
        };
        let is_role =
            |grant: &Grant<'_>| query.role.as_deref().is_none_or(|role| facts.text(grant.role) == role);
        let grants: Vec<_> =
            grants.into_iter().filter(|grant| is_role(grant) && facts.reads_grant(grant)).collect();
        let limit = query.limit.unwrap_or(100).clamp(1, MAX_PAGE);
        let end = query.after.saturating_add(limit);
        let page = grants.iter().skip(query.after).take(limit);
        Ok(Holdings {
            items: page.map(|grant| holding(facts, grant, now)).collect(),
            next: (end < grants.len()).then_some(end),
            total: grants.len(),
            from,
        })
    })
    .await
}

type Found<'s> = (Vec<Grant<'s>>, Vec<String>);

/// What arrives at a place, and the places it comes from.
fn at_place<'s>(facts: Facts<'s>, place: &str, now: Timestamp) -> Result<Found<'s>, Problem> {
    let register = facts.engine().register;
    let everywhere = "everywhere".to_owned();
    if place == "everywhere" {
        return Ok((arriving(register, None, now), vec![everywhere]));
    }
    let missing = || Problem::not_found(format!("{place} is not registered."));
    let id = facts.find(place).ok_or_else(missing)?.id();
    let from = places(register, id).into_iter().map(|id| facts.name(id).to_owned());
    Ok((arriving(register, Some(id), now), from.chain([everywhere]).collect()))
}

/// What reaches a subject, and the groups it comes through.
fn by_subject<'s>(facts: Facts<'s>, subject: &str, now: Timestamp) -> Result<Found<'s>, Problem> {
    let register = facts.engine().register;
    match facts.named(subject) {
        Some(id) => {
            let holders = register.holders_of(id);
            let seen = holders.iter().filter(|holder| **holder == id || facts.may_read(**holder));
            let from = seen.take(MAX_PAGE).map(|id| facts.name(*id).to_owned()).collect();
            Ok((reaching(register, id, now), from))
        }
        None if facts.is_everything() => Err(Problem::not_found(format!("{subject} is not registered."))),
        // To an operator of one tenant, who is not there and who holds nothing there are alike.
        None => Ok((Vec::new(), vec![subject.to_owned()])),
    }
}

/// How many subjects a role reaches by grants.
#[utoipa::path(get, path = "/api/v1/roles/{role}/reached", tag = "register",
    params(("role" = String, Path, description = "A role's key")),
    responses(
        (status = 200, description = "How many", body = RoleReach),
        Refused,
    ), security(("key" = [])))]
pub async fn role_reach(
    State(app): State<App>,
    operator: Operator,
    InPath(role): InPath<String>,
) -> Result<Response, Problem> {
    told(&app, operator, move |operator, ticket| {
        let facts = operator.all_facts()?;
        let id = facts.policy().role(&role);
        let id = id.ok_or_else(|| Problem::not_found(format!("The charter declares no role {role}.")))?;
        let mut go_on = || ticket.goes_on() && operator.counts();
        let touched = touched(facts.policy(), facts.engine().register, id, MAX_SUBJECTS, &mut go_on);
        Ok(RoleReach { grants: touched.grants, subjects: touched.subjects, whole: touched.whole })
    })
    .await
}
