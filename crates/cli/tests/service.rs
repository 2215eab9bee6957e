//! The real program on a loopback port, over a real database.

mod support;

use rstest::rstest;
use serde_json::{Value, json};
use std::io::{Read as _, Write as _};
use support::{Service, folder, signal};

#[tokio::test]
async fn decisions_over_the_network() {
    let folder = folder();
    let service = Service::demo(folder.path());
    let customs = service.customs.clone();

    let denied = service.evaluate(&customs, "user:ines", "release", "manifest:m-204").await;
    assert_eq!(denied, json!({ "decision": false, "context": { "reason": "condition" } }));
    let allowed = service.evaluate(&customs, "user:ines", "manifest:release", "manifest:m-205").await;
    assert_eq!(allowed, json!({ "decision": true, "context": { "reason": "role:inspector" } }));
    let own = service.evaluate(&customs, "user:tomas", "release", "manifest:m-204").await;
    assert_eq!(own["context"]["advice"]["step"], "second-inspector");
    assert_eq!(own["context"]["message"], "Nobody releases what they declared");

    // An application asks about its own types; what is not its own is as if it were not.
    let other = service.evaluate(&customs, "user:petra", "assign", "berth:b-1").await;
    assert_eq!(other, service.evaluate(&customs, "user:petra", "assign", "nothing:b-1").await);
    let operator = service.operator.clone();
    assert_eq!(service.evaluate(&operator, "user:petra", "assign", "berth:b-1").await["decision"], true);

    // A write is in force at once, and its position can be asked for.
    let (status, written) =
        service.post(&operator, "/api/v1/facts", &json!({ "set": ["user:ines.clearance = 5"] })).await;
    assert_eq!(status, 200, "{written}");
    let position = written["position"].as_str().expect("a position");
    let question = json!({ "subject": { "type": "user", "id": "ines" }, "action": { "name": "release" }, "resource": { "type": "manifest", "id": "m-204" }, "context": { "explain": true } });
    let request = |position: &str| {
        service
            .http()
            .post(format!("{}/access/v1/evaluation", service.url))
            .bearer_auth(&customs)
            .header("ostrog-min-position", position)
            .json(&question)
    };
    let (status, answer) = service.send(request(position)).await;
    assert_eq!((status, &answer["decision"]), (200, &json!(true)));
    assert_eq!(answer["context"]["explanation"]["way"][0]["name"], "user:ines");
    let (epoch, n) = position.split_once('.').expect("epoch.n");
    assert_eq!(
        service.send(request(&format!("{epoch}.{}", n.parse::<i64>().expect("a number") + 1))).await.0,
        503
    );
    assert_eq!(service.send(request(&format!("other.{n}"))).await.0, 503);
    assert_eq!(service.send(request("soon")).await.0, 400);

    batches(&service, &customs).await;
    let (status, configuration) = service.get("/.well-known/authzen-configuration").await;
    assert_eq!(
        (status, configuration["access_evaluation_endpoint"].as_str()),
        (200, Some(&*format!("{}/access/v1/evaluation", service.url)))
    );
}

async fn batches(service: &Service, key: &str) {
    let batch = |semantic: &str| {
        json!({
            "subject": { "type": "user", "id": "maren" },
            "action": { "name": "release" },
            "evaluations": [
                { "resource": { "type": "manifest", "id": "m-204" } },
                { "resource": { "type": "manifest", "id": "m-206" } },
                { "resource": { "type": "manifest" }, "action": { "name": "berth:view" } },
                { "resource": { "type": "manifest", "id": "m-205" }, "subject": { "type": "anonymous" } },
            ],
            "options": { "evaluations_semantic": semantic },
        })
    };
    let decisions = |answer: &Value| -> Vec<bool> {
        answer["evaluations"].as_array().expect("a list").iter().map(|one| one["decision"] == true).collect()
    };
    let (status, all) = service.post(key, "/access/v1/evaluations", &batch("execute_all")).await;
    assert_eq!(status, 200);
    assert_eq!(decisions(&all), [true, false, false, false]);
    assert_eq!(all["evaluations"][2]["context"]["error"]["status"], 400);
    let (_, some) = service.post(key, "/access/v1/evaluations", &batch("deny_on_first_deny")).await;
    assert_eq!(decisions(&some), [true, false]);
    let (_, one) = service.post(key, "/access/v1/evaluations", &batch("permit_on_first_permit")).await;
    assert_eq!(decisions(&one), [true]);
}

