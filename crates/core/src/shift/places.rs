//! The resources that subjects who are alike can reach, in groups that must get the same answer: alike,
//! and with the same of these subjects' grants at them and around them.
//!
//! The subjects' places cut what lies within them into *segments*: what lies at or within one place
//! and not at or within a deeper one. All of a segment has the same grants around it, so within it only the
//! classes of [`Resources`] tell resources apart. How much of each class lies within a place is counted
//! once for all subjects; what a segment has of it is that, less what deeper places have.

use super::about::Side;
use super::alike::{Resources, matters};
use super::depends::Depends;
use crate::decide::question::{Question, Subject};
use crate::decide::reach::at_and_within;
use crate::register::{EntityId, PlaceOf, Register, Sym};
use hashbrown::{HashMap, HashSet};
use std::collections::BTreeSet;
use std::rc::Rc;

/// What tells a group from the others of the same subjects.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Mark {
    /// The innermost of the subjects' places around it.
    segment: Option<EntityId>,
    /// What its members are alike in.
    class: usize,
}

/// Resources that get the same answer, but where they name who asks.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Group {
    /// Which.
    pub mark: Mark,
    /// How many.
    pub count: usize,
}

/// The groups of some subjects.
#[derive(Debug)]
pub struct Groups {
    /// In order.
    pub list: Vec<Group>,
    cuts: HashSet<EntityId>,
    /// If there is one, nothing can differ but at and within one of these.
    bounds: Option<HashSet<EntityId>>,
    /// What is granted to groups, and everywhere, and arrives in a segment, as a number; none where
    /// something is granted to the subject itself.
    arriving: HashMap<Option<EntityId>, Option<usize>>,
}

impl Groups {
    /// Of subjects who are alike but for grants, groups with the same two numbers get the same answer.
    pub fn shared(&self, group: Group) -> Option<(usize, usize)> {
        Some(((*self.arriving.get(&group.mark.segment)?)?, group.mark.class))
    }
}

/// How many of each class lie at and within a place, and the first of them.
type Within = Rc<HashMap<usize, (usize, Vec<usize>)>>;
/// How many members of a class are remembered of a place.
const REMEMBERED: usize = 8;

/// Groups for subjects after subjects.
pub struct Places<'a, 'w> {
    sides: &'a [Side<'w>; 2],
    all: &'a Resources,
    read: &'a Depends,
    within: HashMap<EntityId, Within>,
    /// Roles whose grants matter.
    roles: HashSet<Sym>,
    /// If only these differ: nothing does where none of them is granted.
    differing: Option<HashSet<Sym>>,
    /// What arrives somewhere, each with its number.
    arriving: HashMap<Vec<u32>, usize>,
}

