//! Rehearsals: what passes, what passes but proves little, and what is wrong with the text.

use ostrog_core::prelude::*;
use ostrog_core::rehearse::{Report, read};
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
actions = { view = "", moor = "", close = "" }
[resource.vessel.attributes]
class = "integer"
[resource.vessel.relations]
owner = { to = "user", from = "either" }
[subject.user.attributes]
rank = "integer"
[role.pilot]
[[role.pilot.clause]]
permissions = ["vessel:moor"]
when = "subject.rank >= resource.class"
[role.night]
[[role.night.clause]]
permissions = ["vessel:view"]
when = "now >= time('2026-01-01T00:00:00Z')"
[[rule]]
key = "no-close"
effect = "deny"
permissions = ["vessel:close"]
when = "resource.class > 5"
"#;

const SAMPLES: &str = r#"
[sample."tenant:north"]
[sample."vessel:a"]
within = "tenant:north"
attributes = { class = 3 }
[sample."vessel:b"]
within = "tenant:north"
[sample."group:pilots"]
[sample."user:ines"]
groups = ["pilots"]
attributes = { rank = 4 }
grants = [{ role = "pilot", at = "tenant:north" }, { role = "night", at = "everywhere" }]
[sample."user:nobody"]
"#;

fn run(cases: &str) -> Result<Report, Vec<String>> {
    run_over("", &format!("{SAMPLES}{cases}"))
}

/// Runs a rehearsal's text, over register lines if it says that it lies over some.
fn run_over(facts: &str, text: &str) -> Result<Report, Vec<String>> {
    run_under(CHARTER, facts, text)
}

fn run_under(charter: &str, facts: &str, text: &str) -> Result<Report, Vec<String>> {
    let policy =
        Arc::new(charter::read(&Sources::single("charter.toml", charter)).policy.expect("no errors"));
    let mut register = Register::default();
    let changes: Vec<_> = facts.lines().map(|text| line::parse(text).expect("a line")).collect();
    register.apply(&changes, Checks::of(&[])).expect("fits");
    let sources = Sources::single("r.toml", text);
    let mut findings = Vec::new();
    let rehearsal = read(&sources, &mut findings);
    let told = |findings: &[ostrog_core::source::Finding]| {
        findings.iter().map(|finding| sources.render(finding)).collect::<Vec<_>>()
    };
    if !findings.is_empty() {
        return Err(told(&findings));
    }
    rehearsal
        .run(&policy, register, &sources, "2026-11-23T09:00:00Z".parse().expect("a moment"))
        .map_err(|findings| told(&findings))
}

fn case(body: &str) -> String {
    format!("[[case]]\nname = \"c\"\n{body}\n")
}

#[rstest]
#[case(
    "as = \"user:ines\"\non = \"vessel:a\"\nmay = [\"vessel:moor\"]\nbecause = \"role:pilot\"",
    true,
    None
)]
#[case(
    "as = \"user:ines\"\non = \"vessel:a\"\nmay = [\"vessel:moor\"]\nbecause = \"role:night\"",
    false,
    None
)]
// A reason of an allow is for what the subject may, one of a denial for what it may not.
#[case(
    "as = \"user:ines\"\non = \"vessel:a\"\nmay = [\"vessel:moor\"]\nmay-not = [\"vessel:close\"]\nbecause = \"role:pilot\"",
    true,
    None
)]
#[case(
    "as = \"user:ines\"\non = \"vessel:a\"\nmay = [\"vessel:moor\"]\nmay-not = [\"vessel:close\"]\nbecause = \"role:night\"",
    false,
    None
)]
#[case(
    "as = \"user:ines\"\non = \"vessel:a\"\nmay = [\"vessel:moor\"]\nmay-not = [\"vessel:close\"]\nbecause = \"condition\"",
    false,
    None
)]
#[case("as = \"user:ines\"\non = \"vessel:a\"\nmay-not = [\"vessel:moor\"]", false, None)]
// What a case says along and does not count proves less than it seems to.
#[case(
    "as = \"user:ines\"\non = \"vessel:a\"\nmay = [\"vessel:moor\"]\nproperties = { resource = { clas = 9 } }",
    true,
    Some("not all that it says counts")
)]
#[case(
    "as = \"user:ines\"\nmay = [\"vessel:moor\"]\nproperties = { resource = { class = 4, within = \"tenant:north\" } }",
    true,
    None
)]
#[case(
    "as = \"user:ines\"\nmay-not = [\"vessel:moor\"]\nbecause = \"condition\"\nproperties = { resource = { class = 5, within = \"tenant:north\" } }",
    true,
    None
)]
// Passes that prove little are told.
#[case(
    "as = \"user:nobody\"\non = \"vessel:a\"\nmay-not = [\"vessel:moor\"]",
    true,
    Some("holds nothing at all")
)]
#[case("as = \"user:ines\"\non = \"vessel:b\"\nmay-not = [\"vessel:moor\"]", true, Some("a fact is missing"))]
#[case(
    "as = \"user:ines\"\non = \"vessel:b\"\nmay-not = [\"vessel:close\"]",
    true,
    Some("denies because a fact is missing")
)]
#[case("as = \"user:ines\"\non = \"vessel:a\"\nmay = [\"vessel:view\"]", true, Some("moment of the run"))]
#[case(
    "as = \"user:ines\"\non = \"vessel:a\"\nnow = \"2026-05-05T00:00:00Z\"\nmay = [\"vessel:view\"]",
    true,
    None
)]
fn cases_pass_or_fail(#[case] body: &str, #[case] passes: bool, #[case] doubt: Option<&str>) {
    let report = run(&case(body)).expect("can be run");
    assert_eq!((report.passed, report.failed), (usize::from(passes), usize::from(!passes)), "{report:?}");
    let told = report.cases[0].checks.iter().find_map(|check| check.doubt.clone());
    assert_eq!(told.is_some(), doubt.is_some(), "{told:?}");
    if let (Some(told), Some(doubt)) = (told, doubt) {
        assert!(told.contains(doubt), "{told}");
    }
    assert_eq!(report.cases[0].place, "r.toml:15");
}

