//! The register is the fold of its journal: random histories of batches that use every kind of line,
//! names of every kind, and lines that belong together only within one batch.
//!
//! Each history is kept by one register, and at the same time by others that see nothing but the bytes:
//! one from the start, and one that was loaded from what the first had written down half way.
//! `OSTROG_HISTORIES` says how many; `cargo xtask soak` asks a million.

#![allow(clippy::disallowed_methods, reason = "how long the search runs is set from outside")]

use ostrog_core::charter;
use ostrog_core::prelude::*;
use ostrog_core::register::change::Checks;
use ostrog_core::register::journal::{Accepted, Entry, Refused, from_bytes, to_bytes};
use rstest::rstest;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::sync::{Arc, LazyLock};

const CHARTER: &str = r#"
[charter]
name = "A quay"
format = 1
[application.quay]
[resource.vessel]
application = "quay"
within = ["tenant", "vessel"]
actions = { view = "See it", moor = "Moor it" }
[resource.vessel.attributes]
length = "decimal"
names = { type = "text", many = true }
[resource.vessel.relations]
master = "user"
crew = { to = ["user", "group"], many = true }
tug = { to = "vessel", across-tenants = true }
[subject.user.attributes]
clearance = "integer"
[tenant.attributes]
plan = "text"
[role.hand]
permissions = ["vessel:view"]
held-by = ["user", "service"]
[role.agent]
values = { line = "text" }
permissions = ["vessel:view"]
when = "resource.length in [1.5] or 'NL' in grant.line"
[role.pilot]
permissions = ["vessel:moor"]
standby = { longest = "2h", reason = true }
[[tenant-roles.clause]]
permissions = ["vessel:view"]
"#;

static POLICY: LazyLock<Arc<Policy>> = LazyLock::new(|| {
    let reading = charter::read(&Sources::single("charter.toml", CHARTER));
    Arc::new(reading.policy.expect("no errors"))
});

/// A generator of our own, so that a history is one number.
struct Dice(u64);

impl Dice {
    fn below(&mut self, bound: usize) -> usize {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut mixed = self.0;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        usize::try_from((mixed ^ (mixed >> 31)) >> 33).unwrap_or(0) % bound
    }

    fn one<'t, T>(&mut self, of: &'t [T]) -> &'t T {
        &of[self.below(of.len())]
    }

    fn often(&mut self) -> bool {
        self.below(4) > 0
    }

    fn seldom(&mut self) -> bool {
        self.below(5) == 0
    }
}

/// Ids as people and machines write them: with what separates elsewhere, in several scripts, and as
/// long as can be.
static IDS: LazyLock<Vec<String>> = LazyLock::new(|| {
    let longest = "n".repeat(249);
    ["a", "b", "a/b", "tenant:a", "x:y/z", "50%", "%2F", "порт", "港-7", "vessel:a", "g-1", "\"'\\", &longest]
        .map(str::to_owned)
        .to_vec()
});

struct Writer {
    dice: Dice,
}

impl Writer {
    fn name(&mut self, kind: &str) -> String {
        let id = self.dice.one(&IDS).clone();
        let room = 256 - kind.len() - 1;
        format!("{kind}:{}", id.get(..room.min(id.len())).unwrap_or(&id))
    }

    fn subject(&mut self) -> String {
        let kind = *self.dice.one(&["user", "user", "service", "group"]);
        self.name(kind)
    }

    fn place(&mut self) -> String {
        match self.dice.below(5) {
            0 => "everywhere".to_owned(),
            1 => self.name("tenant"),
            _ => self.name("vessel"),
        }
    }

    fn grant_id(&mut self) -> String {
        format!("{}{}", self.dice.one(&["g-", "g-0", "x/", "ü:"]), self.dice.below(6))
    }

    fn role(&mut self) -> String {
        match self.dice.below(6) {
            0 => "pilot".to_owned(),
            1 => "agent".to_owned(),
            2 => {
                let tenant = self.name("tenant");
                format!("{}/own", tenant.split_once(':').map_or("", |(_, id)| id))
            }
            _ => "hand".to_owned(),
        }
    }

