//! What a node answers from, and how a write becomes part of it.
//!
//! A write goes through the database first: it takes the lock on the counter row, is checked
//! against the state at that position, is recorded and committed, and only then becomes visible
//! here. Readers see the state before or after a write, never in between.

use crate::problem::{Problem, ProblemPart};
use jiff::Timestamp;
use ostrog_core::charter;
use ostrog_core::prelude::{Change, Register, Sources, World, line};
use ostrog_core::register::State as EntityState;
use ostrog_core::register::change::{Applied, Effect, Refusal};
use ostrog_store::key::{Key, KeyKind, KeyText};
use ostrog_store::revision::RevisionInfo;
use ostrog_store::workspace::{Loaded, Recorded, Write};
use ostrog_store::{Error, Store};
use serde_json::{Value, json};
use std::collections::HashMap;
use std::sync::{Arc, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard};

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
}

/// Who writes, and why.
#[derive(Clone, Debug)]
pub struct By {
    /// The id of a key, or what else acts.
    pub actor: String,
    /// The reason, kept with the change.
    pub note: Option<String>,
}

impl By {
    /// Somebody who gives no reason.
    pub fn actor(actor: &str) -> By {
        By { actor: actor.to_owned(), note: None }
    }
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
    /// Loads everything and is ready to answer.
    ///
    /// # Errors
    /// If the database cannot be read.
    pub async fn open(store: Store) -> Result<Node, Error> {
        let loaded = store.load().await?;
        let state = State::from_loaded(loaded)?;
        let node = Node {
            store,
            state: RwLock::new(state),
            keys: RwLock::default(),
            writing: tokio::sync::Mutex::default(),
            started: Timestamp::now(),
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
        self.key_by_id(id).filter(|key| key.is(text, now))
    }

    /// A key by its id, whether or not anybody has shown its text.
    pub fn key_by_id(&self, id: &str) -> Option<Arc<Key>> {
        self.keys.read().unwrap_or_else(PoisonError::into_inner).get(id).cloned()
    }

    /// Whether any key exists.
    pub fn has_keys(&self) -> bool {
        !self.keys.read().unwrap_or_else(PoisonError::into_inner).is_empty()
    }

    /// Makes a key and keeps its hash.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn new_key(&self, kind: KeyKind, name: &str, actor: &str) -> Result<KeyText, Error> {
        let _one = self.writing.lock().await;
        let mut write = self.store.begin_write().await?;
        self.catch_up(&write).await?;
        let (key, text) = Key::new(kind, name, Timestamp::now(), None);
        write.add_key(&key, actor).await?;
        let position = write.commit().await?;
        self.state_mut().position = position;
        self.reload_keys().await?;
        Ok(text)
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
        check_only: bool,
    ) -> Result<Written, Problem> {
        let node = Arc::clone(self);
        let task = tokio::spawn(async move { node.change_now(changes, &by, check_only).await });
        task.await.unwrap_or_else(|error| {
            tracing::error!(%error, "a write was broken off");
            Err(Problem::internal("The write was broken off; the log says why."))
        })
    }

