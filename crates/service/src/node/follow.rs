//! Keeping in step with the database: what other nodes wrote, in the order of positions, none skipped.

use super::{Live, Node, State, compile, words};
use crate::problem::Problem;
use jiff::Timestamp;
use ostrog_core::charter;
use ostrog_core::prelude::{Change, Register, World};
use ostrog_core::register::line::EntityLine;
use ostrog_store::Error;
use ostrog_store::workspace::{Loaded, Write};
use std::sync::atomic::Ordering;
use std::sync::{Arc, PoisonError};
use std::time::{Duration, Instant};

/// How long an answer waits for a position that is not reached yet.
const PATIENCE: Duration = Duration::from_millis(1_500);
/// How often a node looks without a ring: rings can be lost, and silence is no proof of life.
const HEARTBEAT: Duration = Duration::from_secs(1);
/// How long it waits before it tries to reach the database again.
const AGAIN: Duration = Duration::from_millis(200);
/// How long one look may take.
const LOOK: Duration = Duration::from_secs(5);
/// How often it is noted which keys were used.
const NOTING: Duration = Duration::from_secs(30);
/// How many changes are read at a time. Further behind than many of these, everything is read anew.
const CHUNK: i64 = 500;
const MANY: i64 = 100 * CHUNK;
/// How many lines are applied at a time where everything is read.
const PART: usize = 50_000;

impl Node {
    /// Follows the database for ever.
    pub async fn follow(self: Arc<Self>) {
        let mut noted = Instant::now();
        loop {
            if let Ok(mut bell) = self.store.listen().await {
                while self.keep_step().await {
                    if self.away.swap(false, Ordering::Relaxed) {
                        tracing::info!("the database is back; in step with it again");
                    }
                    if noted.elapsed() > NOTING {
                        noted = Instant::now();
                        self.note_used().await;
                    }
                    match tokio::time::timeout(HEARTBEAT, bell.rung()).await {
                        Ok(Ok(())) | Err(_) => {}
                        Ok(Err(_)) => break,
                    }
                }
            }
            if !self.away.swap(true, Ordering::Relaxed) {
                tracing::warn!("the database cannot be followed; answering from memory");
            }
            tokio::time::sleep(AGAIN).await;
        }
    }

    /// Notes when keys were last used. It is no write: nothing depends on it.
    async fn note_used(&self) {
        let used: Vec<String> = {
            let mut used = self.used.lock().unwrap_or_else(PoisonError::into_inner);
            used.drain().collect()
        };
        if !used.is_empty()
            && let Err(error) = self.store.used(&used, Timestamp::now()).await
        {
            tracing::warn!(%error, "when keys were last used could not be noted");
        }
    }

    /// One look; false if the database did not answer.
    async fn keep_step(&self) -> bool {
        match tokio::time::timeout(LOOK, self.look()).await {
            Ok(Ok(())) => true,
            Ok(Err(error)) => {
                tracing::debug!(%error, "could not look");
                false
            }
            Err(_) => false,
        }
    }

    async fn look(&self) -> Result<(), Error> {
        // From before the look: what is written while it is looked is not yet known.
        let began = Instant::now();
        let head = self.store.head().await?;
        if !self.is_at(&head.epoch, head.position) {
            let _one = self.writing.lock().await;
            let head = self.store.head().await?;
            self.advance(&head.epoch, head.position).await?;
        }
        *self.in_step.write().unwrap_or_else(PoisonError::into_inner) = began;
        Ok(())
    }

    fn is_at(&self, epoch: &str, position: i64) -> bool {
        let state = self.state();
        !state.doubtful && state.epoch == epoch && state.position == position
    }

    /// Brings memory to the position a write begins at.
    pub(super) async fn catch_up(&self, write: &Write) -> Result<(), Error> {
        if self.is_at(write.epoch(), write.position()) {
            return Ok(());
        }
        self.advance(write.epoch(), write.position()).await
    }

    /// Brings memory to a position, change by change where that is possible.
    async fn advance(&self, epoch: &str, to: i64) -> Result<(), Error> {
        let (doubtful, known, from) = {
            let state = self.state();
            (state.doubtful, state.epoch.clone(), state.position)
        };
        if known == epoch && to < from {
            // The database is not where it was: it was restored from before. Positions that were
            // given out since mean nothing any more.
            tracing::warn!(from, to, "the database went back; beginning another epoch");
            self.store.begin_epoch(epoch).await?;
            return self.reload().await;
        }
        if doubtful || known != epoch || to - from > MANY {
            return self.reload().await;
        }
        while self.state().position < to {
            let at = self.state().position;
            let changes = self.store.changes_after(at, CHUNK).await?;
            if changes.is_empty() {
                return self.reload().await;
            }
            for change in changes {
                if change.position != self.state().position + 1 || !self.take_over(&change).await? {
                    tracing::warn!(
                        position = change.position,
                        "a change does not follow; reading everything anew"
                    );
                    return self.reload().await;
                }
            }
        }
        Ok(())
    }

    /// Takes over one change that another node made; false if it does not fit what is here.
    async fn take_over(&self, change: &ostrog_store::change::Change) -> Result<bool, Error> {
        match change.kind.as_str() {
            "register" => {
                let lines = change.lines.as_array().cloned().unwrap_or_default();
                let lines: Vec<_> = lines.into_iter().filter(|line| line.get("note").is_none()).collect();
                Ok(self.take_in(&lines, change.position))
            }
            "rollout" => {
                let Some(number) = change.lines[0]["rollout"].as_i64() else { return Ok(false) };
                let Some(revision) = self.store.revision(number).await? else { return Ok(false) };
                let Ok(policy) = compile(&revision.sources) else { return Ok(false) };
                self.put_in_force(Arc::new(policy), revision.info, change.position);
                Ok(true)
            }
            kind => {
                if kind == "key" {
                    self.reload_keys().await?;
                }
                self.state_mut().position = change.position;
                self.reached.send_replace(change.position);
                Ok(true)
            }
        }
    }

