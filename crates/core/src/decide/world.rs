//! A charter and a register kept together, so that their link is never stale.

use super::{Engine, Link};
use crate::charter::policy::Policy;
use crate::register::Register;
use crate::register::change::{Applied, Refusal};
use crate::register::line::Change;
use std::sync::Arc;

/// Everything questions are asked of. A change makes the link anew; nothing else can touch it.
#[derive(Clone, Debug)]
pub struct World {
    policy: Arc<Policy>,
    register: Register,
    link: Link,
}

impl World {
    /// Joins the two.
    pub fn new(policy: Arc<Policy>, register: Register) -> World {
        let link = Link::new(&policy, &register);
        World { policy, register, link }
    }

    /// Ready to be asked.
    pub fn engine(&self) -> Engine<'_> {
        Engine { policy: &self.policy, register: &self.register, link: &self.link }
    }

    /// The charter.
    pub fn policy(&self) -> &Arc<Policy> {
        &self.policy
    }

    /// The register.
    pub fn register(&self) -> &Register {
        &self.register
    }

    /// Applies changes that are valid under the charter, as [`Register::apply`].
    ///
    /// # Errors
    /// As [`Register::apply`].
    pub fn apply(&mut self, changes: &[Change]) -> Result<Applied, Vec<Refusal>> {
        let policy = Arc::clone(&self.policy);
        let applied = self.register.apply(changes, &[&policy]);
        self.link = Link::new(&self.policy, &self.register);
        applied
    }

    /// Applies changes that have been found valid before, as they come from a store.
    ///
    /// # Errors
    /// As [`Register::apply`], for what no register can hold.
    pub fn apply_recorded(&mut self, changes: &[Change]) -> Result<Applied, Vec<Refusal>> {
        let applied = self.register.apply(changes, &[]);
        self.link = Link::new(&self.policy, &self.register);
        applied
    }

    /// Takes back the last batch applied.
    pub fn undo(&mut self, applied: Applied) {
        self.register.undo(applied);
        self.link = Link::new(&self.policy, &self.register);
    }

    /// Puts another charter in force over the same register.
    pub fn set_policy(&mut self, policy: Arc<Policy>) {
        self.link = Link::new(&policy, &self.register);
        self.policy = policy;
    }
}
