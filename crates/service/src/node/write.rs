//! Writes. Each goes through the database first: it takes the lock on the counter row, is checked against
//! the state at that position, is recorded and committed, and only then becomes what is answered from.
//! Readers see the view before it or after it, and wait for neither. A write that was begun is finished,
//! even if its caller goes away.

use super::gate::touched;
use super::view::{Live, View};
use super::{Node, compile};
use crate::lanes::Ticket;
use crate::operators::Rights;
use crate::problem::{Problem, part};
use futures_util::future::BoxFuture;
use jiff::Timestamp;
use ostrog_core::prelude::{Change, Checks, Policy, Register, Sight, Sources, World};
use ostrog_core::register::change::Refusal;
use ostrog_core::register::journal::{Accepted, Entry, Refused};
use ostrog_store::draft::Draft;
use ostrog_store::revision::RevisionInfo;
use ostrog_store::workspace::Write;
use std::fmt;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

/// Who writes, and why.
#[derive(Clone, Debug)]
pub struct Author {
    /// The id of a key, or what else acts.
    pub actor: String,
    /// The reason, kept with the change.
    pub note: Option<String>,
    /// What they may write; none: anything.
    pub rights: Option<Rights>,
    /// Whose facts they may name.
    pub sight: Sight,
}

impl Author {
    /// The program itself, or whoever started it: may write anything, for no reason.
    pub fn host(actor: &str) -> Author {
        Author { actor: actor.to_owned(), note: None, rights: None, sight: Sight::Everything }
    }
}

/// What is recorded, while it is.
pub type Recording<'w, T> = BoxFuture<'w, Result<T, Problem>>;

/// Longest time that working out a write may take.
const FOR_A_WRITE: Duration = Duration::from_secs(60);

/// What must be so for a write to be made.
pub type Condition = Box<dyn Fn(&World) -> Result<(), Problem> + Send + Sync>;

/// Under which conditions a write is made, and whether it is at all.
#[derive(Default)]
pub struct Conditions {
    /// Only says what would be refused and what would change.
    pub check_only: bool,
    /// Only if nothing was written since this position.
    pub at: Option<i64>,
    /// Only if this holds.
    pub expected: Option<Condition>,
    /// Only if this holds too, asked once the write is found to be valid and theirs to make: what it
    /// says is for nobody else.
    pub besides: Option<Condition>,
}

impl fmt::Debug for Conditions {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Conditions").field("check_only", &self.check_only).finish_non_exhaustive()
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
pub struct Done {
    /// What was answered from without it.
    pub before: Arc<View>,
    /// What is answered from with it; the present view if nothing changed.
    pub view: Arc<View>,
    /// What changed.
    pub entries: Vec<Entry>,
}

impl Node {
    /// Changes the register, all of a batch or nothing.
    pub(super) async fn change(
        self: &Arc<Self>,
        changes: Vec<Change>,
        author: Author,
        conditions: Conditions,
    ) -> Result<Done, Problem> {
        let node = Arc::clone(self);
        let task = tokio::spawn(async move { node.change_now(changes, author, &conditions).await });
        finished(task.await)
    }

    async fn change_now(
        &self,
        changes: Vec<Change>,
        author: Author,
        conditions: &Conditions,
    ) -> Result<Done, Problem> {
        let _one = self.writing.lock().await;
        let mut write = self.begin_write().await?;
        self.catch_up(&write).await?;
        let view = self.view();
        if let Some(at) = conditions.at.filter(|at| *at != view.position) {
            let now = view.position;
            return Err(Problem::changed(format!("The register is at position {now}, not at {at}.")));
        }
        let live = view.live.as_ref().ok_or_else(nothing_live)?;
        if let Some(expected) = &conditions.expected {
            expected(&live.world)?;
        }
        let now = Timestamp::now();
        let changes: Vec<Change> = changes.into_iter().map(|change| begun(change, now)).collect();
        let (accepted, author) = self.try_out(&view, changes, author, now).await?;
        if let Some(besides) = &conditions.besides {
            besides(&live.world)?;
        }
        if accepted.entries.is_empty() || conditions.check_only {
            return Ok(Done { before: Arc::clone(&view), view, entries: accepted.entries });
        }
        let note = author.note.as_deref();
        write.record_entries(&accepted.entries, note, &author.actor, now).await?;
        let digest = write.digest();
        let position = self.commit(write).await?;
        let lines = accepted.entries.len();
        tracing::info!(actor = author.actor, position, lines, "the register changed");
        let world = live.world.over(accepted.register);
        let live = Live { world, revision: Arc::clone(&live.revision) };
        self.publish(View { position, digest, live: Some(live), ..View::clone(&view) });
        Ok(Done { before: view, view: self.view(), entries: accepted.entries })
    }

