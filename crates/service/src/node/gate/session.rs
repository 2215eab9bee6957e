//! How a call says who it is: a key in the `Authorization` header, or a console session in a cookie.

use crate::problem::Problem;
use axum::http::header::{AUTHORIZATION, COOKIE as COOKIES, HOST, ORIGIN};
use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderName, Method, Uri};
use axum_extra::extract::cookie::{Cookie, CookieJar, SameSite};
use axum_extra::headers::HeaderMapExt as _;
use axum_extra::headers::authorization::{Authorization, Bearer};
use time::Duration;

/// How long a sign-in may be under way.
pub const SIGN_IN: Duration = Duration::minutes(10);

/// Before a session's token, where a command line sends it in the place of a key.
pub const COMMAND: &str = "ostrog-session.";

/// What the console keeps in a browser. Scripts can read none of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kept {
    /// A session.
    Session,
    /// What its claims are had anew with.
    Renewal,
    /// A sign-in that is under way: the issuer's redirect brings it back, which it would not bring a strict one.
    SignIn,
}

impl Kept {
    /// Under https a name that no other host and no plain page can have set (RFC 6265bis, 4.1.3.2).
    fn name(self, secure: bool) -> &'static str {
        match (self, secure) {
            (Kept::Session, false) => "ostrog-session",
            (Kept::Session, true) => "__Host-ostrog-session",
            (Kept::Renewal, false) => "ostrog-renewal",
            (Kept::Renewal, true) => "__Host-ostrog-renewal",
            (Kept::SignIn, false) => "ostrog-sign-in",
            (Kept::SignIn, true) => "__Host-ostrog-sign-in",
        }
    }

    /// The cookie that keeps it.
    pub fn cookie(self, value: String, secure: bool) -> Cookie<'static> {
        let cookie = Cookie::build((self.name(secure), value)).path("/").http_only(true).secure(secure);
        match self {
            Kept::SignIn => cookie.same_site(SameSite::Lax).max_age(SIGN_IN).build(),
            Kept::Session | Kept::Renewal => cookie.same_site(SameSite::Strict).build(),
        }
    }

    /// The cookie that takes it away.
    pub fn gone(self, secure: bool) -> Cookie<'static> {
        let mut cookie = self.cookie(String::new(), secure);
        cookie.make_removal();
        cookie
    }

    /// What a request carries of it.
    pub fn of(self, headers: &HeaderMap, secure: bool) -> Option<String> {
        headers
            .contains_key(COOKIES)
            .then(|| CookieJar::from_headers(headers))?
            .get(self.name(secure))
            .map(|cookie| cookie.value().to_owned())
    }
}

/// Whether somebody is at the page that calls, as far as it says.
pub fn is_attended(headers: &HeaderMap) -> bool {
    !headers.contains_key("ostrog-unattended")
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
