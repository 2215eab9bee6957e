//! Conditions, one table for each part of the language: what a text means on known facts.

use ostrog_core::prelude::*;
use rstest::rstest;
use std::sync::Arc;

const CHARTER: &str = r#"
[charter]
name = "Conditions"
format = 1
[application.quay]
[resource.berth]
application = "quay"
within = "tenant"
actions = { view = "" }
[resource.berth.attributes]
depth = "decimal"
length = "integer"
name = "text"
shut = "boolean"
unset = "integer"
since = "time"
slack = "duration"
net = "address"
marks = { type = "text", many = true }
none = { type = "text", many = true }
kind = { type = "text", values = ["dry", "wet"] }
claimed = { type = "integer", from = "request" }
usual = { type = "integer", default = 7 }
[resource.berth.relations]
warden = "user"
helpers = { to = ["user", "group"], many = true }
friends = { to = "user", many = true }
nobody = { to = "user", many = true, default = [] }
lost = "user"
sister = "berth"
abroad = "berth"
abroad-too = { to = "berth", across-tenants = true }
[subject.user.attributes]
rank = "integer"
[subject.service.attributes]
feed = "text"
[subject.user.relations]
boss = "user"
[tenant.attributes]
plan = "text"
[group.night]
[group.far]
[context]
zone = "text"
ip = "address"
[condition.deep]
when = "resource.depth > 10.0 and meets('long')"
[condition.long]
when = "resource.length >= 200"
[role.plain]
permissions = ["berth:view"]
except = ["berth:view"]
[role.asked]
[[role.asked.clause]]
permissions = ["berth:view"]
when = "CONDITION"
"#;

const REGISTER: &str = r#"
{"entity":"tenant:north","attributes":{"plan":"full"}}
{"entity":"tenant:south"}
{"entity":"user:ines","tenants":["north"],"attributes":{"rank":3},"relations":{"boss":"user:maren"}}
{"entity":"user:maren","attributes":{"rank":9}}
{"entity":"user:tomas"}
{"entity":"group:night","members":["user:ines"]}
{"entity":"group:far","tenant":"south","members":["user:ines"]}
{"entity":"group:outer","members":["group:night"]}
{"entity":"berth:b-1","within":"tenant:north","attributes":{"depth":"14.20","length":200,"name":"Long O'Quay","shut":false,"since":"2026-11-23T08:00:00Z","slack":"2h30m","net":"10.1.0.0/16","marks":["red","blue"],"none":[],"kind":"wet"},"relations":{"warden":"user:ines","helpers":["group:outer","user:tomas"],"friends":["user:ines","user:tomas"],"sister":"berth:b-2","abroad":"berth:b-9","abroad-too":"berth:b-9"}}
{"entity":"berth:b-2","within":"tenant:north","relations":{"warden":"user:maren"}}
{"entity":"berth:b-9","within":"tenant:south","attributes":{"length":5}}
{"grant":{"role":"asked","to":"user:ines","at":"everywhere"}}
{"grant":{"role":"plain","to":"user:ines","at":"berth:b-1"}}
"#;

