//! What a node answers from, and how a write becomes part of it.
//!
//! A write goes through the database first: it takes the lock on the counter row, is checked
//! against the state at that position, is recorded and committed, and only then becomes visible
//! here. Readers see the state before or after a write, never in between. [`follow`] keeps a node in
//! step with what other nodes write.

pub mod follow;
mod touched;

pub use touched::tenant_of;

use crate::caller::Operator;
use crate::operators::Rights;
use crate::problem::{Problem, ProblemPart};
use jiff::Timestamp;
use ostrog_core::charter;
use ostrog_core::prelude::{Change, Sources, World, line};
use ostrog_core::register::change::{Applied, Effect, Refusal};
use ostrog_core::register::{NextIds, State as EntityState};
use ostrog_store::draft::Draft;
use ostrog_store::key::{Key, KeyText, Making};
use ostrog_store::revision::RevisionInfo;
use ostrog_store::workspace::{Recorded, Write};
use ostrog_store::{Error, Store};
use serde_json::{Value, json};
use std::collections::{BTreeSet, HashMap, HashSet};
use std::fmt;
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Mutex, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard};
use std::time::{Duration, Instant};
use tokio::sync::watch;

/// A charter in force with the register it is asked about.
#[derive(Debug)]
pub struct Live {
    /// Charter and register.
    pub world: World,
    /// Which revision.
    pub revision: RevisionInfo,
}

/// Everything in memory.
#[derive(Debug)]
pub struct State {
    /// Changes when the database was restored.
    pub epoch: String,
    /// The position all of this is at.
    pub position: i64,
    /// What questions are asked of; none until a charter is live.
    pub live: Option<Live>,
    /// The database may hold a write that memory does not: look before the next one.
    doubtful: bool,
}

/// One node.
#[derive(Debug)]
pub struct Node {
    store: Store,
    state: RwLock<State>,
    keys: RwLock<HashMap<String, Arc<Key>>>,
    /// One write at a time here; the database orders those of other nodes.
    writing: tokio::sync::Mutex<()>,
    started: Timestamp,
    /// Keys used since that was last noted.
    used: Mutex<HashSet<String>>,
    /// The position last reached, for those who wait for one.
    reached: watch::Sender<i64>,
    /// When memory was last known to be in step with the database.
    in_step: RwLock<Instant>,
    /// Whether the database did not answer when it was last looked at.
    away: AtomicBool,
    max_stale: Duration,
    stop: watch::Sender<bool>,
}

/// Who writes, and why.
#[derive(Debug)]
pub struct By {
    /// The id of a key, or what else acts.
    pub actor: String,
    /// The reason, kept with the change.
    pub note: Option<String>,
    /// What they may write; none: anything.
    pub rights: Option<Rights>,
}

impl By {
    /// The program itself, or whoever started it: may write anything, for no reason.
    pub fn host(actor: &str) -> By {
        By { actor: actor.to_owned(), note: None, rights: None }
    }

    /// An operator.
    pub fn operator(operator: Operator, note: Option<String>) -> By {
        By { actor: operator.key.id.clone(), note, rights: Some(operator.rights) }
    }
}

/// What must be so for a write to be made.
pub type Expected = Box<dyn Fn(&World) -> Result<(), Problem> + Send + Sync>;

/// How a write is wanted.
#[derive(Default)]
pub struct Wanted {
    /// Only says what would be refused and what would change.
    pub check_only: bool,
    /// Only if nothing was written since this position.
    pub at: Option<i64>,
    /// Only if this holds.
    pub expected: Option<Expected>,
    /// Only if this holds too, asked once the write is found to be valid and theirs to make: what it
    /// says is for nobody else.
    pub besides: Option<Expected>,
}

impl fmt::Debug for Wanted {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Wanted").field("check_only", &self.check_only).finish_non_exhaustive()
    }
}

/// What to put live.
#[derive(Debug)]
pub enum Rollout {
    /// A text, as the next revision.
    Text {
        /// Its files.
        sources: Sources,
        /// What it is about.
        title: String,
    },
    /// A draft, as the next revision, if it is still this text and began from what is live.
    Draft(Draft),
    /// A revision that was live before: this one, or the one before the present one.
    Back(Option<i64>),
}

