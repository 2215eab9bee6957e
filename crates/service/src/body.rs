//! Bodies: read once, within a size, as strict JSON.

use crate::App;
use crate::problem::Problem;
use axum::extract::{FromRequest, FromRequestParts, Query, Request};
use axum::http::header;
use axum::http::request::Parts;
use http_body_util::BodyExt as _;
use ostrog_core::json;
use serde::de::DeserializeOwned;

/// Largest body of an ordinary call, in bytes.
pub const SMALL: usize = 1 << 20;
/// Largest body of a call that takes whole files, in bytes.
pub const LARGE: usize = 32 << 20;

/// A JSON body of a type, of at most `LIMIT` bytes. Duplicate keys, too deep a nesting and unknown
/// shapes are refused.
#[derive(Debug)]
pub struct StrictJson<T, const LIMIT: usize = SMALL>(pub T);

impl<T: DeserializeOwned, const LIMIT: usize> FromRequest<App> for StrictJson<T, LIMIT> {
    type Rejection = Problem;

    async fn from_request(request: Request, _: &App) -> Result<Self, Problem> {
        let bytes = json_bytes(request, LIMIT).await?;
        strict(&bytes).map(StrictJson)
    }
}

/// A JSON body that is read straight into a type: for shapes whose every object of the caller's own
/// is read strictly, and whose other keys mean nothing unless they are known.
#[derive(Debug)]
pub struct Typed<T>(pub T);

impl<T: DeserializeOwned> FromRequest<App> for Typed<T> {
    type Rejection = Problem;

    async fn from_request(request: Request, _: &App) -> Result<Self, Problem> {
        serde_json::from_slice(&json_bytes(request, SMALL).await?)
            .map(Typed)
            .map_err(|error| Problem::malformed(format!("The body does not fit: {error}.")))
    }
}

/// Reads JSON strictly, and then into a type.
///
/// # Errors
/// If it is no JSON, holds a key twice, or does not fit.
pub fn strict<T: DeserializeOwned>(bytes: &[u8]) -> Result<T, Problem> {
    let value =
        json::parse(bytes).map_err(|error| Problem::malformed(format!("The body is no JSON: {error}.")))?;
    serde_json::from_value(value)
        .map_err(|error| Problem::malformed(format!("The body does not fit: {error}.")))
}

/// The bytes of a JSON body.
#[derive(Debug)]
pub struct JsonBytes(pub Vec<u8>);

impl FromRequest<App> for JsonBytes {
    type Rejection = Problem;

    async fn from_request(request: Request, _: &App) -> Result<Self, Problem> {
        json_bytes(request, SMALL).await.map(JsonBytes)
    }
}

async fn json_bytes(request: Request, limit: usize) -> Result<Vec<u8>, Problem> {
    let media_type =
        request.headers().get(header::CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or("");
    let media_type = media_type.split(';').next().unwrap_or("").trim();
    if !media_type.eq_ignore_ascii_case("application/json") {
        return Err(Problem::wrong_media_type("Send Content-Type: application/json."));
    }
    body(request, limit).await
}

/// A body as text, for NDJSON.
#[derive(Debug)]
pub struct Text(pub String);

impl FromRequest<App> for Text {
    type Rejection = Problem;

    async fn from_request(request: Request, _: &App) -> Result<Self, Problem> {
        let bytes = body(request, LARGE).await?;
        String::from_utf8(bytes).map(Text).map_err(|_| Problem::malformed("The body is not UTF-8."))
    }
}

/// Query parameters of a type; unknown ones are refused.
#[derive(Debug)]
pub struct Params<T>(pub T);

impl<T: DeserializeOwned> FromRequestParts<App> for Params<T> {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Problem> {
        if parts.uri.query().is_some_and(|query| query.contains("%00")) {
            return Err(Problem::malformed("A parameter holds U+0000."));
        }
        let query = Query::<T>::from_request_parts(parts, app).await;
        query
            .map(|Query(params)| Params(params))
            .map_err(|rejection| Problem::malformed(rejection.body_text()))
    }
}

/// Reads a body of at most `limit` bytes.
///
/// One that is longer is read to its end all the same, as far as that is reasonable: a client that
/// is still sending would otherwise see a broken connection instead of the refusal.
async fn body(request: Request, limit: usize) -> Result<Vec<u8>, Problem> {
    let mut body = request.into_body();
    let mut bytes = Vec::new();
    let mut length = 0usize;
    while let Some(frame) = body.frame().await {
        let frame = frame.map_err(|_| Problem::malformed("The body could not be read to its end."))?;
        let Ok(data) = frame.into_data() else { continue };
        length += data.len();
        if length <= limit {
            bytes.extend_from_slice(&data);
        } else {
            bytes = Vec::new();
        }
        if length > limit + LARGE {
            break;
        }
    }
    if length > limit {
        return Err(Problem::too_large(format!(
            "The body is larger than the {limit} bytes this call takes."
        )));
    }
    Ok(bytes)
}
