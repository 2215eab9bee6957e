//! What the route check adds to a request: through nginx and Caddy as they are documented, and through the same without
//! the check, in turns in one run; and `/route-check` beside `/access/v1/evaluation`, both with a token. Run it with
//! `cargo bench -p ostrog-cli --bench proxies`.

#![allow(
    clippy::disallowed_methods,
    clippy::disallowed_macros,
    reason = "a benchmark has a clock and prints"
)]

#[path = "../tests/support/mod.rs"]
mod support;

use serde_json::json;
use std::time::{Duration, Instant};
use support::proxy::{Application, CUSTOMS, Kind, Port, Proxy, documented};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::TcpStream;

/// Requests of a turn, turns, and requests that are not counted: together fewer than nginx lets one connection have.
const EACH: usize = 150;
const TURNS: usize = 6;
const WARM: usize = 50;

/// A client that keeps its connection.
struct Caller {
    stream: TcpStream,
    request: Vec<u8>,
    buffer: Vec<u8>,
    took: Vec<Duration>,
}

impl Caller {
    async fn new(address: &str, request: &str) -> Caller {
        let stream = TcpStream::connect(address).await.expect("connects");
        stream.set_nodelay(true).expect("is set");
        let mut caller =
            Caller { stream, request: request.as_bytes().to_vec(), buffer: Vec::new(), took: Vec::new() };
        for _ in 0..WARM {
            caller.call().await;
        }
        caller.took.clear();
        caller
    }

    async fn call(&mut self) {
        let begun = Instant::now();
        self.stream.write_all(&self.request).await.expect("is sent");
        self.buffer.clear();
        loop {
            assert!(self.stream.read_buf(&mut self.buffer).await.expect("an answer") > 0, "it was closed");
            let Some(head) = self.buffer.windows(4).position(|four| four == b"\r\n\r\n") else { continue };
            let text = String::from_utf8_lossy(&self.buffer[..head]).to_lowercase();
            assert!(text.starts_with("http/1.1 200"), "{}", String::from_utf8_lossy(&self.buffer));
            let length: Option<usize> =
                text.split("content-length: ").nth(1).and_then(|rest| rest.lines().next()?.parse().ok());
            let whole = match length {
                Some(length) => self.buffer.len() >= head + 4 + length,
                None => self.buffer.ends_with(b"0\r\n\r\n"),
            };
            if whole {
                break;
            }
        }
        self.took.push(begun.elapsed());
    }

    /// The median and the 99th of a hundred.
    fn told(&mut self) -> (Duration, Duration) {
        self.took.sort_unstable();
        (self.took[self.took.len() / 2], self.took[self.took.len() * 99 / 100])
    }
}

/// A documented configuration without what asks Ostrog.
fn alone(kind: Kind) -> String {
    let text = documented(kind);
    let lines = text.lines();
    match kind {
        Kind::Nginx => {
            let kept = lines.filter(|line| !line.contains("auth_request") && !line.contains("$ostrog_"));
            kept.collect::<Vec<_>>().join("\n")
        }
        Kind::Caddy => {
            let (before, rest) = text.split_once("        forward_auth").expect("a block");
            let (_, after) = rest.split_once("\n        }\n").expect("its end");
            format!("{before}{after}")
        }
    }
}

fn get(path: &str, token: &str) -> String {
    format!("GET {path} HTTP/1.1\r\nHost: {CUSTOMS}\r\nAuthorization: {token}\r\n\r\n")
}

#[tokio::main]
async fn main() {
    if std::env::args().any(|argument| argument == "--test") {
        return;
    }
    println!("{:>22}  {:>10}  {:>10}", "one after the other", "median", "p99");
    for kind in [Kind::Nginx, Kind::Caddy] {
        let port = Port::open(kind).await;
        let token = port.token("ines").await;
        let application = Application::start().await;
        let plain = Proxy::with(kind, &alone(kind), &application.address, "127.0.0.1:9", "x");
        let request = get("/manifests/m-204", &token);
        let mut callers = vec![
            (format!("{kind:?} alone"), Caller::new(&plain.address, &request).await),
            (format!("{kind:?} with the check"), Caller::new(&port.proxy.address, &request).await),
        ];
        if kind == Kind::Nginx {
            let ostrog = port.service.url.strip_prefix("http://").expect("an address").to_owned();
            let key = port.service.proxy_key(true).await;
            let check = format!(
                "GET /route-check HTTP/1.1\r\nHost: x\r\nOstrog-Proxy-Key: {key}\r\nX-Original-Method: GET\r\n\
                 X-Original-URI: /manifests/m-204\r\nX-Original-Host: {CUSTOMS}\r\nAuthorization: {token}\r\n\r\n"
            );
            let body = json!({
                "subject": { "type": "token", "id": token.strip_prefix("Bearer ") },
                "action": { "name": "open-page" }, "resource": { "type": "manifest", "id": "m-204" },
            });
            let body = body.to_string();
            let evaluation = format!(
                "POST /access/v1/evaluation HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {}\r\n\
                 Content-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
                port.service.customs,
                body.len()
            );
            callers.push(("/route-check".to_owned(), Caller::new(&ostrog, &check).await));
            callers.push(("/access/v1/evaluation".to_owned(), Caller::new(&ostrog, &evaluation).await));
        }
        // In turns, so that a slower minute slows all.
        for _ in 0..TURNS {
            for (_, caller) in &mut callers {
                for _ in 0..EACH {
                    caller.call().await;
                }
            }
        }
        for (name, caller) in &mut callers {
            let (median, late) = caller.told();
            println!("{name:>22}  {:>7} µs  {:>7} µs", median.as_micros(), late.as_micros());
        }
    }
}
