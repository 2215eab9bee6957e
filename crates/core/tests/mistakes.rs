//! Mistakes that people make every day: what is said of each, and at which place.
//!
//! A case is the mistake in words, the lines that hold it with the place it is told at between
//! `«` and `»`, and what is said. The lines stand beside a charter in which nothing is wrong.

use ostrog_core::prelude::*;
use rstest::rstest;

const CHARTER: &str = r#"
[charter]
name = "Sorrel Bay"
format = 1
[application.quay]
[application.customs]
[resource.vessel]
application = "quay"
within = "tenant"
actions = { view = "", moor = "" }
[resource.vessel.attributes]
flag = { type = "text", values = ["green", "yellow"] }
draught = "decimal"
[resource.vessel.relations]
agent = "user"
[resource.manifest]
application = "customs"
within = "vessel"
actions = { view = "", release = "", amend = "" }
[resource.manifest.attributes]
hazard = "integer"
paid = "boolean"
filed = "time"
line = "text"
marks = { type = "text", many = true }
[resource.manifest.relations]
declarant = "user"
reviewers = { to = ["user", "group"], many = true }
[subject.user.attributes]
clearance = "integer"
[subject.user.relations]
supervisor = "user"
[context]
zone = { type = "text", values = ["quay", "yard"] }
ip = "address"
[group.customs-duty]
[role.deckhand]
permissions = ["vessel:view", "manifest:view"]
[role.inspector]
includes = ["deckhand"]
permissions = ["manifest:release"]
[role.pilot]
permissions = ["vessel:moor"]
[role.clerk]
permissions = ["manifest:amend"]
"#;