/// Whatever is sent, the answer is a problem document with a stable type, and nothing changes.
#[tokio::test]
async fn bad_input_is_refused_and_changes_nothing() {
    let folder = folder();
    let service = Service::demo(folder.path());
    let before = service.get("/api/v1/status").await.1;
    let key = service.operator.as_str();
    let customs = service.customs.as_str();
    let question = r#"{"subject":{"type":"user","id":"ines"},"action":{"name":"view"},"resource":{"type":"manifest","id":"m-204"}}"#;
    let deep = format!("{}1{}", "[".repeat(5_000), "]".repeat(5_000));
    let long = format!(r#"{{"set":["{}"]}}"#, "x".repeat(10 << 20));
    let many = format!(
        "{{\"subject\":{{\"type\":\"user\",\"id\":\"ines\"}},\"evaluations\":[{}]}}",
        vec!["{}"; 1_001].join(",")
    );
    let cases: Vec<(&str, &str, &str, &str, u16, &str)> = vec![
        // path, key, media type, body, status, type
        ("/access/v1/evaluation", "", "application/json", question, 401, "unauthenticated"),
        (
            "/access/v1/evaluation",
            "ostrog.k-00000000.00",
            "application/json",
            question,
            401,
            "unauthenticated",
        ),
        ("/access/v1/evaluation", "nonsense", "application/json", question, 401, "unauthenticated"),
        ("/access/v1/evaluation", key, "text/plain", question, 415, "wrong-media-type"),
        ("/access/v1/evaluation", key, "application/json", "{", 400, "malformed"),
        ("/access/v1/evaluation", key, "application/json", "\u{0}", 400, "malformed"),
        ("/access/v1/evaluation", key, "application/json", "[]", 400, "malformed"),
        ("/access/v1/evaluation", key, "application/json", "{}", 400, "malformed"),
        ("/access/v1/evaluation", key, "application/json", &deep, 400, "malformed"),
        (
            "/access/v1/evaluation",
            key,
            "application/json",
            r#"{"subject":{"type":"user","type":"service","id":"x"}}"#,
            400,
            "malformed",
        ),
        (
            "/access/v1/evaluation",
            key,
            "application/json",
            r#"{"subject":{"type":"user"},"action":{"name":"view"},"resource":{"type":"manifest"}}"#,
            400,
            "malformed",
        ),
        (
            "/access/v1/evaluation",
            key,
            "application/json",
            r#"{"subject":{"type":"vessel","id":"x"},"action":{"name":"view"},"resource":{"type":"manifest"}}"#,
            400,
            "malformed",
        ),
        (
            "/access/v1/evaluation",
            key,
            "application/json",
            r#"{"subject":{"type":"user:ines","id":"x"},"action":{"name":"view"},"resource":{"type":"manifest"}}"#,
            400,
            "malformed",
        ),
        (
            "/access/v1/evaluation",
            key,
            "application/json",
            r#"{"subject":{"type":"user","id":7},"action":{"name":"view"},"resource":{"type":"manifest"}}"#,
            400,
            "malformed",
        ),
        ("/access/v1/evaluations", key, "application/json", &many, 400, "malformed"),
        (
            "/access/v1/evaluations",
            key,
            "application/json",
            r#"{"evaluations":[],"options":{"evaluations_semantic":"some"}}"#,
            400,
            "malformed",
        ),
        ("/api/v1/facts", key, "application/json", &long, 413, "too-large"),
        (
            "/api/v1/facts",
            customs,
            "application/json",
            r#"{"set":["user:ines.clearance = 9"]}"#,
            403,
            "forbidden",
        ),
        ("/api/v1/facts", key, "application/json", r#"{"set":["user:ines.clearence = 9"]}"#, 422, "invalid"),
        ("/api/v1/facts", key, "application/json", r#"{"sett":[]}"#, 400, "malformed"),
        (
            "/api/v1/register",
            key,
            "application/x-ndjson",
            "{\"entity\":\"user:new\"}\n{\"entity\":\"user:other\",\"tenants\":[\"nowhere\"]}",
            422,
            "invalid",
        ),
        (
            "/api/v1/register",
            key,
            "application/x-ndjson",
            "{\"entity\":\"user:new\"}\nnot json",
            422,
            "invalid",
        ),
        ("/api/v1/register?chek=true", key, "application/x-ndjson", "", 400, "malformed"),
        ("/api/v1/register", customs, "application/x-ndjson", "{\"entity\":\"user:new\"}", 403, "forbidden"),
        (
            "/api/v1/grants",
            key,
            "application/json",
            r#"{"role":"inspector","to":"user:ines"}"#,
            400,
            "malformed",
        ),
        (
            "/api/v1/grants",
            key,
            "application/json",
            r#"{"role":"inspectr","to":"user:ines","at":"everywhere"}"#,
            422,
            "invalid",
        ),
        (
            "/api/v1/ask",
            key,
            "application/json",
            r#"{"subject":"user:ines","permission":"manifest:view","now":"soon"}"#,
            400,
            "malformed",
        ),
        (
            "/api/v1/ask",
            key,
            "application/json",
            r#"{"subject":"user:ines","permission":"manifest:view","suppose":["user:ines.rank = 3"]}"#,
            422,
            "invalid",
        ),
        (
            "/api/v1/ask",
            customs,
            "application/json",
            r#"{"subject":"user:ines","permission":"manifest:view"}"#,
            403,
            "forbidden",
        ),
        ("/api/v1/session", "", "application/json", r#"{"key":"wrong"}"#, 401, "unauthenticated"),
        ("/api/v1/rollouts", key, "application/json", r#"{"what":"D-77","for":"all"}"#, 404, "not-found"),
        ("/api/v1/nowhere", key, "application/json", "{}", 404, "not-found"),
        ("/access/v1/nowhere", key, "application/json", "{}", 404, "not-found"),
        ("/api/v1/status", key, "application/json", "{}", 405, "wrong-method"),
    ];
    for (path, key, media, body, status, kind) in cases {
        let mut request = service
            .http()
            .post(format!("{}{path}", service.url))
            .header("content-type", media)
            .body(body.to_owned());
        if !key.is_empty() {
            request = request.bearer_auth(key);
        }
        let (found, problem) = service.send(request).await;
        let shown = &body[..body.len().min(80)];
        assert_eq!(found, status, "{path} {shown}: {problem}");
        assert_eq!(problem["type"], format!("urn:ostrog:problem:{kind}"), "{path} {shown}: {problem}");
        assert!(problem["detail"].as_str().is_some_and(|detail| detail.len() > 10), "{problem}");
    }
    for path in [
        "/api/v1/entities/user:nobody",
        "/api/v1/revisions/77",
        "/api/v1/revisions/x",
        "/api/v1/types/ship/grid",
    ] {
        let (status, problem) = service.get(path).await;
        assert_eq!((status, problem["type"].as_str()), (404, Some("urn:ostrog:problem:not-found")), "{path}");
    }
    assert_eq!(service.get("/api/v1/status").await.1, before);
}

#[tokio::test]
async fn suppositions_are_seen_by_nobody_else() {
    let folder = folder();
    let service = Service::demo(folder.path());
    let ask = json!({ "subject": "user:ines", "permission": "manifest:release", "resource": "manifest:m-204", "suppose": ["user:ines.clearance = 5"] });
    let (_, supposed) = service.post(&service.operator, "/api/v1/ask", &ask).await;
    assert_eq!((&supposed["explanation"]["allowed"], &supposed["supposed"]), (&json!(true), &json!(1)));
    assert_eq!(
        service.evaluate(&service.customs, "user:ines", "release", "manifest:m-204").await["decision"],
        false
    );
    let (_, shown) = service.get("/api/v1/entities/user:ines").await;
    assert_eq!(shown["entity"]["attributes"]["clearance"], 3);
    // Nothing supposed is left behind when the question itself is malformed.
    let broken = json!({ "subject": "vessel:x", "permission": "manifest:release", "suppose": ["user:ines.clearance = 5"] });
    assert_eq!(service.post(&service.operator, "/api/v1/ask", &broken).await.0, 400);
    let (_, shown) = service.get("/api/v1/entities/user:ines").await;
    assert_eq!(shown["entity"]["attributes"]["clearance"], 3);
}

#[tokio::test]
async fn a_console_session_lives_in_a_cookie_and_writes_from_its_own_origin_only() {
    let folder = folder();
    let service = Service::demo(folder.path());
    let sign_in = |key: &str| {
        service.http().post(format!("{}/api/v1/session", service.url)).json(&json!({ "key": key }))
    };
    assert_eq!(service.send(sign_in(&service.customs)).await.0, 403);
    let response = sign_in(&service.operator).send().await.expect("an answer");
    let cookie = response.headers()["set-cookie"].to_str().expect("text").to_owned();
    assert!(
        cookie.contains("HttpOnly")
            && cookie.contains("SameSite=Strict")
            && !cookie.contains(&service.operator)
    );
    let cookie = cookie.split(';').next().expect("a pair").to_owned();
    let status =
        |cookie: &str| service.http().get(format!("{}/api/v1/status", service.url)).header("cookie", cookie);
    assert_eq!(service.send(status(&cookie)).await.0, 200);
    assert_eq!(service.send(status("ostrog-session=guess")).await.0, 401);
    let facts = |site: &str| {
        let request = service.http().post(format!("{}/api/v1/facts", service.url)).header("cookie", &cookie);
        request.header("sec-fetch-site", site).json(&json!({ "set": [] }))
    };
    assert_eq!(service.send(facts("cross-site")).await.0, 403);
    assert_eq!(service.send(facts("same-origin")).await.0, 200);
    let end = |site: &str| {
        let end = service.http().delete(format!("{}/api/v1/session", service.url));
        end.header("cookie", &cookie).header("sec-fetch-site", site)
    };
    assert_eq!(service.send(end("cross-site")).await.0, 403);
    assert_eq!(service.send(end("same-origin")).await.0, 204);
    assert_eq!(service.send(status(&cookie)).await.0, 401);
}

#[tokio::test]
async fn told_to_stop_it_answers_what_is_open_and_stops_its_database() {
    let folder = folder();
    let data = folder.path().join("data");
    let service = Service::serve(&data, None);
    let body = r#"{"subject":"anonymous","permission":"tariff:view"}"#;
    let address = service.url.strip_prefix("http://").expect("http");
    let mut open = std::net::TcpStream::connect(address).expect("connects");
    let head = format!(
        "POST /api/v1/ask HTTP/1.1\r\nhost: x\r\nauthorization: Bearer {}\r\ncontent-type: application/json\r\ncontent-length: {}\r\n\r\n",
        service.operator,
        body.len()
    );
    open.write_all(head.as_bytes()).expect("written");
    open.write_all(&body.as_bytes()[..10]).expect("written");
    tokio::time::sleep(std::time::Duration::from_millis(300)).await;
    signal(service.pid(), "TERM");
    tokio::time::sleep(std::time::Duration::from_millis(300)).await;
    open.write_all(&body.as_bytes()[10..]).expect("written");
    let mut answer = String::new();
    open.read_to_string(&mut answer).expect("readable");
    assert!(answer.starts_with("HTTP/1.1 200") && answer.contains("passer-by"), "{answer}");
    drop(service);
    assert!(!data.join("postgresql/data/postmaster.pid").exists(), "the database still runs");
}

#[rstest]
#[tokio::test]
async fn the_description_covers_every_call_and_every_refusal() {
    let folder = folder();
    let service = Service::demo(folder.path());
    let (status, document) = service.get("/api/v1/openapi.json").await;
    assert_eq!((status, document["openapi"].as_str().map(|version| &version[..3])), (200, Some("3.1")));
    let paths = document["paths"].as_object().expect("paths");
    assert!(paths.len() >= 15, "{}", paths.len());
    for (path, methods) in paths {
        for (method, operation) in methods.as_object().expect("methods") {
            let responses = operation["responses"].as_object().expect("responses");
            assert!(
                responses
                    .values()
                    .all(|response| response["description"].as_str().is_some_and(|text| !text.is_empty()))
            );
            // Without a key, a call that needs one answers as described.
            let needs_key = operation.get("security").is_some();
            let address = format!(
                "{}{}",
                service.url,
                path.replace("{number}", "1")
                    .replace("{type}", "manifest")
                    .replace("{name}", "user:ines")
                    .replace("{id}", "g-1")
            );
            let request = service.http().request(method.to_uppercase().parse().expect("a method"), address);
            let (found, _) = service.send(request).await;
            assert_eq!(found == 401, needs_key, "{method} {path}: {found}");
            assert!(!needs_key || responses.contains_key("401"));
        }
    }
    assert_eq!(
        service.send(service.http().get(format!("{}/healthz", service.url))).await,
        (200, json!("alive\n"))
    );
    assert_eq!(
        service.send(service.http().get(format!("{}/readyz", service.url))).await,
        (200, json!("ready\n"))
    );
}

#[tokio::test]
async fn its_own_database_is_started_again_when_it_dies() {
    let folder = folder();
    let data = folder.path().join("data");
    let service = Service::serve(&data, None);
    let pid = data.join("postgresql/data/postmaster.pid");
    let postmaster = |text: String| text.lines().next().and_then(|line| line.trim().parse().ok());
    for round in 0..2 {
        let running: u32 =
            std::fs::read_to_string(&pid).ok().and_then(postmaster).expect("the database runs");
        signal(running, "KILL");
        // Decisions go on, and writes are taken again.
        let asked = json!({ "subject": "anonymous", "permission": "tariff:view" });
        assert_eq!(service.post(&service.operator, "/api/v1/ask", &asked).await.0, 200);
        let start = std::time::Instant::now();
        let line = format!("{{\"entity\":\"user:after-{round}\"}}");
        while service.send(service.loading(&line)).await.0 != 200 {
            assert!(start.elapsed().as_secs() < 30, "it is not started again");
            tokio::time::sleep(std::time::Duration::from_millis(100)).await;
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_cut_without_a_word() {
    let folder = folder();
    let service = Service::serve(&folder.path().join("data"), None);
    let vessels = 10_100;
    let file = folder.path().join("many.ndjson");
    let mut lines = vec!["{\"entity\":\"tenant:north\"}".to_owned()];
    lines.push("{\"entity\":\"user:ines\",\"tenants\":[\"north\"]}".to_owned());
    lines.extend(
        (0..vessels).map(|at| format!("{{\"entity\":\"vessel:v{at}\",\"within\":\"tenant:north\"}}")),
    );
    lines.push("{\"entity\":\"vessel:bad\",\"within\":\"tenant:nowhere\"}".to_owned());
    std::fs::write(&file, lines.join("\n")).expect("written");
    // What is in force of a file of which a later part is refused.
    let load = |service: &Service| service.ostrog().args(["register", "load"]).arg(&file).output();
    let refused = load(&service).expect("runs");
    let told = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert_eq!(refused.status.code(), Some(3), "{told}");
    let at = format!("many.ndjson:{}", lines.len());
    assert!(told.contains(&at) && told.contains("10000 lines up to line 10000 are in force"), "{told}");
    lines.pop();
    std::fs::write(&file, lines.join("\n")).expect("written");
    assert!(load(&service).expect("runs").status.success());
    // A list longer than a page is whole, in every format and under every limit.
    for (format, more) in [("ndjson", 0), ("csv", 1)] {
        for limit in [&[][..], &["--limit", "50000"]] {
            let mut reach = service.ostrog();
            reach.args(["reach", "user:ines", "vessel:view", "--output", format]).args(limit);
            let told = reach.output().expect("runs");
            let text = String::from_utf8_lossy(&told.stdout);
            let ours = text.lines().filter(|line| line.contains("vessel:v")).count();
            let said = String::from_utf8_lossy(&told.stderr);
            assert!(told.status.success(), "{format} {limit:?}: {said}");
            assert_eq!((ours, text.lines().count()), (vessels, vessels + more), "{format} {limit:?}: {said}");
        }
    }
    let mut reach = service.ostrog();
    let few = reach.args(["reach", "user:ines", "vessel:view", "--output", "ndjson", "--limit", "7"]);
    assert_eq!(String::from_utf8_lossy(&few.output().expect("runs").stdout).lines().count(), 7);
}
