//! Guarantees by name: what is proved, what is refuted, and what is said of it.

use ostrog_core::prelude::*;
use ostrog_core::rehearse::{GuaranteeReport, read};
use rstest::rstest;
use std::sync::Arc;

const CHARTER: &str = r#"
[charter]
name = "Small"
format = 1
[application.quay]
[resource.vessel]
application = "quay"
within = "tenant"
actions = { view = "", moor = "", close = "", tow = "", scrap = "" }
[resource.vessel.attributes]
class = "integer"
draught = "decimal"
flag = { type = "text", values = ["red", "blue"] }
name = "text"
berthed = "time"
[resource.vessel.relations]
owner = "user"
agent = "user"
escort = "vessel"
crew = { to = ["user", "group"], many = true }
[resource.voyage]
application = "quay"
within = "vessel"
actions = { view = "", plan = "", seal = "", log = "" }
[resource.voyage.attributes]
marks = { type = "text", many = true }
[resource.crate]
application = "quay"
within = ["crate", "tenant"]
actions = { view = "", open = "" }
[subject.user.attributes]
rank = "integer"
[subject.user.relations]
boss = "user"
[context]
ip = "address"
zone = { type = "text", values = ["quay", "yard"] }

[role.keeper]
permissions = ["vessel:view"]
[role.pilot]
[[role.pilot.clause]]
permissions = ["vessel:moor"]
when = "subject.rank >= resource.class + 1"
[[role.pilot.clause]]
permissions = ["vessel:close"]
when = "context.ip in [address('10.1.0.0/16')]"
[role.agent]
values = { name = "text" }
when = "resource.name in grant.name"
permissions = ["vessel:scrap"]
[role.tug]
permissions = ["vessel:tow"]
[role.master]
permissions = ["voyage:view"]
grantable = false
[role.planner]
permissions = ["voyage:plan"]
[role.reader]
permissions = ["voyage:seal"]
grantable = false
[role.torch]
permissions = ["voyage:log"]
held-by = ["user", "service"]
standby = { longest = "1h", when = "context.zone == 'quay'" }
[role.opener]
permissions = ["crate:open"]
held-at = ["tenant"]
[role.viewer]
permissions = ["crate:view"]
[[resource.vessel.confer]]
role = "tug"
to = { holds = "tug", at = "escort" }
when = "known(resource.escort)"
[[resource.voyage.confer]]
role = "master"
to = { relation = "within.owner" }
[[resource.voyage.confer]]
role = "reader"
to = { holds = "planner", at = "within" }
[[rule]]
key = "own"
effect = "deny"
permissions = ["vessel:moor"]
when = "subject == resource.owner"
[[separation]]
key = "apart"
roles = ["opener", "viewer"]
[[tenant-roles.clause]]
permissions = ["voyage:view"]
"#;

fn settle(text: &str) -> GuaranteeReport {
    let policy = charter::read(&Sources::single("small.toml", CHARTER)).policy.expect("the charter holds");
    // Written with the quotes the other way round, to be read here.
    let swapped = |c: char| {
        if c == '\'' {
            '"'
        } else if c == '"' {
            '\''
        } else {
            c
        }
    };
    let text: String = text.chars().map(swapped).collect();
    let sources = Sources::single("g.toml", &format!("[[guarantee]]\nname = \"it\"\n{text}\n"));
    let rehearsal = read(&sources, &mut Vec::new());
    let settled = rehearsal.settle(&Arc::new(policy), &sources, &|| true, &mut |_| {});
    settled.expect("it has a meaning").remove(0)
}

