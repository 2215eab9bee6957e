//! Where work is done that may take longer than a decision: beside the threads that answer decisions, on
//! threads of a lower priority, with a turn for each key.
//!
//! Each lane has threads of its own, so that long questions do not wait for each other's kind. In a lane
//! the key that has used the least time comes next: one caller's hundred questions are not the wait of
//! another's one.

use crate::problem::Problem;
use std::collections::{HashMap, VecDeque};
use std::fmt;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError, Weak};
use std::time::{Duration, Instant};
use tokio::sync::oneshot;

/// Most pieces of work of one key that wait in a lane.
const MAX_WAITING: usize = 32;
/// Most pieces of work that wait in a lane, whosever.
const MAX_WAITING_OF_ALL: usize = 1_024;

/// The lanes of a node.
#[derive(Debug)]
pub struct Lanes {
    /// Batches, and single questions of a large body or with an explanation.
    pub batches: Lane,
    /// Searches, questions with a blank, suppositions, lists over many facts, and texts.
    pub questions: Lane,
    /// Trying out writes, one at a time.
    pub writes: Lane,
}

impl Lanes {
    /// Starts their threads.
    pub fn start() -> Lanes {
        let cores = std::thread::available_parallelism().map_or(2, std::num::NonZero::get);
        Lanes {
            batches: Lane::start("batches", cores.min(4), 5),
            questions: Lane::start("questions", cores.min(4), 10),
            writes: Lane::start("writes", 1, 5),
        }
    }
}

/// One lane.
pub struct Lane {
    queue: Arc<Queue>,
}

impl fmt::Debug for Lane {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Lane").finish_non_exhaustive()
    }
}

struct Queue {
    turns: Mutex<Turns>,
    bell: Condvar,
}

#[derive(Default)]
struct Turns {
    keys: HashMap<Arc<str>, Turn>,
    waiting: usize,
    /// What the key that came last had used: who comes anew begins here, and not at nothing.
    floor: Duration,
    ended: bool,
}

/// A piece of work.
type Work = Box<dyn FnOnce() + Send>;

#[derive(Default)]
struct Turn {
    work: VecDeque<Work>,
    used: Duration,
    running: usize,
}

/// A piece of work under way looks here whether to go on.
#[derive(Clone, Debug)]
pub struct Ticket {
    until: Instant,
    caller: Weak<()>,
}

impl Ticket {
    /// One that is never over, for work that nobody waits for.
    pub fn endless() -> (Ticket, Arc<()>) {
        let caller = Arc::new(());
        let until = Instant::now() + Duration::from_secs(365 * 24 * 3_600);
        (Ticket { until, caller: Arc::downgrade(&caller) }, caller)
    }

    /// Whether its time is not up and its caller is still there.
    pub fn goes_on(&self) -> bool {
        self.caller.strong_count() > 0 && Instant::now() < self.until
    }

    /// The same, ending sooner.
    #[must_use]
    pub fn within(&self, patience: Duration) -> Ticket {
        Ticket { until: self.until.min(Instant::now() + patience), caller: self.caller.clone() }
    }
}

impl Lane {
    /// Starts the threads of a lane, less urgent than others by `nice`.
    fn start(name: &str, threads: usize, nice: i32) -> Lane {
        let queue = Arc::new(Queue { turns: Mutex::default(), bell: Condvar::new() });
        for _ in 0..threads {
            let queue = Arc::clone(&queue);
            let thread = std::thread::Builder::new().name(name.to_owned());
            let started = thread.spawn(move || {
                less_urgent(nice);
                queue.work_off();
            });
            started.expect("the system has threads");
        }
        Lane { queue }
    }

    /// Does a piece of work of a key when it is its turn, in at most so much time.
    ///
    /// # Errors
    /// What the work comes to; that the key, or all keys, have too much waiting already; or that it
    /// panicked.
    pub async fn run<T: Send + 'static>(
        &self,
        key: &str,
        patience: Duration,
        work: impl FnOnce(&Ticket) -> Result<T, Problem> + Send + 'static,
    ) -> Result<T, Problem> {
        let here = Arc::new(());
        let caller = Arc::downgrade(&here);
        let (tell, told) = oneshot::channel();
        let work = Box::new(move || {
            // Whoever went away while it waited is not served.
            if caller.strong_count() > 0 {
                let ticket = Ticket { until: Instant::now() + patience, caller };
                let done = catch_unwind(AssertUnwindSafe(|| work(&ticket)));
                let _ = tell.send(done.unwrap_or_else(|_| {
                    tracing::error!("a piece of work panicked");
                    Err(Problem::internal("The request was broken off; the log says why."))
                }));
            }
        });
        self.queue.put(key, work)?;
        let done = told.await;
        drop(here);
        done.unwrap_or_else(|_| Err(Problem::unavailable("The service is ending.")))
    }
}

impl Drop for Lane {
    fn drop(&mut self) {
        self.queue.turns().ended = true;
        self.queue.bell.notify_all();
    }
}

impl Queue {
    fn turns(&self) -> MutexGuard<'_, Turns> {
        self.turns.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn put(&self, key: &str, work: Work) -> Result<(), Problem> {
        let mut turns = self.turns();
        if turns.waiting >= MAX_WAITING_OF_ALL {
            return Err(Problem::unavailable("The node has too much to do; come again, or ask another."));
        }
        let floor = turns.floor;
        if !turns.keys.contains_key(key) {
            turns.keys.insert(key.into(), Turn { used: floor, ..Turn::default() });
        }
        let Some(turn) = turns.keys.get_mut(key) else { return Ok(()) };
        if turn.work.len() >= MAX_WAITING {
            return Err(Problem::too_many(format!(
                "{MAX_WAITING} requests of this key wait already; send fewer at a time."
            )));
        }
        turn.work.push_back(work);
        turns.waiting += 1;
        drop(turns);
        self.bell.notify_one();
        Ok(())
    }

