//! The values of attributes, each kept once however many entities have it.

use super::lists::Slots;
use crate::charter::model::Stated;
use crate::value::Scalar;
use foldhash::fast::RandomState;
use hashbrown::HashTable;
use std::hash::BuildHasher as _;

/// The number of a kept value.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct ValueId(u32);

/// Values, with how often each is used; one that is used no more is forgotten.
#[derive(Clone, Debug, Default)]
pub(super) struct Values {
    slots: Slots<(Stated, u32)>,
    ids: HashTable<u32>,
    hasher: RandomState,
}

impl Values {
    pub fn get(&self, id: ValueId) -> Option<&Stated> {
        self.slots.get(id.0).map(|(value, _)| value)
    }

    /// Uses a value once more.
    pub fn take(&mut self, value: &Stated) -> ValueId {
        let Values { slots, ids, hasher } = self;
        let hash = hasher.hash_one(value);
        let known = ids.find(hash, |id| slots.get(*id).is_some_and(|(known, _)| known == value));
        if let Some((id, (_, uses))) = known.and_then(|id| Some((*id, slots.get_mut(*id)?))) {
            *uses += 1;
            return ValueId(id);
        }
        let id = slots.put((value.clone(), 1));
        ids.insert_unique(hash, id, |id| slots.get(*id).map_or(0, |(value, _)| hasher.hash_one(value)));
        ValueId(id)
    }

    /// Uses a value once less.
    pub fn leave(&mut self, id: ValueId) {
        let Some((value, uses)) = self.slots.get_mut(id.0) else { return };
        *uses -= 1;
        if *uses == 0 {
            if let Ok(entry) = self.ids.find_entry(self.hasher.hash_one(&*value), |known| *known == id.0) {
                entry.remove();
            }
            self.slots.take(id.0);
        }
    }

    pub fn size_bytes(&self) -> usize {
        let values = self.slots.iter().map(|(value, _)| match value {
            Stated::One(scalar) => scalar.size_bytes(),
            Stated::Many(scalars) => {
                scalars.capacity() * size_of::<Scalar>()
                    + scalars.iter().map(Scalar::size_bytes).sum::<usize>()
            }
            Stated::Unfit => 0,
        });
        self.slots.size_bytes() + values.sum::<usize>() + self.ids.capacity() * (size_of::<u32>() + 1)
    }
}
