//! Every reader, fed mangled texts for a while: nothing panics, and nothing takes longer than its
//! input explains. `cargo xtask fuzz` feeds each for a minute.
//!
//! The texts are spliced from real ones and from what is awkward, from a fixed seed: a finding is
//! found again by running it again.

#![allow(clippy::disallowed_methods, reason = "test data lives in files; how long it takes is measured")]
#![allow(clippy::disallowed_macros, reason = "what was fed is part of the report")]

use ostrog_core::import::{self, Choice, Options};
use ostrog_core::prelude::*;
use rstest::rstest;
use serde_json::json;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// Longest that a text of a few kilobytes may take, in a build that is not optimised.
const LONGEST: Duration = Duration::from_secs(2);

fn file(name: &str) -> String {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo").join(name);
    std::fs::read_to_string(path).expect("a file")
}

struct Dice(u64);

impl Dice {
    fn below(&mut self, bound: usize) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        usize::try_from(self.0 >> 33).unwrap_or(0) % bound.max(1)
    }

    /// A stretch of a text, at the bounds of its characters.
    fn stretch<'t>(&mut self, text: &'t str, longest: usize) -> &'t str {
        let mut at = self.below(text.len() + 1);
        let mut end = (at + self.below(longest)).min(text.len());
        while !text.is_char_boundary(at) {
            at -= 1;
        }
        while !text.is_char_boundary(end) {
            end += 1;
        }
        &text[at..end]
    }

    fn mangled(&mut self, texts: &[String]) -> String {
        const AWKWARD: [&str; 24] = [
            "((((((((",
            "))))",
            "[[",
            "]]",
            "{",
            "}",
            "'",
            "\"",
            "\"\"\"",
            "\\",
            "\u{0}",
            "\u{feff}",
            "é",
            "𝔖",
            "9223372036854775808",
            "-0",
            "1e999",
            "null",
            "&a [*a, *a]",
            "<<: ",
            "$ref: '#/'",
            "not not not ",
            "a.b.c.d.e.f.g.h.i.j",
            "\n\n",
        ];
        let mut text = texts[self.below(texts.len())].clone();
        for _ in 0..1 + self.below(6) {
            let piece = match self.below(4) {
                0 => AWKWARD[self.below(AWKWARD.len())].to_owned(),
                1 => AWKWARD[self.below(AWKWARD.len())].repeat(1 + self.below(60)),
                2 => {
                    let from = self.below(texts.len());
                    self.stretch(&texts[from], 200).to_owned()
                }
                _ => String::new(),
            };
            let mut at = self.below(text.len() + 1);
            while !text.is_char_boundary(at) {
                at -= 1;
            }
            let mut end = (at + self.below(40)).min(text.len());
            while !text.is_char_boundary(end) {
                end += 1;
            }
            text.replace_range(at..end, &piece);
        }
        text
    }
}

fn read_charter(text: &str) {
    let sources = Sources::single("charter.toml", text);
    let reading = charter::read(&sources);
    reading.findings.iter().for_each(|finding| drop(sources.render(finding)));
    if let Ok(tidied) = charter::tidy::tidy(text) {
        assert_eq!(charter::tidy::tidy(&tidied).as_ref(), Ok(&tidied), "tidy twice is tidy once");
    }
}

fn read_condition(text: &str) {
    let head = "[charter]\nname = \"x\"\nformat = 1\n[application.a]\n[resource.r]\napplication = \"a\"\n\
        actions = { v = \"\" }\n[resource.r.attributes]\na = \"integer\"\nt = \"text\"\n[role.p]\n[[role.p.clause]]\n\
        permissions = [\"r:v\"]\nwhen = '''";
    read_charter(&format!("{head}{}'''\n", text.replace("'''", "")));
}

fn read_register(text: &str) {
    for line in text.lines() {
        if let Err(why) = line::parse(line) {
            assert!(!why.to_string().is_empty());
        }
    }
    let changes: Vec<Change> = text.lines().filter_map(|line| line::parse(line).ok()).collect();
    let mut register = Register::default();
    let before = register.lines().count();
    if register.apply(&changes, Checks::of(&[])).is_err() {
        assert_eq!(register.lines().count(), before);
    }
}