    fn entity(&mut self) -> Value {
        let merge = self.dice.seldom();
        let mut line = match self.dice.below(7) {
            0 => json!({ "entity": self.name("tenant"), "attributes": { "plan": "full" } }),
            1 => {
                let mut line = json!({ "entity": self.name("group") });
                let members: Vec<String> = (0..self.dice.below(4)).map(|_| self.subject()).collect();
                line["members"] = members.into();
                if self.dice.often() {
                    line["tenant"] = self.name("tenant").into();
                }
                line
            }
            2 => json!({ "entity": self.name("service") }),
            3 | 4 => {
                let mut line = json!({ "entity": self.name("user") });
                let tenants: Vec<String> = (0..self.dice.below(3)).map(|_| self.name("tenant")).collect();
                line["tenants"] = tenants.into();
                if self.dice.seldom() {
                    line["state"] = "suspended".into();
                }
                line["attributes"]["clearance"] = self.dice.below(3).into();
                line
            }
            _ => {
                let mut line = json!({ "entity": self.name("vessel") });
                let outer = if self.dice.often() { "tenant" } else { "vessel" };
                line["within"] = self.name(outer).into();
                if self.dice.seldom() {
                    line["detached"] = true.into();
                }
                if self.dice.seldom() {
                    line["drop"] = true.into();
                }
                let numbers = ["1.50", "1.5", "-0.0", "1e2", "0.1234567890123456789"];
                let number: Value =
                    serde_json::from_str(numbers[self.dice.below(numbers.len())]).unwrap_or_default();
                line["attributes"]["length"] = number;
                line["attributes"]["names"] = json!(["\u{1F6A2}", "line\nbreak", ""]);
                if self.dice.often() {
                    let crew: Vec<String> = (0..self.dice.below(4)).map(|_| self.subject()).collect();
                    let crew =
                        crew.into_iter().filter(|name| !name.starts_with("service")).collect::<Vec<_>>();
                    line["relations"]["crew"] = crew.into();
                }
                if self.dice.seldom() {
                    line["relations"]["tug"] = self.name("vessel").into();
                }
                line
            }
        };
        if merge {
            line["merge"] = true.into();
        }
        line
    }

    fn line(&mut self) -> Value {
        match self.dice.below(20) {
            0..9 => self.entity(),
            9 | 10 => {
                let kind = *self.dice.one(&["user", "group", "tenant", "vessel", "service"]);
                json!({ "delete": self.name(kind), "with-contents": self.dice.often() })
            }
            11..14 => {
                let mut grant = json!({ "role": self.role(), "to": self.subject(), "at": self.place() });
                if self.dice.often() {
                    grant["id"] = self.grant_id().into();
                }
                if grant["role"] == "agent" {
                    grant["values"]["line"] = json!(["NL", "H/F"]);
                }
                if self.dice.seldom() {
                    grant["until"] = "2031-01-01T00:00:00.000000001Z".into();
                }
                json!({ "grant": grant })
            }
            14 => json!({ "end-grant": self.grant_id() }),
            15 | 16 => {
                let known = [("g-1", "user:a"), ("x/3", "user:b")];
                let (grant, subject) = known[self.dice.below(2)];
                let grant = if self.dice.often() { grant.to_owned() } else { self.grant_id() };
                let mut activation = json!({
                    "grant": grant, "subject": subject, "reason": "permit\t5531",
                    "from": "2026-11-23T08:00:00Z", "until": "2026-11-23T09:30:00Z",
                });
                if self.dice.often() {
                    activation["id"] = format!("a-{}", self.dice.below(4)).into();
                }
                json!({ "activation": activation })
            }
            17 => json!({ "end-activation": format!("a-{}", self.dice.below(4)) }),
            18 => json!({ "tenant-role": {
                "tenant": self.name("tenant"), "key": "own", "permissions": ["vessel:view"], "name": "Own/x",
            } }),
            _ => {
                let role = self.role();
                json!({ "end-tenant-role": role })
            }
        }
    }

    fn batch(&mut self) -> Vec<Value> {
        (0..1 + self.dice.below(7)).map(|_| self.line()).collect()
    }
}

