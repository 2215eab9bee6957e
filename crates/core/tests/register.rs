//! The register: what is refused and why, and that a refused batch leaves no trace.

#![allow(clippy::disallowed_methods, reason = "how long a write takes is measured")]

use ostrog_core::prelude::*;
use ostrog_core::register::Register;
use proptest::prelude::*;
use rstest::rstest;
use std::sync::Arc;

const CHARTER: &str = r#"
[charter]
name = "Register"
format = 1
[application.quay]
[resource.vessel]
application = "quay"
within = ["tenant", "vessel"]
actions = { view = "", weld = "" }
[resource.vessel.attributes]
length = "integer"
state = { type = "text", values = ["in", "out"] }
marks = { type = "text", many = true }
[resource.vessel.relations]
master = "user"
crew = { to = ["user", "group"], many = true }
[role.hand]
permissions = ["vessel:view"]
[role.agent]
values = { line = "text" }
held-at = ["tenant"]
permissions = ["vessel:view"]
[role.inner]
grantable = false
permissions = ["vessel:view"]
[role.welder]
permissions = ["vessel:weld"]
standby = { longest = "2h", reason = true }
[role.declarer]
permissions = ["vessel:view"]
[role.checker]
permissions = ["vessel:view"]
[role.chief]
includes = ["checker"]
permissions = ["vessel:view"]
[[separation]]
key = "apart"
roles = ["declarer", "checker"]
[[tenant-roles.clause]]
permissions = ["vessel:view"]
"#;

const START: &str = r#"
{"entity":"tenant:north"}
{"entity":"tenant:south"}
{"entity":"user:ines","tenants":["north"]}
{"entity":"service:feed"}
{"entity":"group:day","members":["user:ines"]}
{"entity":"group:all","members":["group:day"]}
{"entity":"vessel:a","within":"tenant:north","attributes":{"length":5},"relations":{"master":"user:ines"}}
{"entity":"vessel:b","within":"vessel:a"}
{"grant":{"id":"g-x","role":"hand","to":"user:ines","at":"vessel:a"}}
{"grant":{"id":"g-weld","role":"welder","to":"group:all","at":"vessel:a"}}
{"grant":{"id":"g-declare","role":"declarer","to":"group:all","at":"vessel:a"}}
{"activation":{"id":"a-1","grant":"g-weld","subject":"user:ines","until":"2026-11-23T10:00:00Z","reason":"permit"}}
{"tenant-role":{"tenant":"north","key":"looker","permissions":["vessel:view"]}}
{"grant":{"id":"g-look","role":"north/looker","to":"user:ines","at":"everywhere"}}
"#;

fn world() -> World {
    let reading = charter::read(&Sources::single("charter.toml", CHARTER));
    let mut world = World::new(Arc::new(reading.policy.expect("no errors")), Register::default());
    apply(&mut world, START).expect("the start is valid");
    world
}

fn apply(world: &mut World, lines: &str) -> Result<usize, String> {
    let changes: Result<Vec<Change>, Wrong> =
        lines.lines().filter(|line| !line.trim().is_empty()).map(line::parse).collect();
    let applied = world.apply(&changes.map_err(|why| why.to_string())?).map_err(|refusals| {
        refusals.iter().map(|refusal| refusal.why.to_string()).collect::<Vec<_>>().join("; ")
    })?;
    Ok(applied.touched.len())
}

/// Everything the register says, in an order of its own making.
fn dump(register: &Register) -> Vec<String> {
    let mut lines: Vec<String> = register.lines().map(|line| line.to_string()).collect();
    lines.sort_by_key(|line| {
        let order = ["{\"entity", "{\"tenant-role", "{\"grant", "{\"activation"];
        (order.iter().position(|start| line.starts_with(start)), line.clone())
    });
    lines.push(format!("{} {}", register.entity_count(), register.grant_count()));
    lines
}

