//! What is called proved is broken by no register and question; what is called refuted is broken by
//! the example that comes with it.

use crate::generate::{self, Dice};
use crate::naive::Charter;
use crate::render;
use ostrog_core::prelude::*;
use ostrog_core::prove::{Claim, Guarantee};
use ostrog_core::rehearse::{Outcome, read};
use std::collections::BTreeMap;
use std::sync::Arc;

/// Registers each charter is asked over, and questions of each.
const REGISTERS: usize = 6;
const QUESTIONS: usize = 60;

/// A few guarantees about a charter, their conditions taken from it.
fn guarantees(dice: &mut Dice<'_>, charter: &Charter) -> String {
    let mut text = String::new();
    let roles: Vec<&String> = charter.roles.keys().collect();
    for at in 0..4 {
        let kind = dice.pick(&["ship", "hold", "crate", "beacon"]);
        let action = dice.pick(&["look", "take"]);
        let claim = match dice.below(4) {
            0 => format!("always = \"{kind}:{action}\""),
            1 => format!("alike = [\"{kind}:look\", \"{kind}:take\"]"),
            _ => format!("never = \"{kind}:{action}\""),
        };
        let about = |rule: &&crate::naive::Rule| {
            rule.permissions.iter().all(|permission| permission.starts_with(&format!("{kind}:")))
        };
        let of_rules =
            charter.rules.values().filter(about).filter_map(|rule| rule.when.as_ref()).map(render::expr);
        let held = roles.iter().map(|role| format!("holds('{role}')"));
        let plain = [
            "subject == resource.owner",
            "known(resource.size) and resource.size > 1",
            "resource.tag == 'red'",
            "among(subject, resource.crew)",
        ];
        let all: Vec<String> = of_rules.chain(held).chain(plain.map(str::to_owned)).collect();
        let some = |dice: &mut Dice<'_>| {
            let one = dice.pick(&all);
            if dice.chance(5) { format!("not ({one})") } else { one }
        };
        let when = match dice.below(4) {
            0 => String::new(),
            1 => format!("when = \"\"\"{} and {}\"\"\"\n", some(dice), some(dice)),
            _ => format!("when = \"\"\"{}\"\"\"\n", some(dice)),
        };
        text += &format!("[[guarantee]]\nname = \"g{at}\"\n{claim}\n{when}");
    }
    text
}

fn check(bytes: &[u8], tally: &mut BTreeMap<&'static str, usize>) -> Result<(), String> {
    let mut dice = Dice::new(bytes);
    let charter = generate::charter(&mut dice);
    let sources = Sources::single("random.toml", &render::charter(&charter));
    let policy = Arc::new(charter::read(&sources).policy.ok_or("the generated charter is refused")?);
    let text = guarantees(&mut dice, &charter);
    let written = Sources::single("guarantees.toml", &text);
    let rehearsal = read(&written, &mut Vec::new());
    // A condition of one type may have no meaning for another: such a text is left.
    let Ok(checked) = rehearsal.checked(&policy, &written) else { return Ok(()) };
    let settled = rehearsal
        .settle(&policy, &written, &|| true, &mut |_| {})
        .map_err(|findings| format!("{findings:?}"))?;
    for report in &settled {
        *tally.entry(report.outcome.word()).or_default() += 1;
        if let Some(sample) = report.sample.as_ref().filter(|sample| !sample.starts_with('#')) {
            let files = Sources::single("sample.toml", sample);
            let mut findings = Vec::new();
            let case = read(&files, &mut findings);
            let outcome = case.run(&policy, Register::default(), &files, jiff::Timestamp::UNIX_EPOCH);
            if !outcome.as_ref().is_ok_and(|outcome| outcome.failed == 1) {
                return Err(format!(
                    "the example of {report:#?} does not break it: {findings:?} {outcome:?}\n{}",
                    render::charter(&charter)
                ));
            }
        }
    }
    for _ in 0..REGISTERS {
        let register = generate::register(&mut dice, &charter);
        let lines = render::register(&register);
        let changes: Result<Vec<Change>, Wrong> = lines.iter().map(line::from_json).collect();
        let mut world = World::new(Arc::clone(&policy), Register::default());
        world.apply_under(&changes?, Checks::of(&[])).map_err(|refusals| format!("{refusals:?}"))?;
        for _ in 0..QUESTIONS {
            let question = generate::question(&mut dice, &charter);
            let now = jiff::Timestamp::from_second(question.now).map_err(|error| error.to_string())?;
            if register.entities.get(&question.subject).is_some_and(|subject| subject.state != "active") {
                continue;
            }
            for (report, guarantee) in settled.iter().zip(&checked) {
                let about = policy.model().permissions[guarantee.claim.permission().index()].kind;
                let kind = question.permission.split(':').next().unwrap_or_default();
                let broken = policy.kind(kind) == Some(about)
                    && guarantee.is_broken_by(&world, &render::request(&question), now);
                if broken && matches!(report.outcome, Outcome::Proved | Outcome::Vacuous) {
                    let lines: Vec<String> = lines.iter().map(ToString::to_string).collect();
                    return Err(format!(
                        "{report:#?} is broken by\n{question:#?}\n{}\n{}",
                        render::charter(&charter),
                        lines.join("\n")
                    ));
                }
                *tally.entry(if broken { "broken" } else { "kept" }).or_default() += 1;
            }
        }
    }
    Ok(())
}