/// A register in which most names mean something.
fn beginning() -> Register {
    let kinds = ["tenant", "user", "service", "group"];
    let mut lines: Vec<Value> = Vec::new();
    for (at, id) in IDS.iter().enumerate().take(9) {
        let name = |kind: &str| format!("{kind}:{}", id.get(..240.min(id.len())).unwrap_or(id));
        lines.extend(
            kinds.iter().take(if at % 2 == 0 { 4 } else { 2 }).map(|kind| json!({ "entity": name(kind) })),
        );
        lines.push(json!({ "entity": name("vessel"), "within": name("tenant") }));
    }
    let grants = [("g-1", "pilot", "user:a"), ("g-2", "hand", "group:a"), ("x/3", "pilot", "user:b")];
    lines
        .extend(grants.map(
            |(id, role, to)| json!({ "grant": { "id": id, "role": role, "to": to, "at": "tenant:a" } }),
        ));
    lines.push(
        json!({ "tenant-role": { "tenant": "tenant:a/b", "key": "own", "permissions": ["vessel:view"] } }),
    );
    let changes: Vec<Change> = lines.iter().map(|line| line::from_json(line).expect("a line")).collect();
    let checks = Checks::of(&[]);
    Register::default().accept(&changes, checks).expect("the beginning is valid").register
}

static BEGINNING: LazyLock<Register> = LazyLock::new(beginning);

/// What a register says, loaded into a new one.
fn loaded(register: &Register) -> Register {
    let changes: Vec<Change> = register.lines().map(|line| line::from_json(&line).expect("a line")).collect();
    let mut anew = Register::default();
    anew.apply(&changes, Checks::of(&[&POLICY])).unwrap_or_else(|refusals| panic!("{refusals:?}"));
    anew.skip_ids(register.next_ids());
    anew
}

/// Accepts as much of a batch as is valid; tells what was refused on the way.
fn accepted(
    live: &Register,
    mut batch: Vec<Value>,
    tally: &mut BTreeMap<&'static str, usize>,
) -> (Vec<Value>, Option<Accepted>) {
    let policy: &Policy = &POLICY;
    while !batch.is_empty() {
        match live.accept(&changes(&batch), Checks::of(&[policy])) {
            Ok(accepted) => return (batch, Some(accepted)),
            Err(Refused::Mistaken(mistake)) => panic!("{mistake}: {}", json!(batch)),
            Err(Refused::Invalid(refusals)) => {
                assert!(!refusals.is_empty(), "{}", json!(batch));
                *tally.entry("refused").or_default() += 1;
                let mut at = 0;
                batch.retain(|_| {
                    at += 1;
                    !refusals.iter().any(|refusal| refusal.change == at - 1)
                });
            }
        }
    }
    (batch, None)
}

fn changes(batch: &[Value]) -> Vec<Change> {
    batch.iter().map(|line| line::from_json(line).unwrap_or_else(|why| panic!("{line}: {why}"))).collect()
}

/// Asks one history; tells what its batches came to.
fn history(seed: u64, tally: &mut BTreeMap<&'static str, usize>) {
    let mut writer = Writer { dice: Dice(seed) };
    let policy: &Policy = &POLICY;
    let (mut live, mut follower) = (BEGINNING.clone(), BEGINNING.clone());
    let mut late: Option<Register> = None;
    let mut now = live.digest();
    for _ in 0..2 + writer.dice.below(4) {
        let (batch, accepted) = accepted(&live, writer.batch(), tally);
        // Whoever looks at the register goes on seeing it as it was, whatever was accepted or refused.
        assert_eq!(live.digest(), now, "seed {seed}: {}", json!(batch));
        if let Some(accepted) = accepted {
            let told = |why: &dyn std::fmt::Display| format!("seed {seed}: {why}: {}", json!(batch));
            let entries = from_bytes(&accepted.bytes).unwrap_or_else(|why| panic!("{}", told(&why)));
            assert_eq!(to_bytes(&entries), accepted.bytes, "{}", told(&"written again"));
            follower.fold(&entries).unwrap_or_else(|why| panic!("{}", told(&why)));
            if let Some(late) = &mut late {
                late.fold(&entries).unwrap_or_else(|why| panic!("{}", told(&why)));
            }
            count(&entries, tally);
            live = accepted.register;
            let then = std::mem::replace(&mut now, live.digest());
            // What is deleted and made anew may say what it said before, and is another.
            let anew = entries.iter().any(|entry| matches!(entry, Entry::Deleted(_)));
            assert!(entries.is_empty() == (now == then) || anew, "{}", told(&"nothing"));
            assert_eq!(now, follower.digest(), "{}", told(&"followed"));
        }
        if late.is_none() && writer.dice.seldom() {
            late = Some(loaded(&live));
        }
    }
    // Tried, and taken back.
    let mut overlay = live.clone();
    if let Ok(applied) = overlay.apply(&changes(&writer.batch()), Checks::of(&[policy])) {
        assert_eq!(live.digest(), now, "seed {seed}: what is tried is seen elsewhere");
        overlay.undo(applied);
    }
    assert_eq!(overlay.digest(), now, "seed {seed}: what was tried leaves a trace");
    assert_eq!(loaded(&live).digest(), now, "seed {seed}: written down and loaded again");
    if let Some(late) = late {
        assert_eq!(late.digest(), now, "seed {seed}: loaded half way");
    }
}

