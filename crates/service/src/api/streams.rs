//! What stays open: how much of it there may be.

use crate::problem::Problem;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// Most streams that a node keeps open, and that one key does.
const MAX_STREAMS: usize = 256;
const MAX_STREAMS_OF_ONE: usize = 16;

/// The streams that are open.
#[derive(Debug, Default)]
pub struct Streams(Mutex<HashMap<String, usize>>);

/// One that is open for as long as this is kept.
#[derive(Debug)]
pub struct Open {
    streams: Arc<Streams>,
    key: String,
}

impl Streams {
    fn open_by_key(&self) -> MutexGuard<'_, HashMap<String, usize>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Opens one more for a key.
    ///
    /// # Errors
    /// If there are too many.
    pub fn open(self: &Arc<Self>, key: &str) -> Result<Open, Problem> {
        let mut open = self.open_by_key();
        if open.values().sum::<usize>() >= MAX_STREAMS {
            return Err(Problem::unavailable(format!(
                "{MAX_STREAMS} streams are open already; follow at another node."
            )));
        }
        let of_key = open.entry(key.to_owned()).or_default();
        if *of_key >= MAX_STREAMS_OF_ONE {
            return Err(Problem::too_many(format!(
                "{MAX_STREAMS_OF_ONE} streams of this key are open already; end one of them."
            )));
        }
        *of_key += 1;
        Ok(Open { streams: Arc::clone(self), key: key.to_owned() })
    }
}

impl Drop for Open {
    fn drop(&mut self) {
        let mut open = self.streams.open_by_key();
        if let Some(of_key) = open.get_mut(&self.key) {
            *of_key -= 1;
            if *of_key == 0 {
                open.remove(&self.key);
            }
        }
    }
}
