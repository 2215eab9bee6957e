//! What documents come to: small ones line by line, large ones by what holds for all.
//!
//! `OSTROG_IMPORTS=20000` throws that many documents instead of a few hundred.

#![allow(clippy::disallowed_methods, reason = "how many documents are thrown is an option of the test")]

use ostrog_core::decide::in_force::Under;
use ostrog_core::import::{Choice, Options, Plan, plan};
use ostrog_core::prelude::*;

const SMALL: &str = include_str!("data/openapi/small.txt");
const CHARTER: &str = "[charter]\nname = \"Port\"\nformat = 1\n";

/// A document's head is written here once.
fn document(text: &str) -> String {
    match text.starts_with('{') {
        true => text.to_owned(),
        false => format!("openapi: 3.1.0\ninfo: {{ title: Portal, version: '1' }}\n{text}"),
    }
}

/// The files of a charter of nothing else.
fn files(plan: &Plan) -> Sources {
    let mut files = plan.write(&Choice::default(), None).expect("is written");
    files.push(SourceFile { path: "charter.toml".to_owned(), text: CHARTER.to_owned() });
    Sources::new(files)
}

/// What a draft means, which always checks and is tidy.
fn policy(sources: &Sources) -> Policy {
    let reading = charter::read(sources);
    let told: Vec<String> = reading.findings.iter().map(|finding| sources.render(finding)).collect();
    for file in sources.files() {
        assert_eq!(charter::tidy::tidy(&file.text).as_ref(), Ok(&file.text), "{} is tidy", file.path);
    }
    reading.policy.unwrap_or_else(|| panic!("{}", told.join("\n")))
}

/// What a plan comes to, line by line.
fn lines(made: &Plan) -> Vec<String> {
    let sources = files(made);
    let policy = policy(&sources);
    let model = policy.model();
    let route = |route: &charter::model::Route| {
        let (needs, of) = route.needs.told(model);
        let needs = if needs.is_empty() { of } else { format!("{} of {of}", needs.join(", ")) };
        format!("{} {}: {needs}", route.method, route.path())
    };
    model.routes.iter().map(route).collect()
}

#[test]
fn small_documents_come_to_what_is_said_of_them() {
    let mut wrong = Vec::new();
    let mut count = 0;
    for block in SMALL.split("=== ").filter(|block| !block.trim().is_empty()) {
        count += 1;
        let (name, rest) = block.split_once('\n').expect("a name");
        let (text, wanted) = rest.split_once("---\n").expect("an end");
        let wanted: Vec<&str> = wanted.lines().filter(|line| !line.is_empty()).collect();
        let made = plan(&document(text), &Options { application: "portal", ..Options::default() });
        let mut say = |what: String| wrong.push(format!("{name}: {what}"));
        let made = match (made, wanted.iter().find_map(|line| line.strip_prefix("error "))) {
            (Ok(made), None) => made,
            (Err(error), Some(words)) => {
                if !error.to_string().contains(words) {
                    say(format!("{words} is not in {error}"));
                }
                continue;
            }
            (Ok(_), Some(words)) => {
                say(format!("is taken, for all of {words}"));
                continue;
            }
            (Err(error), None) => {
                say(error.to_string());
                continue;
            }
        };
        let is_route = |line: &&&str| {
            let method = line.split(' ').next().unwrap_or_default();
            method.len() > 2 && method.chars().all(char::is_uppercase)
        };
        let mut routes: Vec<String> = wanted.iter().filter(is_route).map(|line| (*line).to_owned()).collect();
        let mut found = lines(&made);
        routes.sort();
        found.sort();
        if routes != found {
            say(format!("\n  wanted {}\n  found  {}", routes.join("\n         "), found.join("\n         ")));
        }
        let whole: String = made.pieces.iter().map(|piece| piece.text.as_str()).collect();
        let left: Vec<String> = made.left.iter().map(ToString::to_string).collect();
        let sources = files(&made);
        let policy = policy(&sources);
        let model = policy.model();
        for line in wanted.iter().filter(|line| !is_route(line)) {
            let (kind, words) = line.split_once(' ').expect("a kind");
            let holds = match kind {
                "note" => whole.contains(words),
                "left" => left.iter().any(|line| line.contains(words)),
                "type" => {
                    let (key, within) = words.split_once(" within ").expect("a place");
                    let kind = model.kinds.iter().find(|kind| kind.key == key);
                    let outer = |kind: &charter::model::Kind| {
                        let mut all: Vec<&str> =
                            kind.within.iter().map(|id| model.kinds[id.index()].key.as_str()).collect();
                        all.sort_unstable();
                        all.join(", ")
                    };
                    kind.map(outer).as_deref() == Some(within)
                }
                "role" if words.ends_with(" none") => {
                    !whole.contains(&format!("[role.{}]", words.trim_end_matches(" none")))
                }
                "role" => {
                    let (key, gives) = words.split_once(" = ").expect("permissions");
                    let piece = made.pieces.iter().find(|piece| piece.key == key);
                    piece.is_some_and(|piece| piece.permissions.join(", ") == gives)
                }
                other => panic!("{other} is no kind of line"),
            };
            if !holds {
                say(format!("{line}\n{whole}\n{}", left.join("\n")));
            }
        }
    }
    assert!(count >= 45, "{count} documents");
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
}

