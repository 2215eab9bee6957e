//! What a node answers from, how a write becomes part of it, and who may reach which of it.
//!
//! - [`view`]: everything at one position, never changed. Each call has one for as long as it takes;
//!   nobody waits for a writer, and a writer for nobody;
//! - [`follow`]: keeping in step with the database: what other nodes wrote, in the order of positions;
//! - [`write`](mod@write): a write goes through the database first, and becomes the next view once it is committed;
//! - [`gate`]: who calls, and the only way to facts, texts, keys and the journal.
//!
//! Outside this module there is no way to a view or to the database but through a
//! [`Scope`](gate::Scope).

mod compiled;
pub mod follow;
pub mod gate;
pub mod names;
pub mod release;
pub mod review;
pub mod session;
pub mod view;
pub mod write;

use crate::issuers::{Network, config};
use crate::lanes::Lanes;
use crate::problem::Problem;
use arc_swap::{ArcSwap, ArcSwapOption};
use compiled::Compiled;
use jiff::Timestamp;
use lru::LruCache;
use names::Names;
use ostrog_core::charter;
use ostrog_core::prelude::{Change, Policy, Sources};
use ostrog_core::source::Severity;
use ostrog_store::issuer::Issuer;
use ostrog_store::key::{Key, KeyText, Making};
use ostrog_store::revision::RevisionInfo;
use ostrog_store::workspace::Loaded;
use ostrog_store::{By, Error, Store};
use ostrog_tokens::Issuers;
use ostrog_wire::rehearsals::RehearsalFile;
use std::collections::HashSet;
use std::num::NonZeroUsize;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::thread;
use std::time::{Duration, Instant};
use tokio::sync::watch;
use view::{Keys, Live, View};
use write::{Author, Conditions, Who};

/// How many revisions that were live lately are remembered.
const LATELY: NonZeroUsize = NonZeroUsize::MIN.saturating_add(7);

/// A revision with its charter.
type Known = (Arc<RevisionInfo>, Arc<Policy>);

/// One node.
#[derive(Debug)]
pub struct Node {
    store: Store,
    /// What it calls itself among others: new with every start.
    id: String,
    /// Where it listens, once it does.
    address: OnceLock<String>,
    view: ArcSwap<View>,
    /// Views that somebody may still read. They are let go of here and not by whoever read them last:
    /// taking one apart takes time that no answer should wait for.
    retired: Mutex<Vec<Arc<View>>>,
    /// One write at a time here; the database orders those of other nodes.
    writing: tokio::sync::Mutex<()>,
    /// How many wait to go back to what was live: they overtake those who wait to write.
    going_back: watch::Sender<usize>,
    started: Timestamp,
    /// Keys used since that was last noted.
    used: Mutex<HashSet<String>>,
    /// Revisions that were live lately, with their charters: texts never change.
    was_live: Mutex<LruCache<i64, Known>>,
    /// Who is signed in.
    sessions: session::Sessions,
    /// The position last reached, for those who wait for one.
    reached: watch::Sender<i64>,
    /// When memory was last known to be in step with the database.
    in_step: Mutex<Instant>,
    /// Whether the database did not answer when it was last looked at.
    away: watch::Sender<bool>,
    /// The database may hold a write that memory does not: look before the next one.
    doubtful: AtomicBool,
    /// What of the database cannot be read, if that is so.
    unreadable: Mutex<Option<String>>,
    /// Names in their order, as they were some time ago.
    names: ArcSwapOption<Names>,
    /// Whether they are being sorted.
    sorting: AtomicBool,
    max_stale: Duration,
    /// Issuers of tokens, with their keys.
    pub(crate) issuers: Issuers,
    stop: watch::Sender<bool>,
    /// Texts that were asked under lately.
    compiled: Compiled,
    /// Where work is done that takes longer than a decision.
    pub(crate) lanes: Lanes,
}