    fn work_off(&self) {
        while let Some((key, work)) = self.next() {
            let began = Instant::now();
            work();
            self.done(&key, began.elapsed());
        }
    }

    /// The next piece of work: of the key that used the least. None at the end.
    fn next(&self) -> Option<(Arc<str>, Work)> {
        let mut turns = self.turns();
        loop {
            if turns.ended {
                return None;
            }
            let waiting = turns.keys.iter_mut().filter(|(_, turn)| !turn.work.is_empty());
            // What runs counts as if it had used a little already, or a key would have all threads.
            let next = waiting.min_by_key(|(_, turn)| (turn.running, turn.used));
            if let Some((key, turn)) = next
                && let Some(work) = turn.work.pop_front()
            {
                turn.running += 1;
                let (key, used) = (Arc::clone(key), turn.used);
                turns.floor = turns.floor.max(used);
                turns.waiting -= 1;
                return Some((key, work));
            }
            turns = self.bell.wait(turns).unwrap_or_else(PoisonError::into_inner);
        }
    }

    fn done(&self, key: &str, took: Duration) {
        let mut turns = self.turns();
        let Some(turn) = turns.keys.get_mut(key) else { return };
        turn.running -= 1;
        turn.used += took;
        if turn.running == 0 && turn.work.is_empty() {
            turns.keys.remove(key);
        }
    }
}

/// Makes the thread that calls it give way to others.
pub fn less_urgent(by: i32) {
    if let Err(error) = rustix::process::nice(by) {
        tracing::debug!(%error, "a thread could not be made less urgent");
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicUsize, Ordering};

    fn runtime() -> tokio::runtime::Runtime {
        tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().expect("a runtime")
    }

    #[test]
    fn one_key_waits_for_one_piece_of_another_and_not_for_all() {
        let lane = Arc::new(Lane::start("test", 1, 0));
        let done = Arc::new(AtomicUsize::new(0));
        runtime().block_on(async {
            let piece = || {
                let (lane, done) = (Arc::clone(&lane), Arc::clone(&done));
                tokio::spawn(async move {
                    let work = move |_: &Ticket| {
                        std::thread::sleep(Duration::from_millis(10));
                        Ok(done.fetch_add(1, Ordering::Relaxed))
                    };
                    lane.run("many", Duration::from_secs(1), work).await
                })
            };
            let all: Vec<_> = (0..20).map(|_| piece()).collect();
            tokio::time::sleep(Duration::from_millis(15)).await;
            let before = done.load(Ordering::Relaxed);
            lane.run("one", Duration::from_secs(1), |_| Ok(())).await.expect("it is done");
            assert!(done.load(Ordering::Relaxed) <= before + 2, "it waited for others");
            for one in all {
                one.await.expect("no panic").expect("it is done");
            }
            // Whoever waited is told before the turn is over.
            let until = Instant::now() + Duration::from_secs(5);
            while !lane.queue.turns().keys.is_empty() {
                assert!(Instant::now() < until, "a turn is kept of which nothing is left");
                tokio::time::sleep(Duration::from_millis(1)).await;
            }
        });
    }

    #[test]
    fn what_is_too_much_is_refused_and_what_nobody_waits_for_is_left() {
        let lane = Arc::new(Lane::start("test", 1, 0));
        let done = Arc::new(AtomicUsize::new(0));
        runtime().block_on(async {
            let (go, gone) = std::sync::mpsc::channel::<()>();
            let first = {
                let lane = Arc::clone(&lane);
                tokio::spawn(async move {
                    let work = move |_: &Ticket| Ok(gone.recv().is_ok());
                    lane.run("many", Duration::from_secs(5), work).await
                })
            };
            tokio::time::sleep(Duration::from_millis(10)).await;
            let waiting: Vec<_> = (0..MAX_WAITING)
                .map(|_| {
                    let (lane, done) = (Arc::clone(&lane), Arc::clone(&done));
                    tokio::spawn(async move {
                        let work = move |_: &Ticket| Ok(done.fetch_add(1, Ordering::Relaxed));
                        lane.run("many", Duration::from_secs(5), work).await
                    })
                })
                .collect();
            tokio::time::sleep(Duration::from_millis(10)).await;
            let refused = lane.run("many", Duration::from_secs(1), |_| Ok(())).await;
            assert_eq!(refused.expect_err("too many").status(), 429);
            for one in &waiting[1..] {
                one.abort();
            }
            tokio::time::sleep(Duration::from_millis(10)).await;
            go.send(()).expect("it waits");
            assert!(first.await.expect("no panic").expect("it is done"));
            for one in waiting {
                let _ = one.await;
            }
            assert_eq!(done.load(Ordering::Relaxed), 1);
            let panicked = lane.run("many", Duration::from_secs(1), |_| -> Result<(), _> { panic!("oh") });
            assert_eq!(panicked.await.expect_err("panicked").status(), 500);
            lane.run("many", Duration::from_secs(1), |_| Ok(())).await.expect("and goes on");
        });
    }
}