/// What a write came to.
#[derive(Debug)]
pub struct Written {
    /// The position it ends at: the present one if nothing changed.
    pub position: i64,
    /// What changed, as register lines.
    pub lines: Vec<Value>,
}

impl Node {
    /// Loads everything and is ready to answer; out of step with the database for longer than
    /// `max_stale`, it answers no more.
    ///
    /// # Errors
    /// If the database cannot be read.
    pub async fn open(store: Store, max_stale: Duration) -> Result<Node, Error> {
        let state = State::from_loaded(store.load().await?)?;
        let position = state.position;
        let node = Node {
            store,
            state: RwLock::new(state),
            keys: RwLock::default(),
            writing: tokio::sync::Mutex::default(),
            started: Timestamp::now(),
            used: Mutex::default(),
            reached: watch::Sender::new(position),
            in_step: RwLock::new(Instant::now()),
            away: AtomicBool::new(false),
            max_stale,
            stop: watch::Sender::new(false),
        };
        node.reload_keys().await?;
        Ok(node)
    }

    /// The state, for as long as the guard is held. Hold it briefly: writes wait for it.
    pub fn state(&self) -> RwLockReadGuard<'_, State> {
        self.state.read().unwrap_or_else(|_| half_written())
    }

    fn state_mut(&self) -> RwLockWriteGuard<'_, State> {
        self.state.write().unwrap_or_else(|_| half_written())
    }

    /// The database.
    pub fn store(&self) -> &Store {
        &self.store
    }

    /// Ends whatever goes on for as long as the service does.
    pub fn stop(&self) {
        self.stop.send_replace(true);
    }

    /// Resolves when the service stops.
    pub async fn stopping(&self) {
        let _ = self.stop.subscribe().wait_for(|stop| *stop).await;
    }

    /// Since when this node runs.
    pub fn started(&self) -> Timestamp {
        self.started
    }

    // -- keys ----------------------------------------------------------------------------------

    async fn reload_keys(&self) -> Result<(), Error> {
        let keys = self.store.keys().await?;
        let keys = keys.into_iter().map(|key| (key.id.clone(), Arc::new(key))).collect();
        *self.keys.write().unwrap_or_else(PoisonError::into_inner) = keys;
        Ok(())
    }

    /// The key a text is of, if it counts now.
    pub fn key(&self, text: &str, now: Timestamp) -> Option<Arc<Key>> {
        let id = Key::claimed_id(text)?;
        let key = self.key_by_id(id).filter(|key| key.is(text, now))?;
        let mut used = self.used.lock().unwrap_or_else(PoisonError::into_inner);
        if !used.contains(&key.id) {
            used.insert(key.id.clone());
        }
        Some(key)
    }

    /// A key by its id, whether or not anybody has shown its text.
    pub fn key_by_id(&self, id: &str) -> Option<Arc<Key>> {
        self.keys.read().unwrap_or_else(PoisonError::into_inner).get(id).cloned()
    }

    /// All keys.
    pub fn all_keys(&self) -> Vec<Arc<Key>> {
        self.keys.read().unwrap_or_else(PoisonError::into_inner).values().cloned().collect()
    }

    /// Whether any key exists.
    pub fn has_keys(&self) -> bool {
        !self.keys.read().unwrap_or_else(PoisonError::into_inner).is_empty()
    }

    /// Makes a key and keeps its hash.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn new_key(&self, making: Making, actor: &str) -> Result<(KeyText, String), Problem> {
        let (made, _) = self
            .write(async |write, now| {
                let (key, text) = Key::new(making, now);
                write.add_key(&key, actor).await?;
                Ok((text, key.id))
            })
            .await?;
        Ok(made)
    }

    // -- writes --------------------------------------------------------------------------------

    /// Changes the register, all of a batch or nothing. Once begun it is finished, even if the
    /// caller goes away.
    ///
    /// # Errors
    /// What is wrong with each change; or that the database is away.
    pub async fn change(
        self: &Arc<Self>,
        changes: Vec<Change>,
        by: By,
        wanted: Wanted,
    ) -> Result<Written, Problem> {
        let node = Arc::clone(self);
        let task = tokio::spawn(async move { node.change_now(changes, &by, &wanted).await });
        task.await.unwrap_or_else(|error| {
            tracing::error!(%error, "a write was broken off");
            Err(Problem::internal("The write was broken off; the log says why."))
        })
    }

    async fn change_now(&self, changes: Vec<Change>, by: &By, wanted: &Wanted) -> Result<Written, Problem> {
        let _one = self.writing.lock().await;
        self.reachable()?;
        let mut write = self.store.begin_write().await?;
        self.catch_up(&write).await?;
        if let Some(at) = wanted.at.filter(|at| *at != write.position()) {
            let position = write.position();
            return Err(Problem::changed(format!("The register is at position {position}, not at {at}.")));
        }
        if let (Some(expected), Some(live)) = (&wanted.expected, &self.state().live) {
            expected(&live.world)?;
        }
        let now = Timestamp::now();
        let changes: Vec<Change> = changes.into_iter().map(|change| begun(change, now)).collect();
        let (lines, next) = self.try_out(&changes, by, now)?;
        if let (Some(besides), Some(live)) = (&wanted.besides, &self.state().live) {
            besides(&live.world)?;
        }
        if lines.is_empty() || wanted.check_only {
            return Ok(Written { position: write.position(), lines });
        }
        let mut recorded = Recorded { kind: "register", lines: lines.clone() };
        recorded.lines.extend(by.note.as_ref().map(|note| json!({ "note": note })));
        write.record(&recorded, now, &by.actor).await?;
        write.keep_next(next).await?;
        let position = self.commit(write).await?;
        tracing::info!(actor = by.actor, position, lines = lines.len(), "the register changed");
        if !self.take_in(&lines, position) {
            // Cannot be: these lines were made from a register that held them. If it is so all the
            // same, memory is read anew rather than trusted.
            tracing::error!(
                position,
                "a committed write could not be applied in memory; reading everything anew"
            );
            self.reload().await?;
        }
        Ok(Written { position, lines })
    }

    /// Makes a committed write visible; false if that failed.
    fn take_in(&self, lines: &[Value], position: i64) -> bool {
        let parsed: Result<Vec<Change>, String> = lines.iter().map(line::from_json).collect();
        let mut state = self.state_mut();
        let applied = match (parsed, &mut state.live) {
            (Ok(changes), Some(live)) => live.world.apply_recorded(&changes).is_ok(),
            _ => false,
        };
        if applied {
            state.position = position;
            self.reached.send_replace(position);
        } else {
            // It does not claim a position whose change it lacks.
            state.doubtful = true;
        }
        applied
    }

    /// Commits. If it is not known whether that happened, memory is read anew.
    async fn commit(&self, write: Write) -> Result<i64, Problem> {
        match write.commit().await {
            Ok(position) => Ok(position),
            Err(error) => {
                self.state_mut().doubtful = true;
                if self.reload().await.is_err() {
                    tracing::warn!("whether the last write was kept will be known when the database is back");
                }
                Err(error.into())
            }
        }
    }

    /// What changes would do, as register lines; the register is as before.
    fn try_out(&self, changes: &[Change], by: &By, now: Timestamp) -> Result<(Vec<Value>, NextIds), Problem> {
        let mut state = self.state_mut();
        let Some(live) = &mut state.live else {
            return Err(Problem::unavailable(
                "No charter is live, so no fact can be checked. Put one live first.",
            ));
        };
        let need = |touched: &BTreeSet<touched::Touched>| match &by.rights {
            None => Ok(()),
            Some(rights) => touched.iter().try_for_each(|(what, at)| rights.need(what, at.as_deref())),
        };
        need(&touched::asked(&live.world, changes))?;
        let applied = live.world.apply_at(changes, Some(now)).map_err(refused)?;
        let lines = effect_lines(&live.world, &applied);
        let mut touched = BTreeSet::new();
        touched::touched(&live.world, &applied, &mut touched);
        let ids = touched::ids(&applied);
        let next = live.world.register().next_ids();
        live.world.undo(applied);
        // What is taken away, or moved, must have been theirs too.
        touched::touched_before(&live.world, &ids, &mut touched);
        need(&touched)?;
        Ok((lines, next))
    }

    /// Runs a question on a state that is changed for it alone. `ask` must leave it as it was.
    ///
    /// # Errors
    /// What `ask` refuses, or that no charter is live.
    pub fn supposing<T>(&self, ask: impl FnOnce(&mut Live, i64) -> Result<T, Problem>) -> Result<T, Problem> {
        let mut state = self.state_mut();
        let position = state.position;
        let live = state.live.as_mut().ok_or_else(|| Problem::unavailable("No charter is live."))?;
        ask(live, position)
    }

    /// Puts a charter live as the next revision. Once begun it is finished, even if the caller goes
    /// away.
    ///
    /// # Errors
    /// The charter's errors, or what else keeps it from going live; or that the database is away.
    pub async fn put_live(
        self: &Arc<Self>,
        sources: Sources,
        title: &str,
        by: By,
    ) -> Result<(RevisionInfo, i64), Problem> {
        self.roll_out(Rollout::Text { sources, title: title.to_owned() }, by).await
    }

    /// Puts something live, as [`Node::put_live`].
    ///
    /// # Errors
    /// As [`Node::put_live`].
    pub async fn roll_out(self: &Arc<Self>, what: Rollout, by: By) -> Result<(RevisionInfo, i64), Problem> {
        let node = Arc::clone(self);
        let task = tokio::spawn(async move { node.roll_out_now(what, &by).await });
        task.await.unwrap_or_else(|error| {
            tracing::error!(%error, "a rollout was broken off");
            Err(Problem::internal("The rollout was broken off; the log says why."))
        })
    }

    async fn roll_out_now(&self, what: Rollout, by: &By) -> Result<(RevisionInfo, i64), Problem> {
        let _one = self.writing.lock().await;
        self.reachable()?;
        let mut write = self.store.begin_write().await?;
        self.catch_up(&write).await?;
        let now = Timestamp::now();
        let (live, before) = write.live_and_before().await?;
        let actor = by.actor.as_str();
        let (policy, revision) = match what {
            Rollout::Text { sources, title } => {
                let policy = compile(&sources)?;
                let number = write.add_revision(&sources, &title, actor, now).await?;
                let digest = policy.digest();
                let author = actor.to_owned();
                (policy, RevisionInfo { number, digest, title, author, created_at: now })
            }
            Rollout::Draft(draft) => {
                let gone = || Problem::conflict("The draft has ended, or was saved anew meanwhile.");
                let number = draft.info.number;
                let kept =
                    self.store.draft(number).await?.filter(|kept| kept.info.digest == draft.info.digest);
                let kept = kept.ok_or_else(gone)?;
                if kept.info.base != live {
                    return Err(Problem::conflict(format!(
                        "D-{number} began from {}, and {} is live: bring that into it and save it onto what is live.",
                        kept.info
                            .base
                            .map_or_else(|| "nothing".to_owned(), |base| format!("revision {base}")),
                        live.map_or_else(|| "nothing".to_owned(), |live| format!("revision {live}"))
                    )));
                }
                let policy = compile(&kept.sources)?;
                let revision = write.add_revision(&kept.sources, &kept.info.title, actor, now).await?;
                if !write.end_draft(number, Some(revision), actor, now).await? {
                    return Err(gone());
                }
                let digest = policy.digest();
                let info = RevisionInfo {
                    number: revision,
                    digest,
                    title: kept.info.title,
                    author: actor.to_owned(),
                    created_at: now,
                };
                (policy, info)
            }
            Rollout::Back(number) => {
                let number = number.or(before).ok_or_else(|| {
                    Problem::conflict("Nothing was live before, so there is nothing to go back to.")
                })?;
                if Some(number) == live {
                    return Err(Problem::conflict(format!("Revision {number} is live already.")));
                }
                let revision = self.store.revision(number).await?;
                let missing = || Problem::not_found(format!("There is no revision {number}."));
                let revision = revision.ok_or_else(missing)?;
                (compile(&revision.sources)?, revision.info)
            }
        };
        write.set_live(revision.number).await?;
        let mut line = json!({
            "rollout": revision.number, "digest": policy.digest().to_string(), "before": live,
        });
        if let Some(note) = &by.note {
            line["note"] = note.as_str().into();
        }
        write.record(&Recorded { kind: "rollout", lines: vec![line] }, now, actor).await?;
        let position = self.commit(write).await?;
        tracing::info!(actor, position, revision = revision.number, "a revision went live");
        self.put_in_force(Arc::new(policy), revision.clone(), position);
        Ok((revision, position))
    }

    /// Records something under the next position that is not about the register.
    ///
    /// # Errors
    /// If the database refuses, or what `work` refuses.
    pub async fn write<T>(
        &self,
        work: impl AsyncFnOnce(&mut Write, Timestamp) -> Result<T, Problem>,
    ) -> Result<(T, i64), Problem> {
        let _one = self.writing.lock().await;
        self.reachable()?;
        let mut write = self.store.begin_write().await?;
        self.catch_up(&write).await?;
        let done = work(&mut write, Timestamp::now()).await?;
        let position = self.commit(write).await?;
        self.state_mut().position = position;
        self.reached.send_replace(position);
        self.reload_keys().await?;
        Ok((done, position))
    }
}

