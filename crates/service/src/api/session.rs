//! Signing in: to the console with a key or an issuer, and as a command line with an issuer.

use crate::App;
use crate::body::{InPath, StrictJson};
use crate::node::gate::session::{COMMAND, Kept, SIGN_IN, is_own_page};
use crate::node::gate::{Operator, Scope};
use crate::node::session::Signed;
use crate::node::view::Holder;
use crate::problem::{Problem, Refused};
use crate::sign_in::{Asking, Begun, Named, Party, Unsigned};
use axum::Json;
use axum::extract::{FromRequest as _, FromRequestParts as _, Query, Request, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{Html, IntoResponse, Redirect, Response};
use axum_extra::extract::cookie::CookieJar;
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jiff::Timestamp;
use maud::{DOCTYPE, PreEscaped, html};
use ostrog_store::issuer::Issuer;
use ostrog_store::session::{Carried, Hash, Session, SessionText, Whose};
use ostrog_wire::keys::{
    DeviceShown, LoopbackAsked, LoopbackBegun, RenewalAsked, Renewed, SessionAsked, SessionGiven,
    SessionOutcome, SignIn, SignInWith, SignedIn,
};
use serde::Deserialize;
use std::sync::Arc;
use subtle::ConstantTimeEq as _;
use url::Url;

/// Longest path that a sign-in leads to.
const MAX_TO: usize = 1_000;
/// What the pages of a sign-in may load: their own style, and nothing may frame them.
const POLICY: &str = "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'; base-uri 'none'";
const STYLE: &str = include_str!("session.css");

fn shown(holder: &Holder, signed: Option<&Signed>, issuer: Option<String>) -> SignedIn {
    SignedIn {
        key: holder.id.clone(),
        name: holder.name.clone(),
        issuer,
        until: signed.map(|signed| signed.until.to_string()),
        signed_in_at: signed.and_then(|signed| signed.at).map(|at| at.to_string()),
    }
}

fn shown_now(app: &App, scope: &Scope) -> SignedIn {
    let issuer = scope.session().and_then(|signed| app.node.claimed(&signed.hash));
    shown(scope.holder(), scope.session(), issuer.map(|(claimed, _)| claimed.issuer))
}

// -- with a key, and out -----------------------------------------------------------------------------

/// Begins a console session.
#[utoipa::path(post, path = "/api/v1/session", tag = "console", request_body = SignIn,
    responses(
        (status = 200, description = "Signed in; the session is in a cookie that scripts cannot read", body = SignedIn,
            headers(("Set-Cookie" = String, description = "The session"))),
        Refused,
    ))]
pub async fn sign_in(
    State(app): State<App>,
    headers: HeaderMap,
    StrictJson(sign_in, _held): StrictJson<SignIn>,
) -> Result<Response, Problem> {
    let operator = Operator::of_key(&app.node, sign_in.key.trim())?;
    let whose = Whose::Key(operator.key_id().to_owned());
    let (text, signed, holder) = app.node.begin_session(Carried::Console, whose, None).await?;
    let jar = begun(&app, &headers, &text, None).await;
    Ok((jar, Json(shown(&holder, Some(&signed), None))).into_response())
}

/// Cookies of a session that begins: whatever was there before ends.
async fn begun(app: &App, headers: &HeaderMap, text: &SessionText, renewal: Option<String>) -> CookieJar {
    let secure = app.is_secure();
    if let Some(before) = Kept::Session.of(headers, secure)
        && let Err(problem) = app.node.end_session(&before).await
    {
        tracing::warn!(why = problem.detail(), "the session before could not be ended");
    }
    let jar = CookieJar::new().add(Kept::Session.cookie(text.reveal().to_owned(), secure));
    match renewal {
        Some(renewal) => jar.add(Kept::Renewal.cookie(URL_SAFE_NO_PAD.encode(renewal), secure)),
        None if Kept::Renewal.of(headers, secure).is_some() => jar.add(Kept::Renewal.gone(secure)),
        None => jar,
    }
}

/// Who is signed in.
#[utoipa::path(get, path = "/api/v1/session", tag = "console",
    responses(
        (status = 200, description = "Who", body = SignedIn),
        Refused,
    ), security(("key" = [])))]
pub async fn signed_in(State(app): State<App>, operator: Operator) -> Json<SignedIn> {
    Json(shown_now(&app, operator.scope()))
}

