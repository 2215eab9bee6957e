//! Lists and slots by the million, without a piece of memory for each.

use super::{Table, Tree};
use std::array;
use std::sync::Arc;

/// A list in a [`Lists`]: where it stands and how long it is. Its room follows from its length.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct List {
    start: u32,
    len: u32,
}

/// Places that are free to be given again.
type Free = Table<u32, 1_023>;

/// Many lists, most of them short, `N` items to a piece. Room that a list leaves is taken by the
/// next one of that size. A list that is longer than a piece is one of its own.
///
/// Places are numbered as if a piece had a power of two of items: what a place is in needs no
/// division then, and the places beyond `N` are never given.
#[derive(Clone, Debug)]
pub(crate) struct Lists<T, const N: usize> {
    pieces: Tree<[T; N]>,
    /// The first place that was never given.
    end: usize,
    /// Where there is room, by its class.
    free: Vec<Free>,
    long: Slots<Arc<[T]>, 63>,
}

impl<T: Copy + Default + PartialEq, const N: usize> Default for Lists<T, N> {
    fn default() -> Self {
        Lists { pieces: Tree::default(), end: 0, free: Vec::new(), long: Slots::default() }
    }
}

/// The room a list of a length has: up to a third more than it needs.
const fn room(len: u32) -> u32 {
    if len <= 4 {
        return len;
    }
    let most = len.next_power_of_two();
    let less = most / 4 * 3;
    if len <= less { less } else { most }
}

/// The largest room that lies in one piece.
const fn largest(piece: usize) -> u32 {
    let mut largest = 1;
    while room(largest + 1) as usize <= piece {
        largest = room(largest + 1);
    }
    largest
}

/// The number of a room's size, in order of size.
fn class(room: u32) -> usize {
    if room <= 4 {
        return room as usize;
    }
    let most = room.next_power_of_two();
    2 * most.trailing_zeros() as usize + usize::from(room == most)
}

impl<T: Copy + Default + PartialEq, const N: usize> Lists<T, N> {
    const LARGEST: u32 = largest(N);
    const STRIDE: usize = N.next_power_of_two();

    /// The items of a list.
    #[inline]
    pub fn get(&self, list: List) -> &[T] {
        let (at, len) = (list.start as usize, list.len as usize);
        match list.len {
            0 => &[],
            long if long > Self::LARGEST => self.long.get(list.start).map_or(&[], |items| &items[..len]),
            _ => &self.pieces.get(at / Self::STRIDE)[at % Self::STRIDE..][..len],
        }
    }

    fn get_mut(&mut self, list: List) -> &mut [T] {
        let (at, len) = (list.start as usize, list.len as usize);
        match list.len {
            0 => &mut [],
            long if long > Self::LARGEST => match self.long.get_mut(list.start) {
                Some(items) => &mut Arc::make_mut(items)[..len],
                None => &mut [],
            },
            _ => &mut self.pieces.get_mut(at / Self::STRIDE)[at % Self::STRIDE..][..len],
        }
    }

    /// Room for a list of a length, taken from what is free or added.
    fn take_room(&mut self, len: u32) -> List {
        let room = room(len);
        if room == 0 {
            return List::default();
        }
        if len > Self::LARGEST {
            let items = std::iter::repeat_n(T::default(), room as usize).collect();
            return List { start: self.long.put(items), len };
        }
        let free = self.free.get_mut(class(room)).and_then(Table::pop);
        let start = free.unwrap_or_else(|| self.add_room(room));
        List { start, len }
    }

    fn add_room(&mut self, room: u32) -> u32 {
        let (at, room) = (self.end % Self::STRIDE, room as usize);
        if at > 0 && at + room > N {
            self.leave_rest(self.end, N - at);
            self.end = self.end.next_multiple_of(Self::STRIDE);
        }
        if self.end / Self::STRIDE == self.pieces.len() {
            self.pieces.push(array::from_fn(|_| T::default()));
        }
        let start = u32::try_from(self.end).expect("fewer than 2^32 items in lists");
        self.end += room;
        start
    }

    /// The end of a piece, which was too short for the list it was to hold, as rooms for shorter ones.
    fn leave_rest(&mut self, mut at: usize, mut left: usize) {
        while left > 0 {
            let most = u32::try_from(left).unwrap_or(u32::MAX);
            let room = (0..).map(|less| most - less).find(|len| room(*len) == *len).unwrap_or(1);
            self.leave_room(u32::try_from(at).unwrap_or(u32::MAX), room);
            at += room as usize;
            left -= room as usize;
        }
    }

