//! Settings of the workspace.

use crate::body::StrictJson;
use crate::node::gate::Operator;
use crate::node::gate::release::SettingsRead;
use crate::problem::{Problem, Refused};
use axum::Json;
use ostrog_core::release::settings::Right;
use ostrog_wire::release::{
    OperatorMoved, PersonShown, SettingsAsked, SettingsChange, SettingsPut, SettingsShown,
};

/// Longest text.
const MAX_TEXT: usize = 256 << 10;

/// What is shown where nobody has put settings: how it works then.
const UNSET: &str = "# Nobody has put settings: one person may put changes live alone.\n\
                     [release]\napprovals = 0\nrequire-rehearsal = false\n";

fn change(read: SettingsRead<'_>, text: &str) -> Result<SettingsChange, Problem> {
    let (weighs, moved) = read.change(text)?;
    let moved = moved.into_iter().map(|(who, gained, what)| OperatorMoved { who, gained, what }).collect();
    Ok(SettingsChange { id: None, in_force: false, weighs, moved })
}

/// Settings in force, and what was put.
#[utoipa::path(get, path = "/api/v1/settings", tag = "settings",
    responses((status = 200, description = "Settings", body = SettingsShown), Refused),
    security(("key" = [])))]
pub async fn settings(operator: Operator) -> Result<Json<SettingsShown>, Problem> {
    let read = operator.settings()?;
    let names = operator.texts()?.names().await?;
    let (in_use, all) = (read.in_use(), read.all().await?);
    let right = |right: &Right| match right.at.as_str() {
        "everywhere" => right.role.clone(),
        at => format!("{}@{at}", right.role),
    };
    let people = in_use.settings.operators.people.iter();
    let people = people.map(|(key, person)| PersonShown {
        key: key.clone(),
        name: person.name.clone(),
        sign_ins: person.sign_ins.iter().cloned().collect(),
        roles: person.rights.iter().map(right).collect(),
    });
    let mut history = Vec::new();
    for put in all {
        let (state, why) = match (&put.ended, put.in_force_at) {
            (Some((_, why)), _) => ("ended", vec![why.clone()]),
            (None, None) => ("waiting", read.change(&put.text)?.0),
            (None, Some(_)) if Some(put.number) == in_use.number => ("in-force", Vec::new()),
            (None, Some(_)) => ("before", Vec::new()),
        };
        history.push(SettingsPut {
            id: format!("S-{}", put.number),
            text: put.text,
            by: names.get(&put.author).cloned().unwrap_or(put.author),
            at: put.created_at.to_string(),
            note: put.note,
            state: state.to_owned(),
            why,
        });
    }
    Ok(Json(SettingsShown {
        number: in_use.number.unwrap_or(0),
        text: if in_use.number.is_some() { in_use.text.clone() } else { UNSET.to_owned() },
        approvals: in_use.settings.release.approvals,
        require_rehearsal: in_use.settings.release.require_rehearsal,
        people: people.collect(),
        history,
    }))
}

/// Puts settings. What changes how policy is released or who operates, and what keeps less of decisions, waits until
/// another has approved it, as the settings in force say.
#[utoipa::path(put, path = "/api/v1/settings", tag = "settings", request_body = SettingsAsked,
    responses((status = 200, description = "They are in force, or wait", body = SettingsChange), Refused),
    security(("key" = [])))]
pub async fn put_settings(
    operator: Operator,
    StrictJson(asked, _held): StrictJson<SettingsAsked>,
) -> Result<Json<SettingsChange>, Problem> {
    let keeping = operator.settings_keeping()?;
    if asked.text.len() > MAX_TEXT {
        return Err(Problem::malformed(format!("Settings have at most {MAX_TEXT} bytes.")));
    }
    let change = change(operator.settings()?, &asked.text)?;
    if asked.check {
        return Ok(Json(change));
    }
    let (number, waits) = keeping.put(asked.text, asked.from, asked.note).await?;
    Ok(Json(SettingsChange { id: Some(format!("S-{number}")), in_force: waits.is_empty(), ..change }))
}
