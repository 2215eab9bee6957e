//! A typed client for an Ostrog service.
//!
//! ```no_run
//! # async fn example() -> Result<(), ostrog_client::Error> {
//! let client = ostrog_client::Client::new("http://127.0.0.1:7423", "the application's key")?;
//! let answer = client.evaluate("user:ines", "manifest:release", Some("manifest:m-204")).await?;
//! if answer.decision { /* release it */ }
//! # Ok(()) }
//! ```
//!
//! Every call fails closed: an [`Error`] is never an allow. Dropping a call's future gives it up;
//! a write that was sent may have been made all the same.
//!
//! - [`decisions`]: what an application asks;
//! - [`questions`]: what an operator asks;
//! - [`register`], [`charter`], [`keys`]: management; [`sign_in`]: as a person;
//! - [`changes`]: what happens, as it happens.
//!
//! Feature `tower` adds `guard`, which guards an Axum application; feature `sqlx` puts a row filter into a query;
//! feature `verify` lets a guard refuse tokens before it asks. The shapes are those of `ostrog-wire`.

#![forbid(unsafe_code)]

pub mod changes;
pub mod charter;
pub mod decisions;
mod events;
#[cfg(feature = "tower")]
pub mod guard;
pub mod issuers;
pub mod keys;
pub mod questions;
pub mod register;
pub mod release;
pub mod rows;
pub mod sign_in;

pub use ostrog_wire as wire;
pub use rows::RowFilter;

use ostrog_wire::problem::Problem;
use reqwest::{Method, RequestBuilder, Response, Url};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::fmt;
use std::time::Duration;

/// How long a call may take unless the client is told otherwise.
const PATIENCE: Duration = Duration::from_secs(60);

/// A service and the key it is asked with.
#[derive(Clone)]
pub struct Client {
    http: reqwest::Client,
    base: Url,
    key: String,
    at_least: Option<(String, Option<String>)>,
    trace: Option<String>,
}

impl fmt::Debug for Client {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Client").field("base", &self.base.as_str()).finish_non_exhaustive()
    }
}

/// Why there is no answer.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The service cannot be reached, or broke off.
    #[error("the service cannot be reached: {0}")]
    Unreachable(String),
    /// The service refused, and says why.
    #[error("{}", .0.detail)]
    Refused(Problem),
    /// What came back is not an answer of this service.
    #[error("the answer cannot be read: {0}")]
    Unreadable(String),
    /// The address or the key cannot be used.
    #[error("{0}")]
    Unusable(String),
}

/// An answer, and what it is of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answered<T> {
    /// The answer.
    pub answer: T,
    /// The revision asked.
    pub revision: Option<i64>,
    /// The position asked at, `<epoch>.<n>`.
    pub position: Option<String>,
}

/// What a call comes to.
pub type Result<T> = std::result::Result<T, Error>;

impl Client {
    /// A client for the service at an address, with a key.
    ///
    /// # Errors
    /// If the address is none.
    pub fn new(base: &str, key: &str) -> Result<Client> {
        let unusable =
            || Error::Unusable(format!("{base:?} is no address: write such as http://127.0.0.1:7423"));
        let base = Url::parse(base).map_err(|_| unusable())?;
        if !matches!(base.scheme(), "http" | "https") {
            return Err(unusable());
        }
        let http = reqwest::Client::builder();
        // The service leads nowhere else; whoever does is not the service.
        let http = http.timeout(PATIENCE).redirect(reqwest::redirect::Policy::none()).build();
        let http = http.map_err(|error| Error::Unusable(error.to_string()))?;
        Ok(Client { http, base, key: key.trim().to_owned(), at_least: None, trace: None })
    }

    /// The same client, for answers that include a position only: `<epoch>.<n>` as a write gave it, with
    /// the digest that it gave, if it is known. A service that is behind waits a little and then refuses;
    /// one that tells another history refuses.
    #[must_use]
    pub fn at_least(mut self, position: &str, digest: Option<&str>) -> Client {
        self.at_least = Some((position.to_owned(), digest.map(str::to_owned)));
        self
    }

