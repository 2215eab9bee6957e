//! What is shown: that nobody's password is asked for stands on every page.

use crate::SignIn;
use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::{Html, IntoResponse as _, Response};
use maud::{DOCTYPE, Markup, PreEscaped, html};

const STYLE: &str = include_str!("page.css");

/// A page with a title.
fn page(status: StatusCode, title: &str, body: &Markup) -> Response {
    let shown = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                title { (title) " · the port's sign-in" }
                style { (PreEscaped(STYLE)) }
            }
            body {
                main {
                    p.soft { "The port of Sorrel Bay" }
                    h1 { (title) }
                    (body)
                    footer { "This is a stand-in for a sign-in: it asks for no password, and nobody here exists." }
                }
            }
        }
    };
    // Nothing but its own style and forms: whoever frames it or gives it a script gets nothing.
    let policy = "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'";
    let headers = [(header::CONTENT_SECURITY_POLICY, policy), (header::CACHE_CONTROL, "no-store")];
    (status, headers, Html(shown.into_string())).into_response()
}

/// Something to read.
pub fn told(status: StatusCode, title: &str, words: &str) -> Response {
    page(status, title, &html! { p { (words) } })
}

/// Whom to be: a form with a button for each person. `fields` go along as they came.
pub fn pick(here: &SignIn, title: &str, words: &str, action: &str, fields: &[(&str, &str)]) -> Response {
    let body = html! {
        p { (words) }
        form method="post" action=(action) {
            @for (name, value) in fields {
                input type="hidden" name=(name) value=(value);
            }
            ul {
                @for person in &here.0.known.people {
                    li { button name="person" value=(person.id) { (person.name) } }
                }
            }
        }
    };
    page(StatusCode::OK, title, &body)
}

/// A token, to be copied.
pub fn token(whose: &str, token: &str, minutes: i64) -> Response {
    let body = html! {
        p { (whose) ". It counts for " (minutes) " minutes." }
        textarea readonly rows="12" aria-label="The token" { (token) }
        p { a href="/try" { "Another one" } }
    };
    page(StatusCode::OK, "A token to look at", &body)
}

/// Where one is.
pub async fn home(State(here): State<SignIn>) -> Response {
    let body = html! {
        p { "Applications of the port send people here. What it can do stands in "
            a href="/.well-known/openid-configuration" { "its discovery document" } "." }
        p { a href="/try" { "A token to look at" } ", without an application." }
        h2 { "Whom it knows" }
        ul { @for person in &here.0.known.people { li { (person.name) } } }
        h2 { "What asks for tokens" }
        ul { @for client in &here.0.known.clients { li { code { (client.id) } " for " (client.audience) } } }
    };
    page(StatusCode::OK, "Sign-in", &body)
}
