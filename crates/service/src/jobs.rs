//! Rehearsals under way on this node: one at a time, how far it is, and the way to stop it.

use crate::lanes::less_urgent;
use crate::node::gate::Scope;
use crate::problem::Problem;
use std::collections::HashMap;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use tokio::sync::{OwnedSemaphorePermit, Semaphore, oneshot};

/// Most at a time.
const MAX_JOBS: usize = 1;
/// How much less urgent a rehearsal is than an answer: as much as can be.
const NICE: i32 = 19;

/// One rehearsal under way.
#[derive(Debug)]
pub struct Job {
    /// Whose it is: it ends with their key.
    scope: Scope,
    stop: AtomicBool,
    at: Mutex<Stage>,
}

/// What a rehearsal does now, and how far it is with it.
#[derive(Clone, Copy, Debug)]
pub struct Stage {
    /// In words.
    pub what: &'static str,
    /// Steps done.
    pub done: usize,
    /// Of how many; none where that is not known.
    pub of: usize,
}

impl Job {
    /// Whether to go on.
    pub fn goes_on(&self) -> bool {
        !self.stop.load(Ordering::Relaxed) && self.scope.counts()
    }

    /// Asks it to stop where it is.
    pub fn stop(&self) {
        self.stop.store(true, Ordering::Relaxed);
    }

    /// Begins with something else.
    pub fn does(&self, what: &'static str) {
        *self.at() = Stage { what, done: 0, of: 0 };
    }

    /// Says how far it is with that.
    pub fn is_at(&self, done: usize, of: usize) {
        let mut at = self.at();
        (at.done, at.of) = (done, of);
    }

    /// How far it is.
    pub fn stage(&self) -> Stage {
        *self.at()
    }

    fn at(&self) -> MutexGuard<'_, Stage> {
        self.at.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// All of them, by number.
#[derive(Debug)]
pub struct Jobs {
    room: Arc<Semaphore>,
    under_way: Mutex<HashMap<i64, Arc<Job>>>,
}

impl Default for Jobs {
    fn default() -> Self {
        Jobs { room: Arc::new(Semaphore::new(MAX_JOBS)), under_way: Mutex::default() }
    }
}

/// Room for one, taken before anything is made ready for it.
#[derive(Debug)]
pub struct Place {
    _permit: OwnedSemaphorePermit,
}

/// One that has begun; it is told of until this goes.
#[derive(Debug)]
pub struct Begun {
    jobs: Arc<Jobs>,
    number: i64,
    /// How far it is.
    pub job: Arc<Job>,
}

impl Jobs {
    fn under_way(&self) -> MutexGuard<'_, HashMap<i64, Arc<Job>>> {
        self.under_way.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// One of them.
    pub fn find(&self, number: i64) -> Option<Arc<Job>> {
        self.under_way().get(&number).cloned()
    }

    /// All of them. Who asks the database how they ended asks this first: what is over by then is told so.
    pub fn all(&self) -> HashMap<i64, Arc<Job>> {
        self.under_way().clone()
    }

    /// Asks all of them to stop, as the node goes away.
    pub fn stop(&self) {
        self.under_way().values().for_each(|job| job.stop());
    }

    /// Takes room for another.
    ///
    /// # Errors
    /// With what to do, if there is none.
    pub fn place(&self) -> Result<Place, Problem> {
        let taken = |_| Problem::conflict("A rehearsal is running on this node; wait for it, or stop it.");
        Arc::clone(&self.room).try_acquire_owned().map(|_permit| Place { _permit }).map_err(taken)
    }

    /// Notes one that begins.
    pub fn begin(self: &Arc<Self>, number: i64, scope: Scope) -> Begun {
        let job = Arc::new(Job {
            scope,
            stop: AtomicBool::new(false),
            at: Mutex::new(Stage { what: "beginning", done: 0, of: 0 }),
        });
        self.under_way().insert(number, Arc::clone(&job));
        Begun { jobs: Arc::clone(self), number, job }
    }
}

impl Begun {
    /// Does the work on a thread of its own, which gives way to everything else. There is room for the
    /// next once it is done: before anybody can be told so.
    ///
    /// # Errors
    /// What the work comes to; or that it panicked.
    pub async fn run<T: Send + 'static>(
        &self,
        place: Place,
        work: impl FnOnce() -> Result<T, String> + Send + 'static,
    ) -> Result<T, String> {
        let (tell, told) = oneshot::channel();
        let thread = std::thread::Builder::new().name("rehearsal".to_owned()).spawn(move || {
            less_urgent(NICE);
            let done = catch_unwind(AssertUnwindSafe(work));
            drop(place);
            let _ = tell.send(done);
        });
        let broken_off = || "it was broken off; the log says why".to_owned();
        thread.map_err(|error| error.to_string())?;
        told.await.map_err(|_| broken_off())?.map_err(|_| broken_off())?
    }
}

impl Drop for Begun {
    fn drop(&mut self) {
        self.jobs.under_way().remove(&self.number);
    }
}
