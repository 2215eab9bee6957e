//! What is done with charters as texts: laid out anew, compared, made from a document.

use ostrog_core::charter::compare::{Direction, compare};
use ostrog_core::charter::tidy::tidy;
use ostrog_core::import::{Options, plan};
use ostrog_core::prelude::*;
use rstest::rstest;

#[test]
fn tidying_keeps_comments_and_order_and_is_done_once() {
    let untidy = "# head\n\n\n\n[charter]   # the port\nformat=1\nname   =   \"Port\"\n# before a role\n[role.a]\n\
        permissions = [ \"x:y\",\n  \"x:z\" ]   # two\n# of values\nvalues = {line=\"text\"}\n\n\
        [role.b]\npermissions = [\n  \"x:y\", # the first\n  \"x:z\",\n]\n# the end\n";
    let tidied = tidy(untidy).expect("is TOML");
    assert_eq!(
        tidied,
        "# head\n\n[charter]  # the port\nformat = 1\nname = \"Port\"\n\n# before a role\n[role.a]\n\
         permissions = [\"x:y\", \"x:z\"]  # two\n# of values\nvalues = { line = \"text\" }\n\n\
         [role.b]\npermissions = [\n  \"x:y\", # the first\n  \"x:z\",\n]\n# the end\n"
    );
    assert_eq!(tidy(&tidied), Ok(tidied));
    assert!(tidy("[charter\n").is_err());
}

#[test]
fn a_long_list_stands_one_item_a_line() {
    let items: Vec<String> = (0..20).map(|at| format!("\"vessel:action-{at}\"")).collect();
    let tidied = tidy(&format!("[role.a]\npermissions = [{}]\n", items.join(","))).expect("is TOML");
    assert!(tidied.starts_with("[role.a]\npermissions = [\n    \"vessel:action-0\",\n"), "{tidied}");
    assert!(tidied.ends_with("    \"vessel:action-19\",\n]\n"), "{tidied}");
}

const OLD: &str = r#"
[charter]
name = "A"
format = 1
[application.quay]
[resource.vessel]
application = "quay"
within = "tenant"
actions = { view = "", moor = "" }
[resource.vessel.attributes]
held = "boolean"
[resource.vessel.relations]
master = "user"
[condition.calm]
when = "not resource.held"
[role.hand]
permissions = ["vessel:view"]
[role.mate]
includes = ["hand"]
[[role.mate.clause]]
permissions = ["vessel:moor"]
when = "meets('calm')"
[[rule]]
key = "held"
effect = "deny"
permissions = ["vessel:moor"]
when = "resource.held"
"#;

fn policy(text: &str) -> Policy {
    let sources = Sources::single("a.toml", text);
    let reading = charter::read(&sources);
    let told: Vec<String> = reading.findings.iter().map(|finding| sources.render(finding)).collect();
    reading.policy.unwrap_or_else(|| panic!("{}", told.join("\n")))
}

#[rstest]
#[case::a_permission(
    "permissions = [\"vessel:view\"]",
    "permissions = [\"vessel:*\"]",
    "role hand gives vessel:moor now, always",
    Direction::Wider
)]
#[case::what_is_included(
    "permissions = [\"vessel:view\"]",
    "permissions = [\"vessel:*\"]",
    "role mate gives vessel:moor always, gave it when not resource.held",
    Direction::Wider
)]
#[case::a_guard(
    "when = \"meets('calm')\"",
    "when = \"meets('calm') and resource.master == subject\"",
    "role mate gives vessel:moor when not resource.held and resource.master == subject, gave it when not resource.held",
    Direction::Other
)]
#[case::a_narrower_deny(
    "when = \"resource.held\"",
    "when = \"resource.held and now < time('2030-01-01')\"",
    "rule held denies when resource.held and now < time('2030-01-01T00:00:00Z'); before, when resource.held",
    Direction::Wider
)]
#[case::a_renamed_rule(
    "key = \"held\"",
    "key = \"kept\"",
    "rule held denies no longer: it is gone",
    Direction::Wider
)]
#[case::a_type(
    "held = \"boolean\"",
    "held = { type = \"boolean\", default = false }",
    "type vessel held is boolean, from register or request, false by default, was boolean, from register or request",
    Direction::Other
)]
#[case::terms(
    "[role.hand]\n",
    "[role.hand]\nheld-at = [\"tenant\"]\n",
    "role hand is granted at tenant, before: any place",
    Direction::Other
)]
#[case::a_conferral(
    "[role.hand]\n",
    "[[resource.vessel.confer]]\nrole = \"hand\"\nto = { relation = \"master\" }\n[role.hand]\n",
    "type vessel confers hand on resource.master",
    Direction::Wider
)]
fn a_difference_in_meaning_is_told(
    #[case] from: &str,
    #[case] to: &str,
    #[case] words: &str,
    #[case] effect: Direction,
) {
    // What an inclusion must not be wider than is narrowed along.
    let new = OLD.replacen(from, to, 1).replace(
        "[role.mate]\n",
        if to.contains("held-at") { "[role.mate]\nheld-at = [\"tenant\"]\n" } else { "[role.mate]\n" },
    );
    assert_ne!(new, OLD);
    let told = compare(&policy(OLD), &policy(&new));
    let found = told.iter().find(|one| format!("{} {} {}", one.about, one.key, one.words) == words);
    assert_eq!(found.map(|one| one.effect), Some(effect), "{told:#?}");
}

#[test]
fn what_is_only_written_otherwise_means_the_same() {
    let inlined = OLD
        .replace("[condition.calm]\nwhen = \"not resource.held\"\n", "")
        .replace("meets('calm')", "not (resource.held)");
    let flat = inlined
        .replace("includes = [\"hand\"]\n", "includes = [\"hand\"]\npermissions = [\"vessel:view\"]\n");
    assert_eq!(compare(&policy(OLD), &policy(&flat)), []);
}

#[rstest]
#[case("{\"swagger\": \"2.0\"}", "no OpenAPI document")]
#[case("openapi: 3.2.0", "not \"3.2.0\"")]
#[case("{", "broken JSON")]
#[case("a: [", "broken YAML")]
fn what_is_no_document_is_refused(#[case] text: &str, #[case] says: &str) {
    let error = plan(text, &Options { application: "portal", ..Options::default() }).expect_err("is refused");
    assert!(error.to_string().contains(says), "{error}");
}