// -- what holds for every document ---------------------------------------------------------------

use ostrog_core::charter::model::Needs;
use ostrog_core::import::{About, Standing};
use ostrog_core::routes::{Outcome, Path, taken};
use rstest::rstest;
use serde_json::{Map, Value, json};
use std::collections::BTreeSet;
use std::sync::Arc;

/// An operation as this test reads it: by itself, and not as the import does.
struct Asked {
    method: String,
    path: String,
    /// `None` if the document asks for nothing.
    scopes: Option<Vec<BTreeSet<String>>>,
}

/// What a document asks of whoever calls, read once more.
fn asked(document: &Value) -> Vec<Asked> {
    let mut all = Vec::new();
    for (path, item) in document["paths"].as_object().expect("paths") {
        for (method, operation) in item.as_object().expect("an item") {
            let own = operation.get("security");
            let said = own.or(document.get("security"));
            let reads = matches!(method.as_str(), "get" | "head" | "options");
            let ways = said.map(|said| {
                let ways = said.as_array().expect("a list").iter();
                ways.map(|way| {
                    let schemes = way.as_object().expect("schemes").values();
                    schemes
                        .flat_map(|names| names.as_array().expect("names"))
                        .map(|name| name.as_str().expect("a name").to_owned())
                        .collect()
                })
                .collect::<Vec<BTreeSet<String>>>()
            });
            let nothing = ways.as_ref().is_some_and(Vec::is_empty) && (own.is_some() || reads);
            all.push(Asked {
                method: method.to_uppercase(),
                path: path.clone(),
                scopes: (!nothing).then(|| ways.unwrap_or_default()),
            });
        }
    }
    all
}

/// A request to an operation: its parameters filled with what stands nowhere else.
fn target(path: &str) -> Option<Path> {
    let mut out = String::new();
    let mut rest = path.split(['?', '#']).next().unwrap_or_default();
    let mut count = 0;
    while let Some((before, after)) = rest.split_once('{') {
        count += 1;
        let (inner, after) = after.split_once('}')?;
        let filled = format!("x{count}x");
        out.push_str(before);
        out.push_str(
            &inner.split_once('=').map_or(filled.clone(), |(_, pattern)| pattern.replace('*', &filled)),
        );
        rest = after;
    }
    Path::read(&(out + rest)).ok()
}

