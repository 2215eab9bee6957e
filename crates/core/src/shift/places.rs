//! The resources that one subject can reach, in groups that must get the same answer: alike, and with
//! the same of the subject's own grants at them and around them.

use super::Asker;
use super::alike::Resources;
use crate::decide::question::{Question, Subject};
use crate::decide::reach::candidates;
use crate::register::{EntityId, PlaceOf, Register};
use hashbrown::{HashMap, HashSet};

/// The groups, by places among the resources; an empty one stands for what is not registered.
pub fn of(sides: &[Asker<'_>; 2], questions: &[Option<Question>; 2], all: &Resources) -> Vec<Vec<usize>> {
    let mut around: Vec<Around<'_>> = Vec::new();
    let mut own: Vec<usize> = Vec::new();
    let mut any = false;
    // In one register both sides know a thing by the same number, and grants are the same.
    let mut shared: Vec<EntityId> = Vec::new();
    for (side, question) in questions.iter().enumerate() {
        let Some(question) = question else { continue };
        let engine = sides[side].world.engine();
        let mine = granted_at(engine.register, question);
        let reached = match candidates(engine, question) {
            None => {
                any = true;
                under(engine.register, &mine).into_iter().collect()
            }
            Some(some) => some,
        };
        if all.same_register {
            shared.extend(reached);
        } else {
            own.extend(reached.iter().filter_map(|id| all.places[side].get(id)));
        }
        if !all.same_register || around.is_empty() {
            let register = engine.register;
            around.push(Around { side, register, mine, known: HashMap::new(), keys: HashMap::new() });
        }
    }
    shared.sort_unstable();
    shared.dedup();
    own.extend(shared.iter().filter_map(|id| all.places[0].get(id)));
    own.sort_unstable();
    own.dedup();
    let mut groups: HashMap<(usize, [usize; 2]), Vec<usize>> = HashMap::new();
    for at in &own {
        let mut key = [0; 2];
        for around in &mut around {
            key[around.side] = all.ids[*at][around.side].map_or(0, |id| around.key(id));
        }
        groups.entry((all.classes[*at], key)).or_default().push(*at);
    }
    let mut found: Vec<Vec<usize>> = groups.into_values().collect();
    if any {
        // What none of the subject's grants is at or around differs by class alone.
        let rest = all
            .members
            .iter()
            .map(|class| class.iter().copied().filter(|at| own.binary_search(at).is_err()).collect());
        found.extend(rest.filter(|group: &Vec<usize>| !group.is_empty()));
    }
    for group in &mut found {
        group.sort_unstable();
    }
    found.sort_unstable();
    found.push(Vec::new());
    found
}

/// Where the subject, or a group it is in, holds something.
fn granted_at(register: &Register, question: &Question) -> HashSet<EntityId> {
    let Subject::Entity(subject) = question.subject else { return HashSet::new() };
    let holders = register.holders_of(subject);
    let held = holders.iter().flat_map(|holder| register.held(*holder));
    held.filter_map(|held| match held.at() {
        PlaceOf::At(place) => Some(place),
        PlaceOf::Everywhere => None,
    })
    .collect()
}

/// Everything at these places and within them.
fn under(register: &Register, places: &HashSet<EntityId>) -> HashSet<EntityId> {
    let mut found = HashSet::new();
    let mut waiting: Vec<EntityId> = places.iter().copied().collect();
    while let Some(id) = waiting.pop() {
        if found.insert(id) {
            waiting.extend_from_slice(register.contents(id));
        }
    }
    found
}

/// Which of the subject's grants lie at a resource and around it: a number for each combination.
struct Around<'r> {
    side: usize,
    register: &'r Register,
    mine: HashSet<EntityId>,
    known: HashMap<EntityId, usize>,
    /// Of a place of the subject's own, with what lies around it.
    keys: HashMap<(EntityId, usize), usize>,
}

impl Around<'_> {
    fn key(&mut self, id: EntityId) -> usize {
        let outer = self.register.within(id).map_or(0, |outer| match self.known.get(&outer) {
            Some(known) => *known,
            None => {
                let key = self.key(outer);
                self.known.insert(outer, key);
                key
            }
        });
        if !self.mine.contains(&id) {
            // What is alike lies in as many others: which of them it is need not be told.
            return outer;
        }
        let next = self.keys.len() + 1;
        *self.keys.entry((id, outer)).or_insert(next)
    }
}
