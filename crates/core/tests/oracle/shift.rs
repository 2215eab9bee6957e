//! The shift is the difference of asking everything before and after.

use crate::generate::{self, Dice};
use crate::naive::{Charter, Expr, From};
use crate::render;
use crate::worlds;
use ostrog_core::prelude::*;
use ostrog_core::shift::{Only, shift};
use std::collections::BTreeMap;

/// By subject and permission: how many resources are gained, and lost.
type Moved = BTreeMap<(String, String), (usize, usize)>;

/// Every question there is, on both sides.
fn by_asking(before: &World, after: &World, now: jiff::Timestamp) -> Moved {
    let names = |world: &World, kinds: &[&str]| -> Vec<String> {
        let register = world.register();
        let of = |id: &ostrog_core::register::EntityId| kinds.contains(&register.text(register.kind(*id)));
        register.every_entity().filter(of).map(|id| register.name(id).to_owned()).collect()
    };
    let mut moved = Moved::new();
    for kind in ["ship", "hold", "crate", "beacon"] {
        let mut resources: Vec<Option<String>> =
            [before, after].iter().flat_map(|world| names(world, &[kind])).map(Some).collect();
        resources.sort();
        resources.dedup();
        resources.push(None);
        let mut subjects: Vec<String> =
            [before, after].iter().flat_map(|world| names(world, &["user", "service"])).collect();
        subjects.sort();
        subjects.dedup();
        subjects.push("anonymous".to_owned());
        for action in ["look", "take"] {
            let permission = format!("{kind}:{action}");
            for subject in &subjects {
                for resource in &resources {
                    let request = Request {
                        subject: subject.clone(),
                        permission: permission.clone(),
                        resource: resource.clone(),
                        ..Request::default()
                    };
                    let answers = [before, after].map(|world| worlds::allowed(world, &request, now));
                    if answers[0] != answers[1] {
                        let (gained, lost) = moved.entry((subject.clone(), permission.clone())).or_default();
                        *(if answers[1] { gained } else { lost }) += 1;
                    }
                }
            }
        }
    }
    moved
}

/// What a draft, or a day, may change. What it leaves without a meaning is no charter, and left.
const CHANGES: [&str; 18] = [
    "a rule is gone",
    "a rule is turned round",
    "a rule speaks of another permission",
    "a condition is denied",
    "a role gives less",
    "a role includes no more",
    "a role takes nothing out",
    "who may hold a role",
    "where a role is granted",
    "a role is for everyone",
    "a role is on standby no more",
    "a conferral is gone",
    "a separation is gone",
    "tenants may put less into roles",
    "an attribute is read elsewhere",
    "grants end",
    "something is moved, or detached",
    "somebody is another",
];

