//! A charter and a register kept together, so that their link is never stale.

use super::{Engine, Link};
use crate::charter::policy::Policy;
use crate::register::change::{Applied, Refusal};
use crate::register::fact::Fact;
use crate::register::line::Change;
use crate::register::{NextIds, Register};
use jiff::Timestamp;
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
        self.apply_at(changes, None)
    }

    /// As [`World::apply`], at a moment: grants that have ended by then separate nobody.
    ///
    /// # Errors
    /// As [`Register::apply`].
    pub fn apply_at(&mut self, changes: &[Change], now: Option<Timestamp>) -> Result<Applied, Vec<Refusal>> {
        let policy = Arc::clone(&self.policy);
        let applied = self.register.apply(changes, &[&policy], now);
        self.link = Link::new(&self.policy, &self.register);
        applied
    }

    /// Applies changes that have been found valid before, as they come from a store.
    ///
    /// # Errors
    /// As [`Register::apply`], for what no register can hold.
    pub fn apply_recorded(&mut self, changes: &[Change]) -> Result<Applied, Vec<Refusal>> {
        let applied = self.register.apply(changes, &[], None);
        self.link = Link::new(&self.policy, &self.register);
        applied
    }

    /// Makes facts hold, or not, that are written as fact lines: for trying. What activates a grant
    /// is taken as rightly made.
    ///
    /// # Errors
    /// Every line that cannot be, in words; then nothing is changed.
    pub fn suppose(&mut self, set: &[String], remove: &[String]) -> Result<Applied, Vec<String>> {
        let lines = || set.iter().map(|line| (line, true)).chain(remove.iter().map(|line| (line, false)));
        let mut wrong = Vec::new();
        let mut changes = Vec::new();
        for (line, holds) in lines() {
            let fact = Fact::parse(line).and_then(|fact| match holds {
                true => fact.assert(&self.policy),
                false => fact.retract(&self.policy),
            });
            match fact {
                Ok(Change::Activate(mut activation)) => {
                    activation.assumed = true;
                    changes.push(Change::Activate(activation));
                }
                Ok(change) => changes.push(change),
                Err(message) => wrong.push(format!("{line}: {message}")),
            }
        }
        if !wrong.is_empty() {
            return Err(wrong);
        }
        self.apply(&changes).map_err(|refusals| {
            let told = |refusal: Refusal| {
                let line = lines().nth(refusal.change).map_or("", |(line, _)| line.as_str());
                format!("{line}: {}", refusal.message)
            };
            refusals.into_iter().map(told).collect()
        })
    }

    /// As [`Register::skip_ids`].
    pub fn skip_ids(&mut self, next: NextIds) {
        self.register.skip_ids(next);
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