    /// What changes come to, if they are valid and their author's to make. Worked out beside the threads
    /// that answer, on a lane of its own: a write that waited for others' questions would hold the database.
    async fn try_out(
        &self,
        view: &Arc<View>,
        changes: Vec<Change>,
        author: Author,
        now: Timestamp,
    ) -> Result<(Accepted, Author), Problem> {
        let view = Arc::clone(view);
        let work = move |_: &Ticket| {
            let live = view.live.as_ref().ok_or_else(nothing_live)?;
            let register = live.world.register();
            if let Some(rights) = &author.rights {
                touched::may_ask(rights, register, &author.sight, &changes)?;
            }
            let policies: [&Policy; 1] = [live.world.policy()];
            let checks = Checks { policies: &policies, now: Some(now), sight: &author.sight };
            let accepted = register.accept(&changes, checks).map_err(refused)?;
            if let Some(rights) = &author.rights {
                touched::may_touch(rights, register, &accepted)?;
            }
            Ok((accepted, author))
        };
        self.lanes.writes.run("writes", FOR_A_WRITE, work).await
    }

    /// Commits. If it is not known whether that happened, memory is read anew before the next write, and
    /// by whoever follows: the caller does not wait for a database that may be gone.
    async fn commit(&self, write: Write) -> Result<i64, Problem> {
        match write.commit().await {
            Ok(position) => Ok(position),
            Err(error) => {
                self.doubtful.store(true, Ordering::Relaxed);
                tracing::warn!(%error, "whether the last write was kept is known once the database answers");
                Err(error.into())
            }
        }
    }

    /// Puts a charter live as the next revision, in the name of whoever started the program.
    ///
    /// # Errors
    /// The charter's errors; or that the database is away.
    pub async fn put_live(
        self: &Arc<Self>,
        sources: Sources,
        title: &str,
        actor: &str,
    ) -> Result<RevisionInfo, Problem> {
        let rollout = Rollout::Text { sources, title: title.to_owned() };
        self.roll_out(rollout, Author::host(actor)).await
    }

    /// Puts something live.
    pub(super) async fn roll_out(
        self: &Arc<Self>,
        what: Rollout,
        author: Author,
    ) -> Result<RevisionInfo, Problem> {
        let node = Arc::clone(self);
        let task = tokio::spawn(async move { node.roll_out_now(what, &author).await });
        finished(task.await)
    }

    async fn roll_out_now(&self, what: Rollout, author: &Author) -> Result<RevisionInfo, Problem> {
        let _one = self.writing.lock().await;
        let mut write = self.begin_write().await?;
        self.catch_up(&write).await?;
        let now = Timestamp::now();
        let (before_it, before_that) = write.live_and_before().await?;
        let actor = author.actor.as_str();
        let (policy, revision) = match what {
            Rollout::Text { sources, title } => {
                let policy = self.compiled(sources.clone()).await?;
                let number = write.add_revision(&sources, &title, actor, now).await?;
                let digest = policy.digest();
                let author = actor.to_owned();
                (policy, RevisionInfo { number, digest, title, author, created_at: now })
            }
            Rollout::Draft(draft) => self.draft_as_revision(&mut write, draft, before_it, actor, now).await?,
            Rollout::Back(number) => {
                let number = number.or(before_that).ok_or_else(|| {
                    Problem::conflict("Nothing was live before, so there is nothing to go back to.")
                })?;
                if Some(number) == before_it {
                    return Err(Problem::conflict(format!("Revision {number} is live already.")));
                }
                let revision = self.store.revision(number).await?;
                let missing = || Problem::not_found(format!("There is no revision {number}."));
                let revision = revision.ok_or_else(missing)?;
                (self.compiled(revision.sources).await?, revision.info)
            }
        };
        write.set_live(revision.number).await?;
        let digest = policy.digest().to_string();
        let note = author.note.as_deref();
        write.record_rollout(revision.number, &digest, before_it, note, (actor, now)).await?;
        let chain = write.digest();
        let position = self.commit(write).await?;
        tracing::info!(actor, position, revision = revision.number, "a revision went live");
        let next = in_force(&self.view(), Arc::new(policy), revision.clone());
        self.publish(View { position, digest: chain, ..next });
        Ok(revision)
    }