fn count(entries: &[Entry], tally: &mut BTreeMap<&'static str, usize>) {
    for entry in entries {
        let what = match entry {
            Entry::Entity(_) => "entity",
            Entry::Deleted(_) => "deleted",
            Entry::Grant(_) => "grant",
            Entry::GrantEnded { .. } => "grant ended",
            Entry::Activation(_) => "activation",
            Entry::ActivationEnded { .. } => "activation ended",
            Entry::TenantRole(_) => "role",
            Entry::TenantRoleEnded(_) => "role ended",
            Entry::Next(_) => "next",
            Entry::Note(_) => "note",
        };
        *tally.entry(what).or_default() += 1;
    }
    if entries.is_empty() {
        *tally.entry("nothing").or_default() += 1;
    }
}

fn histories() -> u64 {
    std::env::var("OSTROG_HISTORIES").ok().and_then(|count| count.parse().ok()).unwrap_or(20_000)
}

/// In parts, so that both processors are at it.
#[rstest]
#[case(0)]
#[case(1)]
fn the_register_is_the_fold_of_its_journal(#[case] part: u64) {
    let mut tally = BTreeMap::new();
    for seed in (0..histories()).filter(|seed| seed % 2 == part) {
        history(seed, &mut tally);
    }
    let all =
        ["entity", "deleted", "grant", "grant ended", "activation", "activation ended", "role", "role ended"];
    for what in all.into_iter().chain(["next", "nothing", "refused"]) {
        let met = tally.get(what).copied().unwrap_or(0);
        assert!(met as u64 >= histories() / 2_000, "{what} came up {met} times: {tally:?}");
    }
}

fn register(lines: &[&str]) -> Register {
    let changes: Vec<Change> = lines.iter().map(|line| line::parse(line).expect("a line")).collect();
    BEGINNING.accept(&changes, Checks::of(&[&POLICY])).expect("valid").register
}

/// What a batch leaves in the journal.
fn recorded(register: &Register, lines: &[&str]) -> String {
    let changes: Vec<Change> = lines.iter().map(|line| line::parse(line).expect("a line")).collect();
    let accepted = register.accept(&changes, Checks::of(&[&POLICY])).expect("valid");
    let mut follower = register.clone();
    follower.fold(&from_bytes(&accepted.bytes).expect("can be read")).expect("fits");
    assert_eq!(follower.digest(), accepted.register.digest());
    String::from_utf8(accepted.bytes).expect("is text")
}

#[rstest]
#[case::a_grant_and_its_end(
    &[r#"{"grant":{"id":"g-brief","role":"hand","to":"user:a","at":"vessel:a"}}"#, r#"{"end-grant":"g-brief"}"#],
    "")]
#[case::a_numbered_grant_and_its_end_leave_the_number_behind(
    &[r#"{"grant":{"id":"g-7","role":"hand","to":"user:a","at":"vessel:a"}}"#, r#"{"end-grant":"g-7"}"#],
    "{\"next\":{\"grant\":8,\"activation\":1}}\n")]
#[case::an_entity_made_and_deleted_is_known_as_deleted(
    &[r#"{"entity":"user:passing"}"#, r#"{"delete":"user:passing"}"#],
    "{\"delete\":\"user:passing\"}\n")]
#[case::deleted_and_made_again_is_a_new_entity(
    &[r#"{"delete":"user:b"}"#, r#"{"entity":"user:b","attributes":{"clearance":1}}"#],
    "{\"end-grant\":\"x/3\",\"was\":{\"role\":\"pilot\",\"to\":\"user:b\",\"at\":\"tenant:a\"}}\n{\"delete\":\"user:b\"}\n{\"entity\":\"user:b\",\"attributes\":{\"clearance\":1}}\n")]