#[rstest]
// Order, with constants and differences.
#[case("never = 'vessel:moor'\nwhen = 'subject.rank < resource.class'", "proved")]
#[case("never = 'vessel:moor'\nwhen = 'subject.rank <= resource.class'", "proved")]
#[case("never = 'vessel:moor'\nwhen = 'subject.rank <= resource.class + 1'", "refuted")]
#[case("never = 'vessel:moor'\nwhen = 'resource.class >= 4 and subject.rank < 5'", "proved")]
#[case("never = 'vessel:moor'\nwhen = 'resource.class >= 4 and subject.rank < 6'", "refuted")]
// What is missing is not false.
#[case("never = 'vessel:moor'\nwhen = 'resource.class > 5'", "refuted")]
#[case("never = 'vessel:moor'\nwhen = 'not known(resource.class)'", "proved")]
#[case(
    "never = 'vessel:view'\nwhen = 'resource.class > 5'\nassume = 'known(resource.class) and resource.class <= 5'",
    "vacuous"
)]
#[case("always = 'vessel:view'\nwhen = 'holds(\"keeper\")'", "proved")]
#[case("always = 'vessel:moor'\nwhen = 'holds(\"pilot\")'", "refuted")]
// One and the same person under several names.
#[case("never = 'vessel:moor'\nwhen = 'subject == resource.owner'", "proved")]
#[case("never = 'vessel:moor'\nwhen = 'subject == resource.agent'", "refuted")]
#[case(
    "never = 'vessel:moor'\nwhen = 'subject == resource.agent and resource.agent == resource.owner'\nassume = 'known(resource.agent) and known(resource.owner)'",
    "proved"
)]
#[case(
    "never = 'vessel:moor'\nwhen = 'subject == resource.agent and resource.owner == subject.boss and subject.boss == resource.agent'\nassume = 'known(resource.agent) and known(resource.owner) and known(subject.boss)'",
    "proved"
)]
#[case(
    "never = 'vessel:moor'\nwhen = 'subject == resource.agent and resource.owner.rank == resource.agent.rank'",
    "refuted"
)]
#[case(
    "never = 'vessel:moor'\nwhen = 'subject == resource.agent and resource.agent.rank < resource.class'\nassume = 'known(resource.agent) and known(resource.agent.rank) and known(resource.class)'",
    "proved"
)]
// Texts, patterns, values, networks.
#[case("never = 'vessel:view'\nwhen = 'resource.flag == \"red\" and resource.flag != \"red\"'", "refuted")]
#[case(
    "never = 'vessel:view'\nwhen = 'known(resource.flag) and not (resource.flag in [\"red\", \"blue\"])'\nassume = 'known(resource.flag)'",
    "vacuous"
)]
#[case(
    "never = 'vessel:view'\nwhen = 'fits(resource.name, \"NL-*\") and ends(resource.name, \"7\") and not starts(resource.name, \"N\")'\nassume = 'known(resource.name)'",
    "vacuous"
)]
#[case(
    "never = 'vessel:view'\nwhen = 'fits(resource.name, \"NL-?\") and resource.name != \"NL-1\"'",
    "refuted"
)]
#[case("never = 'vessel:close'\nwhen = 'not (context.ip in [address(\"10.0.0.0/8\")])'", "proved")]
#[case("never = 'vessel:close'\nwhen = 'not (context.ip in [address(\"10.1.2.0/24\")])'", "refuted")]
// Several grants of one role, with their values.
#[case("never = 'vessel:scrap'\nwhen = 'not known(resource.name)'", "proved")]
#[case("never = 'vessel:scrap'\nwhen = 'resource.name == \"x\"'", "refuted")]
#[case("never = 'vessel:scrap'\nwhen = 'not holds(\"agent\")'", "proved")]
// Lists, empty and not.
#[case(
    "never = 'voyage:plan'\nwhen = 'count(resource.marks) == 0 and \"x\" in resource.marks'\nassume = 'known(resource.marks)'",
    "vacuous"
)]
#[case("never = 'voyage:plan'\nwhen = 'count(resource.marks) == 2 and \"x\" in resource.marks'", "refuted")]
#[case("never = 'voyage:plan'\nwhen = 'among(subject, resource.within.crew)'", "refuted")]
#[case("always = 'voyage:plan'\nwhen = 'known(resource.marks) and count(resource.marks) == 0'", "refuted")]
#[case(
    "never = 'voyage:plan'\nwhen = '\"x\" in resource.marks and \"y\" in resource.marks and count(resource.marks) < 2'\nassume = 'known(resource.marks)'",
    "vacuous"
)]
#[case(
    "never = 'voyage:plan'\nwhen = '\"x\" in resource.marks and \"y\" in resource.marks and count(resource.marks) == 2'",
    "refuted"
)]
#[case(
    "never = 'voyage:plan'\nwhen = 'among(subject, resource.within.crew) and count(resource.within.crew) == 0'\nassume = 'known(resource.within.crew)'",
    "proved"
)]
// Sums of what is not known.
#[case("never = 'vessel:moor'\nwhen = 'subject.rank + resource.class > 10'", "refuted")]
#[case("never = 'vessel:moor'\nwhen = 'subject.rank + resource.class > 10 and subject.rank < 6'", "refuted")]
#[case(
    "never = 'vessel:moor'\nwhen = 'subject.rank + resource.class > 10 and subject.rank < 6'\nassume = 'resource.class > 0'",
    "proved"
)]
#[case("never = 'vessel:moor'\nwhen = 'subject.rank + resource.class > 10 and subject.rank < 7'", "refuted")]
#[case(
    "never = 'vessel:view'\nwhen = 'resource.draught + resource.draught + resource.draught == 1'",
    "refuted"
)]
#[case(
    "never = 'vessel:view'\nwhen = 'resource.class + subject.rank != subject.rank + resource.class'\nassume = 'resource.class + subject.rank > 0'",
    "vacuous"
)]
// Lower case.
#[case("never = 'vessel:view'\nwhen = 'lower(resource.name) == \"kestrel\"'", "refuted")]
#[case(
    "never = 'vessel:view'\nwhen = 'lower(resource.name) == \"kestrel\" and resource.name != \"kestrel\"'",
    "refuted"
)]
#[case(
    "never = 'vessel:view'\nwhen = 'lower(resource.name) == \"Kestrel\"'\nassume = 'known(resource.name)'",
    "vacuous"
)]
#[case(
    "never = 'vessel:view'\nwhen = 'resource.name == \"KESTREL\" and lower(resource.name) != \"kestrel\"'\nassume = 'known(resource.name)'",
    "vacuous"
)]
#[case(
    "never = 'vessel:view'\nwhen = 'lower(resource.flag) == \"green\"'\nassume = 'known(resource.flag)'",
    "vacuous"
)]
#[case(
    "never = 'vessel:view'\nwhen = 'starts(lower(resource.name), \"ab\") and ends(resource.name, \"C\")'",
    "refuted"
)]
// Containment, relationships, detached resources.
#[case("never = 'voyage:seal'\nwhen = 'not holds(\"reader\")'", "proved")]
#[case("never = 'voyage:seal'\nwhen = 'not holds(\"planner\")'", "proved")]
#[case("never = 'voyage:seal'\nwhen = 'resource.detached'\nassume = 'known(resource.detached)'", "proved")]
#[case("never = 'voyage:plan'\nwhen = 'resource.detached'", "refuted")]
#[case("always = 'voyage:view'\nwhen = 'subject == resource.within.owner'", "refuted")]
#[case(
    "always = 'voyage:view'\nwhen = 'subject == resource.within.owner and not resource.detached'",
    "proved"
)]
#[case(
    "never = 'voyage:view'\nwhen = 'subject != resource.within.owner'\nassume = 'subject.type == \"service\"'",
    "proved"
)]
// Tenants' own roles, standby, separations.
#[case("never = 'voyage:view'\nwhen = 'subject != resource.within.owner'", "refuted")]
#[case("never = 'voyage:log'\nwhen = 'context.zone == \"yard\"'", "proved")]
#[case("never = 'voyage:log'\nwhen = 'subject.type == \"service\"'", "refuted")]
#[case("never = 'crate:open'\nwhen = 'holds(\"viewer\")'", "proved")]
#[case("never = 'crate:open'\nwhen = 'resource.detached'\nassume = 'known(resource.detached)'", "proved")]
#[case("never = 'crate:open'\nwhen = 'not holds(\"opener\")'", "proved")]
#[case("alike = ['crate:open', 'crate:view']", "refuted")]
// Recursion: however long the line of tugs.
#[case("never = 'vessel:tow'\nwhen = 'not holds(\"tug\")'", "proved")]
#[case("never = 'vessel:tow'\nassume = 'subject.type == \"service\"'", "proved")]
#[case("never = 'vessel:tow'\nwhen = 'resource.class > 3'", "refuted")]
#[case("always = 'vessel:tow'\nwhen = 'holds(\"tug\")'", "proved")]
fn each_is_settled(#[case] text: &str, #[case] outcome: &str) {
    let report = settle(text);
    assert_eq!(report.outcome.word(), outcome, "{text}\n{report:#?}");
    assert_eq!(report.sample.is_some(), outcome == "refuted");
}

