//! Who is signed in. The browser has a cookie that says nothing; the token behind it stays here.

use crate::{Error, Portal};
use axum::Router;
use axum::extract::{Query, Request, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse as _, Redirect, Response};
use axum::routing::{get, post};
use axum_extra::extract::CookieJar;
use axum_extra::extract::cookie::{Cookie, SameSite};
use lru::LruCache;
use oauth2::basic::BasicClient;
use oauth2::{
    AuthUrl, AuthorizationCode, ClientId, CsrfToken, EndpointNotSet, EndpointSet, PkceCodeChallenge,
    PkceCodeVerifier, RedirectUrl, TokenResponse as _, TokenUrl,
};
use rand::Rng as _;
use serde::Deserialize;
use sha2::{Digest as _, Sha256};
use std::num::NonZeroUsize;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

const COOKIE: &str = "agents-portal";
/// What the portal is called at the sign-in.
const CLIENT: &str = "agents-portal";
/// How long somebody is signed in at most; their token may end before.
const SESSION: Duration = Duration::from_secs(8 * 3_600);
/// How long somebody may take to sign in.
const UNDER_WAY: Duration = Duration::from_secs(600);
/// Most people that are signed in, or signing in.
const MOST: usize = 10_000;
const PATIENCE: Duration = Duration::from_secs(5);

type OAuth = BasicClient<EndpointSet, EndpointNotSet, EndpointNotSet, EndpointNotSet, EndpointSet>;

/// Kept by the digest of what the browser has: what is kept here opens nothing.
#[derive(Debug)]
struct Kept<T>(Mutex<LruCache<[u8; 32], (T, Instant)>>);

impl<T> Kept<T> {
    fn new() -> Kept<T> {
        Kept(Mutex::new(LruCache::new(NonZeroUsize::new(MOST).unwrap_or(NonZeroUsize::MIN))))
    }

    fn all(&self) -> MutexGuard<'_, LruCache<[u8; 32], (T, Instant)>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn keep(&self, secret: &str, value: T) {
        self.all().put(Sha256::digest(secret).into(), (value, Instant::now()));
    }

    fn take(&self, secret: &str, longest: Duration) -> Option<T> {
        let (value, since) = self.all().pop::<[u8; 32]>(&Sha256::digest(secret).into())?;
        (since.elapsed() < longest).then_some(value)
    }
}

/// The port's sign-in, as the portal uses it.
#[derive(Debug)]
pub struct SignIn {
    oauth: OAuth,
    http: reqwest::Client,
    address: String,
    /// By its `state`, whoever is under way, with the browser that they are under way in.
    under_way: Kept<(PkceCodeVerifier, String)>,
    tokens: Kept<String>,
}

impl SignIn {
    /// The sign-in at an address, for the portal at another.
    pub(crate) fn at(sign_in: &str, address: &str) -> Result<SignIn, Error> {
        let wrong = |error: &dyn std::fmt::Display| Error::SignIn(error.to_string());
        let oauth = BasicClient::new(ClientId::new(CLIENT.to_owned()))
            .set_auth_uri(AuthUrl::new(format!("{sign_in}/authorize")).map_err(|error| wrong(&error))?)
            .set_token_uri(TokenUrl::new(format!("{sign_in}/token")).map_err(|error| wrong(&error))?)
            .set_redirect_uri(
                RedirectUrl::new(format!("{address}/signed-in")).map_err(|error| wrong(&error))?,
            );
        let http = reqwest::Client::builder().timeout(PATIENCE).redirect(reqwest::redirect::Policy::none());
        Ok(SignIn {
            oauth,
            http: http.build().map_err(|error| wrong(&error))?,
            address: address.to_owned(),
            under_way: Kept::new(),
            tokens: Kept::new(),
        })
    }

    /// The token of whoever has a cookie, if they are signed in.
    pub(crate) fn token(&self, jar: &CookieJar) -> Option<String> {
        let secret = jar.get(COOKIE)?;
        let mut all = self.tokens.all();
        let (token, since) = all.get::<[u8; 32]>(&Sha256::digest(secret.value()).into())?;
        (since.elapsed() < SESSION).then(|| token.clone())
    }
}

