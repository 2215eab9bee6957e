//! Live questions, answered once more under a revision that is not live: beside the threads that answer, with a
//! share of the processor, and never in the way of an answer.

use super::ask::Asker;
use super::tokens::Tokens;
use crate::App;
use crate::lanes::less_urgent;
use crate::node::gate::Scope;
use crate::node::gate::permission::Permission;
use crate::node::view::{Running, View};
use jiff::Timestamp;
use ostrog_store::shadow::{Counts, Difference};
use ostrog_wire::access::{Action, Entity, Evaluation, EvaluationRequest};
use ostrog_wire::strict::Object;
use serde_json::{Value, json};
use sha2::{Digest as _, Sha256};
use std::collections::HashMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, SyncSender, sync_channel};
use std::sync::{Arc, Weak};
use std::time::{Duration, Instant};

/// Most questions that wait to be answered once more.
const MAX_WAITING: usize = 4_096;
/// Most different questions that are kept of a second.
const MAX_KEPT: usize = 500;
/// How often what was counted is kept.
const KEEPING: Duration = Duration::from_secs(1);
/// Sampled more rarely than this, a shadow says too little: it ends.
const RAREST: u64 = 1_024;
/// As much less urgent than an answer as can be.
const NICE: i32 = 19;

/// A question that was answered.
struct Answered {
    app: Weak<crate::Shared>,
    scope: Scope,
    running: Arc<Running>,
    tokens: Arc<Tokens>,
    question: EvaluationRequest,
    now: Timestamp,
    allowed: bool,
    reason: String,
}

/// Where questions are handed on.
#[derive(Debug)]
pub struct Shadows {
    queue: SyncSender<Box<Answered>>,
    /// By shadow, at most four: which one, how manieth question, one in how many.
    seen: [Seen; 4],
}

#[derive(Debug, Default)]
struct Seen {
    shadow: AtomicU64,
    questions: AtomicU64,
    one_in: AtomicU64,
    dropped: AtomicU64,
}

impl std::fmt::Debug for Answered {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Answered").field("now", &self.now).finish_non_exhaustive()
    }
}

impl Shadows {
    /// Starts the thread that answers once more.
    pub fn start(app: &Weak<crate::Shared>) -> Shadows {
        let (queue, waiting) = sync_channel(MAX_WAITING);
        let app = Weak::clone(app);
        let runtime = tokio::runtime::Handle::try_current().ok();
        let thread = std::thread::Builder::new().name("shadow".to_owned());
        let started = thread.spawn(move || {
            less_urgent(NICE);
            Worker { app, runtime, kept: HashMap::new(), last: None, busy: Duration::ZERO }.work(&waiting);
        });
        started.expect("the system has threads");
        Shadows { queue, seen: Default::default() }
    }

    fn seen(&self, shadow: i64) -> &Seen {
        let number = u64::try_from(shadow).unwrap_or(0);
        let seen = &self.seen[(number % 4) as usize];
        if seen.shadow.swap(number, Ordering::Relaxed) != number {
            seen.questions.store(0, Ordering::Relaxed);
            seen.one_in.store(1, Ordering::Relaxed);
        }
        seen
    }

    /// Hands a question on, if it is one of those that are answered once more. It never waits.
    pub(super) fn offer(
        &self,
        app: &App,
        (scope, running, tokens): (&Scope, &Arc<Running>, &Arc<Tokens>),
        (subject, action, resource, context): (&Entity, &Action, &Entity, Option<&Object>),
        (answer, now): (&Evaluation, Timestamp),
    ) {
        let Some(shadow) = &running.shadow else { return };
        let seen = self.seen(shadow.number);
        let one_in = seen.one_in.load(Ordering::Relaxed).max(u64::try_from(shadow.one_in).unwrap_or(1));
        if !seen.questions.fetch_add(1, Ordering::Relaxed).is_multiple_of(one_in) {
            return;
        }
        let answered = Box::new(Answered {
            app: Arc::downgrade(&app.0),
            scope: scope.clone(),
            running: Arc::clone(running),
            tokens: Arc::clone(tokens),
            question: EvaluationRequest {
                subject: subject.clone(),
                action: action.clone(),
                resource: resource.clone(),
                context: context.cloned(),
            },
            now,
            allowed: answer.decision,
            reason: answer.context.reason.clone().unwrap_or_default(),
        });
        if self.queue.try_send(answered).is_err() {
            seen.dropped.fetch_add(1, Ordering::Relaxed);
        }
    }
}

/// What was found of one shadow since it was last kept.
#[derive(Default)]
struct Kept {
    counts: Counts,
    differences: HashMap<Vec<u8>, Difference>,
}

struct Worker {
    app: Weak<crate::Shared>,
    runtime: Option<tokio::runtime::Handle>,
    kept: HashMap<i64, (Arc<Running>, Kept)>,
    last: Option<(Arc<View>, i64, Arc<View>)>,
    busy: Duration,
}