fn read_openapi(text: &str) {
    let options = Options { application: "portal", ..Options::default() };
    if let Ok(draft) = import::plan(text, &options) {
        let mut files = draft.write(&Choice::default(), None).expect("is written");
        files.push(SourceFile { path: "charter.toml".into(), text: HEADER.into() });
        let sources = Sources::new(files);
        let reading = charter::read(&sources);
        let told: Vec<String> = reading.findings.iter().map(|finding| sources.render(finding)).collect();
        assert!(reading.policy.is_some(), "a draft is a charter: {}\n{text}", told.join("\n"));
    }
}

fn charters() -> Vec<String> {
    ["agents", "charter", "connect", "customs", "people", "quay", "roles", "rules"]
        .map(|name| file(&format!("harbour/{name}.toml")))
        .into()
}

fn conditions() -> Vec<String> {
    let mut all: Vec<String> = charters()
        .iter()
        .flat_map(|text| {
            text.lines()
                .filter_map(|line| line.strip_prefix("when = "))
                .map(str::to_owned)
                .collect::<Vec<_>>()
        })
        .collect();
    all.push(
        "((a or not resource.a + 3 > 5) and fits(resource.t, '*x?') or resource.t in ['a', 'b'])".into(),
    );
    all
}

fn registers() -> Vec<String> {
    let text = file("register.ndjson");
    let lines: Vec<&str> = text.lines().collect();
    lines.chunks(12).map(|lines| lines.join("\n")).collect()
}

fn documents() -> Vec<String> {
    vec![
        include_str!("data/openapi/portal.yaml").to_owned(),
        include_str!("data/openapi/portal.json").to_owned(),
    ]
}

#[rstest]
#[case::the_charter_reader(charters(), read_charter)]
#[case::the_condition_parser(conditions(), read_condition)]
#[case::the_register_reader(registers(), read_register)]
#[case::the_openapi_reader(documents(), read_openapi)]
fn mangled_texts_are_read_or_refused(#[case] texts: Vec<String>, #[case] read: fn(&str)) {
    let seconds = std::env::var("OSTROG_FUZZ_SECONDS").ok().and_then(|text| text.parse().ok()).unwrap_or(2);
    let (began, mut fed, mut slowest) = (Instant::now(), 0_u64, Duration::ZERO);
    while began.elapsed() < Duration::from_secs(seconds) {
        let text = Dice(fed).mangled(&texts);
        let before = Instant::now();
        read(&text);
        slowest = slowest.max(before.elapsed());
        assert!(before.elapsed() < LONGEST, "text {fed} took {:?}", before.elapsed());
        fed += 1;
    }
    println!("{fed} texts, the slowest in {slowest:?}");
}

/// What grows faster than its text would be felt at these sizes.
#[rstest]
#[case::deep_parentheses(format!("{}true{}", "(".repeat(50_000), ")".repeat(50_000)))]
#[case::a_long_chain(vec!["resource.a == 1"; 20_000].join(" and "))]
#[case::many_nots("not ".repeat(50_000) + "true")]
#[case::a_long_list(format!("resource.a in [{}]", vec!["1"; 50_000].join(",")))]
#[case::a_huge_text(format!("resource.t == '{}'", "x".repeat(900_000)))]
#[case::a_long_path(format!("resource{} == 1", ".a".repeat(50_000)))]
#[case::stars(format!("fits(resource.t, '{}')", "*a".repeat(2_000)))]
fn a_trap_in_a_condition_is_passed_in_time(#[case] condition: String) {
    let began = Instant::now();
    read_condition(&condition);
    assert!(began.elapsed() < Duration::from_secs(10), "{:?}", began.elapsed());
}

const HEADER: &str = "[charter]\nname = \"x\"\nformat = 1\n";
const HEAD: &str = "[charter]\nname = \"x\"\nformat = 1\n[application.a]\n[resource.r]\napplication = \"a\"\nactions = { v = \"\" }\n";

