//! Whether a request has a counterpart among the values of a formula: what soundness rests on.
//!
//! Every fact that the request has, as the engine reads it, is assumed of the bits that stand for
//! it; what stands for no single fact of a request (one of many grants, an end of a path) is left to
//! the solver. If the answers that the engine gives are possible then too, the formula has room for
//! the request.

use super::encode::{Edge, ListKey, Read, ThingId, Value};
use super::formula::Bit;
use super::{Attempt, Claim, Guarantee, Possible};
use crate::charter::model::{Condition, RoleId, Step};
use crate::charter::policy::Policy;
use crate::decide::facts::{Facts, Met, Reading, with_facts};
use crate::decide::question::{Question, Request};
use crate::decide::{Lack, World, truth_of};
use crate::value::{Truth, Value as Known};
use jiff::Timestamp;
use std::collections::BTreeMap;
use std::sync::Arc;

/// What is known of a thing of the formula.
#[derive(Clone, Copy)]
enum Is<'e> {
    /// It is this.
    Met(Met<'e>),
    /// There is nothing.
    Nothing,
    /// The charter names it, and it is not registered.
    Unregistered,
    /// The solver may choose.
    Open,
}

impl Guarantee {
    /// Whether the formula that settles this guarantee has room for a request, with what the engine
    /// answers; things are told apart up to `depth` steps from the question. A proof is worth
    /// nothing if there is a request of which this is not so, so tests ask it of each they make.
    ///
    /// # Errors
    /// What of the request the formula has no room for.
    pub fn has_room_for(
        &self,
        world: &World,
        request: &Request,
        now: Timestamp,
        depth: usize,
    ) -> Result<(), Vec<String>> {
        let policy: &Arc<Policy> = world.policy();
        let text = policy.model().permissions[self.claim.permission().index()].text.clone();
        let request = Request { permission: text, ..request.clone() };
        let Ok(Ok(question)) = request.resolve_quietly(world.engine(), now).map(|asked| asked.question)
        else {
            return Ok(());
        };
        let mut attempt = Attempt::new(policy, self, depth, false);
        let truth = |condition: &Option<Condition>| {
            condition.as_ref().map_or(Truth::True, |when| truth_of(world.engine(), &question, when))
        };
        let (when, assumed) = (truth(&self.when), truth(&self.assume));
        let certain = matches!(self.claim, Claim::Always(_));
        let fits = assumed == Truth::True && if certain { when == Truth::True } else { when != Truth::False };
        let broken = self.is_broken_by(world, &request, now);
        let mut said = with_facts(world.engine(), &question, |facts| {
            let mut told =
                Telling { attempt: &mut attempt, facts, things: BTreeMap::new(), said: Vec::new() };
            told.tell(&question);
            told.said
        });
        said.push((if fits { attempt.fits } else { !attempt.fits }, format!("it fits: {fits}")));
        said.push((if broken { attempt.breaks } else { !attempt.breaks }, format!("it breaks: {broken}")));
        let bits: Vec<Bit> = said.iter().map(|(bit, _)| *bit).collect();
        match attempt.is_possible(&bits, &|| true) {
            Possible::Yes(_) | Possible::Unclear => Ok(()),
            Possible::Stopped => Err(vec!["it was stopped".to_owned()]),
            Possible::No => {
                let in_the_way = attempt.encoding.formula.in_the_way(&bits);
                Err(said
                    .into_iter()
                    .filter(|(bit, _)| in_the_way.contains(bit))
                    .map(|(_, what)| what)
                    .collect())
            }
        }
    }
}

struct Telling<'t, 'p, 'e> {
    attempt: &'t mut Attempt<'p>,
    facts: &'t Facts<'e>,
    things: BTreeMap<ThingId, Is<'e>>,
    said: Vec<(Bit, String)>,
}

impl<'e> Telling<'_, '_, 'e> {
    fn say(&mut self, bit: Bit, value: bool, what: impl Into<String>) {
        let what = format!("{}: {value}", what.into());
        self.said.push((if value { bit } else { !bit }, what));
    }

    fn tell(&mut self, question: &Question) {
        self.meet();
        self.the_question(question);
        self.describe();
        self.who_is_who();
        self.lists();
        self.groups();
        self.grants();
    }

    /// Which thing of the formula is which of the request. A thing comes after what it is come to
    /// from.
    fn meet(&mut self) {
        let encoding = &self.attempt.encoding;
        let mut came: BTreeMap<ThingId, (ThingId, Edge)> = BTreeMap::new();
        for from in (0..encoding.things.len()).map(|at| ThingId(at as u32)) {
            came.extend(encoding.known_children(from).map(|(edge, to)| (to, (from, edge.clone()))));
        }
        for id in (0..encoding.things.len()).map(|at| ThingId(at as u32)) {
            let named = encoding.thing(id).named.as_deref();
            let is = if id == encoding.subject {
                self.facts.subject().map_or(Is::Nothing, Is::Met)
            } else if id == encoding.resource {
                self.facts.resource().map_or(Is::Nothing, Is::Met)
            } else if let Some(name) = named {
                self.facts.named(name).map_or(Is::Unregistered, Is::Met)
            } else if let Some((from, edge)) = came.get(&id) {
                match (self.things.get(from), edge) {
                    (_, Edge::End(..)) | (Some(Is::Open) | None, _) => Is::Open,
                    (Some(Is::Met(from)), edge) => self.beyond(*from, edge).map_or(Is::Nothing, Is::Met),
                    (Some(_), _) => Is::Nothing,
                }
            } else {
                Is::Open
            };
            self.things.insert(id, is);
        }
    }

