//! Keys: making, replacing and ending them. Nobody gives more than they have.

use crate::App;
use crate::body::{Params, StrictJson};
use crate::caller::Operator;
use crate::operators::{Rights, is_owner, wrong};
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::header::CACHE_CONTROL;
use axum::response::{IntoResponse as _, Response};
use jiff::{SignedDuration, Timestamp};
use ostrog_core::names::is_key;
use ostrog_core::value::parse_time;
use ostrog_store::key::{Detail, Key, KeyKind, Making, Right};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// What an application's key can be kept to.
const ENDPOINTS: [&str; 3] = ["evaluation", "evaluations", "search"];
/// Longest time for which a replaced key goes on counting.
const MAX_OVERLAP: SignedDuration = SignedDuration::from_hours(24 * 30);

/// A key, without its secret.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub struct KeyShown {
    /// What it is called in logs and changes.
    id: String,
    /// The application it asks for; none for an operator's.
    application: Option<String>,
    /// What its maker called it.
    name: String,
    /// Since when.
    created_at: String,
    /// Until when, if it ends by itself.
    until: Option<String>,
    /// When it was last used, to the minute.
    last_used_at: Option<String>,
    /// How much its answers tell: `none`, `reason`, `full`.
    #[schema(value_type = String)]
    detail: Detail,
    /// The endpoints it is kept to; none: all.
    endpoints: Vec<String>,
    /// Types of other applications it may ask about.
    types: Vec<String>,
    /// What an operator may do.
    #[schema(value_type = Vec<Object>)]
    rights: Vec<Right>,
}

impl From<&Key> for KeyShown {
    fn from(key: &Key) -> Self {
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
}

/// A key to make.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct KeyAsked {
    /// What to call it.
    name: String,
    /// The application it is to ask for; none: an operator's key.
    #[serde(default)]
    application: Option<String>,
    /// Until when.
    #[serde(default)]
    until: Option<String>,
    /// How much its answers tell: `none`, `reason` (unless stated), `full`.
    #[serde(default)]
    #[schema(value_type = String)]
    detail: Detail,
    /// The endpoints it is kept to: `evaluation`, `evaluations`, `search`; none: all.
    #[serde(default)]
    endpoints: Vec<String>,
    /// Types of other applications it may ask about.
    #[serde(default)]
    types: Vec<String>,
    /// What an operator may do: roles at `everywhere` or `tenant:id`.
    #[serde(default)]
    #[schema(value_type = Vec<Object>)]
    rights: Vec<Right>,
}

/// A new key. Its text is shown this once.
#[derive(Debug, Serialize, ToSchema)]
pub struct KeyMade {
    /// What the holder sends.
    text: String,
    /// What it is.
    key: KeyShown,
}

fn made(app: &App, id: &str, text: &str) -> Result<Response, Problem> {
    let key = app.node.key_by_id(id).ok_or_else(|| Problem::internal("The key is gone already."))?;
    let made = KeyMade { text: text.to_owned(), key: KeyShown::from(&*key) };
    Ok(([(CACHE_CONTROL, "no-store")], Json(made)).into_response())
}

/// All keys that have not ended.
#[utoipa::path(get, path = "/api/v1/keys", tag = "keys",
    responses(
        (status = 200, description = "Keys, oldest first", body = Vec<KeyShown>),
        Refused,
    ), security(("key" = [])))]
pub async fn keys(State(app): State<App>, operator: Operator) -> Result<Json<Vec<KeyShown>>, Problem> {
    operator.needs("keys:read")?;
    let keys = app.node.store().keys().await?;
    let now = Timestamp::now();
    Ok(Json(keys.iter().filter(|key| key.counts(now)).map(KeyShown::from).collect()))
}

/// Makes a key.
///
/// An operator's key has no right that its maker has not.
#[utoipa::path(post, path = "/api/v1/keys", tag = "keys", request_body = KeyAsked,
    responses(
        (status = 200, description = "The key; its text is shown this once", body = KeyMade),
        Refused,
    ), security(("key" = [])))]
pub async fn make(
    State(app): State<App>,
    operator: Operator,
    StrictJson(asked): StrictJson<KeyAsked>,
) -> Result<Response, Problem> {
    operator.needs("keys:keep")?;
    let making = asked.making(&app)?;
    covered(&operator.rights, &making.rights)?;
    let (text, id) = app.node.new_key(making, &operator.key.id).await?;
    made(&app, &id, text.reveal())
}

fn covered(rights: &Rights, asked: &[Right]) -> Result<(), Problem> {
    if rights.cover(asked) {
        return Ok(());
    }
    Err(Problem::forbidden("A key gives no right that its maker has not."))
}

