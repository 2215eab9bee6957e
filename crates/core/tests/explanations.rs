//! What people read: the sentence of every kind of answer, the way, what was ignored, and the
//! cells of the roles grid.

#![allow(clippy::disallowed_methods, reason = "test data lives in files")]

use ostrog_core::charter::grid::{How, grid};
use ostrog_core::prelude::*;
use rstest::rstest;
use serde_json::json;
use std::path::{Path, PathBuf};
use std::sync::Arc;

fn demo() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo")
}

/// The port of Sorrel Bay as the demo loads it.
fn port() -> World {
    let mut files = Vec::new();
    for entry in std::fs::read_dir(demo().join("harbour")).expect("a folder") {
        let path = entry.expect("an entry").path();
        let name = path.file_name().and_then(|name| name.to_str()).expect("a name").to_owned();
        files.push(SourceFile { path: name, text: std::fs::read_to_string(&path).expect("a file") });
    }
    let policy = charter::read(&Sources::new(files)).policy.expect("the demo has no errors");
    let mut world = World::new(Arc::new(policy), Register::default());
    let register = std::fs::read_to_string(demo().join("register.ndjson")).expect("a file");
    let changes: Vec<Change> = register.lines().map(|text| line::parse(text).expect("a line")).collect();
    world.apply(&changes).expect("the demo is valid");
    world
}

fn ask(
    world: &World,
    subject: &str,
    permission: &str,
    resource: &str,
    extra: serde_json::Value,
) -> Explanation {
    let object = |key: &str| extra[key].as_object().cloned().unwrap_or_default();
    let request = Request {
        subject: subject.into(),
        permission: permission.into(),
        resource: Some(resource.to_owned()).filter(|name| !name.is_empty()),
        of_subject: object("subject"),
        of_resource: object("resource"),
        context: object("context"),
        ..Request::default()
    };
    let asked = request
        .resolve(world.engine(), "2026-11-23T09:00:00Z".parse().expect("a moment"))
        .expect("well formed");
    with_scratch(|scratch| explain(world.engine(), &asked, scratch)).1
}

#[rstest]
#[case::role("user:maren", "manifest:release", "manifest:m-204", "chief-inspector everywhere")]
#[case::through_groups(
    "user:ines",
    "manifest:release",
    "manifest:m-205",
    "inspector at tenant:northline, through group:night in group:duty-inspectors"
)]
#[case::given("anonymous", "tariff:view", "tariff:t-2026", "passer-by given to anyone")]
#[case::rule("user:petra", "manifest:view", "manifest:m-205", "the rule reviewers-read allows it")]
#[case::condition(
    "user:ines",
    "manifest:release",
    "manifest:m-204",
    "inspector holds at tenant:northline, through group:night in group:duty-inspectors, but subject.clearance (3) >= resource.hazard (5) is false"
)]
#[case::undetermined(
    "user:rui",
    "crane:operate",
    "crane:cr-1",
    "crane-driver holds at berth:b-1, but resource.load (missing) <= resource.safe-load (40) is undetermined"
)]
#[case::rule_near(
    "anonymous",
    "notice:view",
    "notice:n-2",
    "the rule public-notice would allow it, but resource.published (false) is false"
)]
#[case::deny(
    "user:tomas",
    "manifest:release",
    "manifest:m-204",
    "Nobody releases what they declared: the rule own-declaration (subject (user:tomas) == resource.declarant (user:tomas) is true)"
)]
#[case::deny_undetermined(
    "user:petra",
    "invoice:approve",
    "invoice:inv-8",
    "Payments are approved from the office network: the rule office-network (not (context.ip (missing) in [address('10.20.0.0/16'), address('10.30.4.0/24')]) is undetermined)"
)]
#[case::no_role(
    "user:nils",
    "vessel:edit",
    "vessel:kestrel",
    "user:nils holds passer-by given to anyone and 1 more, none of which gives vessel:edit"
)]
#[case::suspended("user:old-hand", "berth:assign", "berth:b-1", "user:old-hand is suspended")]
#[case::unknown_type(
    "user:ines",
    "manifst:view",
    "",
    "the charter declares no type \"manifst\"; did you mean \"manifest\"?"
)]
#[case::unknown_permission(
    "user:ines",
    "manifest:relese",
    "",
    "the charter declares no permission \"manifest:relese\"; did you mean \"manifest:release\"?"
)]
fn sentences(
    #[case] subject: &str,
    #[case] permission: &str,
    #[case] resource: &str,
    #[case] sentence: &str,
) {
    assert_eq!(ask(&port(), subject, permission, resource, json!({})).sentence, sentence);
}

