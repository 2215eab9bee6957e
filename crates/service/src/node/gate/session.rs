//! How a call says who it is: a key in the `Authorization` header, or a console session in a cookie.

use crate::problem::Problem;
use axum::http::header::{AUTHORIZATION, COOKIE as COOKIES, HOST, ORIGIN};
use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderName, Method, Uri};
use axum_extra::extract::cookie::{Cookie, CookieJar, SameSite};
use axum_extra::headers::HeaderMapExt as _;
use axum_extra::headers::authorization::{Authorization, Bearer};
use jiff::{SignedDuration, Timestamp};
use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

/// The cookie of a console session. Scripts cannot read it.
const COOKIE: &str = "ostrog-session";
/// How long a session lasts.
const SESSION: SignedDuration = SignedDuration::from_hours(8);
/// Most sessions at a time; beyond that the oldest ends.
const MAX_SESSIONS: usize = 10_000;

/// Console sessions, in this node's memory.
#[derive(Debug, Default)]
pub struct Sessions(Mutex<HashMap<String, Session>>);

#[derive(Clone, Debug)]
struct Session {
    /// The key it was begun with.
    key: String,
    until: Timestamp,
}

impl Sessions {
    /// Begins a session of a key, and gives its token.
    pub fn begin(&self, key: &str, now: Timestamp) -> String {
        use rand::TryRngCore as _;
        let mut bytes = [0u8; 32];
        rand::rngs::OsRng.try_fill_bytes(&mut bytes).expect("the system has random numbers");
        let token = hex::encode(bytes);
        let mut sessions = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        sessions.retain(|_, session| now < session.until);
        if sessions.len() >= MAX_SESSIONS {
            let oldest = sessions.iter().min_by_key(|(_, session)| session.until);
            if let Some(oldest) = oldest.map(|(token, _)| token.clone()) {
                sessions.remove(&oldest);
            }
        }
        let until = now.checked_add(SESSION).unwrap_or(now);
        sessions.insert(token.clone(), Session { key: key.to_owned(), until });
        token
    }

    /// The key of a session. The token has 256 random bits, so looking it up tells nothing.
    pub(super) fn key(&self, token: &str, now: Timestamp) -> Option<String> {
        let sessions = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        sessions.get(token).filter(|session| now < session.until).map(|session| session.key.clone())
    }

    /// Ends a session.
    pub fn end(&self, token: &str) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).remove(token);
    }
}

/// The cookie that carries a session.
pub fn cookie(token: String, secure: bool) -> Cookie<'static> {
    Cookie::build((COOKIE, token))
        .path("/")
        .http_only(true)
        .same_site(SameSite::Strict)
        .secure(secure)
        .build()
}

/// The session token a request carries.
pub fn token(headers: &HeaderMap) -> Option<String> {
    headers
        .contains_key(COOKIES)
        .then(|| CookieJar::from_headers(headers))?
        .get(COOKIE)
        .map(|cookie| cookie.value().to_owned())
}

/// The key that the `Authorization` header carries.
///
/// # Errors
/// If there is more than one, or it carries something else.
pub fn bearer(headers: &HeaderMap) -> Result<Option<Authorization<Bearer>>, Problem> {
    if headers.get_all(AUTHORIZATION).iter().count() > 1 {
        return Err(Problem::unauthenticated("More than one Authorization header."));
    }
    headers
        .typed_try_get::<Authorization<Bearer>>()
        .map_err(|_| Problem::unauthenticated("Send the key as Authorization: Bearer KEY."))
}

/// Refuses what a page of another origin would have a browser write with its session: the browser says
/// where a request comes from, in one header or the other.
pub fn is_own_page(parts: &Parts) -> Result<(), Problem> {
    if matches!(parts.method, Method::GET | Method::HEAD) {
        return Ok(());
    }
    let text = |name: HeaderName| parts.headers.get(name).and_then(|value| value.to_str().ok());
    let own = match text(HeaderName::from_static("sec-fetch-site")) {
        Some(site) => site == "same-origin",
        // A page that was not served over TLS has no such header.
        None => text(ORIGIN).and_then(|origin| origin.parse::<Uri>().ok()).is_some_and(|origin| {
            let here = text(HOST).or_else(|| parts.uri.authority().map(|authority| authority.as_str()));
            origin.authority().map(|authority| authority.as_str()) == here
        }),
    };
    if own {
        return Ok(());
    }
    Err(Problem::forbidden("Only the console's own pages write with its session."))
}