/// Sends a request of the OAuth library.
async fn send(
    http: reqwest::Client,
    request: oauth2::HttpRequest,
) -> Result<oauth2::HttpResponse, reqwest::Error> {
    let (parts, body) = request.into_parts();
    let asked = http.request(parts.method, parts.uri.to_string()).headers(parts.headers).body(body);
    let response = asked.send().await?;
    let (status, headers) = (response.status(), response.headers().clone());
    let mut answer = oauth2::HttpResponse::new(response.bytes().await?.to_vec());
    *answer.status_mut() = status;
    *answer.headers_mut() = headers;
    Ok(answer)
}

pub(crate) fn router() -> Router<Portal> {
    Router::new()
        .route("/sign-in", get(begin))
        .route("/signed-in", get(end))
        .route("/sign-out", post(sign_out))
}

fn secret() -> String {
    hex::encode(rand::rng().random::<[u8; 32]>())
}

fn cookie(secret: String) -> Cookie<'static> {
    Cookie::build((COOKIE, secret)).path("/").http_only(true).same_site(SameSite::Lax).build()
}

/// Sends somebody to the sign-in. The cookie binds the way back to this browser.
async fn begin(State(portal): State<Portal>, jar: CookieJar) -> Response {
    let (challenge, verifier) = PkceCodeChallenge::new_random_sha256();
    let (to, state) =
        portal.sign_in.oauth.authorize_url(CsrfToken::new_random).set_pkce_challenge(challenge).url();
    let browser = secret();
    portal.sign_in.under_way.keep(state.secret(), (verifier, browser.clone()));
    (jar.add(cookie(browser)), Redirect::to(to.as_str())).into_response()
}

/// Where the sign-in sends somebody back to.
#[derive(Debug, Deserialize)]
struct Back {
    #[serde(default)]
    code: String,
    #[serde(default)]
    state: String,
}

async fn end(State(portal): State<Portal>, jar: CookieJar, Query(back): Query<Back>) -> Response {
    let again =
        || (StatusCode::BAD_REQUEST, "This sign-in was not begun here, or took too long: begin again.");
    let Some((verifier, browser)) = portal.sign_in.under_way.take(&back.state, UNDER_WAY) else {
        return again().into_response();
    };
    if jar.get(COOKIE).is_none_or(|cookie| cookie.value() != browser) {
        return again().into_response();
    }
    let http = portal.sign_in.http.clone();
    let send = move |request| send(http.clone(), request);
    let exchange =
        portal.sign_in.oauth.exchange_code(AuthorizationCode::new(back.code)).set_pkce_verifier(verifier);
    match exchange.request_async(&send).await {
        Ok(answer) => {
            // Another one than before signing in: nobody else can know it.
            let secret = secret();
            portal.sign_in.tokens.keep(&secret, answer.access_token().secret().clone());
            (jar.add(cookie(secret)), Redirect::to("/")).into_response()
        }
        Err(error) => {
            tracing::warn!(%error, "nobody was signed in");
            (StatusCode::BAD_GATEWAY, "The port's sign-in gave no token: begin again.").into_response()
        }
    }
}

async fn sign_out(State(portal): State<Portal>, headers: HeaderMap, jar: CookieJar) -> Response {
    if !is_own(&portal, &headers) {
        return StatusCode::FORBIDDEN.into_response();
    }
    if let Some(cookie) = jar.get(COOKIE) {
        portal.sign_in.tokens.take(cookie.value(), SESSION);
    }
    (jar.remove(Cookie::build(COOKIE).path("/")), StatusCode::NO_CONTENT).into_response()
}

/// Whether a request that changes something comes from the portal's own page.
fn is_own(portal: &Portal, headers: &HeaderMap) -> bool {
    headers.get(header::ORIGIN).is_some_and(|origin| origin.as_bytes() == portal.sign_in.address.as_bytes())
}

/// Gives a request the token of whoever is signed in, and nobody else's: what a browser sends as one is dropped.
pub(crate) async fn as_signed_in(
    State(portal): State<Portal>,
    jar: CookieJar,
    mut request: Request,
    next: Next,
) -> Response {
    if !request.method().is_safe() && !is_own(&portal, request.headers()) {
        return StatusCode::FORBIDDEN.into_response();
    }
    request.headers_mut().remove(header::AUTHORIZATION);
    let bearer =
        portal.sign_in.token(&jar).and_then(|token| HeaderValue::try_from(format!("Bearer {token}")).ok());
    if let Some(mut bearer) = bearer {
        bearer.set_sensitive(true);
        request.headers_mut().insert(header::AUTHORIZATION, bearer);
    }
    next.run(request).await
}
