//! Signing in to the console with an operator's key.

use crate::App;
use crate::body::StrictJson;
use crate::node::gate::Operator;
use crate::node::gate::session::{cookie, token};
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use axum_extra::extract::cookie::CookieJar;
use jiff::Timestamp;
use ostrog_wire::keys::{SignIn, SignedIn};

fn shown(operator: &Operator) -> SignedIn {
    SignedIn { key: operator.key_id().to_owned(), name: operator.key_name().to_owned() }
}

/// Begins a console session.
#[utoipa::path(post, path = "/api/v1/session", tag = "console", request_body = SignIn,
    responses(
        (status = 200, description = "Signed in; the session is in a cookie that scripts cannot read", body = SignedIn,
            headers(("Set-Cookie" = String, description = "The session"))),
        Refused,
    ))]
pub async fn sign_in(
    State(app): State<App>,
    StrictJson(sign_in, _held): StrictJson<SignIn>,
) -> Result<Response, Problem> {
    let operator = Operator::of_key(&app.node, sign_in.key.trim())?;
    let token = app.sessions.begin(operator.key_id(), Timestamp::now());
    tracing::info!(key = operator.key_id(), "signed in to the console");
    let cookie = cookie(token, app.public_url.starts_with("https://"));
    Ok((CookieJar::new().add(cookie), Json(shown(&operator))).into_response())
}

/// Who is signed in.
#[utoipa::path(get, path = "/api/v1/session", tag = "console",
    responses(
        (status = 200, description = "Who", body = SignedIn),
        Refused,
    ), security(("key" = [])))]
pub async fn signed_in(operator: Operator) -> Json<SignedIn> {
    Json(shown(&operator))
}

/// Ends the session.
#[utoipa::path(delete, path = "/api/v1/session", tag = "console",
    responses((status = 204, description = "Signed out"), Refused))]
pub async fn sign_out(State(app): State<App>, headers: HeaderMap) -> Response {
    if let Some(token) = token(&headers) {
        app.sessions.end(&token);
    }
    let mut ended = cookie(String::new(), app.public_url.starts_with("https://"));
    ended.make_removal();
    (StatusCode::NO_CONTENT, CookieJar::new().add(ended)).into_response()
}
