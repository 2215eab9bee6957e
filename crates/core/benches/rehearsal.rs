//! How long do guarantees and the shift take on something large? Run it with
//! `cargo bench -p ostrog-core --bench rehearsal`.

#![allow(
    clippy::disallowed_methods,
    clippy::disallowed_macros,
    reason = "a benchmark has a clock and prints"
)]

#[allow(dead_code, reason = "the other benchmark asks for more of it")]
mod port;

mod fleet;

use ostrog_core::prelude::*;
use ostrog_core::rehearse::read;
use ostrog_core::shift::{Only, shift};
use std::fmt::Write as _;
use std::sync::Arc;
use std::time::Instant;

fn main() {
    if std::env::args().any(|argument| argument == "--test") {
        return;
    }
    guarantees();
    for users in [10_000, 100_000] {
        shifts(users);
    }
    for users in [10_000, 100_000] {
        harbour(users);
    }
}

/// The demo's charter against its careless draft, with three times as many resources as users.
fn harbour(users: usize) {
    let read = |folders: &[&str]| {
        let mut files = std::collections::BTreeMap::new();
        for folder in folders {
            let folder = format!("{}/../../demo/{folder}", env!("CARGO_MANIFEST_DIR"));
            for file in std::fs::read_dir(folder).expect("the demo is there").flatten() {
                let text = std::fs::read_to_string(file.path()).expect("it can be read");
                files.insert(file.file_name().to_string_lossy().into_owned(), text);
            }
        }
        let files = files.into_iter().map(|(path, text)| SourceFile { path, text }).collect();
        Arc::new(charter::read(&Sources::new(files)).policy.expect("it holds"))
    };
    let (before, after) = (read(&["harbour"]), read(&["harbour", "drafts/careless"]));
    let register = fleet::register(Arc::clone(&before), users);
    let start = Instant::now();
    let world = |policy: &Arc<Policy>| World::new(Arc::clone(policy), register.clone());
    let (before, after) = (world(&before), world(&after));
    let now = "2026-11-23T09:00:00Z".parse().expect("a moment");
    let mut longest = std::time::Duration::ZERO;
    let mut last = Instant::now();
    let found = shift(&before, &after, now, &Only::default(), &mut |_| {
        longest = longest.max(last.elapsed());
        last = Instant::now();
        true
    });
    println!(
        "shift: {users} users, {} entities of the demo's types, its careless draft: {} in {:?} ({} could change, {} kinds of subjects, {} questions; asked whether to go on every {longest:?} at most)",
        register.entity_count(),
        found.in_words(),
        start.elapsed(),
        found.permissions.len(),
        found.kinds_of_subjects,
        found.asked
    );
}

/// 40 types, 200 roles, 300 rules: chains of roles, conditions on numbers and texts, conferral.
fn charter() -> String {
    let mut text = "[charter]\nname = \"Large\"\nformat = 1\n[application.app]\n[subject.user.attributes]\nrank = \"integer\"\npost = \"text\"\n".to_owned();
    for at in 0..40 {
        let within = if at % 8 == 0 { "tenant".to_owned() } else { format!("t{}", at - 1) };
        let _ = write!(
            text,
            "[resource.t{at}]\napplication = \"app\"\nwithin = \"{within}\"\nactions = {{ a = \"\", b = \"\", c = \"\", d = \"\", e = \"\" }}\n\
             [resource.t{at}.attributes]\nlevel = \"integer\"\nheld = {{ type = \"boolean\", default = false }}\ntag = \"text\"\n\
             [resource.t{at}.relations]\nowner = \"user\"\n\
             [[resource.t{at}.confer]]\nrole = \"owner{at}\"\nto = {{ relation = \"owner\" }}\nwhen = \"not resource.held\"\n\
             [role.owner{at}]\ngrantable = false\npermissions = [\"t{at}:a\"]\n"
        );
    }
    for at in 0..160 {
        let kind = at % 40;
        let includes = if at >= 40 { format!("includes = [\"r{}\"]\n", at - 40) } else { String::new() };
        let action = ["a", "b", "c", "d"][at / 40];
        let _ = write!(
            text,
            "[role.r{at}]\n{includes}permissions = [\"t{kind}:{action}\"]\n\
             [[role.r{at}.clause]]\npermissions = [\"t{kind}:e\"]\nwhen = \"subject.rank >= resource.level + {}\"\n",
            at / 40
        );
    }
    for at in 0..300 {
        let kind = at % 40;
        let when = match at / 40 {
            0 => "resource.held".to_owned(),
            1 => "subject == resource.owner".to_owned(),
            n => format!("resource.level > {n} and resource.tag == 'x{at}'"),
        };
        let _ = write!(
            text,
            "[[rule]]\nkey = \"d{at}\"\neffect = \"deny\"\npermissions = [\"t{kind}:e\"]\nwhen = \"{when}\"\n"
        );
    }
    text
}

