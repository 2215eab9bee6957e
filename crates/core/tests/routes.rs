//! Paths that are read in one way only, routes that decide, and what they need.

use ostrog_core::decide::in_force::Under;
use ostrog_core::prelude::{Change, Checks, Policy, Request, Sources, World, Wrong, charter, line};
use ostrog_core::register::Register;
use ostrog_core::routes::{MAX_PATH_BYTES, Outcome, Path, PathRefused, route_of, taken};
use proptest::prelude::*;
use rstest::rstest;
use serde_json::json;
use std::sync::Arc;

const CHARTER: &str = r#"
[charter]
name = "Stores"
format = 1
[application.stores]
[resource.rack]
application = "stores"
within = "tenant"
actions = { view = "", fill = "" }
[resource.crate]
application = "stores"
within = "rack"
actions = { view = "", open = "" }
[role.keeper]
permissions = ["rack:*", "crate:view"]
[role.opener]
permissions = ["crate:open"]

[[route]]
application = "stores"
method = "GET"
path = "/racks/{rack}"
needs = ["rack:view"]
resource = "rack:{rack}"
[[route]]
application = "stores"
method = "GET"
path = "/racks/new"
refuse = true
[[route]]
application = "stores"
method = "HEAD"
path = "/racks/{rack}"
needs = ["rack:fill"]
resource = "rack:{rack}"
[[route]]
application = "stores"
method = "POST"
path = "/racks/{rack}:fill"
needs = ["rack:fill"]
resource = "rack:{rack}"
[[route]]
application = "stores"
method = "GET"
path = "/racks/{rack}/report-{crate}.pdf"
needs = [
  { permission = "rack:view", resource = "rack:{rack}" },
  { permission = "crate:view", resource = "crate:{rack}/{crate}" },
]
[[route]]
application = "stores"
method = "GET"
path = "/racks/{rack}/crates"
needs = ["crate:view", "crate:open"]
resource = { any = "crate", within = "rack:{rack}" }
[[route]]
application = "stores"
method = "POST"
path = "/racks/{rack}/crates"
needs = ["crate:open"]
resource = { new = "crate", within = "rack:{rack}" }
[[route]]
application = "stores"
method = "PUT"
path = "/crates/{rack}/{crate}"
needs = ["crate:open"]
resource = "crate:{rack}/{crate}"
unregistered = true
[[route]]
application = "stores"
method = "GET"
path = "/"
open = true
"#;

fn world() -> World {
    let sources = Sources::single("stores.toml", CHARTER);
    let reading = charter::read(&sources);
    let told: Vec<String> = reading.findings.iter().map(|finding| sources.render(finding)).collect();
    let policy: Arc<Policy> = Arc::new(reading.policy.unwrap_or_else(|| panic!("{}", told.join("\n"))));
    let mut world = World::new(policy, Register::default());
    let lines = [
        json!({ "entity": "tenant:north" }),
        json!({ "entity": "rack:r1", "within": "tenant:north" }),
        json!({ "entity": "rack:r2", "within": "tenant:north" }),
        json!({ "entity": "crate:r1/c1", "within": "rack:r1" }),
        json!({ "entity": "crate:r2/c2", "within": "rack:r2" }),
        json!({ "entity": "user:ada" }),
        json!({ "entity": "user:bo" }),
        json!({ "grant": { "role": "keeper", "to": "user:ada", "at": "tenant:north" } }),
        json!({ "grant": { "role": "opener", "to": "user:ada", "at": "crate:r2/c2" } }),
        json!({ "grant": { "role": "opener", "to": "user:bo", "at": "rack:r1" } }),
    ];
    let changes: Result<Vec<Change>, Wrong> = lines.iter().map(line::from_json).collect();
    world.apply_under(&changes.expect("lines"), Checks::of(&[])).expect("they fit");
    world
}

fn comes_to(world: &World, subject: &str, method: &str, target: &str) -> String {
    let path = match Path::read(target) {
        Ok(path) => path,
        Err(why) => return format!("path-refused: {why}"),
    };
    let Some(route) = taken(world.policy().model(), "stores", method, &path) else {
        return "unmapped".to_owned();
    };
    let request = Request { subject: subject.into(), ..Request::default() };
    let now = "2026-11-23T09:00:00Z".parse().expect("a moment");
    let under = |_: &str| Under::one(world.engine(), &request);
    let asked = route.ask(world.policy().model(), &under, &request, now, &mut || true);
    let (outcome, _) = asked.expect("it makes sense");
    match outcome {
        Outcome::Denied(reason) => format!("denied {reason}"),
        other => format!("{other:?}"),
    }
}

