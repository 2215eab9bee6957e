//! What is under way: codes, devices that wait, who is signed in. All of it ends by itself, and is bounded.

use jiff::{SignedDuration, Timestamp};
use rand::TryRngCore as _;
use std::collections::HashMap;

/// Most things under way of each kind.
const MOST: usize = 10_000;

/// Things by a secret, each until its end.
#[derive(Debug)]
pub struct Pending<T>(HashMap<String, (Timestamp, T)>);

impl<T> Default for Pending<T> {
    fn default() -> Self {
        Pending(HashMap::new())
    }
}

impl<T> Pending<T> {
    /// Keeps something for a while under a name that is told to nobody else.
    pub fn keep(&mut self, name: String, what: T, seconds: i64) {
        let now = Timestamp::now();
        self.0.retain(|_, (until, _)| now < *until);
        if self.0.len() >= MOST {
            let soonest = self.0.iter().min_by_key(|(_, (until, _))| *until).map(|(name, _)| name.clone());
            soonest.and_then(|name| self.0.remove(&name));
        }
        let until = now.checked_add(SignedDuration::from_secs(seconds)).unwrap_or(now);
        self.0.insert(name, (until, what));
    }

    /// What is kept under a name.
    pub fn get(&self, name: &str) -> Option<&T> {
        self.0.get(name).filter(|(until, _)| Timestamp::now() < *until).map(|(_, what)| what)
    }

    /// Lets go of what does not stay.
    pub fn retain(&mut self, stays: impl Fn(&T) -> bool) {
        self.0.retain(|_, (_, what)| stays(what));
    }

    /// What was kept under a name, once.
    pub fn take(&mut self, name: &str) -> Option<T> {
        self.0.remove(name).filter(|(until, _)| Timestamp::now() < *until).map(|(_, what)| what)
    }

    /// All of it, to find one by what it is.
    pub fn values_mut(&mut self) -> impl Iterator<Item = &mut T> {
        let now = Timestamp::now();
        self.0.values_mut().filter(move |(until, _)| now < *until).map(|(_, what)| what)
    }
}

/// A name that nobody guesses.
pub fn secret() -> String {
    let mut bytes = [0u8; 32];
    rand::rngs::OsRng.try_fill_bytes(&mut bytes).expect("the system has random numbers");
    hex::encode(bytes)
}