#[test]
fn the_way_is_a_chain_of_facts_and_shut_at_one_station_at_most() {
    let world = port();
    let stations = |why: &Explanation| -> Vec<String> {
        why.way
            .iter()
            .map(|station| {
                format!("{} {}{}", station.kind, station.name, if station.shut { " |#|" } else { "" })
            })
            .collect()
    };
    let allowed = ask(&world, "user:ines", "manifest:release", "manifest:m-205", json!({}));
    assert_eq!(
        stations(&allowed),
        [
            "subject user:ines",
            "group group:night",
            "group group:duty-inspectors",
            "grant g-inspect",
            "place tenant:northline",
            "role inspector",
            "permission manifest:release"
        ]
    );
    let denied = ask(&world, "user:maren", "manifest:release", "manifest:m-206", json!({}));
    assert_eq!(
        stations(&denied),
        [
            "subject user:maren",
            "grant g-chief",
            "place everywhere",
            "role chief-inspector",
            "rule held-cargo |#|",
            "permission manifest:release"
        ]
    );
    assert_eq!((denied.message.as_deref(), denied.advice.is_empty()), (Some("The cargo is on hold"), true));
    let nothing = ask(&world, "user:nils", "vessel:edit", "vessel:kestrel", json!({}));
    assert_eq!(stations(&nothing), ["subject user:nils", "permission vessel:edit |#|"]);
}

#[test]
fn what_does_not_count_is_told() {
    let world = port();
    let why = ask(
        &world,
        "user:ines",
        "manifest:release",
        "manifest:m-204",
        json!({
            "subject": { "clearance": 9, "shoe-size": 41 },
            "resource": { "within": "voyage:v-9", "hazrd": 1 },
            "context": { "zon": "quay", "session": "s-1" },
        }),
    );
    assert!(!why.allowed);
    assert_eq!(
        why.ignored,
        [
            "subject.clearance: it is read from the register only",
            "subject.shoe-size: not declared for a user",
            "resource.hazrd: not declared for a manifest; did you mean \"hazard\"?",
            "resource.within: the resource is registered",
            "context.zon: not declared; did you mean \"zone\"?",
        ]
    );
    let stranger = ask(
        &world,
        "user:nobody",
        "manifest:release",
        "manifest:m-new",
        json!({ "subject": { "clearance": 9 }, "resource": { "within": "voyage:v-none" } }),
    );
    assert_eq!(
        stranger.ignored,
        [
            "user:nobody is not in the register; asked as anonymous",
            "subject.clearance: the subject is anonymous",
            "resource.within: voyage:v-none is not registered",
        ]
    );
}

#[test]
fn conditions_tell_each_part_with_what_was_read() {
    let why = ask(&port(), "user:rui", "crane:operate", "crane:cr-1", json!({ "resource": { "load": 41 } }));
    let [condition] = why.arrivals[0].conditions.as_slice() else { panic!("{why:?}") };
    assert_eq!(
        (condition.of.as_str(), &*condition.value, condition.because.as_str()),
        ("role crane-driver", "false", "resource.load (41) <= resource.safe-load (40)")
    );
    let parts: Vec<_> = condition.parts.iter().map(|part| (part.text.as_str(), &*part.value)).collect();
    assert_eq!(
        parts,
        [("subject.licence-until > now", "true"), ("resource.load <= resource.safe-load", "false")]
    );
    let (path, read) = &condition.parts[0].reads[0];
    assert_eq!((path.as_str(), read.as_str()), ("subject.licence-until", "2036-06-30T00:00:00Z"));
    // A named condition is told part by part, at the place where it is written.
    let late = ask(&port(), "user:ines", "inspection:open", "inspection:i-12", json!({}));
    let parts = &late.arrivals[0].conditions[0].parts;
    assert!(
        parts.iter().any(|part| part.text == "weekday(now, 'Europe/Lisbon') != 'sunday'"
            || part.text.starts_with("weekday")),
        "{parts:?}"
    );
}

