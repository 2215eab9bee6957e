//! A charter and a register kept together, so that their link is never stale.

use super::{Engine, Link};
use crate::charter::policy::Policy;
use crate::register::Register;
use crate::register::change::{Applied, Checks, Refusal};
use crate::register::fact::Fact;
use crate::register::line::Change;
use crate::register::sight::Sight;
use crate::register::wrong::Wrong;
use std::sync::Arc;

/// A fact line that cannot be supposed, and why.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NotSupposed {
    /// As written.
    pub line: String,
    /// Why.
    pub why: Wrong,
}

impl std::fmt::Display for NotSupposed {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}: {}", self.line, self.why)
    }
}

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
        self.engine_in(&Sight::Everything)
    }

    /// Ready to be asked by somebody who sees some of the facts.
    pub fn engine_in<'w>(&'w self, sight: &'w Sight) -> Engine<'w> {
        Engine { policy: &self.policy, register: &self.register, link: &self.link, sight }
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
        self.apply_under(changes, Checks::of(&[&policy]))
    }

    /// Applies changes, held against what is stated, as [`Register::apply`].
    ///
    /// # Errors
    /// As [`Register::apply`].
    pub fn apply_under(&mut self, changes: &[Change], checks: Checks<'_>) -> Result<Applied, Vec<Refusal>> {
        let applied = self.register.apply(changes, checks);
        self.link = Link::new(&self.policy, &self.register);
        applied
    }

    /// Makes facts hold, or not, that are written as fact lines: for trying. What activates a grant
    /// is taken as rightly made. Only what is in sight can be named.
    ///
    /// # Errors
    /// Every line that cannot be; then nothing is changed.
    pub fn suppose(
        &mut self,
        set: &[String],
        remove: &[String],
        sight: &Sight,
    ) -> Result<Applied, Vec<NotSupposed>> {
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
                Err(why) => wrong.push(NotSupposed { line: line.clone(), why }),
            }
        }
        if !wrong.is_empty() {
            return Err(wrong);
        }
        let policy = Arc::clone(&self.policy);
        let policies = [&*policy];
        let checks = Checks { sight, ..Checks::of(&policies) };
        self.apply_under(&changes, checks).map_err(|refusals| {
            let line = |at: usize| lines().nth(at).map_or_else(String::new, |(line, _)| line.clone());
            let told = |refusal: Refusal| NotSupposed { line: line(refusal.change), why: refusal.why };
            refusals.into_iter().map(told).collect()
        })
    }

    /// Takes back the last batch applied.
    pub fn undo(&mut self, applied: Applied) {
        self.register.undo(applied);
        self.link = Link::new(&self.policy, &self.register);
    }

    /// The same charter over another register.
    #[must_use]
    pub fn over(&self, register: Register) -> World {
        World { link: Link::new(&self.policy, &register), policy: Arc::clone(&self.policy), register }
    }

    /// Puts another charter in force over the same register.
    pub fn set_policy(&mut self, policy: Arc<Policy>) {
        self.link = Link::new(&policy, &self.register);
        self.policy = policy;
    }
}
