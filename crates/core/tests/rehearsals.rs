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
    let policy =
        Arc::new(charter::read(&Sources::single("charter.toml", CHARTER)).policy.expect("no errors"));
    let sources = Sources::single("r.toml", &format!("{SAMPLES}{cases}"));
    let mut findings = Vec::new();
    let rehearsal = read(&sources, &mut findings);
    let told = |findings: &[ostrog_core::source::Finding]| {
        findings.iter().map(|finding| sources.render(finding)).collect::<Vec<_>>()
    };
    if !findings.is_empty() {
        return Err(told(&findings));
    }
    rehearsal
        .run(&policy, &sources, "2026-11-23T09:00:00Z".parse().expect("a moment"))
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
#[case("as = \"user:ines\"\non = \"vessel:a\"\nmay-not = [\"vessel:moor\"]", false, None)]
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
#[case(&case("may = [\"vessel:view\"]"), "a case needs as")]
#[case(&case("as = \"user:ines\"\nmya = [\"vessel:view\"]"), "unknown key \"mya\" in [[case]]; did you mean \"may\"?")]
#[case(&case("as = \"user:ines\"\nmay = [\"vessel:view\"]\nnow = \"noon\""), "now is a moment")]
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
#[case("[rehearsal]\nstand-alone = false", "does not carry it out yet")]
#[case("[[guarantee]]\nname = \"x\"", "does not prove them yet")]
fn mistakes_in_a_rehearsal_are_errors_not_denials(#[case] text: &str, #[case] says: &str) {
    let told = run(text).expect_err("is refused").join("\n");
    assert!(told.contains(says), "{told}");
    assert!(told.starts_with("r.toml:"), "{told}");
}