#[rstest]
// Names.
#[case::a_permission_misspelt(
    "[role.a]\npermissions = [«\"manifest:relase\"»]",
    "unknown permission \"manifest:relase\"; did you mean \"manifest:release\"?"
)]
#[case::a_permission_without_its_type(
    "[role.a]\npermissions = [«\"release\"»]",
    "\"release\" is not a permission: write type:action; did you mean \"manifest:release\"?"
)]
#[case::a_type_in_the_plural(
    "[role.a]\npermissions = [«\"manifests:view\"»]",
    "unknown permission \"manifests:view\"; did you mean \"manifest:view\"?"
)]
#[case::a_wildcard_over_a_type_misspelt(
    "[role.a]\npermissions = [«\"vesel:*\"»]",
    "unknown permission \"vesel:*\"; did you mean \"vessel:*\"?"
)]
#[case::everything_in_a_role(
    "[role.a]\npermissions = [«\"*\"»]",
    "\"*\" alone is allowed in deny rules only | name each type: \"manifest:*\", …"
)]
#[case::a_role_misspelt(
    "[role.a]\nincludes = [«\"inspecter\"»]\npermissions = [\"vessel:view\"]",
    "unknown role \"inspecter\"; did you mean \"inspector\"?"
)]
#[case::a_role_that_includes_itself(
    "[role.«a»]\nincludes = [\"a\"]\npermissions = [\"vessel:view\"]",
    "roles include one another: a -> a | take one of the inclusions out"
)]
#[case::capitals_in_a_key(
    "[role.«Harbour-Master»]\npermissions = [\"vessel:view\"]",
    "\"Harbour-Master\" is not a key: a to z, 0 to 9 and hyphens, a letter first, at most 64 | write harbour-master"
)]
#[case::an_underscore_in_a_key(
    "[role.«harbour_master»]\npermissions = [\"vessel:view\"]",
    "\"harbour_master\" is not a key: a to z, 0 to 9 and hyphens, a letter first, at most 64 | write harbour-master"
)]
#[case::an_application_nobody_declares(
    "[resource.berth]\napplication = «\"harbor\"»\nactions = { view = \"\" }",
    "unknown application \"harbor\" | there is \"customs\", \"quay\""
)]
#[case::a_key_misspelt(
    "[role.a]\n«permision» = [\"vessel:view\"]",
    "unknown key \"permision\" in [role.a]; did you mean \"permissions\"?"
)]
#[case::actions_as_a_list(
    "[resource.berth]\napplication = \"quay\"\nactions = «[\"view\"]»",
    "\"actions\" of [resource.berth] must be a table, not a list | write { key = value, … }"
)]
#[case::one_permission_without_brackets(
    "[role.a]\npermissions = «\"vessel:view\"»",
    "\"permissions\" of [role.a] must be a list, not a text | write [\"vessel:view\"]"
)]
#[case::no_permission_at_all(
    "[role.a]\npermissions = «[]»",
    "\"permissions\" of [role.a] is empty | leave the key out"
)]
#[case::within_what_is_no_type(
    "[resource.berth]\napplication = \"quay\"\nwithin = «\"harbour\"»\nactions = { view = \"\" }",
    "unknown type \"harbour\" | there is \"berth\", \"manifest\", \"tenant\", \"vessel\""
)]
#[case::a_name_that_is_kept(
    "[resource.«group»]\napplication = \"quay\"\nactions = { view = \"\" }",
    "\"group\" is reserved and cannot be declared as a type"
)]
#[case::twice_the_same("[role.«deckhand»]\npermissions = [\"vessel:moor\"]", "\"deckhand\" is defined twice")]
// Conditions.
#[case::one_equals_sign(
    "[role.a]\npermissions = [\"manifest:view\"]\nwhen = \"resource.hazard «=» 3\"",
    "unexpected \"=\" | write == to compare"
)]
#[case::signs_for_words(
    "[role.a]\npermissions = [\"manifest:view\"]\nwhen = \"resource.paid «&&» resource.hazard < 3\"",
    "unexpected \"&&\" | write and"
)]
#[case::an_exclamation_mark(
    "[role.a]\npermissions = [\"manifest:view\"]\nwhen = \"«!»resource.paid\"",
    "unexpected \"!\" | write not, or != to compare"
)]
#[case::double_quotes_within(
    "[role.a]\npermissions = [\"manifest:view\"]\nwhen = 'resource.line == «\"»NL\"'",
    "unexpected \"\\\"\" | texts stand in single quotes: 'quay'"
)]
#[case::a_text_left_open(
    "[role.a]\npermissions = [\"manifest:view\"]\nwhen = \"resource.line == «'NL»\"",
    "this text has no end | close it with '; a quote inside a text is doubled: 'it''s'"
)]
#[case::a_bracket_left_open(
    "[role.a]\npermissions = [\"manifest:view\"]\nwhen = \"(resource.paid and resource.hazard < 3«»\"",
    "expected \")\", found the end of the condition"
)]
#[case::an_attribute_by_its_sound(
    "[role.a]\npermissions = [\"manifest:view\"]\nwhen = \"resource.«payed»\"",
    "manifest has no \"payed\"; did you mean \"paid\"?"
)]
#[case::an_attribute_by_a_slip(
    "[role.a]\npermissions = [\"manifest:view\"]\nwhen = \"resource.«hszsrd» > 1\"",
    "manifest has no \"hszsrd\"; did you mean \"hazard\"?"
)]
#[case::an_attribute_of_another_type(
    "[role.a]\npermissions = [\"vessel:view\", \"manifest:view\"]\nwhen = \"resource.«hazard» < 3\"",
    "vessel declares no \"hazard\", and this condition can meet it | give the permissions of vessel a clause of their own, each with its own when"
)]
#[case::a_number_as_a_text(
    "[role.a]\npermissions = [\"manifest:view\"]\nwhen = \"«resource.hazard == '3'»\"",
    "an integer is compared with a text | numbers stand without quotes"
)]
#[case::an_order_on_texts(
    "[role.a]\npermissions = [\"manifest:view\"]\nwhen = \"«resource.line < 'NL'»\"",
    "there is no order on a text | texts are compared with ==, !=, in, starts, ends, contains and fits"
)]
#[case::a_value_there_is_not(
    "[role.a]\npermissions = [\"vessel:view\"]\nwhen = \"resource.flag == «'gren'»\"",
    "resource.flag is never 'gren'; did you mean \"green\"? | its values are: green, yellow"
)]
#[case::a_moment_as_a_text(
    "[role.a]\npermissions = [\"manifest:view\"]\nwhen = \"«resource.filed < '2026-01-01'»\"",
    "a time is compared with a text | write time('2026-01-01')"
)]
#[case::a_network_as_a_text(
    "[role.a]\npermissions = [\"manifest:view\"]\nwhen = \"context.ip in «['10.0.0.0/8']»\"",
    "an address is in a network or a list of them, not in a text | write address('10.0.0.0/8') for each"
)]
#[case::a_list_with_equals(
    "[role.a]\npermissions = [\"manifest:view\"]\nwhen = \"«resource.marks» == 'red'\"",
    "resource.marks is a list | write … in resource.marks, count(resource.marks), or overlaps"
)]
#[case::a_person_as_a_text(
    "[role.a]\npermissions = [\"manifest:view\"]\nwhen = \"«resource.declarant == 'user:ines'»\"",
    "a user is compared with a text | write entity('user:ines')"
)]
#[case::a_person_by_id(
    "[role.a]\npermissions = [\"manifest:view\"]\nwhen = \"«resource.declarant == subject.id»\"",
    "a user is compared with a text | compare with subject itself, without .id"
)]
#[case::in_a_list_that_holds_groups(
    "[role.a]\npermissions = [\"manifest:view\"]\nwhen = \"«subject in resource.reviewers»\"",
    "resource.reviewers may be a group, and subject in it would leave out the group's members | write among(subject, resource.reviewers)"
)]
#[case::a_comparison_of_three(
    "[role.a]\npermissions = [\"manifest:view\"]\nwhen = \"1 < resource.hazard «<» 3\"",
    "comparisons are not chained | write a < b and b < c"
)]
#[case::a_function_there_is_not(
    "[role.a]\npermissions = [\"manifest:view\"]\nwhen = \"«startswith»(resource.line, 'NL')\"",
    "unknown function \"startswith\"; did you mean \"starts\"?"
)]
#[case::a_role_as_a_name(
    "[role.a]\npermissions = [\"manifest:view\"]\nwhen = \"holds(«inspector»)\"",
    "what holds names is a text in single quotes | write 'inspector'"
)]
#[case::a_group_nobody_declares(
    "[role.a]\npermissions = [\"manifest:view\"]\nwhen = \"member(«'customs-dutty'»)\"",
    "unknown group \"customs-dutty\"; did you mean \"customs-duty\"? | groups that conditions name are declared: [group.customs-dutty]"
)]
#[case::a_root_there_is_not(
    "[role.a]\npermissions = [\"manifest:view\"]\nwhen = \"«user».clearance > 1\"",
    "unknown name \"user\" | a path starts at subject, resource, context, grant or now"
)]
#[case::a_grant_where_there_is_none(
    "[[rule]]\nkey = \"a\"\neffect = \"deny\"\npermissions = [\"manifest:view\"]\nwhen = \"«grant.line» == 'NL'\"",
    "grant can be read in a role's conditions only"
)]
#[case::a_zone_there_is_not(
    "[role.a]\npermissions = [\"manifest:view\"]\nwhen = \"hour(now, «'Lisbon'») < 8\"",
    "unknown time zone \"Lisbon\"; did you mean \"Europe/Lisbon\"?"
)]
// Rules and what stands beside roles.
#[case::an_open_door(
    "[[rule]]\nkey = «\"a\"»\neffect = \"allow\"\npermissions = [\"vessel:view\"]",
    "the allow rule \"a\" has no when and would open to everybody it reaches | add a when, or give a role instead"
)]
#[case::a_door_for_anyone(
    "[[rule]]\nkey = «\"a\"»\neffect = \"allow\"\npermissions = [\"vessel:view\"]\nwhen = \"resource.flag == 'green'\"\nfor = \"anyone\"",
    "\"a\" is for anyone, but \"vessel\" lies in a tenant, and anonymous is a member of none | leave `for` out, and it reaches the signed-in members of each \"vessel\"'s tenant; across-tenants = true would open every \"vessel\" of every tenant on which its when is true, to people of other tenants and to those who are not signed in"
)]
#[case::an_effect_there_is_not(
    "[[rule]]\nkey = \"a\"\neffect = «\"permit\"»\npermissions = [\"vessel:view\"]",
    "effect cannot be \"permit\" | write one of: allow, deny"
)]
#[case::a_rule_without_a_key(
    "«[[rule]]»\neffect = \"deny\"\npermissions = [\"vessel:view\"]",
    "a rule needs a key | add key = \"…\": answers name the rule by it"
)]
#[case::an_exception_that_takes_nothing(
    "[role.a]\npermissions = [\"vessel:view\"]\nexcept = [«\"vessel:moor\"»]",
    "\"vessel:moor\" takes nothing out: \"a\" does not give it | leave it out; an exception is not a deny"
)]
#[case::a_separation_of_one(
    "[[separation]]\nkey = «\"a\"»\nroles = [\"pilot\"]",
    "the separation \"a\" names fewer than two roles | name two roles or more"
)]
#[case::a_separation_within_one_role(
    "[[separation]]\nkey = «\"a\"»\nroles = [\"deckhand\", \"inspector\"]",
    "\"a\" separates \"deckhand\" from \"inspector\", but \"inspector\" includes both | whoever holds it could do nothing with it: take one of the two out of it"
)]
#[case::a_route_without_a_slash(
    "[[route]]\napplication = \"customs\"\nmethod = \"GET\"\npath = «\"manifests/{manifest}\"»\nneeds = [\"manifest:view\"]\nresource = \"manifest:{manifest}\"",
    "the path \"manifests/{manifest}\" does not begin with / | write it from the root"
)]
#[case::a_route_with_another_parameter(
    "[[route]]\napplication = \"customs\"\nmethod = \"GET\"\npath = \"/manifests/{id}\"\nneeds = [\"manifest:view\"]\nresource = «\"manifest:{manifest}\"»",
    "the path has no parameter \"manifest\" | what the resource is called must stand in the path"
)]
#[case::a_relation_that_leads_nowhere(
    "[[resource.manifest.confer]]\nrole = \"clerk\"\nto = { relation = \"«declarent»\" }",
    "manifest has no \"declarent\"; did you mean \"declarant\"?"
)]
fn each_is_told_at_its_place(#[case] lines: &str, #[case] said: &str) {
    let start = lines.find('«').expect("a place is marked");
    let end = lines.find('»').expect("a place is marked") - '«'.len_utf8();
    let text = format!("{CHARTER}{}", lines.replace(['«', '»'], ""));
    let sources = Sources::single("port.toml", &text);
    let reading = charter::read(&sources);
    let told: Vec<String> = reading
        .findings
        .iter()
        .map(|finding| {
            let help = finding.help.as_ref().map_or_else(String::new, |help| format!(" | {help}"));
            format!(
                "{:?} {}{help}",
                &text[finding.span.start as usize..finding.span.end as usize],
                finding.message
            )
        })
        .collect();
    let (start, end) = (CHARTER.len() + start, CHARTER.len() + end);
    let here = reading
        .findings
        .iter()
        .find(|finding| (finding.span.start as usize, finding.span.end as usize) == (start, end));
    let here = here.unwrap_or_else(|| panic!("MISS {lines:?}\n{}", told.join("\n")));
    let help = here.help.as_ref().map_or_else(String::new, |help| format!(" | {help}"));
    assert_eq!(format!("{}{help}", here.message), said, "{}", told.join("\n"));
}