/// A charter of one yard, with what each case adds.
fn settle_beside(charter: &str, guarantee: &str) -> String {
    let head = "[charter]\nname = \"Yard\"\nformat = 1\n[application.quay]\n[role.keeper]\ngiven-to = \"signed-in\"\n";
    let sources =
        Sources::single("yard.toml", &format!("{head}{}", charter.replace('\'', "\"").replace('`', "'")));
    let reading = charter::read(&sources);
    let told: Vec<String> = reading.findings.iter().map(|finding| sources.render(finding)).collect();
    let policy = Arc::new(reading.policy.unwrap_or_else(|| panic!("{}", told.join("\n"))));
    let text = format!("[[guarantee]]\nname = \"it\"\n{}\n", guarantee.replace('\'', "\"").replace('`', "'"));
    let sources = Sources::single("g.toml", &text);
    let settled = read(&sources, &mut Vec::new()).settle(&policy, &sources, &|| true, &mut |_| {});
    settled.expect("it has a meaning").remove(0).outcome.word().to_owned()
}

#[rstest]
// A new resource without an id is not what the charter names, where that is registered.
#[case(
    "permissions = ['shed:view']\n[resource.shed]\napplication = 'quay'\nactions = { view = '' }\n\
     [[rule]]\nkey = 'd'\neffect = 'deny'\npermissions = ['shed:view']\nwhen = \"resource == entity(`shed:one`)\"\n",
    "never = 'shed:view'\nwhen = \"not known(resource.id)\"",
    "refuted"
)]
// What lies within something that has no tenant: steps lead there as roles come from there. A new one that
// does not say where it lies is read otherwise.
#[case(
    "permissions = ['shed:view']\n[resource.depot]\napplication = 'quay'\nactions = { view = '' }\n\
     [resource.shed]\napplication = 'quay'\nwithin = 'depot'\nactions = { view = '' }\n\
     [[rule]]\nkey = 'd'\neffect = 'deny'\npermissions = ['shed:view']\nwhen = \"known(resource.within)\"\n",
    "never = 'shed:view'\nassume = \"known(resource.detached)\"",
    "proved"
)]
#[case(
    "permissions = ['shed:view']\n[resource.depot]\napplication = 'quay'\nactions = { view = '' }\n\
     [resource.shed]\napplication = 'quay'\nwithin = 'depot'\nactions = { view = '' }\n\
     [[rule]]\nkey = 'd'\neffect = 'deny'\npermissions = ['shed:view']\nwhen = \"known(resource.within)\"\n",
    "never = 'shed:view'",
    "refuted"
)]
// A default that differs from type to type.
#[case(
    "permissions = ['shed:view']\n[resource.depot]\napplication = 'quay'\nactions = { view = '' }\n\
     [resource.depot.attributes]\nopen = { type = 'boolean', from = 'request', default = false }\n\
     [resource.crane]\napplication = 'quay'\nactions = { view = '' }\n\
     [resource.crane.attributes]\nopen = { type = 'boolean', from = 'request', default = true }\n\
     [resource.shed]\napplication = 'quay'\nactions = { view = '' }\n[resource.shed.relations]\nnear = ['depot', 'crane']\n\
     [[rule]]\nkey = 'd'\neffect = 'deny'\npermissions = ['shed:view']\nwhen = \"not resource.near.open\"\n",
    "never = 'shed:view'",
    "refuted"
)]
// An integer that is added to a decimal does not overflow as an integer does.
#[case(
    "[[role.keeper.clause]]\npermissions = ['shed:view']\nwhen = \"resource.class + 1.0 > 9223372036854775807.0\"\n\
     [resource.shed]\napplication = 'quay'\nactions = { view = '' }\n[resource.shed.attributes]\nclass = 'integer'\n",
    "never = 'shed:view'",
    "refuted"
)]
// A relation that one type declares with one value and another with many; the one leads on and on.
#[case(
    "[role.engineer]\npermissions = ['pump:stop']\n[resource.pump]\napplication = 'quay'\nactions = { stop = '' }\n\
     [resource.pump.relations]\nupstream = 'pump'\n\
     [[resource.pump.confer]]\nrole = 'engineer'\nto = { holds = 'engineer', at = 'upstream' }\n\
     [resource.valve]\napplication = 'quay'\nactions = { turn = '' }\n\
     [resource.valve.relations]\nupstream = { to = 'pump', many = true }\n",
    "never = 'pump:stop'",
    "refuted"
)]
fn what_may_be_is_never_left_out(#[case] charter: &str, #[case] guarantee: &str, #[case] outcome: &str) {
    assert_eq!(settle_beside(charter, guarantee), outcome, "{charter}\n{guarantee}");
}