/// A write to memory was broken off by a mistake of this program. What is there may be half of
/// something, and answers from it could allow what is denied; the record is in the database.
fn half_written() -> ! {
    tracing::error!("memory was left half written by a mistake of this program; stopping");
    std::process::abort()
}

fn words(refusals: &[Refusal]) -> String {
    refusals.first().map_or_else(String::new, |refusal| refusal.message.clone())
}

/// Reads a charter, or says what is wrong with it.
///
/// # Errors
/// One part for every error.
pub fn compile(sources: &Sources) -> Result<charter::policy::Policy, Problem> {
    let reading = charter::read(sources);
    let errors =
        reading.findings.iter().filter(|finding| finding.severity == ostrog_core::source::Severity::Error);
    let parts: Vec<ProblemPart> = errors
        .map(|finding| ProblemPart {
            at: sources.place(finding.span).to_string(),
            detail: finding.message.clone(),
        })
        .collect();
    reading
        .policy
        .ok_or_else(|| Problem::invalid(format!("The charter has {} errors.", parts.len())).with(parts))
}

fn refused(refusals: Vec<Refusal>) -> Problem {
    let parts: Vec<ProblemPart> = refusals
        .into_iter()
        .take(100)
        .map(|refusal| ProblemPart { at: (refusal.change + 1).to_string(), detail: refusal.message })
        .collect();
    let first = parts.first().map_or_else(String::new, |part| part.detail.clone());
    Problem::invalid(format!("Nothing was changed: {first}.")).with(parts)
}