    async fn draft_as_revision(
        &self,
        write: &mut Write,
        draft: Draft,
        live: Option<i64>,
        actor: &str,
        now: Timestamp,
    ) -> Result<(Policy, RevisionInfo), Problem> {
        let gone = || Problem::conflict("The draft has ended, or was saved anew meanwhile.");
        let number = draft.info.number;
        let kept = self.store.draft(number).await?.filter(|kept| kept.info.digest == draft.info.digest);
        let kept = kept.ok_or_else(gone)?;
        if kept.info.base != live {
            let called = |revision: Option<i64>| {
                revision.map_or_else(|| "nothing".to_owned(), |number| format!("revision {number}"))
            };
            return Err(Problem::conflict(format!(
                "D-{number} began from {}, and {} is live: bring that into it and save it onto what is live.",
                called(kept.info.base),
                called(live)
            )));
        }
        let policy = self.compiled(kept.sources.clone()).await?;
        let revision = write.add_revision(&kept.sources, &kept.info.title, actor, now).await?;
        if !write.end_draft(number, Some(revision), actor, now).await? {
            return Err(gone());
        }
        let info = RevisionInfo {
            number: revision,
            digest: policy.digest(),
            title: kept.info.title,
            author: actor.to_owned(),
            created_at: now,
        };
        Ok((policy, info))
    }

    /// Reads a charter beside the threads that answer.
    pub(super) async fn compiled(&self, sources: Sources) -> Result<Policy, Problem> {
        self.lanes.writes.run("writes", FOR_A_WRITE, move |_| compile(&sources)).await
    }

    /// Records something under the next position that is not about the register: a draft, a key, a case.
    /// What it depends on is looked at in the same work: nobody else writes meanwhile.
    pub(super) async fn record<T: Send + 'static>(
        self: &Arc<Self>,
        work: impl for<'w> FnOnce(&'w mut Write, Timestamp) -> Recording<'w, T> + Send + 'static,
    ) -> Result<T, Problem> {
        let node = Arc::clone(self);
        finished(tokio::spawn(async move { node.record_now(work).await }).await)
    }

    async fn record_now<T>(
        &self,
        work: impl for<'w> FnOnce(&'w mut Write, Timestamp) -> Recording<'w, T> + Send,
    ) -> Result<T, Problem> {
        let _one = self.writing.lock().await;
        let mut write = self.begin_write().await?;
        self.catch_up(&write).await?;
        let before = write.position();
        let done = work(&mut write, Timestamp::now()).await?;
        if write.position() != before {
            self.commit(write).await?;
            // Read as any other node reads it, keys among it, before the position is told.
            self.follow_on().await?;
        }
        Ok(done)
    }
}

/// The outcome of a task that cannot be taken back by whoever waits for it.
fn finished<T>(done: Result<Result<T, Problem>, tokio::task::JoinError>) -> Result<T, Problem> {
    done.unwrap_or_else(|error| {
        tracing::error!(%error, "a write was broken off");
        Err(Problem::internal("The write was broken off; the log says why."))
    })
}

/// A view with another charter in force.
pub(super) fn in_force(view: &View, policy: Arc<Policy>, revision: RevisionInfo) -> View {
    let register = view.live.as_ref().map_or_else(Register::default, |live| live.world.register().clone());
    let world = World::new(policy, register);
    View { live: Some(Live { world, revision: Arc::new(revision) }), ..View::clone(view) }
}

pub(super) fn nothing_live() -> Problem {
    Problem::unavailable(
        "No charter is live, so no fact can be checked and nothing asked. Put one live first.",
    )
}

fn refused(why: Refused) -> Problem {
    match why {
        Refused::Invalid(refusals) => invalid(&refusals),
        Refused::Mistaken(mistake) => {
            tracing::error!(%mistake, "a batch was refused by a mistake of this program; nothing was recorded");
            Problem::internal(
                "Nothing was changed: what would be recorded is not what was meant. Please report it.",
            )
        }
    }
}

fn invalid(refusals: &[Refusal]) -> Problem {
    let parts: Vec<_> = refusals
        .iter()
        .take(100)
        .map(|refusal| {
            let mut part = part((refusal.change + 1).to_string(), &refusal.why);
            part.code = Some(refusal.why.code().to_owned());
            part.meant = refusal.why.near().map(str::to_owned);
            part
        })
        .collect();
    let first = parts.first().map_or_else(String::new, |part| part.detail.clone());
    let end = if first.ends_with('?') { "" } else { "." };
    Problem::invalid(format!("Nothing was changed: {first}{end}")).with(parts)
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