#[rstest]
#[case(&case("as = \"user:inse\"\nmay = [\"vessel:view\"]"), "did you mean user:ines?")]
#[case(&case("as = \"user:ines\"\non = \"vessel:c\"\nmay = [\"vessel:view\"]"), "vessel:c is not a sample")]
#[case(&case("as = \"user:ines\"\nmay = [\"vessel:veiw\"]"), "did you mean \"vessel:view\"?")]
#[case(&case("as = \"user:ines\"\non = \"user:ines\"\nmay = [\"vessel:view\"]"), "is no permission for user:ines")]
#[case(&case("as = \"user:ines\""), "says what its subject may or may-not")]
#[case(&case("as = \"user:ines\"\nmay-not = [\"vessel:view\"]\nbecause = \"role:pilot\""), "is the reason of an allow, and this case has no \"may\"")]
#[case(&case("as = \"user:ines\"\nmay = [\"vessel:view\"]\nbecause = \"no-role\""), "is the reason of a denial, and this case has no \"may-not\"")]
#[case(&case("may = [\"vessel:view\"]"), "a case needs as")]
#[case(&case("as = \"user:ines\"\nmya = [\"vessel:view\"]"), "unknown key \"mya\" in [[case]]; did you mean \"may\"?")]
#[case(&case("as = \"user:ines\"\nmay = [\"vessel:view\"]\nnow = \"noon\""), "now is a moment")]
#[case(
    &case("as = \"user:ines\"\nmay = [\"vessel:view\"]\nproperties = { resource = { owner = \"user:inse\" } }"),
    "did you mean user:ines?"
)]
#[case(
    &case("as = \"user:ines\"\nmay = [\"vessel:view\"]\nproperties = { resource = { within = \"tenant:nroth\" } }"),
    "did you mean tenant:north?"
)]
#[case("[sample.\"user:ines\"]", "is defined twice")]
#[case("[sample.\"ines\"]", "is not an entity")]
#[case("[sample.\"user:x\"]\ngroups = [\"pilot\"]", "did you mean group:pilots?")]
#[case("[sample.\"user:x\"]\ngrants = [{ role = \"pilt\", at = \"everywhere\" }]", "did you mean \"pilot\"?")]
#[case("[sample.\"user:x\"]\ngrants = [{ role = \"pilot\" }]", "a grant needs at")]
#[case(
    "[sample.\"user:x\"]\ngrants = [{ role = \"pilot\", at = \"everywhere\", active = true }]",
    "\"pilot\" is not on standby"
)]
#[case(
    "[sample.\"group:x\"]\ngrants = [{ role = \"pilot\", at = \"everywhere\", active = true }]",
    "activated for one member at a time"
)]
#[case(
    "[sample.\"user:x\"]\ngrants = [{ role = \"pilot\", at = \"everywhere\", active = { for = \"s\" } }]",
    "active is true, or { session"
)]
#[case("[sample.\"user:x\"]\nattributes = { rank = \"high\" }", "is of type integer, and \"high\" is not")]
#[case("[[guarantee]]\nname = \"x\"", "one of never, always and alike")]
fn mistakes_in_a_rehearsal_are_errors_not_denials(#[case] text: &str, #[case] says: &str) {
    let told = run(text).expect_err("is refused").join("\n");
    assert!(told.contains(says), "{told}");
    assert!(told.starts_with("r.toml:"), "{told}");
}

