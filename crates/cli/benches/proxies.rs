//! What the route check adds to a request: through nginx and Caddy as they are documented, and through the same without
//! the check, in turns in one run; and `/route-check` beside `/access/v1/evaluation`, both with a token. Run it with
//! `cargo bench -p ostrog-cli --bench proxies`.

#![allow(
    clippy::disallowed_methods,
    clippy::disallowed_macros,
    reason = "a benchmark has a clock and prints"
)]

#[path = "../tests/support/caller.rs"]
mod caller;
#[path = "../tests/support/mod.rs"]
mod support;

use caller::{Caller, in_turns};
use serde_json::json;
use support::proxy::{Application, CUSTOMS, Kind, Port, Proxy, documented};

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
        in_turns(&mut callers).await;
    }
}
