//! Tables in pieces: a copy shares every piece with what it was copied from, until one of the two
//! writes to it. Copying costs the same whatever the size, and a write copies the pieces it touches.
//!
//! - [`Tree`]: pieces by number, three steps from the root;
//! - [`Table`]: rows by number, some hundreds to a piece;
//! - [`Texts`]: texts by number;
//! - [`Index`]: the numbers of rows by a hash of what stands in them;
//! - [`Lists`], [`Slots`]: lists and things under numbers that are given again.
//!
//! A register lies in these, so that each reader has all of it at one position for as long as it
//! likes, and a writer prepares the next position beside it. Two copies kept in step would take twice
//! the memory; a list of changes over a fixed base would be looked through by every decision, and
//! grows until it is made anew. The price here is two more steps to each row, both in memory that
//! decisions keep warm.

mod index;
mod lists;
mod table;
mod texts;
mod tree;

pub(crate) use index::Index;
pub(crate) use lists::{List, Lists, Slots};
pub(crate) use table::Table;
pub use texts::Texts;
pub(crate) use tree::Tree;

/// How many rows make a piece of a [`Table`]. Smaller pieces are copied sooner, of larger ones the
/// list is shorter: it is read at each step, and copied with each write.
pub(crate) const ROWS: usize = (1 << 11) - 1;

/// How many items of a size make a piece of [`Lists`]: with the counters of its owners just what the
/// allocator gives out.
pub(crate) const fn items(size: usize) -> usize {
    ((64 << 10) - 16) / size
}

#[cfg(test)]
mod tests;
