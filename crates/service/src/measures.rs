//! What is measured, in the text format of Prometheus. No person, token, id, tenant or path as it came stands in a label.

use crate::App;
use crate::node::gate::Scope;
use crate::node::gate::permission::Permission;
use crate::problem::Problem;
use axum::Router;
use axum::extract::State;
use axum::http::header::{CACHE_CONTROL, CONTENT_TYPE};
use axum::response::{IntoResponse as _, Response};
use axum::routing::get;
use metrics::{Counter, Histogram, Key, KeyName, Label, Level, Metadata, Recorder as _, Unit};
use metrics_exporter_prometheus::{PrometheusBuilder, PrometheusRecorder};
use ostrog_core::decide::Reason;
use std::collections::HashMap;
use std::sync::{PoisonError, RwLock, Weak};
use std::time::{Duration, Instant};

/// Where the counts of a stretch of time end, in seconds.
const BUCKETS: [f64; 14] = [
    0.000_01, 0.000_025, 0.000_05, 0.000_1, 0.000_25, 0.000_5, 0.001, 0.002_5, 0.005, 0.01, 0.05, 0.25, 1.0,
    10.0,
];
/// How often what was measured is folded into its buckets, whether or not anybody looks.
const UPKEEP: Duration = Duration::from_secs(5);
/// Most applications, and paths, that are told apart.
const MOST: usize = 1_000;

const HERE: Metadata<'static> = Metadata::new("ostrog", Level::INFO, Some("ostrog"));

/// Everything that is measured, and what it is.
const ALL: [(&str, Kind, &str); 19] = [
    ("ostrog_decisions_total", Kind::Counter, "Decisions; reason: role, rule, or the reason's code"),
    ("ostrog_decision_seconds", Kind::Histogram, "How long a decision took, with reading its question"),
    ("ostrog_request_seconds", Kind::Histogram, "How long a request took, by the route's template"),
    ("ostrog_position", Kind::Gauge, "The position this node answers at"),
    ("ostrog_lag_seconds", Kind::Gauge, "Since when it has not been in step with a database that answers"),
    ("ostrog_stale_seconds", Kind::Gauge, "Since when it has not been known to be in step with the database"),
    ("ostrog_live_revision", Kind::Gauge, "The revision that is live for an application"),
    (
        "ostrog_revision_unapproved",
        Kind::Gauge,
        "1 where what is live was urgent and nobody has approved it yet",
    ),
    ("ostrog_register_facts", Kind::Gauge, "Entities and grants of the register"),
    ("ostrog_register_bytes", Kind::Gauge, "What the register takes in memory"),
    ("ostrog_shadow_asked_total", Kind::Counter, "Questions that were answered once more in a shadow"),
    ("ostrog_shadow_differing_total", Kind::Counter, "Those whose answer differs there"),
    ("ostrog_shadow_dropped_total", Kind::Counter, "Those there was no room for"),
    ("ostrog_refused_tokens_total", Kind::Counter, "Tokens that did not count"),
    ("ostrog_key_set_age_seconds", Kind::Gauge, "Since when the keys of an issuer were not had anew"),
    ("ostrog_unmapped_requests_total", Kind::Counter, "Requests that no route takes"),
    ("ostrog_database_connections", Kind::Gauge, "Connections to the database that are open"),
    ("ostrog_database_connections_idle", Kind::Gauge, "Those that nobody uses"),
    ("ostrog_sessions", Kind::Gauge, "Sessions of operators that this node knows"),
];

#[derive(Clone, Copy, Debug)]
enum Kind {
    Counter,
    Gauge,
    Histogram,
}

/// What is measured of decisions: by application, then by answer and reason.
type Decisions = HashMap<String, Vec<((bool, &'static str), Counter)>>;

/// Everything that is measured.
pub struct Measures {
    recorder: PrometheusRecorder,
    decisions: RwLock<Decisions>,
    took: Histogram,
    requests: RwLock<HashMap<String, Histogram>>,
    process: metrics_process::Collector,
}

impl std::fmt::Debug for Measures {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Measures")
    }
}

/// The names of everything that is measured, but for the process's own.
pub fn names() -> impl Iterator<Item = &'static str> {
    ALL.iter().map(|(name, ..)| *name)
}

