//! Routes on the command line: what is written, what a document has, and what a request comes to.

mod support;

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use rstest::rstest;
use serde_json::{Value, json};
use std::process::Output;
use support::{Service, folder, ostrog};

fn run(arguments: &[&str]) -> (i32, String, String) {
    let Output { status, stdout, stderr } = ostrog().arg("routes").args(arguments).output().expect("starts");
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).expect("UTF-8");
    (status.code().expect("ends by itself"), text(stdout), text(stderr))
}

const OFFLINE: [&str; 4] = ["--charter", "demo/harbour", "--register", "demo/register.ndjson"];

#[rstest]
#[case::allowed(&["GET", "/manifests/m-204", "--application", "customs", "--as", "user:ines"], 0, "allowed")]
#[case::denied(&["GET", "/manifests/m-204", "--application", "customs"], 1, "denied")]
#[case::head(&["HEAD", "/manifests/m-204", "--application", "customs", "--as", "user:ines"], 0, "takes GET /manifests/{manifest}")]
#[case::open(&["GET", "/tides?at=noon", "--application", "quay"], 0, "open")]
#[case::of_the_other(&["GET", "/tides", "--application", "customs"], 1, "unmapped")]
#[case::not_there(&["GET", "/manifests/m-0", "--application", "customs", "--as", "user:ines"], 1, "not-registered")]
#[case::two_readings(&["GET", "/manifests/%2e%2e/tides", "--application", "quay"], 1, "path-refused")]
fn a_request_comes_to(#[case] arguments: &[&str], #[case] expected: i32, #[case] told: &str) {
    let (code, out, err) = run(&[&["check"], arguments, &OFFLINE].concat());
    assert_eq!((code, err.as_str()), (expected, "offline, demo/harbour\n"), "{out}");
    assert!(out.contains(told), "{told}: {out}");
}

#[test]
fn a_token_says_who_asks_and_an_application_is_named() {
    let folder = folder();
    let file = folder.path().join("token");
    let part = |value: Value| URL_SAFE_NO_PAD.encode(value.to_string());
    let token =
        format!("{}.{}.AA", part(json!({ "alg": "ES256" })), part(json!({ "sub": "ines", "sid": "s" })));
    std::fs::write(&file, token).expect("written");
    let file = file.display().to_string();
    let check = ["check", "GET", "/manifests/m-204", "--token", &file, "--application", "customs"];
    let (code, out, _) = run(&[&check[..], &OFFLINE].concat());
    assert_eq!(code, 0, "{out}");
    let (code, _, err) = run(&[&["check", "GET", "/tides"], &OFFLINE[..]].concat());
    assert_eq!(code, 2, "{err}");
    assert!(err.contains("of which application? say one of agents, customs, quay"), "{err}");
}

#[test]
fn what_a_document_has_and_no_route_takes_is_told_and_live_is_what_is_written() {
    let folder = folder();
    let file = folder.path().join("api.json");
    let paths = json!({ "/manifests/{id}": { "get": {}, "delete": {} }, "/manifests": { "get": {} } });
    let document = json!({ "openapi": "3.1.0", "info": { "title": "Desk" }, "paths": paths });
    std::fs::write(&file, document.to_string()).expect("written");
    let file = file.display().to_string();
    let asked = ["list", "customs", "--document", &file, "--charter", "demo/harbour"];
    let (code, out, err) = run(&asked);
    assert_eq!(code, 1, "{err}");
    assert!(err.contains("3 operations, 1 unmapped"), "{err}");
    let unmapped: Vec<&str> = out.lines().filter(|line| line.contains("unmapped")).collect();
    assert!(unmapped.len() == 1 && unmapped[0].contains("DELETE"), "{out}");
    assert!(out.contains("manifest:open-page"), "{out}");

    let (code, written, _) = run(&["list", "--charter", "demo/harbour"]);
    assert_eq!(code, 0);
    let service = Service::demo(folder.path());
    let live = service.ostrog().args(["routes", "list"]).output().expect("starts");
    assert_eq!(String::from_utf8(live.stdout).expect("UTF-8"), written);
    let (code, _, err) = run(&["list", "desk", "--charter", "demo/harbour"]);
    assert!(code == 2 && err.contains("no application desk; it has agents, customs, quay"), "{code} {err}");
}