/// Ends the session, on every node.
#[utoipa::path(delete, path = "/api/v1/session", tag = "console",
    responses((status = 204, description = "Signed out"), Refused))]
pub async fn sign_out(State(app): State<App>, request: Request) -> Result<Response, Problem> {
    let (parts, _) = request.into_parts();
    let secure = app.is_secure();
    let sent = crate::node::gate::session::bearer(&parts.headers)?;
    let of_command = sent.as_ref().and_then(|sent| sent.token().strip_prefix(COMMAND)).map(str::to_owned);
    let of_console = Kept::Session.of(&parts.headers, secure);
    if of_command.is_none() && of_console.is_some() {
        is_own_page(&parts)?;
    }
    if let Some(text) = of_command.or(of_console) {
        app.node.end_session(&text).await?;
    }
    let jar = CookieJar::new().add(Kept::Session.gone(secure)).add(Kept::Renewal.gone(secure));
    Ok((StatusCode::NO_CONTENT, jar).into_response())
}

/// Has the claims of the session anew from its issuer: without that they count for an hour.
#[utoipa::path(post, path = "/api/v1/session/renewal", tag = "console", request_body = RenewalAsked,
    responses((status = 200, description = "They count for another hour", body = Renewed), Refused),
    security(("key" = [])))]
pub async fn renew(State(app): State<App>, request: Request) -> Result<Response, Problem> {
    let (mut parts, body) = request.into_parts();
    let operator = Operator::from_request_parts(&mut parts, &app).await?;
    let secure = app.is_secure();
    let kept = Kept::Renewal.of(&parts.headers, secure);
    let request = Request::from_parts(parts, body);
    let StrictJson(asked, _held) = StrictJson::<RenewalAsked>::from_request(request, &app).await?;
    let cannot =
        || Problem::conflict("Nothing is there to renew this session with; sign in again when it ends.");
    let hash = operator.session().ok_or_else(cannot)?.hash;
    let (of, _) = app.node.claimed(&hash).ok_or_else(cannot)?;
    let in_cookie = asked.renewal.is_none();
    let kept = kept.and_then(|kept| String::from_utf8(URL_SAFE_NO_PAD.decode(kept).ok()?).ok());
    let renewal = asked.renewal.or(kept).ok_or_else(cannot)?;
    let issuer = for_operators(&app, &of.issuer)?;
    let named = party(&app, &issuer).await?.by_renewal(&renewal).await?;
    if (&named.claimed.issuer, &named.claimed.sub) != (&of.issuer, &of.sub) {
        return Err(Problem::unauthenticated("The issuer names somebody else; sign in again."));
    }
    let signed = app.node.claim_again(&hash, &named.claimed).await?;
    let who = shown(operator.holder(), Some(&signed), Some(of.issuer));
    let renewal = named.renewal;
    if in_cookie {
        let cookie = renewal.map(|renewal| Kept::Renewal.cookie(URL_SAFE_NO_PAD.encode(renewal), secure));
        let jar = CookieJar::new().add(cookie.unwrap_or_else(|| Kept::Renewal.gone(secure)));
        return Ok((jar, Json(Renewed { renewal: None, who })).into_response());
    }
    Ok(Json(Renewed { renewal, who }).into_response())
}

// -- with an issuer, in a browser ------------------------------------------------------------------------

/// The issuer of a key, if operators sign in with it.
fn for_operators(app: &App, key: &str) -> Result<Issuer, Problem> {
    let all = app.node.issuers_for_operators();
    let found = all.into_iter().find(|issuer| issuer.key == key);
    found.ok_or_else(|| Problem::not_found(format!("Operators do not sign in with {key:?} here.")))
}

async fn party<'a>(app: &'a App, issuer: &'a Issuer) -> Result<Party<'a>, Unsigned> {
    app.sign_ins.with(issuer, issuer.for_operators().unwrap_or_default()).await
}

/// What may be asked of a sign-in of the console.
#[derive(Debug, Deserialize)]
pub struct To {
    #[serde(default)]
    to: String,
    #[serde(default)]
    again: bool,
}

/// Sends a browser to an issuer.
pub async fn begin(
    State(app): State<App>,
    InPath(key): InPath<String>,
    Query(asked): Query<To>,
) -> Result<Response, Page> {
    let issuer = for_operators(&app, &key).map_err(|problem| Page::refused(&problem))?;
    let asking = if asked.again { Asking::Anew } else { Asking::AsIsUsual };
    let party = party(&app, &issuer).await?;
    let (url, begun) = party.begin(&back(&app, &key), own_path(&asked.to), asking)?;
    let kept = serde_json::to_vec(&begun).unwrap_or_default();
    let jar = CookieJar::new().add(Kept::SignIn.cookie(URL_SAFE_NO_PAD.encode(kept), app.is_secure()));
    let mut response = (jar, Redirect::to(url.as_str())).into_response();
    response.headers_mut().insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    Ok(response)
}

