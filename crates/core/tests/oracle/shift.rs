//! The shift is the difference of asking everything before and after.

use crate::generate::{self, Dice};
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

fn compare(seed: u64, tally: &mut BTreeMap<&'static str, usize>) -> Result<(), String> {
    let bytes = generate::bytes(seed, 9_000);
    let mut dice = Dice::new(&bytes);
    let charter = generate::charter(&mut dice);
    let register = generate::register(&mut dice, &charter);
    let before = worlds::world(&charter, &register)?;
    let mut other = charter.clone();
    let mut facts = register.clone();
    match dice.below(4) {
        // One rule, one role or one conferral less, or other facts under the same charter.
        0 => drop(other.rules.pop_first()),
        1 => {
            if let Some(mut role) = other.roles.last_entry() {
                role.get_mut().permissions.pop_first();
            }
        }
        2 => drop(other.kinds.get_mut("ship").and_then(|kind| kind.confers.pop())),
        _ => {
            facts.grants.truncate(facts.grants.len() / 2);
            facts.activations.clear();
        }
    }
    // What the change leaves without a meaning is no charter.
    let Ok(after) = worlds::world(&other, &facts) else { return Ok(()) };
    let now = jiff::Timestamp::from_second(generate::NOW).map_err(|error| error.to_string())?;
    let found = shift(&before, &after, now, &Only::default(), &mut || true);
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
            "told {told:#?}\nexpected {expected:#?}\n{}\n{}",
            render::charter(&charter),
            render::charter(&other)
        ));
    }
    *tally.entry(if expected.is_empty() { "nothing moves" } else { "something moves" }).or_default() += 1;
    Ok(())
}

#[test]
fn the_shift_is_the_difference_of_asking_everything() {
    let mut tally = BTreeMap::new();
    for seed in 0..u64::from((crate::cases().unwrap_or(5_000) / 20).max(120)) {
        compare(seed, &mut tally).unwrap_or_else(|why| panic!("seed {seed}: {why}"));
    }
    println!("{tally:?}");
    assert!(tally.len() == 2 && tally.values().all(|times| *times >= 20), "{tally:?}");
}
