//! Nothing panics on input, whatever it is: texts cut, doubled and spliced from real ones, and
//! texts of nothing but noise. What is read is told or refused; what is refused says why.

#![allow(clippy::disallowed_methods, reason = "test data lives in files")]

use ostrog_core::prelude::*;
use ostrog_core::rehearse;
use proptest::prelude::*;
use std::path::Path;
use std::sync::Arc;

fn file(name: &str) -> String {
    std::fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo").join(name))
        .expect("a file")
}

/// Edits of a text: where, how much is taken out, what is put there.
fn edits() -> impl Strategy<Value = Vec<(usize, usize, String)>> {
    let pieces = prop_oneof![
        "[\\[\\]{}()\"'=.,:#\\\\*<>!&|+-]{1,3}".prop_map(|text| text),
        "(and|or|not|in|overlaps|true|known\\(|holds\\('|resource\\.|subject\\.|\\[\\[role\\]\\]|when = )"
            .prop_map(|text| text),
        "\\PC{0,4}".prop_map(|text| text),
        Just(String::new()),
    ];
    prop::collection::vec((any::<usize>(), 0..40usize, pieces), 1..8)
}

fn edited(text: &str, edits: &[(usize, usize, String)]) -> String {
    let mut chars: Vec<char> = text.chars().collect();
    for (at, taken, put) in edits {
        let at = at % (chars.len() + 1);
        let end = (at + taken).min(chars.len());
        chars.splice(at..end, put.chars());
    }
    chars.into_iter().collect()
}

/// Reads a charter; every finding must have a place in it and words.
fn read(text: &str) -> Option<Policy> {
    let sources = Sources::single("charter.toml", text);
    let reading = charter::read(&sources);
    assert_eq!(reading.policy.is_none(), reading.errors() > 0);
    for finding in &reading.findings {
        let place = sources.place(finding.span);
        assert!(place.line >= 1 && place.line <= text.lines().count() + 1, "{finding:?}");
        assert!(!finding.message.is_empty() && !sources.render(finding).is_empty());
    }
    reading.policy
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn edited_charters_are_told_or_read(which in 0..7usize, edits in edits()) {
        let names = ["agents", "charter", "customs", "people", "quay", "roles", "rules"];
        let mut whole = String::new();
        for (at, name) in names.iter().enumerate() {
            let text = file(&format!("harbour/{name}.toml"));
            whole.push_str(&if at == which { edited(&text, &edits) } else { text });
            whole.push('\n');
        }
        // What can still be read can be asked without a panic.
        if let Some(policy) = read(&whole) {
            let world = World::new(Arc::new(policy), Register::default());
            for permission in &world.policy().model().permissions {
                let request = Request { subject: "anonymous".into(), permission: permission.text.clone(), ..Request::default() };
                let asked = request.resolve(world.engine(), jiff::Timestamp::UNIX_EPOCH).expect("well formed");
                let (decision, why) = with_scratch(|scratch| explain(world.engine(), &asked, scratch));
                prop_assert_eq!(decision.allowed, why.allowed);
            }
        }
    }

    #[test]
    fn noise_is_no_charter(text in "\\PC{0,400}") {
        read(&text);
    }

    #[test]
    fn noise_in_a_condition_is_told(text in "[a-z0-9 .'()\\[\\],<>=!+*-]{0,120}") {
        let head = "[charter]\nname = \"x\"\nformat = 1\n[application.a]\n[resource.r]\napplication = \"a\"\nactions = { v = \"\" }\n[resource.r.attributes]\na = \"integer\"\n[role.p]\n[[role.p.clause]]\npermissions = [\"r:v\"]\n";
        read(&format!("{head}when = \"{text}\"\n"));
    }

    #[test]
    fn edited_registers_are_refused_or_applied_whole(at in 0..500usize, edits in edits()) {
        let register = file("register.ndjson");
        let line = register.lines().nth(at).expect("a line");
        if let Err(why) = line::parse(&edited(line, &edits)) {
            prop_assert!(!why.to_string().is_empty());
        }
    }

    #[test]
    fn edited_rehearsals_are_told_or_read(edits in edits()) {
        let sources = Sources::single("r.toml", &edited(&file("rehearsal/cases.toml"), &edits));
        let mut findings = Vec::new();
        rehearse::read(&sources, &mut findings);
        for finding in &findings {
            prop_assert!(!sources.render(finding).is_empty());
        }
    }

    #[test]
    fn fact_lines_are_facts_or_told(text in "(user|vessel|grant|group)[a-z:. =+,'\\[\\]0-9-]{0,60}") {
        if let Err(why) = fact::Fact::parse(&text) {
            prop_assert!(!why.to_string().is_empty());
        }
    }
}
