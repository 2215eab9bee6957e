//! Keys: making, replacing and ending them. Nobody gives more than they have.

use crate::body::{InPath, Params, StrictJson};
use crate::node::gate::Operator;
use crate::node::gate::permission::Permission;
use crate::operators::wrong;
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::http::header::CACHE_CONTROL;
use axum::response::{IntoResponse as _, Response};
use jiff::{SignedDuration, Timestamp};
use ostrog_core::names::{Near, is_key};
use ostrog_core::value::parse_time;
use ostrog_store::key::{Key, KeyKind, KeyText, Making};
use ostrog_wire::keys::{KeyAsked, KeyMade, KeyShown, Overlap};

/// Longest time for which a replaced key goes on counting.
const MAX_OVERLAP: SignedDuration = SignedDuration::from_hours(24 * 30);
/// How long it does unless stated.
const OVERLAP: SignedDuration = SignedDuration::from_hours(24);

fn key_shown(key: &Key) -> KeyShown {
    let making = &key.making;
    KeyShown {
        id: key.id.clone(),
        application: match &making.kind {
            KeyKind::Application(application) => Some(application.clone()),
            KeyKind::Operator => None,
        },
        name: making.name.clone(),
        created_at: key.created_at.to_string(),
        until: making.until.map(|until| until.to_string()),
        last_used_at: key.last_used_at.map(|at| at.to_string()),
        detail: making.detail,
        endpoints: making.endpoints.clone(),
        types: making.types.clone(),
        rights: making.rights.clone(),
    }
}

fn made((text, key): (KeyText, Key)) -> Response {
    let made = KeyMade { text: text.reveal().to_owned(), key: key_shown(&key) };
    ([(CACHE_CONTROL, "no-store")], Json(made)).into_response()
}

/// All keys that have not ended.
#[utoipa::path(get, path = "/api/v1/keys", tag = "keys",
    responses(
        (status = 200, description = "Keys, oldest first", body = Vec<KeyShown>),
        Refused,
    ), security(("key" = [])))]
pub async fn keys(operator: Operator) -> Result<Json<Vec<KeyShown>>, Problem> {
    Ok(Json(operator.keys()?.all().await?.iter().map(key_shown).collect()))
}

/// Makes a key.
///
/// An operator's key has no right that its maker has not.
#[utoipa::path(post, path = "/api/v1/keys", tag = "keys", request_body = KeyAsked,
    responses(
        (status = 200, description = "The key; its text is shown this once", body = KeyMade),
        Refused,
    ), security(("key" = [])))]
pub async fn make_key(
    operator: Operator,
    StrictJson(asked, _held): StrictJson<KeyAsked>,
) -> Result<Response, Problem> {
    let keeping = operator.key_keeping()?;
    keeping.make(making(asked)?).await.map(made)
}

fn making(asked: KeyAsked) -> Result<Making, Problem> {
    if asked.name.trim().is_empty() || asked.name.len() > 200 {
        return Err(Problem::malformed("A key has a name, of at most 200 bytes."));
    }
    let until = match &asked.until {
        None => None,
        Some(text) => {
            let until = parse_time(text).filter(|until| *until > Timestamp::now());
            Some(until.ok_or_else(|| Problem::invalid(format!("{text:?} is no moment to come.")))?)
        }
    };
    let kind = match asked.application {
        None => KeyKind::Operator,
        Some(application) => KeyKind::Application(application),
    };
    match &kind {
        KeyKind::Operator if asked.rights.is_empty() => {
            return Err(Problem::invalid("An operator's key needs rights."));
        }
        KeyKind::Operator => {
            if let Some(wrong) = wrong(&asked.rights) {
                return Err(Problem::invalid(format!("{wrong}.")));
            }
        }
        KeyKind::Application(_) if !asked.rights.is_empty() => {
            return Err(Problem::invalid("An application's key has no rights; it asks questions."));
        }
        KeyKind::Application(_) => {}
    }
    let known = Permission::OF_APPLICATIONS.map(Permission::name);
    if let Some(unknown) = asked.endpoints.iter().find(|name| !known.contains(&name.as_str())) {
        let near = Near::of(unknown, known);
        let known = known.join(", ");
        return Err(Problem::invalid(format!("{unknown:?} is no endpoint to keep a key to: {known}{near}")));
    }
    if let Some(odd) = asked.types.iter().find(|name| !is_key(name)) {
        return Err(Problem::invalid(format!("{odd:?} is not a type.")));
    }
    Ok(Making {
        kind,
        name: asked.name,
        until,
        detail: asked.detail,
        endpoints: asked.endpoints,
        types: asked.types,
        rights: asked.rights,
    })
}

/// Makes a key in place of another, which goes on counting for a while.
#[utoipa::path(post, path = "/api/v1/keys/{id}/replacement", tag = "keys",
    params(("id" = String, Path, description = "The key to replace"), Overlap),
    responses(
        (status = 200, description = "The new key; its text is shown this once", body = KeyMade),
        Refused,
    ), security(("key" = [])))]
pub async fn replace_key(
    operator: Operator,
    InPath(id): InPath<String>,
    Params(query): Params<Overlap>,
) -> Result<Response, Problem> {
    let keeping = operator.key_keeping()?;
    let overlap = query.overlap.map_or(OVERLAP, |seconds| SignedDuration::from_secs(i64::from(seconds)));
    if overlap > MAX_OVERLAP {
        return Err(Problem::malformed("A replaced key counts for at most 30 days more."));
    }
    keeping.replace(&id, overlap).await.map(made)
}

/// Ends a key, at once.
#[utoipa::path(delete, path = "/api/v1/keys/{id}", tag = "keys",
    params(("id" = String, Path, description = "The key")),
    responses(
        (status = 200, description = "It has ended", body = KeyShown),
        Refused,
    ), security(("key" = [])))]
pub async fn end_key(operator: Operator, InPath(id): InPath<String>) -> Result<Json<KeyShown>, Problem> {
    Ok(Json(key_shown(&operator.key_keeping()?.end(&id).await?)))
}