    /// The same client, within a trace: what is handed on as `traceparent` (W3C Trace Context, 3.2).
    #[must_use]
    pub fn traced(mut self, traceparent: &str) -> Client {
        self.trace = Some(traceparent.to_owned());
        self
    }

    // -- how calls are made --------------------------------------------------------------------

    /// A request for a path, each segment of which is encoded.
    fn request(&self, method: Method, segments: &[&str]) -> Result<RequestBuilder> {
        let mut address = self.base.clone();
        match address.path_segments_mut() {
            Ok(mut path) => path.pop_if_empty().extend(segments),
            Err(()) => return Err(Error::Unusable(format!("{} is no address", self.base))),
        };
        let mut request = self.http.request(method, address).bearer_auth(&self.key);
        if let Some((position, digest)) = &self.at_least {
            request = request.header("ostrog-min-position", position);
            if let Some(digest) = digest {
                request = request.header("ostrog-min-position-digest", digest);
            }
        }
        if let Some(trace) = &self.trace {
            request = request.header("traceparent", trace);
        }
        Ok(request)
    }

    /// A request for a path of the management API.
    fn managing(&self, method: Method, segments: &[&str]) -> Result<RequestBuilder> {
        self.request(method, &[&["api", "v1"], segments].concat())
    }

    async fn get<T: DeserializeOwned>(&self, segments: &[&str], query: &impl Serialize) -> Result<T> {
        answer(self.managing(Method::GET, segments)?.query(query)).await
    }

    async fn post<T: DeserializeOwned>(&self, segments: &[&str], body: &impl Serialize) -> Result<T> {
        answer(self.managing(Method::POST, segments)?.json(body)).await
    }

    /// A call that is answered with nothing.
    async fn post_for_nothing(&self, segments: &[&str], body: &impl Serialize) -> Result<()> {
        response(self.managing(Method::POST, segments)?.json(body)).await.map(drop)
    }

    async fn put<T: DeserializeOwned>(&self, segments: &[&str], body: &impl Serialize) -> Result<T> {
        answer(self.managing(Method::PUT, segments)?.json(body)).await
    }

    async fn delete<T: DeserializeOwned>(&self, segments: &[&str], query: &impl Serialize) -> Result<T> {
        answer(self.managing(Method::DELETE, segments)?.query(query)).await
    }
}

/// Sends a request; a refusal is an error.
async fn response(request: RequestBuilder) -> Result<Response> {
    let response = request.send().await.map_err(|error| unreachable(&error))?;
    if response.status().is_success() { Ok(response) } else { Err(refused(response).await) }
}

/// What a response that is no success says.
async fn refused(response: Response) -> Error {
    let status = response.status();
    match response.bytes().await {
        Err(error) => unreachable(&error),
        Ok(bytes) => match serde_json::from_slice(&bytes) {
            Ok(problem) => Error::Refused(problem),
            Err(_) => Error::Unreadable(format!("HTTP {status} without a problem document")),
        },
    }
}

/// Sends a request, and reads what comes back.
async fn answer<T: DeserializeOwned>(request: RequestBuilder) -> Result<T> {
    let bytes = response(request).await?.bytes().await.map_err(|error| unreachable(&error))?;
    serde_json::from_slice(&bytes).map_err(|error| Error::Unreadable(error.to_string()))
}

/// The same, with what the answer is of.
async fn answered<T: DeserializeOwned>(request: RequestBuilder) -> Result<Answered<T>> {
    let response = response(request).await?;
    let header = |name: &str| Some(response.headers().get(name)?.to_str().ok()?.to_owned());
    let revision = header("ostrog-revision").and_then(|text| text.parse().ok());
    let position = header("ostrog-position");
    let bytes = response.bytes().await.map_err(|error| unreachable(&error))?;
    let answer = serde_json::from_slice(&bytes).map_err(|error| Error::Unreadable(error.to_string()))?;
    Ok(Answered { answer, revision, position })
}

/// The innermost cause says most.
fn unreachable(error: &dyn std::error::Error) -> Error {
    let mut cause = error;
    while let Some(inner) = cause.source() {
        cause = inner;
    }
    Error::Unreachable(cause.to_string())
}