/// What holds for every draft, whatever the document.
fn holds(document: &Value) -> Result<Plan, String> {
    let text = document.to_string();
    let options = Options { application: "portal", ..Options::default() };
    let made = plan(&text, &options).map_err(|error| error.to_string())?;
    let sources = files(&made);
    let policy = Arc::new(policy(&sources));
    let model = policy.model();

    // Again it changes nothing, and says the same.
    let again =
        plan(&text, &Options { beside: Some(&sources), ..options }).map_err(|error| error.to_string())?;
    let moved: Vec<String> = again
        .pieces
        .iter()
        .filter(|piece| piece.standing != Standing::Same)
        .map(|piece| format!("{piece:?}"))
        .collect();
    if !moved.is_empty() {
        return Err(format!("again: {}", moved.join("\n")));
    }
    if again.write(&Choice::default(), Some(&sources)) != Ok(Vec::new()) {
        return Err("again something is written".to_owned());
    }

    // Nobody is let in whom the document does not let in.
    let world = World::new(Arc::clone(&policy), ostrog_core::register::Register::default());
    let request = Request { subject: "user:nobody".into(), permission: String::new(), ..Request::default() };
    let left: BTreeSet<&str> = made.left.iter().map(|left| left.what.as_str()).collect();
    let roles: Vec<(BTreeSet<String>, BTreeSet<&str>)> = made
        .pieces
        .iter()
        .filter(|piece| piece.about == About::Role && piece.key.starts_with("portal-scope-"))
        .map(|piece| {
            let name = piece
                .text
                .split("name = \"Scope ")
                .nth(1)
                .and_then(|rest| rest.split('"').next())
                .unwrap_or_default();
            (
                name.split(" and ").map(str::to_owned).collect(),
                piece.permissions.iter().map(String::as_str).collect(),
            )
        })
        .collect();
    for one in asked(document) {
        let place = format!("{} {}", one.method, one.path);
        let Some(path) = target(&one.path) else { continue };
        let found = taken(model, "portal", &one.method, &path);
        let Some(found) = found else {
            if !left.contains(place.as_str()) {
                return Err(format!("{place} has no route, and nothing says so"));
            }
            continue;
        };
        if left.contains(place.as_str()) && found.route.needs != Needs::Refused {
            return Err(format!("{place} is left out, and {} lets it in", found.route.path()));
        }
        let asked = {
            let under = |_: &str| Under::one(world.engine(), &request);
            found.ask(model, &under, &request, jiff::Timestamp::UNIX_EPOCH, &mut || true)
        };
        let (outcome, _) = asked.map_err(|wrong| wrong.to_string())?;
        match (&one.scopes, &outcome) {
            (Some(_), Outcome::Open | Outcome::Allowed) => return Err(format!("{place} lets anybody in")),
            (None, Outcome::Allowed) => {
                return Err(format!("{place} lets somebody in by a role that nobody has"));
            }
            _ => {}
        }
        // Whoever has the role of some scopes gets no further than with those.
        let Needs::All(_) = &found.route.needs else { continue };
        let (needs, _) = found.route.needs.told(model);
        let ways = one.scopes.unwrap_or_default();
        for (scopes, gives) in &roles {
            let enough = ways.is_empty() || ways.iter().any(|way| way.is_subset(scopes));
            if needs.iter().all(|need| gives.contains(need.as_str())) && !enough {
                return Err(format!("{place} is let in by {scopes:?}, and asks for {ways:?}"));
            }
        }
    }
    Ok(made)
}

#[test]
fn what_stands_ready_as_a_comment_is_a_role_once_its_marks_are_off() {
    let text = document("paths:\n  /tides/{tide}: { get: { security: [{}, { basic: [] }] } }\n");
    let made = plan(&text, &Options { application: "portal", ..Options::default() }).expect("is taken");
    let sources = files(&made);
    let bare = |text: &str| {
        let (before, role) = text.split_once("# [role.portal-anyone]").expect("a role");
        let (role, after) = role.split_once("# ]").expect("its end");
        format!("{before}[role.portal-anyone]{}]{after}", role.replace("\n# ", "\n"))
    };
    let all = sources.files().iter().map(|file| SourceFile {
        path: file.path.clone(),
        text: if file.path == "portal.toml" { bare(&file.text) } else { file.text.clone() },
    });
    let reading = charter::read(&Sources::new(all.collect()));
    assert!(reading.policy.is_some(), "{:?}", reading.findings);
}

