//! Guards an Axum application: which route needs which permission on what, said where the route is.
//!
//! ```no_run
//! use axum::extract::Path;
//! use ostrog_client::Client;
//! use ostrog_client::guard::{Guard, Permit, Routes, may, open};
//!
//! async fn show(permit: Permit, Path(manifest): Path<String>) -> String {
//!     format!("{manifest}, for {}", permit.subject)
//! }
//! async fn file() {}
//! async fn health() {}
//!
//! # fn example(client: Client) -> Result<axum::Router, ostrog_client::guard::NotBuilt> {
//! let routes: Routes = Guard::new(client).routes();
//! let router = routes
//!     .get("/manifests/{manifest}", show, may("manifest:view").on("manifest:{manifest}"))
//!     .post("/voyages/{voyage}/manifests", file, may("manifest:file").on_new().within("voyage:{voyage}"))
//!     .get("/health", health, open())
//!     .build()?;
//! # Ok(router) }
//! ```
//!
//! The caller's bearer token is handed on to Ostrog, which verifies it and says whom it names; without one, nobody is
//! signed in. A request is let through on an answer that says so, and on nothing else: where Ostrog is away, slow
//! ([`Guard::timeout`]), refuses the question or answers strangely, it is refused with 503. Several needs are one batch,
//! answered at one position.
//!
//! | answer | when |
//! | --- | --- |
//! | 401 `WWW-Authenticate: Bearer` | nobody is signed in, and it is denied; another scheme (RFC 6750, 3) |
//! | 401 `… error="invalid_token"` | the token does not count; several tokens, or one in the query |
//! | 403 | denied, with the reason code and a rule's message as far as the application's key is told; a path that could be read in more than one way |
//! | 503 with `Retry-After` | there is no answer |
//!
//! Refusals are problem documents (RFC 9457) of the types `urn:ostrog:guard:…`. Costs one call to Ostrog for each
//! request; a call that does not reach it is made once more. After several failures in a row no call is made for a while,
//! twice as long each time, up to [`LONGEST_PAUSE`].
//!
//! A router that is merged with others guards its own routes only.

mod ask;
mod pause;
mod refusal;
mod routes;

pub use pause::LONGEST_PAUSE;
pub use routes::{NotBuilt, Routes};

use crate::Client;
use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use axum::response::Response;
use pause::Pause;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// How long an answer may take unless the guard is told otherwise.
pub const TIMEOUT: Duration = Duration::from_secs(1);

/// What asks before a handler is called. Clones share what they know of the service.
#[derive(Clone, Debug)]
pub struct Guard {
    client: Client,
    timeout: Duration,
    shared: Arc<Shared>,
}

#[derive(Debug, Default)]
struct Shared {
    pause: Pause,
    /// What an answer must include: the position of the application's own last write.
    after: Mutex<Option<(String, Option<String>)>>,
    allowed: AtomicU64,
    denied: AtomicU64,
    unanswered: AtomicU64,
}

/// How many requests came to what since the guard was made.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Counts {
    /// Let through.
    pub allowed: u64,
    /// Refused: denied, or their token or path does not count.
    pub denied: u64,
    /// Refused, because there was no answer.
    pub unanswered: u64,
}

impl Guard {
    /// A guard that asks by a client, whose key is the application's.
    pub fn new(client: Client) -> Guard {
        Guard { client, timeout: TIMEOUT, shared: Arc::default() }
    }

    /// The same, for answers that take no longer.
    #[must_use]
    pub fn timeout(mut self, timeout: Duration) -> Guard {
        self.timeout = timeout;
        self
    }

    /// From now on answers must include a position, as a write of the application's own gave it, with its digest if
    /// that is known. A service that is behind waits a little; one that tells another history refuses, and so does the guard.
    pub fn after(&self, position: &str, digest: Option<&str>) {
        let mut after = self.shared.after.lock().unwrap_or_else(PoisonError::into_inner);
        *after = Some((position.to_owned(), digest.map(str::to_owned)));
    }

    /// How many requests came to what.
    pub fn counts(&self) -> Counts {
        let read = |count: &AtomicU64| count.load(Ordering::Relaxed);
        Counts {
            allowed: read(&self.shared.allowed),
            denied: read(&self.shared.denied),
            unanswered: read(&self.shared.unanswered),
        }
    }

    /// Routes, each of which says what it needs.
    pub fn routes<S: Clone + Send + Sync + 'static>(&self) -> Routes<S> {
        Routes::new(self.clone())
    }
}

// -- what a route needs --------------------------------------------------------------------------

/// What a route needs before its handler is called.
#[derive(Clone, Debug)]
pub struct Needs(Option<Vec<Need>>);

#[derive(Clone, Debug)]
struct Need {
    permission: String,
    of: Of,
}

#[derive(Clone, Debug)]
enum Of {
    /// What a template names: `manifest:{manifest}`.
    Named(String),
    /// A new one, within what a template names.
    New(Option<String>),
}

/// A permission of which it is not said yet what it is about.
#[derive(Clone, Debug)]
#[must_use = "say on what: .on(…) or .on_new()"]
pub struct Permission(String);

/// The route needs a permission: `type:action`.
pub fn may(permission: &str) -> Permission {
    Permission(permission.to_owned())
}

/// The route needs nothing: whoever asks is let through, and Ostrog is not asked.
pub fn open() -> Needs {
    Needs(None)
}

impl Permission {
    /// For what a template names, `type:{parameter}`: with parameters of the route's path. Between two parameters
    /// stands a `/`, so that no two resources are named alike.
    pub fn on(self, template: &str) -> Needs {
        Needs(Some(vec![Need { permission: self.0, of: Of::Named(template.to_owned()) }]))
    }

    /// For a new one of the permission's type.
    pub fn on_new(self) -> Needs {
        Needs(Some(vec![Need { permission: self.0, of: Of::New(None) }]))
    }
}

impl Needs {
    /// Of a new one: within what a template names.
    #[must_use]
    pub fn within(mut self, template: &str) -> Needs {
        if let Some(Need { of: of @ Of::New(_), .. }) = self.0.as_mut().and_then(|all| all.last_mut()) {
            *of = Of::New(Some(template.to_owned()));
        }
        self
    }

    /// And more: all of it is needed.
    #[must_use]
    pub fn and(self, more: Needs) -> Needs {
        match (self.0, more.0) {
            (Some(mut all), Some(more)) => {
                all.extend(more);
                Needs(Some(all))
            }
            (one, other) => Needs(one.or(other)),
        }
    }
}

// -- what a handler is told ----------------------------------------------------------------------

/// What let a request through: an extractor for handlers of guarded routes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Permit {
    /// Who: `user:ines`, or `anonymous`.
    pub subject: String,
    /// The reason code of each need's answer, as far as the application's key is told.
    pub reasons: Vec<Option<String>>,
}

impl<S: Send + Sync> FromRequestParts<S> for Permit {
    type Rejection = Response;

    /// Refuses with 503 where no guard has asked: on a route that is open, or of another router.
    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Permit, Response> {
        parts.extensions.get::<Permit>().cloned().ok_or_else(|| {
            refusal::unanswered(
                "No guard has asked for this request; its route is not one that needs something.",
            )
        })
    }
}
