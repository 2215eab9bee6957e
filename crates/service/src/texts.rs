//! Charters that are not live, compiled: a few, those asked under lately.

use crate::node::compile;
use crate::problem::Problem;
use ostrog_core::charter;
use ostrog_core::prelude::{Policy, Sources};
use ostrog_core::source::Digest;
use std::sync::{Arc, Mutex, PoisonError};

/// Most texts that are kept.
const MAX_TEXTS: usize = 16;

/// The texts, newest last.
#[derive(Debug, Default)]
pub struct Texts(Mutex<Vec<(Digest, Arc<Policy>)>>);

impl Texts {
    /// A text, compiled now or before.
    ///
    /// # Errors
    /// The charter's errors.
    pub fn compiled(&self, sources: &Sources) -> Result<Arc<Policy>, Problem> {
        let digest = charter::digest(sources);
        let known = {
            let texts = self.0.lock().unwrap_or_else(PoisonError::into_inner);
            texts.iter().find(|(known, _)| *known == digest).map(|(_, policy)| Arc::clone(policy))
        };
        if let Some(policy) = known {
            return Ok(policy);
        }
        let policy = Arc::new(compile(sources)?);
        let mut texts = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if texts.len() == MAX_TEXTS {
            texts.remove(0);
        }
        texts.push((digest, Arc::clone(&policy)));
        Ok(policy)
    }
}
