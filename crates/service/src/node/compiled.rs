//! Charters that are not live, compiled: a few, those asked under lately.

use super::compile;
use crate::lanes::Lane;
use crate::problem::Problem;
use ostrog_core::charter;
use ostrog_core::prelude::{Policy, Sources};
use ostrog_core::source::Digest;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// Most texts that are kept.
const MAX_TEXTS: usize = 16;
/// Longest time that compiling one may take.
const PATIENCE: Duration = Duration::from_secs(10);

/// The texts, newest last.
#[derive(Debug, Default)]
pub struct Compiled(Mutex<Vec<(Digest, Arc<Policy>)>>);

impl Compiled {
    /// A text, compiled now on a lane, or before.
    ///
    /// # Errors
    /// The charter's errors; or that the key has too much under way.
    pub async fn get(&self, lane: &Lane, key: &str, sources: Sources) -> Result<Arc<Policy>, Problem> {
        let digest = charter::digest(&sources);
        if let Some(policy) = self.known(digest) {
            return Ok(policy);
        }
        let policy = lane.run(key, PATIENCE, move |_| compile(&sources).map(Arc::new)).await?;
        let mut texts = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if texts.len() == MAX_TEXTS {
            texts.remove(0);
        }
        texts.push((digest, Arc::clone(&policy)));
        Ok(policy)
    }

    fn known(&self, digest: Digest) -> Option<Arc<Policy>> {
        let texts = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        texts.iter().find(|(known, _)| *known == digest).map(|(_, policy)| Arc::clone(policy))
    }
}
