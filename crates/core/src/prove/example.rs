//! From what the solver offers to a register and a question that the engine is asked, and from there
//! to the smallest of its kind.

mod maker;

use super::encode::Encoding;
use super::theory::Values;
use super::{Claim, Guarantee};
use crate::charter::model::PermId;
use crate::charter::policy::Policy;
use crate::decide::question::Request;
use crate::decide::{World, decide, truth_of, with_scratch};
use crate::register::Register;
use crate::register::line::{self, Change};
use crate::value::Truth;
use jiff::Timestamp;
use maker::Maker;
use serde_json::{Map, Value as Json};
use std::sync::Arc;

/// The moment examples are about, unless they need another: 2026-11-23T09:00:00Z.
const MOMENT: i64 = 1_795_424_400;
/// Most trials at leaving something out.
const MAX_TRIALS: usize = 600;

/// A small register and a question that break a guarantee, as the engine itself says.
#[derive(Clone, Debug, PartialEq)]
pub struct Example {
    /// The register's lines.
    pub lines: Vec<Json>,
    /// The question; its permission is the one that is answered wrongly, of two the first.
    pub request: Request,
    /// The moment.
    pub now: Timestamp,
}

impl Example {
    /// The charter and the register, ready to be asked; nothing if the write checks refuse it.
    pub fn world(&self, policy: &Arc<Policy>) -> Option<World> {
        let changes: Option<Vec<Change>> = self.lines.iter().map(|line| line::from_json(line).ok()).collect();
        let mut changes = changes?;
        for change in &mut changes {
            if let Change::Activate(activation) = change {
                activation.assumed = true;
            }
        }
        let mut world = World::new(Arc::clone(policy), Register::default());
        world.apply(&changes).ok()?;
        Some(world)
    }

    /// Whether the engine breaks the guarantee on it.
    fn breaks(&self, policy: &Arc<Policy>, guarantee: &Guarantee) -> bool {
        self.world(policy).is_some_and(|world| guarantee.is_broken_by(&world, &self.request, self.now))
    }

    /// As small as leaving things out makes it.
    fn smallest(mut self, policy: &Arc<Policy>, guarantee: &Guarantee) -> Example {
        let mut trials = 0;
        loop {
            let smaller =
                self.smaller().into_iter().take(MAX_TRIALS.saturating_sub(trials)).find(|example| {
                    trials += 1;
                    example.breaks(policy, guarantee)
                });
            match smaller {
                Some(smaller) => self = smaller,
                None => return self,
            }
        }
    }

    /// All examples with one thing less.
    fn smaller(&self) -> Vec<Example> {
        let mut all = Vec::new();
        // Who asks and what it is about stay registered: a request about nobody known is another. So
        // does what the request names: kept as a case, a name that nothing knows would be a mistake.
        let said = [&self.request.of_subject, &self.request.of_resource];
        let is_named = |name: &str| {
            let values = said.iter().flat_map(|said| said.values());
            values
                .flat_map(|value| value.as_array().into_iter().flatten().chain([value]))
                .any(|one| one == name)
        };
        let asked = |line: &Json| {
            let name = line.get("entity").and_then(Json::as_str);
            name.is_some_and(|name| {
                self.request.subject == name
                    || self.request.resource.as_deref() == Some(name)
                    || is_named(name)
            })
        };
        for at in (0..self.lines.len()).rev().filter(|at| !asked(&self.lines[*at])) {
            let mut less = self.clone();
            less.lines.remove(at);
            all.push(less);
        }
        for (at, line) in self.lines.iter().enumerate() {
            let Some(object) = line.as_object().filter(|object| object.contains_key("entity")) else {
                continue;
            };
            for (key, value) in object.iter().filter(|(key, _)| *key != "entity") {
                let mut without = |change: &dyn Fn(&mut Map<String, Json>)| {
                    let mut less = self.clone();
                    if let Some(object) = less.lines[at].as_object_mut() {
                        change(object);
                        all.push(less);
                    }
                };
                without(&|object| drop(object.shift_remove(key)));
                for inner in value.as_object().into_iter().flat_map(Map::keys) {
                    without(&|object| {
                        if let Some(Json::Object(value)) = object.get_mut(key) {
                            value.shift_remove(inner);
                        }
                    });
                }
            }
        }
        for field in 0..3 {
            let of = |request: &Request| -> Map<String, Json> {
                [&request.of_subject, &request.of_resource, &request.context][field].clone()
            };
            for key in of(&self.request).keys() {
                let mut less = self.clone();
                let request = &mut less.request;
                [&mut request.of_subject, &mut request.of_resource, &mut request.context][field]
                    .shift_remove(key);
                all.push(less);
            }
        }
        all
    }
}

impl Guarantee {
    /// Whether a request breaks it, as the engine answers: it is one the guarantee speaks of, and
    /// the answer is the wrong one. The request's permission is not looked at.
    pub fn is_broken_by(&self, world: &World, request: &Request, now: Timestamp) -> bool {
        let ask = |permission: PermId| -> Option<(bool, Truth, Truth)> {
            let text = world.policy().model().permissions[permission.index()].text.clone();
            let request = Request { permission: text, ..request.clone() };
            let engine = world.engine();
            let question = request.resolve_quietly(engine, now).ok()?.question.ok()?;
            let truth = |condition: &Option<_>| {
                condition.as_ref().map_or(Truth::True, |condition| truth_of(engine, &question, condition))
            };
            let allowed = with_scratch(|scratch| decide(engine, &question, scratch)).allowed;
            Some((allowed, truth(&self.when), truth(&self.assume)))
        };
        let Some((allowed, when, assumed)) = ask(self.claim.permission()) else { return false };
        if assumed != Truth::True {
            return false;
        }
        match self.claim {
            Claim::Never(_) => allowed && when != Truth::False,
            Claim::Always(_) => !allowed && when == Truth::True,
            Claim::Alike(_, other) => {
                when != Truth::False && ask(other).is_some_and(|(other, ..)| other != allowed)
            }
        }
    }
}

/// Makes what was found into an example, if the engine agrees.
pub fn make(
    encoding: &Encoding<'_>,
    values: &Values,
    policy: &Arc<Policy>,
    guarantee: &Guarantee,
) -> Option<Example> {
    let example = Maker::new(encoding, values).example(guarantee.claim.permission())?;
    // Any moment does that is not asked about; and what a clock reads is not followed back to a
    // moment: one of the hours of a week may do.
    let week = if encoding.reads_clocks { 168 } else { 1 };
    let hours = (0..week).filter_map(|hour| Timestamp::from_second(MOMENT + hour * 3_600).ok());
    for now in hours.clone().take(1).chain([example.now]).chain(hours.skip(1)) {
        let example = Example { now, ..example.clone() };
        if example.breaks(policy, guarantee) {
            return Some(example.smallest(policy, guarantee));
        }
    }
    None
}
