//! What the network costs: decisions over HTTP beside a bare handler that reads and answers the same
//! JSON, in one process and one run, answers compared. Run it with `cargo xtask bench`.

#![allow(
    clippy::disallowed_methods,
    clippy::disallowed_macros,
    reason = "a benchmark has a clock and prints"
)]
#![allow(clippy::cast_possible_truncation, reason = "the numbers of a benchmark are small")]

mod loaded;
#[path = "../../core/benches/port/mod.rs"]
mod port;

use axum::routing::post;
use axum::{Json, Router};
use loaded::Loaded;
use ostrog_core::prelude::line;
use ostrog_service::App;
use ostrog_service::node::Node;
use ostrog_service::serving::{Limits, serve};
use port::Asks;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::{TcpListener, TcpStream};

// As the program has it.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// How many users, unless `OSTROG_BENCH_USERS` says otherwise.
const USERS: usize = 10_000;
const CONNECTIONS: usize = 32;
const TIME: Duration = Duration::from_secs(4);
const BATCH: usize = 100;

/// The same shapes as the service's, read and written and nothing else.
#[derive(Deserialize)]
struct Entity {
    #[serde(rename = "type")]
    _kind: String,
    #[serde(rename = "id")]
    _id: Option<String>,
}

#[derive(Deserialize)]
struct Action {
    #[serde(rename = "name")]
    _name: String,
}

#[derive(Deserialize)]
struct Evaluation {
    #[serde(rename = "subject")]
    _subject: Entity,
    #[serde(rename = "action")]
    _action: Action,
    #[serde(rename = "resource")]
    _resource: Entity,
}

#[derive(Deserialize)]
struct Evaluations {
    evaluations: Vec<Evaluation>,
}

#[derive(Serialize)]
struct Context {
    reason: &'static str,
}

#[derive(Serialize)]
struct Answer {
    decision: bool,
    context: Context,
}

const ANSWER: Answer = Answer { decision: false, context: Context { reason: "no-role" } };

async fn bare(Json(_): Json<Evaluation>) -> Json<Answer> {
    Json(ANSWER)
}

async fn bare_batch(Json(batch): Json<Evaluations>) -> Json<Value> {
    let answers: Vec<Answer> = batch.evaluations.iter().map(|_| ANSWER).collect();
    Json(json!({ "evaluations": answers }))
}

/// The bare handler, as `axum` serves it.
async fn listen(router: Router) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let address = listener.local_addr().expect("an address");
    tokio::spawn(async move { axum::serve(listener, router).await });
    address
}

/// One request over an open connection; the answer's body.
async fn call(stream: &mut TcpStream, request: &[u8], buffer: &mut Vec<u8>) -> std::ops::Range<usize> {
    stream.write_all(request).await.expect("written");
    buffer.clear();
    loop {
        let head = buffer.windows(4).position(|four| four == b"\r\n\r\n");
        if let Some(head) = head {
            let text = std::str::from_utf8(&buffer[..head]).expect("ASCII").to_ascii_lowercase();
            assert!(text.starts_with("http/1.1 200"), "{text}");
            let length = text
                .split("content-length: ")
                .nth(1)
                .and_then(|rest| rest.lines().next()?.trim().parse().ok());
            let end = head + 4 + length.unwrap_or(0);
            if buffer.len() >= end {
                return head + 4..end;
            }
        }
        assert!(stream.read_buf(buffer).await.expect("read") > 0, "the connection was closed");
    }
}

fn requests(path: &str, key: &str, bodies: &[Value]) -> Vec<Vec<u8>> {
    let request = |body: &Value| {
        let body = body.to_string();
        let head = format!(
            "POST {path} HTTP/1.1\r\nhost: x\r\nauthorization: Bearer {key}\r\ncontent-type: application/json\r\ncontent-length: {}\r\n\r\n",
            body.len()
        );
        (head + &body).into_bytes()
    };
    bodies.iter().map(request).collect()
}

/// Requests a second, from many connections at once.
async fn rate(address: SocketAddr, requests: &Arc<Vec<Vec<u8>>>) -> f64 {
    let start = Instant::now();
    let tasks: Vec<_> = (0..CONNECTIONS)
        .map(|first| {
            let requests = Arc::clone(requests);
            tokio::spawn(async move {
                let mut stream = TcpStream::connect(address).await.expect("connects");
                stream.set_nodelay(true).expect("is set");
                let (mut buffer, mut done) = (Vec::new(), 0_u64);
                let mut at = first;
                while start.elapsed() < TIME {
                    call(&mut stream, &requests[at % requests.len()], &mut buffer).await;
                    at += CONNECTIONS;
                    done += 1;
                }
                done
            })
        })
        .collect();
    let mut done = 0;
    for task in tasks {
        done += task.await.expect("ran");
    }
    done as f64 / start.elapsed().as_secs_f64()
}

