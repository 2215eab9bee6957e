//! RFC 9457 problem documents: the one form in which this service refuses.

use axum::Json;
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde::Serialize;
use utoipa::{IntoResponses, ToSchema};

/// Where problem types are named. A name, not an address.
const BASE: &str = "urn:ostrog:problem:";

/// A problem document.
#[derive(Clone, Debug, Serialize, ToSchema)]
pub struct Problem {
    /// The stable name of the kind of problem.
    #[serde(rename = "type")]
    pub kind: String,
    /// The kind in words.
    pub title: &'static str,
    /// The HTTP status.
    pub status: u16,
    /// What is wrong this time, and what to do.
    pub detail: String,
    /// One entry for each thing wrong, where there are several.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub errors: Vec<ProblemPart>,
}

/// One of several things wrong.
#[derive(Clone, Debug, Serialize, ToSchema)]
pub struct ProblemPart {
    /// Which line, from 1, or where in a file.
    pub at: String,
    /// What is wrong.
    pub detail: String,
}

macro_rules! problems {
    ($($(#[$doc:meta])* $name:ident = $status:ident, $kind:literal, $title:literal;)*) => {
        impl Problem {
            $(
                $(#[$doc])*
                pub fn $name(detail: impl Into<String>) -> Problem {
                    Problem {
                        kind: format!("{BASE}{}", $kind),
                        title: $title,
                        status: StatusCode::$status.as_u16(),
                        detail: detail.into(),
                        errors: Vec::new(),
                    }
                }
            )*
        }
    };
}

problems! {
    /// The request cannot be read.
    malformed = BAD_REQUEST, "malformed", "The request cannot be read";
    /// No key, or none that counts.
    unauthenticated = UNAUTHORIZED, "unauthenticated", "A key is needed";
    /// The key may not do this.
    forbidden = FORBIDDEN, "forbidden", "The key may not do this";
    /// There is nothing here, or nothing for this key.
    not_found = NOT_FOUND, "not-found", "Nothing is here";
    /// The method is not one of this path's.
    wrong_method = METHOD_NOT_ALLOWED, "wrong-method", "This path has no such method";
    /// It does not fit what is.
    conflict = CONFLICT, "conflict", "It does not fit what is";
    /// It is not as the caller thinks.
    changed = PRECONDITION_FAILED, "changed", "It has changed since";
    /// The body is too large.
    too_large = PAYLOAD_TOO_LARGE, "too-large", "The request is too large";
    /// The body is no JSON.
    wrong_media_type = UNSUPPORTED_MEDIA_TYPE, "wrong-media-type", "The body has the wrong media type";
    /// Readable, but not valid.
    invalid = UNPROCESSABLE_ENTITY, "invalid", "What was sent is not valid";
    /// It took too long.
    timeout = GATEWAY_TIMEOUT, "timeout", "It took too long";
    /// The database is away, or nothing is live.
    unavailable = SERVICE_UNAVAILABLE, "unavailable", "Not possible at present";
    /// A mistake of this program.
    internal = INTERNAL_SERVER_ERROR, "internal", "A mistake of this program";
}

/// How calls are refused, in the description of the API.
#[derive(Debug, IntoResponses)]
pub enum Refused {
    /// The request cannot be read.
    #[response(status = 400, content_type = "application/problem+json")]
    Malformed(Problem),
    /// No key, or none that counts.
    #[response(status = 401, content_type = "application/problem+json")]
    Unauthenticated(Problem),
    /// The key may not do this.
    #[response(status = 403, content_type = "application/problem+json")]
    Forbidden(Problem),
    /// Nothing is here, or nothing for this key.
    #[response(status = 404, content_type = "application/problem+json")]
    NotFound(Problem),
    /// It does not fit what is.
    #[response(status = 409, content_type = "application/problem+json")]
    Conflict(Problem),
    /// It has changed since.
    #[response(status = 412, content_type = "application/problem+json")]
    Changed(Problem),
    /// The request is too large.
    #[response(status = 413, content_type = "application/problem+json")]
    TooLarge(Problem),
    /// The body has the wrong media type.
    #[response(status = 415, content_type = "application/problem+json")]
    WrongMediaType(Problem),
    /// What was sent is not valid; nothing was changed.
    #[response(status = 422, content_type = "application/problem+json")]
    Invalid(Problem),
    /// The database is away, nothing is live, or not at the position asked for.
    #[response(status = 503, content_type = "application/problem+json")]
    Unavailable(Problem),
    /// It took too long.
    #[response(status = 504, content_type = "application/problem+json")]
    Timeout(Problem),
}

impl Problem {
    /// Adds the things wrong.
    #[must_use]
    pub fn with(mut self, errors: Vec<ProblemPart>) -> Problem {
        self.errors = errors;
        self
    }
}

impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let mut response = (status, Json(&self)).into_response();
        let headers = response.headers_mut();
        headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("application/problem+json"));
        headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
        if status == StatusCode::UNAUTHORIZED {
            headers.insert(header::WWW_AUTHENTICATE, HeaderValue::from_static("Bearer realm=\"ostrog\""));
        }
        response
    }
}

impl From<ostrog_store::Error> for Problem {
    fn from(error: ostrog_store::Error) -> Problem {
        match error {
            ostrog_store::Error::Unreachable(_) => {
                tracing::warn!(%error, "the database cannot be reached");
                Problem::unavailable(
                    "The database cannot be reached; nothing was changed that this call confirms. Try again.",
                )
            }
            error => {
                tracing::error!(%error, "the database refused");
                Problem::internal("The database refused; the log says why.")
            }
        }
    }
}