    /// Reads everything anew.
    ///
    /// # Errors
    /// If the database cannot be read; then memory is as before.
    pub async fn reload(&self) -> Result<(), Error> {
        let state = State::from_loaded(self.store.load().await?)?;
        let position = state.position;
        *self.state_mut() = state;
        self.reached.send_replace(position);
        self.reload_keys().await
    }

    // -- freshness -----------------------------------------------------------------------------

    /// For how long memory may have been behind.
    pub fn age(&self) -> Duration {
        self.in_step.read().unwrap_or_else(PoisonError::into_inner).elapsed()
    }

    /// Refuses a write at once if the database did not answer when it was last looked at: those that
    /// wait for each other would else wait for it one by one.
    pub(super) fn reachable(&self) -> Result<(), Problem> {
        if self.away.load(Ordering::Relaxed) {
            return Err(Problem::unavailable(
                "The database cannot be reached; nothing was changed. Try again.",
            ));
        }
        Ok(())
    }

    /// Refuses if memory may be too old to answer from.
    ///
    /// # Errors
    /// Past `max_stale`.
    pub fn fresh(&self) -> Result<(), Problem> {
        let age = self.age();
        if age <= self.max_stale {
            return Ok(());
        }
        Err(Problem::unavailable(format!(
            "The database has been out of reach for {} seconds, longer than the {} this node may answer from memory.",
            age.as_secs(),
            self.max_stale.as_secs()
        )))
    }

    /// Waits a little until a position is reached: `<epoch>.<n>`, or `n` of the present epoch.
    ///
    /// # Errors
    /// If it is malformed, of another epoch, or not reached in time.
    pub async fn wait_for(&self, wanted: &str) -> Result<(), Problem> {
        let epoch = self.state().epoch.clone();
        let (of, number) = wanted.rsplit_once('.').unwrap_or((&epoch, wanted));
        let number: i64 =
            number.parse().map_err(|_| Problem::malformed("Ostrog-Min-Position is <epoch>.<n>, or n."))?;
        if of != epoch {
            return Err(Problem::unavailable(
                "The position asked for is of another epoch: the database was restored since.",
            ));
        }
        let mut reached = self.reached.subscribe();
        let waited = tokio::time::timeout(PATIENCE, reached.wait_for(|at| *at >= number)).await;
        if waited.is_err() {
            let at = self.state().position;
            return Err(Problem::unavailable(format!(
                "This node is at position {at}, before the one asked for."
            )));
        }
        Ok(())
    }

    /// The position, whenever it moves.
    pub fn positions(&self) -> tokio::sync::watch::Receiver<i64> {
        self.reached.subscribe()
    }

    /// Puts a charter in force in memory.
    pub(super) fn put_in_force(
        &self,
        policy: Arc<charter::policy::Policy>,
        revision: ostrog_store::revision::RevisionInfo,
        position: i64,
    ) {
        let mut state = self.state_mut();
        match &mut state.live {
            Some(live) => {
                live.world.set_policy(policy);
                live.revision = revision;
            }
            none => *none = Some(Live { world: World::new(policy, Register::default()), revision }),
        }
        state.position = position;
        self.reached.send_replace(position);
    }
}

impl State {
    pub(super) fn from_loaded(loaded: Loaded) -> Result<State, Error> {
        let unreadable = |what: String| Error::Unreadable(what);
        let live = match loaded.revision {
            None => None,
            Some(revision) => {
                let reading = charter::read(&revision.sources);
                let policy = reading
                    .policy
                    .ok_or_else(|| unreadable(format!("revision {} has errors", revision.info.number)))?;
                let mut world = World::new(Arc::new(policy), Register::default());
                // All names first: what is said of one may name any other. Then in parts, so that what
                // could be taken back of all of it does not stand in memory.
                let mut apply = |changes: &[Change]| {
                    let done = world.apply_recorded(changes).map(|_| ());
                    done.map_err(|refusals| unreadable(words(&refusals)))
                };
                let gone: Vec<Change> = loaded.deleted.iter().map(|name| named(name)).collect();
                apply(&gone)?;
                let delete = |name| Change::Delete { name, contents: false };
                apply(&loaded.deleted.into_iter().map(delete).collect::<Vec<_>>())?;
                for part in loaded.entities.chunks(PART) {
                    let names = part.iter().filter_map(|change| match change {
                        Change::Entity(line) => Some(named(&line.name)),
                        _ => None,
                    });
                    apply(&names.collect::<Vec<_>>())?;
                }
                for all in [loaded.entities, loaded.tenant_roles, loaded.grants, loaded.activations] {
                    for part in all.chunks(PART) {
                        apply(part)?;
                    }
                }
                world.skip_ids(loaded.next);
                Some(Live { world, revision: revision.info })
            }
        };
        Ok(State { epoch: loaded.epoch, position: loaded.position, live, doubtful: false })
    }
}

/// An entity of which nothing is said.
fn named(name: &str) -> Change {
    Change::Entity(Box::new(EntityLine { name: name.to_owned(), ..EntityLine::default() }))
}