/// How a node stands, in numbers.
#[derive(Clone, Debug)]
pub struct State {
    /// Its position.
    pub position: i64,
    /// For how long it has not been known to be in step with the database.
    pub stale: Duration,
    /// Whether the database did not answer when it was last looked at.
    pub away: bool,
    /// By application, the revision, and whether that was urgent and nobody has approved it.
    pub live: Vec<(String, i64, bool)>,
    /// Entities and grants.
    pub facts: u64,
    /// What they take in memory.
    pub bytes: u64,
    /// Connections to the database, and those that are idle.
    pub connections: u32,
    /// Those of them that nobody uses.
    pub idle: u64,
    /// Sessions that are known here.
    pub sessions: u64,
    /// How issuers stand here.
    pub issuers: Vec<IssuerState>,
}

/// How an issuer stands, in numbers.
#[derive(Clone, Debug)]
pub struct IssuerState {
    /// Its key.
    pub key: String,
    /// How old its keys are, in seconds; none: there are none.
    pub age: Option<u64>,
    /// How many tokens were refused, by why.
    pub refused: Vec<(String, u64)>,
}

impl Node {
    /// Loads everything and is ready to answer; out of step with the database for longer than
    /// `max_stale`, it answers no more.
    ///
    /// # Errors
    /// If the database cannot be read.
    pub async fn open(store: Store, max_stale: Duration) -> Result<Node, Error> {
        let view = view_of(store.load().await?, 0)?;
        let issuers = Issuers::new(Arc::new(Network));
        issuers.set(view.issuers.iter().map(config).collect(), Timestamp::now());
        let node = Node {
            issuers,
            id: format!("n-{:x}", Timestamp::now().as_microsecond()),
            address: OnceLock::new(),
            reached: watch::Sender::new(view.position),
            store,
            view: ArcSwap::from_pointee(view),
            retired: Mutex::default(),
            writing: tokio::sync::Mutex::default(),
            going_back: watch::Sender::new(0),
            started: Timestamp::now(),
            used: Mutex::default(),
            was_live: Mutex::new(LruCache::new(LATELY)),
            sessions: session::Sessions::default(),
            in_step: Mutex::new(Instant::now()),
            away: watch::Sender::new(false),
            doubtful: AtomicBool::new(false),
            unreadable: Mutex::default(),
            names: ArcSwapOption::empty(),
            sorting: AtomicBool::new(false),
            max_stale,
            stop: watch::Sender::new(false),
            compiled: Compiled::default(),
            lanes: Lanes::start(),
        };
        let shadows = Arc::new(node.running(&[]).await?);
        node.publish(View { shadows, ..View::clone(&node.view()) });
        Ok(node)
    }

    /// What is answered from now.
    fn view(&self) -> Arc<View> {
        self.view.load_full()
    }

    /// Answers from another view from now on.
    fn publish(&self, view: View) {
        let position = view.position;
        let issuers = Arc::clone(&view.issuers);
        let before = self.view.swap(Arc::new(view));
        if !Arc::ptr_eq(&before.issuers, &issuers) {
            self.issuers.set(issuers.iter().map(config).collect(), Timestamp::now());
        }
        self.retired().push(before);
        self.reached.send_replace(position);
        self.let_go();
    }

    /// Lets go of views that nobody reads any more, beside the threads that answer.
    fn let_go(&self) {
        let left: Vec<_> = self.retired().extract_if(.., |view| Arc::strong_count(view) == 1).collect();
        if !left.is_empty() {
            tokio::task::spawn_blocking(move || drop(left));
        }
    }

    fn retired(&self) -> std::sync::MutexGuard<'_, Vec<Arc<View>>> {
        self.retired.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Names in their order, if there is one for a view; where there is none, or much has come since, one is
    /// made beside the threads that answer.
    fn names(self: &Arc<Self>, view: &Arc<View>) -> Option<Arc<Names>> {
        let register = view.live.as_ref()?.world().register();
        let names = self.names.load_full().filter(|names| names.is_of(view.reading, register));
        if names.as_ref().is_none_or(|names| names.is_old(register))
            && !self.sorting.swap(true, Ordering::Relaxed)
        {
            let (node, view) = (Arc::clone(self), Arc::clone(view));
            // A thread of its own: whoever asks is on one that answers, where no runtime is at hand.
            let begun = thread::Builder::new().name("names".into()).spawn(move || {
                if let Some(live) = &view.live {
                    node.names.store(Some(Arc::new(Names::sort(view.reading, live.world().register()))));
                }
                node.sorting.store(false, Ordering::Relaxed);
            });
            if begun.is_err() {
                self.sorting.store(false, Ordering::Relaxed);
            }
        }
        names
    }

