//! Issuers and tokens on the command line, offline and live.

mod support;

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use rstest::rstest;
use serde_json::{Value, json};
use std::io::Write as _;
use std::process::{Command, Output, Stdio};
use support::{Service, folder, ostrog};

const OFFLINE: [&str; 4] = ["--charter", "demo/harbour", "--register", "demo/register.ndjson"];

fn run(command: &mut Command, input: &str) -> (i32, String, String) {
    let command = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = command.spawn().expect("starts");
    // One that misuses it reads nothing.
    let _ = child.stdin.take().expect("a pipe").write_all(input.as_bytes());
    let Output { status, stdout, stderr } = child.wait_with_output().expect("ends");
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).expect("UTF-8");
    (status.code().expect("ends by itself"), text(stdout), text(stderr))
}

/// A token that nobody signed.
fn token(claims: &Value) -> String {
    let part = |value: &Value| URL_SAFE_NO_PAD.encode(value.to_string());
    format!("{}.{}.AA", part(&json!({ "alg": "ES256" })), part(claims))
}

#[test]
fn a_token_is_read_from_standard_input_and_held_beside_the_register() {
    let claims = json!({ "sub": "rui", "org": ["northline", "elsewhere"], "groups": ["Customs Night", "Cleaning"],
                         "sid": "s-1", "exp": 1_795_831_624 });
    let header = format!("Authorization: Bearer {}\n", token(&claims));
    let (code, out, err) = run(ostrog().args(["token", "read"]).args(OFFLINE), &header);
    assert_eq!((code, err.as_str()), (0, "offline, demo/harbour\n"), "{out}");
    for told in [
        "exp = 1795831624  (2026-11-28T02:07:04Z)",
        "not verified: no keys to hold it against",
        "it names user:rui",
        "tenant:elsewhere",
        "this issuer may not vouch for it",
        "\"Cleaning\" stands for no group",
        "manifest:view on manifest:m-204",
        "role:inspector",
    ] {
        assert!(out.contains(told), "{told}: {out}");
    }
    let with_key = folder();
    let keys = with_key.path().join("keys.json");
    let jwk = json!({ "kty": "EC", "crv": "P-256", "x": "f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU",
                      "y": "x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0" });
    std::fs::write(&keys, json!({ "keys": [jwk] }).to_string()).expect("written");
    let mut held = ostrog();
    held.args(["token", "read", "--output", "json", "--jwks"]).arg(&keys).args(OFFLINE);
    let claims = json!({ "iss": "x", "sub": "rui", "exp": 4_000_000_000_i64 });
    let (code, out, _) = run(&mut held, &token(&claims));
    let told: Value = serde_json::from_str(&out).expect("JSON");
    assert_eq!((code, &told["verified"]), (1, &json!(false)));
    assert_eq!(told["words"], "its signature is not by its issuer's key");
}

#[rstest]
#[case::nothing("", 1, "its claims cannot be read")]
#[case::no_token("hello", 1, "its claims cannot be read")]
#[case::nobody(&token(&json!({ "sub": "group:night" })), 1, "it begins with group:")]
#[case::no_subject(&token(&json!({})), 1, "the claim \"sub\" names nobody")]
fn what_is_no_token_of_anybody_is_told(#[case] text: &str, #[case] code: i32, #[case] why: &str) {
    let found = run(ostrog().args(["token", "read"]).args(OFFLINE), text);
    assert_eq!(found.0, code, "{found:?}");
    assert!(found.1.contains(why), "{found:?}");
}

#[test]
fn an_issuer_is_added_listed_tried_and_ended() {
    let folder = folder();
    let service = Service::demo(folder.path());
    let issuer = |arguments: &[&str]| run(service.ostrog().arg("issuer").args(arguments), "");
    let at = "http://127.0.0.1:9";
    let (code, _, err) =
        issuer(&["add", "port-id", "--url", at, "--audience", "customs=https://customs.example"]);
    assert_eq!((code, err.as_str()), (0, "port-id is set up\n"));
    let (code, out, _) = issuer(&["list"]);
    assert_eq!(code, 0);
    assert!(out.contains("customs=https://customs.example") && out.contains("yes"), "{out}");
    // Nobody answers there: it says at which step.
    let (code, _, err) = issuer(&["try", "port-id"]);
    assert_eq!(code, 1, "{err}");
    assert!(
        err.contains("ask where its keys are: no; neither document could be had: nobody answers"),
        "{err}"
    );
    let (code, _, err) =
        issuer(&["add", "town-id", "--url", "http://town.example", "--audience", "customs=x"]);
    assert_eq!(code, 3, "{err}");
    assert!(err.contains("plain http is for loopback only"), "{err}");
    let (code, _, err) =
        issuer(&["add", "town-id", "--url", "https://town.example", "--audience", "customs"]);
    assert_eq!(code, 2, "{err}");
    assert!(err.contains("--audience takes APP=AUD"), "{err}");
    // A token it cannot verify is refused, and why is told.
    let claims =
        json!({ "iss": at, "aud": "https://customs.example", "sub": "ines", "exp": 4_000_000_000_i64 });
    let (code, out, _) = run(service.ostrog().args(["token", "read"]), &token(&claims));
    assert_eq!(code, 1, "{out}");
    assert!(out.contains("it is refused: the keys of its issuer cannot be had now"), "{out}");
    assert_eq!(issuer(&["end", "port-id"]).0, 0);
    assert_eq!(issuer(&["end", "port-id"]).0, 3);
}
