//! The shift: who may do what after a change that they could not before, and the other way round.
//!
//! Exact, by asking: every subject, permission and resource of the register, before and after. What
//! cannot have changed is not asked (a permission whose decision depends on nothing that differs,
//! [`depends`]), and what must get the same answers is asked once (subjects and resources that are
//! alike in all a decision can read, [`alike`]). Questions carry no context, no session, and what
//! the register says; what only a request says is compared by replaying recorded questions.

mod alike;
mod depends;
mod places;

use crate::decide::question::{Question, Request, Resource, Subject};
use crate::decide::{Decision, Reason, World, decide, with_scratch};
use crate::register::EntityId;
use alike::Alike;
use depends::Depends;
use jiff::Timestamp;
use places::Places;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// Most names told of a line; all are counted.
const MAX_NAMES: usize = 20;
/// Most resources told of a subject.
const MAX_RESOURCES: usize = 5;

/// What changed for whom.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
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
#[derive(Clone, Debug, PartialEq, Serialize)]
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
}

/// One subject of a line.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Who {
    /// Who.
    pub subject: String,
    /// On how many resources.
    pub count: usize,
    /// The first of these; `a new one` is not registered.
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
}

/// Whether it is gained, the kind of subject, the permission, the reasons before and after; and for
/// each subject how many resources, and the first of them.
type Moved = BTreeMap<(bool, String, String, String, String), BTreeMap<String, (usize, Vec<String>)>>;

/// One side of the comparison, with the names looked at on both.
struct Asker<'w> {
    world: &'w World,
    now: Timestamp,
}

/// Compares two worlds. `go_on` is asked now and then; once it says no, what is left is named.
pub fn shift(
    before: &World,
    after: &World,
    now: Timestamp,
    only: &Only,
    go_on: &mut dyn FnMut() -> bool,
) -> Shift {
    let same_register = same_facts(before, after);
    let mut made = Shift::default();
    let mut lines = Moved::new();
    let sides = [Asker { world: before, now }, Asker { world: after, now }];
    let mut permissions: Vec<String> = [before, after]
        .iter()
        .flat_map(|world| world.policy().model().permissions.iter().map(|permission| permission.text.clone()))
        .collect();
    permissions.sort();
    permissions.dedup();
    permissions.retain(|text| only.permission.as_ref().is_none_or(|wanted| wanted == text));
    let depends = |world: &World, text: &str| {
        world.policy().permission(text).map(|permission| Depends::of(world.policy(), permission))
    };
    let mut known_subjects: BTreeMap<String, Vec<Alike>> = BTreeMap::new();
    let mut stopped = false;
    for permission in permissions {
        let on = [depends(before, &permission), depends(after, &permission)];
        let unchanged = match &on {
            [Some(a), Some(b)] => same_register && a.text == b.text,
            _ => false,
        };
        if unchanged {
            continue;
        }
        made.permissions.push(permission.clone());
        if stopped {
            made.unexamined.push(format!("{permission}: for nobody"));
            continue;
        }
        let read: Vec<&Depends> = on.iter().flatten().collect();
        // Permissions that read the same of subjects share how these are grouped.
        let key: Vec<_> = read.iter().map(|on| (&on.read, on.by_subject_name, &on.named)).collect();
        let subjects = known_subjects
            .entry(format!("{key:?}"))
            .or_insert_with(|| alike::subjects([before, after], &read, only.subject.as_deref()));
        let kind = permission.split(':').next().unwrap_or_default();
        let resources = alike::resources([before, after], &read, kind, same_register);
        made.subjects = made.subjects.max(subjects.iter().map(|group| group.names.len()).sum());
        made.kinds_of_subjects = made.kinds_of_subjects.max(subjects.len());
        let mut places = Places::new(&sides, &resources, MAX_RESOURCES);
        for (at, group) in subjects.iter().enumerate() {
            let mut questions = [0, 1].map(|side| sides[side].question(&group.names[0], &permission));
            for place in places.of(&questions) {
                if made.asked % 1_024 == 1_023 && !go_on() {
                    stopped = true;
                }
                made.asked += 1;
                let ids = place.first.first().map_or([None, None], |first| resources.ids[*first]);
                let answers = [0, 1].map(|side| sides[side].ask(questions[side].as_mut(), ids[side]));
                if answers[0].allowed != answers[1].allowed {
                    let told = [0, 1].map(|side| {
                        (answers[side].allowed, answers[side].reason.code(sides[side].world.engine()))
                    });
                    let mut first: Vec<&str> =
                        place.first.iter().map(|at| resources.names[*at].as_str()).collect();
                    if first.is_empty() {
                        first.push("a new one");
                    }
                    note(&mut lines, &permission, &group.names, (place.count.max(1), &first), &told);
                }
                if stopped {
                    break;
                }
            }
            if stopped {
                let left: usize = subjects[at..].iter().map(|group| group.names.len()).sum();
                made.unexamined.push(format!("{permission}: for {left} of the subjects"));
                break;
            }
        }
    }
    tell(&mut made, lines);
    made
}