#[tokio::main]
async fn main() {
    if std::env::args().any(|argument| argument == "--test") {
        return;
    }
    let loaded = Loaded::new(USERS).await;
    let Loaded { node, store, facts, users, took, .. } = &loaded;
    let key = &loaded.application().await;
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let service = listener.local_addr().expect("an address");
    let app = App::new(Arc::clone(node), "http://127.0.0.1");
    tokio::spawn(serve(listener, app, Limits::default(), std::future::pending()));
    let bare_service =
        listen(Router::new().route("/bare", post(bare)).route("/bare-batch", post(bare_batch))).await;

    let asked = port::questions(facts, *users);
    let question = |(user, asks, place): &(u32, Asks, u32)| {
        let request = facts.request(*user, *asks, *place);
        let part = |name: &str| name.split_once(':').map(|(kind, id)| json!({ "type": kind, "id": id }));
        let action = request.permission.split_once(':').map_or("", |(_, action)| action);
        json!({ "subject": part(&request.subject), "action": { "name": action }, "resource": request.resource.as_deref().and_then(part) })
    };
    let singles: Vec<Value> = asked.iter().take(20_000).map(question).collect();
    let batches: Vec<Value> = singles.chunks(BATCH).map(|chunk| json!({ "evaluations": chunk })).collect();

    // Answers first.
    let mut stream = TcpStream::connect(service).await.expect("connects");
    let mut buffer = Vec::new();
    for (request, (user, asks, place)) in
        requests("/access/v1/evaluation", key, &singles[..2_000]).iter().zip(&asked)
    {
        let body = call(&mut stream, request, &mut buffer).await;
        let answer: Value = serde_json::from_slice(&buffer[body]).expect("JSON");
        assert_eq!(
            answer["decision"],
            facts.by_hand.decide(*user, *asks, *place),
            "{}",
            String::from_utf8_lossy(request)
        );
    }
    println!("{} lines loaded through the service in {took:.1?}", facts.lines.len());
    println!("{:>22}  {:>14}  {:>14}  {:>6}", "", "bare a second", "ostrog a second", "ratio");
    for (name, path, bare_path, bodies, each) in [
        ("evaluation", "/access/v1/evaluation", "/bare", &singles, 1),
        ("evaluations, 100 each", "/access/v1/evaluations", "/bare-batch", &batches, BATCH),
    ] {
        let ours = Arc::new(requests(path, key, bodies));
        let bares = Arc::new(requests(bare_path, key, bodies));
        // In turns, so that a slower minute slows both.
        let (mut bare_rate, mut our_rate) = (0.0_f64, 0.0_f64);
        for _ in 0..3 {
            bare_rate = bare_rate.max(rate(bare_service, &bares).await);
            our_rate = our_rate.max(rate(service, &ours).await);
        }
        println!(
            "{name:>22}  {:>14.0}  {:>14.0}  {:>6.2}",
            bare_rate * each as f64,
            our_rate * each as f64,
            our_rate / bare_rate
        );
    }

    // Seen by another node.
    let start = Instant::now();
    let other = Arc::new(Node::open(store.clone(), Duration::from_secs(3_600)).await.expect("opens"));
    let start = start.elapsed();
    println!("a start with {} lines: {start:.1?}", facts.lines.len());
    tokio::spawn(Arc::clone(&other).follow());
    tokio::time::sleep(Duration::from_millis(500)).await;
    let mut seen = Vec::new();
    for round in 0..200 {
        let text = format!("{{\"entity\":\"user:u1\",\"attributes\":{{\"clearance\":{}}}}}", round % 10);
        let changes = vec![line::parse(&text).expect("a line")];
        let written = node.load_of_host(changes, "bench").await.expect("is valid");
        let start = Instant::now();
        other.wait_for(&written.to_string(), None).await.expect("goes on");
        seen.push(start.elapsed());
    }
    seen.sort_unstable();
    println!(
        "a write, seen by another node: {:.1?} at the median, {:.1?} at the worst",
        seen[100], seen[199]
    );
    loaded.end().await;
}