/// A change as it is made now: an activation begins when it is made, unless it says when.
fn begun(change: Change, now: Timestamp) -> Change {
    match change {
        Change::Activate(mut line) => {
            line.from = line.from.or(Some(now));
            Change::Activate(line)
        }
        other => other,
    }
}

/// What a batch did, as lines that do the same to a register that was as this one was before.
fn effect_lines(world: &World, applied: &Applied) -> Vec<Value> {
    let register = world.register();
    let mut lines: Vec<Value> = Vec::new();
    let mut told = std::collections::HashSet::new();
    for (_, effect) in &applied.effects {
        match effect {
            Effect::Entity(id) if register.state(*id) != EntityState::Deleted && told.insert(*id) => {
                lines.push(register.entity_json(*id));
            }
            Effect::Entity(_) => {}
            Effect::Deleted(id) => lines.push(json!({ "delete": register.name(*id) })),
            Effect::Granted(id) => {
                lines.extend(register.grant_by_id(id).map(|grant| register.grant_json(&grant)))
            }
            Effect::Ended(id) => lines.push(json!({ "end-grant": id })),
            Effect::Activated(id) => {
                let activation = register.activation_by_id(id);
                lines.extend(activation.map(|activation| register.activation_json(activation)));
            }
            Effect::Deactivated(id) => lines.push(json!({ "end-activation": id })),
            Effect::Made(key) => {
                lines.extend(register.made_role(*key).map(|role| register.made_json(*key, role)));
            }
            Effect::Unmade(key) => lines.push(json!({ "end-tenant-role": register.text(*key) })),
        }
    }
    lines
}
