//! Tokens, for codes, for devices that somebody confirmed, and for services.

use crate::authorize::{Code, asks_for};
use crate::keys::b64;
use crate::known::{Client, Person};
use crate::session::{Bearer, Lasting, Session};
use crate::{Refused, SignIn, lock, pages, pending};
use axum::Json;
use axum::extract::{Form, Query, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse as _, Response};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use jiff::Timestamp;
use serde::Deserialize;
use serde_json::{Value, json};
use sha2::{Digest as _, Sha256};
use subtle::ConstantTimeEq as _;

/// The grant of devices (RFC 8628, 3.4).
pub const DEVICE: &str = "urn:ietf:params:oauth:grant-type:device_code";
/// How long a token counts, in seconds.
const TOKEN: i64 = 600;
/// How long a token counts that others are had with, in seconds.
const LASTING: i64 = 12 * 3_600;

/// What is sent for a token.
#[derive(Debug, Deserialize)]
pub struct Asked {
    #[serde(default)]
    grant_type: String,
    #[serde(default)]
    client_id: String,
    client_secret: Option<String>,
    #[serde(default)]
    code: String,
    #[serde(default)]
    redirect_uri: String,
    #[serde(default)]
    code_verifier: String,
    #[serde(default)]
    device_code: String,
    #[serde(default)]
    refresh_token: String,
}

/// Gives tokens.
pub async fn token(
    State(here): State<SignIn>,
    headers: HeaderMap,
    Form(asked): Form<Asked>,
) -> Result<Response, Refused> {
    let client = client(&here, &headers, &asked)?;
    let answer = match asked.grant_type.as_str() {
        "authorization_code" => for_code(&here, client, &asked)?,
        "client_credentials" => for_service(&here, client)?,
        "refresh_token" => anew(&here, client, &asked)?,
        DEVICE => for_device(&here, client, &asked)?,
        _ => return Err(Refused::because("unsupported_grant_type", "no such grant is known here")),
    };
    Ok(([(header::CACHE_CONTROL, "no-store")], Json(answer)).into_response())
}

/// For whom a token is to be shown.
#[derive(Debug, Deserialize)]
pub struct Shown {
    #[serde(default)]
    person: String,
    #[serde(default = "customs_desk")]
    client: String,
}

fn customs_desk() -> String {
    "customs-desk".to_owned()
}

/// Whose token to look at, as an application would get it.
pub async fn choose(State(here): State<SignIn>, Query(shown): Query<Shown>) -> Response {
    let words = format!("A token as {} would get it, to try things with. Whose?", shown.client);
    pages::pick(&here, "A token to look at", &words, "/try", &[("client", &shown.client)])
}

/// The token of whom was picked.
pub async fn show(State(here): State<SignIn>, Form(shown): Form<Shown>) -> Response {
    let known = here.0.known.person(&shown.person).zip(here.0.known.client(&shown.client));
    let Some((person, client)) = known else {
        return pages::told(
            StatusCode::NOT_FOUND,
            "A token to look at",
            "There is no such person or client.",
        );
    };
    let answer = access(&here, client, person, &Session::of(&person.id));
    pages::token(&person.name, answer["access_token"].as_str().unwrap_or_default(), TOKEN / 60)
}

/// Who asks. One with a secret shows it, in the header or the form (RFC 6749, 2.3.1).
fn client<'h>(here: &'h SignIn, headers: &HeaderMap, asked: &Asked) -> Result<&'h Client, Refused> {
    let unknown = || Refused(StatusCode::UNAUTHORIZED, "invalid_client", "no such client, or not its secret");
    let basic = headers.get(header::AUTHORIZATION).map(|value| {
        let encoded = value.to_str().ok()?.strip_prefix("Basic ")?;
        let text = String::from_utf8(STANDARD.decode(encoded).ok()?).ok()?;
        text.split_once(':').map(|(id, secret)| (id.to_owned(), secret.to_owned()))
    });
    let (id, secret) = match basic {
        Some(shown) => shown.map(|(id, secret)| (id, Some(secret))).ok_or_else(unknown)?,
        None => (asked.client_id.clone(), asked.client_secret.clone()),
    };
    let client = here.0.known.client(&id).ok_or_else(unknown)?;
    let is_its = match (&client.secret, &secret) {
        (None, None) => true,
        (Some(known), Some(shown)) => known.as_bytes().ct_eq(shown.as_bytes()).into(),
        _ => false,
    };
    if is_its { Ok(client) } else { Err(unknown()) }
}

