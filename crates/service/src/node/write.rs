//! Writes. Each goes through the database first: it takes the lock on the counter row, is checked against
//! the state at that position, is recorded and committed, and only then becomes what is answered from.
//! Readers see the view before it or after it, and wait for neither. A write that was begun is finished,
//! even if its caller goes away.

use super::gate::touched;
use super::release::{For, Rolling, What};
use super::view::View;
use super::{Node, compile};
use crate::lanes::Ticket;
use crate::operators::Rights;
use crate::problem::{Problem, part};
use futures_util::future::BoxFuture;
use jiff::Timestamp;
use ostrog_core::prelude::{Change, Checks, InForce, Policy, Sight, Sources};
use ostrog_core::register::change::Refusal;
use ostrog_core::register::journal::{Accepted, Entry, Refused};
use ostrog_store::By;
use ostrog_store::revision::RevisionInfo;
use ostrog_store::workspace::Write;
use std::fmt;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

/// Who does something, and as whom they count.
#[derive(Clone, Debug)]
pub struct Who {
    /// The id of a key, or what else acts.
    pub actor: String,
    /// Everybody they count as.
    pub counts_as: Vec<String>,
}

impl Who {
    /// The program itself, or whoever started it.
    pub fn host(actor: &str) -> Who {
        Who { actor: actor.to_owned(), counts_as: Vec::new() }
    }

    /// As it is recorded.
    pub fn by(&self, at: Timestamp) -> By {
        By { actor: self.actor.clone(), counts_as: self.counts_as.clone(), at }
    }
}

/// Who writes, and why.
#[derive(Clone, Debug)]
pub struct Author {
    /// Who.
    pub who: Who,
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
        Author { who: Who::host(actor), note: None, rights: None, sight: Sight::Everything }
    }
}

/// What is recorded, while it is.
pub type Recording<'w, T> = BoxFuture<'w, Result<T, Problem>>;

/// Longest time that working out a write may take.
pub(super) const FOR_A_WRITE: Duration = Duration::from_secs(60);

/// What must be so for a write to be made.
pub type Condition = Box<dyn Fn(&InForce) -> Result<(), Problem> + Send + Sync>;

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

/// Somebody goes back: whoever waits to write lets that pass.
pub(super) struct Overtaking<'n>(&'n Node);

impl Drop for Overtaking<'_> {
    fn drop(&mut self) {
        self.0.going_back.send_modify(|waiting| *waiting -= 1);
    }
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
    /// What of it charters that are live ignore, in words.
    pub ignored: Vec<String>,
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
        let _one = self.turn().await;
        let mut write = self.begin_write().await?;
        self.catch_up(&write).await?;
        let view = self.view();
        if let Some(at) = conditions.at.filter(|at| *at != view.position) {
            let now = view.position;
            return Err(Problem::changed(format!("The register is at position {now}, not at {at}.")));
        }
        let live = view.live.as_ref().ok_or_else(nothing_live)?;
        if let Some(expected) = &conditions.expected {
            expected(&live.in_force)?;
        }
        let now = Timestamp::now();
        let changes: Vec<Change> = changes.into_iter().map(|change| begun(change, now)).collect();
        let (accepted, author) = self.try_out(&view, changes, author, now).await?;
        if let Some(besides) = &conditions.besides {
            besides(&live.in_force)?;
        }
        let ignored = accepted.ignored.iter();
        let ignored = ignored.map(|one| format!("{} ignores it: {}", live.called(one.policy), one.why));
        let ignored = ignored.collect();
        if accepted.entries.is_empty() || conditions.check_only {
            return Ok(Done { before: Arc::clone(&view), view, entries: accepted.entries, ignored });
        }
        let note = author.note.as_deref();
        let actor = author.who.actor.as_str();
        write.record_entries(&accepted.entries, note, actor, now).await?;
        let digest = write.digest();
        let position = self.commit(write).await?;
        let lines = accepted.entries.len();
        tracing::info!(actor, position, lines, "the register changed");
        let live = live.over(&accepted.register);
        self.publish(View { position, digest, live: Some(live), ..View::clone(&view) });
        Ok(Done { before: view, view: self.view(), entries: accepted.entries, ignored })
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
            let register = live.world().register();
            if let Some(rights) = &author.rights {
                touched::may_ask(rights, register, &author.sight, &changes)?;
            }
            let policies: Vec<&Policy> =
                live.in_force.worlds().iter().map(|world| &**world.policy()).collect();
            let owners = live.in_force.owners();
            let checks = Checks { policies: &policies, owners, now: Some(now), sight: &author.sight };
            let accepted = register.accept(&changes, checks).map_err(refused)?;
            if let Some(rights) = &author.rights {
                touched::may_touch(rights, register, &accepted)?;
            }
            Ok((accepted, author))
        };
        self.lanes.writes.run("writes", FOR_A_WRITE, work).await
    }

    /// The right to write here, once nobody who goes back waits for it.
    pub(super) async fn turn(&self) -> tokio::sync::MutexGuard<'_, ()> {
        let mut goes_back = self.going_back.subscribe();
        loop {
            let one = self.writing.lock().await;
            if *goes_back.borrow_and_update() == 0 {
                return one;
            }
            drop(one);
            let _ = goes_back.wait_for(|waiting| *waiting == 0).await;
        }
    }

    /// Lets its holder overtake whoever waits to write here.
    pub(super) fn overtake(&self) -> Overtaking<'_> {
        self.going_back.send_modify(|waiting| *waiting += 1);
        Overtaking(self)
    }

    /// Commits. If it is not known whether that happened, memory is read anew before the next write, and
    /// by whoever follows: the caller does not wait for a database that may be gone.
    pub(super) async fn commit(&self, write: Write) -> Result<i64, Problem> {
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
        let rolling = Rolling {
            what: What::Text { sources, title: title.to_owned() },
            r#for: For::All,
            accept_unfit: true,
            over: None,
            note: None,
        };
        self.roll_out(rolling, Author::host(actor)).await.map(|released| released.revision)
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
        let _one = self.turn().await;
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
pub(super) fn finished<T>(done: Result<Result<T, Problem>, tokio::task::JoinError>) -> Result<T, Problem> {
    done.unwrap_or_else(|error| {
        tracing::error!(%error, "a write was broken off");
        Err(Problem::internal("The write was broken off; the log says why."))
    })
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
