//! The console's files, built into the program.

use crate::problem::Problem;
use axum::Router;
use axum::http::{HeaderValue, header};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use rust_embed::RustEmbed;
use tower_http::compression::CompressionLayer;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Files;

/// What a page of this origin may load: its own files, and nothing inline but styles, which the
/// component library sets on elements.
const POLICY: &str = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; \
    font-src 'self'; connect-src 'self'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'";

/// The console's pages: all of them are one document, which shows the one that its path names.
pub const PAGES: [&str; 34] = [
    "/",
    "/describe",
    "/describe/text",
    "/describe/beside",
    "/describe/import",
    "/roles",
    "/roles/{type}",
    "/roles/of/{role}",
    "/give",
    "/give/standby",
    "/give/groups",
    "/give/tenant-roles",
    "/give/beside",
    "/refine",
    "/refine/rules",
    "/refine/confers",
    "/refine/conditions",
    "/register",
    "/register/load",
    "/register/of/{name}",
    "/try",
    "/connect",
    "/connect/issuers",
    "/connect/routes",
    "/connect/tokens",
    "/rehearse",
    "/rehearse/guarantees",
    "/rehearse/samples",
    "/rollout",
    "/rollout/review/{id}",
    "/setup",
    "/setup/operators",
    "/setup/nodes",
    "/index.html",
];

/// The console's paths, and no others.
pub fn router() -> Router {
    let mut router = Router::new();
    for page in PAGES {
        router = router.route(page, get(|| async { file("index.html") }));
    }
    for path in Files::iter().filter(|path| path != "index.html") {
        router = router.route(&format!("/{path}"), get(move || async move { file(&path) }));
    }
    router.layer(CompressionLayer::new())
}

fn file(path: &str) -> Response {
    let Some(file) = Files::get(path) else {
        return Problem::not_found("This program was built without its console.").into_response();
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

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    /// The paths of a route as the console writes it: `/roles/:type?` is two.
    fn paths(route: &str) -> Vec<String> {
        let mut all = vec![String::new()];
        for segment in route.split('/').filter(|segment| !segment.is_empty()) {
            let (name, optional) = segment.strip_suffix('?').map_or((segment, false), |name| (name, true));
            let choices: Vec<String> = match name.strip_prefix(':') {
                None => vec![name.to_owned()],
                Some(parameter) => match parameter.split_once('(') {
                    None => vec![format!("{{{parameter}}}")],
                    Some((_, choices)) => {
                        choices.trim_end_matches(')').split('|').map(str::to_owned).collect()
                    }
                },
            };
            let longer =
                all.iter().flat_map(|path| choices.iter().map(move |choice| format!("{path}/{choice}")));
            let longer: Vec<_> = longer.collect();
            all = if optional { all.into_iter().chain(longer).collect() } else { longer };
        }
        all.into_iter().map(|path| if path.is_empty() { "/".to_owned() } else { path }).collect()
    }

    #[test]
    fn every_page_of_the_console_is_served_and_nothing_else_is() {
        let routes = include_str!("../../../console/src/router.ts");
        let told = routes.split("path: '").skip(1).filter_map(|rest| rest.split('\'').next());
        let told = told.filter(|route| !route.starts_with("/:rest")).flat_map(paths);
        let served = PAGES.into_iter().filter(|path| *path != "/index.html").map(str::to_owned);
        assert_eq!(told.collect::<BTreeSet<_>>(), served.collect::<BTreeSet<_>>());
    }
}