#[test]
fn what_is_left_out_takes_along_what_names_it_and_lets_nobody_in() {
    for seed in 0..25 {
        let text = thrown(seed).to_string();
        let made = plan(&text, &Options { application: "portal", ..Options::default() }).expect("is taken");
        for piece in
            made.pieces.iter().filter(|piece| matches!(piece.about, About::Type | About::Role | About::Route))
        {
            let choice = Choice { without: [piece.id()].into(), ..Choice::default() };
            let mut files = made.write(&choice, None).expect("is written");
            files.push(SourceFile { path: "charter.toml".to_owned(), text: CHARTER.to_owned() });
            let policy = policy(&Sources::new(files));
            let whole = policy.model().routes.len();
            assert_eq!(
                whole,
                made.pieces.iter().filter(|piece| piece.about == About::Route).count(),
                "seed {seed}"
            );
            if piece.about == About::Route {
                let (method, path) = piece.key.split_once(' ').expect("a path");
                let route =
                    policy.model().routes.iter().find(|route| route.method == method && route.path() == path);
                assert_eq!(
                    route.map(|route| &route.needs),
                    Some(&Needs::Refused),
                    "seed {seed}: {}",
                    piece.key
                );
            }
        }
    }
}

#[test]
fn whatever_is_chosen_of_the_next_version_leaves_a_charter() {
    // Text around a parameter may cross what was written by hand: that is told by the check.
    let bare = |seed| {
        let mut document = thrown(seed);
        let paths = document["paths"].as_object_mut().expect("paths");
        paths.retain(|path, _| {
            path.split('/').all(|part| !part.contains('{') || part.starts_with('{') && part.ends_with('}'))
        });
        document.to_string()
    };
    let options = Options { application: "portal", ..Options::default() };
    for seed in 0..120 {
        let before = files(&plan(&bare(seed), &options).expect("is taken"));
        let next = bare(seed + 5_000);
        let next = plan(&next, &Options { beside: Some(&before), ..options }).expect("is compared");
        for only in [
            vec![Standing::New],
            vec![Standing::New, Standing::Gone],
            vec![Standing::Changed],
            vec![Standing::New, Standing::Changed],
        ] {
            let choice = Choice { only: only.into_iter().collect(), ..Choice::default() };
            let written = next.write(&choice, Some(&before)).expect("is written");
            let mut all: Vec<SourceFile> = before.files().to_vec();
            for file in written {
                all.retain(|known| known.path != file.path);
                all.push(file);
            }
            let sources = Sources::new(all);
            let reading = charter::read(&sources);
            let told: Vec<String> = reading.findings.iter().map(|finding| sources.render(finding)).collect();
            assert!(reading.policy.is_some(), "seed {seed}, {:?}: {}", choice.only, told.join("\n"));
        }
    }
}

