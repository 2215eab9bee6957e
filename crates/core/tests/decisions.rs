//! Charters with a register, questions and the answers they must get, as files in `data/ok`.
//!
//! A question's line is `SUBJECT PERMISSION [RESOURCE] [JSON] => allowed|denied REASON`, where the
//! JSON may hold `resource`, `subject` (properties), `context` and `now`.

#![allow(clippy::disallowed_methods, reason = "test data lives in files")]

use ostrog_core::prelude::*;
use rstest::rstest;
use serde_json::{Map, Value};
use std::path::PathBuf;
use std::sync::Arc;

fn section<'t>(text: &'t str, name: &str) -> &'t str {
    let start = text.find(&format!("== {name}\n")).expect("the section is there") + name.len() + 4;
    let end = text[start..].find("\n== ").map_or(text.len(), |at| start + at);
    &text[start..end]
}

fn world(text: &str) -> World {
    let sources = Sources::single(
        "charter.toml",
        &format!("[charter]\nname = \"t\"\nformat = 1\n{}", section(text, "charter")),
    );
    let reading = charter::read(&sources);
    let told: Vec<String> = reading.findings.iter().map(|finding| sources.render(finding)).collect();
    let policy = reading.policy.unwrap_or_else(|| panic!("{}", told.join("\n")));
    let mut world = World::new(Arc::new(policy), Register::default());
    let lines = section(text, "register").lines().filter(|line| !line.trim().is_empty());
    let changes: Vec<Change> =
        lines.map(|text| line::parse(text).unwrap_or_else(|why| panic!("{text}: {why}"))).collect();
    world.apply(&changes).unwrap_or_else(|refusals| panic!("{refusals:?}"));
    world
}

#[rstest]
fn answers_are_as_written(#[files("tests/data/ok/*.txt")] path: PathBuf) {
    let text = std::fs::read_to_string(&path).expect("a file");
    let world = world(&text);
    let questions = section(&text, "questions").lines().filter(|line| line.contains("=>"));
    let mut wrong = Vec::new();
    for line in questions {
        let (asked, expected) = line.split_once("=>").expect("an arrow");
        let (words, extra) = asked.find('{').map_or((asked, "{}"), |at| asked.split_at(at));
        let extra: Value = serde_json::from_str(extra).unwrap_or_else(|why| panic!("{line}: {why}"));
        let object = |key: &str| extra[key].as_object().cloned().unwrap_or_else(Map::new);
        let words: Vec<&str> = words.split_whitespace().collect();
        let request = Request {
            subject: words[0].into(),
            permission: words[1].into(),
            resource: words.get(2).map(|name| (*name).into()),
            of_subject: object("subject"),
            of_resource: object("resource"),
            context: object("context"),
            ..Request::default()
        };
        let now = extra["now"].as_str().unwrap_or("2026-11-23T09:00:00Z").parse().expect("a moment");
        let found = match request.resolve(world.engine(), now) {
            Err(malformed) => format!("malformed {malformed}"),
            Ok(asked) => {
                let (decision, why) = with_scratch(|scratch| explain(world.engine(), &asked, scratch));
                format!("{} {}", if decision.allowed { "allowed" } else { "denied" }, why.reason)
            }
        };
        if !found.starts_with(expected.trim()) {
            wrong.push(format!("{}\n    found {found}", line.trim()));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// A line of vessels, each towed by the next; who tows the last tows them all.
fn line_of_tugs(length: usize) -> String {
    let policy = "[charter]\nname = \"t\"\nformat = 1\n[application.quay]\n[resource.vessel]\n\
        application = \"quay\"\nactions = { tow = \"\" }\n[resource.vessel.relations]\ntug = \"vessel\"\n\
        [[resource.vessel.confer]]\nrole = \"tower\"\nto = { holds = \"tower\", at = \"tug\" }\n\
        [role.tower]\npermissions = [\"vessel:tow\"]\n";
    let reading = charter::read(&Sources::single("charter.toml", policy));
    let mut world = World::new(Arc::new(reading.policy.expect("no errors")), Register::default());
    let mut lines: Vec<String> = (0..length - 1)
        .map(|n| format!(r#"{{"entity":"vessel:v{n}","relations":{{"tug":"vessel:v{}"}}}}"#, n + 1))
        .collect();
    let last = length - 1;
    lines.push(format!(r#"{{"entity":"vessel:v{last}","relations":{{"tug":"vessel:v{last}"}}}}"#));
    lines.push(r#"{"entity":"user:ines"}"#.to_owned());
    lines.push(format!(r#"{{"grant":{{"role":"tower","to":"user:ines","at":"vessel:v{last}"}}}}"#));
    let changes: Vec<Change> = lines.iter().map(|text| line::parse(text).expect("a line")).collect();
    world.apply(&changes).expect("valid");
    let request = Request {
        subject: "user:ines".into(),
        permission: "vessel:tow".into(),
        resource: Some("vessel:v0".into()),
        ..Request::default()
    };
    let asked = request
        .resolve(world.engine(), jiff::Timestamp::UNIX_EPOCH)
        .expect("well formed")
        .question
        .expect("known");
    let mut scratch = Scratch::default();
    let reason = decide(world.engine(), &asked, &mut scratch).reason.code(world.engine());
    assert_eq!(scratch.was_too_much(), reason == "undetermined");
    reason
}

#[rstest]
#[case(ostrog_core::decide::MAX_PAIRS, "role:tower")]
#[case(ostrog_core::decide::MAX_PAIRS + 1, "undetermined")]
#[case(100_000, "undetermined")]
fn a_decision_depends_on_so_many_pairs_at_most(#[case] length: usize, #[case] reason: &str) {
    assert_eq!(line_of_tugs(length), reason);
}