fn change(
    what: &str,
    dice: &mut Dice<'_>,
    charter: &mut crate::naive::Charter,
    facts: &mut crate::naive::Register,
) {
    // Which of them, if there are any.
    let which = dice.below(8);
    let kind = dice.pick(&["ship", "hold", "crate"]).to_owned();
    let rules = charter.rules.len().max(1);
    let rule = charter.rules.values_mut().nth(which % rules);
    let roles = charter.roles.len().max(1);
    let role = charter.roles.values_mut().nth(which % roles);
    let (Some(rule), Some(role)) = (rule, role) else { return };
    match what {
        "a rule is gone" => drop(charter.rules.pop_first()),
        "a rule is turned round" => rule.deny = !rule.deny,
        "a rule speaks of another permission" => {
            rule.permissions = std::iter::once(format!("{kind}:look")).collect();
        }
        "a condition is denied" => {
            let clauses = role.clauses.iter_mut().map(|(_, when)| when);
            for when in rule.when.iter_mut().chain(&mut role.when).chain(clauses) {
                *when = Expr::Not(Box::new(when.clone()));
            }
        }
        "a role gives less" => drop(role.permissions.pop_first()),
        "a role includes no more" => role.includes.clear(),
        "a role takes nothing out" => {
            charter.roles.values_mut().for_each(|role| role.except.clear());
        }
        "who may hold a role" => {
            let other = if role.held_by.contains("user") { "service" } else { "user" };
            role.held_by = std::iter::once(other.to_owned()).collect();
        }
        "where a role is granted" => role.held_at = Some(std::iter::once("tenant".to_owned()).collect()),
        "a role is for everyone" => {
            role.given_to = if role.given_to.is_some() { None } else { Some("signed-in") }
        }
        "a role is on standby no more" => charter.roles.values_mut().for_each(|role| role.standby = None),
        "a conferral is gone" => charter.kinds.values_mut().for_each(|kind| drop(kind.confers.pop())),
        "a separation is gone" => charter.separations.clear(),
        "tenants may put less into roles" => drop(charter.tenant_clauses.pop()),
        "an attribute is read elsewhere" => {
            for attribute in
                charter.kinds.get_mut(&kind).into_iter().flat_map(|kind| kind.attributes.values_mut())
            {
                attribute.from = if attribute.from == From::Request { From::Either } else { From::Request };
            }
        }
        "grants end" => {
            facts.grants.truncate(facts.grants.len() / 2);
            facts.activations.clear();
        }
        "something is moved, or detached" => {
            for (_, entity) in
                facts.entities.iter_mut().filter(|(name, _)| name.starts_with(&format!("{kind}:")))
            {
                entity.detached = !entity.detached;
            }
        }
        _ => {
            for (_, entity) in facts.entities.iter_mut().filter(|(name, _)| name.starts_with("user:")) {
                entity.attributes.clear();
                entity.tenants.pop_first();
            }
        }
    }
}

fn compare(
    seed: u64,
    charter: fn(&mut Dice<'_>) -> Charter,
    tally: &mut BTreeMap<&'static str, usize>,
) -> Result<(), String> {
    let bytes = generate::bytes(seed, 9_000);
    let mut dice = Dice::new(&bytes);
    let charter = charter(&mut dice);
    let register = generate::register(&mut dice, &charter);
    let before = worlds::world(&charter, &register)?;
    let (mut other, mut facts) = (charter.clone(), register.clone());
    let what = CHANGES[usize::try_from(seed).unwrap_or(0) % CHANGES.len()];
    change(what, &mut dice, &mut other, &mut facts);
    let Ok(after) = worlds::world(&other, &facts) else { return Ok(()) };
    let now = jiff::Timestamp::from_second(generate::NOW).map_err(|error| error.to_string())?;
    let found = shift(&before, &after, now, &Only::default(), &mut |_| true);
    let mut told = Moved::new();
    for line in &found.lines {
        if line.subjects > line.who.len() {
            return Err("more subjects than are told".to_owned());
        }
        for who in &line.who {
            let (gained, lost) = told.entry((who.subject.clone(), line.permission.clone())).or_default();
            *(if line.lost { lost } else { gained }) += who.count;
        }
    }
    let expected = by_asking(&before, &after, now);
    if told != expected {
        return Err(format!(
            "{what}: told {told:#?}\nexpected {expected:#?}\n{}\n{}",
            render::charter(&charter),
            render::charter(&other)
        ));
    }
    *tally.entry(if expected.is_empty() { "nothing moves" } else { what }).or_default() += 1;
    Ok(())
}

#[test]
fn the_shift_is_the_difference_of_asking_everything() {
    let mut tally = BTreeMap::new();
    for seed in 0..u64::from((crate::cases().unwrap_or(5_000) / 5).max(720)) {
        let charter: fn(&mut Dice<'_>) -> Charter =
            if seed % 2 == 0 { generate::charter } else { generate::few_ways };
        compare(seed / 2, charter, &mut tally).unwrap_or_else(|why| panic!("seed {seed}: {why}"));
    }
    println!("{tally:?}");
    // Nearly each of them is seen to move something, and some to move nothing.
    assert!(tally.contains_key("nothing moves") && tally.len() > CHANGES.len() - 3, "{tally:?}");
}