#[test]
fn nothing_breaks_what_is_proved_and_every_example_breaks_what_is_refuted() {
    let mut tally = BTreeMap::new();
    // A proof takes some fifty times as long as a question.
    let cases = (crate::cases().unwrap_or(5_000) / 60).max(20);
    for seed in 0..u64::from(cases) {
        let bytes = generate::bytes(seed, 12_000);
        check(&bytes, &mut tally).unwrap_or_else(|why| panic!("seed {seed}: {why}"));
    }
    println!("{tally:?}");
    let of = |word| tally.get(word).copied().unwrap_or(0);
    let all: usize = ["proved", "refuted", "vacuous", "undecided"].map(of).iter().sum();
    assert!(of("undecided") * 100 < all * 3, "{tally:?}");
    for word in ["proved", "refuted", "broken"] {
        assert!(tally.get(word).copied().unwrap_or(0) * 50 > cases as usize, "{tally:?}");
    }
}

/// Every request that can be has room in the formula, with the answer the engine gives: a
/// proof speaks of no fewer requests than there are.
fn has_room(bytes: &[u8], tally: &mut BTreeMap<&'static str, usize>) -> Result<(), String> {
    let mut dice = Dice::new(bytes);
    let charter = generate::charter(&mut dice);
    let text = render::charter(&charter);
    let sources = Sources::single("random.toml", &text);
    let policy = Arc::new(charter::read(&sources).policy.ok_or("the generated charter is refused")?);
    let written = Sources::single("guarantees.toml", &guarantees(&mut dice, &charter));
    let beside = read(&written, &mut Vec::new()).checked(&policy, &written).unwrap_or_default();
    let register = generate::register(&mut dice, &charter);
    let mut world = World::new(Arc::clone(&policy), Register::default());
    let mut kept = Vec::new();
    for line in render::register(&register) {
        // Only what the write checks let in is a register that proofs speak of.
        if world.apply(&[line::from_json(&line)?]).is_ok() {
            kept.push(line.to_string());
        }
    }
    for _ in 0..QUESTIONS / 2 {
        let question = generate::question(&mut dice, &charter);
        let Some(permission) = policy.permission(&question.permission) else { continue };
        if register.entities.get(&question.subject).is_some_and(|subject| subject.state != "active") {
            continue;
        }
        let now = jiff::Timestamp::from_second(question.now).map_err(|error| error.to_string())?;
        let request = render::request(&question);
        let asked = request.resolve(world.engine(), now).map_err(|error| error.to_string())?;
        let Ok(resolved) = &asked.question else { continue };
        let mut scratch = Scratch::default();
        let decision = decide(world.engine(), resolved, &mut scratch);
        if scratch.was_too_much()
            || matches!(decision.reason, Reason::ResourceDeleted | Reason::SubjectDeleted)
        {
            continue;
        }
        *tally.entry(if decision.allowed { "allowed" } else { "denied" }).or_default() += 1;
        let plain = Guarantee { claim: Claim::Never(permission), when: None, assume: None };
        let about = policy.model().permissions[permission.index()].kind;
        let of_type = beside.iter().filter(|guarantee| {
            policy.model().permissions[guarantee.claim.permission().index()].kind == about
        });
        for guarantee in std::iter::once(&plain).chain(of_type) {
            for depth in [1, 3] {
                if let Err(what) = guarantee.has_room_for(&world, &request, now, depth) {
                    return Err(format!(
                        "no room at depth {depth} for {what:#?} {guarantee:#?}\n{question:#?}\n{text}\n{}",
                        kept.join("\n")
                    ));
                }
            }
        }
    }
    Ok(())
}

#[test]
fn every_request_has_room_in_the_formula() {
    let mut tally = BTreeMap::new();
    let cases = (crate::cases().unwrap_or(5_000) / 60).max(20);
    for seed in 0..u64::from(cases) {
        let bytes = generate::bytes(seed + 70_000, 12_000);
        has_room(&bytes, &mut tally).unwrap_or_else(|why| panic!("seed {seed}: {why}"));
    }
    assert!(tally.get("allowed").copied().unwrap_or(0) > cases as usize, "{tally:?}");
}