impl<'a, 'w> Places<'a, 'w> {
    pub fn new(
        sides: &'a [Side<'w>; 2],
        all: &'a Resources,
        read: &'a Depends,
        differing: Option<&BTreeSet<String>>,
    ) -> Self {
        let register = sides[0].world.register();
        let held: HashSet<Sym> = register.all_grants().map(|grant| grant.role).collect();
        let of = |meant: &dyn Fn(Sym) -> bool| held.iter().copied().filter(|role| meant(*role)).collect();
        let roles = of(&|role| matters(register, role, read));
        let differing = differing.map(|keys| of(&|role| keys.contains(register.text(role))));
        Places { sides, all, read, within: HashMap::new(), roles, differing, arriving: HashMap::new() }
    }

    /// The groups of a subject and of all who are alike; none if nothing can differ for them.
    pub fn of(&mut self, questions: &[Option<Question>; 2]) -> Option<Groups> {
        let mut found =
            if self.all.same_register { self.by_segment(questions)? } else { self.each_by_itself(questions) };
        found.list.sort_unstable();
        Some(found)
    }

    /// Whether anything can differ for these subjects at a resource.
    pub fn can_differ(&self, groups: &Groups, at: usize) -> bool {
        let Some(bounds) = &groups.bounds else { return true };
        let register = self.sides[0].world.register();
        self.all.ids[at][0].is_some_and(|id| around(register, id).any(|place| bounds.contains(&place)))
    }

    /// Which group of some subjects a resource is in.
    pub fn mark(&self, groups: &Groups, at: usize) -> Mark {
        let register = self.sides[0].world.register();
        let mut outwards = self.all.ids[at][0].into_iter().flat_map(|id| around(register, id));
        let segment = outwards.find(|place| groups.cuts.contains(place));
        Mark { segment: segment.filter(|_| self.all.same_register), class: self.all.classes[at] }
    }

    /// Some members of a group, but not those to leave out.
    pub fn some(&self, groups: &Groups, group: Group, most: usize, without: &HashSet<usize>) -> Vec<usize> {
        let meant = |at: &&usize| !without.contains(*at) && self.mark(groups, **at) == group.mark;
        let class = group.mark.class;
        let remembered = group.mark.segment.and_then(|place| self.within.get(&place)?.get(&class));
        let few = remembered.map_or(&[][..], |(_, first)| first);
        let mut found: Vec<usize> = few.iter().filter(meant).take(most).copied().collect();
        if found.len() < most.min(group.count) {
            // Those remembered of a place may lie in deeper ones.
            found = self.all.members[class].iter().filter(meant).take(most).copied().collect();
        }
        found
    }

    /// Where the two registers differ no class has a second member.
    fn each_by_itself(&self, questions: &[Option<Question>; 2]) -> Groups {
        let mut own: HashSet<usize> = HashSet::new();
        for (side, question) in questions.iter().enumerate() {
            let Some(question) = question else { continue };
            match self.sides[side].places(question, &|_| false) {
                None => own.extend(0..self.all.names.len()),
                Some(places) => {
                    let under = at_and_within(self.sides[side].world.register(), places);
                    own.extend(under.iter().filter_map(|id| self.all.places[side].get(id)));
                }
            }
        }
        let group = |at: usize| Group { mark: Mark { segment: None, class: self.all.classes[at] }, count: 1 };
        Groups {
            list: own.into_iter().map(group).collect(),
            cuts: HashSet::new(),
            bounds: None,
            arriving: HashMap::new(),
        }
    }

    /// In one register both sides know a thing by the same number, and grants are the same.
    fn by_segment(&mut self, questions: &[Option<Question>; 2]) -> Option<Groups> {
        let register = self.sides[0].world.register();
        let (mut cuts, mut bounds) = (HashSet::new(), None);
        if let (Some(differing), Some(question)) = (&self.differing, questions.iter().flatten().next()) {
            let (places, is_everywhere) = self.granted_at(question, differing);
            if places.is_empty() && !is_everywhere {
                return None;
            }
            bounds = Some(places).filter(|_| !is_everywhere);
        }
        let mut giving: HashSet<EntityId> = HashSet::new();
        let mut anywhere = false;
        for (side, question) in questions.iter().enumerate() {
            let Some(question) = question else { continue };
            cuts.extend(self.granted_at(question, &self.roles).0);
            // What is only compared with a subject, and names it, is asked about by itself.
            match self.sides[side].places(question, &|name| self.read.is_compared(name)) {
                None => anywhere = true,
                Some(places) => giving.extend(places),
            }
        }
        cuts.extend(&giving);
        let mut inner: HashMap<Option<EntityId>, Vec<EntityId>> = HashMap::new();
        for place in &cuts {
            let outer = around(register, *place).skip(1).find(|outer| cuts.contains(outer));
            inner.entry(outer).or_default().push(*place);
        }
        let mut list = Vec::new();
        let mut add = |segment, counts: HashMap<usize, usize>| {
            let counts = counts.into_iter().filter(|(_, count)| *count > 0);
            list.extend(counts.map(|(class, count)| Group { mark: Mark { segment, class }, count }));
        };
        let is_in = |place: EntityId, places: &HashSet<EntityId>| {
            around(register, place).any(|outer| places.contains(&outer))
        };
        for place in &cuts {
            let can_differ = bounds.as_ref().is_none_or(|bounds| is_in(*place, bounds));
            if can_differ && (anywhere || is_in(*place, &giving)) {
                let counts = self.within(*place).iter().map(|(class, (count, _))| (*class, *count)).collect();
                add(Some(*place), self.less(counts, inner.get(&Some(*place))));
            }
        }
        if anywhere && bounds.is_none() {
            let counts = self.all.members.iter().map(Vec::len).enumerate().collect();
            add(None, self.less(counts, inner.get(&None)));
        }
        let arriving = self.arriving(questions, &list);
        Some(Groups { list, cuts, bounds, arriving })
    }

    /// What arrives in the segments of some groups.
    fn arriving(
        &mut self,
        questions: &[Option<Question>; 2],
        groups: &[Group],
    ) -> HashMap<Option<EntityId>, Option<usize>> {
        let mut found = HashMap::new();
        let Some(Subject::Entity(subject)) = questions.iter().flatten().next().map(|one| one.subject) else {
            return found;
        };
        let register = self.sides[0].world.register();
        let mut held = Vec::new();
        for holder in register.holders_of(subject) {
            let that_matter = register.held(holder).iter().filter(|held| self.roles.contains(&held.role));
            held.extend(that_matter.map(|held| (held.at(), held.grant(), holder == subject)));
        }
        for group in groups {
            let segment = group.mark.segment;
            if found.contains_key(&segment) {
                continue;
            }
            let around: Vec<EntityId> = segment.into_iter().flat_map(|id| around(register, id)).collect();
            let arrives = |at: PlaceOf| match at {
                PlaceOf::Everywhere => true,
                PlaceOf::At(place) => around.contains(&place),
            };
            let here = held.iter().filter(|(at, ..)| arrives(*at));
            let is_own = here.clone().any(|(_, _, is_own)| *is_own);
            let mut grants: Vec<u32> = here.map(|(_, grant, _)| *grant).collect();
            grants.sort_unstable();
            let next = self.arriving.len();
            let number = (!is_own).then(|| *self.arriving.entry(grants).or_insert(next));
            found.insert(segment, number);
        }
        found
    }

    /// Less what lies at and within places.
    fn less(
        &mut self,
        mut counts: HashMap<usize, usize>,
        inner: Option<&Vec<EntityId>>,
    ) -> HashMap<usize, usize> {
        for place in inner.into_iter().flatten() {
            for (class, (count, _)) in self.within(*place).iter() {
                if let Some(all) = counts.get_mut(class) {
                    *all = all.saturating_sub(*count);
                }
            }
        }
        counts
    }

    fn within(&mut self, place: EntityId) -> Within {
        if let Some(known) = self.within.get(&place) {
            return Rc::clone(known);
        }
        let register = self.sides[0].world.register();
        let mut classes: HashMap<usize, (usize, Vec<usize>)> = HashMap::new();
        let mut waiting = vec![place];
        while let Some(id) = waiting.pop() {
            if let Some(at) = self.all.places[0].get(&id) {
                let (count, first) = classes.entry(self.all.classes[*at]).or_default();
                *count += 1;
                if first.len() < REMEMBERED {
                    first.push(*at);
                }
            }
            waiting.extend_from_slice(register.contents(id));
        }
        classes.values_mut().for_each(|(_, first)| first.sort_unstable());
        let made = Rc::new(classes);
        self.within.insert(place, Rc::clone(&made));
        made
    }

    /// Where the subject, or a group it is in, was granted one of these roles, and whether everywhere.
    fn granted_at(&self, question: &Question, roles: &HashSet<Sym>) -> (HashSet<EntityId>, bool) {
        let (mut places, mut is_everywhere) = (HashSet::new(), false);
        let Subject::Entity(subject) = question.subject else { return (places, false) };
        let register = self.sides[0].world.register();
        for holder in register.holders_of(subject) {
            for held in register.held(holder).iter().filter(|held| roles.contains(&held.role)) {
                match held.at() {
                    PlaceOf::At(place) => drop(places.insert(place)),
                    PlaceOf::Everywhere => is_everywhere = true,
                }
            }
        }
        (places, is_everywhere)
    }
}

/// A thing, what it lies within, and so on. Containment has a bounded depth and no loops.
fn around(register: &Register, id: EntityId) -> impl Iterator<Item = EntityId> {
    std::iter::successors(Some(id), |id| register.within(*id))
}