/// What mangled texts were found by once.
#[rstest]
#[case::a_path_of_four_hundred_characters(&format!("/{}/{{id}}/load", "p".repeat(60) + &"(".repeat(340)))]
#[case::a_parameter_of_four_hundred_characters(&format!("/berths/{{{}}}", "b".repeat(400)))]
#[case::a_brace_too_many("/berths/{berth}}/load")]
#[case::more_segments_than_a_route_has(&"/a".repeat(65))]
#[case::a_control_character("/berths/\u{1}")]
#[case::an_empty_parameter("/berths/{}")]
fn a_draft_of_an_awkward_path_is_a_charter(#[case] path: &str) {
    let document =
        json!({ "openapi": "3.1.0", "paths": { path: { "post": {} }, "/tides/{t}": { "get": {} } } });
    read_openapi(&document.to_string());
}

#[test]
fn ten_thousand_roles_in_a_row_are_read_in_time() {
    let mut text = format!("{HEAD}[role.r0]\npermissions = [\"r:v\"]\n");
    for at in 1..10_000 {
        let inner = if at % 30 == 0 { 0 } else { at - 1 };
        text.push_str(&format!("[role.r{at}]\nincludes = [\"r{inner}\"]\n"));
    }
    let began = Instant::now();
    read_charter(&text);
    assert!(began.elapsed() < Duration::from_secs(30), "{:?}", began.elapsed());
}

#[test]
fn a_pattern_of_many_stars_is_matched_in_time() {
    let text = format!(
        "{HEAD}[resource.r.attributes]\nt = \"text\"\n[role.p]\ngiven-to = \"anyone\"\n[[role.p.clause]]\n\
         permissions = [\"r:v\"]\nwhen = \"fits(resource.t, '{}b')\"\n",
        "*a".repeat(500)
    );
    let policy = charter::read(&Sources::single("a.toml", &text)).policy.expect("no errors");
    let world = World::new(Arc::new(policy), Register::default());
    let mut request = Request { subject: "anonymous".into(), permission: "r:v".into(), ..Request::default() };
    request.of_resource.insert("t".into(), "a".repeat(4_000).into());
    let asked = request.resolve(world.engine(), jiff::Timestamp::UNIX_EPOCH).expect("well formed");
    let began = Instant::now();
    let decision = with_scratch(|scratch| decide(world.engine(), &asked.question.expect("known"), scratch));
    assert!(!decision.allowed && began.elapsed() < Duration::from_secs(2), "{:?}", began.elapsed());
}