fn key(name: &'static str, labels: &[(&'static str, &str)]) -> Key {
    let labels: Vec<Label> =
        labels.iter().map(|(name, value)| Label::new(*name, (*value).to_owned())).collect();
    Key::from_parts(name, labels)
}

/// What a reason is told as: which role or rule it was stands in no label.
pub fn word(reason: Reason) -> &'static str {
    match reason {
        Reason::Role(_) => "role",
        Reason::Rule(_) => "rule",
        Reason::TokenRefused => "token-refused",
        Reason::UnknownType => "unknown-type",
        Reason::UnknownPermission => "unknown-permission",
        Reason::SubjectSuspended => "subject-suspended",
        Reason::SubjectDeleted => "subject-deleted",
        Reason::ResourceDeleted => "resource-deleted",
        Reason::Separated => "separated",
        Reason::Undetermined => "undetermined",
        Reason::Condition => "condition",
        Reason::Standby => "standby",
        Reason::NoRole => "no-role",
    }
}

/// The same of a reason's code, as it is told.
pub fn of_code(code: &str) -> &'static str {
    const OTHERS: [Reason; 11] = [
        Reason::TokenRefused,
        Reason::UnknownType,
        Reason::UnknownPermission,
        Reason::SubjectSuspended,
        Reason::SubjectDeleted,
        Reason::ResourceDeleted,
        Reason::Separated,
        Reason::Undetermined,
        Reason::Condition,
        Reason::Standby,
        Reason::NoRole,
    ];
    match code.split_once(':') {
        Some(("role", _)) => "role",
        Some(("rule", _)) => "rule",
        _ => OTHERS.into_iter().map(word).find(|word| *word == code).unwrap_or("other"),
    }
}

impl Measures {
    /// Nothing yet; folded now and then for as long as the service is there.
    pub fn start(app: &Weak<crate::Shared>) -> Measures {
        let builder =
            PrometheusBuilder::new().set_buckets(&BUCKETS).unwrap_or_else(|_| PrometheusBuilder::new());
        let recorder = builder.build_recorder();
        for (name, kind, words) in ALL {
            let (name, unit) = (KeyName::from_const_str(name), None::<Unit>);
            match kind {
                Kind::Counter => recorder.describe_counter(name, unit, words.into()),
                Kind::Gauge => recorder.describe_gauge(name, unit, words.into()),
                Kind::Histogram => recorder.describe_histogram(name, unit, words.into()),
            }
        }
        let (handle, app) = (recorder.handle(), Weak::clone(app));
        if let Ok(runtime) = tokio::runtime::Handle::try_current() {
            runtime.spawn(async move {
                loop {
                    tokio::time::sleep(UPKEEP).await;
                    if app.strong_count() == 0 {
                        return;
                    }
                    handle.run_upkeep();
                }
            });
        }
        let took = recorder.register_histogram(&key("ostrog_decision_seconds", &[]), &HERE);
        let process = metrics_process::Collector::default();
        metrics::with_local_recorder(&recorder, || process.describe());
        Measures { recorder, decisions: RwLock::default(), took, requests: RwLock::default(), process }
    }

    /// A decision.
    pub fn decided(&self, application: &str, allowed: bool, reason: &'static str) {
        let of = (allowed, reason);
        let count = |all: &Decisions| {
            let known = all.get(application)?.iter().find(|(known, _)| *known == of)?;
            known.1.increment(1);
            Some(())
        };
        if count(&self.decisions.read().unwrap_or_else(PoisonError::into_inner)).is_some() {
            return;
        }
        let mut all = self.decisions.write().unwrap_or_else(PoisonError::into_inner);
        if all.len() >= MOST && !all.contains_key(application) {
            return;
        }
        let answer = if allowed { "allow" } else { "deny" };
        let labels = [("application", application), ("answer", answer), ("reason", of.1)];
        let counter = self.recorder.register_counter(&key("ostrog_decisions_total", &labels), &HERE);
        counter.increment(1);
        let known = all.entry(application.to_owned()).or_default();
        // Two that came at once register one.
        if !known.iter().any(|(known, _)| *known == of) {
            known.push((of, counter));
        }
    }