#[rstest]
#[case(r#"{"entity":"vesel:x"}"#, "unknown type \"vesel\"; did you mean \"vessel\"?")]
#[case(r#"{"entity":"vessel:x"}"#, "vessel:x must lie within a tenant or vessel")]
#[case(
    r#"{"entity":"vessel:x","within":"user:ines"}"#,
    "what a vessel lies within is a tenant or vessel, not user:ines"
)]
#[case(r#"{"entity":"vessel:x","within":"vessel:y"}"#, "vessel:y is not registered")]
#[case(r#"{"entity":"vessel:a","within":"vessel:b"}"#, "vessel:a would lie within itself")]
#[case(r#"{"entity":"vessel:b","within":"tenant:south"}"#, "it would change its tenant")]
#[case(
    r#"{"entity":"vessel:a","within":"tenant:north","attributes":{"lenght":5}}"#,
    "a vessel has no attribute \"lenght\"; did you mean \"length\"?"
)]
#[case(
    r#"{"entity":"vessel:a","merge":true,"attributes":{"length":"5"}}"#,
    "is of type integer, and \"5\" is not"
)]
#[case(
    r#"{"entity":"vessel:a","merge":true,"attributes":{"length":5.5}}"#,
    "is of type integer, and 5.5 is not"
)]
#[case(
    r#"{"entity":"vessel:a","merge":true,"attributes":{"state":"on"}}"#,
    "is one of 'in', 'out', not 'on'"
)]
#[case(r#"{"entity":"vessel:a","merge":true,"attributes":{"master":"user:ines"}}"#, "it is a relation")]
#[case(r#"{"entity":"vessel:a","merge":true,"attributes":{"length":{"x":1}}}"#, "is one integer")]
#[case(r#"{"entity":"vessel:a","merge":true,"relations":{"master":[]}}"#, "leads to one thing, not 0")]
#[case(
    r#"{"entity":"vessel:a","merge":true,"relations":{"master":"group:day"}}"#,
    "\"master\" is a user, not group:day"
)]
#[case(r#"{"entity":"user:ines","within":"tenant:north"}"#, "within is said of resources only")]
#[case(r#"{"entity":"user:ines","state":"suspnded"}"#, "did you mean \"suspended\"?")]
#[case(r#"{"entity":"user:ines","tenants":["east"]}"#, "tenant:east is not registered")]
#[case(r#"{"entity":"user:ines","colour":"red"}"#, "unknown key \"colour\"")]
#[case(r#"{"entity":"user:in es"}"#, "white space")]
#[case(r#"{"entity":"ines"}"#, "is not an entity: write type:id")]
#[case(r#"{"entity":"anonymous:x"}"#, "nobody that can be registered")]
#[case("{\"entity\":\"user:e\u{301}\"}", "composed form (NFC)")]
#[case(r#"{"entity":"group:day","members":["group:all"]}"#, "would be a member of itself")]
#[case(r#"{"entity":"group:day","members":["vessel:a"]}"#, "a member is a user or service or group")]
#[case(r#"{"delete":"vessel:a"}"#, "contains 1 more, vessel:b among them")]
#[case(r#"{"delete":"vessel:zz"}"#, "not registered")]
#[case(r#"{"grant":{"role":"hnad","to":"user:ines","at":"everywhere"}}"#, "did you mean \"hand\"?")]
#[case(r#"{"grant":{"role":"inner","to":"user:ines","at":"everywhere"}}"#, "is not granted")]
#[case(r#"{"grant":{"role":"hand","to":"service:feed","at":"everywhere"}}"#, "is not held by a service")]
#[case(
    r#"{"grant":{"role":"agent","to":"user:ines","at":"everywhere","values":{"line":["N"]}}}"#,
    "is not granted at everywhere"
)]
#[case(r#"{"grant":{"role":"agent","to":"user:ines","at":"tenant:north"}}"#, "names its line")]
#[case(r#"{"grant":{"role":"hand","to":"user:ines","at":"user:ines"}}"#, "is no place")]
#[case(
    r#"{"grant":{"role":"hand","to":"user:ines","at":"vessel:a","id":"g-y"}}"#,
    "g-x says the same already"
)]
#[case(
    r#"{"grant":{"role":"hand","to":"user:ines","at":"vessel:b","id":"g-x"}}"#,
    "another grant is called g-x"
)]
#[case(
    r#"{"grant":{"role":"hand","to":"user:ines","at":"vessel:b","from":"2027-01-01","until":"2026-01-01"}}"#,
    "before it begins"
)]
#[case(
    r#"{"grant":{"role":"hand","to":"user:ines","at":"vessel:b","form":"2027-01-01"}}"#,
    "did you mean \"from\"?"
)]
#[case(r#"{"end-grant":"g-z"}"#, "no grant is called \"g-z\"")]
#[case(r#"{"activation":{}}"#, "an activation needs grant")]
#[case(
    r#"{"activation":{"grant":"g-x","subject":"user:ines","until":"2026-11-23T10:00:00Z","reason":"r"}}"#,
    "\"hand\" is not on standby"
)]
#[case(
    r#"{"activation":{"grant":"g-weld","subject":"user:first","until":"2026-11-23T10:00:00Z","reason":"r"}}"#,
    "g-weld was given to group:all, not to user:first"
)]
#[case(
    r#"{"activation":{"grant":"g-weld","subject":"group:day","until":"2026-11-23T10:00:00Z","reason":"r"}}"#,
    "for a user or service"
)]
#[case(
    r#"{"activation":{"grant":"g-weld","subject":"user:ines","until":"2026-11-23T10:00:00Z"}}"#,
    "activated with a reason"
)]
#[case(r#"{"activation":{"grant":"g-weld","subject":"user:ines","reason":"r"}}"#, "say until")]
#[case(
    r#"{"activation":{"grant":"g-weld","subject":"user:ines","reason":"r","from":"2026-11-23T08:00:00Z","until":"2026-11-23T10:00:01Z"}}"#,
    "at most 2h"
)]
#[case(r#"{"activation":{"grant":"g-wled","subject":"user:ines"}}"#, "did you mean \"g-weld\"?")]
#[case(r#"{"end-activation":"a-2"}"#, "no activation is called \"a-2\"")]
#[case(
    r#"{"tenant-role":{"tenant":"north","key":"x","permissions":["vessel:weld"]}}"#,
    "lets no tenant put \"vessel:weld\""
)]
#[case(r#"{"tenant-role":{"tenant":"north","key":"x","permissions":["vessel:*"]}}"#, "lets no tenant put")]
#[case(r#"{"tenant-role":{"tenant":"north","key":"X y","permissions":["vessel:view"]}}"#, "is not a key")]
#[case(
    r#"{"tenant-role":{"tenant":"west","key":"x","permissions":["vessel:view"]}}"#,
    "tenant:west is not registered"
)]
#[case(r#"{"end-tenant-role":"north/lokker"}"#, "did you mean \"north/looker\"?")]
#[case(
    r#"{"grant":{"role":"south/looker","to":"user:ines","at":"everywhere"}}"#,
    "no tenant has made a role \"south/looker\"; did you mean \"north/looker\"?"
)]
#[case(r#"{"grant":{"role":"north/looker","to":"service:feed","at":"everywhere"}}"#, "is held by users")]
#[case(
    r#"{"grant":{"role":"checker","to":"user:ines","at":"vessel:b"}}"#,
    "\"declarer\" by g-declare, which the separation \"apart\" forbids"
)]
#[case(
    r#"{"grant":{"role":"chief","to":"group:day","at":"everywhere","from":"2036-01-01T00:00:00Z"}}"#,
    "the separation \"apart\" forbids"
)]
#[case(
    "{\"grant\":{\"role\":\"checker\",\"to\":\"user:first\",\"at\":\"tenant:north\"}}\n{\"entity\":\"group:day\",\"members\":[\"user:first\"],\"merge\":true}",
    "user:first would hold"
)]
#[case(
    "{\"entity\":\"vessel:c\",\"within\":\"tenant:north\"}\n{\"grant\":{\"role\":\"checker\",\"to\":\"user:ines\",\"at\":\"vessel:c\"}}\n{\"entity\":\"vessel:c\",\"within\":\"vessel:a\",\"merge\":true}",
    "user:ines would hold"
)]
#[case(r#"{"entity":"vessel:a","within":"tenant:south"}"#, "say \"drop\": true")]
#[case(r#"{"entity":"user:x","entity":"user:y"}"#, "stands twice")]
fn refusals_say_what_is_wrong_and_leave_no_trace(#[case] line: &str, #[case] says: &str) {
    let mut world = world();
    let before = dump(world.register());
    let batch = format!(
        "{{\"entity\":\"user:first\"}}\n{{\"grant\":{{\"role\":\"hand\",\"to\":\"user:first\",\"at\":\"everywhere\"}}}}\n{line}"
    );
    let error = apply(&mut world, &batch).expect_err("is refused");
    assert!(error.contains(says), "{error}");
    assert_eq!(dump(world.register()), before);
}

