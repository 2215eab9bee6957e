//! What is answered from: everything as it was at one position. It is never changed; the next position has a
//! view of its own, which shares with this one all that is the same.

use crate::operators::Rights;
use jiff::Timestamp;
use ostrog_core::prelude::World;
use ostrog_store::issuer::Issuer;
use ostrog_store::journal::Chain;
use ostrog_store::key::{Key, KeyKind};
use ostrog_store::revision::RevisionInfo;
use std::collections::HashMap;
use std::sync::Arc;

/// A charter in force with the register it is asked about.
#[derive(Clone, Debug)]
pub struct Live {
    /// Charter and register.
    pub world: World,
    /// Which revision.
    pub revision: Arc<RevisionInfo>,
}

/// Everything at one position: facts, texts and keys. A position is told to nobody before all of it is here.
#[derive(Clone, Debug)]
pub struct View {
    /// Changes when the database was restored.
    pub(super) epoch: Arc<str>,
    /// The position.
    pub(super) position: i64,
    /// The digest of the journal there.
    pub(super) digest: Chain,
    /// How often everything had been read anew: numbers of entities mean something within one reading only.
    pub(super) reading: u64,
    /// What questions are asked of; none until a charter is live.
    pub(super) live: Option<Live>,
    /// Who may call.
    pub(super) keys: Arc<Keys>,
    /// Whose tokens count.
    pub(super) issuers: Arc<Vec<Issuer>>,
}

impl View {
    /// `<epoch>.<n>`
    pub(super) fn token(&self) -> String {
        format!("{}.{}", self.epoch, self.position)
    }
}

/// A key that has not been ended, and what it may do.
#[derive(Debug)]
pub struct KnownKey {
    /// The key.
    pub key: Key,
    /// What it may do.
    pub rights: Rights,
}

/// All keys that have not been ended, by id.
#[derive(Debug, Default)]
pub struct Keys(HashMap<String, Arc<KnownKey>>);

impl Keys {
    /// Keys as they come from the database; what each may do is worked out once.
    pub(super) fn new(keys: Vec<Key>) -> Keys {
        let known = |key: Key| {
            let rights = match key.making.kind {
                KeyKind::Operator => Rights::of(&key.making.rights),
                KeyKind::Application(_) => Rights::of_application(&key.making.endpoints),
                KeyKind::Proxy(_) => Rights::of_proxy(),
            };
            (key.id.clone(), Arc::new(KnownKey { key, rights }))
        };
        Keys(keys.into_iter().map(known).collect())
    }

    /// The key a text is of, if it counts at a moment.
    pub(super) fn find(&self, text: &str, now: Timestamp) -> Option<&Arc<KnownKey>> {
        self.0.get(Key::claimed_id(text)?).filter(|known| known.key.is(text, now))
    }

    /// A key by its id, if it counts at a moment, whether or not anybody has shown its text.
    pub(super) fn counting(&self, id: &str, now: Timestamp) -> Option<&Arc<KnownKey>> {
        self.0.get(id).filter(|known| known.key.counts(now))
    }

    /// All of them.
    pub(super) fn all(&self) -> impl Iterator<Item = &Arc<KnownKey>> {
        self.0.values()
    }

    /// Whether there is none.
    pub(super) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}
