//! Texts by number.

use super::{Table, Tree, rows};

/// How many bytes of texts make a piece. A longer text is a piece by itself, and takes the numbers of
/// as many as it is long.
const BYTES: usize = 16 << 10;

/// Texts by number, from 0, in a few pieces of memory.
#[derive(Clone, Debug, Default)]
pub struct Texts {
    /// No text lies in two pieces: what one has no room for begins the next.
    pieces: Tree<String>,
    /// Where each ends, were all pieces full and one behind the other.
    ends: Table<u32, { rows(4) }>,
}

impl Texts {
    /// The text of a number; empty if there is none.
    pub fn get(&self, id: u32) -> &str {
        let at = id as usize;
        if at >= self.ends.len() {
            return "";
        }
        let (before, end) = (self.end(at), *self.ends.get(at) as usize);
        if before == end {
            return "";
        }
        // It lies behind the one before, or begins a piece.
        let next = before.next_multiple_of(BYTES);
        let start = if end <= next { before } else { next };
        let piece = start / BYTES;
        self.pieces.get(piece).get(start - piece * BYTES..end - piece * BYTES).unwrap_or("")
    }

    /// Where the texts before a number end.
    fn end(&self, at: usize) -> usize {
        if at == 0 { 0 } else { *self.ends.get(at - 1) as usize }
    }

    /// Adds a text under the next number.
    ///
    /// # Panics
    /// Beyond 4 GiB of texts, which the limits on keys and files keep out of reach.
    pub fn push(&mut self, text: &str) -> u32 {
        let id = u32::try_from(self.ends.len()).expect("fewer than 2^32 texts");
        let before = self.end(self.ends.len());
        let end = if text.is_empty() { before } else { self.write(before, text) };
        self.ends.push(u32::try_from(end).expect("less than 4 GiB of texts"));
        id
    }

    /// Writes a text behind the others, and says where it ends.
    fn write(&mut self, before: usize, text: &str) -> usize {
        let (last, used) = (before / BYTES, before % BYTES);
        if used > 0 && used + text.len() <= BYTES && self.pieces.get(last).len() == used {
            let piece = self.pieces.get_mut(last);
            if piece.len() > BYTES / 4 {
                // For good: a copy of a piece has no room to spare.
                piece.reserve_exact(BYTES - piece.len());
            }
            piece.push_str(text);
            return before + text.len();
        }
        let start = before.next_multiple_of(BYTES);
        let mut piece = String::with_capacity(if start == 0 { text.len() } else { BYTES.max(text.len()) });
        piece.push_str(text);
        self.pieces.push(piece);
        let end = start + text.len();
        while self.pieces.len() < end.div_ceil(BYTES) {
            self.pieces.push(String::new());
        }
        end
    }

    /// Forgets the texts from a number on.
    pub fn truncate(&mut self, id: u32) {
        let at = id as usize;
        if at >= self.ends.len() {
            return;
        }
        self.ends.truncate(at);
        let end = self.end(at);
        self.pieces.truncate(end.div_ceil(BYTES));
        if !end.is_multiple_of(BYTES) {
            self.pieces.get_mut(end / BYTES).truncate(end % BYTES);
        }
    }

    /// How many texts there are.
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// How much memory it takes, in bytes.
    pub fn size_bytes(&self) -> usize {
        let pieces = self.pieces.iter().map(|piece| size_of::<String>() + piece.capacity()).sum::<usize>();
        pieces + self.pieces.size_bytes() + self.ends.size_bytes()
    }
}