    /// How long a decision took.
    pub fn took(&self, since: Instant) {
        self.took.record(since.elapsed().as_secs_f64());
    }

    /// How long a request took, by the template of its route.
    pub fn answered(&self, path: &str, since: Instant) {
        let took = since.elapsed().as_secs_f64();
        {
            let known = self.requests.read().unwrap_or_else(PoisonError::into_inner);
            if let Some(known) = known.get(path) {
                known.record(took);
                return;
            }
        }
        let mut all = self.requests.write().unwrap_or_else(PoisonError::into_inner);
        if all.len() < MOST {
            let made =
                || self.recorder.register_histogram(&key("ostrog_request_seconds", &[("path", path)]), &HERE);
            all.entry(path.to_owned()).or_insert_with(made).record(took);
        }
    }

    /// A request that no route takes.
    pub fn unmapped(&self, application: &str) {
        self.count("ostrog_unmapped_requests_total", &[("application", application)], 1);
    }

    /// What was answered once more, differed, and was dropped.
    pub fn shadowed(&self, asked: u64, differing: u64, dropped: u64) {
        self.count("ostrog_shadow_asked_total", &[], asked);
        self.count("ostrog_shadow_differing_total", &[], differing);
        self.count("ostrog_shadow_dropped_total", &[], dropped);
    }

    fn count(&self, name: &'static str, labels: &[(&'static str, &str)], many: u64) {
        self.recorder.register_counter(&key(name, labels), &HERE).increment(many);
    }

    #[allow(clippy::cast_precision_loss, reason = "what is measured is told as such numbers")]
    fn is(&self, name: &'static str, labels: &[(&'static str, &str)], value: u64) {
        self.recorder.register_gauge(&key(name, labels), &HERE).set(value as f64);
    }

    /// All of it, as it is now.
    fn told(&self, app: &App) -> String {
        let state = app.node.state();
        let whole = |number: i64| u64::try_from(number).unwrap_or(0);
        self.is("ostrog_position", &[], whole(state.position));
        self.is("ostrog_stale_seconds", &[], state.stale.as_secs());
        self.is("ostrog_lag_seconds", &[], if state.away { 0 } else { state.stale.as_secs() });
        for (application, revision, unapproved) in &state.live {
            self.is("ostrog_live_revision", &[("application", application)], whole(*revision));
            self.is("ostrog_revision_unapproved", &[("application", application)], u64::from(*unapproved));
        }
        self.is("ostrog_register_facts", &[], state.facts);
        self.is("ostrog_register_bytes", &[], state.bytes);
        self.is("ostrog_database_connections", &[], u64::from(state.connections));
        self.is("ostrog_database_connections_idle", &[], state.idle);
        self.is("ostrog_sessions", &[], state.sessions);
        for issuer in &state.issuers {
            if let Some(age) = issuer.age {
                self.is("ostrog_key_set_age_seconds", &[("issuer", &issuer.key)], age);
            }
            for (why, times) in &issuer.refused {
                let labels = [("issuer", issuer.key.as_str()), ("why", why.as_str())];
                self.recorder
                    .register_counter(&key("ostrog_refused_tokens_total", &labels), &HERE)
                    .absolute(*times);
            }
        }
        metrics::with_local_recorder(&self.recorder, || self.process.collect());
        self.recorder.handle().render()
    }
}

/// The page, for keys that may read it.
async fn page(State(app): State<App>, scope: Scope) -> Result<Response, Problem> {
    scope.need(Permission::MetricsRead)?;
    Ok(shown(&app))
}

fn shown(app: &App) -> Response {
    let headers = [(CONTENT_TYPE, "text/plain; version=0.0.4; charset=utf-8"), (CACHE_CONTROL, "no-store")];
    (headers, app.measures.told(app)).into_response()
}

/// `/metrics` on the service's own address.
pub fn router() -> Router<App> {
    Router::new().route("/metrics", get(page))
}

/// `/metrics` on an address of its own: without a key where nobody but this machine reaches it.
pub fn alone(app: App, is_loopback: bool) -> Router {
    let router = match is_loopback {
        true => Router::new().route("/metrics", get(async |State(app): State<App>| shown(&app))),
        false => router(),
    };
    router.with_state(app)
}
