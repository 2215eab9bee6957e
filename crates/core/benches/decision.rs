//! One question: what does a decision cost beside the same check written by hand on arrays?
//!
//! Both are asked the same mixed questions about the same seeded register, in one run, and every
//! answer is compared. The check by hand knows this one charter and nothing else: it is what a
//! team would write into an application, with ids in vectors and no strings. Run it with
//! `cargo xtask bench`.

#![allow(
    clippy::disallowed_methods,
    clippy::disallowed_macros,
    reason = "a benchmark has a clock and prints"
)]
#![allow(clippy::cast_possible_truncation, reason = "the numbers of a benchmark are small")]

use ostrog_core::prelude::*;
use std::hint::black_box;
use std::sync::Arc;
use std::time::{Duration, Instant};

const CHARTER: &str = r#"
[charter]
name = "Bench"
format = 1
[application.quay]
[resource.vessel]
application = "quay"
within = "tenant"
actions = { view = "", plan = "" }
[resource.voyage]
application = "quay"
within = "vessel"
actions = { view = "", plan = "" }
[resource.manifest]
application = "quay"
within = "voyage"
actions = { view = "", release = "" }
[resource.manifest.attributes]
hazard = "integer"
[resource.manifest.relations]
declarant = "user"
[subject.user.attributes]
clearance = "integer"
[role.reader]
permissions = ["vessel:view", "voyage:view", "manifest:view"]
[role.planner]
includes = ["reader"]
permissions = ["vessel:plan", "voyage:plan"]
[role.inspector]
includes = ["reader"]
[[role.inspector.clause]]
permissions = ["manifest:release"]
when = "subject.clearance >= resource.hazard"
[[rule]]
key = "own-declaration"
effect = "deny"
permissions = ["manifest:release"]
when = "known(resource.declarant) and subject == resource.declarant"
"#;

/// Tenants, and for each: groups, vessels with voyages with manifests.
const TENANTS: usize = 50;
const GROUPS: usize = 10;
const VESSELS: usize = 20;
const VOYAGES: usize = 5;
const MANIFESTS: usize = 4;
const QUESTIONS: usize = 200_000;

struct Dice(u64);

impl Dice {
    fn below(&mut self, bound: usize) -> usize {
        // splitmix64
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut mixed = self.0;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        ((mixed ^ (mixed >> 31)) % bound as u64) as usize
    }
}

/// The same facts as vectors of ids.
#[derive(Default)]
struct ByHand {
    clearance: Vec<i64>,
    groups: Vec<Vec<u32>>,
    /// By user, then by group: role and place.
    user_grants: Vec<Vec<(u8, u32)>>,
    group_grants: Vec<Vec<(u8, u32)>>,
    /// By place: what it lies within; tenants come first and lie nowhere.
    within: Vec<u32>,
    hazard: Vec<i64>,
    declarant: Vec<u32>,
}

const NOWHERE: u32 = u32::MAX;
const READER: u8 = 0;
const PLANNER: u8 = 1;
const INSPECTOR: u8 = 2;

#[derive(Clone, Copy, PartialEq)]
enum Asks {
    View,
    Plan,
    Release,
}

impl ByHand {
    fn decide(&self, user: u32, asks: Asks, place: u32) -> bool {
        if asks == Asks::Release && self.declarant[place as usize] == user {
            return false;
        }
        let mut places = [NOWHERE; 4];
        let mut next = place;
        for slot in &mut places {
            *slot = next;
            if next == NOWHERE {
                break;
            }
            next = self.within[next as usize];
        }
        let gives = |(role, at): &(u8, u32)| {
            places.contains(at)
                && match asks {
                    Asks::View => true,
                    Asks::Plan => *role == PLANNER,
                    Asks::Release => {
                        *role == INSPECTOR && self.clearance[user as usize] >= self.hazard[place as usize]
                    }
                }
        };
        self.user_grants[user as usize].iter().any(gives)
            || self.groups[user as usize]
                .iter()
                .any(|group| self.group_grants[*group as usize].iter().any(gives))
    }
}