/// Where an issuer sends browsers back to: to one address an issuer, and to no other.
fn back(app: &App, issuer: &str) -> String {
    format!("{}/sign-in/{issuer}/back", app.public_url)
}

/// A path of the console, and nothing that leads elsewhere.
fn own_path(to: &str) -> &str {
    let is_plain = |byte: u8| byte.is_ascii_graphic() && byte != b'\\';
    let own = to.starts_with('/') && !to.starts_with("//") && to.len() <= MAX_TO && to.bytes().all(is_plain);
    if own { to } else { "/" }
}

/// What an issuer sends a browser back with (RFC 6749, 4.1.2; RFC 9207).
#[derive(Debug, Default, Deserialize)]
pub struct CameBack {
    #[serde(default)]
    code: String,
    #[serde(default)]
    state: String,
    iss: Option<String>,
    error: Option<String>,
}

/// Somebody came back from an issuer.
pub async fn came_back(
    State(app): State<App>,
    InPath(key): InPath<String>,
    headers: HeaderMap,
    Query(came): Query<CameBack>,
) -> Response {
    let done = signed_in_with(&app, &key, &headers, &came).await;
    // It counts once, whatever comes of it.
    let gone = CookieJar::new().add(Kept::SignIn.gone(app.is_secure()));
    match done {
        Ok((jar, to)) => (gone, jar, Page::on(&to)).into_response(),
        Err(page) => (gone, page).into_response(),
    }
}

async fn signed_in_with(
    app: &App,
    key: &str,
    headers: &HeaderMap,
    came: &CameBack,
) -> Result<(CookieJar, String), Page> {
    let kept = Kept::SignIn.of(headers, app.is_secure()).and_then(|kept| URL_SAFE_NO_PAD.decode(kept).ok());
    let kept: Option<Begun> = kept.and_then(|kept| serde_json::from_slice(&kept).ok());
    let now = Timestamp::now().as_second();
    let lasts = SIGN_IN.whole_seconds();
    let kept = kept.filter(|kept| kept.issuer == key && (0..lasts).contains(&(now - kept.at)));
    // Whoever did not begin it here is told the same as whoever was too slow.
    let kept = kept.filter(|kept| bool::from(kept.state.as_bytes().ct_eq(came.state.as_bytes())));
    let kept = kept.ok_or_else(|| {
        Page::told(StatusCode::BAD_REQUEST, "Not signed in", "This sign-in was not begun in this browser, or more than ten minutes ago, or was used already. Begin another.")
    })?;
    let issuer = for_operators(app, key).map_err(|problem| Page::refused(&problem))?;
    let party = party(app, &issuer).await?;
    if !party.may_be_of(came.iss.as_deref()) {
        return Err(
            Unsigned::NotHeld("the answer is not from the issuer that was asked (iss)".to_owned()).into()
        );
    }
    if came.error.is_some() || came.code.is_empty() {
        let why =
            if came.error.as_deref() == Some("access_denied") { "access_denied" } else { "it gave no code" };
        return Err(Unsigned::Refused(why.to_owned()).into());
    }
    let begun_with = Session::hash(&kept.state);
    let named = party.by_code(&came.code, &back(app, key), kept.verifier, kept.nonce).await?;
    let (whose, renewal) = (Whose::Claimed(named.claimed), named.renewal);
    let session = app.node.begin_session(Carried::Console, whose, Some(begun_with)).await;
    let (text, ..) = session.map_err(|problem| Page::refused(&problem))?;
    Ok((begun(app, headers, &text, renewal).await, own_path(&kept.to).to_owned()))
}

/// A page of a sign-in.
#[derive(Debug)]
pub struct Page {
    status: StatusCode,
    title: &'static str,
    words: String,
    /// Where it goes on by itself.
    on: Option<String>,
}

impl Page {
    fn told(status: StatusCode, title: &'static str, words: &str) -> Page {
        Page { status, title, words: words.to_owned(), on: None }
    }

