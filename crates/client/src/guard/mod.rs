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
//!     .post("/voyages/{voyage}/manifests", file, may("manifest:file").on_new_within("voyage:{voyage}"))
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
//! A route that lists says [`rows`]: its handler takes a [`RowFilter`] and puts it into its query. Where the application
//! asks for it ([`Guard::cache`]), allows are kept for a while. [`Caller`] asks what else an interface wants to know.
//!
//! A router that is merged with others guards its own routes only. One whose routes stand in the charter instead is
//! guarded by [`Guard::by_route_check`].

mod ask;
mod cache;
mod caller;
mod pause;
mod refusal;
mod route_check;
mod routes;

pub use caller::{Affordances, Caller, Refusal};
pub use ostrog_core::decide::rows::Columns;
pub use pause::LONGEST_PAUSE;
pub use routes::{NotBuilt, Routes};

use crate::{Client, RowFilter};
use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use cache::{Cache, Question};
use ostrog_wire::access::Reached;
use pause::Pause;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use tokio::sync::watch;

/// How long an answer may take unless the guard is told otherwise.
pub const TIMEOUT: Duration = Duration::from_secs(1);
/// How long is waited before it is followed again, at first.
const SHORTEST_WAIT: Duration = Duration::from_millis(250);

/// What asks before a handler is called. Clones share what they know of the service.
#[derive(Clone, Debug)]
pub struct Guard {
    client: Client,
    timeout: Duration,
    /// How long an allow is kept, if at all.
    cached_for: Option<Duration>,
    #[cfg(feature = "verify")]
    verifies: Option<Verifies>,
    shared: Arc<Shared>,
}

/// By whose keys tokens are looked at first, for which application.
#[cfg(feature = "verify")]
#[derive(Clone, Debug)]
struct Verifies {
    issuers: Arc<ostrog_tokens::Issuers>,
    application: String,
}

/// Whom, and why.
type Allowed = (String, Vec<Option<String>>);

#[derive(Debug, Default)]
struct Shared {
    pause: Pause,
    cache: Mutex<Cache<Allowed>>,
    /// Where answers are, as far as it was heard.
    reached: watch::Sender<Option<Reached>>,
    /// What an answer must include: the position of the application's own last write.
    after: Mutex<Option<(String, Option<String>)>>,
    allowed: AtomicU64,
    denied: AtomicU64,
    unanswered: AtomicU64,
    cached: AtomicU64,
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
    /// Of those let through: by an answer that was kept.
    pub cached: u64,
}

impl Guard {
    /// A guard that asks by a client, whose key is the application's.
    pub fn new(client: Client) -> Guard {
        Guard {
            client,
            timeout: TIMEOUT,
            cached_for: None,
            #[cfg(feature = "verify")]
            verifies: None,
            shared: Arc::default(),
        }
    }

    /// The same, which keeps allows: each for its whole question, no longer than so, and never past its token's
    /// `exp`. What is kept ends as soon as an answer, or [`Guard::follow`], tells of a newer position or revision. So
    /// without following, who loses a right may go on for as long as is said here; so does everybody while Ostrog is away.
    #[must_use]
    pub fn cache(mut self, longest: Duration) -> Guard {
        self.cached_for = Some(longest);
        self
    }

    /// The same, which looks at tokens first, by keys of its own, for an application. It refuses what does not hold
    /// without asking; what holds is asked all the same.
    #[cfg(feature = "verify")]
    #[must_use]
    pub fn verifying(mut self, issuers: Arc<ostrog_tokens::Issuers>, application: &str) -> Guard {
        self.verifies = Some(Verifies { issuers, application: application.to_owned() });
        self
    }

    /// Whether a token may hold, as far as can be seen here.
    #[cfg(feature = "verify")]
    async fn verifies(&self, token: &str) -> bool {
        let Some(Verifies { issuers, application }) = &self.verifies else { return true };
        let verified = issuers.verify(token, Some(application), jiff::Timestamp::now()).await;
        if let Err(why) = &verified {
            tracing::info!(%why, "a token was refused");
        }
        verified.is_ok()
    }

    #[cfg(not(feature = "verify"))]
    async fn verifies(&self, _: &str) -> bool {
        true
    }

    /// Follows where answers are, for as long as it is polled: what is kept ends as soon as anything moves, and
    /// [`Guard::reached`] tells. While it cannot follow, nothing that was kept before counts.
    pub async fn follow(self) {
        let mut wait = SHORTEST_WAIT;
        loop {
            if let Ok(mut positions) = self.client.positions().await {
                while let Ok(Some(reached)) = positions.next().await {
                    wait = SHORTEST_WAIT;
                    self.hears(&reached);
                }
            }
            self.cached().forget();
            tokio::time::sleep(wait).await;
            wait = (wait * 2).min(LONGEST_PAUSE);
        }
    }

    /// Where answers are, as far as was heard, and whenever that moves.
    pub fn reached(&self) -> watch::Receiver<Option<Reached>> {
        self.shared.reached.subscribe()
    }

