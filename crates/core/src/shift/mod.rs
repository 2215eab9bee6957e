//! The shift: who may do what after a change that they could not before, and the other way round.
//!
//! Exact, by asking: every subject, permission and resource of the register, before and after. What
//! cannot have changed is not asked (a permission whose decision depends on nothing that differs,
//! [`depends`]; what no way to it leads to), and what must get the same answers is asked once
//! (subjects and resources that are alike in all a decision can read, [`alike`]). Questions carry no context, no session, and what
//! the register says; what only a request says is compared by replaying recorded questions.

mod about;
mod alike;
mod depends;
mod places;

use crate::decide::question::Request;
use crate::decide::{Decision, InForce, World, decide, with_scratch};
use crate::register::EntityId;
use about::{About, Side};
use alike::Alike;
use depends::Depends;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// Most names told of a line; all are counted.
const MAX_NAMES: usize = 20;
/// Most resources told of a subject.
const MAX_RESOURCES: usize = 5;

/// What changed for whom.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Shift {
    /// How many subjects gain something.
    pub gaining: usize,
    /// How many lose something.
    pub losing: usize,
    /// Lines, losers first.
    pub lines: Vec<Line>,
    /// How many subjects there are; how many differ in what a decision can read.
    pub subjects: usize,
    /// See there.
    pub kinds_of_subjects: usize,
    /// The permissions whose answers could have changed.
    pub permissions: Vec<String>,
    /// How many questions were asked, each before and after.
    pub asked: usize,
    /// What was not examined, in words: the search was stopped.
    pub unexamined: Vec<String>,
}

/// One permission gained or lost for one reason.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Line {
    /// Whether it is lost; else it is gained.
    pub lost: bool,
    /// `user`, `service` or `anonymous`.
    pub kind: String,
    /// `type:action`.
    pub permission: String,
    /// Why it was as it was: a reason code.
    pub before: String,
    /// Why it is as it is.
    pub after: String,
    /// How many subjects.
    pub subjects: usize,
    /// How many resources, over all of them.
    pub resources: usize,
    /// The first of them.
    pub who: Vec<Who>,
    /// All of them.
    #[serde(skip)]
    pub everyone: Vec<String>,
}

/// One subject of a line.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Who {
    /// Who.
    pub subject: String,
    /// On how many resources.
    pub count: usize,
    /// Some of these; `a new one` is not registered.
    pub on: Vec<String>,
}

impl Shift {
    /// Whether nothing changed, as far as it was examined.
    pub fn is_nothing(&self) -> bool {
        self.lines.is_empty()
    }

    /// `3 gain, 1 loses`
    pub fn in_words(&self) -> String {
        let verb = |count: usize, word: &str| format!("{count} {word}{}", if count == 1 { "s" } else { "" });
        let gain = verb(self.gaining, "gain");
        let lose = if self.losing == 1 { "1 loses".to_owned() } else { format!("{} lose", self.losing) };
        format!("{gain}, {lose}")
    }
}

/// Only some of it.
#[derive(Clone, Debug, Default)]
pub struct Only {
    /// Of this subject.
    pub subject: Option<String>,
    /// About this permission.
    pub permission: Option<String>,
    /// About permissions of these types.
    pub types: Option<BTreeSet<String>>,
}

impl Only {
    fn has(&self, permission: &str) -> bool {
        let kind = permission.split(':').next().unwrap_or_default();
        self.permission.as_ref().is_none_or(|wanted| wanted == permission)
            && self.types.as_ref().is_none_or(|types| types.contains(kind))
    }
}

/// How far a comparison is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Progress {
    /// Permissions compared, of those whose answers could have changed.
    pub permissions: usize,
    /// See there.
    pub of_permissions: usize,
    /// Kinds of subjects asked about the permission at hand.
    pub subjects: usize,
    /// See there; none while they are looked for.
    pub of_subjects: usize,
}

impl Progress {
    /// Done, and of how much: a thousand for each permission.
    pub fn in_thousandths(self) -> (usize, usize) {
        let here = (1_000 * self.subjects).checked_div(self.of_subjects).unwrap_or(0);
        (1_000 * self.permissions + here, 1_000 * self.of_permissions)
    }
}

/// Whether it is gained, the kind of subject, the permission, the reasons before and after; and for
/// each subject how many resources, and some of them.
type Moved = BTreeMap<(bool, String, String, String, String), BTreeMap<String, (usize, Vec<String>)>>;

/// What one side answered, and why.
type Answers = [(bool, String); 2];

/// Compares two worlds. `go_on` is asked now and then; once it says no, what is left is named.
pub fn shift(
    before: &World,
    after: &World,
    now: Timestamp,
    only: &Only,
    go_on: &mut dyn FnMut(Progress) -> bool,
) -> Shift {
    let mut made = Shift::default();
    let mut lines = Moved::new();
    compare(&mut made, &mut lines, [before, after], now, only, go_on);
    tell(&mut made, lines);
    made
}

