//! Names in their order, so that a page of entities costs what is on it.
//!
//! What there was at some moment is sorted once, and used until much has come since: what was registered
//! after it is looked at beside it. An entity keeps its number, and who has its name now is asked of the
//! register that is read, so that an order is never more than where to look.

use ostrog_core::prelude::Register;
use ostrog_core::register::{EntityId, State};

/// So many more than were sorted, and they are sorted anew.
const MANY: u32 = 10_000;

fn is_there(register: &Register, id: EntityId) -> bool {
    register.state(id) != State::Deleted
}

/// The order of names in one line of registers.
#[derive(Debug)]
pub struct Names {
    /// How often everything had been read anew: numbers of entities mean something within one reading only.
    reading: u64,
    sorted: Vec<EntityId>,
    /// The number that would have been the next one.
    end: u32,
}

impl Names {
    /// Sorts the names of a register.
    pub fn sort(reading: u64, register: &Register) -> Names {
        // Deleted ones too: whoever still reads of before finds what was there.
        let mut sorted: Vec<EntityId> = register.every_entity().collect();
        sorted.sort_unstable_by(|a, b| register.name(*a).cmp(register.name(*b)));
        Names { reading, sorted, end: register.entity_end() }
    }

    /// Whether it is an order of this register.
    pub fn is_of(&self, reading: u64, register: &Register) -> bool {
        self.reading == reading && self.end <= register.entity_end()
    }

    /// Whether much has come since.
    pub fn is_old(&self, register: &Register) -> bool {
        register.entity_end().saturating_sub(self.end) > MANY
    }

    /// Everything that is registered, by name, from a name on.
    pub fn from<'r>(&'r self, register: &'r Register, start: &str) -> impl Iterator<Item = EntityId> + 'r {
        let at = self.sorted.partition_point(|id| register.name(*id) < start);
        let mut since: Vec<EntityId> = (self.end..register.entity_end())
            .map(EntityId)
            .filter(|id| is_there(register, *id) && register.name(*id) >= start)
            .collect();
        since.sort_unstable_by(|a, b| register.name(*a).cmp(register.name(*b)));
        let mut before = self.sorted[at..].iter().copied().filter(|id| is_there(register, *id)).peekable();
        let mut since = since.into_iter().peekable();
        std::iter::from_fn(move || match (before.peek(), since.peek()) {
            (Some(a), Some(b)) if register.name(*b) < register.name(*a) => since.next(),
            (Some(_), _) => before.next(),
            (None, _) => since.next(),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ostrog_core::prelude::{Change, Policy, Sources, World, charter, line};
    use std::sync::Arc;

    const CHARTER: &str = "[charter]\nname = \"x\"\nformat = 1\n[application.quay]\n[resource.vessel]\napplication = \"quay\"\nwithin = \"tenant\"\nactions = { view = \"\" }\n";

    fn apply(world: &mut World, lines: &[String]) {
        let changes: Vec<Change> = lines.iter().map(|text| line::parse(text).expect("a line")).collect();
        world.apply(&changes).expect("fits");
    }

    /// Deleted, made anew and come since: the order is that of sorting what there is.
    #[test]
    fn an_order_of_before_gives_what_there_is_now() {
        let policy: Policy = charter::read(&Sources::single("c.toml", CHARTER)).policy.expect("it holds");
        let mut world = World::new(Arc::new(policy), Register::default());
        let user = |n: u32| format!("{{\"entity\":\"user:{}\"}}", n * 7919 % 1009);
        apply(&mut world, &(0..500).map(user).collect::<Vec<_>>());
        let names = Names::sort(3, world.register());
        let mut lines: Vec<String> = (500..700).map(user).collect();
        lines.extend((0..60).map(|n| format!("{{\"delete\":\"user:{}\"}}", n * 7919 % 1009)));
        lines.extend((0..30).map(user));
        apply(&mut world, &lines);
        let register = world.register();
        for start in ["", "user:", "user:3", "user:500", "vessel:"] {
            let found: Vec<&str> = names.from(register, start).map(|id| register.name(id)).collect();
            let mut wanted: Vec<&str> = register.all_entities().map(|id| register.name(id)).collect();
            wanted.retain(|name| *name >= start);
            wanted.sort_unstable();
            assert_eq!(found, wanted, "from {start:?}");
        }
        assert!(names.is_of(3, register) && !names.is_of(4, register) && !names.is_old(register));
        assert!(!names.is_of(3, &Register::default()), "of a register that knows fewer");
    }
}