    fn leave_room(&mut self, start: u32, room: u32) {
        let class = class(room);
        if self.free.len() <= class {
            self.free.resize(class + 1, Free::default());
        }
        self.free[class].push(start);
    }

    fn leave(&mut self, list: List) {
        match room(list.len) {
            0 => {}
            _ if list.len > Self::LARGEST => {
                self.long.take(list.start);
            }
            room => self.leave_room(list.start, room),
        }
    }

    /// Makes a list hold these.
    pub fn set(&mut self, list: &mut List, items: &[T]) {
        let len = u32::try_from(items.len()).expect("fewer than 2^32 items in a list");
        if room(len) == room(list.len) {
            list.len = len;
        } else {
            self.leave(*list);
            *list = self.take_room(len);
        }
        self.get_mut(*list).copy_from_slice(items);
    }

    /// Adds an item at the end.
    pub fn push(&mut self, list: &mut List, item: T) {
        self.resize(list, list.len + 1);
        let last = list.len as usize - 1;
        self.get_mut(*list)[last] = item;
    }

    /// Takes an item out; the last one comes into its place.
    pub fn take(&mut self, list: &mut List, item: T) {
        // What was added last is what is taken back soonest.
        if let Some(at) = self.get(*list).iter().rposition(|known| *known == item) {
            let items = self.get_mut(*list);
            items.swap(at, items.len() - 1);
            self.resize(list, list.len - 1);
        }
    }

    fn resize(&mut self, list: &mut List, len: u32) {
        if room(len) == room(list.len) {
            list.len = len;
            return;
        }
        let moved = self.take_room(len);
        let kept = list.len.min(len) as usize;
        let copied = self.get(*list)[..kept].to_vec();
        self.get_mut(moved)[..kept].copy_from_slice(&copied);
        self.leave(*list);
        *list = moved;
    }

    /// How much memory it takes, in bytes.
    pub fn size_bytes(&self) -> usize {
        let free: usize = self.free.iter().map(Table::size_bytes).sum();
        let long: usize = self.long.iter().map(|items| size_of_val(&**items)).sum();
        let pieces = self.pieces.len() * size_of::<[T; N]>() + self.pieces.size_bytes();
        pieces + self.free.capacity() * size_of::<Free>() + free + long + self.long.size_bytes()
    }
}

/// Things under numbers, `N` to a piece; the number of one that is gone is given again.
#[derive(Clone, Debug)]
pub(crate) struct Slots<T, const N: usize> {
    items: Table<Option<T>, N>,
    free: Free,
}

impl<T: Clone, const N: usize> Default for Slots<T, N> {
    fn default() -> Self {
        Slots { items: Table::default(), free: Table::default() }
    }
}

impl<T: Clone, const N: usize> Slots<T, N> {
    /// Puts a thing under a number.
    pub fn put(&mut self, item: T) -> u32 {
        if let Some(at) = self.free.pop() {
            *self.items.get_mut(at as usize) = Some(item);
            return at;
        }
        u32::try_from(self.items.push(Some(item))).expect("fewer than 2^32 slots")
    }

    /// The thing under a number.
    pub fn get(&self, at: u32) -> Option<&T> {
        if !self.items.has(at as usize) {
            return None;
        }
        self.items.get(at as usize).as_ref()
    }

    /// The thing under a number, to write to.
    pub fn get_mut(&mut self, at: u32) -> Option<&mut T> {
        if !self.items.has(at as usize) {
            return None;
        }
        self.items.get_mut(at as usize).as_mut()
    }

    /// Takes the thing under a number.
    pub fn take(&mut self, at: u32) -> Option<T> {
        if !self.items.has(at as usize) {
            return None;
        }
        let item = self.items.get_mut(at as usize).take()?;
        self.free.push(at);
        Some(item)
    }

    /// All things.
    pub fn iter(&self) -> impl Iterator<Item = &T> {
        self.items.iter().flatten()
    }

    /// How much memory it takes, in bytes, without what the things own.
    pub fn size_bytes(&self) -> usize {
        self.items.size_bytes() + self.free.size_bytes()
    }
}
