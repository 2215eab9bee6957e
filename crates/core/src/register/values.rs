//! The values of attributes, each kept once however many entities have it.

use crate::charter::model::Stated;
use crate::pieces::{Index, ROWS, Slots, Table};
use crate::value::Scalar;
use foldhash::fast::RandomState;
use std::hash::BuildHasher as _;

/// The number of a kept value.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct ValueId(u32);

/// Values, with how often each is used; one that is used no more is forgotten.
#[derive(Clone, Debug, Default)]
pub(super) struct Values {
    slots: Slots<Stated, 63>,
    /// How often each is used, at the same places.
    uses: Table<u32, ROWS>,
    ids: Index,
    hasher: RandomState,
}

impl Values {
    pub fn get(&self, id: ValueId) -> Option<&Stated> {
        self.slots.get(id.0)
    }

    /// Uses a value once more.
    pub fn take(&mut self, value: &Stated) -> ValueId {
        let Values { slots, uses, ids, hasher } = self;
        let hash = hasher.hash_one(value);
        if let Some(id) = ids.find(hash, |id| slots.get(id) == Some(value)) {
            *uses.get_mut(id as usize) += 1;
            return ValueId(id);
        }
        let id = slots.put(value.clone());
        while uses.end() <= id as usize {
            uses.push(0);
        }
        *uses.get_mut(id as usize) = 1;
        ids.insert(hash, id, |id| slots.get(id).map_or(0, |value| hasher.hash_one(value)));
        ValueId(id)
    }

    /// Uses a value once less.
    pub fn leave(&mut self, id: ValueId) {
        let Some(value) = self.slots.get(id.0) else { return };
        let uses = self.uses.get_mut(id.0 as usize);
        *uses -= 1;
        if *uses == 0 {
            self.ids.remove(self.hasher.hash_one(value), id.0);
            self.slots.take(id.0);
        }
    }

    pub fn size_bytes(&self) -> usize {
        let values = self.slots.iter().map(|value| match value {
            Stated::One(scalar) => scalar.size_bytes(),
            Stated::Many(scalars) => {
                scalars.capacity() * size_of::<Scalar>()
                    + scalars.iter().map(Scalar::size_bytes).sum::<usize>()
            }
            Stated::Unfit => 0,
        });
        self.slots.size_bytes() + values.sum::<usize>() + self.uses.size_bytes() + self.ids.size_bytes()
    }
}
