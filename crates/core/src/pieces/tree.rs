//! Pieces by number.

use std::array;
use std::sync::Arc;

/// How many pieces hang from one branch.
const FAN: usize = 64;

type Branch<P> = [Option<Arc<P>>; FAN];

/// Pieces by number, from 0, each shared until it is written to.
#[derive(Debug)]
pub(crate) struct Tree<P> {
    branches: Arc<[Arc<Branch<P>>]>,
    len: usize,
}

impl<P> Clone for Tree<P> {
    fn clone(&self) -> Self {
        Tree { branches: Arc::clone(&self.branches), len: self.len }
    }
}

impl<P> Default for Tree<P> {
    fn default() -> Self {
        Tree { branches: Arc::from([]), len: 0 }
    }
}

impl<P: Clone> Tree<P> {
    /// How many pieces there are.
    pub fn len(&self) -> usize {
        self.len
    }

    /// A piece.
    ///
    /// # Panics
    /// If there is none of that number, as a slice does.
    #[inline]
    pub fn get(&self, at: usize) -> &P {
        match &self.branches[at / FAN][at % FAN] {
            Some(piece) => piece,
            None => missing(at),
        }
    }

    /// A piece to write to: a copy of its own, if another tree shares it.
    ///
    /// # Panics
    /// As [`Tree::get`].
    pub fn get_mut(&mut self, at: usize) -> &mut P {
        let branch = &mut Arc::make_mut(&mut self.branches)[at / FAN];
        match &mut Arc::make_mut(branch)[at % FAN] {
            Some(piece) => Arc::make_mut(piece),
            None => missing(at),
        }
    }

    /// Adds a piece under the next number.
    pub fn push(&mut self, piece: P) {
        let (branch, place) = (self.len / FAN, self.len % FAN);
        if branch == self.branches.len() {
            let empty = Arc::new(array::from_fn(|_| None));
            self.branches = self.branches.iter().cloned().chain([empty]).collect();
        }
        let branch = &mut Arc::make_mut(&mut self.branches)[branch];
        Arc::make_mut(branch)[place] = Some(Arc::new(piece));
        self.len += 1;
    }

    /// Forgets the pieces from a number on.
    pub fn truncate(&mut self, len: usize) {
        while self.len > len {
            self.len -= 1;
            let branch = &mut Arc::make_mut(&mut self.branches)[self.len / FAN];
            Arc::make_mut(branch)[self.len % FAN] = None;
        }
    }

    /// All pieces, in order.
    pub fn iter(&self) -> impl Iterator<Item = &P> {
        (0..self.len).map(|at| self.get(at))
    }

    /// How much memory the branches take, in bytes, without the pieces.
    pub fn size_bytes(&self) -> usize {
        self.branches.len() * size_of::<Branch<P>>()
    }
}

#[cold]
fn missing(at: usize) -> ! {
    panic!("there is no piece {at}")
}
