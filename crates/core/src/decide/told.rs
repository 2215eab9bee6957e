//! Questions with a blank and their answers as they are told: the same offline and over the network.

use super::actions::actions as all_actions;
use super::explain::{Word, explain};
use super::hints::{Hint, Judged, hints as all_hints};
use super::holders::{Class, Holders, holders as all_holders};
use super::question::{Malformed, Request};
use super::reach::{Reaching, reach as all_reach};
use super::rows::{Columns, NoFilter, Sql, Where, rows as row_filter};
use super::{Engine, Reason, with_scratch};
use crate::charter::model::Issuer;
use crate::charter::syntax::{GivenTo, Unregistered};
use crate::register::EntityId;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// A list, or a page of one.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct Listed<T> {
    /// What is listed.
    pub items: Vec<T>,
    /// Whether that is all.
    pub whole: bool,
    /// Where the next page begins, if there is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
    /// Of resources: whether one that is not registered, and of which nothing is said, is meant too.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub new: bool,
    /// Of subjects: how many there are in all, where they were counted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub total: Option<usize>,
    /// What the list does not know.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
}

impl<T> Listed<T> {
    fn all(items: Vec<T>) -> Listed<T> {
        Listed { items, whole: true, next: None, new: false, total: None, note: None }
    }
}

/// A permission, with its answer.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct ActionTold {
    /// `allowed` or `denied`.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub answer: Word,
    /// `type:action`.
    pub permission: String,
    /// The reason code.
    pub reason: String,
    /// For people.
    pub description: String,
}

/// A resource that may be acted on.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct ResourceTold {
    /// `type:id`.
    pub resource: String,
    /// The reason code.
    pub reason: String,
}

/// Somebody who may, or a class of whom everybody may.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct HolderTold {
    /// A name, or a class in words.
    pub who: String,
    /// The reason code.
    pub reason: String,
    /// How they come to it, where that was asked for.
    pub through: Option<String>,
}

/// A row filter.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct RowsTold {
    /// The filter as a tree.
    #[cfg_attr(feature = "schema", schema(value_type = Object))]
    pub filter: Value,
    /// Whether it selects nothing.
    pub none: bool,
    /// How many values its longest list has: resources by their ids, most often. Where that grows with
    /// the register, a column for what they are told apart by keeps the filter short.
    #[serde(default)]
    pub longest: usize,
    /// As SQL, where columns were given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sql: Option<Sql>,
}

impl RowsTold {
    fn of(filter: &Where, columns: Option<&Columns>) -> RowsTold {
        RowsTold {
            filter: filter.to_json(),
            none: *filter == Where::None,
            longest: filter.longest(),
            sql: columns.map(|columns| Sql::new(filter, columns)),
        }
    }

    /// The filter that selects nothing.
    pub fn nothing(columns: Option<&Columns>) -> RowsTold {
        RowsTold::of(&Where::None, columns)
    }
}

