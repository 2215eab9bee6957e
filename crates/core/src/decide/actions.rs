//! What may a subject do with a resource? One decision for each action of its type.

use super::question::{Malformed, Request};
use super::{Decision, Engine, decide, with_scratch};
use crate::charter::model::PermId;
use jiff::Timestamp;

/// Every permission of the resource's type, in the order declared, with its decision.
///
/// `request.permission` is not looked at. Costs one decision an action.
///
/// # Errors
/// If the request names no resource or is malformed.
pub fn actions(
    engine: Engine<'_>,
    request: &Request,
    now: Timestamp,
) -> Result<Vec<(PermId, Decision)>, Malformed> {
    let Some(resource) = &request.resource else {
        return Err(Malformed("say which resource it is about: type:id".to_owned()));
    };
    let kind = crate::names::kind_of(resource).map_err(|wrong| Malformed(wrong.into()))?;
    let model = engine.policy.model();
    let Some(kind) = engine.policy.kind(kind).filter(|kind| kind.is_resource()) else {
        let known = model.kinds.iter().skip(4).map(|kind| kind.key.as_str());
        let near = crate::names::did_you_mean(kind, known);
        return Err(Malformed(format!("the charter declares no type {kind:?}{near}")));
    };
    let mut all = Vec::new();
    for permission in model.kinds[kind.index()].permissions.clone().map(PermId) {
        let text = model.permissions[permission.index()].text.clone();
        let asked = Request { permission: text, ..request.clone() }.resolve_quietly(engine, now)?;
        let decision = match &asked.question {
            Ok(question) => with_scratch(|scratch| decide(engine, question, scratch)),
            Err(reason) => Decision { allowed: false, reason: *reason },
        };
        all.push((permission, decision));
    }
    Ok(all)
}
