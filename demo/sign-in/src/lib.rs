//! A stand-in for the port's sign-in, for the demo and the tests. It speaks OpenID Connect and OAuth 2.0 as a real
//! one does, and **checks no password**: whoever opens its page picks whom they want to be. It keeps everything in
//! memory, makes its keys anew at each start, and is for loopback only.
//!
//! | path | does | by |
//! | --- | --- | --- |
//! | `/.well-known/openid-configuration` | says where everything is | OpenID Connect Discovery 1.0, 4 |
//! | `/keys` | public keys, of three kinds | RFC 7517 |
//! | `/authorize` | a page on which one picks a person; gives a code | RFC 6749, 4.1; RFC 7636; RFC 9207 |
//! | `/token` | gives tokens for codes, devices, services, and anew | RFC 6749; RFC 8628; RFC 9068 |
//! | `/device` | gives a code to a device, and has it confirmed | RFC 8628 |
//! | `/userinfo` | who the bearer is | OpenID Connect Core 1.0, 5.3 |
//! | `/sign-out` | ends a session | OpenID Connect RP-Initiated Logout 1.0 |
//! | `/try` | a token to look at, of whom one picks | |
//! | `/rotate` | makes the key that signs from now on | |
//!
//! - [`known`]: people and clients, from `people.toml`;
//! - [`keys`]: keys that sign;
//! - [`pending`]: what is under way;
//! - `pages`, `authorize`, `token`, `device`, `session`: what is answered.

#![forbid(unsafe_code)]

mod authorize;
mod device;
pub mod keys;
pub mod known;
mod pages;
pub mod pending;
mod session;
mod token;

use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use axum::{Json, Router};
use keys::Keys;
use known::Known;
use pending::Pending;
use serde_json::{Value, json};
use std::io;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use tokio::net::TcpListener;

/// Longest form that is read, in bytes.
const MAX_FORM: usize = 16 << 10;

/// The stand-in.
#[derive(Clone, Debug)]
pub struct SignIn(Arc<Inner>);

#[derive(Debug)]
struct Inner {
    url: String,
    known: Known,
    keys: Mutex<Keys>,
    codes: Mutex<Pending<authorize::Code>>,
    devices: Mutex<Pending<device::Device>>,
    sessions: Mutex<Pending<session::Session>>,
    bearers: Mutex<Pending<session::Bearer>>,
    lasting: Mutex<Pending<session::Lasting>>,
}

impl SignIn {
    /// The stand-in at an address, which is the `iss` of its tokens.
    pub fn at(url: &str) -> SignIn {
        SignIn(Arc::new(Inner {
            url: url.to_owned(),
            known: Known::of_the_port(),
            keys: Mutex::new(Keys::of_each_kind()),
            codes: Mutex::default(),
            devices: Mutex::default(),
            sessions: Mutex::default(),
            bearers: Mutex::default(),
            lasting: Mutex::default(),
        }))
    }

    /// All paths.
    pub fn router(self) -> Router {
        Router::new()
            .route("/", get(pages::home))
            .route("/.well-known/openid-configuration", get(discovery))
            .route("/keys", get(async |State(here): State<SignIn>| Json(lock(&here.0.keys).published())))
            .route("/authorize", get(authorize::ask).post(authorize::pick))
            .route("/token", post(token::token))
            .route("/device", get(device::ask).post(device::begin))
            .route("/device/confirm", post(device::confirm))
            .route("/userinfo", get(session::userinfo))
            .route("/sign-out", get(session::sign_out))
            .route("/try", get(token::choose).post(token::show))
            .route("/rotate", post(rotate))
            .layer(axum::extract::DefaultBodyLimit::max(MAX_FORM))
            .with_state(self)
    }
}

/// Serves the stand-in on a listener until `stop` resolves.
///
/// # Errors
/// If the listener fails, or is not on loopback.
pub async fn serve(listener: TcpListener, stop: impl Future<Output = ()> + Send + 'static) -> io::Result<()> {
    let address = listener.local_addr()?;
    if !address.ip().is_loopback() {
        return Err(io::Error::other("the stand-in checks no password: it listens on loopback only"));
    }
    let router = SignIn::at(&format!("http://{address}")).router();
    axum::serve(listener, router).with_graceful_shutdown(stop).await
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

async fn discovery(State(here): State<SignIn>) -> Json<Value> {
    let url = &here.0.url;
    Json(json!({
        "issuer": url,
        "authorization_endpoint": format!("{url}/authorize"),
        "token_endpoint": format!("{url}/token"),
        "userinfo_endpoint": format!("{url}/userinfo"),
        "jwks_uri": format!("{url}/keys"),
        "end_session_endpoint": format!("{url}/sign-out"),
        "device_authorization_endpoint": format!("{url}/device"),
        "response_types_supported": ["code"],
        "grant_types_supported": ["authorization_code", "refresh_token", "client_credentials", token::DEVICE],
        "subject_types_supported": ["public"],
        "id_token_signing_alg_values_supported": ["RS256", "ES256", "EdDSA"],
        "code_challenge_methods_supported": ["S256"],
        "token_endpoint_auth_methods_supported": ["none", "client_secret_basic", "client_secret_post"],
        "scopes_supported": ["openid", "offline_access"],
        "authorization_response_iss_parameter_supported": true,
    }))
}

async fn rotate(State(here): State<SignIn>) -> Json<Value> {
    Json(json!({ "kid": lock(&here.0.keys).rotate() }))
}

/// A refusal as RFC 6749, 5.2 has it.
#[derive(Debug)]
pub(crate) struct Refused(StatusCode, &'static str, &'static str);

impl Refused {
    /// With HTTP 400.
    pub(crate) fn because(error: &'static str, words: &'static str) -> Refused {
        Refused(StatusCode::BAD_REQUEST, error, words)
    }
}

impl IntoResponse for Refused {
    fn into_response(self) -> Response {
        let Refused(status, error, words) = self;
        let body = Json(json!({ "error": error, "error_description": words }));
        (status, [("cache-control", "no-store")], body).into_response()
    }
}