fn guarantees() {
    let policy = charter::read(&Sources::single("large.toml", &charter())).policy.expect("the charter holds");
    let mut text = String::new();
    for at in 0..4 {
        let kind = at * 9;
        let _ = write!(
            text,
            "[[guarantee]]\nname = \"held {at}\"\nnever = \"t{kind}:e\"\nwhen = \"resource.held\"\n\
             [[guarantee]]\nname = \"own {at}\"\nnever = \"t{kind}:e\"\nwhen = \"subject == resource.owner\"\n\
             [[guarantee]]\nname = \"rank {at}\"\nnever = \"t{kind}:e\"\nwhen = \"subject.rank < resource.level\"\n\
             [[guarantee]]\nname = \"owner {at}\"\nalways = \"t{kind}:a\"\nwhen = \"subject == resource.owner and not resource.held\"\n"
        );
    }
    let sources = Sources::single("guarantees.toml", &text);
    let rehearsal = read(&sources, &mut Vec::new());
    let start = Instant::now();
    let settled =
        rehearsal.settle(&Arc::new(policy), &sources, &|| true, &mut |_| {}).expect("they have a meaning");
    let proved = settled.iter().filter(|one| one.holds()).count();
    println!(
        "guarantees: 40 types, 200 roles, 300 rules: {proved} of {} proved in {:?}",
        settled.len(),
        start.elapsed()
    );
}

/// One role changes on a port of so many users, with some 200 permissions.
fn shifts(users: usize) {
    let facts = port::facts(users);
    let more = |text: &str| {
        let actions: String = (0..97).map(|at| format!(", x{at} = \"\"")).collect();
        text.replacen(
            "actions = { view = \"\", plan = \"\" }",
            &format!("actions = {{ view = \"\", plan = \"\"{actions} }}"),
            2,
        )
    };
    let read =
        |text: String| Arc::new(charter::read(&Sources::single("bench.toml", &text)).policy.expect("holds"));
    let before = read(more(port::CHARTER));
    let changed = port::CHARTER.replacen("\"voyage:view\", \"manifest:view\"]", "\"voyage:view\"]", 1);
    let after = read(more(&changed).replace(
        "includes = [\"reader\"]\n[[role",
        "includes = [\"reader\"]\npermissions = [\"manifest:view\"]\n[[role",
    ));
    let register = facts.world().register().clone();
    let world = |policy: &Arc<Policy>| World::new(Arc::clone(policy), register.clone());
    let (before, after) = (world(&before), world(&after));
    let now = "2026-11-23T09:00:00Z".parse().expect("a moment");
    let start = Instant::now();
    let found = shift(&before, &after, now, &Only::default(), &mut |_| true);
    println!(
        "shift: {users} users, {} permissions: {} in {:?} ({} could change, {} kinds of subjects, {} questions)",
        before.policy().model().permissions.len(),
        found.in_words(),
        start.elapsed(),
        found.permissions.len(),
        found.kinds_of_subjects,
        found.asked
    );
}