#[test]
fn an_example_is_small_and_told_as_sentences() {
    let report = settle("never = 'vessel:moor'\nwhen = 'subject == resource.agent'");
    assert_eq!(
        report.told.join("\n"),
        "user:somebody may vessel:moor on vessel:this: pilot at vessel:this\n\
         tenant:one is there\n\
         user:one is there\n\
         user:somebody has rank 0\n\
         vessel:this lies within tenant:one, has class -1, has owner user:one\n\
         pilot is granted to user:somebody at vessel:this\n\
         it is 2026-11-23T09:00:00Z"
    );
}

#[test]
fn what_is_stopped_is_undecided() {
    let policy = charter::read(&Sources::single("small.toml", CHARTER)).policy.expect("the charter holds");
    let sources = Sources::single("g.toml", "[[guarantee]]\nname = \"it\"\nnever = \"vessel:moor\"\n");
    let settled = read(&sources, &mut Vec::new()).settle(&Arc::new(policy), &sources, &|| false, &mut |_| {});
    let report = settled.expect("it has a meaning").remove(0);
    assert_eq!((report.outcome.word(), report.holds()), ("undecided", false));
    assert!(report.why.is_some_and(|why| why.contains("stopped")));
}

#[rstest]
#[case(
    "when = 'contains(resource.name, resource.flag) and not contains(resource.name, resource.flag)'\nassume = 'known(resource.name) and known(resource.flag)'",
    "`contains(resource.name, resource.flag)` compares texts that are not written out: compare with a written text, or say with assume what the texts are"
)]
#[case(
    "when = 'hour(now, \"UTC\") == 3 and clock(now, \"UTC\") > duration(\"5h\")'",
    "`clock(now, 'UTC')`, `hour(now, 'UTC')` is followed only as a number or a day, not back to a moment: say with assume what the clock reads, or compare the moment itself"
)]
fn what_is_undecided_names_what_it_rests_on(#[case] claim: &str, #[case] why: &str) {
    let report = settle(&format!("never = 'vessel:view'\n{claim}"));
    assert_eq!((report.outcome.word(), report.why.as_deref()), ("undecided", Some(why)));
}

