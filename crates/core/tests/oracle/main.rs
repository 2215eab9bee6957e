//! The compiled evaluator against the naive one: random charters, registers and questions must
//! get the same answer for the same reason.

#![allow(clippy::disallowed_methods, reason = "how long the search runs is set from outside")]
#![allow(clippy::disallowed_macros, reason = "the tally is part of the report")]
#![allow(clippy::manual_try_fold, reason = "an undetermined part does not end a fold over three values")]

mod agree;
mod generate;
mod naive;
mod prove;
mod render;
mod shift;
mod tokens;
mod worlds;

use generate::{Dice, Tally};
use naive::Naive;
use ostrog_core::prelude::*;
use proptest::prelude::*;
use proptest::test_runner::{Config, TestCaseError, TestRunner};
use std::cell::RefCell;
use std::collections::BTreeSet;
use std::sync::Arc;

/// Questions asked of each charter and register.
const QUESTIONS: usize = 40;

/// Everything one string of bytes leads to, compared.
fn compare(bytes: &[u8], tally: &mut Tally) -> Result<(), String> {
    let mut dice = Dice::new(bytes);
    let charter = generate::charter(&mut dice);
    let register = generate::register(&mut dice, &charter);
    let text = render::charter(&charter);
    let sources = Sources::single("random.toml", &text);
    let reading = charter::read(&sources);
    let Some(policy) = reading.policy else {
        let told: Vec<String> = reading.findings.iter().map(|finding| sources.render(finding)).collect();
        return Err(format!("the generated charter is refused:\n{}\n{text}", told.join("\n")));
    };
    let mut world = World::new(Arc::new(policy), Register::default());
    let lines = render::register(&register);
    let changes: Result<Vec<Change>, Wrong> = lines.iter().map(line::from_json).collect();
    // As recorded: what another revision allowed, wrong types among it, must be read safely too.
    world
        .apply_under(&changes?, Checks::of(&[]))
        .map_err(|refusals| format!("the generated register is refused: {refusals:?}"))?;
    let mut met_here = BTreeSet::new();
    for _ in 0..QUESTIONS {
        let question = generate::question(&mut dice, &charter);
        let (conferred, met) = (RefCell::default(), RefCell::default());
        let expected = Naive::new(&charter, &register, &question, &conferred, &met).decide();
        let now = jiff::Timestamp::from_second(question.now).map_err(|error| error.to_string())?;
        let asked =
            render::request(&question).resolve(world.engine(), now).map_err(|error| error.to_string())?;
        let decision = match &asked.question {
            Ok(question) => with_scratch(|scratch| decide(world.engine(), question, scratch)),
            Err(reason) => Decision { allowed: false, reason: *reason },
        };
        let found = (decision.allowed, decision.reason.code(world.engine()));
        let (explained, why) = with_scratch(|scratch| explain(world.engine(), &asked, scratch));
        if found != expected || explained != decision || why.sentence.is_empty() {
            let register: Vec<String> = lines.iter().map(ToString::to_string).collect();
            return Err(format!(
                "expected {expected:?}, found {found:?}, explained {explained:?}: {}\n{question:#?}\n{text}\n{}",
                why.sentence,
                register.join("\n")
            ));
        }
        met_here.append(&mut met.into_inner());
        let kind = found.1.split(':').next().unwrap_or("").to_owned();
        *tally
            .answers
            .entry(format!("{} {kind}", if found.0 { "allowed" } else { "denied" }))
            .or_default() += 1;
    }
    tally.cases += 1;
    for what in met_here {
        *tally.met.entry(what).or_default() += 1;
    }
    Ok(())
}

/// How many charters are tried, if that is set from outside.
fn cases() -> Option<u32> {
    std::env::var("OSTROG_ORACLE_CASES").ok()?.parse().ok()
}

#[test]
fn the_compiled_evaluator_agrees_with_the_naive_one() {
    let cases = cases().unwrap_or(5_000);
    let tally = RefCell::new(Tally::default());
    let mut runner = TestRunner::new(Config {
        cases,
        failure_persistence: None,
        max_shrink_iters: 4_000,
        ..Config::default()
    });
    let bytes = prop::collection::vec(any::<u8>(), 1_500..9_000);
    let outcome =
        runner.run(&bytes, |bytes| compare(&bytes, &mut tally.borrow_mut()).map_err(TestCaseError::fail));
    let tally = tally.into_inner();
    let total: usize = tally.answers.values().sum();
    println!("{total} questions: {tally:#?}");
    match outcome {
        Ok(()) => {}
        // The bytes that led here say nothing to a reader; what they led to is in the message.
        Err(proptest::test_runner::TestError::Fail(why, _)) => panic!("{why}"),
        Err(error) => panic!("{error}"),
    }
    // The generator must reach every kind of answer, or agreement says little.
    for reason in [
        "allowed role",
        "allowed rule",
        "denied rule",
        "denied condition",
        "denied undetermined",
        "denied no-role",
        "denied separated",
        "denied standby",
        "denied subject-suspended",
    ] {
        let share = tally.answers.get(reason).copied().unwrap_or(0) * 1_000 / total.max(1);
        assert!(share >= 5, "{reason} is the answer to {share} of 1000 questions");
    }
    for (what, times) in &tally.met {
        assert!(times * 100 >= tally.cases, "{what}: met in {times} of {} cases", tally.cases);
    }
    let allowed = tally
        .answers
        .iter()
        .filter(|(reason, _)| reason.starts_with("allowed"))
        .map(|(_, count)| count)
        .sum::<usize>();
    assert!((20..=80).contains(&(allowed * 100 / total)), "{allowed} of {total} are allowed");
}
