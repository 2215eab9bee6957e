//! Signing in to the console with an operator's key.

use crate::App;
use crate::body::StrictJson;
use crate::caller::{COOKIE, Operator, session_token};
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use jiff::Timestamp;
use ostrog_store::key::KeyKind;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A sign-in.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SignIn {
    /// An operator's key.
    key: String,
}

/// Who is signed in.
#[derive(Debug, Serialize, ToSchema)]
pub struct SignedIn {
    /// The key's id.
    key: String,
    /// What its maker called it.
    name: String,
}

/// Begins a console session.
#[utoipa::path(post, path = "/api/v1/session", tag = "console", request_body = SignIn,
    responses(
        (status = 200, description = "Signed in; the session is in a cookie that scripts cannot read", body = SignedIn),
        Refused,
    ))]
pub async fn begin(
    State(app): State<App>,
    StrictJson(sign_in): StrictJson<SignIn>,
) -> Result<Response, Problem> {
    let now = Timestamp::now();
    let key = app
        .node
        .key(sign_in.key.trim(), now)
        .ok_or_else(|| Problem::unauthenticated("The key is not known, or has ended."))?;
    if key.making.kind != KeyKind::Operator {
        return Err(Problem::forbidden("The console needs an operator's key; this one is an application's."));
    }
    let token = app.sessions.begin(&key, now);
    tracing::info!(key = %key.id, "signed in to the console");
    let secure = if app.public_url.starts_with("https://") { "; Secure" } else { "" };
    let cookie = format!("{COOKIE}={token}; Path=/; HttpOnly; SameSite=Strict{secure}");
    Ok((
        [(header::SET_COOKIE, cookie)],
        Json(SignedIn { key: key.id.clone(), name: key.making.name.clone() }),
    )
        .into_response())
}

/// Who is signed in.
#[utoipa::path(get, path = "/api/v1/session", tag = "console",
    responses(
        (status = 200, description = "Who", body = SignedIn),
        Refused,
    ), security(("key" = [])))]
pub async fn show(Operator { key, .. }: Operator) -> Json<SignedIn> {
    Json(SignedIn { key: key.id.clone(), name: key.making.name.clone() })
}

/// Ends the session.
#[utoipa::path(delete, path = "/api/v1/session", tag = "console",
    responses((status = 204, description = "Signed out")))]
pub async fn end(State(app): State<App>, headers: HeaderMap) -> Response {
    if let Some(token) = session_token(&headers) {
        app.sessions.end(token);
    }
    let cookie = format!("{COOKIE}=; Path=/; HttpOnly; SameSite=Strict; Max-Age=0");
    (StatusCode::NO_CONTENT, [(header::SET_COOKIE, cookie)]).into_response()
}
