//! Texts to small numbers and back, in one growing piece of memory.

use foldhash::fast::RandomState;
use hashbrown::HashTable;
use std::hash::BuildHasher as _;

/// Append-only table of texts. An id, once given, never changes its meaning.
#[derive(Clone, Debug, Default)]
pub struct Interner {
    text: String,
    ends: Vec<u32>,
    ids: HashTable<u32>,
    hasher: RandomState,
}

impl Interner {
    /// The text of an id given by this table; empty for any other id.
    pub fn text(&self, id: u32) -> &str {
        let at = id as usize;
        let start = if at == 0 { 0 } else { self.ends.get(at - 1).copied().unwrap_or(0) as usize };
        self.ends.get(at).and_then(|end| self.text.get(start..*end as usize)).unwrap_or("")
    }

    /// The id of a text, if it has one.
    pub fn find(&self, text: &str) -> Option<u32> {
        let hash = self.hasher.hash_one(text);
        self.ids.find(hash, |id| self.text(*id) == text).copied()
    }

    /// The id of a text, given now if it had none.
    ///
    /// # Panics
    /// Beyond 4 GiB of texts, which the limits on keys and files keep out of reach.
    pub fn intern(&mut self, text: &str) -> u32 {
        if let Some(id) = self.find(text) {
            return id;
        }
        let id = u32::try_from(self.ends.len()).expect("fewer than 2^32 names");
        self.text.push_str(text);
        self.ends.push(u32::try_from(self.text.len()).expect("less than 4 GiB of names"));
        let hash = self.hasher.hash_one(text);
        let Interner { text, ends, ids, hasher } = self;
        ids.insert_unique(hash, id, |id| {
            let at = *id as usize;
            let start = if at == 0 { 0 } else { ends[at - 1] as usize };
            hasher.hash_one(&text[start..ends[at] as usize])
        });
        id
    }

    /// How many texts there are.
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// How much memory it takes, in bytes.
    pub fn size_bytes(&self) -> usize {
        self.text.capacity()
            + self.ends.capacity() * size_of::<u32>()
            + self.ids.capacity() * (size_of::<u32>() + 1)
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.ends.is_empty()
    }
}
