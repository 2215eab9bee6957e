//! Pieces by number.

use std::sync::Arc;

/// Pieces by number, from 0, each shared until it is written to.
#[derive(Debug)]
pub(crate) struct Tree<P> {
    pieces: Arc<[Arc<P>]>,
}

impl<P> Clone for Tree<P> {
    fn clone(&self) -> Self {
        Tree { pieces: Arc::clone(&self.pieces) }
    }
}

impl<P> Default for Tree<P> {
    fn default() -> Self {
        Tree { pieces: Arc::from([]) }
    }
}

impl<P: Clone> Tree<P> {
    /// How many pieces there are.
    pub fn len(&self) -> usize {
        self.pieces.len()
    }

    /// A piece.
    ///
    /// # Panics
    /// If there is none of that number, as a slice does.
    #[inline]
    pub fn get(&self, at: usize) -> &P {
        &self.pieces[at]
    }

    /// A piece to write to: a copy of its own, if another tree shares it.
    ///
    /// # Panics
    /// As [`Tree::get`].
    pub fn get_mut(&mut self, at: usize) -> &mut P {
        Arc::make_mut(&mut Arc::make_mut(&mut self.pieces)[at])
    }

    /// Adds a piece under the next number. Costs a step for each that there is.
    pub fn push(&mut self, piece: P) {
        self.pieces = self.pieces.iter().cloned().chain([Arc::new(piece)]).collect();
    }

    /// Forgets the pieces from a number on.
    pub fn truncate(&mut self, len: usize) {
        if self.pieces.len() > len {
            self.pieces = self.pieces[..len].into();
        }
    }

    /// All pieces, in order.
    pub fn iter(&self) -> impl Iterator<Item = &P> {
        self.pieces.iter().map(AsRef::as_ref)
    }

    /// How much memory the branches take, in bytes, without the pieces.
    pub fn size_bytes(&self) -> usize {
        self.pieces.len() * size_of::<Arc<P>>()
    }
}