    fn refused(problem: &Problem) -> Page {
        let status = StatusCode::from_u16(problem.status()).unwrap_or(StatusCode::BAD_REQUEST);
        Page::told(status, "Not signed in", problem.detail())
    }

    /// It goes on by itself: a strict cookie is not sent where an issuer redirects to.
    fn on(to: &str) -> Page {
        Page { on: Some(to.to_owned()), ..Page::told(StatusCode::OK, "Signed in", "The console opens.") }
    }
}

impl From<Unsigned> for Page {
    fn from(why: Unsigned) -> Page {
        Page::refused(&why.into())
    }
}

impl IntoResponse for Page {
    fn into_response(self) -> Response {
        let on = self.on.as_deref();
        let body = html! {
            (DOCTYPE)
            html lang="en" {
                head {
                    meta charset="utf-8";
                    meta name="viewport" content="width=device-width, initial-scale=1";
                    @if let Some(on) = on { meta http-equiv="refresh" content={ "0; url=" (on) }; }
                    title { (self.title) " · Ostrog" }
                    style { (PreEscaped(STYLE)) }
                }
                body {
                    main {
                        h1 { (self.title) }
                        p { (self.words) }
                        p { a href=(on.unwrap_or("/")) { @if on.is_some() { "Go on" } @else { "To the console" } } }
                    }
                }
            }
        };
        let mut response = (self.status, Html(body.into_string())).into_response();
        for (name, value) in [
            (header::CONTENT_SECURITY_POLICY, POLICY),
            (header::CACHE_CONTROL, "no-store"),
            (header::REFERRER_POLICY, "no-referrer"),
            (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
        ] {
            response.headers_mut().insert(name, HeaderValue::from_static(value));
        }
        response
    }
}

// -- with an issuer, as a command line ------------------------------------------------------------------

/// Which issuers operators sign in with. Anybody may ask: it is what a sign-in page shows.
#[utoipa::path(get, path = "/api/v1/sign-in", tag = "console",
    responses((status = 200, description = "Issuers", body = Vec<SignInWith>), Refused))]
pub async fn sign_in_with(State(app): State<App>) -> Json<Vec<SignInWith>> {
    let all = app.node.issuers_for_operators().into_iter();
    Json(all.map(|issuer| SignInWith { issuer: issuer.key, url: issuer.iss }).collect())
}

/// Begins with a device code (RFC 8628): a command line shows it, and somebody confirms it in a browser.
#[utoipa::path(post, path = "/api/v1/sign-in/{issuer}/device", tag = "console",
    params(("issuer" = String, Path, description = "The issuer's key")),
    responses((status = 200, description = "What to show", body = DeviceShown), Refused))]
pub async fn begin_device(
    State(app): State<App>,
    InPath(key): InPath<String>,
) -> Result<Json<DeviceShown>, Problem> {
    let issuer = for_operators(&app, &key)?;
    let party = party(&app, &issuer).await?;
    if !party.has_devices() {
        return Err(Problem::conflict(format!(
            "{key} has no sign-in for devices; sign in with a browser here."
        )));
    }
    let device = party.device().await?;
    Ok(Json(DeviceShown {
        device_code: device.code,
        user_code: device.short,
        verification_uri: device.page,
        verification_uri_complete: device.page_with_code,
        expires_in: device.lasts,
        interval: device.interval,
    }))
}

/// Begins in a browser on the same machine (RFC 8252, 7.3): it comes back to where the command line listens.
#[utoipa::path(post, path = "/api/v1/sign-in/{issuer}/loopback", tag = "console", request_body = LoopbackAsked,
    params(("issuer" = String, Path, description = "The issuer's key")),
    responses((status = 200, description = "Where to send the browser", body = LoopbackBegun), Refused))]
pub async fn begin_loopback(
    State(app): State<App>,
    InPath(key): InPath<String>,
    StrictJson(asked, _held): StrictJson<LoopbackAsked>,
) -> Result<Json<LoopbackBegun>, Problem> {
    let issuer = for_operators(&app, &key)?;
    let back = is_loopback(&asked.back)?;
    let (url, begun) = party(&app, &issuer).await?.begin(back, "", Asking::Anew)?;
    let (state, nonce, verifier) = (begun.state, begun.nonce, begun.verifier);
    Ok(Json(LoopbackBegun { address: url.into(), state, nonce, verifier }))
}

