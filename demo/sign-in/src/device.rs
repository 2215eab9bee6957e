//! A device without a keyboard: it shows a short code, which somebody confirms elsewhere (RFC 8628).

use crate::session::Session;
use crate::{Refused, SignIn, lock, pages, pending};
use axum::Json;
use axum::extract::{Form, Query, State};
use axum::http::StatusCode;
use axum::response::Response;
use serde::Deserialize;
use serde_json::{Value, json};

/// How long a device's code counts, in seconds.
const DEVICE: i64 = 600;
/// What a short code is made of: no vowels, and nothing that looks like another.
const LETTERS: &[u8; 16] = b"BCDFGHJKLMNPRSTW";

/// A device that waits.
#[derive(Debug)]
pub struct Device {
    /// What asks for it.
    pub client: String,
    /// Who confirmed it.
    pub session: Option<Session>,
    /// What for.
    pub scope: String,
    short: String,
}

/// What a device sends.
#[derive(Debug, Deserialize)]
pub struct Begun {
    #[serde(default)]
    client_id: String,
    #[serde(default)]
    scope: String,
}

/// The short code, from the address or the form.
#[derive(Debug, Deserialize)]
pub struct Short {
    #[serde(default)]
    user_code: String,
    #[serde(default)]
    person: String,
}

/// Gives a device its codes.
pub async fn begin(State(here): State<SignIn>, Form(begun): Form<Begun>) -> Result<Json<Value>, Refused> {
    let client = here.0.known.client(&begun.client_id).filter(|client| client.secret.is_none());
    let client =
        client.ok_or(Refused(StatusCode::UNAUTHORIZED, "invalid_client", "no such client of people"))?;
    let secret = pending::secret();
    let letter = |byte: u8| char::from(LETTERS[usize::from(byte % 16)]);
    let letters: Vec<char> =
        pending::secret().bytes().filter(u8::is_ascii_digit).take(8).map(letter).collect();
    let short: String = letters[..4].iter().chain(&['-']).chain(&letters[4..]).collect();
    let device =
        Device { client: client.id.clone(), session: None, scope: begun.scope, short: short.clone() };
    lock(&here.0.devices).keep(secret.clone(), device, DEVICE);
    let page = format!("{}/device", here.0.url);
    Ok(Json(json!({
        "device_code": secret, "user_code": short, "verification_uri": page,
        "verification_uri_complete": format!("{page}?user_code={short}"), "expires_in": DEVICE, "interval": 1,
    })))
}

/// The page on which a device is confirmed.
pub async fn ask(State(here): State<SignIn>, Query(short): Query<Short>) -> Response {
    let is_known = lock(&here.0.devices).values_mut().any(|device| device.short == short.user_code);
    if !is_known {
        let words =
            "Open the address that the device shows: it has a code in it that counts for ten minutes.";
        return pages::told(StatusCode::NOT_FOUND, "Which device?", words);
    }
    let words = format!("Does the device show {}? Then pick who uses it.", short.user_code);
    pages::pick(&here, "Is it this device?", &words, "/device/confirm", &[("user_code", &short.user_code)])
}

/// Confirms it.
pub async fn confirm(State(here): State<SignIn>, Form(short): Form<Short>) -> Response {
    let person = here.0.known.person(&short.person).map(|person| Session::of(&person.id));
    let mut devices = lock(&here.0.devices);
    let device =
        devices.values_mut().find(|device| device.short == short.user_code && device.session.is_none());
    match (device, person) {
        (Some(device), Some(session)) => {
            device.session = Some(session);
            pages::told(
                StatusCode::OK,
                "The device is yours",
                "It goes on by itself; you can close this page.",
            )
        }
        _ => {
            pages::told(StatusCode::NOT_FOUND, "Which device?", "It is not known, or was confirmed already.")
        }
    }
}