#[rstest]
#[case("never = \"vessel:mor\"", "did you mean \"vessel:moor\"?")]
#[case("alike = [\"vessel:moor\", \"voyage:view\"]", "two permissions of one resource type")]
#[case("alike = [\"vessel:moor\"]", "alike names two permissions")]
#[case("never = \"vessel:moor\"\nalways = \"vessel:moor\"", "one of never, always and alike")]
#[case("when = \"true\"", "one of never, always and alike")]
#[case("never = \"vessel:moor\"\nwhen = \"resource.clas > 1\"", "did you mean")]
#[case("never = \"vessel:moor\"\nwhen = \"'x' in grant.name\"", "grant")]
#[case("never = \"vessel:moor\"\nunless = \"true\"", "unless")]
fn what_has_no_meaning_is_told(#[case] text: &str, #[case] message: &str) {
    let policy = charter::read(&Sources::single("small.toml", CHARTER)).policy.expect("the charter holds");
    let sources = Sources::single("g.toml", &format!("[[guarantee]]\nname = \"it\"\n{text}\n"));
    let mut findings = Vec::new();
    let rehearsal = read(&sources, &mut findings);
    findings.extend(rehearsal.checked(&policy, &sources).err().unwrap_or_default());
    let told: Vec<String> = findings.iter().map(|finding| sources.render(finding)).collect();
    assert!(told.iter().any(|told| told.contains(message)), "{told:?}");
}