/// Compares what is live side by side with what would be: each type under the charters of those who own it.
pub fn between(
    before: &InForce,
    after: &InForce,
    now: Timestamp,
    only: &Only,
    go_on: &mut dyn FnMut(Progress) -> bool,
) -> Shift {
    let kinds = |of: &InForce| of.owners().all().map(|(kind, _)| kind.to_owned()).collect::<BTreeSet<_>>();
    let mut pairs: BTreeMap<(usize, usize), BTreeSet<String>> = BTreeMap::new();
    for kind in &kinds(before) | &kinds(after) {
        if only.types.as_ref().is_none_or(|types| types.contains(&kind)) {
            let pair = (before.of_type(&kind), after.of_type(&kind));
            pairs.entry(pair).or_default().insert(kind);
        }
    }
    let mut made = Shift::default();
    let mut lines = Moved::new();
    for ((was, is), types) in pairs {
        let sides = [before.world(was), after.world(is)];
        let same = sides[0].policy().digest() == sides[1].policy().digest();
        if same && same_facts(sides[0], sides[1]) {
            continue;
        }
        let only = Only { types: Some(types), ..only.clone() };
        compare(&mut made, &mut lines, sides, now, &only, go_on);
    }
    tell(&mut made, lines);
    made
}

fn compare(
    made: &mut Shift,
    lines: &mut Moved,
    [before, after]: [&World; 2],
    now: Timestamp,
    only: &Only,
    go_on: &mut dyn FnMut(Progress) -> bool,
) {
    let same_register = same_facts(before, after);
    let mut permissions: Vec<String> = [before, after]
        .iter()
        .flat_map(|world| world.policy().model().permissions.iter().map(|permission| permission.text.clone()))
        .collect();
    permissions.sort();
    permissions.dedup();
    permissions.retain(|text| only.has(text));
    let depends = |world: &World, text: &str| {
        world.policy().permission(text).map(|permission| Depends::of(world.policy(), permission))
    };
    let mut could_change = Vec::new();
    for permission in permissions {
        let on = [depends(before, &permission), depends(after, &permission)];
        if let [Some(a), Some(b)] = &on
            && same_register
            && (&a.rest, &a.roles) == (&b.rest, &b.roles)
        {
            continue;
        }
        let differing = match &on {
            [Some(a), Some(b)] if same_register => a.but_for(b, [before.policy(), after.policy()]),
            _ => None,
        };
        let mut read = on.into_iter().flatten().fold(Depends::default(), Depends::either);
        if !same_register {
            // Each side names others, so that it matters whom.
            read.followed.clone_from(&read.read);
        }
        could_change.push((permission, read, differing));
    }
    made.permissions.extend(could_change.iter().map(|(permission, ..)| permission.clone()));
    // What both know alike is described once.
    let to_describe = if same_register { vec![before] } else { vec![before, after] };
    let mut known_subjects: BTreeMap<&Depends, Vec<Alike>> = BTreeMap::new();
    let mut progress = Progress { of_permissions: could_change.len(), ..Progress::default() };
    for (permission, read, differing) in &could_change {
        (progress.subjects, progress.of_subjects) = (0, 0);
        let nobody = format!("{permission}: for nobody");
        if !go_on(progress) {
            made.unexamined.push(nobody);
            continue;
        }
        let mut goes_on = || go_on(progress);
        // Permissions that read the same of subjects share how these are grouped.
        if !known_subjects.contains_key(read)
            && let Some(found) = alike::subjects(&to_describe, read, only.subject.as_deref(), &mut goes_on)
        {
            known_subjects.insert(read, found);
        }
        let kind = permission.split(':').next().unwrap_or_default();
        let resources = alike::resources(&to_describe, read, kind, &mut goes_on);
        let (Some(subjects), Some(resources)) = (known_subjects.get(read), resources) else {
            made.unexamined.push(nobody);
            continue;
        };
        made.subjects = made.subjects.max(subjects.iter().map(|group| group.names.len()).sum());
        made.kinds_of_subjects = made.kinds_of_subjects.max(subjects.len());
        progress.of_subjects = subjects.len();
        let sides = [before, after].map(|world| Side::of(world, permission, now));
        let mut about = About::new(permission, read, differing.as_ref(), &sides, &resources);
        for (at, group) in subjects.iter().enumerate() {
            progress.subjects = at;
            if !about.compare(group, lines, &mut || go_on(progress)) {
                let left: usize = subjects[at..].iter().map(|group| group.names.len()).sum();
                made.unexamined.push(format!("{permission}: for {left} of the subjects"));
                break;
            }
        }
        made.asked += about.asked();
        progress.permissions += 1;
    }
}

