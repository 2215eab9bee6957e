//! How a request is refused.

use axum::body::Body;
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::Response;
use serde::Serialize;
use std::time::Duration;

/// A refusal, as RFC 9457 has it.
#[derive(Serialize)]
struct Problem<'p> {
    #[serde(rename = "type")]
    kind: &'static str,
    title: &'static str,
    status: u16,
    detail: &'p str,
    #[serde(skip_serializing_if = "Option::is_none")]
    reason: Option<&'p str>,
}

fn problem(
    status: StatusCode,
    kind: &'static str,
    title: &'static str,
    detail: &str,
    reason: Option<&str>,
) -> Response {
    let body = Problem { kind, title, status: status.as_u16(), detail, reason };
    let body = serde_json::to_vec(&body).unwrap_or_default();
    let mut response = Response::new(Body::from(body));
    *response.status_mut() = status;
    let headers = response.headers_mut();
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("application/problem+json"));
    headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    response
}

/// Somebody has to sign in, perhaps with another token.
pub fn sign_in(invalid: bool) -> Response {
    let (challenge, detail) = match invalid {
        true => ("Bearer error=\"invalid_token\"", "The token does not count. Sign in again."),
        false => ("Bearer", "Sign in first: send a bearer token."),
    };
    let mut response = problem(StatusCode::UNAUTHORIZED, "urn:ostrog:guard:sign-in", "Sign in", detail, None);
    response.headers_mut().insert(header::WWW_AUTHENTICATE, HeaderValue::from_static(challenge));
    response
}

/// It is not allowed.
pub fn denied(reason: Option<&str>, message: Option<&str>) -> Response {
    let detail = message.unwrap_or("You may not do this here.");
    problem(StatusCode::FORBIDDEN, "urn:ostrog:guard:denied", "Denied", detail, reason)
}

/// Its path could be read in more than one way.
pub fn path(why: &str) -> Response {
    problem(StatusCode::FORBIDDEN, "urn:ostrog:guard:path-refused", "Path refused", why, Some("path-refused"))
}

/// There is no answer, and so it is refused.
pub fn unanswered(detail: &str) -> Response {
    later(detail, Duration::from_secs(1))
}

/// There is no answer for a while.
pub fn later(detail: &str, after: Duration) -> Response {
    let mut response =
        problem(StatusCode::SERVICE_UNAVAILABLE, "urn:ostrog:guard:no-answer", "No answer", detail, None);
    let seconds = after.as_secs_f64().ceil().max(1.0);
    if let Ok(seconds) = HeaderValue::from_str(&format!("{seconds}")) {
        response.headers_mut().insert(header::RETRY_AFTER, seconds);
    }
    response
}
