//! What was given, as operators read it, and what a charter's text defines.

use jiff::Timestamp;
use ostrog_core::charter;
use ostrog_core::charter::outline::outline;
use ostrog_core::prelude::{Checks, Policy, Register, Sources, line};
use ostrog_core::register::holdings::{Standing, Touched, arriving, places, reaching, standing, touched};
use rstest::rstest;

const CHARTER: &str = r#"
[charter]
name = "Small port"
format = 1

[application.quay]
name = "Quay"

[resource.vessel]
application = "quay"
within = "tenant"
actions = { view = "See it", board = "Board it" }

[resource.vessel.attributes]
flag = "text"

[resource.cabin]
application = "quay"
within = "vessel"
actions = { enter = "Enter it" }

[resource.cabin.relations]
guest = "user"

[role.hand]
permissions = ["vessel:view"]

[role.mate]
includes = ["hand"]
permissions = ["cabin:enter"]
held-at = ["vessel"]

[role.welder]
permissions = ["vessel:board"]
standby = { longest = "2h" }

[[rule]]
key = "own-flag"
effect = "deny"
permissions = ["vessel:board"]
when = "resource.flag == 'none'"
"#;

const FACTS: &str = r#"
{"entity":"tenant:north"}
{"entity":"user:a"}
{"entity":"user:b"}
{"entity":"group:all","members":["user:a","group:some"]}
{"entity":"group:some","members":["user:b","user:a"]}
{"entity":"vessel:v","within":"tenant:north"}
{"entity":"cabin:c","within":"vessel:v"}
{"entity":"cabin:d","within":"vessel:v","detached":true}
{"grant":{"id":"g-old","role":"hand","to":"user:a","at":"vessel:v","until":"2026-01-01T00:00:00Z"}}
{"grant":{"id":"g-soon","role":"hand","to":"user:b","at":"tenant:north","until":"2026-12-01T00:00:00Z"}}
{"grant":{"id":"g-all","role":"mate","to":"group:all","at":"vessel:v"}}
{"grant":{"id":"g-later","role":"hand","to":"user:a","at":"everywhere","from":"2027-01-01T00:00:00Z"}}
{"grant":{"id":"g-weld","role":"welder","to":"user:a","at":"vessel:v"}}
{"grant":{"id":"g-door","role":"hand","to":"user:b","at":"cabin:d"}}
{"activation":{"grant":"g-weld","subject":"user:a","from":"2026-11-23T08:30:00Z","until":"2026-11-23T10:00:00Z"}}
"#;

fn now() -> Timestamp {
    "2026-11-23T09:00:00Z".parse().expect("a moment")
}

fn world() -> (Policy, Register) {
    let reading = charter::read(&Sources::single("port.toml", CHARTER));
    let policy = reading.policy.unwrap_or_else(|| panic!("{:?}", reading.findings));
    let mut register = Register::default();
    let lines = FACTS.lines().filter(|text| !text.is_empty());
    let changes: Vec<_> = lines.map(|text| line::parse(text).expect("a line")).collect();
    register.apply(&changes, Checks::of(&[])).expect("fits");
    (policy, register)
}

#[rstest]
#[case("cabin:c", &["cabin:c", "vessel:v", "tenant:north"], &["g-soon", "g-all", "g-later", "g-weld", "g-old"])]
#[case("cabin:d", &["cabin:d"], &["g-door", "g-later"])]
#[case("tenant:north", &["tenant:north"], &["g-soon", "g-later"])]
fn grants_arrive_from_the_places_around_until_something_is_detached(
    #[case] place: &str,
    #[case] around: &[&str],
    #[case] ids: &[&str],
) {
    let (_, register) = world();
    let place = register.registered(place).expect("is there");
    let found: Vec<_> = places(&register, place).into_iter().map(|id| register.name(id)).collect();
    assert_eq!(found, around);
    let found: Vec<_> = arriving(&register, Some(place), now()).iter().map(|g| g.id.to_string()).collect();
    assert_eq!(found, ids);
}