/// What a condition comes to for ines on berth b-1, at nine on a Monday.
fn value(condition: &str) -> &'static str {
    let sources = Sources::single("charter.toml", &CHARTER.replace("CONDITION", condition));
    let reading = charter::read(&sources);
    let told: Vec<String> = reading.findings.iter().map(|finding| sources.render(finding)).collect();
    let policy = reading.policy.unwrap_or_else(|| panic!("{}", told.join("\n")));
    let mut world = World::new(Arc::new(policy), Register::default());
    let lines = REGISTER.lines().filter(|line| !line.is_empty());
    let changes: Vec<Change> = lines.map(|text| line::parse(text).expect("a line")).collect();
    world.apply(&changes).expect("the register is valid");
    let request = Request {
        subject: "user:ines".into(),
        permission: "berth:view".into(),
        resource: Some("berth:b-1".into()),
        of_resource: serde_json::from_str(r#"{"claimed":4,"length":1}"#).expect("JSON"),
        context: serde_json::from_str(r#"{"zone":"quay","ip":"10.20.4.7"}"#).expect("JSON"),
        ..Request::default()
    };
    let now = "2026-11-23T09:00:00Z".parse().expect("a moment");
    let asked = request.resolve(world.engine(), now).expect("well formed");
    let (_, why) = with_scratch(|scratch| explain(world.engine(), &asked, scratch));
    match why.reason.as_str() {
        "role:asked" => "true",
        "condition" => "false",
        "undetermined" => "undetermined",
        other => panic!("{other}: {}", why.sentence),
    }
}

#[rstest]
#[case("1 < 2", "true")]
#[case("-1 < 0 and 5.0 == 5", "true")]
#[case("resource.depth == 14.2", "true")]
#[case("resource.depth > resource.length", "false")]
#[case("resource.length + 1 == 201 and resource.length - 1 < 200", "true")]
#[case("resource.length + 9223372036854775807 > 0", "undetermined")]
#[case("resource.length == 200", "true")] // the register hides what the request says
#[case("resource.claimed == 4", "true")]
#[case("resource.usual == 7 and known(resource.usual)", "true")]
#[case("resource.unset == 1", "undetermined")]
#[case("resource.unset != 1", "undetermined")]
#[case("not resource.shut", "true")]
#[case("resource.shut == false", "true")]
fn numbers_and_sources(#[case] condition: &str, #[case] expected: &str) {
    assert_eq!(value(condition), expected, "{condition}");
}

#[rstest]
#[case("resource.unset == 1 or true", "true")]
#[case("resource.unset == 1 and false", "false")]
#[case("not (resource.unset == 1)", "undetermined")]
#[case("resource.unset == 1 or false", "undetermined")]
#[case("true or false and false", "true")]
#[case("not false and false", "false")]
#[case("(1 < 2) == true", "true")]
#[case("meets('deep')", "true")]
fn logic_of_three_values(#[case] condition: &str, #[case] expected: &str) {
    assert_eq!(value(condition), expected, "{condition}");
}

#[rstest]
#[case("resource.name == 'Long O''Quay'", "true")]
#[case("starts(resource.name, 'Long') and ends(resource.name, 'Quay')", "true")]
#[case("contains(lower(resource.name), 'o''q')", "true")]
#[case("contains(resource.name, 'o''q')", "false")]
#[case("fits(resource.name, 'L*Q???')", "true")]
#[case("fits(resource.name, 'l*')", "false")]
#[case("fits(resource.id, 'b-?') and resource.id == 'b-1'", "true")]
#[case("resource.type == 'berth' and subject.type == 'user'", "true")]
#[case("resource.kind in ['dry', 'wet']", "true")]
#[case("context.zone in ['quay'] and context.zone not in ['yard', 'office']", "true")]
fn texts(#[case] condition: &str, #[case] expected: &str) {
    assert_eq!(value(condition), expected, "{condition}");
}

#[rstest]
#[case("now - resource.since == duration('1h')", "true")]
#[case("resource.since + resource.slack > now", "true")]
#[case("now - duration('1d') < time('2026-11-22T09:00:01Z')", "true")]
#[case("clock(now, 'Europe/Lisbon') == duration('9h')", "true")]
#[case("clock(now, 'Asia/Tokyo') == duration('18h')", "true")]
#[case("hour(now, 'America/New_York') == 4", "true")]
#[case("weekday(now, 'Pacific/Auckland') == 'monday' and hour(now, 'Pacific/Auckland') == 22", "true")]
#[case("resource.slack > duration('150m')", "false")]
#[case("resource.slack == duration('150m')", "true")]
fn times(#[case] condition: &str, #[case] expected: &str) {
    assert_eq!(value(condition), expected, "{condition}");
}

#[rstest]
#[case("context.ip in address('10.0.0.0/8')", "true")]
#[case("context.ip in [address('192.168.0.0/16'), address('10.20.4.0/24')]", "true")]
#[case("context.ip in resource.net", "false")]
#[case("address('10.1.7.7') in resource.net", "true")]
#[case("resource.net == address('10.1.0.0/16')", "true")]
fn addresses(#[case] condition: &str, #[case] expected: &str) {
    assert_eq!(value(condition), expected, "{condition}");
}

#[rstest]
#[case("'red' in resource.marks and 'green' not in resource.marks", "true")]
#[case("resource.marks overlaps ['green', 'blue']", "true")]
#[case("resource.none overlaps resource.marks", "false")]
#[case("count(resource.marks) == 2 and count(resource.none) == 0", "true")]
#[case("subject in resource.friends", "true")]
#[case("3 in resource.friends.rank", "true")]
#[case("4 in resource.friends.rank", "undetermined")] // tomas has no rank
#[case("count(resource.friends.rank) == 2", "undetermined")]
#[case("subject in resource.nobody", "false")]
#[case("known(resource.friends) and not known(resource.friends.rank)", "true")]
#[case("known(resource.nobody) and not known(resource.lost)", "true")]
fn lists(#[case] condition: &str, #[case] expected: &str) {
    assert_eq!(value(condition), expected, "{condition}");
}

#[rstest]
#[case("subject == resource.warden", "true")]
#[case("subject != resource.sister.warden", "true")]
#[case("subject.boss == resource.sister.warden", "true")]
#[case("subject.boss.rank > subject.rank", "true")]
#[case("subject == resource.lost", "undetermined")]
#[case("subject.feed == 'tide'", "undetermined")] // what only services have
#[case("resource.tenant.plan == 'full'", "true")]
#[case("resource.tenant == entity('tenant:north') and resource.within == entity('tenant:north')", "true")]
#[case("resource == entity('berth:b-1') and resource != entity('berth:b-77')", "true")]
#[case("subject in [entity('user:ines'), entity('user:tomas')]", "true")]
#[case("among(subject, resource.helpers)", "true")] // ines is in night, night is in outer
#[case("among(subject, resource.sister.warden)", "false")]
#[case("resource.detached", "false")]
fn entities(#[case] condition: &str, #[case] expected: &str) {
    assert_eq!(value(condition), expected, "{condition}");
}

#[rstest]
#[case("known(resource.abroad)", "false")]
#[case("resource.abroad.length == 5", "undetermined")]
#[case("resource.abroad-too.length == 5", "true")]
#[case("member('night')", "true")]
#[case("member('far')", "false")] // a group of another tenant stands for nobody here
#[case("holds('plain')", "true")] // whatever it gives
fn seal_and_holding(#[case] condition: &str, #[case] expected: &str) {
    assert_eq!(value(condition), expected, "{condition}");
}

/// The time a text takes to be refused or read must not explode with what is written in it.
#[rstest]
#[case::parentheses(&format!("{}true{}", "(".repeat(60_000), ")".repeat(60_000)))]
#[case::nots(&format!("{}true", "not ".repeat(16_000)))]
#[case::sums(&format!("1{} == 2", " + 1".repeat(16_000)))]
#[case::calls(&format!("{}'x'{}", "lower(".repeat(9_000), ")".repeat(9_000)))]
#[case::brackets(&"[".repeat(60_000))]
#[case::long_list(&format!("'x' in [{}'y']", "'y',".repeat(10_000)))]
#[case::chain(&format!("true{}", " or true".repeat(8_000)))]
fn hostile_texts_are_refused_in_time(#[case] condition: &str) {
    let sources = Sources::single("charter.toml", &CHARTER.replace("CONDITION", condition));
    assert!(charter::read(&sources).policy.is_none());
}

#[test]
fn named_conditions_do_not_explode() {
    let mut text = CHARTER.replace("CONDITION", "meets('c30')");
    text.push_str("[condition.c0]\nwhen = \"true\"\n");
    for at in 1..=30 {
        text.push_str(&format!("[condition.c{at}]\nwhen = \"meets('c{0}') or meets('c{0}')\"\n", at - 1));
    }
    let reading = charter::read(&Sources::single("charter.toml", &text));
    assert!(reading.findings.iter().any(|finding| finding.code == "over-a-bound"));
}