/// What questions that are replayed are held against.
#[derive(Clone, Copy, Debug)]
pub enum Before<'b> {
    /// What this answers.
    Text(&'b World),
    /// What was answered when they were recorded, question by question.
    Recorded(&'b [bool]),
}

/// The reason code of an answer that was recorded: whoever gave it may have had others.
const RECORDED: &str = "recorded";

/// The same comparison by replaying questions, each with its context and properties, at its own
/// moment or at `now`. A question that makes no sense is left out, and named; so is one of which no
/// answer was recorded.
pub fn replay(
    before: Before<'_>,
    after: &World,
    questions: &[(Request, Option<Timestamp>)],
    now: Timestamp,
) -> Shift {
    let mut made = Shift::default();
    let mut lines = Moved::new();
    for (place, (request, at)) in questions.iter().enumerate() {
        let answer = |world: &World| {
            let engine = world.engine();
            let asked = request
                .resolve_quietly(engine, at.unwrap_or(now))
                .map_err(|malformed| malformed.to_string())?;
            let decision = match &asked.question {
                Ok(question) => with_scratch(|scratch| decide(engine, question, scratch)),
                Err(reason) => Decision { allowed: false, reason: *reason },
            };
            Ok::<_, String>((decision.allowed, decision.reason.code(engine)))
        };
        let told = match before {
            Before::Text(world) => answer(world),
            Before::Recorded(all) => {
                let told = all.get(place).copied().ok_or_else(|| "no answer was recorded".to_owned());
                told.map(|allowed| (allowed, RECORDED.to_owned()))
            }
        };
        match [told, answer(after)] {
            [Ok(before), Ok(after)] => {
                made.asked += 1;
                if before.0 != after.0 {
                    let resource = request.resource.as_deref().unwrap_or("a new one");
                    let one = (request.subject.as_str(), 1);
                    note(&mut lines, &request.permission, one, [resource], &[before, after]);
                }
            }
            [Err(why), _] | [_, Err(why)] => {
                made.unexamined.push(format!("{} {}: {why}", request.subject, request.permission));
            }
        }
    }
    let named = |of: fn(&Request) -> &String| {
        questions.iter().map(|(request, _)| of(request)).collect::<BTreeSet<_>>()
    };
    made.subjects = named(|request| &request.subject).len();
    made.permissions = named(|request| &request.permission).into_iter().cloned().collect();
    tell(&mut made, lines);
    made
}

/// Notes what moved for a subject: on how many resources, and some of these.
fn note<'n>(
    lines: &mut Moved,
    permission: &str,
    (subject, resources): (&str, usize),
    some: impl IntoIterator<Item = &'n str>,
    answers: &Answers,
) {
    let kind = subject.split(':').next().unwrap_or_default().to_owned();
    let key = (!answers[0].0, kind, permission.to_owned(), answers[0].1.clone(), answers[1].1.clone());
    let (count, on) = lines.entry(key).or_default().entry(subject.to_owned()).or_default();
    *count += resources;
    let room = MAX_RESOURCES.saturating_sub(on.len());
    on.extend(some.into_iter().take(room).map(str::to_owned));
}

fn tell(made: &mut Shift, lines: Moved) {
    let (mut gaining, mut losing) = (BTreeSet::new(), BTreeSet::new());
    for ((gained, kind, permission, before, after), subjects) in lines {
        if gained { &mut gaining } else { &mut losing }.extend(subjects.keys().cloned());
        let resources = subjects.values().map(|(count, _)| count).sum();
        let who = subjects.iter().take(MAX_NAMES).map(|(subject, (count, on))| Who {
            subject: subject.clone(),
            count: *count,
            on: on.clone(),
        });
        let who = who.collect();
        let everyone: Vec<String> = subjects.into_keys().collect();
        let subjects = everyone.len();
        let lost = !gained;
        made.lines.push(Line { lost, kind, permission, before, after, subjects, resources, who, everyone });
    }
    // Losers first, and of them services: nobody sits there to complain.
    made.lines.sort_by_key(|line| {
        (!line.lost, line.kind != "service", usize::MAX - line.subjects, line.permission.clone())
    });
    (made.gaining, made.losing) = (gaining.len(), losing.len());
}

/// Whether two worlds were made from one register: the same lines, in the same places.
fn same_facts(before: &World, after: &World) -> bool {
    let (a, b) = (before.register(), after.register());
    a.entity_count() == b.entity_count()
        && a.fact_count() == b.fact_count()
        && a.names() == b.names()
        && a.entity_end() == b.entity_end()
        && a.every_entity()
            .zip(b.every_entity())
            .all(|(x, y)| x == y && a.name(x) == b.name(y) && a.record(x) == b.record(y))
        && a.all_grants().zip(b.all_grants()).all(|(x, y)| {
            x.id == y.id && x.role == y.role && x.to == y.to && x.at == y.at && x.terms == y.terms
        })
        && a.all_activations().count() == b.all_activations().count()
}

/// An entity as one side knows it.
type Known<'w> = Option<(&'w World, EntityId)>;
