//! The page's files.

use axum::Router;
use axum::http::{HeaderValue, StatusCode, Uri, header};
use axum::response::{IntoResponse as _, Response};
use axum::routing::get;
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "page/dist"]
#[allow_missing = true]
struct Files;

/// Its own files and nothing else; styles inline, which the component library sets on elements.
const POLICY: &str = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self'; \
    connect-src 'self'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'";

/// The page, whichever of its paths is asked for.
pub(crate) fn router() -> Router {
    Router::new().fallback(get(file))
}

async fn file(uri: Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    let (path, kind) = match path.rsplit_once('.').map(|(_, ending)| ending) {
        None => ("index.html", "text/html; charset=utf-8"),
        Some("js") => (path, "text/javascript; charset=utf-8"),
        Some("css") => (path, "text/css; charset=utf-8"),
        Some("woff2") => (path, "font/woff2"),
        Some(_) => (path, "application/octet-stream"),
    };
    let Some(file) = Files::get(path) else { return StatusCode::NOT_FOUND.into_response() };
    let mut response = file.data.into_owned().into_response();
    for (name, value) in [
        (header::CONTENT_TYPE, kind),
        (
            header::CACHE_CONTROL,
            if path == "index.html" { "no-cache" } else { "max-age=31536000, immutable" },
        ),
        (header::CONTENT_SECURITY_POLICY, POLICY),
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (header::REFERRER_POLICY, "no-referrer"),
    ] {
        response.headers_mut().insert(name, HeaderValue::from_static(value));
    }
    response
}