/// Why nothing is told.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NotTold {
    /// The question makes no sense.
    #[error(transparent)]
    Malformed(#[from] Malformed),
    /// There is no row filter.
    #[error("no row filter: {0}")]
    NoFilter(#[from] NoFilter),
    /// A page is to begin after something that is not registered.
    #[error("{0} is not registered; begin anew")]
    NoPage(String),
    /// It was broken off, and has no answer that is only part of one.
    #[error("it was broken off: there is too much to look through in the time there is")]
    BrokenOff,
}

/// What may they do with it? One decision for each action of its type.
///
/// # Errors
/// If the request makes no sense.
pub fn actions(engine: Engine<'_>, request: &Request, now: Timestamp) -> Result<Listed<ActionTold>, NotTold> {
    let found = all_actions(engine, request, now)?;
    let told = found.iter().map(|(permission, decision)| {
        let declared = &engine.policy.model().permissions[permission.index()];
        ActionTold {
            answer: if decision.allowed { "allowed" } else { "denied" }.into(),
            permission: declared.text.clone(),
            reason: decision.reason.code(engine),
            description: declared.description.clone(),
        }
    });
    Ok(Listed::all(told.collect()))
}

/// Which resources may they do it with? `go_on` is asked now and then; once it says no, the list ends
/// where it is, and says where to go on.
///
/// # Errors
/// If the request makes no sense, or a page is to begin after what is not registered.
pub fn reach(
    engine: Engine<'_>,
    request: &Request,
    (under, after, limit): (Option<&str>, Option<&str>, Option<usize>),
    now: Timestamp,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<Listed<ResourceTold>, NotTold> {
    let at = Reaching { under: under.map(str::to_owned), after: begins_after(engine, after)?, limit };
    let reached = all_reach(engine, request, now, &at, go_on)?;
    let told = reached.found.iter().map(|(id, reason)| ResourceTold {
        resource: engine.register.name(*id).to_owned(),
        reason: reason.code(engine),
    });
    Ok(Listed {
        items: told.collect(),
        whole: reached.next.is_none(),
        next: reached.next.map(|id| engine.register.name(id).to_owned()),
        new: reached.new,
        total: None,
        note: None,
    })
}

/// Who may do it? Classes first, then individuals; `through` tells how each comes to it. `go_on` is asked
/// now and then; once it says no, the list ends where it is.
///
/// # Errors
/// If the request makes no sense.
pub fn holders(
    engine: Engine<'_>,
    request: &Request,
    through: bool,
    now: Timestamp,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<Listed<HolderTold>, NotTold> {
    let request = Request { subject: "anonymous".to_owned(), ..request.clone() };
    let found = all_holders(engine, &request, now, go_on)?;
    let mut items = classes(engine, &request, &found, now)?;
    for (subject, reason) in &found.subjects {
        let name = engine.register.name(*subject);
        let through = if through { Some(how(engine, &request, name, now)?) } else { None };
        items.push(HolderTold { who: name.to_owned(), reason: reason.code(engine), through });
    }
    Ok(Listed { whole: found.whole, note: unknown_to_it(engine), ..Listed::all(items) })
}

/// Whom tokens vouch for is known only with the token.
fn unknown_to_it(engine: Engine<'_>) -> Option<String> {
    let vouches = |issuer: &&Issuer| {
        issuer.tenants.is_some()
            || !issuer.groups.is_empty()
            || !issuer.attributes.is_empty()
            || issuer.unregistered == Unregistered::SignedIn
    };
    let issuer = engine.policy.model().issuers.iter().find(vouches)?;
    Some(format!("who may by what a token of {} vouches for is not among them", issuer.key))
}

/// How one subject comes to it, as a sentence.
fn how(engine: Engine<'_>, request: &Request, subject: &str, now: Timestamp) -> Result<String, Malformed> {
    let request = Request { subject: subject.to_owned(), ..request.clone() };
    let asked = request.resolve_quietly(engine, now)?;
    Ok(with_scratch(|scratch| explain(engine, &asked, scratch)).1.sentence)
}

/// Anyone, and the classes of which everybody may.
fn classes(
    engine: Engine<'_>,
    request: &Request,
    found: &Holders,
    now: Timestamp,
) -> Result<Vec<HolderTold>, Malformed> {
    let mut items = Vec::new();
    if found.anonymous {
        let through = Some(how(engine, request, "anonymous", now)?);
        items.push(HolderTold { who: "anyone".to_owned(), reason: String::new(), through });
    }
    for class in &found.classes {
        let role = &engine.policy.model().roles[class.role.index()].key;
        items.push(HolderTold {
            who: class_words(class, request.resource.as_deref()),
            reason: format!("role:{role}"),
            through: Some(format!("{role} given to {}, {} now", class.given_to.text(), class.count)),
        });
    }
    Ok(items)
}

/// As [`holders`], but the classes alone, and how many may in all.
///
/// # Errors
/// If the request makes no sense.
pub fn holders_counted(
    engine: Engine<'_>,
    request: &Request,
    now: Timestamp,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<Listed<HolderTold>, NotTold> {
    let found = all_holders(engine, request, now, go_on)?;
    let items = classes(engine, request, &found, now)?;
    let note = unknown_to_it(engine);
    Ok(Listed { whole: found.whole, total: Some(found.allowed), note, ..Listed::all(items) })
}

/// A page of those who may, in the order they were registered: who comes after somebody, at most so
/// many. Costs a decision for each who could be let in, as far as the page goes.
///
/// # Errors
/// If the request makes no sense, or nobody is called so.
pub fn holders_page(
    engine: Engine<'_>,
    request: &Request,
    (after, limit): (Option<&str>, usize),
    now: Timestamp,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<Listed<HolderTold>, NotTold> {
    let at = (begins_after(engine, after)?, limit);
    let page = super::holders::page(engine, request, at, now, go_on)?;
    let who = |(id, reason): &(EntityId, Reason)| HolderTold {
        who: engine.register.name(*id).to_owned(),
        reason: reason.code(engine),
        through: None,
    };
    let items = page.subjects.iter().map(who).collect();
    let next = page.next.map(|id| engine.register.name(id).to_owned());
    Ok(Listed { whole: page.whole, next, note: unknown_to_it(engine), ..Listed::all(items) })
}

/// What a page begins after: what may not be named is as what is not there.
fn begins_after(engine: Engine<'_>, name: Option<&str>) -> Result<Option<EntityId>, NotTold> {
    let Some(name) = name else { return Ok(None) };
    let found = engine.register.find(name).filter(|id| engine.sight.names(engine.register, *id));
    found.map(Some).ok_or_else(|| NotTold::NoPage(name.to_owned()))
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

/// On which rows of an application's table? `go_on` is asked before each decision; once it says no, there
/// is no filter.
///
/// # Errors
/// If the request makes no sense, or it cannot be said on these columns.
pub fn rows(
    engine: Engine<'_>,
    request: &Request,
    columns: Option<&Columns>,
    now: Timestamp,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<RowsTold, NotTold> {
    Ok(RowsTold::of(&row_filter(engine, request, now, columns, go_on)?, columns))
}

/// What does an application's interface show and enable? `go_on` is asked now and then; once it says no,
/// there is no answer.
///
/// # Errors
/// If the request makes no sense, or it was broken off.
pub fn hints(
    engine: Engine<'_>,
    judged: Judged<'_>,
    now: Timestamp,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<Listed<Hint>, NotTold> {
    let found = all_hints(engine, judged, now, go_on)?;
    Ok(Listed::all(found.ok_or(NotTold::BrokenOff)?))
}