/// The same comparison by replaying questions, each with its context and properties, at its own
/// moment or at `now`. A question that makes no sense is left out, and named.
pub fn replay(
    before: &World,
    after: &World,
    questions: &[(Request, Option<Timestamp>)],
    now: Timestamp,
) -> Shift {
    let mut made = Shift::default();
    let mut lines = Moved::new();
    for (request, at) in questions {
        let answers = [before, after].map(|world| {
            let engine = world.engine();
            let asked = request
                .resolve_quietly(engine, at.unwrap_or(now))
                .map_err(|malformed| malformed.to_string())?;
            let decision = match &asked.question {
                Ok(question) => with_scratch(|scratch| decide(engine, question, scratch)),
                Err(reason) => Decision { allowed: false, reason: *reason },
            };
            Ok::<_, String>((decision.allowed, decision.reason.code(engine)))
        });
        match answers {
            [Ok(before), Ok(after)] => {
                made.asked += 1;
                if before.0 != after.0 {
                    let subject = std::slice::from_ref(&request.subject);
                    let resource = request.resource.as_deref().unwrap_or("a new one");
                    note(&mut lines, &request.permission, subject, (1, &[resource]), &[before, after]);
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

fn note(
    lines: &mut Moved,
    permission: &str,
    subjects: &[String],
    (resources, first): (usize, &[&str]),
    answers: &[(bool, String); 2],
) {
    let kind = subjects[0].split(':').next().unwrap_or_default().to_owned();
    let key = (!answers[0].0, kind, permission.to_owned(), answers[0].1.clone(), answers[1].1.clone());
    let line = lines.entry(key).or_default();
    for subject in subjects {
        let (count, on) = line.entry(subject.clone()).or_default();
        *count += resources;
        let room = MAX_RESOURCES.saturating_sub(on.len());
        on.extend(first.iter().take(room).map(|name| (*name).to_owned()));
    }
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
        let subjects = subjects.len();
        made.lines.push(Line { lost: !gained, kind, permission, before, after, subjects, resources, who });
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

impl Asker<'_> {
    /// A question of a subject who may be of no register; none if there is no such permission.
    fn question(&self, subject: &str, permission: &str) -> Option<Question> {
        let engine = self.world.engine();
        Some(Question {
            subject: engine.register.find(subject).map_or(Subject::Anonymous, Subject::Entity),
            permission: engine.policy.permission(permission)?,
            resource: Resource::Stated { name: None, within: None },
            of_subject: Arc::default(),
            of_resource: Arc::default(),
            context: vec![None; engine.policy.model().context.len()].into(),
            now: self.now,
            session: None,
        })
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

/// An entity as one side knows it.
type Known<'w> = Option<(&'w World, EntityId)>;
