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
/// All that it takes to break a guarantee.
pub const BROKEN: u8 = 3;
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
        self.nearness(policy, guarantee) == Some(BROKEN)
    }

    /// How near to breaking the guarantee it comes; nothing if the write checks refuse it.
    pub fn nearness(&self, policy: &Arc<Policy>, guarantee: &Guarantee) -> Option<u8> {
        self.world(policy).map(|world| guarantee.nearness(&world, &self.request, self.now))
    }

    /// As small as leaving things out makes it.
    pub fn smallest(mut self, policy: &Arc<Policy>, guarantee: &Guarantee) -> Example {
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

    /// Whether a line makes something that the question names. Who asks and what it is about stay
    /// registered: a request about nobody known is another. So does what the request says: kept as
    /// a case, a name that nothing knows would be a mistake.
    pub fn is_about(&self, line: usize) -> bool {
        let Some(name) = self.lines[line].get("entity").and_then(Json::as_str) else { return false };
        let said = [&self.request.of_subject, &self.request.of_resource];
        let mut values = said.iter().flat_map(|said| said.values());
        self.request.subject == name
            || self.request.resource.as_deref() == Some(name)
            || values
                .any(|value| value.as_array().map_or(value == name, |all| all.iter().any(|one| one == name)))
    }

    /// All examples with one thing less.
    fn smaller(&self) -> Vec<Example> {
        let mut all = Vec::new();
        for at in (0..self.lines.len()).rev().filter(|at| !self.is_about(*at)) {
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
        self.nearness(world, request, now) == BROKEN
    }

    /// Of what it takes to break it, how much is so: what is assumed, that it fits, and the answer.
    fn nearness(&self, world: &World, request: &Request, now: Timestamp) -> u8 {
        let engine = world.engine();
        let ask = |permission: PermId| -> Option<(bool, Truth, Truth)> {
            let text = world.policy().model().permissions[permission.index()].text.clone();
            let request = Request { permission: text, ..request.clone() };
            let question = request.resolve_quietly(engine, now).ok()?.question.ok()?;
            let truth = |condition: &Option<_>| {
                condition.as_ref().map_or(Truth::True, |condition| truth_of(engine, &question, condition))
            };
            let allowed = with_scratch(|scratch| decide(engine, &question, scratch)).allowed;
            Some((allowed, truth(&self.when), truth(&self.assume)))
        };
        let Some((allowed, when, assumed)) = ask(self.claim.permission()) else { return 0 };
        let (fits, wrong) = match self.claim {
            Claim::Never(_) => (when != Truth::False, allowed),
            Claim::Always(_) => (when == Truth::True, !allowed),
            Claim::Alike(_, other) => {
                (when != Truth::False, ask(other).is_some_and(|(other, ..)| other != allowed))
            }
        };
        [assumed == Truth::True, fits, wrong].into_iter().map(u8::from).sum()
    }
}

/// Makes what was found into an example, if the engine agrees.
///
/// # Errors
/// What the engine does not agree to, if it could be written at all.
pub fn make(
    encoding: &Encoding<'_>,
    values: &Values,
    policy: &Arc<Policy>,
    guarantee: &Guarantee,
) -> Result<Example, Option<Box<Example>>> {
    let made = Maker::new(encoding, values).example(guarantee.claim.permission());
    let Some(example) = made else { return Err(None) };
    // Any moment does that is not asked about; and what a clock reads is not followed back to a
    // moment: one of the hours of a week may do.
    let week = if encoding.reads_clocks { 168 } else { 1 };
    let hours = (0..week).filter_map(|hour| Timestamp::from_second(MOMENT + hour * 3_600).ok());
    for now in hours.clone().take(1).chain([example.now]).chain(hours.skip(1)) {
        let example = Example { now, ..example.clone() };
        if example.breaks(policy, guarantee) {
            return Ok(example.smallest(policy, guarantee));
        }
    }
    Err(Some(Box::new(example)))
}