const FACTS: &str = r#"{"entity":"tenant:north"}
{"entity":"vessel:a","within":"tenant:north","attributes":{"class":3}}
{"entity":"group:pilots"}
{"entity":"user:ines","attributes":{"rank":4}}
{"entity":"user:rui","attributes":{"rank":4}}
{"entity":"group:pilots","members":["user:rui"]}
{"grant":{"role":"pilot","to":"user:ines","at":"tenant:north"}}
{"grant":{"role":"pilot","to":"group:pilots","at":"tenant:north"}}"#;

/// Over a register: its facts count, and a sample stands in the place of the entity of its name.
#[rstest]
#[case::of_the_register("", "user:ines", true)]
#[case::through_its_group("", "user:rui", true)]
#[case::with_less(
    "[sample.\"user:ines\"]\nattributes = { rank = 1 }\ngrants = [{ role = \"pilot\", at = \"tenant:north\" }]",
    "user:ines",
    false
)]
#[case::without_the_grant("[sample.\"user:ines\"]\nattributes = { rank = 4 }", "user:ines", false)]
#[case::without_the_group("[sample.\"user:rui\"]\nattributes = { rank = 4 }", "user:rui", false)]
#[case::in_a_group_of_the_register(
    "[sample.\"user:new\"]\ngroups = [\"pilots\"]\nattributes = { rank = 4 }",
    "user:new",
    true
)]
#[case::leaving_others("[sample.\"user:ines\"]\nattributes = { rank = 1 }", "user:rui", true)]
fn a_rehearsal_lies_over_a_register(#[case] samples: &str, #[case] subject: &str, #[case] may: bool) {
    let list = if may { "may" } else { "may-not" };
    let case = case(&format!("as = \"{subject}\"\non = \"vessel:a\"\n{list} = [\"vessel:moor\"]"));
    let report = run_over(FACTS, &format!("[rehearsal]\nstand-alone = false\n{samples}\n{case}"));
    assert_eq!(report.expect("runs").failed, 0);
}

#[test]
fn over_a_register_a_misspelt_name_is_an_error_and_alone_nothing_of_it_is_known() {
    let text = |alone: bool, subject: &str| {
        let case = case(&format!("as = \"{subject}\"\non = \"vessel:a\"\nmay = [\"vessel:moor\"]"));
        format!("[rehearsal]\nstand-alone = {alone}\n{case}")
    };
    let told = run_over(FACTS, &text(false, "user:inse")).expect_err("is refused").join("\n");
    assert!(told.contains("user:inse is not a sample, and the register does not know it"), "{told}");
    let told = run_over(FACTS, &text(true, "user:ines")).expect_err("is refused").join("\n");
    assert!(told.contains("user:ines is not a sample"), "{told}");
}

/// What the register activated for somebody is not the sample's, even in the same group.
#[test]
fn a_sample_is_active_only_where_it_says_so() {
    let charter = CHARTER.replacen(
        "[resource.vessel]",
        "[role.welder]\npermissions = [\"vessel:moor\"]\nstandby = { longest = \"2h\" }\n[resource.vessel]",
        1,
    );
    let facts = format!(
        "{FACTS}\n{}\n{}",
        r#"{"grant":{"id":"g-w","role":"welder","to":"group:pilots","at":"vessel:a"}}"#,
        r#"{"activation":{"grant":"g-w","subject":"user:rui","from":"2026-11-23T08:30:00Z","until":"2026-11-23T10:00:00Z"}}"#
    );
    let run = |sample: &str, list: &str| {
        let case = case(&format!("as = \"user:rui\"\non = \"vessel:a\"\n{list} = [\"vessel:moor\"]"));
        run_under(&charter, &facts, &format!("[rehearsal]\nstand-alone = false\n{sample}\n{case}"))
    };
    // Without rank the pilots' role does not moor; only the welder's would.
    let low = "[sample.\"user:rui\"]\ngroups = [\"pilots\"]\nattributes = { rank = 1 }";
    assert_eq!(run("", "may").expect("runs").failed, 0);
    assert_eq!(run(low, "may-not").expect("runs").failed, 0);
}
