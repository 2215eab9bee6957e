//! Entities: found, read, written and deleted, and the members of groups.

use super::register::{MAX_PAGE, ended, written};
use super::told;
use crate::App;
use crate::body::{InPath, Params, StrictJson};
use crate::node::gate::{Facts, Operator, Seen};
use crate::node::write::{Condition, Conditions};
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, HeaderName, header};
use axum::response::{IntoResponse as _, Response};
use ostrog_core::names::nearest;
use ostrog_core::prelude::{Change, line};
use ostrog_wire::register::{
    BriefQuery, DeleteQuery, EntityLine, EntityQuery, EntityShown, MemberQuery, Members, Page, Written,
};
use serde_json::{Map, Value};

/// How many names are looked at for the one that was meant.
const NEAR_AMONG: usize = 100_000;

/// Entities by name.
#[utoipa::path(get, path = "/api/v1/entities", tag = "register", params(EntityQuery),
    responses(
        (status = 200, description = "Entities as register lines, by name", body = Page<EntityLine>),
        Refused,
    ), security(("key" = [])))]
pub async fn entities(
    State(app): State<App>,
    operator: Operator,
    Params(query): Params<EntityQuery>,
) -> Result<Response, Problem> {
    let wanted = query.attribute.as_deref().map(attribute_wanted).transpose()?;
    told(&app, operator, move |operator, ticket| {
        let limit = query.limit.unwrap_or(100).clamp(1, MAX_PAGE);
        let facts = operator.facts()?;
        let text = query.containing.trim();
        let fits = |seen: &Seen<'_>| {
            let name = seen.name();
            name.starts_with(&query.prefix)
                && *name > *query.after
                && (text.is_empty() || seen.mentions(text))
                && wanted.as_ref().is_none_or(|(name, value)| seen.states(name, value))
        };
        let mut found = Vec::new();
        let order = operator.names();
        let mut in_order = false;
        let all: Box<dyn Iterator<Item = Seen<'_>>> = match (&query.within, &order) {
            (Some(outer), _) => Box::new(facts.find(outer).ok_or_else(|| missing(facts, outer))?.contents()),
            (None, Some(names)) => {
                in_order = true;
                Box::new(facts.by_name(names, query.prefix.as_str().max(&query.after)))
            }
            (None, None) => Box::new(facts.all()),
        };
        for (at, seen) in all.enumerate() {
            // By name the page is full once it is, and nothing comes after those that begin so.
            if in_order && (found.len() > limit || !seen.name().starts_with(&query.prefix)) {
                break;
            }
            if at % 1024 == 1023 && !(ticket.goes_on() && operator.counts()) {
                return Err(Problem::timeout(
                    "Looking through all entities takes too long; say more of them.",
                ));
            }
            if fits(&seen) {
                found.push((seen.name(), seen));
            }
        }
        let next = first(&mut found, limit);
        let line = |seen: Seen<'_>| if query.brief { seen.brief_line() } else { seen.line() };
        Ok(Page { items: found.into_iter().map(|(_, seen)| line(seen)).collect(), next })
    })
    .await
}

fn attribute_wanted(text: &str) -> Result<(String, Value), Problem> {
    let (name, value) = text
        .split_once('=')
        .ok_or_else(|| Problem::malformed("attribute is name=value, such as zone=quay."))?;
    Ok((name.to_owned(), serde_json::from_str(value).unwrap_or_else(|_| value.into())))
}

/// The names of the first so many: in an order of their own, and not in that of what became of others.
pub fn first_names<'s>(all: impl Iterator<Item = Seen<'s>>, limit: usize) -> Vec<String> {
    let mut found: Vec<(&str, ())> = all.map(|seen| (seen.name(), ())).collect();
    first(&mut found, limit);
    found.into_iter().map(|(name, ())| name.to_owned()).collect()
}

/// Leaves the first so many by name, in order; gives where the next page begins, if there is one.
pub fn first<T>(found: &mut Vec<(&str, T)>, limit: usize) -> Option<String> {
    let more = found.len() > limit;
    if more {
        // Without ordering all of them.
        found.select_nth_unstable_by(limit, |a, b| a.0.cmp(b.0));
        found.truncate(limit);
    }
    found.sort_unstable_by(|a, b| a.0.cmp(b.0));
    found.last().filter(|_| more).map(|(name, _)| (*name).to_owned())
}

/// One entity.
#[utoipa::path(get, path = "/api/v1/entities/{name}", tag = "register",
    params(("name" = String, Path, description = "type:id"), BriefQuery),
    responses(
        (status = 200, description = "All that is known of it", body = EntityShown,
            headers(("ETag" = String, description = "What stands for all that is said of it"))),
        Refused,
    ), security(("key" = [])))]
pub async fn entity(
    State(app): State<App>,
    operator: Operator,
    InPath(name): InPath<String>,
    Params(query): Params<BriefQuery>,
) -> Result<Response, Problem> {
    let key = operator.key_id().to_owned();
    let work = move |_: &crate::lanes::Ticket| {
        let facts = operator.facts()?;
        let seen = facts.find(&name).ok_or_else(|| missing(facts, &name))?;
        let mut grants: Vec<_> = seen.grants().collect();
        grants.sort_unstable_by_key(|grant| grant.id);
        let tag = seen.tag();
        let shown = EntityShown {
            tag: tag.clone(),
            entity: if query.brief { seen.brief_line() } else { seen.line() },
            groups: first_names(seen.groups(), usize::MAX),
            grants: grants.iter().map(|grant| facts.grant_line(grant)).collect(),
            contents: first_names(seen.contents(), MAX_PAGE),
            position: operator.position_number(),
        };
        Ok(([(header::ETAG, tag)], Json(shown)).into_response())
    };
    app.node.lanes.questions.run(&key, super::PATIENCE, work).await
}

