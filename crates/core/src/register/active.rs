//! Activations: by id, by grant, by subject. There are few beside all else, so they lie in maps that
//! copies share.

use super::{Activation, EntityId};
use crate::pieces::Slots;
use imbl::HashMap;
use std::sync::Arc;

/// All activations, under numbers.
#[derive(Clone, Debug, Default)]
pub(super) struct Activations {
    all: Slots<Arc<Activation>, 255>,
    ids: HashMap<Box<str>, u32>,
    by_grant: HashMap<u32, Arc<Vec<u32>>>,
    by_subject: HashMap<EntityId, Arc<Vec<u32>>>,
}

impl Activations {
    /// The number of an id.
    pub fn find(&self, id: &str) -> Option<u32> {
        self.ids.get(id).copied()
    }

    /// Those of a number.
    pub fn get(&self, at: u32) -> Option<&Activation> {
        self.all.get(at).map(AsRef::as_ref)
    }

    /// Those of a grant.
    pub fn of_grant(&self, grant: u32) -> impl Iterator<Item = &Activation> {
        self.numbers_of_grant(grant).iter().filter_map(|at| self.get(*at))
    }

    /// The numbers of those of a grant.
    pub fn numbers_of_grant(&self, grant: u32) -> &[u32] {
        self.by_grant.get(&grant).map_or(&[], |all| all)
    }

    /// The numbers of those for a subject.
    pub fn numbers_of_subject(&self, subject: EntityId) -> &[u32] {
        self.by_subject.get(&subject).map_or(&[], |all| all)
    }

    /// All of them.
    pub fn iter(&self) -> impl Iterator<Item = &Activation> {
        self.all.iter().map(AsRef::as_ref)
    }

    /// The ids of all of them.
    pub fn ids(&self) -> impl Iterator<Item = &str> {
        self.ids.keys().map(AsRef::as_ref)
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.ids.len()
    }

    /// Adds one under a number of its own.
    pub fn add(&mut self, activation: Activation) -> u32 {
        let (id, grant, subject) = (activation.id.clone(), activation.grant, activation.subject);
        let at = self.all.put(Arc::new(activation));
        self.ids.insert(id, at);
        Arc::make_mut(self.by_grant.entry(grant).or_default()).push(at);
        Arc::make_mut(self.by_subject.entry(subject).or_default()).push(at);
        at
    }

    /// Takes one out.
    pub fn take(&mut self, at: u32) -> Option<Activation> {
        let activation = Arc::unwrap_or_clone(self.all.take(at)?);
        self.ids.remove(&activation.id);
        forget(&mut self.by_grant, activation.grant, at);
        forget(&mut self.by_subject, activation.subject, at);
        Some(activation)
    }

    /// How much memory they take, in bytes; what the maps take is reckoned, not measured.
    pub fn size_bytes(&self) -> usize {
        let activation = |of: &Activation| {
            let texts =
                2 * of.id.len() + of.reason.len() + of.session.as_ref().map_or(0, |session| session.len());
            // Itself, and in each map a key, a list of one and some of the map's inner nodes.
            texts + size_of::<Activation>() + 3 * 64
        };
        self.all.size_bytes() + self.iter().map(activation).sum::<usize>()
    }
}

fn forget<K: Eq + std::hash::Hash + Clone>(map: &mut HashMap<K, Arc<Vec<u32>>>, key: K, item: u32) {
    let Some(list) = map.get_mut(&key) else { return };
    let list = Arc::make_mut(list);
    list.retain(|known| *known != item);
    if list.is_empty() {
        map.remove(&key);
    }
}
