//! Guarantees: what no request at all may do, or every one must be able to.
//!
//! [`settle`] asks a formula ([`encode`]) that holds for every register and question there can be
//! whether any of them breaks the guarantee. If none does, it is proved. What the solver offers is
//! made into a register and a question ([`example`]) and asked of the engine; only if the engine
//! breaks the guarantee on it too is it refuted. Everything else is undecided, and says why.
//!
//! What the formula cannot follow is left open in it, never closed: so *proved* means proved, and
//! the price of a coarse encoding is *undecided*.

mod counterpart;
mod encode;
mod example;
mod formula;
mod near;
mod theory;

pub use example::Example;

use crate::charter::model::{Condition, PermId, RoleId, Step};
use crate::charter::policy::Policy;
use crate::decide::MAX_PAIRS;
use encode::{Encoding, Open};
use formula::Bit;
use std::collections::BTreeMap;
use std::sync::Arc;
use theory::Checked;

/// How far from the question things are told apart, one after the other.
const DEPTHS: [usize; 3] = [1, 3, 6];
/// Most things the solver may offer that turn out not to be so, before it is given up.
const MAX_FALSE: usize = 12;
/// Most rounds of asking and ruling out what no values can be.
const MAX_ROUNDS: usize = 5_000;

/// What is claimed of every request that fits.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Claim {
    /// It is not allowed.
    Never(PermId),
    /// It is allowed.
    Always(PermId),
    /// Both get the same answer.
    Alike(PermId, PermId),
}

impl Claim {
    /// The permission questions are about; of two, the first.
    pub fn permission(self) -> PermId {
        match self {
            Claim::Never(permission) | Claim::Always(permission) | Claim::Alike(permission, _) => permission,
        }
    }
}

/// A claim with its conditions, typed for the charter it is about.
#[derive(Clone, Debug)]
pub struct Guarantee {
    /// What is claimed.
    pub claim: Claim,
    /// Of which requests.
    pub when: Option<Condition>,
    /// What is taken for granted.
    pub assume: Option<Condition>,
}

/// What became of a guarantee.
#[derive(Clone, Debug)]
pub enum Verdict {
    /// No request breaks it.
    Proved,
    /// This one does.
    Refuted(Box<Example>),
    /// It was not settled; why.
    Undecided(String),
    /// No request fits it, so that it says nothing.
    Vacuous,
}

/// Settles a guarantee. `go_on` is asked from time to time; where it says no, it stays undecided.
///
/// Costs time in the size of what the permission's decision can depend on; each attempt is bounded.
pub fn settle(policy: &Arc<Policy>, guarantee: &Guarantee, go_on: &dyn Fn() -> bool) -> Verdict {
    let mut why = "nothing was tried".to_owned();
    let mut around = Vec::new();
    for depth in DEPTHS {
        match Attempt::new(policy, guarantee, depth, false).run(go_on, &mut around) {
            Outcome::Settled(Verdict::Proved) if may_be_too_many(policy, guarantee) => {
                return beyond_the_bound(policy, guarantee, depth, go_on);
            }
            Outcome::Settled(verdict) => return verdict,
            Outcome::Open { reason, deeper } => {
                why = reason;
                if let Some(example) = near::look(policy, guarantee, &around, go_on) {
                    return Verdict::Refuted(Box::new(example));
                }
                if !deeper {
                    break;
                }
            }
        }
    }
    Verdict::Undecided(why)
}

/// Whether a decision, or what the guarantee itself asks, can depend on more pairs of role and
/// resource than are looked at: where one of the roles is conferred on whoever holds another, along
/// relations, which may lead on and on; or where there are very many roles.
fn may_be_too_many(policy: &Policy, guarantee: &Guarantee) -> bool {
    let (first, second) = match guarantee.claim {
        Claim::Never(permission) | Claim::Always(permission) => (permission, permission),
        Claim::Alike(a, b) => (a, b),
    };
    let conditions = guarantee.when.iter().chain(&guarantee.assume);
    let asked = conditions.flat_map(Condition::roles_asked).flat_map(|role| policy.conferred_including(role));
    let roots = policy.conferred_roots(first).iter().chain(policy.conferred_roots(second)).chain(asked);
    let mut waiting: Vec<RoleId> = roots.copied().collect();
    let mut met: Vec<RoleId> = Vec::new();
    while let Some(role) = waiting.pop() {
        if met.contains(&role) {
            continue;
        }
        met.push(role);
        for confer in policy.model().confers.iter().filter(|confer| confer.role == role) {
            let on = |step: &Step| matches!(step, Step::Relation(_));
            if confer.holds.is_some() && confer.path.steps.iter().any(on) {
                return true;
            }
            let held = confer.holds.into_iter().chain(confer.when.iter().flat_map(Condition::roles_asked));
            waiting.extend(held.flat_map(|role| policy.conferred_including(role)));
        }
    }
    // Containment is at most 32 deep.
    met.len() * 33 > MAX_PAIRS
}