    fn beyond(&self, from: Met<'e>, edge: &Edge) -> Option<Met<'e>> {
        match edge {
            Edge::Within => self.facts.outer(from),
            Edge::Tenant => self.facts.tenant(from),
            Edge::Relation(name) => match self.facts.step(from, Step::Relation(*name)) {
                Ok(Reading::Thing(met)) => Some(met),
                _ => None,
            },
            Edge::End(..) => None,
        }
    }

    fn met(&self, thing: ThingId) -> Option<Met<'e>> {
        match self.things.get(&thing) {
            Some(Is::Met(met)) => Some(*met),
            _ => None,
        }
    }

    fn is_open(&self, thing: ThingId) -> bool {
        matches!(self.things.get(&thing), Some(Is::Open) | None)
    }

    fn the_question(&mut self, question: &Question) {
        let registered = self.facts.resource().is_some_and(|resource| self.facts.is_registered(resource));
        let (is, has, id) =
            (self.attempt.encoding.registered, self.attempt.encoding.has_id, self.facts.has_id());
        self.say(is, registered, "the resource is registered");
        self.say(has, id, "the resource has an id");
        let named: Vec<_> =
            self.attempt.encoding.named_is_registered.iter().map(|(at, bit)| (*at, *bit)).collect();
        for (at, bit) in named {
            self.say(bit, self.met(at).is_some(), format!("thing {} is registered", at.0));
        }
        let now = self.attempt.encoding.now;
        self.say_value(Value::Number(now), &Known::Time(question.now), "now");
        for (index, read) in self.attempt.encoding.known_context().collect::<Vec<_>>() {
            if !self.attempt.encoding.policy.model().context[index].many {
                let value = self.facts.context(index);
                self.say_read(read, value, &format!("context {index}"));
            }
        }
    }

    fn say_value(&mut self, value: Value, known: &Known<'_>, what: &str) {
        let encoding = &mut self.attempt.encoding;
        let literal = encoding.literal(known);
        let same = encoding.same(value, literal);
        self.say(same, true, format!("{what} is {known:?}"));
    }

    fn say_read(&mut self, read: Read, value: Result<Known<'_>, Lack>, what: &str) {
        self.say(read.there, value.is_ok(), format!("{what} is there"));
        self.say(read.ill, matches!(value, Err(Lack::IllTyped)), format!("{what} is ill-typed"));
        if let Ok(known) = value {
            self.say_value(read.value, &known, what);
        }
    }

