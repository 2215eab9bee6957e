//! A router whose routes stand in the charter: each request is asked about by its method and path.

use super::ask::Unanswered;
use super::caller::Caller;
use super::{Guard, Permit, refusal};
use crate::{Answered, Client, Error, Result, unreachable};
use axum::Router;
use axum::extract::{Request, State};
use axum::http::HeaderMap;
use axum::middleware::{Next, from_fn_with_state};
use axum::response::{IntoResponse as _, Response};
use ostrog_wire::problem::Problem;
use reqwest::Method;
use std::sync::atomic::Ordering;

/// What the service says of a request.
enum Checked {
    /// It may pass, and whose it is.
    Passes(String),
    /// It may not: nobody is signed in, or a token does not count.
    SignIn { invalid: bool },
    /// It may not, and why.
    Denied(Problem),
}

impl Guard {
    /// Guards every request to a router by the charter's routes; the client's key is a proxy's (`ostrog key new --proxy
    /// APPLICATION --headers original`). What no route of the charter takes is refused, whatever the router has.
    pub fn by_route_check<S: Clone + Send + Sync + 'static>(&self, router: Router<S>) -> Router<S> {
        router.layer(from_fn_with_state(self.clone(), check))
    }
}

async fn check(State(guard): State<Guard>, mut request: Request, next: Next) -> Response {
    let caller = match Caller::of(&guard, request.headers(), request.uri()) {
        Ok(caller) => caller,
        Err(refusal) => {
            guard.shared.denied.fetch_add(1, Ordering::Relaxed);
            return refusal.into_response();
        }
    };
    let asked = Asked::of(&request);
    let asked = &asked;
    let ask = |client: Client| async move { client.route_check(asked).await };
    let response = match guard.asks(caller.trace.as_deref(), ask).await {
        Ok(Answered { answer: Checked::Passes(subject), .. }) => {
            guard.shared.allowed.fetch_add(1, Ordering::Relaxed);
            request.extensions_mut().insert(Permit { subject, reasons: Vec::new(), caller });
            return next.run(request).await;
        }
        Ok(Answered { answer: Checked::SignIn { invalid }, .. }) => refusal::sign_in(invalid),
        Ok(Answered { answer: Checked::Denied(problem), .. }) => {
            refusal::denied(Some(problem.name()), Some(&problem.detail))
        }
        Err(why) => {
            guard.shared.unanswered.fetch_add(1, Ordering::Relaxed);
            return Unanswered::refusal(why).into_response();
        }
    };
    guard.shared.denied.fetch_add(1, Ordering::Relaxed);
    response
}

/// Headers that would make a request another one: where they stand the service refuses.
const OVERRIDES: [&str; 3] = ["x-http-method-override", "x-http-method", "x-method-override"];

/// What of a request is asked about.
struct Asked {
    method: String,
    target: String,
    headers: HeaderMap,
}

impl Asked {
    fn of(request: &Request) -> Asked {
        let target = request.uri().path_and_query().map_or("/", |target| target.as_str());
        let mut headers = HeaderMap::new();
        for name in OVERRIDES.into_iter().chain(["authorization"]) {
            if let Some(value) = request.headers().get(name) {
                headers.insert(name, value.clone());
            }
        }
        Asked { method: request.method().to_string(), target: target.to_owned(), headers }
    }
}

impl Client {
    /// Asks about a request as a proxy does.
    async fn route_check(&self, request: &Asked) -> Result<Answered<Checked>> {
        let asked = self
            .request(Method::GET, &["route-check"])?
            .header("x-original-method", &request.method)
            .header("x-original-uri", &request.target)
            .header("ostrog-proxy-key", &self.key);
        let mut asked = asked.build().map_err(|error| Error::Unusable(error.to_string()))?;
        // The key stands in a header of its own; this one is the caller's.
        let headers = asked.headers_mut();
        headers.remove("authorization");
        headers.extend(request.headers.clone());
        let response = self.http.execute(asked).await.map_err(|error| unreachable(&error))?;
        let header = |name: &str| Some(response.headers().get(name)?.to_str().ok()?.to_owned());
        let strange = || Error::Unreadable(format!("HTTP {} to a route check", response.status()));
        let answer = match response.status().as_u16() {
            200 => Checked::Passes(header("ostrog-subject").ok_or_else(strange)?),
            401 => {
                let challenge = header("www-authenticate").ok_or_else(strange)?;
                Checked::SignIn { invalid: challenge.contains("invalid_token") }
            }
            403 => {
                let bytes = response.bytes().await.map_err(|error| unreachable(&error))?;
                let problem = serde_json::from_slice(&bytes);
                let problem: Problem = problem.map_err(|error| Error::Unreadable(error.to_string()))?;
                if problem.name() == "forbidden" {
                    // It is the key that may not ask.
                    return Err(Error::Refused(problem));
                }
                return Ok(Answered { answer: Checked::Denied(problem), revision: None, position: None });
            }
            _ => return Err(crate::refused(response).await),
        };
        Ok(Answered { answer, revision: None, position: None })
    }
}
