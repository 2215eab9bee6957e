//! What the guard adds to a request of an Axum application: beside the same application without it, one after the other in
//! turns, and under load. Run it with `cargo bench -p ostrog-cli --bench guard`.

#![allow(
    clippy::disallowed_methods,
    clippy::disallowed_macros,
    reason = "a benchmark has a clock and prints"
)]

#[path = "../tests/support/caller.rs"]
mod caller;
#[path = "../tests/support/mod.rs"]
mod support;

use axum::Router;
use axum::extract::Path;
use axum::routing::get;
use caller::{Caller, in_turns};
use ostrog_client::Client;
use ostrog_client::guard::{Guard, Permit, Routes, may};
use std::time::{Duration, Instant};
use support::{Service, folder};
use tokio::net::TcpListener;

/// How many connections ask at once under load, and for how long.
const CONNECTIONS: usize = 16;
const LOAD: Duration = Duration::from_secs(5);

async fn show(Path(manifest): Path<String>) -> String {
    manifest
}

async fn show_to(permit: Permit, Path(manifest): Path<String>) -> String {
    format!("{manifest} for {}", permit.subject)
}

fn guarded(guard: &Guard) -> Router {
    let routes: Routes = guard.routes();
    let need = may("manifest:view").on("manifest:{manifest}");
    routes.get("/manifests/{manifest}", show_to, need).build().expect("is right")
}

async fn serve(router: Router) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let address = listener.local_addr().expect("an address").to_string();
    tokio::spawn(async move { axum::serve(listener, router).await.expect("serves") });
    address
}

/// Requests a second with several connections.
async fn load(address: &str, request: &str) -> usize {
    let until = Instant::now() + LOAD;
    let all = (0..CONNECTIONS).map(|_| {
        let (address, request) = (address.to_owned(), request.to_owned());
        tokio::spawn(async move {
            let mut caller = Caller::new(&address, &request).await;
            let mut calls = 0_usize;
            while Instant::now() < until {
                caller.call().await;
                calls += 1;
            }
            calls
        })
    });
    let mut calls = 0;
    for one in all.collect::<Vec<_>>() {
        calls += one.await.expect("calls");
    }
    calls / LOAD.as_secs() as usize
}

#[tokio::main]
async fn main() {
    if std::env::args().any(|argument| argument == "--test") {
        return;
    }
    let folder = folder();
    let service = Service::port(folder.path());
    let token = service.token_of("ines").await;
    let request =
        format!("GET /manifests/m-204 HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {token}\r\n\r\n");
    let guard = Guard::new(Client::new(&service.url, &service.customs).expect("an address"));
    let keeping = guard.clone().cache(Duration::from_secs(10));
    tokio::spawn(keeping.clone().follow());
    let all = [
        ("alone".to_owned(), serve(Router::new().route("/manifests/{manifest}", get(show))).await),
        ("guarded".to_owned(), serve(guarded(&guard)).await),
        ("guarded, keeping allows".to_owned(), serve(guarded(&keeping)).await),
    ];
    println!("{:>26}  {:>10}  {:>10}", "one after the other", "median", "p99");
    let mut callers = Vec::new();
    for (name, address) in &all {
        callers.push((name.clone(), Caller::new(address, &request).await));
    }
    in_turns(&mut callers).await;
    println!("\n{:>26}  {:>10}", format!("{CONNECTIONS} connections at once"), "requests/s");
    for (name, address) in &all {
        println!("{name:>26}  {:>10}", load(address, &request).await);
    }
    let counts = guard.counts();
    assert!(counts.denied + counts.unanswered == 0, "{counts:?}");
}
