//! A person is sent here by an application, picks whom to be, and is sent back with a code.

use crate::known::Client;
use crate::session::{self, Session};
use crate::{SignIn, lock, pages, pending};
use axum::extract::{Form, Query, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse as _, Redirect, Response};
use axum_extra::extract::CookieJar;
use serde::Deserialize;
use url::Url;

/// How long a code counts, in seconds.
const CODE: i64 = 60;

/// What an application sends (RFC 6749, 4.1.1; RFC 7636, 4.3; OpenID Connect Core 1.0, 3.1.2.1).
#[derive(Debug, Deserialize)]
pub struct Asked {
    #[serde(default)]
    response_type: String,
    #[serde(default)]
    client_id: String,
    #[serde(default)]
    redirect_uri: String,
    #[serde(default)]
    scope: String,
    #[serde(default)]
    state: String,
    #[serde(default)]
    nonce: String,
    #[serde(default)]
    code_challenge: String,
    #[serde(default)]
    code_challenge_method: String,
    #[serde(default)]
    prompt: String,
    #[serde(default)]
    max_age: String,
}

/// The same with whom to be.
#[derive(Debug, Deserialize)]
pub struct Picked {
    #[serde(default)]
    person: String,
    #[serde(flatten)]
    asked: Asked,
}

/// What a code stands for.
#[derive(Debug)]
pub struct Code {
    pub client: String,
    pub redirect: String,
    pub challenge: String,
    pub nonce: String,
    pub openid: bool,
    /// Whether a token comes with it that others are had with later.
    pub lasting: bool,
    pub session: Session,
}

/// The page on which one picks.
pub async fn ask(State(here): State<SignIn>, Query(asked): Query<Asked>) -> Response {
    let (client, redirect) = match asked.known(&here) {
        Ok(known) => known,
        Err(words) => return pages::told(StatusCode::BAD_REQUEST, "This does not work", words),
    };
    if let Some((error, words)) = asked.wrong() {
        return asked.back(&here, redirect, &[("error", error), ("error_description", words)]);
    }
    let words = format!("{} asks who you are. Whom do you want to be?", client.id);
    pages::pick(&here, "Who are you?", &words, "/authorize", &asked.fields())
}

/// What was picked: back with a code.
pub async fn pick(State(here): State<SignIn>, jar: CookieJar, Form(picked): Form<Picked>) -> Response {
    let asked = &picked.asked;
    let (client, redirect) = match asked.known(&here) {
        Ok(known) => known,
        Err(words) => return pages::told(StatusCode::BAD_REQUEST, "This does not work", words),
    };
    if let Some((error, words)) = asked.wrong() {
        return asked.back(&here, redirect, &[("error", error), ("error_description", words)]);
    }
    if here.0.known.person(&picked.person).is_none() {
        return asked.back(
            &here,
            redirect,
            &[("error", "access_denied"), ("error_description", "nobody was picked")],
        );
    }
    let (jar, session) = session::begin(&here, jar, &picked.person, asked.oldest());
    let code = pending::secret();
    let stands_for = Code {
        client: client.id.clone(),
        redirect: asked.redirect_uri.clone(),
        challenge: asked.code_challenge.clone(),
        nonce: asked.nonce.clone(),
        openid: asks_for(&asked.scope, "openid"),
        lasting: asks_for(&asked.scope, "offline_access"),
        session,
    };
    lock(&here.0.codes).keep(code.clone(), stands_for, CODE);
    (jar, asked.back(&here, redirect, &[("code", &code)])).into_response()
}

/// Whether a scope is among those that are asked for.
pub fn asks_for(scopes: &str, scope: &str) -> bool {
    scopes.split(' ').any(|one| one == scope)
}

impl Asked {
    /// For how many seconds somebody may be signed in already (OpenID Connect Core 1.0, 3.1.2.1).
    fn oldest(&self) -> Option<i64> {
        if asks_for(&self.prompt, "login") { Some(0) } else { self.max_age.parse().ok() }
    }

    /// Who asks, and where to send people back to. To an address that is not known nobody is sent, whatever is wrong
    /// (RFC 6749, 4.1.2.1).
    fn known<'h>(&self, here: &'h SignIn) -> Result<(&'h Client, Url), &'static str> {
        let Some(client) = here.0.known.client(&self.client_id) else {
            return Err("The application that sent you is not known here.");
        };
        match Url::parse(&self.redirect_uri).ok().filter(|to| client.may_redirect(to)) {
            Some(redirect) => Ok((client, redirect)),
            None => Err("The application wants you sent back to an address that is not its own."),
        }
    }

    fn wrong(&self) -> Option<(&'static str, &'static str)> {
        if self.response_type != "code" {
            return Some(("unsupported_response_type", "only code is given"));
        }
        if self.code_challenge_method != "S256" || self.code_challenge.len() != 43 {
            return Some(("invalid_request", "a code_challenge by S256 is needed"));
        }
        None
    }

    /// Back to the application, saying who sends (RFC 9207).
    fn back(&self, here: &SignIn, mut redirect: Url, all: &[(&str, &str)]) -> Response {
        {
            let mut query = redirect.query_pairs_mut();
            query.extend_pairs(all).append_pair("iss", &here.0.url);
            if !self.state.is_empty() {
                query.append_pair("state", &self.state);
            }
        }
        Redirect::to(redirect.as_str()).into_response()
    }

    fn fields(&self) -> [(&str, &str); 10] {
        [
            ("response_type", &self.response_type),
            ("client_id", &self.client_id),
            ("redirect_uri", &self.redirect_uri),
            ("scope", &self.scope),
            ("state", &self.state),
            ("nonce", &self.nonce),
            ("code_challenge", &self.code_challenge),
            ("code_challenge_method", &self.code_challenge_method),
            ("prompt", &self.prompt),
            ("max_age", &self.max_age),
        ]
    }
}
