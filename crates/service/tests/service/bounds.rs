//! What one caller costs others, and what ends when its time is up, its caller gone or its key ended.

use crate::connections::{answer, listening};
use crate::support::{Service, request};
use axum::body::Body;
use axum::http::Request;
use http_body_util::BodyExt as _;
use ostrog_service::serving::Limits;
use ostrog_store::key::{Detail, KeyKind, Making};
use ostrog_wire::keys::KeyMade;
use serde_json::{Value, json};
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use tokio::io::AsyncWriteExt as _;
use tokio::net::TcpStream;

/// A stream of changes, from here on or from an event.
fn following(key: &str, from: Option<&str>) -> Request<Body> {
    let mut request = request(key, "GET /api/v1/changes", None);
    request.headers_mut().insert("accept", "text/event-stream".parse().expect("a header"));
    if let Some(from) = from {
        request.headers_mut().insert("last-event-id", from.parse().expect("a header"));
    }
    request
}

/// The text of a stream up to its end, or for as long as is waited.
async fn heard(body: Body, most: Duration) -> (String, bool) {
    let mut body = body;
    let mut text = String::new();
    let end = Instant::now() + most;
    loop {
        match tokio::time::timeout_at(end.into(), body.frame()).await {
            Err(_) => return (text, false),
            Ok(None) => return (text, true),
            Ok(Some(frame)) => {
                let data = frame.expect("readable").into_data().unwrap_or_default();
                text.push_str(&String::from_utf8_lossy(&data));
            }
        }
    }
}

