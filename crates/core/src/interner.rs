//! Texts to small numbers and back.

use crate::pieces::{Index, Texts};
use foldhash::fast::RandomState;
use std::hash::BuildHasher as _;

/// Append-only table of texts. An id, once given, never changes its meaning.
#[derive(Clone, Debug, Default)]
pub struct Interner {
    texts: Texts,
    ids: Index,
    hasher: RandomState,
}

impl Interner {
    /// The text of an id given by this table; empty for any other id.
    pub fn text(&self, id: u32) -> &str {
        self.texts.get(id)
    }

    /// The id of a text, if it has one.
    pub fn find(&self, text: &str) -> Option<u32> {
        let hash = self.hasher.hash_one(text);
        self.ids.find(hash, |id| self.text(id) == text)
    }

    /// The id of a text, given now if it had none.
    pub fn intern(&mut self, text: &str) -> u32 {
        if let Some(id) = self.find(text) {
            return id;
        }
        let id = self.texts.push(text);
        let hash = self.hasher.hash_one(text);
        let Interner { texts, ids, hasher } = self;
        ids.insert(hash, id, |id| hasher.hash_one(texts.get(id)));
        id
    }

    /// The id that is given next: all that were given lie below.
    pub fn end(&self) -> usize {
        self.texts.end()
    }

    /// How much memory it takes, in bytes.
    pub fn size_bytes(&self) -> usize {
        self.texts.size_bytes() + self.ids.size_bytes()
    }
}
