//! Rows by number.

use super::Tree;
use std::array;

/// Rows by number, `N` to a piece, one less than a power of two: the last number of each such stretch
/// is never given. So where a row lies needs no division, and a piece with the counters of its owners
/// takes a power of two of memory, not a little more.
#[derive(Clone, Debug)]
pub(crate) struct Table<T, const N: usize> {
    pieces: Tree<[T; N]>,
    end: usize,
}

impl<T: Clone + Default, const N: usize> Default for Table<T, N> {
    fn default() -> Self {
        const { assert!((N + 1).is_power_of_two(), "one less than a power of two") };
        Table { pieces: Tree::default(), end: 0 }
    }
}

impl<T: Clone + Default, const N: usize> Table<T, N> {
    const STRIDE: usize = N + 1;

    /// The number that is given next: all that were given lie below.
    pub fn end(&self) -> usize {
        self.end
    }

    /// How many rows there are.
    pub fn len(&self) -> usize {
        self.end - self.end / Self::STRIDE
    }

    /// Whether a number stands for a row.
    pub fn has(&self, at: usize) -> bool {
        at < self.end && at % Self::STRIDE != N
    }

    /// The number before another one, if it is not the first.
    pub fn before(at: usize) -> Option<usize> {
        let before = at.checked_sub(1)?;
        Some(if before % Self::STRIDE == N { before - 1 } else { before })
    }

    /// All numbers, in order.
    pub fn numbers(&self) -> impl Iterator<Item = usize> + use<T, N> {
        (0..self.end).filter(|at| at % Self::STRIDE != N)
    }

    /// A row.
    ///
    /// # Panics
    /// If there is none of that number.
    #[inline]
    pub fn get(&self, at: usize) -> &T {
        &self.pieces.get(at / Self::STRIDE)[at % Self::STRIDE]
    }

    /// A row to write to.
    ///
    /// # Panics
    /// As [`Table::get`].
    pub fn get_mut(&mut self, at: usize) -> &mut T {
        &mut self.pieces.get_mut(at / Self::STRIDE)[at % Self::STRIDE]
    }

    /// Adds a row, and gives its number.
    pub fn push(&mut self, row: T) -> usize {
        let at = self.end;
        if at / Self::STRIDE == self.pieces.len() {
            self.pieces.push(array::from_fn(|_| T::default()));
        }
        *self.get_mut(at) = row;
        self.end = if (at + 1) % Self::STRIDE == N { at + 2 } else { at + 1 };
        at
    }

    /// Takes the last row.
    pub fn pop(&mut self) -> Option<T> {
        let last = Self::before(self.end)?;
        let row = std::mem::take(self.get_mut(last));
        self.truncate(last);
        Some(row)
    }

    /// Forgets the rows from a number on.
    pub fn truncate(&mut self, end: usize) {
        self.end = self.end.min(end);
        // A piece to spare: what is taken off and put on again at its edge does not make it anew.
        self.pieces.truncate(self.end.div_ceil(Self::STRIDE) + 1);
    }

    /// All rows, in order.
    pub fn iter(&self) -> impl Iterator<Item = &T> {
        self.pieces.iter().flatten().take(self.len())
    }

    /// How much memory it takes, in bytes, without what its rows own.
    pub fn size_bytes(&self) -> usize {
        self.pieces.len() * size_of::<[T; N]>() + self.pieces.size_bytes()
    }
}
