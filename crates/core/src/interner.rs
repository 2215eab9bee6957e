//! Texts to small numbers and back, in one growing piece of memory.

use foldhash::fast::RandomState;
use hashbrown::HashTable;
use std::hash::BuildHasher as _;

/// Texts by number, from 0, in one piece of memory.
#[derive(Clone, Debug, Default)]
pub struct Texts {
    text: String,
    ends: Vec<u32>,
}

impl Texts {
    /// The text of a number; empty if there is none.
    pub fn get(&self, id: u32) -> &str {
        let at = id as usize;
        let start = if at == 0 { 0 } else { self.ends.get(at - 1).copied().unwrap_or(0) as usize };
        self.ends.get(at).and_then(|end| self.text.get(start..*end as usize)).unwrap_or("")
    }

    /// Adds a text under the next number.
    ///
    /// # Panics
    /// Beyond 4 GiB of texts, which the limits on keys and files keep out of reach.
    pub fn push(&mut self, text: &str) -> u32 {
        let id = u32::try_from(self.ends.len()).expect("fewer than 2^32 texts");
        // By an eighth, not by as much again: there are millions of them.
        if self.text.capacity() - self.text.len() < text.len() {
            self.text.reserve_exact(text.len().max(self.text.len() / 8));
        }
        if self.ends.capacity() == self.ends.len() {
            self.ends.reserve_exact((self.ends.len() / 8).max(4));
        }
        self.text.push_str(text);
        self.ends.push(u32::try_from(self.text.len()).expect("less than 4 GiB of texts"));
        id
    }

    /// Forgets the texts from a number on.
    pub fn truncate(&mut self, id: u32) {
        let at = id as usize;
        let start = if at == 0 { 0 } else { self.ends.get(at - 1).copied().unwrap_or(u32::MAX) as usize };
        self.ends.truncate(at);
        self.text.truncate(start);
    }

    /// How many texts there are.
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.ends.is_empty()
    }

    /// How much memory it takes, in bytes.
    pub fn size_bytes(&self) -> usize {
        self.text.capacity() + self.ends.capacity() * size_of::<u32>()
    }
}

/// Append-only table of texts. An id, once given, never changes its meaning.
#[derive(Clone, Debug, Default)]
pub struct Interner {
    texts: Texts,
    ids: HashTable<u32>,
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
        self.ids.find(hash, |id| self.text(*id) == text).copied()
    }

    /// The id of a text, given now if it had none.
    pub fn intern(&mut self, text: &str) -> u32 {
        if let Some(id) = self.find(text) {
            return id;
        }
        let id = self.texts.push(text);
        let hash = self.hasher.hash_one(text);
        let Interner { texts, ids, hasher } = self;
        ids.insert_unique(hash, id, |id| hasher.hash_one(texts.get(*id)));
        id
    }

    /// How many texts there are.
    pub fn len(&self) -> usize {
        self.texts.len()
    }

    /// How much memory it takes, in bytes.
    pub fn size_bytes(&self) -> usize {
        self.texts.size_bytes() + self.ids.capacity() * (size_of::<u32>() + 1)
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.texts.is_empty()
    }
}