    fn hears(&self, now: &Reached) {
        let is_newer = self.cached().hears(now);
        self.shared.reached.send_if_modified(|known| {
            let moves = is_newer && known.as_ref() != Some(now);
            if moves {
                *known = Some(now.clone());
            }
            moves
        });
    }

    fn cached(&self) -> MutexGuard<'_, Cache<Allowed>> {
        self.shared.cache.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn kept(&self, question: &Question) -> Option<Allowed> {
        let found = self.cached().find(question, self.cached_for?, ask::now())?;
        self.shared.cached.fetch_add(1, Ordering::Relaxed);
        Some(found)
    }

    fn keep(&self, question: Question, allowed: Allowed, until: u64, of: &Reached) {
        self.cached().keep(question, allowed, until, of);
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
        drop(after);
        // Nothing of before it is kept, nor what is under way.
        self.cached().hears(&Reached { revision: 0, position: position.to_owned() });
    }

    /// How many requests came to what.
    pub fn counts(&self) -> Counts {
        let read = |count: &AtomicU64| count.load(Ordering::Relaxed);
        Counts {
            allowed: read(&self.shared.allowed),
            denied: read(&self.shared.denied),
            unanswered: read(&self.shared.unanswered),
            cached: read(&self.shared.cached),
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
pub struct Needs(Kind);

#[derive(Clone, Debug)]
enum Kind {
    /// Nothing.
    Open,
    /// All of these.
    All(Vec<Need>),
    /// Which rows of a table.
    Rows(String, Columns),
    /// What the handler asks.
    Handler,
}

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
    Needs(Kind::Open)
}

/// The route's handler asks itself, because what it asks about stands in the body: it takes the [`Caller`] and asks
/// [`Caller::may`] before it does anything.
pub fn handler_asks() -> Needs {
    Needs(Kind::Handler)
}

/// The route lists rows of a table on which somebody has a permission, `type:action`. Its handler takes the
/// [`RowFilter`]; nobody who is signed in and may see nothing is refused with 401, and whoever is signed in gets what
/// they may see, which may be nothing.
pub fn rows(permission: &str, columns: &Columns) -> Needs {
    Needs(Kind::Rows(permission.to_owned(), columns.clone()))
}

impl Permission {
    /// For what a template names, `type:{parameter}`: with parameters of the route's path. Between two parameters
    /// stands a `/`, so that no two resources are named alike.
    pub fn on(self, template: &str) -> Needs {
        Needs(Kind::All(vec![Need { permission: self.0, of: Of::Named(template.to_owned()) }]))
    }

    /// For a new one of the permission's type.
    pub fn on_new(self) -> Needs {
        Needs(Kind::All(vec![Need { permission: self.0, of: Of::New(None) }]))
    }

    /// For a new one of the permission's type, within what a template names.
    pub fn on_new_within(self, template: &str) -> Needs {
        Needs(Kind::All(vec![Need { permission: self.0, of: Of::New(Some(template.to_owned())) }]))
    }
}

impl Needs {
    /// And more: all of it is needed.
    ///
    /// # Panics
    /// If rows are to be listed, or the handler asks, and something else is needed: a route does one of them.
    #[must_use]
    pub fn and(self, more: Needs) -> Needs {
        match (self.0, more.0) {
            (Kind::All(mut all), Kind::All(more)) => {
                all.extend(more);
                Needs(Kind::All(all))
            }
            (Kind::Open, other) | (other, Kind::Open) => Needs(other),
            _ => panic!("a route that lists rows, or whose handler asks, needs nothing else"),
        }
    }
}

// -- what a handler is told ----------------------------------------------------------------------

/// What let a request through: an extractor for handlers of guarded routes.
#[derive(Clone, Debug)]
pub struct Permit {
    /// Who: `user:ines`, or `anonymous`.
    pub subject: String,
    /// The reason code of each need's answer, as far as the application's key is told.
    pub reasons: Vec<Option<String>>,
    /// To ask more for them.
    pub caller: Caller,
}

impl<S: Send + Sync> FromRequestParts<S> for Permit {
    type Rejection = Refusal;

    /// Refuses with 503 where no guard has asked: on a route that is open, or of another router.
    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Permit, Refusal> {
        told(parts)
    }
}

impl<S: Send + Sync> FromRequestParts<S> for RowFilter {
    type Rejection = Refusal;

    /// Refuses with 503 where no guard has asked for [`rows`].
    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<RowFilter, Refusal> {
        told(parts)
    }
}

impl<S: Send + Sync> FromRequestParts<S> for Caller {
    type Rejection = Refusal;

    /// Refuses with 503 where the route does not say [`handler_asks`].
    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Caller, Refusal> {
        told(parts)
    }
}

fn told<T: Clone + Send + Sync + 'static>(parts: &Parts) -> Result<T, Refusal> {
    let unasked = || {
        refusal::unanswered("No guard has asked for this request; its route does not say that it needs this.")
    };
    parts.extensions.get::<T>().cloned().ok_or_else(|| unasked().into())
}
