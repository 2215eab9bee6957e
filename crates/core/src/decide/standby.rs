//! Whether a grant on standby may be activated now: the condition of its role, asked before an
//! activation is written. Every decision asks it again.

use super::question::Request;
use super::{Engine, Named, truth_of};
use crate::charter::print;
use crate::value::Truth;
use jiff::Timestamp;
use serde_json::{Map, Value};

/// Asks the condition under which a grant's role may be activated, for a subject in a context. A
/// grant that is not there, or not on standby, is refused by the write itself.
///
/// # Errors
/// Why not, in a sentence.
pub fn may_begin(
    engine: Engine<'_>,
    grant: &str,
    subject: &str,
    context: &Map<String, Value>,
    now: Timestamp,
) -> Result<(), String> {
    let Some(grant) = engine.register.grant_by_id(grant) else { return Ok(()) };
    let Some(Named::Role(id)) = engine.link.roles[grant.role.0 as usize] else { return Ok(()) };
    let role = &engine.policy.model().roles[id.index()];
    let Some(when) = role.standby.as_ref().and_then(|standby| standby.when.as_ref()) else { return Ok(()) };
    // The condition reads no resource, so any permission will do to ask it about.
    let Some(permission) = engine.policy.model().permissions.first() else { return Ok(()) };
    let request = Request {
        subject: subject.to_owned(),
        permission: permission.text.clone(),
        context: context.clone(),
        ..Request::default()
    };
    let asked = request.resolve(engine, now).map_err(|malformed| malformed.to_string())?;
    let Ok(question) = &asked.question else { return Ok(()) };
    let word = match truth_of(engine, question, when) {
        Truth::True => return Ok(()),
        Truth::False => "false",
        Truth::Undetermined => "undetermined",
    };
    let ignored = asked.ignored.iter().map(|what| format!("; {what}")).collect::<String>();
    Err(format!(
        "{} may be activated only while {}, which is {word} here{ignored}",
        role.key,
        print::condition(engine.policy.model(), when)
    ))
}