    async fn change_now(&self, changes: Vec<Change>, by: &By, check_only: bool) -> Result<Written, Problem> {
        let _one = self.writing.lock().await;
        let mut write = self.store.begin_write().await?;
        self.catch_up(&write).await?;
        let now = Timestamp::now();
        let changes: Vec<Change> = changes.into_iter().map(|change| begun(change, now)).collect();
        let lines = self.try_out(&changes, now)?;
        if lines.is_empty() || check_only {
            return Ok(Written { position: write.position(), lines });
        }
        let mut recorded = Recorded { kind: "register", lines: lines.clone() };
        recorded.lines.extend(by.note.as_ref().map(|note| json!({ "note": note })));
        write.record(&recorded, now, &by.actor).await?;
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
        state.position = position;
        let applied = match (parsed, &mut state.live) {
            (Ok(changes), Some(live)) => live.world.apply_recorded(&changes).is_ok(),
            _ => false,
        };
        state.doubtful |= !applied;
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
    fn try_out(&self, changes: &[Change], now: Timestamp) -> Result<Vec<Value>, Problem> {
        let mut state = self.state_mut();
        let Some(live) = &mut state.live else {
            return Err(Problem::unavailable(
                "No charter is live, so no fact can be checked. Put one live first.",
            ));
        };
        let applied = live.world.apply_at(changes, Some(now)).map_err(refused)?;
        let lines = effect_lines(&live.world, &applied);
        live.world.undo(applied);
        Ok(lines)
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

    /// Puts a charter live as the next revision.
    ///
    /// # Errors
    /// The charter's errors; or that the database is away.
    pub async fn put_live(
        &self,
        sources: Sources,
        title: &str,
        actor: &str,
    ) -> Result<(RevisionInfo, i64), Problem> {
        let policy = compile(&sources)?;
        let _one = self.writing.lock().await;
        let mut write = self.store.begin_write().await?;
        self.catch_up(&write).await?;
        let now = Timestamp::now();
        let number = write.add_revision(&sources, title, actor, now).await?;
        write.set_live(number).await?;
        let line = json!({ "rollout": number, "digest": policy.digest().to_string() });
        write.record(&Recorded { kind: "rollout", lines: vec![line] }, now, actor).await?;
        let position = self.commit(write).await?;
        tracing::info!(actor, position, revision = number, "a revision went live");
        let revision = RevisionInfo {
            number,
            digest: policy.digest(),
            title: title.to_owned(),
            author: actor.to_owned(),
            created_at: now,
        };
        let mut state = self.state_mut();
        let policy = Arc::new(policy);
        match &mut state.live {
            Some(live) => {
                live.world.set_policy(policy);
                live.revision = revision.clone();
            }
            none => {
                *none =
                    Some(Live { world: World::new(policy, Register::default()), revision: revision.clone() })
            }
        }
        state.position = position;
        Ok((revision, position))
    }

    // -- keeping in step with the database --------------------------------------------------------

    /// Brings memory to the position a write begins at.
    async fn catch_up(&self, write: &Write) -> Result<(), Error> {
        let behind = {
            let state = self.state();
            state.doubtful || state.position != write.position()
        };
        if behind { self.reload().await } else { Ok(()) }
    }

    /// Reads everything anew.
    ///
    /// # Errors
    /// If the database cannot be read; then memory is as before.
    pub async fn reload(&self) -> Result<(), Error> {
        let state = State::from_loaded(self.store.load().await?)?;
        *self.state_mut() = state;
        self.reload_keys().await
    }
}

impl State {
    fn from_loaded(loaded: Loaded) -> Result<State, Error> {
        let unreadable = |what: String| Error::Unreadable(what);
        let live = match loaded.revision {
            None => None,
            Some(revision) => {
                let reading = charter::read(&revision.sources);
                let policy = reading
                    .policy
                    .ok_or_else(|| unreadable(format!("revision {} has errors", revision.info.number)))?;
                let mut world = World::new(Arc::new(policy), Register::default());
                let mut changes = Vec::new();
                for name in &loaded.deleted {
                    changes.push(line::from_json(&json!({ "entity": name })).map_err(unreadable)?);
                }
                for name in loaded.deleted {
                    changes.push(Change::Delete { name, contents: false });
                }
                world.apply_recorded(&changes).map_err(|refusals| unreadable(words(&refusals)))?;
                let lines = loaded.entities.iter().chain(&loaded.tenant_roles).chain(&loaded.grants);
                let lines = lines.chain(&loaded.activations);
                let changes: Result<Vec<Change>, String> = lines.map(line::from_json).collect();
                world
                    .apply_recorded(&changes.map_err(unreadable)?)
                    .map_err(|refusals| unreadable(words(&refusals)))?;
                Some(Live { world, revision: revision.info })
            }
        };
        Ok(State { epoch: loaded.epoch, position: loaded.position, live, doubtful: false })
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
