//! The comparison about one permission: subjects who are alike, asked about groups of resources.

use super::alike::{Alike, Resources};
use super::depends::Depends;
use super::places::{Group, Groups, Mark, Places};
use super::{Answers, MAX_RESOURCES, Moved, note};
use crate::charter::model::PermId;
use crate::decide::question::{Question, Resource, Subject};
use crate::decide::reach::at_and_within;
use crate::decide::ways::{Ways, naming};
use crate::decide::{Decision, Reason, World, decide, with_scratch};
use crate::register::EntityId;
use hashbrown::{HashMap, HashSet};
use jiff::Timestamp;
use std::collections::BTreeSet;
use std::sync::Arc;

/// Steps between two times to ask whether to go on.
const STRIDE: usize = 256;

/// One side of the comparison, about one permission.
pub struct Side<'w> {
    /// All it knows.
    pub world: &'w World,
    permission: Option<(PermId, Ways)>,
    now: Timestamp,
}

impl<'w> Side<'w> {
    /// Of a world.
    pub fn of(world: &'w World, permission: &str, now: Timestamp) -> Self {
        let policy = world.policy();
        let permission = policy.permission(permission).map(|id| (id, Ways::of(policy, id)));
        Side { world, permission, now }
    }

    /// A question of a subject who may be of no register; none if there is no such permission.
    fn question(&self, subject: &str) -> Option<Question> {
        let engine = self.world.engine();
        Some(Question {
            subject: engine.register.find(subject).map_or(Subject::Anonymous, Subject::Entity),
            permission: self.permission.as_ref()?.0,
            resource: Resource::Stated { name: None, within: None },
            of_subject: Arc::default(),
            of_resource: Arc::default(),
            context: vec![None; engine.policy.model().context.len()].into(),
            now: self.now,
            session: None,
            vouched: None,
        })
    }

    /// Where the subject could have the permission, but for what names it by a relation that is left
    /// out; none if anywhere.
    pub fn places(&self, question: &Question, left_out: &dyn Fn(&str) -> bool) -> Option<Vec<EntityId>> {
        let ways = &self.permission.as_ref()?.1;
        ways.places(self.world.engine(), question, left_out)
    }

    fn ask(&self, question: Option<&mut Question>, resource: Option<EntityId>) -> Decision {
        let Some(question) = question else {
            return Decision { allowed: false, reason: Reason::UnknownPermission };
        };
        question.resource = match resource {
            Some(id) => Resource::Registered(id),
            None => Resource::Stated { name: None, within: None },
        };
        with_scratch(|scratch| decide(self.world.engine(), question, scratch))
    }
}

/// The comparison about one permission.
pub struct About<'a, 'w> {
    permission: &'a str,
    read: &'a Depends,
    sides: &'a [Side<'w>; 2],
    resources: &'a Resources,
    places: Places<'a, 'w>,
    /// What was answered to subjects alike but for grants, by what arrives and the class.
    known: HashMap<(usize, usize, usize), Option<Answers>>,
    asked: usize,
    steps: usize,
}

/// What differs for subjects who are alike: for each on how many resources, and some of these.
type Differing = HashMap<Answers, Vec<(usize, Vec<usize>)>>;

