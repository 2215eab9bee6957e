//! RFC 9457 problem documents: the one form in which this service refuses.

use axum::Json;
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use ostrog_wire::problem as wire;
use std::borrow::Cow;
use std::fmt;
use utoipa::IntoResponses;

/// Seconds after which a caller that was told to come again may.
const AGAIN: u64 = 1;

/// A refusal.
#[derive(Clone, Debug)]
pub struct Problem(Box<wire::Problem>);

macro_rules! problems {
    ($($(#[$doc:meta])* $name:ident = $status:ident, $kind:literal, $title:literal;)*) => {
        impl Problem {
            $(
                $(#[$doc])*
                pub fn $name(detail: impl Into<String>) -> Problem {
                    Problem(Box::new(wire::Problem {
                        kind: Cow::Borrowed(concat!("urn:ostrog:problem:", $kind)),
                        title: Cow::Borrowed($title),
                        status: StatusCode::$status.as_u16(),
                        detail: detail.into(),
                        errors: Vec::new(),
                    }))
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
    /// Whoever signed in did that too long ago for this (RFC 9470).
    sign_in_again = UNAUTHORIZED, "sign-in-again", "A fresh sign-in is needed";
    /// The request that a proxy asks about needs somebody who is signed in, or their token does not count.
    sign_in = UNAUTHORIZED, "sign-in", "The request needs somebody who is signed in";
    /// The reverse proxy that asks is not known. Not 401: a client that got that would be asked to sign in.
    proxy_unknown = FORBIDDEN, "proxy-unknown", "The reverse proxy is not known";
    /// The request could be read in more than one way, or is none that a route can have.
    path_refused = FORBIDDEN, "path-refused", "The request is refused whatever it is for";
    /// No route takes the request.
    unmapped = FORBIDDEN, "unmapped", "No route takes the request";
    /// The route that takes the request refuses all.
    route_refused = FORBIDDEN, "route-refused", "The route refuses every request";
    /// Who asks may not do what the request needs.
    denied = FORBIDDEN, "denied", "The request is denied";
    /// There is nothing here, or nothing for this key.
    not_found = NOT_FOUND, "not-found", "Nothing is here";
    /// The method is not one of this path's.
    wrong_method = METHOD_NOT_ALLOWED, "wrong-method", "This path has no such method";
    /// The request did not arrive in time.
    too_slow = REQUEST_TIMEOUT, "too-slow", "The request did not arrive in time";
    /// It does not fit what is.
    conflict = CONFLICT, "conflict", "It does not fit what is";
    /// It is not as the caller thinks.
    changed = PRECONDITION_FAILED, "changed", "It has changed since";
    /// The body is too large.
    too_large = PAYLOAD_TOO_LARGE, "too-large", "The request is too large";
    /// The address is too long.
    too_long = URI_TOO_LONG, "too-long", "The address is too long";
    /// The body is not of the media type that is read here.
    wrong_media_type = UNSUPPORTED_MEDIA_TYPE, "wrong-media-type", "The body has the wrong media type";
    /// Readable, but not valid.
    invalid = UNPROCESSABLE_ENTITY, "invalid", "What was sent is not valid";
    /// The key has as much under way as it may.
    too_many = TOO_MANY_REQUESTS, "too-many", "The key has too much under way";
    /// The header fields are too large.
    too_large_header = REQUEST_HEADER_FIELDS_TOO_LARGE, "too-large-header", "The header is too large";
    /// It took too long.
    timeout = GATEWAY_TIMEOUT, "timeout", "It took too long";
    /// The database is away, or nothing is live.
    unavailable = SERVICE_UNAVAILABLE, "unavailable", "Not possible at present";
    /// A mistake of this program.
    internal = INTERNAL_SERVER_ERROR, "internal", "A mistake of this program";
}

impl Problem {
    /// Adds the things wrong.
    #[must_use]
    pub fn with(mut self, errors: Vec<wire::ProblemPart>) -> Problem {
        self.0.errors = errors;
        self
    }

    /// The HTTP status.
    pub fn status(&self) -> u16 {
        self.0.status
    }

    /// What is wrong.
    pub fn detail(&self) -> &str {
        &self.0.detail
    }

    /// The things wrong, one by one.
    pub fn errors(&self) -> &[wire::ProblemPart] {
        &self.0.errors
    }

    /// The document.
    pub fn into_document(self) -> wire::Problem {
        *self.0
    }
}

/// One of several things wrong.
pub fn part(at: impl Into<String>, detail: &dyn fmt::Display) -> wire::ProblemPart {
    wire::ProblemPart { at: at.into(), detail: detail.to_string(), code: None, meant: None }
}

/// How calls are refused, in the description of the API.
#[derive(Debug, IntoResponses)]
#[allow(dead_code, reason = "it is described and never made")]
pub enum Refused {
    /// The request cannot be read.
    #[response(status = 400, content_type = "application/problem+json")]
    Malformed(wire::Problem),
    /// No key, or none that counts.
    #[response(status = 401, content_type = "application/problem+json",
        headers(("WWW-Authenticate" = String, description = "How to authenticate")))]
    Unauthenticated(wire::Problem),
    /// The key may not do this.
    #[response(status = 403, content_type = "application/problem+json")]
    Forbidden(wire::Problem),
    /// Nothing is here, or nothing for this key.
    #[response(status = 404, content_type = "application/problem+json")]
    NotFound(wire::Problem),
    /// The path has no such method.
    #[response(status = 405, content_type = "application/problem+json",
        headers(("Allow" = String, description = "The methods it has")))]
    WrongMethod(wire::Problem),
    /// The request did not arrive in time.
    #[response(status = 408, content_type = "application/problem+json")]
    TooSlow(wire::Problem),
    /// It does not fit what is.
    #[response(status = 409, content_type = "application/problem+json")]
    Conflict(wire::Problem),
    /// It has changed since.
    #[response(status = 412, content_type = "application/problem+json")]
    Changed(wire::Problem),
    /// The request is too large.
    #[response(status = 413, content_type = "application/problem+json")]
    TooLarge(wire::Problem),
    /// The body has the wrong media type.
    #[response(status = 415, content_type = "application/problem+json")]
    WrongMediaType(wire::Problem),
    /// What was sent is not valid; nothing was changed.
    #[response(status = 422, content_type = "application/problem+json")]
    Invalid(wire::Problem),
    /// The key has as much under way as it may.
    #[response(status = 429, content_type = "application/problem+json",
        headers(("Retry-After" = u64, description = "Seconds after which to come again")))]
    TooMany(wire::Problem),
    /// A mistake of this program.
    #[response(status = 500, content_type = "application/problem+json")]
    Internal(wire::Problem),
    /// The database is away, nothing is live, or not at the position asked for.
    #[response(status = 503, content_type = "application/problem+json")]
    Unavailable(wire::Problem),
    /// It took too long.
    #[response(status = 504, content_type = "application/problem+json")]
    Timeout(wire::Problem),
}

impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.0.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let mut response = (status, Json(&*self.0)).into_response();
        let headers = response.headers_mut();
        headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("application/problem+json"));
        headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
        match status {
            StatusCode::UNAUTHORIZED if self.0.kind.ends_with(":sign-in-again") => {
                let challenge = "Bearer error=\"insufficient_user_authentication\", max_age=900";
                headers.insert(header::WWW_AUTHENTICATE, HeaderValue::from_static(challenge));
            }
            StatusCode::UNAUTHORIZED => {
                headers.insert(header::WWW_AUTHENTICATE, HeaderValue::from_static("Bearer realm=\"ostrog\""));
            }
            StatusCode::TOO_MANY_REQUESTS => {
                headers.insert(header::RETRY_AFTER, AGAIN.into());
            }
            _ => {}
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