    /// What of each thing is there, of which kind, and what it has.
    fn describe(&mut self) {
        let things: Vec<(ThingId, Is<'e>)> = self.things.iter().map(|(id, is)| (*id, *is)).collect();
        for (id, is) in things {
            let met = match is {
                Is::Met(met) => Some(met),
                Is::Nothing => None,
                Is::Unregistered | Is::Open => continue,
            };
            let thing = self.attempt.encoding.thing(id).clone();
            let kind = met.and_then(|met| self.facts.kind(met));
            self.say(thing.there, met.is_some(), format!("thing {} is there", id.0));
            for (each, bit) in &thing.kinds {
                // A resource that is there is of its type whatever the register says of it.
                self.say(*bit, kind == Some(*each), format!("thing {} is of kind {each:?}", id.0));
            }
            let Some(met) = met else { continue };
            if let Some(bit) = self.attempt.encoding.detached.get(&id).copied() {
                let detached = self.facts.step(met, Step::Detached);
                let detached = matches!(detached, Ok(Reading::Value(Known::Boolean(true))));
                self.say(bit, detached, format!("thing {} is detached", id.0));
            }
            if let (Some(text), Ok(Reading::Value(known))) =
                (self.attempt.encoding.known_id(id), self.facts.step(met, Step::Id))
            {
                self.say_value(Value::Text(text), &known, &format!("the id of thing {}", id.0));
            }
            if let Some(bit) = self.attempt.encoding.of_tenant.get(&id).copied() {
                self.say(bit, self.facts.is_of_tenant(met), format!("a member of tenant {}", id.0));
            }
        }
        let attributes: Vec<_> =
            self.attempt.encoding.attributes.iter().map(|(key, read)| (*key, *read)).collect();
        for ((thing, name), read) in attributes {
            if self.is_open(thing) {
                continue;
            }
            let value = match self.met(thing) {
                None => Err(Lack::Missing),
                Some(met) => match self.facts.step(met, Step::Attribute(name)) {
                    Ok(Reading::Value(value)) => Ok(value),
                    Ok(Reading::Thing(_)) => Err(Lack::IllTyped),
                    Err(lack) => Err(lack),
                },
            };
            self.say_read(read, value, &format!("attribute {name:?} of thing {}", thing.0));
        }
    }

    fn who_is_who(&mut self) {
        let pairs: Vec<_> = self.attempt.encoding.same_thing.pairs().collect();
        for (a, b, bit) in pairs {
            let (x, y) = (ThingId(a), ThingId(b));
            let called = |other: ThingId| {
                self.attempt
                    .encoding
                    .thing(other)
                    .named
                    .as_deref()
                    .is_some_and(|name| self.facts.is_called(name))
            };
            let resource = self.attempt.encoding.resource;
            let same = match (self.things[&x], self.things[&y]) {
                (Is::Open, _) | (_, Is::Open) => continue,
                (Is::Met(x), Is::Met(y)) => x == y,
                (Is::Met(_), Is::Unregistered) => x == resource && called(y),
                (Is::Unregistered, Is::Met(_)) => y == resource && called(x),
                _ => false,
            };
            self.say(bit, same, format!("thing {a} is thing {b}"));
        }
    }

    /// What is in lists, as far as it is a thing or a value that the charter states.
    fn lists(&mut self) {
        for at in 0..self.attempt.encoding.lists.len() {
            let (key, list) = self.attempt.encoding.lists[at].clone();
            let ListKey::Path(thing, steps) = key else { continue };
            let Some(met) = self.met(thing) else { continue };
            let (found, lack) = self.facts.list(met, &steps);
            self.say(list.whole, lack.is_none(), format!("list {at} is whole"));
            self.say(list.ill, lack == Some(Lack::IllTyped), format!("list {at} is ill-typed"));
            for (value, bit) in list.members {
                if let Value::Thing(of) = value
                    && !self.is_open(of)
                {
                    let there = self.met(of);
                    let inside =
                        found.iter().any(|item| matches!(item, Reading::Thing(item) if Some(*item) == there));
                    self.say(bit, inside, format!("thing {} is in list {at}", of.0));
                }
            }
            if let Some(bit) = self.attempt.encoding.among.get(&at).copied() {
                let among = found.iter().any(|item| {
                    matches!(item, Reading::Thing(item)
                        if Some(*item) == self.facts.subject() || self.facts.stands_for_subject(*item))
                });
                self.say(bit, among, format!("the subject is among list {at}"));
            }
        }
    }

    fn groups(&mut self) {
        let members: Vec<_> = self.attempt.encoding.members.iter().map(|(key, bit)| (*key, *bit)).collect();
        for ((group, at), bit) in members {
            if let Some(met) = self.met(at) {
                let is = self.facts.subject().is_some() && self.facts.is_member(group, met);
                self.say(bit, is, format!("in group {group:?} at thing {}", at.0));
            }
        }
        let in_group: Vec<_> = self.attempt.encoding.in_group.iter().map(|(at, bit)| (*at, *bit)).collect();
        for (at, bit) in in_group {
            if let Some(met) = self.met(at) {
                self.say(
                    bit,
                    self.facts.stands_for_subject(met),
                    format!("in the group that is thing {}", at.0),
                );
            }
        }
    }

    /// Who holds what, by grants that count.
    fn grants(&mut self) {
        let policy = self.attempt.encoding.policy;
        let word = |role: RoleId| policy.model().roles[role.index()].key.clone();
        let local: Vec<_> = self.attempt.encoding.local.iter().map(|(key, bit)| (*key, *bit)).collect();
        for ((role, at), bit) in local {
            if let Some(met) = self.met(at) {
                self.say(
                    bit,
                    self.facts.is_granted_at(role, met),
                    format!("{} at thing {}", word(role), at.0),
                );
            }
        }
        let everywhere: Vec<_> =
            self.attempt.encoding.everywhere.iter().map(|(role, bit)| (*role, *bit)).collect();
        for (role, bit) in everywhere {
            let is = self.facts.is_granted_everywhere(role, None);
            self.say(bit, is, format!("{} everywhere", word(role)));
        }
        let by_group: Vec<_> = self.attempt.encoding.by_group.iter().map(|(key, bit)| (*key, *bit)).collect();
        for ((role, tenant), bit) in by_group {
            if !self.is_open(tenant) {
                let met = self.met(tenant);
                let is = met.is_some() && self.facts.is_granted_everywhere(role, met);
                self.say(bit, is, format!("{} by a group of tenant {}", word(role), tenant.0));
            }
        }
        for (permission, bit) in self.attempt.encoding.made.clone() {
            self.say(bit, self.facts.is_made(permission), format!("a tenant's role with {permission:?}"));
        }
    }
}