/// Throws dice for a document: few words, so that they meet.
fn thrown(seed: u64) -> Value {
    const THINGS: [&str; 9] =
        ["vessels", "berths", "crew", "users", "tenants", "series", "admin", "v1", "by-name"];
    const DONE: [&str; 7] = ["release", "search", "keys", "state", "purge", "bulk-load", "new"];
    const PARAMETERS: [&str; 12] = [
        "{id}",
        "{vessel}",
        "{slug}",
        "{berth_id}",
        "{a}-{b}",
        "{id}:move",
        "r-{n}.pdf",
        "{n}.pdf",
        "{path+}",
        "p{n}",
        "pp{n}",
        "{n}q",
    ];
    const METHODS: [&str; 6] = ["get", "head", "put", "post", "delete", "patch"];
    const IDS: [&str; 6] =
        ["listVessels", "deleteThing", "searchBerths", "makeOne", "confirmBooking", "getAccessToken"];
    let mut dice = fastrand::Rng::with_seed(seed);
    let security = |dice: &mut fastrand::Rng| match dice.u8(0..10) {
        0 | 1 => json!([]),
        2 => json!([{}, { "key": [] }]),
        3 => json!([{ "key": [] }]),
        4 => json!([{ "oauth": ["read"] }]),
        5 => json!([{ "oauth": ["read", "write"] }]),
        6 => json!([{ "oauth": ["write"] }, { "oauth": ["all"] }]),
        _ => json!([{ "oauth": ["write"] }]),
    };
    let mut paths = Map::new();
    for _ in 0..dice.usize(1..14) {
        let mut path = String::new();
        for _ in 0..dice.usize(1..4) {
            path.push('/');
            path.push_str(match dice.u8(0..8) {
                0..4 => THINGS[dice.usize(..THINGS.len())],
                4 => DONE[dice.usize(..DONE.len())],
                _ => PARAMETERS[dice.usize(..PARAMETERS.len())],
            });
        }
        let item = paths.entry(path).or_insert_with(|| json!({}));
        for _ in 0..dice.usize(1..3) {
            let mut operation = json!({});
            if dice.bool() {
                operation["security"] = security(&mut dice);
            }
            if dice.u8(0..3) == 0 {
                operation["operationId"] = IDS[dice.usize(..IDS.len())].into();
            }
            item[METHODS[dice.usize(..METHODS.len())]] = operation;
        }
    }
    let mut document =
        json!({ "openapi": "3.0.3", "info": { "title": "Thrown", "version": "1" }, "paths": paths });
    if dice.bool() {
        document["security"] = security(&mut dice);
    }
    document
}

#[test]
fn no_document_lets_in_whom_it_does_not_mean() {
    let count = std::env::var("OSTROG_IMPORTS").ok().and_then(|count| count.parse().ok()).unwrap_or(400);
    for seed in 0..count {
        let document = thrown(seed);
        if let Err(why) = holds(&document) {
            panic!("seed {seed}: {why}\n{document:#}");
        }
    }
}

