//! What holds before there is a request: over sockets, with limits small enough to be met.

use crate::support::{Server, Service};
use ostrog_service::serving::{Limits, serve};
use ostrog_wire::problem::Problem;
use serde_json::json;
use std::net::SocketAddr;
use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::{TcpListener, TcpStream};

const LIMITS: Limits =
    Limits { connections: 8, header: Duration::from_millis(600), idle: Duration::from_millis(1_200) };

/// A service behind a socket, until the test ends.
pub async fn listening(service: &Service, limits: Limits) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let address = listener.local_addr().expect("an address");
    tokio::spawn(serve(listener, service.app.clone(), limits, std::future::pending()));
    address
}

/// An answer as it came: its status line and header, and its body.
pub struct Raw {
    pub status: u16,
    pub head: String,
    pub body: Vec<u8>,
}

/// Reads one answer; none if the connection ends before it.
pub async fn answer(stream: &mut TcpStream) -> Option<Raw> {
    let mut bytes = Vec::new();
    let head = loop {
        if let Some(at) = bytes.windows(4).position(|four| four == b"\r\n\r\n") {
            break at;
        }
        if stream.read_buf(&mut bytes).await.ok()? == 0 {
            return None;
        }
    };
    let text = String::from_utf8_lossy(&bytes[..head]).to_lowercase();
    let length = text.split("content-length: ").nth(1).and_then(|rest| rest.lines().next()?.parse().ok());
    let end = head + 4 + length.unwrap_or(0);
    while bytes.len() < end {
        if stream.read_buf(&mut bytes).await.ok()? == 0 {
            return None;
        }
    }
    let status = text.get(9..12)?.parse().ok()?;
    Some(Raw { status, head: text, body: bytes[head + 4..end].to_vec() })
}

async fn connect(address: SocketAddr) -> TcpStream {
    let stream = TcpStream::connect(address).await.expect("connects");
    stream.set_nodelay(true).expect("is set");
    stream
}

/// What comes back to bytes that are sent at once.
async fn sent(address: SocketAddr, bytes: &[u8]) -> Option<Raw> {
    let mut stream = connect(address).await;
    // It may be answered before all of it is read.
    let _ = stream.write_all(bytes).await;
    tokio::time::timeout(Duration::from_secs(10), answer(&mut stream)).await.expect("an end")
}

const ALIVE: &[u8] = b"GET /healthz HTTP/1.1\r\nhost: x\r\n\r\n";

async fn is_alive(stream: &mut TcpStream) -> bool {
    stream.write_all(ALIVE).await.is_ok() && answer(stream).await.is_some_and(|answer| answer.status == 200)
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_no_http_is_told_as_every_refusal_is() {
    let service = Service::on(&Server::start().await, "service", &[]).await;
    let address = listening(&service, LIMITS).await;
    let long = format!("GET /{} HTTP/1.1\r\nhost: x\r\n\r\n", "x".repeat(20_000));
    let wide = format!("GET /healthz HTTP/1.1\r\nhost: x\r\nx-wide: {}\r\n\r\n", "x".repeat(200_000));
    let many = format!("GET /healthz HTTP/1.1\r\nhost: x\r\n{}\r\n", "x-a: b\r\n".repeat(500));
    for (bytes, expected) in [
        ("hello\r\n\r\n", 400),
        ("GET /healthz HTTP/1.1\r\nho st: x\r\n\r\n", 400),
        ("GET /healthz HTTP/1.1\r\n\r\n", 400),
        ("GET /healthz HTTP/1.1\r\nhost: a\r\nhost: b\r\n\r\n", 400),
        ("GET /\u{e4} HTTP/9.9\r\nhost: x\r\n\r\n", 400),
        (long.as_str(), 414),
        (wide.as_str(), 431),
        (many.as_str(), 431),
    ] {
        let answer = sent(address, bytes.as_bytes()).await.expect("an answer");
        assert_eq!(answer.status, expected, "{}: {}", &bytes[..bytes.len().min(60)], answer.head);
        assert!(answer.head.contains("content-type: application/problem+json"), "{}", answer.head);
        let problem: Problem = serde_json::from_slice(&answer.body).expect("a problem");
        assert_eq!(problem.status, expected);
    }
    assert!(is_alive(&mut connect(address).await).await);
}

#[tokio::test(flavor = "multi_thread")]
async fn who_says_nothing_makes_room_for_who_does() {
    let service = Service::on(&Server::start().await, "service", &[]).await;
    let address = listening(&service, LIMITS).await;
    // Many times as many as there may be, none of which ever ends its header.
    let mut idle = Vec::new();
    for _ in 0..64 {
        let mut stream = connect(address).await;
        let _ = stream.write_all(b"GET /healthz HTTP/1.1\r\nhost: x\r\nx-slow: ").await;
        idle.push(stream);
    }
    // Whoever has something to ask is answered, again and again, on one connection and on new ones.
    let mut kept = connect(address).await;
    for _ in 0..20 {
        assert!(is_alive(&mut kept).await, "a connection that asks was let go");
        assert!(is_alive(&mut connect(address).await).await, "a new connection was not let in");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    // A header that does not end, and a connection that asks no more, end by themselves.
    let start = Instant::now();
    let mut slow = connect(address).await;
    slow.write_all(b"GET /healthz HTTP/1.1\r\n").await.expect("written");
    let mut end = Vec::new();
    let _ = tokio::time::timeout(Duration::from_secs(5), slow.read_to_end(&mut end)).await.expect("an end");
    assert!(start.elapsed() < Duration::from_secs(3), "{:?}", start.elapsed());
    let start = Instant::now();
    let mut rest = Vec::new();
    let _ = tokio::time::timeout(Duration::from_secs(5), kept.read_to_end(&mut rest)).await.expect("an end");
    assert!(start.elapsed() < Duration::from_secs(4), "{:?}", start.elapsed());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_body_that_does_not_come_ends_with_a_word_of_it() {
    let service = Service::on(&Server::start().await, "service", &[]).await;
    let key = service.application("quay").await;
    let address = listening(&service, Limits { idle: Duration::from_secs(60), ..LIMITS }).await;
    let body = json!({ "subject": { "type": "user", "id": "x" } }).to_string();
    let head = format!(
        "POST /access/v1/evaluation HTTP/1.1\r\nhost: x\r\nauthorization: Bearer {key}\r\ncontent-type: application/json\r\ncontent-length: {}\r\n\r\n",
        body.len()
    );
    let start = Instant::now();
    let answer = sent(address, (head + &body[..10]).as_bytes()).await.expect("an answer");
    assert_eq!(answer.status, 408, "{}", answer.head);
    let problem: Problem = serde_json::from_slice(&answer.body).expect("a problem");
    assert_eq!(problem.kind, "urn:ostrog:problem:too-slow");
    assert!(!problem.detail.contains("write"), "{}", problem.detail);
    assert!(start.elapsed() < Duration::from_secs(8), "{:?}", start.elapsed());
}
