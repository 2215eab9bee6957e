//! The console's files, built into the program.

use crate::problem::Problem;
use axum::http::{HeaderValue, Method, Uri, header};
use axum::response::{IntoResponse, Response};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Files;

/// What a page of this origin may load: its own files, and nothing inline but styles, which the
/// component library sets on elements.
const POLICY: &str = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; \
    font-src 'self'; connect-src 'self'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'";

/// A file of the console; every path that is a page of it gets its one document.
pub async fn serve(method: Method, uri: Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    if path.starts_with("api/") || path.starts_with("access/") || path.starts_with(".well-known/") {
        return Problem::not_found(format!("There is nothing at /{path}.")).into_response();
    }
    if method != Method::GET && method != Method::HEAD {
        return Problem::wrong_method("The console is only read.").into_response();
    }
    let (path, file) = match Files::get(path) {
        Some(file) if !path.is_empty() => (path, file),
        _ if path.starts_with("assets/") => {
            return Problem::not_found("There is no such file.").into_response();
        }
        _ => match Files::get("index.html") {
            Some(file) => ("index.html", file),
            None => return Problem::not_found("This program was built without its console.").into_response(),
        },
    };
    let kind = match path.rsplit_once('.').map(|(_, ending)| ending) {
        Some("html") => "text/html; charset=utf-8",
        Some("js") => "text/javascript; charset=utf-8",
        Some("css") => "text/css; charset=utf-8",
        Some("svg") => "image/svg+xml",
        Some("woff2") => "font/woff2",
        _ => "application/octet-stream",
    };
    // Files under assets/ carry a hash of their content in their names.
    let keep = if path.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    let mut response = file.data.into_owned().into_response();
    let headers = response.headers_mut();
    for (name, value) in [
        (header::CONTENT_TYPE, kind),
        (header::CACHE_CONTROL, keep),
        (header::CONTENT_SECURITY_POLICY, POLICY),
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (header::REFERRER_POLICY, "no-referrer"),
    ] {
        headers.insert(name, HeaderValue::from_static(value));
    }
    response
}