struct Facts {
    by_hand: ByHand,
    lines: Vec<String>,
    places: Vec<String>,
    /// How many places are tenants, vessels, voyages.
    before_manifests: usize,
}

fn facts(users: usize) -> Facts {
    let mut dice = Dice(users as u64);
    let mut by_hand = ByHand::default();
    let mut lines = Vec::new();
    let mut places: Vec<String> = Vec::new();
    let put = |name: String, outer: u32, by_hand: &mut ByHand, places: &mut Vec<String>| {
        by_hand.within.push(outer);
        by_hand.hazard.push(0);
        by_hand.declarant.push(NOWHERE);
        places.push(name);
        (places.len() - 1) as u32
    };
    for tenant in 0..TENANTS {
        put(format!("tenant:t{tenant}"), NOWHERE, &mut by_hand, &mut places);
        lines.push(format!(r#"{{"entity":"tenant:t{tenant}"}}"#));
    }
    let mut levels: Vec<u32> = (0..TENANTS as u32).collect();
    for (kind, count) in [("vessel", VESSELS), ("voyage", VOYAGES)] {
        let mut inner = Vec::new();
        for outer in levels {
            for _ in 0..count {
                let name = format!("{kind}:p{}", places.len());
                lines.push(format!(r#"{{"entity":"{name}","within":"{}"}}"#, places[outer as usize]));
                inner.push(put(name, outer, &mut by_hand, &mut places));
            }
        }
        levels = inner;
    }
    let before_manifests = places.len();
    for voyage in levels {
        for _ in 0..MANIFESTS {
            let name = format!("manifest:p{}", places.len());
            let (hazard, declarant) = (dice.below(10), dice.below(users));
            lines.push(format!(r#"{{"entity":"{name}","within":"{}","attributes":{{"hazard":{hazard}}},"relations":{{"declarant":"user:u{declarant}"}}}}"#, places[voyage as usize]));
            let at = put(name, voyage, &mut by_hand, &mut places) as usize;
            by_hand.hazard[at] = hazard as i64;
            by_hand.declarant[at] = declarant as u32;
        }
    }
    let role_names = ["reader", "planner", "inspector"];
    let mut members = vec![Vec::new(); TENANTS * GROUPS];
    for user in 0..users {
        let clearance = dice.below(10);
        lines.push(format!(r#"{{"entity":"user:u{user}","attributes":{{"clearance":{clearance}}}}}"#));
        by_hand.clearance.push(clearance as i64);
        let groups: Vec<u32> = (0..1 + dice.below(3)).map(|_| dice.below(TENANTS * GROUPS) as u32).collect();
        for group in &groups {
            members[*group as usize].push(format!("\"user:u{user}\""));
        }
        by_hand.groups.push(groups);
        let mut grants: Vec<(u8, u32)> = Vec::new();
        for _ in 0..dice.below(4) {
            let grant = ([READER, PLANNER, INSPECTOR][dice.below(3)], dice.below(places.len()) as u32);
            if !grants.contains(&grant) {
                lines.push(format!(
                    r#"{{"grant":{{"role":"{}","to":"user:u{user}","at":"{}"}}}}"#,
                    role_names[grant.0 as usize], places[grant.1 as usize]
                ));
                grants.push(grant);
            }
        }
        by_hand.user_grants.push(grants);
    }
    for (group, members) in members.iter().enumerate() {
        lines.push(format!(r#"{{"entity":"group:g{group}","members":[{}]}}"#, members.join(",")));
        let grant = ([READER, PLANNER, INSPECTOR][dice.below(3)], (group / GROUPS) as u32);
        lines.push(format!(
            r#"{{"grant":{{"role":"{}","to":"group:g{group}","at":"{}"}}}}"#,
            role_names[grant.0 as usize], places[grant.1 as usize]
        ));
        by_hand.group_grants.push(vec![grant]);
    }
    Facts { by_hand, lines, places, before_manifests }
}

/// Half of the questions are about a place the user holds something near; the rest about any.
fn questions(facts: &Facts, users: usize) -> Vec<(u32, Asks, u32)> {
    let mut dice = Dice(7);
    let vessels = TENANTS..facts.places.len();
    (0..QUESTIONS)
        .map(|_| {
            let user = dice.below(users) as u32;
            let asks = [Asks::View, Asks::Plan, Asks::Release][dice.below(3)];
            let grants = &facts.by_hand.user_grants[user as usize];
            let near = grants
                .first()
                .map(|grant| grant.1)
                .filter(|at| *at as usize >= TENANTS && dice.below(2) == 0);
            let any = match asks {
                Asks::Release => {
                    facts.before_manifests + dice.below(facts.places.len() - facts.before_manifests)
                }
                Asks::Plan => TENANTS + dice.below(facts.before_manifests - TENANTS),
                Asks::View => vessels.start + dice.below(vessels.len()),
            };
            let fits = |at: u32| match asks {
                Asks::View => true,
                Asks::Plan => (at as usize) < facts.before_manifests,
                Asks::Release => at as usize >= facts.before_manifests,
            };
            (user, asks, near.filter(|at| fits(*at)).unwrap_or(any as u32))
        })
        .collect()
}

fn best(mut run: impl FnMut() -> u64) -> Duration {
    (0..7)
        .map(|_| {
            let start = Instant::now();
            black_box(run());
            start.elapsed()
        })
        .min()
        .unwrap_or_default()
}

fn main() {
    // `cargo test --benches` passes flags meant for a test harness; there is nothing to test here.
    if std::env::args().any(|argument| argument == "--test") {
        return;
    }
    println!(
        "{:>9}  {:>9}  {:>12}  {:>12}  {:>6}  {:>8}",
        "users", "facts", "by hand", "decision", "ratio", "allowed"
    );
    for users in [10_000, 100_000] {
        measure(users);
    }
}

fn measure(users: usize) {
    let facts = facts(users);
    let reading = charter::read(&Sources::single("bench.toml", CHARTER));
    let policy = Arc::new(reading.policy.expect("the charter has no errors"));
    let mut world = World::new(policy, Register::default());
    let changes: Vec<Change> = facts.lines.iter().map(|line| line::parse(line).expect("a line")).collect();
    world.apply(&changes).expect("the facts are valid");
    let now = "2026-11-23T09:00:00Z".parse().expect("a moment");
    let asked = questions(&facts, users);
    let compiled: Vec<Question> = asked
        .iter()
        .map(|(user, asks, place)| {
            let resource = facts.places[*place as usize].clone();
            let kind = resource.split(':').next().unwrap_or_default();
            let action = match asks {
                Asks::View => "view",
                Asks::Plan => "plan",
                Asks::Release => "release",
            };
            let request = Request {
                subject: format!("user:u{user}"),
                permission: format!("{kind}:{action}"),
                resource: Some(resource),
                ..Request::default()
            };
            request.resolve(world.engine(), now).expect("well formed").question.expect("declared")
        })
        .collect();

    let mut scratch = Scratch::default();
    let mut allowed = 0;
    for ((user, asks, place), question) in asked.iter().zip(&compiled) {
        let by_hand = facts.by_hand.decide(*user, *asks, *place);
        assert_eq!(by_hand, decide(world.engine(), question, &mut scratch).allowed, "{question:?}");
        allowed += u64::from(by_hand);
    }
    let by_hand = best(|| {
        asked.iter().map(|(user, asks, place)| u64::from(facts.by_hand.decide(*user, *asks, *place))).sum()
    });
    let engine = world.engine();
    let decision = best(|| {
        compiled.iter().map(|question| u64::from(decide(engine, question, &mut scratch).allowed)).sum()
    });
    let each = |time: Duration| format!("{:.0} ns", time.as_nanos() as f64 / QUESTIONS as f64);
    println!(
        "{users:>9}  {:>9}  {:>12}  {:>12}  {:>6.2}  {:>7.0}%",
        facts.lines.len(),
        each(by_hand),
        each(decision),
        decision.as_secs_f64() / by_hand.as_secs_f64(),
        allowed as f64 * 100.0 / QUESTIONS as f64
    );
}
