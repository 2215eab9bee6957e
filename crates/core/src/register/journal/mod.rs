//! The journal: the register is the fold of its entries.
//!
//! An [`Entry`] tells one net effect of a batch: what is said of an entity now, that a grant was given,
//! that something is gone. Its names are whole, its lists in an order that does not depend on who keeps
//! them, so that two nodes write the same of the same.
//!
//! - [`net`](mod@net) makes the entries of a batch, [`entry`](mod@entry) writes and reads them,
//!   [`fold`](mod@fold) applies them; there is no second place for any of the three;
//! - [`Register::accept`] is how a batch becomes part of a register: the bytes that will be kept are
//!   read again and applied, and what that comes to is compared with what the batch came to;
//! - [`Register::digest`] stands for all that a register says.
//!
//! What holds: folding a journal gives the register it was made from, and so does writing that register
//! down and loading it again.

mod entry;
mod fold;
mod net;

pub use entry::{Entry, Unreadable};
pub use fold::Unfit;

use super::change::{Checks, Ignored, Refusal, Touch};
use super::line::Change;
use super::{Activation, EntityId, Grant, MadeRole, Register, State, Sym};
use serde_json::{Value, json};
use sha2::{Digest as _, Sha256};
use std::fmt;

/// A batch that was accepted.
#[derive(Debug)]
pub struct Accepted {
    /// The register with it.
    pub register: Register,
    /// What it came to; empty if everything was so already.
    pub entries: Vec<Entry>,
    /// The same as bytes: a line of JSON for each.
    pub bytes: Vec<u8>,
    /// What it touched, also where it is now as it was.
    pub touched: Vec<Touch>,
    /// What charters that are live ignore of it.
    pub ignored: Vec<Ignored>,
}

/// Why a batch was not accepted.
#[derive(Debug)]
pub enum Refused {
    /// It is not valid, with a reason for each change that is not.
    Invalid(Vec<Refusal>),
    /// A mistake of this program: what would have been recorded is not what was meant.
    Mistaken(Mistake),
}

/// What would have been recorded cannot be read, cannot be applied, or comes to something else.
#[derive(Debug, thiserror::Error)]
pub enum Mistake {
    /// It cannot be read.
    #[error("what would be recorded cannot be read: {0}")]
    Unreadable(#[from] Unreadable),
    /// It cannot be applied.
    #[error("what would be recorded cannot be applied: {0}")]
    Unfit(#[from] Unfit),
    /// It comes to something else.
    #[error("what would be recorded comes to something else")]
    Otherwise,
}

impl Register {
    /// Makes a batch part of a copy of this register, by way of the bytes that are to be recorded.
    ///
    /// Costs time and memory in what the batch touches, not in the size of the register.
    ///
    /// # Errors
    /// What is wrong with it; or a mistake of this program, before anything is recorded.
    pub fn accept(&self, changes: &[Change], checks: Checks<'_>) -> Result<Accepted, Refused> {
        let mut register = self.clone();
        let applied = register.apply(changes, checks).map_err(Refused::Invalid)?;
        let entries = net::entries(self, &register, &applied.touched);
        let (touched, ignored) = (applied.touched.clone(), applied.ignored.clone());
        let things = net::things(&register, &touched);
        register.undo(applied);
        let bytes = to_bytes(&entries);
        let mistaken = |mistake: Mistake| Refused::Mistaken(mistake);
        let read = from_bytes(&bytes).map_err(|why| mistaken(why.into()))?;
        register.fold(&read).map_err(|why| mistaken(why.into()))?;
        if read != entries || net::entries_of(self, &register, &things) != entries {
            return Err(mistaken(Mistake::Otherwise));
        }
        Ok(Accepted { register, entries, bytes, touched, ignored })
    }

    /// Everything the register says, as entries that make it anew: tombstones, entities, tenants' own
    /// roles, grants, activations, and the numbers that are next.
    pub fn entries(&self) -> impl Iterator<Item = Entry> + '_ {
        // A name that was deleted and made again is not known as deleted any more.
        let gone = self.every_name().filter(|id| self.state(*id) == State::Deleted);
        let gone = gone.map(|id| Entry::Deleted(self.name(id).to_owned()));
        let entities = self.all_entities().map(|id| Entry::entity(self, id));
        let made = self.made_roles().map(|(key, role)| Entry::made(self, key, role));
        let grants = self.all_grants().map(|grant| Entry::grant(self, &grant));
        let active = self.all_activations().map(|activation| Entry::activation(self, activation));
        gone.chain(entities).chain(made).chain(grants).chain(active).chain([Entry::Next(self.next_ids())])
    }

    /// The same as lines of a register file: what was deleted is told as a state, and the numbers that
    /// are next are the register's own.
    pub fn lines(&self) -> impl Iterator<Item = Value> + '_ {
        self.entries().filter_map(|entry| match entry {
            Entry::Deleted(name) => Some(json!({ "entity": name, "state": State::Deleted.word() })),
            Entry::Next(_) | Entry::Note(_) => None,
            entry => Some(entry.to_json()),
        })
    }

    /// All that is said of an entity, as its line.
    pub fn entity_json(&self, id: EntityId) -> Value {
        Entry::entity(self, id).to_json()
    }

    /// An entity as its line, without who is in it.
    pub fn entity_json_without_members(&self, id: EntityId) -> Value {
        Entry::entity_without_members(self, id).to_json()
    }

    /// A grant as its line.
    pub fn grant_json(&self, grant: &Grant<'_>) -> Value {
        Entry::grant(self, grant).to_json()
    }

    /// An activation as its line.
    pub fn activation_json(&self, activation: &Activation) -> Value {
        Entry::activation(self, activation).to_json()
    }

    /// A tenant's role as its line.
    pub fn made_json(&self, key: Sym, role: &MadeRole) -> Value {
        Entry::made(self, key, role).to_json()
    }

    /// Stands for everything the register says: equal for two registers only if they say the same.
    ///
    /// Costs a look at every fact, and a sort.
    pub fn digest(&self) -> RegisterDigest {
        let mut lines: Vec<String> = self.entries().map(|entry| entry.to_json().to_string()).collect();
        lines.sort_unstable();
        let mut digest = Sha256::new();
        for line in lines {
            digest.update(u64::try_from(line.len()).unwrap_or(u64::MAX).to_be_bytes());
            digest.update(line);
        }
        RegisterDigest(digest.finalize().into())
    }
}

/// A SHA-256 over all that a register says.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct RegisterDigest(pub [u8; 32]);

impl fmt::Display for RegisterDigest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|byte| write!(f, "{byte:02x}"))
    }
}

impl fmt::Debug for RegisterDigest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{self}")
    }
}

/// Entries as bytes: a line of JSON for each.
pub fn to_bytes(entries: &[Entry]) -> Vec<u8> {
    let mut bytes = Vec::new();
    for entry in entries {
        bytes.extend_from_slice(entry.to_json().to_string().as_bytes());
        bytes.push(b'\n');
    }
    bytes
}

/// Reads entries from bytes.
///
/// # Errors
/// The first line that is no entry, and why.
pub fn from_bytes(bytes: &[u8]) -> Result<Vec<Entry>, Unreadable> {
    let lines = bytes.split(|byte| *byte == b'\n').filter(|line| !line.is_empty());
    lines.enumerate().map(|(at, line)| Entry::read(line).map_err(|why| Unreadable::new(at, why))).collect()
}