#[test]
fn the_grid_says_how_each_role_gives_each_action() {
    let world = port();
    let policy = world.policy();
    let sheet = grid(policy, policy.kind("voyage").expect("a type"));
    let cell = |role: &str, action: &str| {
        let row = sheet.roles.iter().find(|row| row.role == role).expect("a row");
        let at = sheet.actions.iter().position(|column| column.action == action).expect("a column");
        &row.cells[at]
    };
    assert_eq!(cell("deckhand", "view").how, How::Gives);
    assert_eq!(cell("planner", "plan").how, How::Gives);
    assert_eq!(cell("planner", "cancel").how, How::TakenOut);
    assert_eq!(cell("harbour-master", "plan").how, How::Included);
    assert_eq!(cell("harbour-master", "plan").through, ["planner"]);
    assert_eq!(cell("harbour-master", "cancel").how, How::Gives);
    assert_eq!(cell("auditor", "plan").how, How::Nothing);
    let sizes: Vec<usize> = sheet
        .roles
        .iter()
        .map(|row| row.cells.iter().filter(|cell| !matches!(cell.how, How::Nothing | How::TakenOut)).count())
        .collect();
    assert!(sizes.is_sorted(), "{sizes:?}");

    let sheet = grid(policy, policy.kind("manifest").expect("a type"));
    let release = sheet.actions.iter().find(|column| column.action == "release").expect("a column");
    assert_eq!(release.denies, ["held-cargo", "own-declaration"]);
    let agent = sheet.roles.iter().find(|row| row.role == "line-agent").expect("a row");
    assert_eq!(agent.cells[0].text, "Line agent gives manifest:view only when resource.line in grant.line");
    // A cell that says nothing gives nothing, to anybody, whatever the facts.
    for row in &sheet.roles {
        let role = policy.role(&row.role).expect("a role");
        for (cell, column) in row.cells.iter().zip(&sheet.actions) {
            let permission = policy.permission(&column.permission).expect("a permission");
            assert_eq!(
                matches!(cell.how, How::Nothing | How::TakenOut),
                !policy.may_give(role, permission),
                "{}",
                cell.text
            );
        }
    }
}

/// What was nearest comes first: what cut off a role that would have let them in.
#[test]
fn what_cut_them_off_is_told_before_what_else_would_do() {
    let facts = r#"
{"entity":"tenant:north"}
{"entity":"tenant:south"}
{"entity":"user:ann","tenants":["north"]}
{"entity":"user:sue","tenants":["south"]}
{"entity":"group:southern","tenant":"south","members":["user:sue"]}
{"entity":"yard:y1","within":"tenant:north"}
{"entity":"shed:s1","within":"yard:y1","detached":true}
{"entity":"shed:s2","within":"yard:y1","attributes":{"open":true}}
{"grant":{"role":"keeper","to":"user:ann","at":"tenant:north"}}
{"grant":{"role":"keeper","to":"group:southern","at":"yard:y1"}}
"#;
    let charter = r#"
[charter]
name = "Yards"
format = 1
[application.quay]
[resource.yard]
application = "quay"
within = "tenant"
actions = { view = "" }
[resource.shed]
application = "quay"
within = "yard"
actions = { enter = "", view = "" }
[resource.shed.attributes]
open = { type = "boolean", default = false }
[role.keeper]
permissions = ["shed:enter"]
[[rule]]
key = "open-sheds"
effect = "allow"
permissions = ["shed:enter", "shed:view"]
when = "resource.open"
"#;
    let policy = charter::read(&Sources::single("yards.toml", charter)).policy.expect("no errors");
    let mut world = World::new(Arc::new(policy), Register::default());
    let lines = facts.lines().filter(|line| !line.is_empty());
    let changes: Vec<Change> = lines.map(|text| line::parse(text).expect("a line")).collect();
    world.apply(&changes).expect("fits");
    for (subject, permission, resource, begins) in [
        ("user:ann", "shed:enter", "shed:s1", "shed:s1 is detached, so keeper at tenant:north stops at it"),
        (
            "user:sue",
            "shed:enter",
            "shed:s2",
            "keeper was granted to group:southern, a group of tenant:south",
        ),
        (
            "user:sue",
            "shed:view",
            "shed:s2",
            "the rule open-sheds does not reach across tenants: user:sue is no member of tenant:north",
        ),
        ("anonymous", "shed:view", "shed:s2", "the rule open-sheds allows it to those who are signed in"),
        (
            "user:anm",
            "shed:view",
            "shed:s1",
            "user:anm is not in the register (did you mean user:ann?); asked as anonymous: ",
        ),
        (
            "user:ann",
            "shed:view",
            "shed:s9",
            "shed:s9 is not in the register (did you mean shed:s1?); asked as a new one: ",
        ),
    ] {
        let why = ask(&world, subject, permission, resource, json!({}));
        assert!(!why.allowed && why.sentence.starts_with(begins), "{subject} {resource}: {}", why.sentence);
    }
}
