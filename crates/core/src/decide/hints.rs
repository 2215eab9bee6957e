//! What an application's interface should show and enable for a subject.

use super::question::{Malformed, Request};
use super::reach::{Reaching, reach};
use super::{Engine, decide, with_scratch};
use crate::charter::model::PermId;
use crate::names::{did_you_mean, split_entity};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// One affordance, judged.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct Hint {
    /// Its key.
    pub key: String,
    /// For people.
    pub name: String,
    /// Whether to show it.
    pub visible: bool,
    /// Whether it may be used; never if it is not shown.
    pub enabled: bool,
    /// Judged on no one resource, but on whether there is one that it may be done with.
    pub somewhere: bool,
}

/// All affordances of an application, in the order they were written.
///
/// Each is judged on the request's resource if that is of its permission's type, else on whether
/// the subject may do so with at least one registered resource. `request.permission` is not looked
/// at. Costs two decisions an affordance, or a search that ends at its first find. `go_on` is asked now and
/// then; once it says no, there is no answer (none).
///
/// # Errors
/// If there is no such application or the request is malformed.
pub fn hints(
    engine: Engine<'_>,
    application: &str,
    request: &Request,
    now: Timestamp,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<Option<Vec<Hint>>, Malformed> {
    let model = engine.policy.model();
    let Some(owner) = model.applications.iter().position(|known| known.key == application) else {
        let near = did_you_mean(application, model.applications.iter().map(|known| known.key.as_str()));
        return Err(Malformed(format!("the charter declares no application {application:?}{near}")));
    };
    let kind = match &request.resource {
        None => None,
        Some(resource) => {
            engine.policy.kind(split_entity(resource).map_err(|wrong| Malformed(wrong.into()))?.0)
        }
    };
    let mut whole = true;
    let mut may = |permission: PermId| -> Result<(bool, bool), Malformed> {
        let declared = &model.permissions[permission.index()];
        let request = Request { permission: declared.text.clone(), ..request.clone() };
        if kind != Some(declared.kind) {
            let first = Reaching { limit: Some(1), ..Reaching::default() };
            let found = reach(engine, &request, now, &first, go_on)?;
            // Broken off without a find, it says nothing.
            whole &= !found.found.is_empty() || found.next.is_none();
            return Ok((!found.found.is_empty(), true));
        }
        let asked = request.resolve_quietly(engine, now)?;
        let allowed =
            asked.question.is_ok_and(|question| with_scratch(|s| decide(engine, &question, s)).allowed);
        Ok((allowed, false))
    };
    let mut visible = vec![None; model.affordances.len()];
    let mut hints = Vec::new();
    for (at, affordance) in model.affordances.iter().enumerate() {
        if affordance.application != owner {
            continue;
        }
        // Hidden where what it stands under is hidden, all the way up; there are no circles.
        let mut shown = true;
        let mut next = Some(at);
        while let (true, Some(above)) = (shown, next) {
            let known = match visible[above] {
                Some(known) => known,
                None => may(model.affordances[above].visible)?,
            };
            visible[above] = Some(known);
            shown = known.0;
            next = model.affordances[above].under;
        }
        let (enabled, elsewhere) = if shown { may(affordance.enabled)? } else { (false, false) };
        hints.push(Hint {
            key: affordance.key.clone(),
            name: affordance.name.clone(),
            visible: shown,
            enabled,
            somewhere: elsewhere || visible[at].is_some_and(|(_, somewhere)| somewhere),
        });
    }
    Ok(whole.then_some(hints))
}