async fn made_by(service: &Service, owner: &str, rights: Value) -> KeyMade {
    let asked = json!({ "name": "one", "rights": rights });
    service.post(owner, "/api/v1/keys", &asked).await.read()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stream_ends_with_its_key_and_with_its_epoch() {
    let service = Service::start(&[json!({ "entity": "tenant:northline" })]).await;
    let owner = service.operator("owner", "everywhere").await;
    let reader = made_by(&service, &owner, json!([{ "role": "reader", "at": "everywhere" }])).await;
    let stream = service.open(following(&reader.text, None)).await;
    assert_eq!(stream.status(), 200);
    let listening = tokio::spawn(heard(stream.into_body(), Duration::from_secs(10)));
    service.load(&[json!({ "entity": "user:before" })]).await;
    tokio::time::sleep(Duration::from_millis(200)).await;
    let gone = service.call(&owner, &format!("DELETE /api/v1/keys/{}", reader.key.id), None).await;
    assert_eq!(gone.status, 200);
    service.load(&[json!({ "entity": "user:after" })]).await;
    let (text, ended) = listening.await.expect("ran");
    assert!(ended && text.contains("user:before") && !text.contains("user:after"), "{ended} {text}");
    assert_eq!(service.get(&reader.text, "/api/v1/status").await.problem().status, 401);

    // Events of another epoch, and of none, are no place to go on from.
    let other = service.open(following(&owner, Some("0123456789ab.1"))).await;
    assert_eq!(other.status(), 412);
    assert_eq!(service.open(following(&owner, Some("zz"))).await.status(), 400);
    // Another epoch begins: streams of the old one end, and the minimum positions of it are told.
    let position = service.get(&owner, "/api/v1/status").await;
    let position = position.read::<ostrog_wire::charter::Status>();
    let stream = service.open(following(&owner, None)).await;
    let listening = tokio::spawn(heard(stream.into_body(), Duration::from_secs(10)));
    service.store.begin_epoch(&position.epoch, "a copy").await.expect("begins");
    let (_, ended) = listening.await.expect("ran");
    assert!(ended, "it went on in another epoch");
    let mut asked = request(&owner, "GET /api/v1/status", None);
    let wanted = format!("{}.{}", position.epoch, position.position);
    asked.headers_mut().insert("ostrog-min-position", wanted.parse().expect("a header"));
    assert_eq!(service.send(asked).await.problem().status, 503);
    // A position of this epoch, but of a history that is not this one.
    let mut asked = request(&owner, "GET /api/v1/status", None);
    asked.headers_mut().insert("ostrog-min-position", "1".parse().expect("a header"));
    asked.headers_mut().insert("ostrog-min-position-digest", "00".repeat(32).parse().expect("a header"));
    assert_eq!(service.send(asked).await.problem().status, 503);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stream_of_lines_is_bounded_and_ends_with_its_key() {
    let service = Service::start(&[json!({ "entity": "tenant:northline" })]).await;
    let owner = service.operator("owner", "everywhere").await;
    let reader = service.operator("reader", "tenant:northline").await;
    // Whoever may write nothing is told so before a line is read.
    let blank = Value::String("\n".repeat(4 << 20));
    let start = Instant::now();
    assert_eq!(service.post(&reader, "/api/v1/register/stream", &blank).await.problem().status, 403);
    assert!(start.elapsed() < Duration::from_millis(500), "{:?}", start.elapsed());
    // Blank lines cost what they weigh.
    let start = Instant::now();
    assert_eq!(service.post(&owner, "/api/v1/register/stream", &blank).await.status, 200);
    assert!(start.elapsed() < Duration::from_secs(8), "{:?}", start.elapsed());

    let editor = made_by(&service, &owner, json!([{ "role": "entity-editor", "at": "everywhere" }])).await;
    let (mut sender, body) = tokio::io::duplex(1 << 16);
    let call = Request::builder().method("POST").uri("/api/v1/register/stream").header("host", "x");
    let call = call.header("authorization", format!("Bearer {}", editor.text));
    let call = call.header("content-type", "application/x-ndjson");
    let body = Body::from_stream(tokio_util::io::ReaderStream::new(body));
    let answer = service.open(call.body(body).expect("a request")).await;
    assert_eq!(answer.status(), 200);
    sender.write_all(b"{\"entity\":\"user:early\"}\n").await.expect("written");
    let listening = tokio::spawn(heard(answer.into_body(), Duration::from_secs(10)));
    tokio::time::sleep(Duration::from_millis(300)).await;
    assert_eq!(
        service.call(&owner, &format!("DELETE /api/v1/keys/{}", editor.key.id), None).await.status,
        200
    );
    let _ = sender.write_all(b"{\"entity\":\"user:late\"}\n").await;
    drop(sender);
    let (text, _) = listening.await.expect("ran");
    assert!(text.contains("\"position\"") && text.contains("\"error\""), "{text}");
    assert_eq!(service.get(&owner, "/api/v1/entities/user:early").await.status, 200);
    assert_eq!(service.get(&owner, "/api/v1/entities/user:late").await.status, 404);

    // So many at a time, and the next is told when to come again.
    let mut open = Vec::new();
    let refused = loop {
        let stream = service.open(following(&owner, None)).await;
        match stream.status().as_u16() {
            200 => open.push(stream),
            429 => break stream,
            status => panic!("{status}"),
        }
    };
    assert_eq!(open.len(), 16);
    assert!(refused.headers().contains_key("retry-after"));
    drop(open);
    assert_eq!(service.open(following(&owner, None)).await.status(), 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn of_many_rehearsals_asked_for_at_once_one_runs() {
    let service = Service::start(&[]).await;
    let owner = service.operator("owner", "everywhere").await;
    let asked = json!({});
    let all =
        futures_util::future::join_all((0..40).map(|_| service.post(&owner, "/api/v1/rehearsals", &asked)));
    let statuses: Vec<u16> = all.await.iter().map(|answer| answer.status.as_u16()).collect();
    let began = statuses.iter().filter(|status| **status == 202).count();
    let told = statuses.iter().filter(|status| matches!(status, 409 | 429)).count();
    assert!(began >= 1 && began + told == 40, "{statuses:?}");
}

/// Seconds that a call takes, and its answer.
async fn timed(service: &Service, key: &str, path: &str, body: &Value) -> (f64, u16) {
    let start = Instant::now();
    let answer = service.post(key, path, body).await;
    (start.elapsed().as_secs_f64(), answer.status.as_u16())
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_request_costs_grows_with_its_size_and_not_with_its_square() {
    let service = Service::start(&[json!({ "entity": "tenant:northline" })]).await;
    let owner = service.operator("owner", "everywhere").await;
    let key = service.application("quay").await;
    // A text with so many things wrong.
    let wrong = |count: usize| {
        let lines: String =
            (0..count).map(|at| format!("[role.r{at}]\npermissions = [\"vessel:none\"]\n")).collect();
        json!({ "files": [{ "path": "charter.toml", "text": format!("{}\n{lines}", crate::support::CHARTER) }] })
    };
    // A batch whose defaults are large, and which every item takes.
    let shared = |count: usize| {
        let item = json!({ "resource": { "type": "vessel", "id": "x" } });
        json!({
            "subject": { "type": "user", "id": "x" }, "action": { "name": "view" },
            "context": { "a": vec![0; 400_000] }, "evaluations": vec![item; count],
        })
    };
    for (key, path, small, large) in [
        (&owner, "/api/v1/texts/check", wrong(500), wrong(4_000)),
        (&key, "/access/v1/evaluations", shared(100), shared(1_000)),
    ] {
        let (quick, status) = timed(&service, key, path, &small).await;
        assert_eq!(status, 200);
        let (slow, status) = timed(&service, key, path, &large).await;
        assert_eq!(status, 200);
        // Eight or ten times the size; the square of it would be more than sixty times the time.
        assert!(slow < 25.0 * quick.max(0.02), "{path}: {quick} s, then {slow} s");
    }
}

// -- a fair share --------------------------------------------------------------------------------

/// One request, as bytes.
fn bytes(key: &str, path: &str, body: &str) -> Vec<u8> {
    let kind = if path.contains("register") { "application/x-ndjson" } else { "application/json" };
    format!(
        "POST {path} HTTP/1.1\r\nhost: x\r\nauthorization: Bearer {key}\r\ncontent-type: {kind}\r\ncontent-length: {}\r\n\r\n{body}",
        body.len()
    )
    .into_bytes()
}

/// How long single decisions take, one after the other, sorted.
fn decisions(address: SocketAddr, question: &[u8], most: Duration) -> Vec<Duration> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    runtime.block_on(async {
        let mut stream = TcpStream::connect(address).await.expect("connects");
        stream.set_nodelay(true).expect("is set");
        let (start, mut all) = (Instant::now(), Vec::new());
        while start.elapsed() < most {
            let asked = Instant::now();
            stream.write_all(question).await.expect("written");
            let answer = answer(&mut stream).await.expect("an answer");
            all.push(asked.elapsed());
            assert_eq!(answer.status, 200, "{}", String::from_utf8_lossy(&answer.body));
            tokio::time::sleep(Duration::from_millis(2)).await;
        }
        all.sort_unstable();
        all
    })
}

/// Sends these for as long as it is let, from so many connections, as the least urgent there is.
fn press(
    address: SocketAddr,
    requests: &Arc<Vec<Vec<u8>>>,
    connections: usize,
    go_on: &Arc<AtomicBool>,
    done: &Arc<AtomicUsize>,
) {
    ostrog_service::lanes::less_urgent(19);
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    runtime.block_on(async {
        let pressing = (0..connections).map(|first| {
            let (requests, go_on, done) = (Arc::clone(requests), Arc::clone(go_on), Arc::clone(done));
            async move {
                let mut at = first;
                while go_on.load(Ordering::Relaxed) {
                    let Ok(mut stream) = TcpStream::connect(address).await else { continue };
                    for _ in 0..10 {
                        at += 1;
                        let request = &requests[at % requests.len()];
                        // Every so often the rest of a body does not come.
                        let part = if at % 13 == 0 { request.len() - 1 } else { request.len() };
                        if stream.write_all(&request[..part]).await.is_err() {
                            break;
                        }
                        let patience = Duration::from_secs(if part < request.len() { 1 } else { 20 });
                        match tokio::time::timeout(patience, answer(&mut stream)).await {
                            Ok(Some(_)) => done.fetch_add(1, Ordering::Relaxed),
                            _ => break,
                        };
                        if !go_on.load(Ordering::Relaxed) {
                            break;
                        }
                    }
                }
            }
        });
        futures_util::future::join_all(pressing).await;
    });
}

fn median(all: &[Duration]) -> Duration {
    all[all.len() / 2]
}

fn hundredth(all: &[Duration]) -> Duration {
    all[all.len() * 99 / 100]
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_worst_that_one_key_may_send_is_not_the_wait_of_another() {
    let mut lines = vec![json!({ "entity": "tenant:northline" })];
    lines.extend((0..3_000).map(|at| json!({ "entity": format!("user:u{at}"), "tenants": ["northline"], "attributes": { "clearance": at % 5 } })));
    lines.extend((0..1_000).map(|at| json!({ "entity": format!("vessel:v{at}"), "within": "tenant:northline", "attributes": { "length": 90 }, "relations": { "crew": [format!("user:u{at}")] } })));
    lines.extend((0..1_000).map(|at| json!({ "grant": { "role": "master", "to": format!("user:u{at}"), "at": format!("vessel:v{at}") } })));
    let service = Service::start(&lines).await;
    let quiet_key = service.application("quay").await;
    let owner = service.operator("owner", "everywhere").await;
    let loud =
        Making { detail: Detail::Full, ..Making::whole(KeyKind::Application("quay".to_owned()), "loud") };
    let loud = service.key(loud).await;
    let address = listening(&service, Limits::default()).await;

    let single = json!({ "subject": { "type": "user", "id": "u7" }, "action": { "name": "moor" }, "resource": { "type": "vessel", "id": "v7" } });
    let item = json!({ "subject": { "type": "user", "id": "u7" }, "action": { "name": "moor" }, "resource": { "type": "vessel", "id": "v8" }, "context": { "explain": true } });
    let explained = json!({ "evaluations": vec![item.clone(); 1_000] }).to_string();
    let shared = json!({ "context": { "a": vec![0; 400_000] }, "subject": item["subject"], "action": item["action"], "evaluations": vec![json!({ "resource": item["resource"] }); 1_000] }).to_string();
    let subjects = json!({ "subject": { "type": "user" }, "action": { "name": "moor" }, "resource": { "type": "vessel", "id": "v7" } }).to_string();
    let resources = json!({ "subject": { "type": "user", "id": "u7" }, "action": { "name": "moor" }, "resource": { "type": "vessel" } }).to_string();
    let suppose = json!({ "subject": "user:u2999", "permission": "vessel:moor", "resource": "vessel:v7", "suppose": ["user:u2999.clearance = 1"], "would-take": true }).to_string();
    let hints = json!({ "subject": "user:u2999", "beside": { "application": "quay" }, "suppose": ["user:u2999.clearance = 1"] }).to_string();
    let load: String = (0..1_000).map(|at| format!("{{\"entity\":\"user:u{at}\",\"tenants\":[\"northline\"],\"attributes\":{{\"clearance\":4}}}}\n")).collect();
    let requests = Arc::new(vec![
        bytes(&loud, "/access/v1/evaluations", &explained),
        bytes(&loud, "/access/v1/evaluations", &shared),
        bytes(&loud, "/access/v1/search/subject", &subjects),
        bytes(&loud, "/access/v1/search/resource", &resources),
        bytes(&owner, "/api/v1/ask", &suppose),
        bytes(&owner, "/api/v1/hints", &hints),
        bytes(&owner, "/api/v1/rehearsals", "{}"),
        bytes(&owner, "/api/v1/register?check=true", &load),
        bytes(&owner, "/api/v1/register", &load),
    ]);

    let question = bytes(&quiet_key, "/access/v1/evaluation", &single.to_string());
    let probe = |most: u64| {
        let question = question.clone();
        std::thread::spawn(move || decisions(address, &question, Duration::from_secs(most)))
    };
    let joined = |thread: std::thread::JoinHandle<Vec<Duration>>| {
        tokio::task::spawn_blocking(move || thread.join().expect("ran"))
    };
    let quiet = joined(probe(3)).await.expect("ran");
    let (go_on, done) = (Arc::new(AtomicBool::new(true)), Arc::new(AtomicUsize::new(0)));
    let pressing = {
        let (requests, go_on, done) = (Arc::clone(&requests), Arc::clone(&go_on), Arc::clone(&done));
        std::thread::spawn(move || press(address, &requests, 64, &go_on, &done))
    };
    tokio::time::sleep(Duration::from_secs(1)).await;
    let pressed = joined(probe(8)).await.expect("ran");
    go_on.store(false, Ordering::Relaxed);
    tokio::task::spawn_blocking(move || pressing.join()).await.expect("ran").expect("ran");
    let told = format!(
        "{} decisions quietly: {:?} at the median, {:?} at the 99th; {} beside {} others: {:?}, {:?}",
        quiet.len(),
        median(&quiet),
        hundredth(&quiet),
        pressed.len(),
        done.load(Ordering::Relaxed),
        median(&pressed),
        hundredth(&pressed)
    );
    println!("{told}");
    assert!(done.load(Ordering::Relaxed) > 50, "{told}");
    assert!(median(&pressed) < 5 * median(&quiet), "{told}");
    assert!(hundredth(&pressed) < 20 * hundredth(&quiet), "{told}");
}