fn for_code(here: &SignIn, client: &Client, asked: &Asked) -> Result<Value, Refused> {
    let gone = || Refused::because("invalid_grant", "the code is not known, has been used, or has ended");
    let code: Code = lock(&here.0.codes).take(&asked.code).ok_or_else(gone)?;
    let proof = b64(Sha256::digest(&asked.code_verifier));
    let proves: bool = proof.as_bytes().ct_eq(code.challenge.as_bytes()).into();
    if code.client != client.id || code.redirect != asked.redirect_uri || !proves {
        return Err(gone());
    }
    let person = here.0.known.person(&code.session.person).ok_or_else(gone)?;
    let mut answer = access(here, client, person, &code.session);
    if code.openid {
        answer["id_token"] = identity(here, client, person, &code.session, &code.nonce);
    }
    if code.lasting {
        answer["refresh_token"] = lasting(here, client, &code.session);
    }
    Ok(answer)
}

/// An ID token (OpenID Connect Core 1.0, 2).
fn identity(here: &SignIn, client: &Client, person: &Person, session: &Session, nonce: &str) -> Value {
    let mut claims = of_person(here, person, session);
    claims["aud"] = json!(client.id);
    if !nonce.is_empty() {
        claims["nonce"] = json!(nonce);
    }
    json!(lock(&here.0.keys).sign("JWT", &claims))
}

/// A token that others are had with later, each once (RFC 6749, 1.5).
fn lasting(here: &SignIn, client: &Client, session: &Session) -> Value {
    let token = pending::secret();
    let what = Lasting { client: client.id.clone(), session: session.clone() };
    lock(&here.0.lasting).keep(token.clone(), what, LASTING);
    json!(token)
}

/// Tokens in the place of those before (RFC 6749, 6).
fn anew(here: &SignIn, client: &Client, asked: &Asked) -> Result<Value, Refused> {
    let gone = || Refused::because("invalid_grant", "the token is not known, has been used, or has ended");
    let known = lock(&here.0.lasting).take(&asked.refresh_token);
    let known = known.filter(|known| known.client == client.id).ok_or_else(gone)?;
    let person = here.0.known.person(&known.session.person).ok_or_else(gone)?;
    let mut answer = access(here, client, person, &known.session);
    answer["id_token"] = identity(here, client, person, &known.session, "");
    answer["refresh_token"] = lasting(here, client, &known.session);
    Ok(answer)
}

fn for_device(here: &SignIn, client: &Client, asked: &Asked) -> Result<Value, Refused> {
    let mut devices = lock(&here.0.devices);
    let gone = || Refused::because("expired_token", "the device's code is not known, or has ended");
    let device =
        devices.get(&asked.device_code).filter(|device| device.client == client.id).ok_or_else(gone)?;
    if device.session.is_none() {
        return Err(Refused::because("authorization_pending", "nobody has confirmed it yet"));
    }
    let device = devices.take(&asked.device_code).ok_or_else(gone)?;
    let session = device.session.ok_or_else(gone)?;
    let person = here.0.known.person(&session.person).ok_or_else(gone)?;
    let mut answer = access(here, client, person, &session);
    if asks_for(&device.scope, "openid") {
        answer["id_token"] = identity(here, client, person, &session, "");
    }
    if asks_for(&device.scope, "offline_access") {
        answer["refresh_token"] = lasting(here, client, &session);
    }
    Ok(answer)
}

fn for_service(here: &SignIn, client: &Client) -> Result<Value, Refused> {
    if client.secret.is_none() {
        return Err(Refused::because("unauthorized_client", "only a client with a secret is a service"));
    }
    let mut claims = json!({ "sub": client.id, "kind": "machine" });
    for_audience(here, client, &mut claims);
    Ok(given(&lock(&here.0.keys).sign("at+jwt", &claims)))
}

/// An access token of a person (RFC 9068).
fn access(here: &SignIn, client: &Client, person: &Person, session: &Session) -> Value {
    let mut claims = of_person(here, person, session);
    for_audience(here, client, &mut claims);
    let token = lock(&here.0.keys).sign("at+jwt", &claims);
    let bearer = Bearer { person: person.id.clone(), session: session.id.clone() };
    lock(&here.0.bearers).keep(hex::encode(Sha256::digest(&token)), bearer, TOKEN);
    given(&token)
}

fn given(token: &str) -> Value {
    json!({ "access_token": token, "token_type": "Bearer", "expires_in": TOKEN })
}

fn of_person(here: &SignIn, person: &Person, session: &Session) -> Value {
    let now = Timestamp::now().as_second();
    json!({
        "iss": here.0.url, "sub": person.id, "iat": now, "exp": now + TOKEN, "auth_time": session.since,
        "sid": session.id, "kind": "person", "name": person.name, "org": person.org, "groups": person.groups(),
    })
}

fn for_audience(here: &SignIn, client: &Client, claims: &mut Value) {
    let now = Timestamp::now().as_second();
    claims["iss"] = json!(here.0.url);
    claims["aud"] = json!(client.audience);
    claims["client_id"] = json!(client.id);
    claims["iat"] = json!(now);
    claims["exp"] = json!(now + TOKEN);
    claims["jti"] = json!(&pending::secret()[..16]);
}
