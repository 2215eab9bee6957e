//! Who calls: a key in the `Authorization` header, or a console session in a cookie.

use crate::App;
use crate::operators::Rights;
use crate::problem::Problem;
use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use axum::http::{HeaderMap, Method, header};
use jiff::{SignedDuration, Timestamp};
use ostrog_store::key::{Key, KeyKind};
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

/// The cookie of a console session. Scripts cannot read it.
pub const COOKIE: &str = "ostrog-session";
/// How long a session lasts.
const SESSION: SignedDuration = SignedDuration::from_hours(8);
/// Most sessions at a time; beyond that the oldest ends.
const MAX_SESSIONS: usize = 10_000;

/// Whoever has a key that counts.
#[derive(Clone, Debug)]
pub struct Caller(pub Arc<Key>);

/// A caller with an operator's key, and what it may do.
#[derive(Debug)]
pub struct Operator {
    /// The key.
    pub key: Arc<Key>,
    /// Its rights.
    pub rights: Rights,
}

impl Operator {
    /// The same operator, for another write.
    #[must_use]
    pub fn again(&self) -> Operator {
        Operator { key: Arc::clone(&self.key), rights: Rights::of(&self.key) }
    }

    /// Refuses unless something that lies in no tenant may be done.
    ///
    /// # Errors
    /// With what is missing.
    pub fn needs(&self, permission: &str) -> Result<(), Problem> {
        self.rights.need(permission, None)
    }
}

/// Console sessions, in this node's memory.
#[derive(Debug, Default)]
pub struct Sessions(Mutex<HashMap<String, (String, Timestamp)>>);

impl Sessions {
    /// Begins a session of a key.
    pub fn begin(&self, key: &Key, now: Timestamp) -> String {
        use rand::TryRngCore as _;
        let mut bytes = [0u8; 32];
        rand::rngs::OsRng.try_fill_bytes(&mut bytes).expect("the system has random numbers");
        let token: String = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
        let mut sessions = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        sessions.retain(|_, (_, until)| now < *until);
        if sessions.len() >= MAX_SESSIONS
            && let Some(oldest) =
                sessions.iter().min_by_key(|(_, (_, until))| *until).map(|(token, _)| token.clone())
        {
            sessions.remove(&oldest);
        }
        sessions.insert(token.clone(), (key.id.clone(), now.checked_add(SESSION).unwrap_or(now)));
        token
    }

    /// The key id of a session. The token has 256 random bits, so looking it up tells nothing.
    fn key_id(&self, token: &str, now: Timestamp) -> Option<String> {
        let sessions = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        sessions.get(token).filter(|(_, until)| now < *until).map(|(id, _)| id.clone())
    }

    /// Ends a session.
    pub fn end(&self, token: &str) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).remove(token);
    }
}

/// The session token a request carries.
pub fn session_token(headers: &HeaderMap) -> Option<&str> {
    let cookies = headers.get(header::COOKIE)?.to_str().ok()?;
    cookies.split(';').find_map(|cookie| cookie.trim().strip_prefix(COOKIE)?.strip_prefix('='))
}

fn bearer(headers: &HeaderMap) -> Result<Option<&str>, Problem> {
    let mut all = headers.get_all(header::AUTHORIZATION).iter();
    let Some(value) = all.next() else { return Ok(None) };
    if all.next().is_some() {
        return Err(Problem::unauthenticated("More than one Authorization header."));
    }
    let text = value.to_str().ok().and_then(|text| text.split_once(' '));
    match text {
        Some((scheme, key)) if scheme.eq_ignore_ascii_case("bearer") => Ok(Some(key.trim())),
        _ => Err(Problem::unauthenticated("Send the key as Authorization: Bearer KEY.")),
    }
}

fn authenticate(parts: &Parts, app: &App) -> Result<Arc<Key>, Problem> {
    let now = Timestamp::now();
    let unknown = || Problem::unauthenticated("The key is not known, or has ended.");
    if let Some(key) = bearer(&parts.headers)? {
        return app.node.key(key, now).ok_or_else(unknown);
    }
    let Some(token) = session_token(&parts.headers) else {
        return Err(Problem::unauthenticated("Send a key as Authorization: Bearer KEY."));
    };
    // The browser says where a request comes from; a page of another origin must not write here.
    let site = parts.headers.get("sec-fetch-site").and_then(|site| site.to_str().ok());
    if parts.method != Method::GET && site.is_some_and(|site| site != "same-origin" && site != "none") {
        return Err(Problem::forbidden("A page of another origin cannot write with this session."));
    }
    let id = app
        .sessions
        .key_id(token, now)
        .ok_or_else(|| Problem::unauthenticated("The session has ended; sign in again."))?;
    app.node.key_by_id(&id).filter(|key| key.counts(now)).ok_or_else(unknown)
}

/// An answer is wanted that includes a position: waits until this node has reached it.
#[derive(Clone, Copy, Debug)]
pub struct AtLeast;

impl FromRequestParts<App> for AtLeast {
    type Rejection = Problem;
    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Problem> {
        if let Some(wanted) = parts.headers.get("ostrog-min-position") {
            app.node.wait_for(wanted.to_str().unwrap_or("")).await?;
        }
        Ok(AtLeast)
    }
}

impl FromRequestParts<App> for Caller {
    type Rejection = Problem;
    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Problem> {
        authenticate(parts, app).map(Caller)
    }
}

impl Caller {
    /// Refuses an application's key that may not call an endpoint.
    ///
    /// # Errors
    /// If it may not.
    pub fn calls(&self, endpoint: &str) -> Result<(), Problem> {
        let allowed = &self.0.making.endpoints;
        if allowed.is_empty() || allowed.iter().any(|known| known == endpoint) {
            return Ok(());
        }
        Err(Problem::forbidden(format!("This key may not call {endpoint}.")))
    }
}

impl FromRequestParts<App> for Operator {
    type Rejection = Problem;
    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Problem> {
        let key = authenticate(parts, app)?;
        match key.making.kind {
            KeyKind::Operator => Ok(Operator { rights: Rights::of(&key), key }),
            KeyKind::Application(_) => Err(Problem::forbidden("This needs an operator's key.")),
        }
    }
}
