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
use ostrog_core::routes::Path;
use ostrog_core::value::parse_time;
use ostrog_store::key::{Key, KeyKind, KeyText, Making, Proxied};
use ostrog_wire::keys::{KeyAsked, KeyMade, KeyShown, Overlap};
use std::collections::BTreeSet;

/// Longest time for which a replaced key goes on counting.
const MAX_OVERLAP: SignedDuration = SignedDuration::from_hours(24 * 30);
/// Most applications and hosts of one proxy's key.
const MAX_HOSTS: usize = 100;
/// How long it does unless stated.
const OVERLAP: SignedDuration = SignedDuration::from_hours(24);

fn key_shown(key: &Key) -> KeyShown {
    let making = &key.making;
    KeyShown {
        id: key.id.clone(),
        application: match &making.kind {
            KeyKind::Application(application) => Some(application.clone()),
            KeyKind::Operator | KeyKind::Proxy(_) => None,
        },
        name: making.name.clone(),
        created_at: key.created_at.to_string(),
        until: making.until.map(|until| until.to_string()),
        last_used_at: key.last_used_at.map(|at| at.to_string()),
        detail: making.detail,
        endpoints: making.endpoints.clone(),
        types: making.types.clone(),
        rights: making.rights.clone(),
        proxy: match &making.kind {
            KeyKind::Proxy(proxied) => Some(proxied.clone()),
            KeyKind::Application(_) | KeyKind::Operator => None,
        },
        person: making.person.clone(),
        staging: making.staging,
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
    let kind = match (asked.application, asked.proxy) {
        (None, None) => KeyKind::Operator,
        (Some(application), None) => KeyKind::Application(application),
        (None, Some(proxied)) => KeyKind::Proxy(self::proxied(proxied)?),
        (Some(_), Some(_)) => {
            return Err(Problem::invalid("A key is an application's or a proxy's, not both."));
        }
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
        KeyKind::Proxy(_) if !asked.rights.is_empty() || !asked.endpoints.is_empty() => {
            return Err(Problem::invalid(
                "A proxy's key asks /route-check alone: it has no rights and endpoints.",
            ));
        }
        KeyKind::Application(_) | KeyKind::Proxy(_) => {}
    }
    if asked.person.is_some() && kind != KeyKind::Operator {
        return Err(Problem::invalid(
            "A person's key is an operator's; applications and proxies are programs.",
        ));
    }
    if asked.staging && !matches!(kind, KeyKind::Application(_)) {
        return Err(Problem::invalid("For trying ahead, a key is an application's."));
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
        person: asked.person,
        staging: asked.staging,
    })
}

/// What a proxy's key is for, if it makes sense.
fn proxied(mut proxied: Proxied) -> Result<Proxied, Problem> {
    let invalid = |why: &str| Err(Problem::invalid(format!("{why}.")));
    let of = &mut proxied.applications;
    if of.is_empty() || of.len() > MAX_HOSTS {
        return invalid("A proxy's key is for 1 to 100 applications or hosts");
    }
    if of.len() > 1 && of.iter().any(|one| one.host.is_none()) {
        return invalid("With several applications each says its host: customs=HOST,quay=HOST");
    }
    for host in of.iter_mut().filter_map(|one| one.host.as_mut()) {
        host.make_ascii_lowercase();
        if axum::http::uri::Authority::try_from(host.as_str()).is_err()
            || host.contains('@')
            || host.ends_with('.')
        {
            return Err(Problem::invalid(format!("{host:?} is no host.")));
        }
    }
    let hosts: BTreeSet<&Option<String>> = of.iter().map(|one| &one.host).collect();
    if hosts.len() < of.len() {
        return invalid("A host is of one application");
    }
    if let Some(prefix) = &proxied.strip {
        let read =
            Path::read(prefix).map_err(|why| Problem::invalid(format!("{prefix:?} is no prefix: {why}.")))?;
        if read.canonical() != *prefix || prefix.ends_with('/') {
            return Err(Problem::invalid(format!(
                "{prefix:?} is no prefix; write it as /customs, without a / at its end."
            )));
        }
    }
    if proxied.address_as.is_some() && proxied.trusted_hops == 0 {
        return invalid("Without trusted hops no address counts; say how many there are");
    }
    Ok(proxied)
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
