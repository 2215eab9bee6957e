//! Bodies: read once, within a size, as strict JSON.

use crate::App;
use crate::problem::Problem;
use axum::body::Bytes;
use axum::extract::rejection::BytesRejection;
use axum::extract::{FromRequest, FromRequestParts, Query, Request};
use axum::http::request::Parts;
use axum::http::{StatusCode, header};
use axum::response::IntoResponse as _;
use ostrog_core::json;
use serde::de::DeserializeOwned;

/// A JSON body of a type. Duplicate keys, too deep a nesting and unknown shapes are refused.
#[derive(Debug)]
pub struct StrictJson<T>(pub T);

impl<T: DeserializeOwned> FromRequest<App> for StrictJson<T> {
    type Rejection = Problem;

    async fn from_request(request: Request, app: &App) -> Result<Self, Problem> {
        let media_type =
            request.headers().get(header::CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or("");
        let media_type = media_type.split(';').next().unwrap_or("").trim();
        if !media_type.eq_ignore_ascii_case("application/json") {
            return Err(Problem::wrong_media_type("Send Content-Type: application/json."));
        }
        let bytes = body(request, app).await?;
        let value = json::parse(&bytes)
            .map_err(|error| Problem::malformed(format!("The body is no JSON: {error}.")))?;
        serde_json::from_value(value)
            .map(StrictJson)
            .map_err(|error| Problem::malformed(format!("The body does not fit: {error}.")))
    }
}

/// A body as text, for NDJSON.
#[derive(Debug)]
pub struct Text(pub String);

impl FromRequest<App> for Text {
    type Rejection = Problem;

    async fn from_request(request: Request, app: &App) -> Result<Self, Problem> {
        let bytes = body(request, app).await?;
        String::from_utf8(bytes.into()).map(Text).map_err(|_| Problem::malformed("The body is not UTF-8."))
    }
}

/// Query parameters of a type; unknown ones are refused.
#[derive(Debug)]
pub struct Params<T>(pub T);

impl<T: DeserializeOwned> FromRequestParts<App> for Params<T> {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Problem> {
        let query = Query::<T>::from_request_parts(parts, app).await;
        query
            .map(|Query(params)| Params(params))
            .map_err(|rejection| Problem::malformed(rejection.body_text()))
    }
}

async fn body(request: Request, app: &App) -> Result<Bytes, Problem> {
    Bytes::from_request(request, app).await.map_err(|rejection: BytesRejection| {
        match rejection.into_response().status() {
            StatusCode::PAYLOAD_TOO_LARGE => Problem::too_large("The body is larger than this call takes."),
            _ => Problem::malformed("The body could not be read."),
        }
    })
}
