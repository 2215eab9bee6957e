//! Who is signed in, and until when.

use crate::{Refused, SignIn, lock, pages, pending};
use axum::Json;
use axum::extract::{Query, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse as _, Redirect, Response};
use axum_extra::extract::CookieJar;
use axum_extra::extract::cookie::{Cookie, SameSite};
use jiff::Timestamp;
use serde::Deserialize;
use serde_json::{Value, json};
use sha2::{Digest as _, Sha256};
use url::Url;

const COOKIE: &str = "port-sign-in";
/// How long somebody is signed in, in seconds.
const SESSION: i64 = 8 * 3_600;

/// Somebody who is signed in.
#[derive(Clone, Debug)]
pub struct Session {
    /// The `sid` of their tokens.
    pub id: String,
    /// Who.
    pub person: String,
    /// Since when, in seconds.
    pub since: i64,
}

/// Whose a token to have others with is, and for which client.
#[derive(Debug)]
pub struct Lasting {
    pub client: String,
    pub session: Session,
}

/// Whose an access token is.
#[derive(Debug)]
pub struct Bearer {
    pub person: String,
    pub session: String,
}

impl Session {
    /// Begins now.
    pub fn of(person: &str) -> Session {
        let id = format!("s-{}", &pending::secret()[..12]);
        Session { id, person: person.to_owned(), since: Timestamp::now().as_second() }
    }
}

/// Signs somebody in. Whoever is the same person already goes on as they are, unless that is older than may be.
pub fn begin(here: &SignIn, jar: CookieJar, person: &str, oldest: Option<i64>) -> (CookieJar, Session) {
    let mut sessions = lock(&here.0.sessions);
    let known = jar.get(COOKIE).and_then(|cookie| sessions.get(cookie.value()));
    let now = Timestamp::now().as_second();
    let is_young = |session: &Session| oldest.is_none_or(|oldest| now - session.since < oldest);
    if let Some(session) = known.filter(|session| session.person == person && is_young(session)) {
        let session = session.clone();
        return (jar, session);
    }
    let (secret, session) = (pending::secret(), Session::of(person));
    sessions.keep(secret.clone(), session.clone(), SESSION);
    let cookie = Cookie::build((COOKIE, secret)).path("/").http_only(true).same_site(SameSite::Lax).build();
    (jar.add(cookie), session)
}

/// Who the bearer of an access token is.
pub async fn userinfo(State(here): State<SignIn>, headers: HeaderMap) -> Result<Json<Value>, Refused> {
    let invalid =
        || Refused(StatusCode::UNAUTHORIZED, "invalid_token", "it is no token of a person, or has ended");
    let token =
        headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok()?.strip_prefix("Bearer "));
    let digest = hex::encode(Sha256::digest(token.ok_or_else(invalid)?));
    let bearers = lock(&here.0.bearers);
    let bearer = bearers.get(&digest).ok_or_else(invalid)?;
    let person = here.0.known.person(&bearer.person).ok_or_else(invalid)?;
    let groups = person.groups();
    Ok(Json(json!({ "sub": person.id, "name": person.name, "org": person.org, "groups": groups })))
}

/// Where to go after signing out.
#[derive(Debug, Deserialize)]
pub struct Leaving {
    #[serde(default)]
    client_id: String,
    #[serde(default)]
    post_logout_redirect_uri: String,
    #[serde(default)]
    state: String,
}

/// Ends the session, and what its tokens are answered with here. The tokens themselves end by their `exp`.
pub async fn sign_out(
    State(here): State<SignIn>,
    jar: CookieJar,
    Query(leaving): Query<Leaving>,
) -> Response {
    let ended = jar.get(COOKIE).and_then(|cookie| lock(&here.0.sessions).take(cookie.value()));
    if let Some(session) = ended {
        lock(&here.0.bearers).retain(|bearer| bearer.session != session.id);
        lock(&here.0.lasting).retain(|lasting| lasting.session.id != session.id);
    }
    let jar = jar.remove(Cookie::build(COOKIE).path("/"));
    let client = here.0.known.client(&leaving.client_id);
    let to = Url::parse(&leaving.post_logout_redirect_uri).ok();
    let answer = match to.filter(|to| client.is_some_and(|client| client.is_at(to))) {
        Some(mut to) => {
            if !leaving.state.is_empty() {
                to.query_pairs_mut().append_pair("state", &leaving.state);
            }
            Redirect::to(to.as_str()).into_response()
        }
        None => pages::told(StatusCode::OK, "You are signed out", "You can close this page."),
    };
    (jar, answer).into_response()
}