/// Proved for decisions within the bound; what beyond it?
fn beyond_the_bound(
    policy: &Arc<Policy>,
    guarantee: &Guarantee,
    depth: usize,
    go_on: &dyn Fn() -> bool,
) -> Verdict {
    match Attempt::new(policy, guarantee, depth, true).run(go_on, &mut Vec::new()) {
        Outcome::Settled(Verdict::Proved) => Verdict::Proved,
        Outcome::Settled(Verdict::Refuted(example)) => Verdict::Refuted(example),
        _ => Verdict::Undecided(format!(
            "it holds wherever a decision depends on at most {MAX_PAIRS} pairs of role and resource; beyond, every role that comes by relationship is undetermined, and then it may not"
        )),
    }
}

enum Outcome {
    Settled(Verdict),
    Open { reason: String, deeper: bool },
}

/// One search, telling things apart up to some steps.
struct Attempt<'a> {
    policy: &'a Arc<Policy>,
    guarantee: &'a Guarantee,
    encoding: Encoding<'a>,
    /// A request that the guarantee is about.
    fits: Bit,
    /// One that breaks it.
    breaks: Bit,
}

impl<'a> Attempt<'a> {
    fn new(policy: &'a Arc<Policy>, guarantee: &'a Guarantee, depth: usize, too_many: bool) -> Attempt<'a> {
        let mut encoding = Encoding::new(policy, guarantee.claim.permission(), depth, too_many);
        let resource = encoding.resource;
        let mut fits = encoding.formula.yes();
        if let Some(when) = &guarantee.when {
            let when = encoding.condition(when, resource, None);
            // What must never be allowed must not be where it is unclear either.
            fits = if matches!(guarantee.claim, Claim::Always(_)) { when.sure } else { when.may };
        }
        if let Some(assume) = &guarantee.assume {
            let assumed = encoding.condition(assume, resource, None).sure;
            fits = encoding.formula.and(fits, assumed);
        }
        let wrong = match guarantee.claim {
            Claim::Never(permission) => encoding.allowed(permission),
            Claim::Always(permission) => !encoding.allowed(permission),
            Claim::Alike(a, b) => {
                let (a, b) = (encoding.allowed(a), encoding.allowed(b));
                !encoding.formula.same(a, b)
            }
        };
        let breaks = encoding.formula.and(fits, wrong);
        encoding.close();
        if too_many {
            // The rest has been settled.
            let beyond = encoding.too_many;
            encoding.formula.clause(&[beyond]);
        }
        Attempt { policy, guarantee, encoding, fits, breaks }
    }

    /// What the engine did not agree to is kept in `around`.
    fn run(mut self, go_on: &dyn Fn() -> bool, around: &mut Vec<Example>) -> Outcome {
        match self.is_possible(&[self.fits], go_on) {
            Possible::No => return Outcome::Settled(Verdict::Vacuous),
            Possible::Yes(_) | Possible::Unclear => {}
            Possible::Stopped => return self.stopped(),
        }
        // First what is plain: an example is easier to read, and more likely to be one.
        let mut plain: Vec<Bit> = self.encoding.unlikely.iter().map(|bit| !*bit).collect();
        let mut offered = 0;
        loop {
            let mut assumed = vec![self.breaks];
            assumed.extend(&plain);
            match self.is_possible(&assumed, go_on) {
                // Proved is only what is impossible with nothing assumed beside it.
                Possible::No if plain.is_empty() => {
                    return if offered == 0 { Outcome::Settled(Verdict::Proved) } else { self.open() };
                }
                Possible::No => {
                    let in_the_way = self.encoding.formula.in_the_way(&plain);
                    if in_the_way.is_empty() {
                        plain.clear();
                    }
                    plain.retain(|bit| !in_the_way.contains(bit));
                }
                Possible::Yes(values) => {
                    match example::make(&self.encoding, &values, self.policy, self.guarantee) {
                        Ok(example) => return Outcome::Settled(Verdict::Refuted(Box::new(example))),
                        Err(near) => around.extend(near.map(|near| *near)),
                    }
                    offered += 1;
                    self.not_this_one();
                }
                Possible::Unclear => {
                    offered += 1;
                    self.not_this_one();
                }
                Possible::Stopped => return self.stopped(),
            }
            if offered > MAX_FALSE {
                return self.open();
            }
        }
    }

    fn stopped(&self) -> Outcome {
        Outcome::Open { reason: "its time was up, or it was stopped, before it was settled: give it more time, or make the claim smaller with assume".to_owned(), deeper: false }
    }

    fn open(&self) -> Outcome {
        Outcome::Open { reason: self.why_open(), deeper: self.encoding.is_cut() }
    }

    /// What was not followed exactly, and what would help.
    fn why_open(&self) -> String {
        let mut groups: BTreeMap<(&str, &str), Vec<&str>> = BTreeMap::new();
        for open in self.encoding.left_open() {
            let (text, why, help) = match open {
                Open::Steps(text) => (
                    text,
                    "is told apart only up to some steps from the question",
                    "say with assume what of it need not be looked at",
                ),
                Open::Text(text) => (
                    text,
                    "compares texts that are not written out",
                    "compare with a written text, or say with assume what the texts are",
                ),
                Open::Clock(text) => (
                    text,
                    "is followed only as a number or a day, not back to a moment",
                    "say with assume what the clock reads, or compare the moment itself",
                ),
                Open::Networks(text) => (
                    text,
                    "asks networks that are not written out",
                    "write the networks out as address('...')",
                ),
                Open::Declared(text) => (
                    text,
                    "is declared differently by the types it is read of",
                    "declare it alike, or say with assume of which type",
                ),
                Open::Other(text) => (text, "is not followed", "say with assume whether it is so"),
            };
            groups.entry((why, help)).or_default().push(text);
        }
        if groups.is_empty() {
            return "no request that breaks it was found, and not all were ruled out: make the claim smaller with assume".to_owned();
        }
        let told = groups.into_iter().map(|((why, help), texts)| {
            let more = texts.len().saturating_sub(3);
            let named = texts.iter().take(3).map(|text| format!("`{text}`")).collect::<Vec<_>>().join(", ");
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            format!("{named}{more} {why}: {help}")
        });
        told.collect::<Vec<_>>().join("; ")
    }

    /// Rules out what the solver offered: the things, who holds what, and what is stated. After
    /// that nothing is proved any more; it is only looked for another example.
    fn not_this_one(&mut self) {
        let encoding = &self.encoding;
        let things = encoding.things.iter().map(|thing| thing.there);
        let stated = encoding.attributes.values().map(|read| read.there);
        let held = encoding
            .local
            .values()
            .chain(encoding.members.values())
            .chain(encoding.in_group.values())
            .copied();
        let same = encoding.same_thing.pairs().map(|(.., bit)| bit);
        let lists = encoding.lists.iter().map(|(_, list)| list.whole);
        let all: Vec<Bit> = things.chain(stated).chain(held).chain(same).chain(lists).collect();
        let clause: Vec<Bit> =
            all.into_iter().map(|bit| if encoding.formula.is(bit) { !bit } else { bit }).collect();
        self.encoding.formula.clause(&clause);
    }

    /// Whether there are values for everything under which all of this is so.
    fn is_possible(&mut self, assumed: &[Bit], go_on: &dyn Fn() -> bool) -> Possible {
        for _ in 0..MAX_ROUNDS {
            if !go_on() {
                return Possible::Stopped;
            }
            match self.encoding.formula.solve(assumed) {
                Some(true) => {}
                Some(false) => return Possible::No,
                None => return Possible::Stopped,
            }
            let mut lemmas = Vec::new();
            let encoding = &mut self.encoding;
            let classes = encoding.same_thing.classes(&encoding.formula, encoding.things.len(), &mut lemmas);
            encoding.two_names(&classes, &mut lemmas);
            if !lemmas.is_empty() {
                for lemma in lemmas {
                    encoding.formula.clause(&lemma);
                }
                continue;
            }
            match encoding.theory.check(&mut encoding.formula) {
                Checked::Fits(values) => return Possible::Yes(values),
                Checked::Unclear => return Possible::Unclear,
                Checked::Refuted => {}
            }
        }
        Possible::Stopped
    }
}

enum Possible {
    Yes(theory::Values),
    No,
    Unclear,
    Stopped,
}
