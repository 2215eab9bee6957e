//! The resources that one subject can reach, in groups that must get the same answer: alike, and with
//! the same of the subject's own grants at them and around them.
//!
//! The subject's places cut what lies within them into *segments*: what lies at or within one place
//! and not at or within a deeper one. All of a segment has the same grants around it, so within it only the
//! classes of [`Resources`] tell resources apart. What lies within a place is looked at once for all
//! subjects.

use super::Asker;
use super::alike::Resources;
use crate::decide::question::{Question, Subject};
use crate::decide::reach::giving_places;
use crate::register::{EntityId, PlaceOf, Register};
use hashbrown::{HashMap, HashSet};
use std::rc::Rc;

/// Resources that get the same answer.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Group {
    /// The first of them; none stands for what is not registered.
    pub first: Vec<usize>,
    /// How many.
    pub count: usize,
}

impl Group {
    fn add(&mut self, at: usize, most: usize) {
        self.count += 1;
        self.first.push(at);
        if self.first.len() > 4 * most {
            self.keep(most);
        }
    }

    fn keep(&mut self, most: usize) {
        self.first.sort_unstable();
        self.first.truncate(most);
    }
}

/// Groups for subject after subject.
pub struct Places<'a, 'w> {
    sides: &'a [Asker<'w>; 2],
    all: &'a Resources,
    /// Most resources told of a group.
    most: usize,
    /// By place: what lies at and within it, class by class.
    within: HashMap<EntityId, Rc<[(usize, Group)]>>,
}

impl<'a, 'w> Places<'a, 'w> {
    pub fn new(sides: &'a [Asker<'w>; 2], all: &'a Resources, most: usize) -> Self {
        Places { sides, all, most, within: HashMap::new() }
    }

    /// The groups of a subject, the one for what is not registered last.
    pub fn of(&mut self, questions: &[Option<Question>; 2]) -> Vec<Group> {
        let mut found =
            if self.all.same_register { self.by_segment(questions) } else { self.each_by_itself(questions) };
        found.sort_unstable();
        found.push(Group::default());
        found
    }

    /// Where the two registers differ no class has a second member.
    fn each_by_itself(&self, questions: &[Option<Question>; 2]) -> Vec<Group> {
        let mut own: HashSet<usize> = HashSet::new();
        for (side, question) in questions.iter().enumerate() {
            let Some(question) = question else { continue };
            let engine = self.sides[side].world.engine();
            match giving_places(engine, question) {
                None => own.extend(0..self.all.names.len()),
                Some(places) => {
                    let under = under(engine.register, places.into_iter().collect());
                    own.extend(under.iter().filter_map(|id| self.all.places[side].get(id)));
                }
            }
        }
        own.into_iter().map(|at| Group { first: vec![at], count: 1 }).collect()
    }

    /// In one register both sides know a thing by the same number, and grants are the same.
    fn by_segment(&mut self, questions: &[Option<Question>; 2]) -> Vec<Group> {
        let register = self.sides[0].world.register();
        let mut mine: HashSet<EntityId> = HashSet::new();
        let mut giving: HashSet<EntityId> = HashSet::new();
        let mut any = false;
        for (side, question) in questions.iter().enumerate() {
            let Some(question) = question else { continue };
            mine = granted_at(register, question);
            match giving_places(self.sides[side].world.engine(), question) {
                None => any = true,
                Some(places) => giving.extend(places),
            }
        }
        let nearest = |id: EntityId| around(register, id).skip(1).find(|outer| mine.contains(outer));
        let mut deeper: HashMap<EntityId, HashSet<EntityId>> = HashMap::new();
        for place in &mine {
            if let Some(outer) = nearest(*place) {
                deeper.entry(outer).or_default().insert(*place);
            }
        }
        let mut found = Vec::new();
        for place in &mine {
            if any || around(register, *place).any(|outer| giving.contains(&outer)) {
                match deeper.get(place) {
                    None => found.extend(self.within(*place).iter().map(|(_, group)| group.clone())),
                    Some(deeper) => found.extend(self.without(*place, deeper)),
                }
            }
        }
        if any {
            found.extend(self.elsewhere(&mine));
        }
        found
    }

    /// What lies at and within a place, class by class.
    fn within(&mut self, place: EntityId) -> Rc<[(usize, Group)]> {
        if let Some(known) = self.within.get(&place) {
            return Rc::clone(known);
        }
        let made: Rc<[(usize, Group)]> = self.classes_under(place, &HashSet::new()).into();
        self.within.insert(place, Rc::clone(&made));
        made
    }

    /// The same, less what lies at and within deeper places.
    fn without(&self, place: EntityId, deeper: &HashSet<EntityId>) -> Vec<Group> {
        self.classes_under(place, deeper).into_iter().map(|(_, group)| group).collect()
    }

    fn classes_under(&self, place: EntityId, deeper: &HashSet<EntityId>) -> Vec<(usize, Group)> {
        let register = self.sides[0].world.register();
        let mut classes: HashMap<usize, Group> = HashMap::new();
        let mut waiting = vec![place];
        while let Some(id) = waiting.pop() {
            if let Some(at) = self.all.places[0].get(&id) {
                classes.entry(self.all.classes[*at]).or_default().add(*at, self.most);
            }
            waiting.extend(register.contents(id).iter().filter(|inner| !deeper.contains(*inner)));
        }
        classes.values_mut().for_each(|group| group.keep(self.most));
        classes.into_iter().collect()
    }

    /// What none of the subject's places is at or around differs by class alone.
    fn elsewhere(&mut self, mine: &HashSet<EntityId>) -> Vec<Group> {
        let register = self.sides[0].world.register();
        let is_own = |at: usize| {
            self.all.ids[at][0].is_some_and(|id| around(register, id).any(|place| mine.contains(&place)))
        };
        // How many of each class lie at and within the outermost places.
        let mut own: HashMap<usize, usize> = HashMap::new();
        let outermost =
            |place: &&EntityId| !around(register, **place).skip(1).any(|outer| mine.contains(&outer));
        for place in mine.iter().filter(outermost).copied().collect::<Vec<_>>() {
            for (class, group) in self.within(place).iter() {
                *own.entry(*class).or_default() += group.count;
            }
        }
        let mut found = Vec::new();
        for (class, members) in self.all.members.iter().enumerate() {
            let count = members.len() - own.get(&class).copied().unwrap_or(0);
            if count > 0 {
                let first = members.iter().copied().filter(|at| !is_own(*at)).take(self.most).collect();
                found.push(Group { first, count });
            }
        }
        found
    }
}

/// A thing, what it lies within, and so on. Containment has a bounded depth and no loops.
fn around(register: &Register, id: EntityId) -> impl Iterator<Item = EntityId> {
    std::iter::successors(Some(id), |id| register.within(*id))
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
fn under(register: &Register, mut waiting: Vec<EntityId>) -> HashSet<EntityId> {
    let mut found = HashSet::new();
    while let Some(id) = waiting.pop() {
        if found.insert(id) {
            waiting.extend_from_slice(register.contents(id));
        }
    }
    found
}
