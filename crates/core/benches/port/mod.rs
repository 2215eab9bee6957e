//! A seeded port of any size: the same facts as register lines and as the vectors of a check by hand,
//! and mixed questions about them.

use ostrog_core::prelude::*;
use std::sync::Arc;

pub const CHARTER: &str = r#"
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
pub const TENANTS: usize = 50;
pub const GROUPS: usize = 10;
const VESSELS: usize = 20;
const VOYAGES: usize = 5;
const MANIFESTS: usize = 4;
pub const QUESTIONS: usize = 200_000;

pub struct Dice(pub u64);

impl Dice {
    pub fn below(&mut self, bound: usize) -> usize {
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
pub struct ByHand {
    pub clearance: Vec<i64>,
    pub groups: Vec<Vec<u32>>,
    /// By user, then by group: role and place.
    pub user_grants: Vec<Vec<(u8, u32)>>,
    pub group_grants: Vec<Vec<(u8, u32)>>,
    /// By place: what it lies within; tenants come first and lie nowhere.
    pub within: Vec<u32>,
    pub hazard: Vec<i64>,
    pub declarant: Vec<u32>,
}

pub const NOWHERE: u32 = u32::MAX;
const READER: u8 = 0;
const PLANNER: u8 = 1;
const INSPECTOR: u8 = 2;

/// What is asked.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Asks {
    View,
    Plan,
    Release,
}

#[allow(dead_code, reason = "the benchmark beside SQL asks the query instead")]
impl ByHand {
    pub fn decide(&self, user: u32, asks: Asks, place: u32) -> bool {
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

pub struct Facts {
    pub by_hand: ByHand,
    pub lines: Vec<String>,
    pub places: Vec<String>,
    /// How many places are tenants, vessels, voyages.
    pub before_manifests: usize,
}

pub fn facts(users: usize) -> Facts {
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
pub fn questions(facts: &Facts, users: usize) -> Vec<(u32, Asks, u32)> {
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

#[allow(dead_code, reason = "the benchmark of the network asks over the network")]
impl Facts {
    /// The facts as the engine takes them.
    pub fn world(&self) -> World {
        let reading = charter::read(&Sources::single("bench.toml", CHARTER));
        let policy = Arc::new(reading.policy.expect("the charter has no errors"));
        let mut world = World::new(policy, Register::default());
        // In parts, so that lines and register do not both stand in memory whole.
        let line = |text: &String| line::parse(text).expect("a line");
        let entities: Vec<Change> =
            self.lines.iter().filter(|text| !text.contains("\"grant\"")).map(line).collect();
        world.apply(&entities).expect("the facts are valid");
        let grants: Vec<Change> =
            self.lines.iter().filter(|text| text.contains("\"grant\"")).map(line).collect();
        world.apply(&grants).expect("the facts are valid");
        world
    }

    /// One question as the engine takes it.
    pub fn request(&self, user: u32, asks: Asks, place: u32) -> Request {
        let resource = self.places[place as usize].clone();
        let kind = resource.split(':').next().unwrap_or_default();
        let action = match asks {
            Asks::View => "view",
            Asks::Plan => "plan",
            Asks::Release => "release",
        };
        Request {
            subject: format!("user:u{user}"),
            permission: format!("{kind}:{action}"),
            resource: Some(resource),
            ..Request::default()
        }
    }

    /// Questions as the engine takes them.
    pub fn compiled(&self, world: &World, asked: &[(u32, Asks, u32)]) -> Vec<Question> {
        let now = "2026-11-23T09:00:00Z".parse().expect("a moment");
        let question = |(user, asks, place): &(u32, Asks, u32)| {
            let request = self.request(*user, *asks, *place);
            request.resolve(world.engine(), now).expect("well formed").question.expect("declared")
        };
        asked.iter().map(question).collect()
    }
}
