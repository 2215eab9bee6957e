//! Rows by number.

use super::Tree;
use std::array;

/// Rows by number, from 0, `N` to a piece.
#[derive(Clone, Debug)]
pub(crate) struct Table<T, const N: usize> {
    pieces: Tree<[T; N]>,
    len: usize,
}

impl<T: Clone + Default, const N: usize> Default for Table<T, N> {
    fn default() -> Self {
        Table { pieces: Tree::default(), len: 0 }
    }
}

impl<T: Clone + Default, const N: usize> Table<T, N> {
    /// How many rows there are.
    pub fn len(&self) -> usize {
        self.len
    }

    /// A row.
    ///
    /// # Panics
    /// If there is none of that number.
    #[inline]
    pub fn get(&self, at: usize) -> &T {
        debug_assert!(at < self.len, "there is no row {at}");
        &self.pieces.get(at / N)[at % N]
    }

    /// A row to write to.
    ///
    /// # Panics
    /// As [`Table::get`].
    pub fn get_mut(&mut self, at: usize) -> &mut T {
        debug_assert!(at < self.len, "there is no row {at}");
        &mut self.pieces.get_mut(at / N)[at % N]
    }

    /// Some rows in a row, all of one piece.
    #[inline]
    pub fn slice(&self, at: usize, len: usize) -> &[T] {
        &self.pieces.get(at / N)[at % N..][..len]
    }

    /// Some rows in a row to write to, all of one piece.
    pub fn slice_mut(&mut self, at: usize, len: usize) -> &mut [T] {
        &mut self.pieces.get_mut(at / N)[at % N..][..len]
    }

    /// Adds a row, and gives its number.
    pub fn push(&mut self, row: T) -> usize {
        let at = self.len;
        self.extend(1);
        *self.get_mut(at) = row;
        at
    }

    /// Adds so many empty rows.
    pub fn extend(&mut self, more: usize) {
        self.len += more;
        while self.pieces.len() * N < self.len {
            self.pieces.push(array::from_fn(|_| T::default()));
        }
    }

    /// Takes the last row.
    pub fn pop(&mut self) -> Option<T> {
        let last = self.len.checked_sub(1)?;
        let row = std::mem::take(self.get_mut(last));
        self.truncate(last);
        Some(row)
    }

    /// Forgets the rows from a number on.
    pub fn truncate(&mut self, len: usize) {
        self.len = self.len.min(len);
        // A piece to spare: what is taken off and put on again at its edge does not make it anew.
        self.pieces.truncate(self.len.div_ceil(N) + 1);
    }

    /// All rows, in order.
    pub fn iter(&self) -> impl Iterator<Item = &T> {
        self.pieces.iter().flatten().take(self.len)
    }

    /// How much memory it takes, in bytes, without what its rows own.
    pub fn size_bytes(&self) -> usize {
        self.pieces.len() * size_of::<[T; N]>() + self.pieces.size_bytes()
    }
}