#[rstest]
#[case("ada", "GET", "/racks/r1", "Allowed")]
#[case("bo", "GET", "/racks/r1", "denied no-role")]
#[case("ada", "GET", "/racks/r1?any=thing", "Allowed")]
#[case::not_registered("ada", "GET", "/racks/r9", "denied not-registered")]
#[case::literal_beats_parameter("ada", "GET", "/racks/new", "Refused")]
#[case::head_has_one_of_its_own("ada", "HEAD", "/racks/r1", "Allowed")]
#[case::head_takes_what_is_more_literal("ada", "HEAD", "/racks/new", "Refused")]
#[case::head_takes_gets("ada", "HEAD", "/", "Open")]
#[case::text_behind("ada", "POST", "/racks/r1:fill", "Allowed")]
#[case::nothing_before_it("ada", "POST", "/racks/:fill", "unmapped")]
#[case::another_text("ada", "POST", "/racks/r1:empty", "unmapped")]
#[case::two_resources("ada", "GET", "/racks/r1/report-c1.pdf", "Allowed")]
#[case::one_of_two("bo", "GET", "/racks/r1/report-c1.pdf", "denied no-role")]
#[case::that_lies_elsewhere("ada", "GET", "/racks/r1/report-c2.pdf", "denied not-registered")]
#[case::one_for_which_all_are("ada", "GET", "/racks/r2/crates", "Allowed")]
#[case::not_one_for_each("ada", "GET", "/racks/r1/crates", "denied no-role")]
#[case::any_within_nothing("ada", "GET", "/racks/r9/crates", "denied not-registered")]
#[case::a_new_one("bo", "POST", "/racks/r1/crates", "Allowed")]
#[case::a_new_one_elsewhere("bo", "POST", "/racks/r2/crates", "denied no-role")]
#[case::a_new_one_in_nothing("bo", "POST", "/racks/r9/crates", "denied not-registered")]
#[case::unregistered_is_let("bo", "PUT", "/crates/r1/c9", "denied no-role")]
#[case::not_mapped("ada", "DELETE", "/racks/r1", "unmapped")]
#[case::another_path("ada", "GET", "/racks/r1/", "unmapped")]
#[case::case_counts("ada", "GET", "/Racks/r1", "unmapped")]
#[case::anonymous("", "GET", "/", "Open")]
fn requests(#[case] who: &str, #[case] method: &str, #[case] target: &str, #[case] expected: &str) {
    let subject = if who.is_empty() { "anonymous".to_owned() } else { format!("user:{who}") };
    assert_eq!(comes_to(&world(), &subject, method, target), expected);
}

/// What is asked for an operation is what each request to it is asked, if no other route takes it first.
#[rstest]
#[case("GET", "/racks/{id}", Some("GET /racks/{rack}"))]
#[case("HEAD", "/racks/{id}", Some("HEAD /racks/{rack}"))]
#[case("HEAD", "/racks/{rack}/crates", Some("GET /racks/{rack}/crates"))]
#[case("GET", "/racks/new", Some("GET /racks/new"))]
#[case("POST", "/racks/{id}:fill", Some("POST /racks/{rack}:fill"))]
#[case::wider_than_any_route("POST", "/racks/{id}", None)]
#[case("GET", "/racks/{id}/report-{number}-{page}.pdf", None)]
#[case("GET", "/racks/{id}/report-a{number}.pdf", Some("GET /racks/{rack}/report-{crate}.pdf"))]
#[case("DELETE", "/racks/{id}", None)]
#[case("GET", "racks/{id}", None)]
fn operations(#[case] method: &str, #[case] path: &str, #[case] expected: Option<&str>) {
    let world = world();
    let route = route_of(world.policy().model(), "stores", method, path);
    let told = route.map(|route| format!("{} {}", route.method, route.path()));
    assert_eq!(told.as_deref(), expected);
}

/// Where one parameter of an id ends and the next begins, a path says: else two would name one thing.
#[rstest]
#[case("crate:{rack}/{crate}", true)]
#[case("crate:{crate}", true)]
#[case("crate:{rack}-{crate}", false)]
#[case("crate:{rack}{crate}", false)]
fn parameters_of_an_id_are_kept_apart(#[case] resource: &str, #[case] is_apart: bool) {
    let (before, after) = ("\"crate:{rack}/{crate}\"\nunregistered", "\nunregistered");
    let text = CHARTER.replace(before, &format!("{resource:?}{after}"));
    let reading = charter::read(&Sources::single("stores.toml", &text));
    assert_eq!(reading.policy.is_some(), is_apart);
    let told = reading.findings.iter().any(|finding| finding.message.contains("keep its parameters apart"));
    assert_eq!(told, !is_apart);
}