#[test]
fn what_is_so_already_changes_nothing() {
    let mut world = world();
    assert_eq!(apply(&mut world, START), Ok(0));
}

#[test]
fn a_batch_may_name_what_it_registers_later() {
    let mut world = world();
    let lines = r#"
        {"grant":{"role":"hand","to":"user:new","at":"vessel:new"}}
        {"entity":"group:new","members":["user:new"]}
        {"entity":"vessel:new","within":"vessel:b"}
        {"entity":"user:new"}"#;
    assert_eq!(apply(&mut world, lines), Ok(4));
}

#[test]
fn deleting_ends_every_fact_that_names_it() {
    let mut world = world();
    apply(&mut world, r#"{"delete":"user:ines"}"#).expect("can be deleted");
    let left = dump(world.register()).join("\n");
    let left = left.replace(r#"{"entity":"user:ines","state":"deleted"}"#, "");
    assert!(!left.contains("ines"), "{left}");
    // An id used again is a new entity: nothing of the old one has come back.
    apply(&mut world, r#"{"entity":"user:ines"}"#).expect("can be made again");
    let id = world.register().registered("user:ines").expect("is there");
    assert_eq!(world.register().entity_json(id).to_string(), r#"{"entity":"user:ines"}"#);
    assert!(world.register().groups(id).is_empty() && world.register().held(id).is_empty());
}

#[test]
fn deleting_leaves_what_was_stated_empty_empty() {
    let mut world = world();
    let line = r#"{"entity":"vessel:a","merge":true,"relations":{"crew":[]}}"#;
    apply(&mut world, line).expect("can be stated");
    apply(&mut world, r#"{"delete":"user:ines"}"#).expect("can be deleted");
    let id = world.register().registered("vessel:a").expect("is there");
    assert_eq!(world.register().entity_json(id)["relations"].to_string(), r#"{"crew":[]}"#);
}

#[test]
fn depth_is_bounded() {
    let mut world = world();
    let chain = |count: usize| -> String {
        (0..count)
            .map(|at| {
                format!(
                    "{{\"entity\":\"vessel:c{at}\",\"within\":\"{}\"}}\n",
                    if at == 0 { "tenant:north".into() } else { format!("vessel:c{}", at - 1) }
                )
            })
            .collect()
    };
    assert!(apply(&mut world, &chain(32)).is_ok());
    let error =
        apply(&mut world, "{\"entity\":\"vessel:d\",\"within\":\"vessel:c31\"}").expect_err("is too deep");
    assert!(error.contains("more than 32 deep"), "{error}");
    let groups: String = (0..17)
        .map(|at| {
            format!(
                "{{\"entity\":\"group:n{at}\",\"members\":[{}]}}\n",
                if at == 0 { String::new() } else { format!("\"group:n{}\"", at - 1) }
            )
        })
        .collect();
    assert!(apply(&mut world, &groups).expect_err("is too deep").contains("more than 16 deep"));
}

#[rstest]
#[case("user:ines state suspended", true)]
#[case("user:ines in tenant:south", true)]
#[case("user:ines in group:all", true)]
#[case("vessel:a.length = 7", true)]
#[case("vessel:a.length=7", true)]
#[case("vessel:a.crew+=group:day", true)]
#[case("vessel:a.length=", false)]
#[case("vessel:a.marks = [red, blue]", true)]
#[case("vessel:a.crew += group:day", true)]
#[case("vessel:b detached", true)]
#[case("grant hand to group:day at tenant:north until 2027-01-01", true)]
#[case("grant agent to user:ines at tenant:north with line=NL,HF", true)]
#[case("vessel:a.lenght = 7", false)]
#[case("vessel:a.length = five", false)]
#[case("user:ines is suspended", false)]
#[case("grant hand to ines at everywhere", false)]
#[case("grant hand to user:ines at everywhere until", false)]
#[case("activate g-x for user:ines", false)]
#[case("", false)]
fn fact_lines_set_and_remove(#[case] text: &str, #[case] is_one: bool) {
    let mut world = world();
    let before = dump(world.register());
    let set = fact::Fact::parse(text).and_then(|fact| fact.assert(world.policy()));
    let done = set.and_then(|change| {
        world
            .apply(&[change])
            .map(|applied| applied.touched.len())
            .map_err(|refusals| refusals[0].why.clone())
    });
    assert_eq!(done.is_ok(), is_one, "{done:?}");
    if is_one {
        assert_ne!(dump(world.register()), before);
        let remove =
            fact::Fact::parse(text).and_then(|fact| fact.retract(world.policy())).expect("can be taken away");
        world.apply(&[remove]).expect("is there");
        if !text.contains("length") {
            assert_eq!(dump(world.register()), before);
        }
    }
}

/// Lines that often contradict one another, from small numbers.
fn lines() -> impl Strategy<Value = Vec<String>> {
    let vessel = 0..4u8;
    let line = (0..14u8, vessel.clone(), vessel).prop_map(|(what, a, b)| match what {
        9 => format!(r#"{{"grant":{{"id":"w{a}","role":"welder","to":"group:g{b}","at":"everywhere"}}}}"#),
        10 => format!(
            r#"{{"activation":{{"grant":"w{a}","subject":"user:u{b}","until":"2026-11-23T10:00:00Z","reason":"r"}}}}"#
        ),
        11 => format!(r#"{{"grant":{{"role":"declarer","to":"user:u{a}","at":"vessel:v{b}"}}}}"#),
        12 => format!(r#"{{"grant":{{"role":"chief","to":"group:g{a}","at":"vessel:v{b}"}}}}"#),
        13 => format!(r#"{{"entity":"group:g{a}","members":["user:u{b}"]}}"#),
        0 | 1 => format!(r#"{{"entity":"vessel:v{a}","within":"vessel:v{b}"}}"#),
        2 => format!(
            r#"{{"entity":"vessel:v{a}","within":"tenant:north","relations":{{"crew":["user:u{b}"]}}}}"#
        ),
        3 => format!(r#"{{"entity":"user:u{a}","tenants":["north"]}}"#),
        4 => format!(r#"{{"entity":"group:g{a}","members":["group:g{b}","user:u{b}"]}}"#),
        5 => format!(r#"{{"grant":{{"role":"hand","to":"user:u{a}","at":"vessel:v{b}"}}}}"#),
        6 => format!(r#"{{"grant":{{"role":"hand","to":"group:g{a}","at":"everywhere"}}}}"#),
        7 => format!(r#"{{"delete":"user:u{a}"}}"#),
        _ => format!(r#"{{"delete":"vessel:v{a}","with-contents":{}}}"#, b % 2 == 0),
    });
    prop::collection::vec(line, 1..6)
}

/// No user holds `declarer` at a place and, there or around it, a role that includes `checker`.
fn holds_nothing_separated(register: &Register) -> bool {
    let chain = |grant: ostrog_core::register::Grant<'_>| {
        let ostrog_core::register::PlaceOf::At(mut at) = grant.at else { return Vec::new() };
        let mut places = vec![at];
        while let Some(outer) = register.within(at) {
            places.push(outer);
            at = outer;
        }
        places
    };
    register.all_entities().filter(|id| register.name(*id).starts_with("user:")).all(|user| {
        let held = |roles: &[&str]| -> Vec<_> {
            let holders = register.holders_of(user);
            let grants = register.all_grants().filter(|grant| holders.contains(&grant.to));
            grants.filter(|grant| roles.contains(&register.text(grant.role))).map(chain).collect()
        };
        held(&["declarer"]).iter().all(|a| {
            held(&["checker", "chief"]).iter().all(|b| {
                let meet =
                    |inner: &Vec<_>, outer: &Vec<_>| outer.first().is_none_or(|place| inner.contains(place));
                !meet(a, b) && !meet(b, a)
            })
        })
    })
}

#[test]
fn a_move_into_another_tenant_drops_what_would_change() {
    let mut world = world();
    apply(&mut world, r#"{"entity":"vessel:a","within":"tenant:south","drop":true}"#).expect("moves");
    let lines = dump(world.register()).join("\n");
    assert!(!lines.contains("g-x") && !lines.contains("g-weld") && !lines.contains("a-1"), "{lines}");
    assert!(!lines.contains("master") && lines.contains("g-look"), "{lines}");
}

#[test]
fn what_was_activated_ends_with_the_membership() {
    let mut world = world();
    apply(&mut world, r#"{"entity":"group:all","members":[]}"#).expect("is emptied");
    apply(&mut world, r#"{"entity":"group:all","members":["group:day"]}"#).expect("is filled again");
    assert!(!dump(world.register()).join("\n").contains("a-1"));
}

#[test]
fn a_tenant_takes_its_roles_along() {
    let mut world = world();
    apply(&mut world, r#"{"end-tenant-role":"north/looker"}"#).expect("ends");
    assert!(!dump(world.register()).join("\n").contains("looker"));
    apply(&mut world, r#"{"delete":"tenant:south"}"#).expect("is deleted");
}

#[test]
fn a_role_may_be_made_below_its_grant() {
    let mut world = world();
    let lines = "{\"grant\":{\"role\":\"south/later\",\"to\":\"user:ines\",\"at\":\"everywhere\"}}\n\
        {\"tenant-role\":{\"tenant\":\"south\",\"key\":\"later\",\"permissions\":[\"vessel:view\"]}}";
    assert_eq!(apply(&mut world, lines), Ok(2));
}

#[test]
fn an_ended_grant_separates_nobody() {
    let mut world = world();
    let line = r#"{"grant":{"role":"checker","to":"user:ines","at":"vessel:b"}}"#;
    let end = "{\"end-grant\":\"g-declare\"}\n{\"grant\":{\"role\":\"declarer\",\"to\":\"group:all\",\"at\":\"vessel:a\",\"until\":\"2026-01-01T00:00:00Z\"}}";
    apply(&mut world, end).expect("is replaced");
    let change = [line::parse(line).expect("a line")];
    let policy = Arc::clone(world.policy());
    let mut at = |moment: &str| {
        let now = Some(moment.parse().expect("a moment"));
        world.apply_under(&change, Checks { now, ..Checks::of(&[&policy]) }).is_ok()
    };
    assert!(!at("2025-12-31T00:00:00Z") && at("2026-01-01T00:00:00Z"));
}

#[test]
fn an_activation_lasts_no_longer_than_its_role_lets_it() {
    let mut world = world();
    let line = r#"{"activation":{"id":"a-2","grant":"g-weld","subject":"user:ines","from":"2026-11-23T08:00:00Z","until":"2026-11-23T10:00:00Z","reason":"r"}}"#;
    apply(&mut world, line).expect("is made");
    let activation = world.register().activation_by_id("a-2").expect("is there");
    let counts = |at: &str, hours: i64| {
        activation.is_live(at.parse().expect("a moment"), jiff::SignedDuration::from_hours(hours))
    };
    assert!(counts("2026-11-23T08:00:00Z", 2) && counts("2026-11-23T09:59:59Z", 2));
    assert!(!counts("2026-11-23T07:59:59Z", 2) && !counts("2026-11-23T10:00:00Z", 2));
    // A later revision lets it last for one hour: from its start, not before its end.
    assert!(counts("2026-11-23T08:59:59Z", 1) && !counts("2026-11-23T09:00:00Z", 1));
}

#[test]
fn one_more_member_of_a_large_group_is_written_in_time() {
    let mut world = world();
    let mut lines: Vec<String> = (0..40_000).map(|n| format!(r#"{{"entity":"user:m{n}"}}"#)).collect();
    let members: Vec<String> = (0..40_000).map(|n| format!("\"user:m{n}\"")).collect();
    lines.push(format!(r#"{{"entity":"group:large","members":[{}]}}"#, members.join(",")));
    apply(&mut world, &lines.join("\n")).expect("valid");
    let began = std::time::Instant::now();
    apply(&mut world, r#"{"entity":"group:large","members":["user:ines"],"merge":true}"#).expect("joins");
    assert!(began.elapsed() < std::time::Duration::from_secs(2), "{:?}", began.elapsed());
}

#[test]
fn a_register_knows_its_size() {
    let mut world = world();
    let before = (world.register().size_bytes(), world.register().fact_count());
    let lines: Vec<String> =
        (0..1_000).map(|n| format!(r#"{{"entity":"vessel:n{n}","within":"vessel:a"}}"#)).collect();
    apply(&mut world, &lines.join("\n")).expect("valid");
    assert!(world.register().size_bytes() > before.0 + 1_000 * 40);
    assert_eq!(world.register().fact_count(), before.1 + 2_000);
}

proptest! {
    /// Histories of batches: what is applied can be taken back, what is refused leaves no trace,
    /// and the lines of what is left make the same register anew.
    #[test]
    fn histories(batches in prop::collection::vec(lines(), 1..12)) {
        let mut world = world();
        for batch in batches {
            let before = dump(world.register());
            let changes: Vec<Change> = batch.iter().map(|text| line::parse(text).expect("a line")).collect();
            match world.apply(&changes) {
                Err(refusals) => prop_assert!(!refusals.is_empty()),
                Ok(applied) => {
                    let after = dump(world.register());
                    world.undo(applied);
                    prop_assert_eq!(&dump(world.register()), &before);
                    world.apply(&changes).expect("what was applied once can be applied again");
                    // Ids of grants count on; everything else is as it was.
                    prop_assert_eq!(dump(world.register()).len(), after.len());
                    continue;
                }
            }
            prop_assert_eq!(dump(world.register()), before);
        }
        prop_assert!(holds_nothing_separated(world.register()));
        let end = dump(world.register());
        let mut anew = Register::default();
        let lines: Vec<Change> = end[..end.len() - 1].iter().map(|text| line::parse(text).expect("a line")).collect();
        anew.apply(&lines, Checks::of(&[world.policy()])).expect("a register's own lines are valid");
        prop_assert_eq!(dump(&anew), end);
    }
}
