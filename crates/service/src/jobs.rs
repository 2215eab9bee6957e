//! Rehearsals under way on this node: how far they are, and the way to stop them.

use crate::problem::Problem;
use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

/// Most at a time: each holds a copy of the register.
const MAX_JOBS: usize = 1;

/// One rehearsal under way.
#[derive(Debug, Default)]
pub struct Job {
    stop: AtomicBool,
    /// Guarantees settled.
    pub settled: AtomicUsize,
    /// Guarantees there are.
    pub guarantees: AtomicUsize,
    what: Mutex<&'static str>,
}

impl Job {
    /// Whether to go on.
    pub fn goes_on(&self) -> bool {
        !self.stop.load(Ordering::Relaxed)
    }
    /// Asks it to stop where it is.
    pub fn stop(&self) {
        self.stop.store(true, Ordering::Relaxed);
    }
    /// Says what it does now.
    pub fn does(&self, what: &'static str) {
        *self.what.lock().unwrap_or_else(PoisonError::into_inner) = what;
    }
    /// What it does now.
    pub fn what(&self) -> &'static str {
        *self.what.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// All of them, by number.
#[derive(Debug, Default)]
pub struct Jobs(Mutex<HashMap<i64, Arc<Job>>>);

impl Jobs {
    /// One of them.
    pub fn find(&self, number: i64) -> Option<Arc<Job>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).get(&number).cloned()
    }

    /// Whether there is room for another.
    ///
    /// # Errors
    /// With what to do, if not.
    pub fn room(&self) -> Result<(), Problem> {
        let running = self.0.lock().unwrap_or_else(PoisonError::into_inner).len();
        if running < MAX_JOBS {
            return Ok(());
        }
        Err(Problem::conflict("A rehearsal is running on this node; wait for it, or stop it."))
    }

    /// Notes one that begins.
    pub fn begin(&self, number: i64) -> Arc<Job> {
        let job = Arc::new(Job::default());
        self.0.lock().unwrap_or_else(PoisonError::into_inner).insert(number, Arc::clone(&job));
        job
    }

    /// Forgets one that ended.
    pub fn end(&self, number: i64) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).remove(&number);
    }
}