#[test]
fn a_subject_of_many_groups_is_decided_about_in_time() {
    let mut lines = vec![r#"{"entity":"user:u"}"#.to_owned()];
    for group in 0..3_000 {
        let inner = if group % 15 == 0 { "user:u".to_owned() } else { format!("group:g{}", group - 1) };
        lines.push(format!(r#"{{"entity":"group:g{group}","members":["user:u","{inner}"]}}"#));
    }
    let policy =
        charter::read(&Sources::single("a.toml", &format!("{HEAD}[role.p]\npermissions = [\"r:v\"]\n")))
            .policy;
    let mut world = World::new(Arc::new(policy.expect("no errors")), Register::default());
    let changes: Vec<Change> = lines.iter().map(|text| line::parse(text).expect("a line")).collect();
    world.apply(&changes).expect("valid");
    let request = Request { subject: "user:u".into(), permission: "r:v".into(), ..Request::default() };
    let asked = request.resolve(world.engine(), jiff::Timestamp::UNIX_EPOCH).expect("well formed");
    let began = Instant::now();
    with_scratch(|scratch| decide(world.engine(), &asked.question.expect("known"), scratch));
    assert!(began.elapsed() < Duration::from_secs(1), "{:?}", began.elapsed());
}

/// Operations of a document that is made to be large, by what is large in it.
fn big(what: &str, count: usize) -> String {
    let mut paths = serde_json::Map::new();
    for at in 0..count / 2 {
        let (path, extra) = match what {
            "types" => (format!("/api/things{at}/{{id}}/parts/{{part}}"), "x-cost".to_owned()),
            "extensions" => (format!("/api/things/{{id}}/part{at}"), format!("x-cost-{at}")),
            "parameters" => (format!("/{{first}}/{at}/{{last}}.f{at}"), "x-cost".to_owned()),
            "crossing" if at % 2 == 0 => (format!("/{{first}}/k{at}"), "x-cost".to_owned()),
            "crossing" => (format!("/l{at}/{{last}}"), "x-cost".to_owned()),
            _ => (format!("/api/things/{{id}}/parts/{{part}}/part{at}"), "x-cost".to_owned()),
        };
        let open =
            if what == "crossing" { json!([]) } else { json!([{ "oauth": [format!("scope{}", at % 50)] }]) };
        let read = json!({ "operationId": format!("read{at}"), "security": open, "tags": [format!("tag {}", at % 9)] });
        paths
            .insert(path, json!({ "get": read, "delete": { extra: 1, "security": [{ "oauth": ["all"] }] } }));
    }
    json!({ "openapi": "3.0.3", "info": { "title": "Big", "version": "1" }, "paths": paths }).to_string()
}

/// What this thread has had of a processor: other tests beside it change nothing of that.
fn spent() -> Duration {
    let now = rustix::time::clock_gettime(rustix::time::ClockId::ThreadCPUTime);
    Duration::new(now.tv_sec.unsigned_abs(), u32::try_from(now.tv_nsec).expect("below a second"))
}

#[rstest]
#[case::types("types")]
#[case::extensions("extensions")]
#[case::parameters("parameters")]
#[case::crossing("crossing")]
#[case::actions("actions")]
fn four_times_the_operations_take_no_sixteen_times_as_long(#[case] what: &str) {
    let options = Options { application: "portal", ..Options::default() };
    let mut took = Vec::new();
    for count in [1_000, 4_000] {
        let text = big(what, count);
        let began = spent();
        let draft = import::plan(&text, &options).expect("is mapped");
        let mut files = draft.write(&Choice::default(), None).expect("is written");
        files.push(SourceFile { path: "charter.toml".into(), text: HEADER.into() });
        let sources = Sources::new(files);
        assert!(charter::read(&sources).policy.is_some(), "a charter of {count}");
        import::plan(&text, &Options { beside: Some(&sources), ..options }).expect("is compared");
        took.push((spent() - began).as_secs_f64());
        assert_eq!(draft.operations, count);
    }
    assert!(took[1] < 10.0 * took[0], "{what}: {took:?}");
}

#[test]
fn a_draft_of_twenty_thousand_operations_fits() {
    let options = Options { application: "portal", ..Options::default() };
    let draft = import::plan(&big("types", 20_000), &options).expect("is mapped");
    let mut files = draft.write(&Choice::default(), None).expect("is written");
    files.push(SourceFile { path: "charter.toml".into(), text: HEADER.into() });
    assert!(files.len() > 5 && charter::read(&Sources::new(files)).policy.is_some());
    let one_more = import::plan(&big("types", 20_002), &options).expect_err("is too large");
    assert!(one_more.to_string().contains("split it"), "{one_more}");
}

#[test]
fn a_document_in_yaml_of_ten_megabytes_reads_as_its_json_does() {
    let mut text = String::from("openapi: 3.0.3\ninfo: { title: Big, version: '1' }\npaths:\n");
    for at in 0..10_000 {
        text.push_str(&format!(
            "  /things/{{id}}/part{at}:\n    get:\n      description: >-\n        {}\n      responses:\n        200: {{ description: Done }}\n",
            "Words of a part. ".repeat(55)
        ));
    }
    assert!(text.len() > 10_000_000, "{}", text.len());
    let options = Options { application: "portal", ..Options::default() };
    let began = Instant::now();
    let draft = import::plan(&text, &options).expect("is mapped");
    assert_eq!((draft.operations, draft.mapped), (10_000, 10_000));
    assert!(began.elapsed() < Duration::from_secs(60), "{:?}", began.elapsed());
}
