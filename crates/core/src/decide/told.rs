//! Questions with a blank and their answers as JSON: the same offline and over the network.

use super::actions::actions;
use super::explain::explain;
use super::hints::hints;
use super::holders::{Class, holders};
use super::question::Request;
use super::reach::{Reaching, reach};
use super::rows::{Columns, Sql, Where, rows};
use super::{Engine, with_scratch};
use crate::charter::syntax::GivenTo;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

/// What a question leaves blank.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Blank {
    /// What may they do with it?
    Actions,
    /// Which resources may they do it with?
    Reach,
    /// Who may do it?
    Holders,
    /// On which rows of an application's table?
    Rows,
    /// What does an application's interface show and enable?
    Hints,
}

/// What may be said beside a question with a blank; each key belongs to one of them.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct Beside {
    /// `reach`: only what lies within this.
    pub under: Option<String>,
    /// `reach`: only what was registered after this one.
    pub after: Option<String>,
    /// `reach`: at most so many.
    pub limit: Option<usize>,
    /// `holders`: tell of each how they come to it.
    pub through: bool,
    /// `rows`: the columns of the application's table.
    pub columns: Option<Columns>,
    /// `hints`: the application.
    pub application: String,
}

/// Answers a question with a blank.
///
/// `actions`, `reach`, `holders` and `hints` answer with `items`, `rows` with `filter` (and `sql`
/// where columns are given). `go_on` is asked now and then; once it says no, a list ends early and
/// says `"whole": false`, and a row filter is refused.
///
/// # Errors
/// If the request is malformed, or there is no row filter, in words.
pub fn told(
    engine: Engine<'_>,
    blank: Blank,
    request: &Request,
    beside: &Beside,
    now: Timestamp,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<Value, String> {
    match blank {
        Blank::Actions => actions_told(engine, request, now),
        Blank::Reach => reach_told(engine, request, beside, now, go_on),
        Blank::Holders => holders_told(engine, request, beside.through, now, go_on),
        Blank::Rows => rows_told(engine, request, beside.columns.as_ref(), now, go_on),
        Blank::Hints => {
            let found =
                hints(engine, &beside.application, request, now).map_err(|wrong| wrong.to_string())?;
            Ok(json!({ "items": found, "whole": true }))
        }
    }
}

fn actions_told(engine: Engine<'_>, request: &Request, now: Timestamp) -> Result<Value, String> {
    let found = actions(engine, request, now).map_err(|wrong| wrong.to_string())?;
    let item = |(permission, decision): &(crate::charter::model::PermId, super::Decision)| {
        let declared = &engine.policy.model().permissions[permission.index()];
        json!({
            "answer": if decision.allowed { "allowed" } else { "denied" },
            "permission": declared.text,
            "reason": decision.reason.code(engine),
            "description": declared.description,
        })
    };
    Ok(json!({ "items": found.iter().map(item).collect::<Vec<_>>(), "whole": true }))
}

fn reach_told(
    engine: Engine<'_>,
    request: &Request,
    beside: &Beside,
    now: Timestamp,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<Value, String> {
    let after = beside.after.as_ref().map(|name| {
        engine.register.find(name).ok_or_else(|| format!("{name} is not registered; begin anew"))
    });
    let at = Reaching { under: beside.under.clone(), after: after.transpose()?, limit: beside.limit };
    let reached = reach(engine, request, now, &at, go_on).map_err(|wrong| wrong.to_string())?;
    let item = |(id, reason): &(crate::register::EntityId, super::Reason)| json!({ "resource": engine.register.name(*id), "reason": reason.code(engine) });
    Ok(json!({
        "items": reached.found.iter().map(item).collect::<Vec<_>>(),
        "next": reached.next.map(|id| engine.register.name(id)),
        "whole": reached.next.is_none(),
        "new": reached.new,
    }))
}

fn holders_told(
    engine: Engine<'_>,
    request: &Request,
    through: bool,
    now: Timestamp,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<Value, String> {
    let request = Request { subject: "anonymous".to_owned(), ..request.clone() };
    let found = holders(engine, &request, now, go_on).map_err(|wrong| wrong.to_string())?;
    let how = |subject: &str| -> Result<Value, String> {
        let request = Request { subject: subject.to_owned(), ..request.clone() };
        let asked = request.resolve(engine, now).map_err(|wrong| wrong.to_string())?;
        Ok(with_scratch(|scratch| explain(engine, &asked, scratch)).1.sentence.into())
    };
    let mut items: Vec<Value> = Vec::new();
    if found.anonymous {
        items.push(json!({ "who": "anyone", "reason": "", "through": how("anonymous")? }));
    }
    for class in &found.classes {
        let role = &engine.policy.model().roles[class.role.index()].key;
        items.push(json!({
            "who": class_words(class, request.resource.as_deref()),
            "reason": format!("role:{role}"),
            "through": format!("{role} given to {}, {} now", class.given_to.text(), class.count),
        }));
    }
    for (subject, reason) in &found.subjects {
        let name = engine.register.name(*subject);
        let through = if through { how(name)? } else { Value::Null };
        items.push(json!({ "who": name, "reason": reason.code(engine), "through": through }));
    }
    Ok(json!({ "items": items, "whole": found.whole }))
}

fn class_words(class: &Class, resource: Option<&str>) -> String {
    let whom = match (class.users, class.services) {
        (true, true) => "every user and service",
        (false, true) => "every service",
        _ => "every user",
    };
    match (class.given_to, resource) {
        (GivenTo::Members, Some(resource)) => format!("{whom} of the tenant of {resource}"),
        (GivenTo::Members, None) => format!("{whom} of its tenant"),
        _ => format!("{whom} signed in"),
    }
}

fn rows_told(
    engine: Engine<'_>,
    request: &Request,
    columns: Option<&Columns>,
    now: Timestamp,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<Value, String> {
    let filter = rows(engine, request, now, columns, go_on).map_err(|why| format!("no row filter: {why}"))?;
    let mut told = json!({ "filter": filter.to_json(), "none": filter == Where::None });
    if let Some(columns) = columns {
        told["sql"] = serde_json::to_value(Sql::new(&filter, columns)).unwrap_or_default();
    }
    Ok(told)
}
