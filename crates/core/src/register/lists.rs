//! Lists and slots by the million, without a piece of memory for each.

/// A list in a [`Lists`]: where it stands and how long it is. Its room follows from its length.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct List {
    start: u32,
    len: u32,
}

/// Many lists, most of them short, in one piece of memory. Room that a list leaves is taken by the
/// next one of that size.
#[derive(Clone, Debug)]
pub(super) struct Lists<T> {
    items: Vec<T>,
    /// Where there is room, by its class.
    free: Vec<Vec<u32>>,
}

impl<T> Default for Lists<T> {
    fn default() -> Self {
        Lists { items: Vec::new(), free: Vec::new() }
    }
}

/// The room a list of a length has: up to a third more than it needs.
fn room(len: u32) -> u32 {
    if len <= 4 {
        return len;
    }
    let most = len.next_power_of_two();
    let less = most / 4 * 3;
    if len <= less { less } else { most }
}

/// The number of a room's size, in order of size.
fn class(room: u32) -> usize {
    if room <= 4 {
        return room as usize;
    }
    let most = room.next_power_of_two();
    2 * most.trailing_zeros() as usize + usize::from(room == most)
}

impl<T: Copy + Default + PartialEq> Lists<T> {
    pub fn get(&self, list: List) -> &[T] {
        &self.items[list.start as usize..][..list.len as usize]
    }

    fn get_mut(&mut self, list: List) -> &mut [T] {
        &mut self.items[list.start as usize..][..list.len as usize]
    }

    /// Room for a list of a length, taken from what is free or added.
    fn take_room(&mut self, len: u32) -> List {
        let room = room(len);
        if room == 0 {
            return List::default();
        }
        let free = self.free.get_mut(class(room)).and_then(Vec::pop);
        let start = free.unwrap_or_else(|| {
            let start = u32::try_from(self.items.len()).expect("fewer than 2^32 items in lists");
            grow(&mut self.items, room as usize);
            self.items.resize(start as usize + room as usize, T::default());
            start
        });
        List { start, len }
    }

    fn leave(&mut self, list: List) {
        let room = room(list.len);
        if room == 0 {
            return;
        }
        let class = class(room);
        if self.free.len() <= class {
            self.free.resize(class + 1, Vec::new());
        }
        self.free[class].push(list.start);
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

    pub fn push(&mut self, list: &mut List, item: T) {
        self.resize(list, list.len + 1);
        let last = list.len as usize - 1;
        self.get_mut(*list)[last] = item;
    }

    /// Takes an item out; the last one comes into its place.
    pub fn take(&mut self, list: &mut List, item: T) {
        let items = self.get_mut(*list);
        // What was added last is what is taken back soonest.
        if let Some(at) = items.iter().rposition(|known| *known == item) {
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
        let from = list.start as usize;
        self.items.copy_within(from..from + kept, moved.start as usize);
        self.leave(*list);
        *list = moved;
    }

    pub fn size_bytes(&self) -> usize {
        let free: usize = self.free.iter().map(Vec::capacity).sum();
        self.items.capacity() * size_of::<T>()
            + self.free.capacity() * size_of::<Vec<u32>>()
            + free * size_of::<u32>()
    }
}

/// Things under numbers; the number of one that is gone is given again.
#[derive(Clone, Debug)]
pub(super) struct Slots<T> {
    items: Vec<Option<T>>,
    free: Vec<u32>,
}

impl<T> Default for Slots<T> {
    fn default() -> Self {
        Slots { items: Vec::new(), free: Vec::new() }
    }
}

impl<T> Slots<T> {
    pub fn put(&mut self, item: T) -> u32 {
        if let Some(at) = self.free.pop() {
            self.items[at as usize] = Some(item);
            return at;
        }
        let at = u32::try_from(self.items.len()).expect("fewer than 2^32 slots");
        grow(&mut self.items, 1);
        self.items.push(Some(item));
        at
    }

    pub fn get(&self, at: u32) -> Option<&T> {
        self.items.get(at as usize)?.as_ref()
    }

    pub fn get_mut(&mut self, at: u32) -> Option<&mut T> {
        self.items.get_mut(at as usize)?.as_mut()
    }

    pub fn take(&mut self, at: u32) -> Option<T> {
        let item = self.items.get_mut(at as usize)?.take()?;
        self.free.push(at);
        Some(item)
    }

    pub fn iter(&self) -> impl Iterator<Item = &T> {
        self.items.iter().flatten()
    }

    pub fn size_bytes(&self) -> usize {
        self.items.capacity() * size_of::<Option<T>>() + self.free.capacity() * size_of::<u32>()
    }
}

/// Makes room for some more: an eighth at once, not as much again. What is kept by the million is
/// not kept beside as much free room.
pub(super) fn grow<T>(list: &mut Vec<T>, more: usize) {
    if list.capacity() - list.len() < more {
        list.reserve_exact(more.max(list.len() / 8));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_hold_what_vectors_hold_and_rooms_are_used_again() {
        let mut lists = Lists::<u32>::default();
        let mut held = vec![(List::default(), Vec::new()); 40];
        let mut dice = 7_u64;
        let mut below = |bound: u32| {
            dice = dice.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            u32::try_from(dice >> 33).unwrap_or(0) % bound
        };
        for round in 0..20_000 {
            let (list, model) = &mut held[below(40) as usize];
            match below(5) {
                0 if !model.is_empty() => {
                    let item = model[below(u32::try_from(model.len()).unwrap_or(1)) as usize];
                    lists.take(list, item);
                    let at = model.iter().position(|known| *known == item).unwrap_or(0);
                    model.swap_remove(at);
                }
                1 => {
                    *model = (0..below(30)).collect();
                    lists.set(list, model);
                }
                _ => {
                    lists.push(list, round);
                    model.push(round);
                }
            }
            assert_eq!(lists.get(*list), model.as_slice());
        }
        for (list, model) in &held {
            assert_eq!(lists.get(*list), model.as_slice());
        }
        let most: usize = held.iter().map(|(_, model)| model.len()).sum();
        assert!(lists.items.len() < most * 4 + 2_000, "{} items for {most}", lists.items.len());
    }
}