impl<'a, 'w> About<'a, 'w> {
    /// Before anybody was asked about. If only some roles differ, nothing does where none is granted.
    pub fn new(
        permission: &'a str,
        read: &'a Depends,
        differing: Option<&BTreeSet<String>>,
        sides: &'a [Side<'w>; 2],
        resources: &'a Resources,
    ) -> Self {
        let places = Places::new(sides, resources, read, differing);
        About { permission, read, sides, resources, places, known: HashMap::new(), asked: 0, steps: 0 }
    }

    /// How many questions were asked.
    pub fn asked(&self) -> usize {
        self.asked
    }

    /// Asks for subjects who are alike, and notes what differs; says whether it came to its end.
    pub fn compare(&mut self, subjects: &Alike, lines: &mut Moved, go_on: &mut dyn FnMut() -> bool) -> bool {
        // The groups are the same for all of them.
        let Some(groups) = self.places.of(&self.questions(&subjects.names[0])) else { return true };
        let named: Vec<HashSet<usize>> = subjects.names.iter().map(|name| self.naming(name)).collect();
        // What is not registered names nobody.
        if let Some(answers) = self.ask(&mut self.questions(&subjects.names[0]), None) {
            for name in &subjects.names {
                note(lines, self.permission, (name, 1), ["a new one"], &answers);
            }
        }
        let found = self.by_groups(subjects, &groups, &named, go_on);
        let Some(mut found) = found else { return false };
        for (who, naming) in named.iter().enumerate().filter(|(_, naming)| !naming.is_empty()) {
            let mut questions = self.questions(&subjects.names[who]);
            for at in
                naming.iter().copied().filter(|at| self.places.can_differ(&groups, *at)).collect::<Vec<_>>()
            {
                if !self.step(go_on) {
                    return false;
                }
                if let Some(answers) = self.ask(&mut questions, Some(at)) {
                    let each = found.entry(answers).or_insert_with(|| vec![Default::default(); named.len()]);
                    each[who].0 += 1;
                    each[who].1.push(at);
                }
            }
        }
        for (answers, each) in found {
            for (name, (count, mut some)) in
                subjects.names.iter().zip(each).filter(|(_, (count, _))| *count > 0)
            {
                some.sort_unstable();
                let some = some.iter().map(|at| self.resources.names[*at].as_str());
                note(lines, self.permission, (name, count), some, &answers);
            }
        }
        true
    }

    /// What differs on groups of resources, less for each subject what names it; none if it is not to go on.
    fn by_groups(
        &mut self,
        subjects: &Alike,
        groups: &Groups,
        named: &[HashSet<usize>],
        go_on: &mut dyn FnMut() -> bool,
    ) -> Option<Differing> {
        let mut found = Differing::new();
        let unnamed = named.iter().position(HashSet::is_empty);
        let mut speaker = unnamed.unwrap_or(0);
        let mut questions = self.questions(&subjects.names[speaker]);
        // How much of each group names whom.
        let own: Vec<HashMap<Mark, usize>> = named
            .iter()
            .map(|naming| {
                let mut counts = HashMap::new();
                naming.iter().for_each(|at| *counts.entry(self.places.mark(groups, *at)).or_default() += 1);
                counts
            })
            .collect();
        let left = |who: usize, group: &Group| {
            group.count.saturating_sub(own[who].get(&group.mark).copied().unwrap_or(0))
        };
        for group in &groups.list {
            if !self.step(go_on) {
                return None;
            }
            // Somebody whom not all of it names speaks for all others.
            let Some(who) = unnamed.or_else(|| (0..named.len()).find(|who| left(*who, group) > 0)) else {
                continue;
            };
            let shared =
                groups.shared(*group).map(|(arriving, class)| (subjects.but_for_grants, arriving, class));
            let answers = if let Some(known) = shared.and_then(|key| self.known.get(&key)) {
                known.clone()
            } else {
                let some = self.places.some(groups, *group, 1, &named[who]);
                let Some(at) = some.first().copied() else { continue };
                if who != speaker {
                    (speaker, questions) = (who, self.questions(&subjects.names[who]));
                }
                let answers = self.ask(&mut questions, Some(at));
                self.known.extend(shared.map(|key| (key, answers.clone())));
                answers
            };
            let Some(answers) = answers else { continue };
            let each = found.entry(answers).or_insert_with(|| vec![Default::default(); named.len()]);
            for (who, (count, some)) in each.iter_mut().enumerate() {
                let left = left(who, group);
                *count += left;
                let room = MAX_RESOURCES.saturating_sub(some.len()).min(left);
                if room > 0 {
                    some.extend(self.places.some(groups, *group, room, &named[who]));
                }
            }
        }
        Some(found)
    }

    fn step(&mut self, go_on: &mut dyn FnMut() -> bool) -> bool {
        self.steps += 1;
        !self.steps.is_multiple_of(STRIDE) || go_on()
    }

    /// The resources that name a subject by a relation that is compared with it, and what lies within
    /// what does.
    fn naming(&self, subject: &str) -> HashSet<usize> {
        let register = self.sides[0].world.register();
        let Some(id) = register.find(subject).filter(|_| self.resources.same_register) else {
            return HashSet::new();
        };
        let meant = |name| self.read.is_compared(register.text(name));
        let all = at_and_within(register, naming(register, id, meant).collect());
        all.iter().filter_map(|id| self.resources.places[0].get(id)).copied().collect()
    }

    fn questions(&self, subject: &str) -> [Option<Question>; 2] {
        [0, 1].map(|side| self.sides[side].question(subject))
    }

    /// Both answers, if they differ.
    fn ask(&mut self, questions: &mut [Option<Question>; 2], at: Option<usize>) -> Option<Answers> {
        self.asked += 1;
        let ids = at.map_or([None, None], |at| self.resources.ids[at]);
        let answers = [0, 1].map(|side| self.sides[side].ask(questions[side].as_mut(), ids[side]));
        (answers[0].allowed != answers[1].allowed).then(|| {
            [0, 1].map(|side| {
                (answers[side].allowed, answers[side].reason.code(self.sides[side].world.engine()))
            })
        })
    }
}
