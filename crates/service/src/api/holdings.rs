//! Who holds what at a place, what reaches a subject, and whom a role reaches.

use super::register::{Readable, live};
use crate::App;
use crate::body::Params;
use crate::caller::Operator;
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::{Path, State};
use jiff::Timestamp;
use ostrog_core::prelude::Register;
use ostrog_core::register::holdings::{Standing, arriving, places, reaching, standing, touched};
use ostrog_core::register::{Grant, PlaceOf};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::{IntoParams, ToSchema};

/// Most rows of one page.
const MAX_PAGE: usize = 1_000;
/// Most subjects that are counted of a role.
const MAX_SUBJECTS: usize = 1_000_000;

/// Of a place, or of a subject.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct HoldingQuery {
    /// What arrives at this place: a resource, a tenant, or `everywhere`.
    at: Option<String>,
    /// What reaches this subject.
    by: Option<String>,
    /// Only grants of this role.
    role: Option<String>,
    /// How many to pass over: `next` of the page before.
    #[serde(default)]
    after: usize,
    /// At most so many; 100 unless stated, at most 1000.
    limit: Option<usize>,
}

/// A grant, and how it stands.
#[derive(Debug, Serialize, ToSchema)]
pub struct Holding {
    /// As a register line writes it.
    #[schema(value_type = Object)]
    grant: Value,
    /// `counts`, `later`, `ended`, `standby`, `active`, or `idle`: the charter does not permit it.
    standing: &'static str,
    /// Why it is idle.
    #[serde(skip_serializing_if = "Option::is_none")]
    why: Option<String>,
    /// How many subjects a group that holds it has.
    #[serde(skip_serializing_if = "Option::is_none")]
    members: Option<usize>,
}

/// Grants, soonest end first.
#[derive(Debug, Serialize, ToSchema)]
pub struct Holdings {
    /// The page.
    items: Vec<Holding>,
    /// What to pass over for the next page, if there is one.
    next: Option<usize>,
    /// How many there are in all.
    total: usize,
    /// The places they come from, from the inner to the outer; or the subject and its groups.
    from: Vec<String>,
}

/// Most members of a group that are counted.
const MAX_MEMBERS: usize = 10_000;

fn told(register: &Register, grant: &Grant<'_>, standing: Standing) -> Holding {
    let members = register.members(grant.to);
    let members = (!members.is_empty()).then(|| {
        // A group as large as that is told by its direct members.
        if members.len() > MAX_MEMBERS { members.len() } else { register.subjects_of(grant.to).len() }
    });
    Holding {
        grant: register.grant_json(grant)["grant"].clone(),
        standing: standing.word(),
        why: if let Standing::Idle(why) = standing { Some(why) } else { None },
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
) -> Result<Json<Holdings>, Problem> {
    let now = Timestamp::now();
    let state = app.node.state();
    let world = &live(&state)?.world;
    let register = world.register();
    let mut readable = Readable::new(&operator, world);
    let missing = |name: &str| Problem::not_found(format!("{name} is not registered."));
    let (grants, from) = match (query.at.as_deref(), query.by.as_deref()) {
        (Some("everywhere"), None) => (arriving(register, None, now), vec!["everywhere".to_owned()]),
        (Some(place), None) => {
            let found = register.registered(place).filter(|id| readable.has(*id));
            let place = found.ok_or_else(|| missing(place))?;
            let mut from: Vec<String> =
                places(register, place).iter().map(|id| register.name(*id).to_owned()).collect();
            from.push("everywhere".to_owned());
            (arriving(register, Some(place), now), from)
        }
        (None, Some(subject)) => match register.registered(subject) {
            Some(id) => {
                let holders = register.holders_of(id);
                let seen = holders.iter().filter(|holder| **holder == id || readable.has(**holder));
                let from = seen.take(MAX_PAGE).map(|id| register.name(*id).to_owned()).collect();
                (reaching(register, id, now), from)
            }
            None if readable.everything => return Err(missing(subject)),
            // To an operator of one tenant, who is not there and who holds nothing there are alike.
            None => (Vec::new(), vec![subject.to_owned()]),
        },
        _ => return Err(Problem::malformed("Say at=PLACE or by=SUBJECT, one of them.")),
    };
    let mut seen = |grant: &Grant<'_>| match grant.at {
        PlaceOf::Everywhere => readable.everything,
        PlaceOf::At(place) => readable.has(place),
    };
    let role = |grant: &Grant<'_>| query.role.as_deref().is_none_or(|role| register.text(grant.role) == role);
    let grants: Vec<_> = grants.into_iter().filter(|grant| role(grant) && seen(grant)).collect();
    let limit = query.limit.unwrap_or(100).clamp(1, MAX_PAGE);
    let end = query.after.saturating_add(limit);
    let page = grants.iter().skip(query.after).take(limit);
    Ok(Json(Holdings {
        items: page
            .map(|grant| told(register, grant, standing(world.policy(), register, grant, now)))
            .collect(),
        next: (end < grants.len()).then_some(end),
        total: grants.len(),
        from,
    }))
}

/// How many a role reaches by grants.
#[derive(Debug, Serialize, ToSchema)]
pub struct Reached {
    /// Grants of it, or of a role that includes it.
    grants: usize,
    /// Users and services, each once.
    subjects: usize,
    /// Whether all were counted.
    whole: bool,
}

/// How many subjects a role reaches by grants.
#[utoipa::path(get, path = "/api/v1/roles/{role}/reached", tag = "register",
    params(("role" = String, Path, description = "A role's key")),
    responses(
        (status = 200, description = "How many", body = Reached),
        Refused,
    ), security(("key" = [])))]
pub async fn reached(
    State(app): State<App>,
    operator: Operator,
    Path(role): Path<String>,
) -> Result<Json<Reached>, Problem> {
    operator.needs("register:read")?;
    let state = app.node.state();
    let world = &live(&state)?.world;
    let policy = world.policy();
    let id = policy.role(&role);
    let id = id.ok_or_else(|| Problem::not_found(format!("The charter declares no role {role}.")))?;
    let touched = tokio::task::block_in_place(|| touched(policy, world.register(), id, MAX_SUBJECTS));
    Ok(Json(Reached { grants: touched.grants, subjects: touched.subjects, whole: touched.whole }))
}