/// What is not there and what is not theirs answer alike.
fn missing(facts: Facts<'_>, name: &str) -> Problem {
    let near = nearest(name, facts.all().take(NEAR_AMONG).map(|seen| seen.name()));
    let near = near.map_or_else(String::new, |near| format!("; did you mean {near}?"));
    Problem::not_found(format!("{name} is not registered{near}"))
}

/// The direct members of a group, by name.
#[utoipa::path(get, path = "/api/v1/entities/{name}/members", tag = "register",
    params(("name" = String, Path, description = "group:id"), MemberQuery),
    responses(
        (status = 200, description = "A page of them", body = Members),
        Refused,
    ), security(("key" = [])))]
pub async fn members(
    State(app): State<App>,
    operator: Operator,
    InPath(name): InPath<String>,
    Params(query): Params<MemberQuery>,
) -> Result<Response, Problem> {
    told(&app, operator, move |operator, _| {
        let facts = operator.facts()?;
        let seen = facts.find(&name);
        let seen = seen.ok_or_else(|| Problem::not_found(format!("{name} is not registered.")))?;
        let limit = query.limit.unwrap_or(100).clamp(1, MAX_PAGE);
        let fits = |name: &&str| {
            name.starts_with(&query.prefix) && name.contains(query.containing.trim()) && **name > *query.after
        };
        let mut found: Vec<_> = seen.members().filter(fits).map(|name| (name, ())).collect();
        let next = first(&mut found, limit);
        let items = found.into_iter().map(|(name, ())| name.to_owned()).collect();
        Ok(Members { items, next, total: seen.members().len() })
    })
    .await
}

/// Writes all that is said of an entity: a register line's members, without its name.
///
/// With `If-Match` only if it is still what the caller has read; with `If-None-Match: *` only if it
/// is not registered.
#[utoipa::path(put, path = "/api/v1/entities/{name}", tag = "register", request_body = EntityLine,
    params(("name" = String, Path, description = "type:id"),
        ("If-Match" = Option<String>, Header, description = "The ETag that was read"),
        ("If-None-Match" = Option<String>, Header, description = "`*`")),
    responses(
        (status = 200, description = "It is so", body = Written),
        Refused,
    ), security(("key" = [])))]
pub async fn put_entity(
    operator: Operator,
    InPath(name): InPath<String>,
    headers: HeaderMap,
    StrictJson(mut line, _held): StrictJson<Map<String, Value>>,
) -> Result<Json<Written>, Problem> {
    if line.insert("entity".to_owned(), name.clone().into()).is_some_and(|told| told != name.as_str()) {
        return Err(Problem::malformed("The line is of another entity than the path."));
    }
    let change =
        line::from_json(&Value::Object(line)).map_err(|wrong| Problem::malformed(format!("{wrong}.")))?;
    let conditions = Conditions { expected: expected(&operator, &headers, name), ..Conditions::default() };
    written(operator.change(vec![change], None, conditions).await)
}

/// Deletes an entity; with `contents=true` what lies within it too.
#[utoipa::path(delete, path = "/api/v1/entities/{name}", tag = "register",
    params(("name" = String, Path, description = "type:id"), DeleteQuery,
        ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    responses(
        (status = 200, description = "It is gone, and every fact that named it", body = Written),
        Refused,
    ), security(("key" = [])))]
pub async fn delete_entity(
    operator: Operator,
    InPath(name): InPath<String>,
    headers: HeaderMap,
    Params(query): Params<DeleteQuery>,
) -> Result<Json<Written>, Problem> {
    let expected = expected(&operator, &headers, name.clone());
    let change = Change::Delete { name, contents: query.contents };
    ended(operator.change(vec![change], None, Conditions { expected, ..Conditions::default() }).await)
}

/// What a caller expects of an entity, by its preconditions (RFC 9110, 13.1): compared with what they
/// would read, while nobody else writes.
fn expected(operator: &Operator, headers: &HeaderMap, name: String) -> Option<Condition> {
    let text = |header: HeaderName| headers.get(header).and_then(|value| value.to_str().ok());
    let tag = match (text(header::IF_MATCH), text(header::IF_NONE_MATCH)) {
        (Some(tag), _) => Some(tag.to_owned()),
        (None, Some(_)) => None,
        (None, None) => return None,
    };
    Some(operator.condition(move |facts| {
        let now = facts.find(&name).map(|seen| seen.tag());
        match (&tag, now) {
            (Some(tag), Some(now)) if *tag == now || tag == "*" => Ok(()),
            (None, None) => Ok(()),
            (Some(_), None) => Err(Problem::changed(format!("{name} is not registered any more."))),
            _ => Err(Problem::changed(format!("{name} is not as you read it; read it again."))),
        }
    }))
}