/// Where a command line listens, and nowhere else.
fn is_loopback(back: &str) -> Result<&str, Problem> {
    let is = Url::parse(back).is_ok_and(|url| {
        matches!(url.host_str(), Some("127.0.0.1" | "[::1]"))
            && url.scheme() == "http"
            && url.port().is_some()
            && url.path() == "/signed-in"
            && url.query().is_none()
            && url.fragment().is_none()
            && url.username().is_empty()
    });
    let wrong = || Problem::invalid("A command line is come back to at http://127.0.0.1:PORT/signed-in.");
    if is { Ok(back) } else { Err(wrong()) }
}

/// Asks for the session: with a device's code until somebody has confirmed it, or with what a browser brought back.
#[utoipa::path(post, path = "/api/v1/sign-in/{issuer}/session", tag = "console", request_body = SessionAsked,
    params(("issuer" = String, Path, description = "The issuer's key")),
    responses((status = 200, description = "The session, or that it is not there yet", body = SessionOutcome), Refused))]
pub async fn begin_session(
    State(app): State<App>,
    InPath(key): InPath<String>,
    StrictJson(asked, _held): StrictJson<SessionAsked>,
) -> Result<Json<SessionOutcome>, Problem> {
    let issuer = for_operators(&app, &key)?;
    let party = party(&app, &issuer).await?;
    let (named, begun_with) = match asked {
        SessionAsked {
            device_code: Some(code),
            code: None,
            iss: None,
            back: None,
            nonce: None,
            verifier: None,
        } => (party.by_device(&code).await, Session::hash(&code)),
        SessionAsked {
            device_code: None,
            code: Some(code),
            iss,
            back: Some(back),
            nonce: Some(nonce),
            verifier: Some(verifier),
        } => {
            let back = is_loopback(&back)?;
            if !party.may_be_of(iss.as_deref()) {
                return Err(Problem::unauthenticated(
                    "Not signed in: the answer is not from the issuer that was asked (iss).",
                ));
            }
            (party.by_code(&code, back, verifier, nonce).await, Session::hash(&code))
        }
        _ => return Err(Problem::malformed("Send a device-code alone, or code, back, nonce and verifier.")),
    };
    let waits = |slow_down| Json(SessionOutcome { pending: true, slow_down, given: None });
    match named {
        Err(Unsigned::Pending) => Ok(waits(false)),
        Err(Unsigned::SlowDown) => Ok(waits(true)),
        named => given(&app, named?, begun_with).await,
    }
}

async fn given(app: &App, named: Named, begun_with: Hash) -> Result<Json<SessionOutcome>, Problem> {
    let issuer = named.claimed.issuer.clone();
    let whose = Whose::Claimed(named.claimed);
    let (text, signed, holder): (_, _, Arc<Holder>) =
        app.node.begin_session(Carried::Command, whose, Some(begun_with)).await?;
    let given = SessionGiven {
        session: format!("{COMMAND}{}", text.reveal()),
        renewal: named.renewal,
        who: shown(&holder, Some(&signed), Some(issuer)),
    };
    Ok(Json(SessionOutcome { pending: false, slow_down: false, given: Some(given) }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("/rollout", "/rollout")]
    #[case("/rollout/review/D-1?a=b#c", "/rollout/review/D-1?a=b#c")]
    #[case("", "/")]
    #[case("rollout", "/")]
    #[case("//evil.example", "/")]
    #[case("/\\evil.example", "/")]
    #[case("https://evil.example", "/")]
    #[case("/\t/evil.example", "/")]
    #[case("/a\r\nset-cookie: b", "/")]
    #[case("javascript:alert(1)", "/")]
    fn a_sign_in_leads_nowhere_else(#[case] to: &str, #[case] leads: &str) {
        assert_eq!(own_path(to), leads);
    }

    #[rstest]
    #[case("http://127.0.0.1:4711/signed-in", true)]
    #[case("http://[::1]:4711/signed-in", true)]
    #[case("http://127.0.0.1/signed-in", false)]
    #[case("https://127.0.0.1:4711/signed-in", false)]
    #[case("http://localhost:4711/signed-in", false)]
    #[case("http://127.0.0.1.evil.example:4711/signed-in", false)]
    #[case("http://127.0.0.1:4711/signed-in?a", false)]
    #[case("http://evil@127.0.0.1:4711/signed-in", false)]
    #[case("http://127.0.0.1:4711/elsewhere", false)]
    fn a_command_line_listens_on_its_own_machine(#[case] back: &str, #[case] may: bool) {
        assert_eq!(is_loopback(back).is_ok(), may);
    }
}
