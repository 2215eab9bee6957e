//! The client against a server that answers what the test wants, well and badly.

use ostrog_client::{Client, Error};
use serde_json::json;
use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::TcpListener;
use std::thread::JoinHandle;

/// Answers one request with a status and a body, and gives back what was asked.
fn answers(status: &str, body: &str) -> (String, JoinHandle<String>) {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = format!("http://{}", listener.local_addr().expect("an address"));
    let answer = format!(
        "HTTP/1.1 {status}\r\ncontent-type: application/json\r\ncontent-length: {}\r\nconnection: close\r\n\r\n{body}",
        body.len()
    );
    let asked = std::thread::spawn(move || {
        let (stream, _) = listener.accept().expect("a caller");
        let mut reader = BufReader::new(stream);
        let mut asked = String::new();
        let mut length = 0;
        loop {
            let mut line = String::new();
            reader.read_line(&mut line).expect("readable");
            if let Some((_, value)) = line.to_lowercase().split_once("content-length: ") {
                length = value.trim().parse().expect("a number");
            }
            if line == "\r\n" {
                break;
            }
            asked.push_str(&line);
        }
        let mut body = vec![0; length];
        reader.read_exact(&mut body).expect("readable");
        asked.push_str(&String::from_utf8_lossy(&body));
        reader.get_mut().write_all(answer.as_bytes()).expect("written");
        asked
    });
    (address, asked)
}

#[tokio::test]
async fn it_asks_in_the_shape_of_the_protocol() {
    let (address, asked) = answers("200 OK", r#"{"decision":true,"context":{"reason":"role:inspector"}}"#);
    let client = Client::new(&format!("{address}/"), " key-text \n").expect("an address");
    let answer =
        client.evaluate("user:ines", "manifest:release", Some("manifest:m:204")).await.expect("an answer");
    assert!(answer.decision && answer.context.reason.as_deref() == Some("role:inspector"));
    let asked = asked.join().expect("asked");
    assert!(asked.starts_with("POST /access/v1/evaluation HTTP/1.1\r\n"), "{asked}");
    assert!(asked.to_lowercase().contains("authorization: bearer key-text\r\n"));
    let body = &asked[asked.find('{').expect("a body")..];
    let expected = json!({ "subject": { "type": "user", "id": "ines" }, "action": { "name": "release" }, "resource": { "type": "manifest", "id": "m:204" } });
    assert_eq!(serde_json::from_str::<serde_json::Value>(body).expect("JSON"), expected);
}

#[tokio::test]
async fn anonymous_and_new_ones_have_no_id() {
    let (address, asked) = answers("200 OK", r#"{"decision":false}"#);
    let client = Client::new(&address, "k").expect("an address");
    assert!(!client.evaluate("anonymous", "notice:view", None).await.expect("an answer").decision);
    let asked = asked.join().expect("asked");
    assert!(
        asked.ends_with(
            r#"{"subject":{"type":"anonymous"},"action":{"name":"view"},"resource":{"type":"notice"}}"#
        ),
        "{asked}"
    );
}

#[tokio::test]
async fn names_are_encoded_in_addresses() {
    let (address, asked) = answers(
        "200 OK",
        r#"{"entity":{"entity":"user:x"},"groups":[],"grants":[],"contents":[],"tag":"","position":1}"#,
    );
    let client = Client::new(&address, "k").expect("an address");
    client.entity("user:../a?b#c/é").await.expect("an answer");
    let asked = asked.join().expect("asked");
    assert!(asked.starts_with("GET /api/v1/entities/user:..%2Fa%3Fb%23c%2F%C3%A9 HTTP/1.1"), "{asked}");
}

#[tokio::test]
async fn everything_but_an_answer_is_an_error_and_never_an_allow() {
    let problem = r#"{"type":"urn:ostrog:problem:invalid","title":"x","status":422,"detail":"Nothing was changed.","errors":[{"at":"3","detail":"no"}]}"#;
    let (address, _) = answers("422 Unprocessable Entity", problem);
    let error = Client::new(&address, "k")
        .expect("an address")
        .end_grant("g-1", Some("a mistake"))
        .await
        .expect_err("is refused");
    let Error::Refused(problem) = &error else { panic!("{error:?}") };
    assert_eq!(
        (problem.status, problem.errors[0].at.as_str(), error.to_string().as_str()),
        (422, "3", "Nothing was changed.")
    );

    for (status, body) in [
        ("200 OK", ""),
        ("200 OK", "{}"),
        ("200 OK", r#"{"decision":"yes"}"#),
        ("200 OK", r#"{"decision":true"#),
        ("500 Internal Server Error", "<html>"),
        ("302 Found", ""),
        ("204 No Content", ""),
    ] {
        let (address, _) = answers(status, body);
        let client = Client::new(&address, "k").expect("an address");
        let error = client.evaluate("user:ines", "manifest:release", None).await.expect_err("is no answer");
        assert!(matches!(error, Error::Unreadable(_) | Error::Unreachable(_)), "{status} {body}: {error:?}");
    }
    let unreachable = Client::new("http://127.0.0.1:9", "k").expect("an address");
    assert!(matches!(unreachable.evaluate("user:ines", "a:b", None).await, Err(Error::Unreachable(_))));
    assert!(matches!(Client::new("127.0.0.1:7423", "k"), Err(Error::Unusable(_))));
    assert!(!format!("{unreachable:?}").contains("\"k\""), "a key in Debug");
}