impl KeyAsked {
    fn making(self, app: &App) -> Result<Making, Problem> {
        if self.name.trim().is_empty() || self.name.len() > 200 {
            return Err(Problem::malformed("A key has a name, of at most 200 bytes."));
        }
        let until = match &self.until {
            None => None,
            Some(text) => {
                let until = parse_time(text).filter(|until| *until > Timestamp::now());
                Some(until.ok_or_else(|| Problem::invalid(format!("{text:?} is no moment to come.")))?)
            }
        };
        let kind = match self.application {
            None => KeyKind::Operator,
            Some(application) => KeyKind::Application(application),
        };
        match &kind {
            KeyKind::Operator if self.rights.is_empty() => {
                return Err(Problem::invalid("An operator's key needs rights."));
            }
            KeyKind::Operator => {
                if let Some(wrong) = wrong(&self.rights) {
                    return Err(Problem::invalid(format!("{wrong}.")));
                }
            }
            KeyKind::Application(_) if !self.rights.is_empty() => {
                return Err(Problem::invalid("An application's key has no rights; it asks questions."));
            }
            KeyKind::Application(application) => {
                let state = app.node.state();
                let live = state.live.as_ref().ok_or_else(|| Problem::unavailable("No charter is live."))?;
                let all = live.world.policy().model().applications.iter().map(|known| known.key.as_str());
                if !all.clone().any(|known| known == application) {
                    let near = ostrog_core::names::did_you_mean(application, all);
                    return Err(Problem::invalid(format!("There is no application {application:?}{near}.")));
                }
            }
        }
        if let Some(unknown) = self.endpoints.iter().find(|name| !ENDPOINTS.contains(&name.as_str())) {
            return Err(Problem::invalid(format!(
                "{unknown:?} is no endpoint to keep a key to: {}.",
                ENDPOINTS.join(", ")
            )));
        }
        if let Some(odd) = self.types.iter().find(|name| !is_key(name)) {
            return Err(Problem::invalid(format!("{odd:?} is not a type.")));
        }
        Ok(Making {
            kind,
            name: self.name,
            until,
            detail: self.detail,
            endpoints: self.endpoints,
            types: self.types,
            rights: self.rights,
        })
    }
}

fn known(app: &App, id: &str) -> Result<std::sync::Arc<Key>, Problem> {
    let key = app.node.key_by_id(id).filter(|key| key.counts(Timestamp::now()));
    key.ok_or_else(|| Problem::not_found(format!("There is no key {id}, or it has ended.")))
}

/// For how long the old key goes on counting.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct Overlap {
    /// Seconds; a day unless stated, at most 30 days.
    overlap: Option<u32>,
}

/// Makes a key in place of another, which goes on counting for a while.
#[utoipa::path(post, path = "/api/v1/keys/{id}/replacement", tag = "keys",
    params(("id" = String, Path, description = "The key to replace"), Overlap),
    responses(
        (status = 200, description = "The new key; its text is shown this once", body = KeyMade),
        Refused,
    ), security(("key" = [])))]
pub async fn replace(
    State(app): State<App>,
    operator: Operator,
    Path(id): Path<String>,
    Params(query): Params<Overlap>,
) -> Result<Response, Problem> {
    operator.needs("keys:keep")?;
    let old = known(&app, &id)?;
    covered(&operator.rights, &old.making.rights)?;
    let overlap = query
        .overlap
        .map_or(SignedDuration::from_hours(24), |seconds| SignedDuration::from_secs(i64::from(seconds)));
    if overlap > MAX_OVERLAP {
        return Err(Problem::malformed("A replaced key counts for at most 30 days more."));
    }
    let (made_key, _) = app
        .node
        .write(async |write, now| {
            let (key, text) = Key::new(old.making.clone(), now);
            write.add_key(&key, &operator.key.id).await?;
            let until = now.checked_add(overlap).unwrap_or(now);
            if !write.end_key(&id, Some(until), &operator.key.id, now).await? {
                return Err(Problem::conflict("The key has ended meanwhile."));
            }
            Ok((key.id, text))
        })
        .await?;
    made(&app, &made_key.0, made_key.1.reveal())
}

/// Ends a key, at once.
#[utoipa::path(delete, path = "/api/v1/keys/{id}", tag = "keys",
    params(("id" = String, Path, description = "The key")),
    responses(
        (status = 200, description = "It has ended", body = KeyShown),
        Refused,
    ), security(("key" = [])))]
pub async fn end(
    State(app): State<App>,
    operator: Operator,
    Path(id): Path<String>,
) -> Result<Json<KeyShown>, Problem> {
    operator.needs("keys:keep")?;
    let key = known(&app, &id)?;
    // Whoever may not give a right may not take it away either.
    covered(&operator.rights, &key.making.rights)?;
    let lasting = |key: &std::sync::Arc<Key>| is_owner(&key.making.rights) && key.making.until.is_none();
    let (ended, _) = app
        .node
        .write(async |write, now| {
            // Looked at under the write's lock: two owners who end each other's keys at once do not both succeed.
            let owners = app.node.all_keys().iter().filter(|key| lasting(key)).count();
            if lasting(&key) && owners == 1 {
                return Err(Problem::conflict(
                    "This is the last owner's key without an end; make another first.",
                ));
            }
            Ok(write.end_key(&id, None, &operator.key.id, now).await?)
        })
        .await?;
    if !ended {
        return Err(Problem::conflict("The key has ended meanwhile."));
    }
    Ok(Json(KeyShown::from(&*key)))
}
