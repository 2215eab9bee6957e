//! Keeping in step with the database: what other nodes wrote, in the order of positions, none skipped.

use super::release::in_use;
use super::view::{Keys, View};
use super::{Node, view_of};
use crate::lanes::Ticket;
use crate::problem::Problem;
use jiff::Timestamp;
use ostrog_core::register::journal::from_bytes;
use ostrog_store::Error;
use ostrog_store::follow::Head;
use ostrog_store::journal::{Chain, Kind, Row};
use ostrog_store::nodes::NodeSeen;
use ostrog_store::workspace::Write;
use std::sync::atomic::Ordering;
use std::sync::{Arc, PoisonError, Weak};
use std::time::{Duration, Instant};

/// How long an answer waits for a position that is not reached yet.
const PATIENCE: Duration = Duration::from_millis(1_500);
/// How often a node looks without a ring: rings can be lost, and silence is no proof of life.
const HEARTBEAT: Duration = Duration::from_secs(1);
/// How long it waits before it tries to reach the database again.
const AGAIN: Duration = Duration::from_millis(200);
/// How long asking how far the database is may take. Reading what is there takes as long as it takes.
const LOOK: Duration = Duration::from_secs(5);
/// How often it is noted which keys were used.
const NOTING: Duration = Duration::from_secs(30);
/// How often it tells how far it answers, where that does not move.
const TELLING: Duration = Duration::from_secs(5);
/// How often it is looked whether the keys of an issuer are to be had anew.
const FRESHENING: Duration = Duration::from_secs(2);
/// How many rows, and bytes of them, are read at a time. Further behind than many of these, everything is
/// read anew.
const CHUNK: i64 = 500;
const CHUNK_BYTES: i64 = 8 << 20;
const MANY: i64 = 100 * CHUNK;
/// Longest time that working out one row may take.
const FOR_A_ROW: Duration = Duration::from_secs(60);

impl Node {
    /// Follows the database for ever.
    pub async fn follow(self: Arc<Self>) {
        tokio::spawn(keep_keys_fresh(Arc::downgrade(&self)));
        tokio::spawn(keep_beside(Arc::downgrade(&self)));
        loop {
            if let Ok(mut bell) = self.store.listen().await
                && self.is_home().await
            {
                while self.keep_step().await {
                    if self.away.send_replace(false) {
                        tracing::info!("the database is back; in step with it again");
                    }
                    self.let_go();
                    match tokio::time::timeout(HEARTBEAT, bell.rung()).await {
                        Ok(Ok(())) | Err(_) => {}
                        Ok(Err(_)) => break,
                    }
                }
            }
            if !self.away.send_replace(true) {
                tracing::warn!("the database cannot be followed; answering from memory");
            }
            tokio::time::sleep(AGAIN).await;
        }
    }

    /// Tells others how far this node answers. It is no write: nothing depends on it.
    async fn tell_where(&self) {
        let view = self.view();
        let node = NodeSeen {
            id: self.id.clone(),
            address: self.address.get().cloned().unwrap_or_default(),
            started_at: self.started,
            position: view.position,
            epoch: view.epoch.to_string(),
            digest: Some(view.digest),
            seen_at: Timestamp::now(),
            max_stale: i64::try_from(self.max_stale.as_secs()).unwrap_or(i64::MAX),
        };
        if let Err(error) = self.store.node_is(&node).await {
            tracing::debug!(%error, "how far this node answers could not be told");
        }
    }

    /// A connection that was lost may lead to another server now.
    async fn is_home(&self) -> bool {
        match tokio::time::timeout(LOOK, self.store.come_home()).await {
            Ok(Ok(())) => true,
            Ok(Err(error)) => {
                tracing::debug!(%error, "could not ask which server it is");
                false
            }
            Err(_) => false,
        }
    }