impl Worker {
    fn work(mut self, waiting: &Receiver<Box<Answered>>) {
        let mut since = Instant::now();
        loop {
            match waiting.recv_timeout(KEEPING) {
                Ok(answered) => {
                    let began = Instant::now();
                    let running = Arc::clone(&answered.running);
                    self.once_more(*answered);
                    let took = began.elapsed();
                    self.busy += took;
                    // Of a second's work at a share of a quarter three seconds are others'.
                    let share = running.shadow.as_ref().map_or(1_000, |shadow| shadow.share.clamp(1, 1_000));
                    let rest = took * u32::try_from(1_000 - share).unwrap_or(0)
                        / u32::try_from(share).unwrap_or(1_000);
                    if rest > Duration::from_micros(100) {
                        std::thread::sleep(rest);
                    }
                }
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => return,
            }
            if since.elapsed() >= KEEPING {
                since = Instant::now();
                if !self.keep() {
                    return;
                }
                // A view is let go of once nothing is asked of it any more.
                self.last = None;
            }
        }
    }

    /// Answers a question once more, and notes how.
    fn once_more(&mut self, answered: Answered) {
        let Some(app) = answered.app.upgrade().map(App) else { return };
        let Some(shadow) = &answered.running.shadow else { return };
        let scope = answered.scope.in_shadow(&answered.running, &mut self.last);
        let kept = &mut self
            .kept
            .entry(shadow.number)
            .or_insert_with(|| (Arc::clone(&answered.running), Kept::default()))
            .1;
        let question = &answered.question;
        // A key may be kept to one of the two, or be a proxy's.
        let decisions = scope.decisions(Permission::Evaluation);
        let decisions = decisions.or_else(|_| scope.decisions(Permission::Evaluations));
        let decisions = decisions.or_else(|_| scope.decisions(Permission::RouteCheck));
        let Ok(decisions) = decisions else { return };
        let decisions = decisions.about(&question.resource.kind);
        let asker = Asker::at(&app, &scope, decisions, &answered.tokens, answered.now);
        let Ok((told, subject)) = asker.quietly(question) else { return };
        kept.counts.asked += 1;
        if told.decision == answered.allowed {
            return;
        }
        kept.counts.differing += 1;
        let reason = told.context.reason.unwrap_or_default();
        let (permission, shown) = shown(question, &subject);
        let digest =
            Sha256::digest(json!([permission, shown, answered.allowed, reason]).to_string()).to_vec();
        if let Some(known) = kept.differences.get_mut(&digest) {
            (known.times, known.last_at) = (known.times + 1, answered.now);
        } else if kept.differences.len() < MAX_KEPT {
            let difference = Difference {
                application: answered.scope.application().unwrap_or("operator").to_owned(),
                permission,
                allowed: answered.allowed,
                reason: answered.reason,
                shadow_reason: reason,
                question: shown,
                times: 1,
                first_at: answered.now,
                last_at: answered.now,
            };
            kept.differences.insert(digest, difference);
        }
    }

    /// Keeps what was counted, samples less where there is too much to do, and ends what says too little. False
    /// once the service is gone.
    fn keep(&mut self) -> bool {
        let Some(app) = self.app.upgrade().map(App) else { return false };
        let Some(runtime) = &self.runtime else { return true };
        for (number, (running, kept)) in self.kept.drain() {
            let seen = app.shadows.seen(number);
            let dropped = seen.dropped.swap(0, Ordering::Relaxed);
            let mut one_in = seen.one_in.load(Ordering::Relaxed).max(1);
            let asked = u64::try_from(kept.counts.asked).unwrap_or(0);
            if dropped > asked / 10 {
                one_in *= 2;
                seen.one_in.store(one_in, Ordering::Relaxed);
            }
            app.measures.shadowed(asked, u64::try_from(kept.counts.differing).unwrap_or(0), dropped);
            let counts = Counts {
                dropped: i64::try_from(dropped).unwrap_or(i64::MAX),
                one_in: i32::try_from(one_in).unwrap_or(i32::MAX),
                ..kept.counts
            };
            let differences: Vec<(Vec<u8>, Difference)> = kept.differences.into_iter().collect();
            let node = Arc::clone(&app.node);
            let until = running.shadow.as_ref().and_then(|shadow| shadow.until);
            runtime.block_on(async {
                if let Err(error) = node.count_shadow(number, counts, &differences).await {
                    tracing::warn!(%error, "what a shadow found could not be kept");
                }
                let over = if one_in > RAREST {
                    Some("there was more to answer than its share of the processor allows")
                } else {
                    None
                };
                if let Some(why) = over
                    && let Err(problem) = node.end_shadow(number, why).await
                {
                    tracing::warn!(why = problem.detail(), "a shadow could not be ended");
                }
            });
            if until.is_some_and(|until| until <= Timestamp::now()) {
                let ended = runtime.block_on(node.end_shadow(number, "its time was up"));
                if let Err(problem) = ended {
                    tracing::warn!(why = problem.detail(), "a shadow could not be ended");
                }
            }
        }
        true
    }
}

/// A question as it is kept: without a token.
fn shown(question: &EvaluationRequest, subject: &str) -> (String, Value) {
    let EvaluationRequest { subject: who, action, resource, context } = question;
    let permission = match action.name.contains(':') {
        true => action.name.clone(),
        false => format!("{}:{}", resource.kind, action.name),
    };
    let properties = |entity: &Entity| entity.properties.as_ref().map(|said| said.0.clone());
    let shown = json!({
        "subject": subject,
        "permission": permission,
        "resource": resource.id.as_ref().map(|id| format!("{}:{id}", resource.kind)),
        "subject-properties": properties(who),
        "resource-properties": properties(resource),
        "context": context.as_ref().map(|context| context.0.clone()),
    });
    (permission, shown)
}