#[case::moved_with_drop(
    &[r#"{"entity":"vessel:a","within":"tenant:b","drop":true}"#],
    "{\"entity\":\"vessel:a\",\"within\":\"tenant:b\"}\n")]
#[case::the_role_of_a_tenant_with_a_slash(
    &[r#"{"tenant-role":{"tenant":"a/b","key":"more","permissions":["vessel:view"]}}"#],
    "{\"tenant-role\":{\"tenant\":\"tenant:a/b\",\"key\":\"more\",\"permissions\":[\"vessel:view\"]}}\n")]
#[case::a_member_of_a_tenant_that_is_called_like_another(
    &[r#"{"entity":"user:b","tenants":["tenant:tenant:a"]}"#],
    "{\"entity\":\"user:b\",\"tenants\":[\"tenant:tenant:a\"]}\n")]
#[case::equal_numbers_are_one(
    &[r#"{"entity":"vessel:a","within":"tenant:a","attributes":{"length":1.500}}"#],
    "{\"entity\":\"vessel:a\",\"within\":\"tenant:a\",\"attributes\":{\"length\":1.5}}\n")]
#[case::nothing_new(&[r#"{"entity":"user:a"}"#], "")]
fn only_the_net_effect_is_recorded(#[case] lines: &[&str], #[case] expected: &str) {
    let register = register(&[r#"{"entity":"vessel:b","within":"tenant:b"}"#]);
    assert_eq!(recorded(&register, lines), expected);
}

/// What was granted to the one that was deleted does not come back with the new one, and what stands
/// between the two lines speaks of the new one.
#[test]
fn what_names_a_name_that_is_used_again_names_the_new_entity() {
    let lines = [
        r#"{"grant":{"id":"old","role":"hand","to":"user:b","at":"tenant:a"}}"#,
        r#"{"delete":"user:b"}"#,
        r#"{"grant":{"id":"new","role":"hand","to":"user:b","at":"tenant:b"}}"#,
        r#"{"entity":"user:b"}"#,
    ];
    let register = register(&lines);
    let id = register.registered("user:b").expect("is there");
    let grants: Vec<String> = register.grants_to(id).map(|(_, grant)| grant.id.to_string()).collect();
    assert_eq!(grants, ["new"]);
    let before = BEGINNING.registered("user:b").expect("was there");
    assert_ne!(before, id);
    assert!(
        BEGINNING
            .accept(
                &[
                    line::parse(r#"{"delete":"user:later"}"#).expect("a line"),
                    line::parse(r#"{"entity":"user:later"}"#).expect("a line")
                ],
                Checks::of(&[&POLICY])
            )
            .is_err()
    );
}

#[rstest]
#[case::a_wrongly_split_role(
    r#"{"tenant-role":{"tenant":"tenant:a","key":"b/r","permissions":["vessel:view"]}}"#
)]
#[case::a_tenant_without_its_type(r#"{"entity":"user:a","tenants":["a"]}"#)]
#[case::a_merge(r#"{"entity":"user:a","merge":true}"#)]
#[case::a_grant_without_an_id(r#"{"grant":{"role":"hand","to":"user:a","at":"everywhere"}}"#)]
#[case::not_json("{")]
#[case::no_object("[1]")]
fn what_leaves_something_open_is_no_entry(#[case] line: &str) {
    assert!(from_bytes(line.as_bytes()).is_err());
}

#[rstest]
#[case::ends_what_is_not_there(r#"{"end-grant":"g-9"}"#)]
#[case::names_what_is_not_there(r#"{"entity":"user:a","tenants":["tenant:nowhere"]}"#)]
#[case::gives_a_taken_id(r#"{"grant":{"id":"g-1","role":"hand","to":"user:a","at":"everywhere"}}"#)]
#[case::deletes_what_others_name(r#"{"delete":"tenant:a"}"#)]
fn entries_that_do_not_fit_are_refused(#[case] line: &str) {
    let mut register = BEGINNING.clone();
    assert!(register.fold(&from_bytes(line.as_bytes()).expect("an entry")).is_err());
}