    /// Notes when keys were last used. It is no write: nothing depends on it.
    async fn keep_uses(&self) {
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

    /// One look, and whatever there is to read then; false if the database did not answer.
    async fn keep_step(&self) -> bool {
        // From before the look: what is written while it is looked is not yet known.
        let began = Instant::now();
        let known = self.view().position;
        let looked = match tokio::time::timeout(LOOK, self.store.head(known)).await {
            Ok(looked) => looked,
            Err(_) => return false,
        };
        let kept = match looked {
            Ok(head) if self.is_at(&head.epoch, head.position, head.digest) => Ok(()),
            Ok(head) => {
                let _one = self.writing.lock().await;
                // Whoever wrote here meanwhile is further than what was looked at.
                if self.view().position == known { self.follow_from(head).await } else { Ok(()) }
            }
            Err(error) => Err(error),
        };
        match kept {
            Ok(()) => {
                *self.in_step.lock().unwrap_or_else(PoisonError::into_inner) = began;
                *self.unreadable.lock().unwrap_or_else(PoisonError::into_inner) = None;
                true
            }
            Err(Error::Unreadable(what)) => {
                self.cannot_read(what);
                tokio::time::sleep(HEARTBEAT).await;
                true
            }
            Err(error) => {
                tracing::debug!(%error, "could not look");
                false
            }
        }
    }

    /// Notes what of the database cannot be read, and says so once.
    fn cannot_read(&self, what: String) {
        let mut unreadable = self.unreadable.lock().unwrap_or_else(PoisonError::into_inner);
        if unreadable.as_ref() != Some(&what) {
            tracing::error!(what, "the database holds what cannot be read; answering from memory");
        }
        *unreadable = Some(what);
    }

    fn is_at(&self, epoch: &str, position: i64, digest: Chain) -> bool {
        let view = self.view();
        !self.is_doubtful() && *view.epoch == *epoch && view.position == position && view.digest == digest
    }

    /// Brings memory to the position a write begins at.
    pub(super) async fn catch_up(&self, write: &Write) -> Result<(), Error> {
        if self.is_at(write.epoch(), write.position(), write.digest()) {
            return Ok(());
        }
        self.follow_on().await
    }

    /// Brings memory to where the database is, row by row where that is possible. One at a time: whoever
    /// calls it holds the node's right to write.
    pub(super) async fn follow_on(&self) -> Result<(), Error> {
        let head = self.store.head(self.view().position).await?;
        self.follow_from(head).await
    }

    /// The same from what was looked up of the database at the position that is known.
    async fn follow_from(&self, head: Head) -> Result<(), Error> {
        let view = self.view();
        if *view.epoch == *head.epoch && is_another_history(&view, &head) {
            // Restored from before, or from elsewhere: positions that were given out since mean nothing
            // any more.
            tracing::warn!(
                known = view.position,
                "the database tells another history; beginning another epoch"
            );
            self.store.begin_epoch(&head.epoch, "a node knew another history").await?;
            return self.reload().await;
        }
        if self.is_doubtful() || *view.epoch != *head.epoch || head.position - view.position > MANY {
            return self.reload().await;
        }
        while self.view().position < head.position {
            let rows = self.store.rows_after(self.view().position, CHUNK, CHUNK_BYTES).await?;
            if rows.is_empty() {
                return self.reload().await;
            }
            match self.with(&self.view(), &rows).await? {
                Some(next) => self.publish(next),
                None => return self.reload().await,
            }
        }
        Ok(())
    }

    /// A view with some more rows; none if one of them does not follow. Keys are read with it, so that no
    /// position is told without them.
    async fn with(&self, view: &View, rows: &[Row]) -> Result<Option<View>, Error> {
        let mut next = View::clone(view);
        let (mut keys, mut issuers, mut settings, mut shadows) = (false, false, false, false);
        for row in rows {
            if row.position != next.position + 1 || *row.epoch != *next.epoch {
                return Ok(None);
            }
            match row.kind {
                Kind::Register => match self.folded(next.clone(), row).await? {
                    Some(folded) => next = folded,
                    None => return Ok(None),
                },
                Kind::Rollout => {
                    let Some(placed) = row.live() else { return Ok(None) };
                    match self.placed(next.live.as_ref(), placed).await {
                        Ok(live) => next.live = Some(live),
                        Err(_) => return Ok(None),
                    }
                }
                Kind::Key => keys = true,
                Kind::Issuer => issuers = true,
                Kind::Settings => settings = true,
                Kind::Shadow => shadows = true,
                Kind::Draft | Kind::Review | Kind::Case | Kind::Rehearsal => {}
                Kind::Epoch | Kind::Upgrade => return Ok(None),
            }
            (next.position, next.digest) = (row.position, row.digest);
        }
        if keys {
            next.keys = Arc::new(Keys::new(self.store.keys().await?));
        }
        if issuers {
            next.issuers = Arc::new(self.store.issuers().await?);
        }
        if shadows {
            next.shadows = Arc::new(self.running(&view.shadows).await?);
        }
        if settings {
            next.settings = Arc::new(in_use(self.store.settings().await?)?);
        }
        Ok(Some(next))
    }

    /// A view with a row of the register, worked out beside the threads that answer; none if nothing is
    /// live that it could follow on.
    async fn folded(&self, mut view: View, row: &Row) -> Result<Option<View>, Error> {
        let Some(mut live) = view.live.take() else { return Ok(None) };
        let (position, content) = (row.position, row.content.clone());
        let work = move |_: &Ticket| {
            let fold = || {
                let unreadable =
                    |why: &dyn std::fmt::Display| Error::Unreadable(format!("position {position}: {why}"));
                let entries = from_bytes(&content).map_err(|why| unreadable(&why))?;
                let mut register = live.world().register().clone();
                register.fold(&entries).map_err(|why| unreadable(&why))?;
                live = live.over(&register);
                Ok(View { live: Some(live), ..view })
            };
            Ok(fold())
        };
        let folded = self.lanes.writes.run("follow", FOR_A_ROW, work).await;
        match folded {
            Ok(folded) => folded.map(Some),
            // It panicked: everything is read anew.
            Err(_) => Ok(None),
        }
    }

    /// Reads everything anew; until that is done, what was there is answered from.
    pub(super) async fn reload(&self) -> Result<(), Error> {
        let began = Instant::now();
        // Restored from elsewhere, another text may have a number that is known: nothing of before is gone back to.
        self.was_live.lock().unwrap_or_else(PoisonError::into_inner).clear();
        let mut view = view_of(self.store.load().await?, self.view().reading + 1)?;
        view.shadows = Arc::new(self.running(&self.view().shadows).await?);
        self.doubtful.store(false, Ordering::Relaxed);
        tracing::info!(
            position = view.position,
            seconds = began.elapsed().as_secs_f32(),
            "everything was read anew"
        );
        self.publish(view);
        Ok(())
    }

    // -- freshness -----------------------------------------------------------------------------

    /// For how long memory may have been behind.
    pub fn age(&self) -> Duration {
        self.in_step.lock().unwrap_or_else(PoisonError::into_inner).elapsed()
    }

    /// Begins a write, unless the database did not answer when it was last looked at, or is gone while
    /// this waits for it: those that wait for each other would else wait for it one by one.
    pub(super) async fn begin_write(&self) -> Result<Write, Problem> {
        let mut away = self.away.subscribe();
        tokio::select! {
            biased;
            _ = away.wait_for(|away| *away) => {
                Err(Problem::unavailable("The database cannot be reached; nothing was changed. Try again."))
            }
            write = self.store.begin_write() => Ok(write?),
        }
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

    /// Waits a little until a position is reached: `<epoch>.<n>`, or `n` of the present epoch; with a
    /// digest, it must be that history's.
    ///
    /// # Errors
    /// If it is malformed, of another epoch or history, or not reached in time.
    pub async fn wait_for(&self, wanted: &str, digest: Option<&str>) -> Result<(), Problem> {
        let epoch = Arc::clone(&self.view().epoch);
        let (of, number) = wanted.rsplit_once('.').unwrap_or((&epoch, wanted));
        let number: i64 = number
            .parse()
            .ok()
            .filter(|number| *number >= 0)
            .ok_or_else(|| Problem::malformed("Ostrog-Min-Position is <epoch>.<n>, or n."))?;
        let other = || {
            Problem::unavailable(
                "The position asked for is of another epoch: the database was restored since. Ask without it.",
            )
        };
        if of != &*epoch {
            return Err(other());
        }
        let mut reached = self.reached.subscribe();
        let waited = tokio::time::timeout(PATIENCE, reached.wait_for(|at| *at >= number)).await.is_ok();
        if !waited {
            let at = self.view().position;
            return Err(Problem::unavailable(format!(
                "This node is at position {at}, before the one asked for."
            )));
        }
        if self.view().epoch != epoch {
            return Err(other());
        }
        if let Some(digest) = digest {
            let known = self.store.digest_at(number).await?;
            if known.is_none_or(|known| !known.to_string().starts_with(digest) || digest.len() < 16) {
                return Err(Problem::unavailable(
                    "The position asked for is of another history than this database tells. Ask without it.",
                ));
            }
        }
        Ok(())
    }

    /// The position, whenever it moves.
    pub(super) fn positions(&self) -> tokio::sync::watch::Receiver<i64> {
        self.reached.subscribe()
    }
}

/// Whether a database has something else where a node knows what was, or nothing.
fn is_another_history(view: &View, head: &Head) -> bool {
    view.position > 0 && (head.position < view.position || head.known != Some(view.digest))
}

/// Tells others how far this node answers, and notes what was used, beside following: a database that is far away keeps
/// nobody from looking again.
async fn keep_beside(node: Weak<Node>) {
    let mut noted = Instant::now();
    let mut told = (Instant::now(), -1);
    while let Some(this) = node.upgrade() {
        let mut moves = this.positions();
        let position = *moves.borrow_and_update();
        if told.1 != position || told.0.elapsed() > TELLING {
            told = (Instant::now(), position);
            this.tell_where().await;
        }
        let is_noted = noted.elapsed() > NOTING;
        if is_noted {
            noted = Instant::now();
            this.keep_uses().await;
        }
        if let Err(error) = this.keep_sessions(is_noted).await {
            tracing::debug!(%error, "what became of sessions could not be looked up");
        }
        drop(this);
        let _ = tokio::time::timeout(HEARTBEAT, moves.changed()).await;
    }
}

/// Asks for the keys of issuers ahead, for as long as the node is there: no token waits for that.
async fn keep_keys_fresh(node: Weak<Node>) {
    while let Some(node) = node.upgrade() {
        node.issuers.freshen(Timestamp::now()).await;
        drop(node);
        tokio::time::sleep(FRESHENING).await;
    }
}