    /// Tells others where this node listens.
    pub fn listens_at(&self, address: &str) {
        let _ = self.address.set(address.to_owned());
    }

    /// Ends whatever goes on for as long as the service does.
    pub fn stop(&self) {
        self.stop.send_replace(true);
    }

    /// Resolves when the service stops.
    pub async fn stopping(&self) {
        let _ = self.stop.subscribe().wait_for(|stop| *stop).await;
    }

    /// Waits for calls to the database that are under way, and closes all connections.
    pub async fn close(&self) {
        if let Err(error) = self.store.node_ends(&self.id).await {
            tracing::debug!(%error, "that this node ends could not be told");
        }
        self.store.close().await;
    }

    // -- what whoever started the program may do ------------------------------------------------

    /// Whether any key exists.
    pub fn has_keys(&self) -> bool {
        !self.view().keys.is_empty()
    }

    /// The number and position of what is live.
    pub fn live_revision(&self) -> Option<(i64, i64)> {
        let view = self.view();
        view.live.as_ref().map(|live| (live.revision().number, view.position))
    }

    /// Makes a key in the name of whoever started the program.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn new_key_of_host(self: &Arc<Self>, making: Making, actor: &str) -> Result<KeyText, Problem> {
        self.new_key(making, Who::host(actor)).await.map(|(text, _)| text)
    }

    /// Loads facts in the name of whoever started the program.
    ///
    /// # Errors
    /// What is wrong with them.
    pub async fn load_of_host(self: &Arc<Self>, changes: Vec<Change>, actor: &str) -> Result<i64, Problem> {
        let done = self.change(changes, Author::host(actor), Conditions::default()).await?;
        Ok(done.view.position)
    }

    /// Saves a rehearsal's files in the name of whoever started the program.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn save_rehearsal_of_host(
        self: &Arc<Self>,
        files: Vec<RehearsalFile>,
        actor: &str,
    ) -> Result<(), Problem> {
        let actor = actor.to_owned();
        let files = serde_json::json!(files);
        self.record(move |write, now| {
            Box::pin(async move {
                write.save_rehearsal(&files, &By::host(&actor, now)).await?;
                Ok(())
            })
        })
        .await
    }

    /// Puts settings in the name of whoever started the program.
    ///
    /// # Errors
    /// Their errors, or that the database refuses.
    pub async fn put_settings_of_host(self: &Arc<Self>, text: &str, actor: &str) -> Result<(), Problem> {
        let settings = review::settings_of(text)?;
        let (text, actor) = (text.to_owned(), actor.to_owned());
        self.record(move |write, now| {
            Box::pin(async move {
                write.put_settings(&text, true, None, &By::host(&actor, now)).await?;
                Node::sign_out_who_lost_all(write, &settings, now).await
            })
        })
        .await
    }

    /// Sets an issuer of tokens up in the name of whoever started the program, in the place of one of that key.
    ///
    /// # Errors
    /// If the database refuses, or another issuer has its address.
    pub async fn set_issuer_of_host(self: &Arc<Self>, issuer: Issuer) -> Result<(), Problem> {
        let is_same = |known: &Issuer| {
            known.iss == issuer.iss && known.audiences == issuer.audiences && known.client == issuer.client
        };
        if self.view().issuers.iter().any(|known| known.key == issuer.key && is_same(known)) {
            return Ok(());
        }
        self.record(move |write, now| {
            Box::pin(async move {
                write.end_issuer(&issuer.key, &issuer.author, now).await?;
                match write.add_issuer(&issuer).await? {
                    true => Ok(()),
                    false => Err(Problem::conflict("Another issuer has this address already.")),
                }
            })
        })
        .await
    }

    async fn new_key(self: &Arc<Self>, making: Making, who: Who) -> Result<(KeyText, Key), Problem> {
        self.record(move |write, now| {
            Box::pin(async move {
                let by = who.by(now);
                let (key, text) = Key::new(making, &by);
                write.add_key(&key, &by.actor).await?;
                Ok((text, key))
            })
        })
        .await
    }

    // -- how it stands -------------------------------------------------------------------------

    /// Since when this node runs.
    pub fn started(&self) -> Timestamp {
        self.started
    }

    /// How it stands, in numbers.
    pub fn state(&self) -> State {
        let view = self.view();
        let now = Timestamp::now();
        let register = view.live.as_ref().map(|live| live.world().register());
        let large = |number: usize| u64::try_from(number).unwrap_or(u64::MAX);
        let (connections, idle) = self.store.connections();
        let live = view.live.iter().flat_map(|live| {
            let unapproved =
                |number: i64| live.known(number).is_some_and(|(info, _)| !info.standing.approved);
            live.placed
                .of
                .iter()
                .map(move |(application, number)| (application.clone(), *number, unapproved(*number)))
        });
        let issuers = self.issuers.all().into_iter().map(|issuer| {
            let age = issuer.standing().came.map(|came| now.duration_since(came).as_secs());
            let age = age.map(|seconds| u64::try_from(seconds).unwrap_or(0));
            IssuerState { key: issuer.config.key.clone(), age, refused: issuer.refusals() }
        });
        State {
            position: view.position,
            stale: self.age(),
            away: *self.away.borrow(),
            live: live.collect(),
            facts: register.map_or(0, |register| large(register.entity_count() + register.grant_count())),
            bytes: register.map_or(0, |register| large(register.size_bytes())),
            connections,
            idle: large(idle),
            sessions: large(self.sessions.count()),
            issuers: issuers.collect(),
        }
    }

    /// Why this node is not ready to be asked, if it is not.
    pub fn not_ready(&self) -> Option<String> {
        if let Some(unreadable) = &*self.unreadable.lock().unwrap_or_else(PoisonError::into_inner) {
            return Some(format!("the database holds what cannot be read: {unreadable}"));
        }
        if let Err(stale) = self.fresh() {
            return Some(stale.detail().to_owned());
        }
        self.view().live.is_none().then(|| "no charter is live".to_owned())
    }

    /// Notes that a key was used: to the minute or so, since nothing depends on it.
    fn note_use(&self, id: &str) {
        let mut used = self.used.lock().unwrap_or_else(PoisonError::into_inner);
        if !used.contains(id) {
            used.insert(id.to_owned());
        }
    }

    fn is_doubtful(&self) -> bool {
        self.doubtful.load(Ordering::Relaxed)
    }
}

