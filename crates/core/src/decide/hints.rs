//! What an application's interface should show and enable for a subject.

use super::in_force::ByType;
use super::question::{Malformed, Request};
use super::reach::{Reaching, reach};
use super::{Engine, Reason, decide, with_scratch};
use crate::charter::model::{KindId, PermId};
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
    /// Of one that is shown and may not be used, judged on a resource: the reason code.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// What the rule that denies it says to people.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
}

/// What is judged, and for whom.
#[derive(Clone, Copy)]
pub struct Judged<'a> {
    /// The application.
    pub application: &'a str,
    /// Who, on what; `permission` is not looked at.
    pub request: &'a Request,
    /// Whether whoever asks may ask about a type. What they may not ask about is denied.
    pub asks: &'a dyn Fn(KindId) -> bool,
    /// What is asked about a type.
    pub under: ByType<'a, 'a>,
}

impl std::fmt::Debug for Judged<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Judged").field("application", &self.application).finish_non_exhaustive()
    }
}

/// How a permission was judged.
#[derive(Clone, Default)]
struct May {
    allowed: bool,
    somewhere: bool,
    /// Of a denial on a resource: the reason code, and what the rule says that denies it.
    why: Option<(String, Option<String>)>,
}

/// All affordances of an application, in the order they were written.
///
/// Each is judged on the request's resource if that is of its permission's type, else on whether
/// the subject may do so with at least one registered resource, under the charter that is live for its permission's
/// type. Costs two decisions an affordance, or a search that ends at its first find. `go_on` is asked now and
/// then; once it says no, there is no answer (none).
///
/// # Errors
/// If there is no such application or the request is malformed.
pub fn hints(
    engine: Engine<'_>,
    Judged { application, request, asks, under }: Judged<'_>,
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
    let mut may = |permission: PermId| -> Result<May, Malformed> {
        let declared = &model.permissions[permission.index()];
        if !asks(declared.kind) {
            let here = kind == Some(declared.kind);
            let why = here.then(|| (Reason::UnknownType.code(engine), None));
            return Ok(May { allowed: false, somewhere: !here, why });
        }
        let under = under(&model.kinds[declared.kind.index()].key);
        let engine = under.engine;
        let request = Request { permission: declared.text.clone(), ..under.asks(request) };
        if kind != Some(declared.kind) {
            let first = Reaching { limit: Some(1), ..Reaching::default() };
            let found = reach(engine, &request, now, &first, go_on)?;
            // Broken off without a find, it says nothing.
            whole &= !found.found.is_empty() || found.next.is_none();
            return Ok(May { allowed: !found.found.is_empty(), somewhere: true, why: None });
        }
        let (allowed, reason) = match request.resolve_quietly(engine, now)?.question {
            Err(reason) => (false, reason),
            Ok(question) => {
                let decision = with_scratch(|scratch| decide(engine, &question, scratch));
                (decision.allowed, decision.reason)
            }
        };
        let says = || match reason {
            Reason::Rule(rule) => engine.policy.model().rules[rule.index()].message.clone(),
            _ => None,
        };
        let why = (!allowed).then(|| (reason.code(engine), says()));
        Ok(May { allowed, somewhere: false, why })
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
            let known = match visible[above].take() {
                Some(known) => known,
                None => may(model.affordances[above].visible)?,
            };
            shown = known.allowed;
            visible[above] = Some(known);
            next = model.affordances[above].under;
        }
        let enabled = match shown {
            true => may(affordance.enabled)?,
            false => May::default(),
        };
        let (reason, message) = enabled.why.unzip();
        hints.push(Hint {
            key: affordance.key.clone(),
            name: affordance.name.clone(),
            visible: shown,
            enabled: enabled.allowed,
            somewhere: enabled.somewhere || visible[at].as_ref().is_some_and(|known: &May| known.somewhere),
            reason,
            message: message.flatten(),
        });
    }
    Ok(whole.then_some(hints))
}
