//! The numbers of rows by a hash of what stands in them.

use super::Tree;
use hashbrown::HashTable;

/// How many numbers stand in one piece before all are spread over twice as many.
const FULL: usize = 1_600;

/// Numbers by hash. What they stand for is elsewhere: it is asked whether it is what is looked for,
/// and for its hash where numbers are spread anew.
#[derive(Clone, Debug)]
pub(crate) struct Index {
    pieces: Tree<HashTable<u32>>,
    len: usize,
}

impl Default for Index {
    fn default() -> Self {
        let mut pieces = Tree::default();
        pieces.push(HashTable::new());
        Index { pieces, len: 0 }
    }
}

impl Index {
    /// Bits that the table inside a piece does not look at: it takes the lowest and the highest ones.
    fn piece(&self, hash: u64) -> usize {
        let mask = self.pieces.len() - 1;
        usize::try_from(hash >> 32).unwrap_or(0) & mask
    }

    /// The number under a hash that is the one looked for.
    #[inline]
    pub fn find(&self, hash: u64, is: impl Fn(u32) -> bool) -> Option<u32> {
        self.pieces.get(self.piece(hash)).find(hash, |number| is(*number)).copied()
    }

    /// Adds a number that is not there.
    pub fn insert(&mut self, hash: u64, number: u32, hash_of: impl Fn(u32) -> u64) {
        if self.len >= self.pieces.len() * FULL {
            self.spread(&hash_of);
        }
        let piece = self.piece(hash);
        self.pieces.get_mut(piece).insert_unique(hash, number, |number| hash_of(*number));
        self.len += 1;
    }

    /// Takes a number out, if it is there.
    pub fn remove(&mut self, hash: u64, number: u32) {
        let piece = self.piece(hash);
        if self.pieces.get(piece).find(hash, |known| *known == number).is_none() {
            return;
        }
        if let Ok(entry) = self.pieces.get_mut(piece).find_entry(hash, |known| *known == number) {
            entry.remove();
            self.len -= 1;
        }
    }

    fn spread(&mut self, hash_of: &impl Fn(u32) -> u64) {
        let pieces = self.pieces.len() * 2;
        let mut spread = vec![HashTable::with_capacity(FULL / 2 + FULL / 8); pieces];
        let mask = pieces - 1;
        for number in self.pieces.iter().flat_map(HashTable::iter) {
            let hash = hash_of(*number);
            let piece = usize::try_from(hash >> 32).unwrap_or(0) & mask;
            spread[piece].insert_unique(hash, *number, |number| hash_of(*number));
        }
        let mut tree = Tree::default();
        spread.into_iter().for_each(|piece| tree.push(piece));
        self.pieces = tree;
    }

    /// How much memory it takes, in bytes.
    pub fn size_bytes(&self) -> usize {
        let piece = |piece: &HashTable<u32>| size_of::<HashTable<u32>>() + piece.allocation_size();
        self.pieces.iter().map(piece).sum::<usize>() + self.pieces.size_bytes()
    }
}