#[rstest]
#[case("user:a", &["g-all", "g-later", "g-weld", "g-old"])]
#[case("user:b", &["g-soon", "g-all", "g-door"])]
fn grants_reach_a_subject_through_groups_in_groups(#[case] subject: &str, #[case] ids: &[&str]) {
    let (_, register) = world();
    let subject = register.registered(subject).expect("is there");
    let found: Vec<_> = reaching(&register, subject, now()).iter().map(|g| g.id.to_string()).collect();
    assert_eq!(found, ids);
}

#[rstest]
#[case("g-all", "2026-11-23T09:00:00Z", Standing::Counts)]
#[case("g-old", "2026-11-23T09:00:00Z", Standing::Ended)]
#[case("g-old", "2025-12-31T23:59:59Z", Standing::Counts)]
#[case("g-old", "2026-01-01T00:00:00Z", Standing::Ended)]
#[case("g-later", "2026-11-23T09:00:00Z", Standing::Later)]
#[case("g-later", "2027-01-01T00:00:00Z", Standing::Counts)]
#[case("g-weld", "2026-11-23T09:00:00Z", Standing::Active(1))]
#[case("g-weld", "2026-11-23T08:29:59Z", Standing::Standby)]
#[case("g-weld", "2026-11-23T10:00:00Z", Standing::Standby)]
fn a_grant_stands_as_decisions_take_it(#[case] id: &str, #[case] at: &str, #[case] wanted: Standing) {
    let (policy, register) = world();
    let grant = register.grant_by_id(id).expect("is there");
    assert_eq!(standing(&policy, &register, &grant, at.parse().expect("a moment")), wanted);
}

#[test]
fn a_grant_that_another_charter_does_not_permit_is_idle() {
    let (_, register) = world();
    let narrower = CHARTER.replace("held-at = [\"vessel\"]", "held-at = [\"tenant\"]");
    let policy = charter::read(&Sources::single("port.toml", &narrower)).policy.expect("a charter");
    let grant = register.grant_by_id("g-all").expect("is there");
    assert!(matches!(standing(&policy, &register, &grant, now()), Standing::Idle(_)));
}

#[rstest]
#[case("hand", 1_000, Touched { grants: 5, subjects: 2, whole: true })]
#[case("mate", 1_000, Touched { grants: 1, subjects: 2, whole: true })]
#[case("mate", 2, Touched { grants: 1, subjects: 2, whole: false })]
fn a_role_reaches_whoever_holds_it_or_one_that_includes_it(
    #[case] role: &str,
    #[case] most: usize,
    #[case] wanted: Touched,
) {
    let (policy, register) = world();
    let role = policy.role(role).expect("is declared");
    assert_eq!(touched(&policy, &register, role, most, &mut || true), wanted);
}

#[test]
fn a_text_tells_what_it_defines_and_where_even_with_mistakes_in_it() {
    let broken = CHARTER.replace("\"vessel:view\"", "\"vessel:veiw\"");
    let sources = Sources::single("port.toml", &broken);
    let all = outline(&sources);
    let told: Vec<_> = all.iter().map(|one| format!("{} {}", one.kind, one.name)).collect();
    for wanted in [
        "application quay",
        "type vessel",
        "permission cabin:enter",
        "attribute resource.flag",
        "relation resource.guest",
        "role mate",
        "rule own-flag",
    ] {
        assert!(told.iter().any(|one| one == wanted), "{wanted} is not among {told:?}");
    }
    for one in &all {
        let key = one.name.rsplit([':', '.']).next().expect("a name");
        assert!(sources.text(one.span).contains(key), "{one:?} stands at {:?}", sources.text(one.span));
    }
    let mate = all.iter().find(|one| one.name == "mate").expect("is there");
    assert_eq!(mate.words, "includes hand; gives cabin:enter");
}
