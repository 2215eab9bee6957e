//! Texts by number.

use super::{ROWS, Table, Tree};

/// How many bytes of texts make a piece. A longer text is a piece by itself, and takes the numbers of
/// as many as it is long.
const BYTES: usize = 64 << 10;

type Ends = Table<u32, ROWS>;

/// Texts by number, in a few pieces of memory.
#[derive(Clone, Debug, Default)]
pub struct Texts {
    /// No text lies in two pieces: what one has no room for begins the next.
    pieces: Tree<String>,
    /// Where each ends, were all pieces full and one behind the other.
    ends: Ends,
}

impl Texts {
    /// The text of a number; empty if there is none.
    pub fn get(&self, id: u32) -> &str {
        let at = id as usize;
        if !self.ends.has(at) {
            return "";
        }
        let (before, end) = (self.end_before(at), *self.ends.get(at) as usize);
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
    fn end_before(&self, at: usize) -> usize {
        Ends::before(at).map_or(0, |before| *self.ends.get(before) as usize)
    }

    /// Adds a text under the next number.
    ///
    /// # Panics
    /// Beyond 4 GiB of texts, which the limits on keys and files keep out of reach.
    pub fn push(&mut self, text: &str) -> u32 {
        let before = self.end_before(self.ends.end());
        let end = if text.is_empty() { before } else { self.write(before, text) };
        let id = self.ends.push(u32::try_from(end).expect("less than 4 GiB of texts"));
        u32::try_from(id).expect("fewer than 2^32 texts")
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
        if at >= self.ends.end() {
            return;
        }
        self.ends.truncate(at);
        let end = self.end_before(at);
        self.pieces.truncate(end.div_ceil(BYTES));
        if !end.is_multiple_of(BYTES) {
            self.pieces.get_mut(end / BYTES).truncate(end % BYTES);
        }
    }

    /// The number that is given next: all that were given lie below.
    pub fn end(&self) -> usize {
        self.ends.end()
    }

    /// How much memory it takes, in bytes.
    pub fn size_bytes(&self) -> usize {
        let pieces = self.pieces.iter().map(|piece| size_of::<String>() + piece.capacity()).sum::<usize>();
        pieces + self.pieces.size_bytes() + self.ends.size_bytes()
    }
}
