//! One question: what does a decision cost beside the same check written by hand on arrays?
//!
//! Both are asked the same mixed questions about the same seeded register, in one run, and every
//! answer is compared. The check by hand knows this one charter and nothing else: it is what a
//! team would write into an application, with ids in vectors and no strings. What a fact takes in
//! memory, and what the two searches cost at the median, stand beside. Run it with
//! `cargo xtask bench`.

#![allow(
    clippy::disallowed_methods,
    clippy::disallowed_macros,
    reason = "a benchmark has a clock and prints"
)]
#![allow(clippy::cast_possible_truncation, reason = "the numbers of a benchmark are small")]

mod port;

use ostrog_core::decide::holders::holders;
use ostrog_core::decide::reach::{Reaching, reach};
use ostrog_core::prelude::*;
use port::{Asks, Facts, QUESTIONS};
use std::hint::black_box;
use std::time::{Duration, Instant};

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
        "{:>9}  {:>9}  {:>10}  {:>10}  {:>6}  {:>8}  {:>12}  {:>10}  {:>10}",
        "users", "facts", "by hand", "decision", "ratio", "allowed", "bytes a fact", "reach", "holders"
    );
    for users in [1_000, 10_000, 100_000, 1_000_000] {
        measure(users);
    }
}

fn measure(users: usize) {
    let facts = port::facts(users);
    let world = facts.world();
    let now = "2026-11-23T09:00:00Z".parse().expect("a moment");
    let asked = port::questions(&facts, users);
    let compiled = facts.compiled(&world, &asked);

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
    let register = world.register();
    println!(
        "{users:>9}  {:>9}  {:>10}  {:>10}  {:>6.2}  {:>7.0}%  {:>12.1}  {:>10}  {:>10}",
        register.fact_count(),
        each(by_hand),
        each(decision),
        decision.as_secs_f64() / by_hand.as_secs_f64(),
        allowed as f64 * 100.0 / QUESTIONS as f64,
        register.size_bytes() as f64 / register.fact_count() as f64,
        searches(&facts, &asked, |request| {
            let found = reach(engine, request, now, &Reaching::default(), &mut || true).expect("well formed");
            found.found.len()
        }),
        searches(&facts, &asked, |request| {
            holders(engine, request, now, &mut || true).expect("well formed").subjects.len()
        }),
    );
}

/// The median time of one search.
fn searches(facts: &Facts, asked: &[(u32, Asks, u32)], search: impl Fn(&Request) -> usize) -> String {
    let mut times: Vec<Duration> = asked
        .iter()
        .take(15)
        .map(|(user, asks, place)| {
            let request = facts.request(*user, *asks, *place);
            let start = Instant::now();
            black_box(search(&request));
            start.elapsed()
        })
        .collect();
    times.sort_unstable();
    format!("{:.1?}", times[times.len() / 2])
}