/// The port in five styles of interface, two hundred operations and more each.
fn large(style: &str) -> Value {
    const THINGS: [(&str, &str); 12] = [
        ("vessels", "moor"),
        ("berths", "close"),
        ("cranes", "lift"),
        ("manifests", "release"),
        ("containers", "seal"),
        ("inspections", "schedule"),
        ("bookings", "confirm"),
        ("invoices", "settle"),
        ("pilots", "assign"),
        ("tugs", "dispatch"),
        ("permits", "revoke"),
        ("notices", "publish"),
    ];
    let one = |many: &str| many.trim_end_matches('s').to_owned();
    let mut paths = Map::new();
    let mut add = |path: String, methods: &[&str]| {
        let item = paths.entry(path).or_insert_with(|| json!({}));
        for method in methods {
            item[*method] = json!({ "summary": "One of **many**", "security": [{ "oauth": [format!("port.{}", if *method == "get" { "read" } else { "write" })] }] });
        }
    };
    for (at, (things, done)) in THINGS.iter().enumerate() {
        let (thing, part) = (one(things), THINGS[(at + 5) % THINGS.len()].0);
        let of_part = one(part);
        match style {
            "nested" => {
                add(format!("/{things}"), &["get", "post"]);
                add(format!("/{things}/{{{thing}_id}}"), &["get", "put", "patch", "delete"]);
                add(format!("/{things}/{{{thing}_id}}/{part}"), &["get", "post", "delete"]);
                add(format!("/{things}/{{{thing}_id}}/{part}/{{{of_part}_id}}"), &["get", "put", "delete"]);
                add(format!("/{things}/{{{thing}_id}}/{part}/{{{of_part}_id}}/notes"), &["get", "post"]);
                add(
                    format!("/{things}/{{{thing}_id}}/{part}/{{{of_part}_id}}/notes/{{number}}"),
                    &["get", "patch", "delete"],
                );
            }
            "methods" => {
                let name = format!("/v2/{{name=ports/*/{things}/*}}");
                add(format!("/v2/{{parent=ports/*}}/{things}"), &["get", "post"]);
                add(name.clone(), &["get", "patch", "delete"]);
                for verb in [done, "archive", "restore", "export", "validate", "testAccess", "setPolicy"] {
                    add(format!("{name}:{verb}"), &["post"]);
                }
                add(format!("/v2/{{parent=ports/*}}/{things}:batchLoad"), &["post"]);
                add(format!("/v2/{{parent=ports/*}}/{things}:search"), &["get"]);
                add(format!("{name}/policy"), &["get"]);
                add(format!("/v2/{{name=ports/*/{things}/*/versions/*}}"), &["get", "delete"]);
            }
            "spaces" => {
                for space in ["rest/api/3", "rest/api/3/admin", "rest/harbour/1.0"] {
                    add(format!("/{space}/{things}"), &["get", "post"]);
                    add(format!("/{space}/{things}/{{id}}"), &["get", "put", "delete"]);
                    add(format!("/{space}/{things}/{{id}}/{done}"), &["post"]);
                }
                add(format!("/rest/api/3/settings/{things}"), &["get", "put"]);
            }
            "versions" => {
                for version in ["v1", "v2", "2026-01"] {
                    add(format!("/api/{version}/{things}.json"), &["get"]);
                    add(format!("/api/{version}/{things}/{{id}}.json"), &["get", "put", "delete"]);
                    add(format!("/api/{version}/{things}/{{id}}/{part}.json"), &["get", "post"]);
                    add(format!("/api/{version}/{things}/{{id}}/{done}.json"), &["post"]);
                }
            }
            _ => {
                add(format!("/tenants/{{tenant}}/{things}"), &["get", "post"]);
                add(format!("/tenants/{{tenant}}/{things}/{{name}}"), &["get", "put", "delete"]);
                add(format!("/tenants/{{tenant}}/{things}/{{name}}/{done}"), &["post"]);
                add(
                    format!("/tenants/{{tenant}}/{things}/{{name}}/{part}/{{{of_part}}}"),
                    &["get", "patch", "delete"],
                );
                add(format!("/tenants/{{tenant}}/{things}/bulk"), &["post", "delete"]);
                add(
                    format!("/tenants/{{tenant}}/{things}/{{name}}/labels/{{label}}"),
                    &["get", "put", "delete"],
                );
                add(format!("/{things}/mine"), &["get", "put"]);
                add(format!("/{things}/{{{thing}_id}}/history"), &["get"]);
            }
        }
    }
    json!({ "openapi": "3.1.0", "info": { "title": "The port", "version": "1" }, "servers": [{ "url": "https://port.example/" }], "paths": paths })
}

#[rstest]
#[case("nested", "DELETE /vessels/{vessel_id}/inspections: vessel:remove-inspections of vessel:{vessel_id}")]
#[case("methods", "POST /v2/ports/{ports}/vessels/{vessels}:moor: vessel:moor of vessel:{ports}/{vessels}")]
#[case("spaces", "POST /rest/api/3/admin/permits/{id}/revoke: admin-permit:revoke of admin-permit:{id}")]
#[case("versions", "PUT /api/2026-01/cranes/{id}.json: crane:change of crane:{id}")]
#[case(
    "tenants",
    "PUT /tenants/{tenant}/cranes/{name}/labels/{label}: crane-label:change of crane-label:{tenant}/{name}/{label}"
)]
fn large_documents_are_mapped_nearly_whole(#[case] style: &str, #[case] among: &str) {
    let made = holds(&large(style)).expect("holds");
    assert!(made.operations >= 200, "{} operations", made.operations);
    assert!(made.mapped * 100 >= made.operations * 85, "{} of {} mapped", made.mapped, made.operations);
    let all = lines(&made);
    assert!(all.iter().any(|line| line == among), "{among} is not in\n{}", all.join("\n"));
}
