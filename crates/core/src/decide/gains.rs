//! What a token adds: what its bearer may do that the register alone would not give, and the other way round.

use super::bearer::Bearer;
use super::question::{Malformed, Request};
use super::reach::{Reached, Reaching, reach};
use super::{Reason, World};
use crate::charter::model::PermId;
use crate::register::EntityId;
use crate::register::sight::Sight;
use jiff::Timestamp;
use std::collections::BTreeMap;
use std::sync::Arc;

/// A permission that one side has on more resources than the other.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Gain {
    /// The permission.
    pub permission: PermId,
    /// By what, on the first of them: the reason code.
    pub reason: String,
    /// Those registered resources, in the order they were registered.
    pub resources: Vec<EntityId>,
    /// Whether one that is not registered, and of which nothing is said, is among them.
    pub new: bool,
}

/// What a token adds and takes away.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Gains {
    /// What its bearer may do by it, and not without it.
    pub gained: Vec<Gain>,
    /// What they may do without it, and not by it.
    pub lost: Vec<Gain>,
}

/// What a token's bearer may do by it and not without it, and what without it and not by it: for every
/// permission of the applications its issuer is for. `go_on` is asked now and then; none if it said no.
///
/// Costs two searches for each permission.
///
/// # Errors
/// If the bearer's name is none.
pub fn gains(
    world: &World,
    sight: &Sight,
    bearer: &Arc<Bearer>,
    now: Timestamp,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<Option<Gains>, Malformed> {
    let model = world.policy().model();
    let issuer = &model.issuers[bearer.issuer];
    let mut gains = Gains::default();
    for permission in (0..model.permissions.len()).map(PermId::at) {
        let declared = &model.permissions[permission.index()];
        let owner = model.kinds[declared.kind.index()].application;
        if !owner.is_some_and(|owner| issuer.applications.contains(&owner)) {
            continue;
        }
        let by = Request {
            bearer: Some(Ok(Arc::clone(bearer))),
            permission: declared.text.clone(),
            ..Request::default()
        };
        let without = Request { bearer: None, subject: bearer.name.clone(), ..by.clone() };
        let all = Reaching::default();
        let with_token = bearer.world(world).engine_in(sight);
        let by = reach(with_token, &by, now, &all, go_on)?;
        let without = reach(world.engine_in(sight), &without, now, &all, go_on)?;
        if by.next.is_some() || without.next.is_some() {
            return Ok(None);
        }
        gains.gained.extend(more(permission, &by, &without, |reason| reason.code(with_token)));
        gains.lost.extend(more(permission, &without, &by, |reason| reason.code(world.engine_in(sight))));
    }
    Ok(Some(gains))
}

/// What one search found and another did not.
fn more(
    permission: PermId,
    found: &Reached,
    other: &Reached,
    code: impl Fn(Reason) -> String,
) -> Option<Gain> {
    let others: BTreeMap<EntityId, Reason> = other.found.iter().copied().collect();
    let more: Vec<(EntityId, Reason)> =
        found.found.iter().copied().filter(|(id, _)| !others.contains_key(id)).collect();
    let new = found.new && !other.new;
    if more.is_empty() && !new {
        return None;
    }
    Some(Gain {
        permission,
        reason: more.first().map_or_else(String::new, |(_, reason)| code(*reason)),
        resources: more.into_iter().map(|(id, _)| id).collect(),
        new,
    })
}