/// What a node answers from, of what was read.
fn view_of(loaded: Loaded, reading: u64) -> Result<View, Error> {
    let mut all = Vec::new();
    for revision in loaded.revisions {
        let reading = charter::read(&revision.sources);
        let broken = || Error::Unreadable(format!("revision {} has errors", revision.info.number));
        let policy = Arc::new(reading.policy.ok_or_else(broken)?);
        all.push((Arc::new(revision.info), policy));
    }
    let live = (!all.is_empty()).then(|| Live::new(loaded.live, all, &loaded.register));
    Ok(View {
        epoch: loaded.epoch.into(),
        position: loaded.position,
        digest: loaded.digest,
        reading,
        live,
        keys: Arc::new(Keys::new(loaded.keys)),
        issuers: Arc::new(loaded.issuers),
        settings: Arc::new(release::in_use(loaded.settings)?),
        shadows: Arc::default(),
    })
}

/// Reads a charter, or says what is wrong with it.
///
/// # Errors
/// One part for every error.
pub fn compile(sources: &Sources) -> Result<Policy, Problem> {
    let reading = charter::read(sources);
    let errors = reading.findings.iter().filter(|finding| finding.severity == Severity::Error);
    let parts: Vec<_> = errors
        .map(|finding| crate::problem::part(sources.place(finding.span).to_string(), &finding.message))
        .collect();
    reading
        .policy
        .ok_or_else(|| Problem::invalid(format!("The charter has {} errors.", parts.len())).with(parts))
}