#[rstest]
#[case("racks", PathRefused::NotFromTheRoot)]
#[case("http://elsewhere.example/racks", PathRefused::NotFromTheRoot)]
#[case("*", PathRefused::NotFromTheRoot)]
#[case("", PathRefused::NotFromTheRoot)]
#[case("//racks", PathRefused::Dots)]
#[case("/racks//r1", PathRefused::Dots)]
#[case("/racks/.", PathRefused::Dots)]
#[case("/racks/../r1", PathRefused::Dots)]
#[case("/racks/%2e%2e/r1", PathRefused::NeedlessEncoding)]
#[case("/racks/%72%31", PathRefused::NeedlessEncoding)]
#[case("/racks/r1%3afill", PathRefused::NeedlessEncoding)]
#[case("/racks/r1%2Fc1", PathRefused::Separator)]
#[case("/racks/r1%5cc1", PathRefused::Separator)]
#[case("/racks/r1;v=1", PathRefused::Separator)]
#[case("/racks/r1%3Bv=1", PathRefused::Separator)]
#[case("/racks/r1%2541", PathRefused::Separator)]
#[case("/racks/r1%00", PathRefused::Separator)]
#[case("/racks/r1%", PathRefused::BrokenEncoding)]
#[case("/racks/r1%4", PathRefused::BrokenEncoding)]
#[case("/racks/r1%zz", PathRefused::BrokenEncoding)]
#[case("/racks/%ff", PathRefused::NoText)]
#[case("/racks/r 1", PathRefused::NoText)]
#[case("/racks/caf\u{e9}", PathRefused::NoText)]
#[case("/racks/r1#part", PathRefused::NoText)]
#[case("/racks/cafe%CC%81", PathRefused::Decomposed)]
fn paths_that_could_be_read_otherwise(#[case] target: &str, #[case] why: PathRefused) {
    assert_eq!(Path::read(target), Err(why));
}

#[test]
fn paths_are_bounded() {
    assert_eq!(Path::read(&format!("/{}", "x".repeat(MAX_PATH_BYTES))), Err(PathRefused::TooLong));
    assert_eq!(Path::read(&"/x".repeat(65)), Err(PathRefused::TooLong));
    assert!(Path::read(&"/x".repeat(64)).is_ok());
}

/// How a typical upstream reads a path: decoded, doubled slashes and dots resolved.
fn upstream(target: &str) -> Option<Vec<String>> {
    let raw = target.split('?').next()?;
    let mut bytes = Vec::new();
    let mut rest = raw.as_bytes();
    while let Some((first, more)) = rest.split_first() {
        let hex = more.get(..2).and_then(|two| std::str::from_utf8(two).ok());
        match (first, hex.and_then(|two| u8::from_str_radix(two, 16).ok())) {
            (b'%', Some(byte)) => {
                bytes.push(byte);
                rest = &more[2..];
            }
            _ => {
                bytes.push(*first);
                rest = more;
            }
        }
    }
    let text = String::from_utf8(bytes).ok()?.replace('\\', "/");
    let mut all: Vec<String> = Vec::new();
    for part in text.split('/') {
        let part = part.split(';').next().unwrap_or_default();
        match part {
            "" | "." => {}
            ".." => drop(all.pop()),
            part => all.push(part.to_lowercase()),
        }
    }
    Some(all)
}

proptest! {
    /// Two targets that are read at all, and that an upstream takes for one, differ by case or a last slash only:
    /// what is read here is what it reads.
    #[test]
    fn what_is_read_is_what_an_upstream_reads(parts in prop::collection::vec(
        prop::sample::select(vec!["/", "racks", "r1", "%2e", "..", ".", "%2F", "\\", "%5c", ";x", "%3b", ":", "%3A", "%41", "a", "A",
            "%", "%25", "%2541", "é", "%C3%A9", "e%CC%81", "?q=/x", "+", "%20", "%00", "|", "%7C"]), 0..8)) {
        let target = format!("/{}", parts.concat());
        if let Ok(path) = Path::read(&target) {
            let canonical = path.canonical();
            prop_assert_eq!(Path::read(&canonical), Ok(path.clone()), "{} is read anew", canonical);
            let ours: Vec<String> =
                canonical.split('/').filter(|part| !part.is_empty()).map(str::to_owned).collect();
            let theirs = upstream(&target).expect("it is a text");
            let again = upstream(&canonical).expect("it is a text");
            prop_assert_eq!(&theirs, &again);
            prop_assert_eq!(ours.len(), theirs.len(), "{}: {:?}", target, theirs);
        }
    }
}
