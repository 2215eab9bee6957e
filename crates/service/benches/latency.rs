//! Nobody waits: how long single decisions take, two thousand a second, while a node is written to,
//! supposes, searches over everything and rehearses; beside the same with as many busy threads that touch
//! no register. In one process and one run. Run it with `cargo xtask bench`.

#![allow(
    clippy::disallowed_methods,
    clippy::disallowed_macros,
    reason = "a benchmark has a clock and prints"
)]
#![allow(clippy::cast_possible_truncation, reason = "the numbers of a benchmark are small")]

mod loaded;
#[path = "../../core/benches/port/mod.rs"]
mod port;

use axum::body::Body;
use axum::http::Request;
use loaded::Loaded;
use loaded::asking::{EVERY, answered, call, decisions, told};
use ostrog_service::lanes::less_urgent;
use ostrog_service::{App, router};
use ostrog_store::key::{KeyKind, Making};
use ostrog_wire::access::SearchResponse;
use serde_json::{Value, json};
use std::hint::black_box;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

// As the program has it.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// How many users, unless `OSTROG_BENCH_USERS` says otherwise.
const USERS: usize = 1_000_000;
/// Between two writes.
const WRITE_EVERY: Duration = Duration::from_millis(20);
const TIME: Duration = Duration::from_secs(20);
/// How urgent the threads are that the node has for questions, for writes and for rehearsals.
const BUSY: [i32; 4] = [10, 10, 5, 19];

#[tokio::main]
async fn main() {
    if std::env::args().any(|argument| argument == "--test") {
        return;
    }
    let loaded = Loaded::new(USERS).await;
    let Loaded { node, facts, users, took, .. } = &loaded;
    println!("{} users, {} lines, loaded in {took:.1?}", users, facts.lines.len());
    let key = loaded.application().await;
    let owner = Making::whole(KeyKind::Operator, "bench");
    let owner = node.new_key_of_host(owner, "bench").await.expect("a key").reveal().to_owned();
    let router = router(App::new(Arc::clone(node), "http://127.0.0.1"));

    let asked = port::questions(facts, *users);
    let name = |name: &str| name.split_once(':').map(|(kind, id)| json!({ "type": kind, "id": id }));
    let question = |(user, asks, place): &(u32, port::Asks, u32)| {
        let request = facts.request(*user, *asks, *place);
        let action = request.permission.split_once(':').map_or("", |(_, action)| action);
        let resource = request.resource.as_deref().and_then(name);
        let body =
            json!({ "subject": name(&request.subject), "action": { "name": action }, "resource": resource });
        (call(&key, "POST", "/access/v1/evaluation", &body), facts.by_hand.decide(*user, *asks, *place))
    };
    let count = (TIME.as_micros() / EVERY.as_micros()) as usize;
    let questions = || asked.iter().cycle().take(count).map(question).collect::<Vec<_>>();
    let measured = async |questions| {
        let (handle, router) = (tokio::runtime::Handle::current(), router.clone());
        let (tell, heard) = tokio::sync::oneshot::channel();
        std::thread::spawn(move || tell.send(decisions(handle, router, questions)));
        heard.await.expect("measured")
    };

    println!(
        "{:>24}  {:>10}  {:>10}  {:>10}  {:>10}",
        "single decisions", "median", "99th", "99.9th", "worst"
    );
    let go_on = Arc::new(AtomicBool::new(true));
    told("alone", &measured(questions()).await);
    let busy = BUSY.map(|nice| {
        let go_on = Arc::clone(&go_on);
        std::thread::spawn(move || {
            less_urgent(nice);
            let mut number = 1_u64;
            while go_on.load(Ordering::Relaxed) {
                number = black_box(number.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1));
            }
        })
    });
    let quiet = told("beside busy threads", &measured(questions()).await);
    go_on.store(false, Ordering::Relaxed);
    busy.into_iter().for_each(|thread| thread.join().expect("ends"));

    let go_on = Arc::new(AtomicBool::new(true));
    let counts = Arc::new([const { AtomicU64::new(0) }; 4]);
    let work = |which: usize, each: Box<dyn Fn(u64, Value) -> (Request<Body>, Duration) + Send>| {
        let (router, go_on, counts) = (router.clone(), Arc::clone(&go_on), Arc::clone(&counts));
        tokio::spawn(async move {
            let (mut round, mut before) = (0, Value::Null);
            let mut due = Instant::now();
            while go_on.load(Ordering::Relaxed) {
                let (request, pause) = each(round, before);
                round += 1;
                due = (due + pause).max(Instant::now());
                let (status, body) = answered(&router, request).await;
                assert!(
                    matches!(status, 200 | 202 | 409 | 429 | 504),
                    "{status} {}",
                    String::from_utf8_lossy(&body)
                );
                if matches!(status, 200 | 202) {
                    counts[which].fetch_add(1, Ordering::Relaxed);
                }
                before = serde_json::from_slice(&body).unwrap_or_default();
                tokio::time::sleep_until(due.into()).await;
            }
        })
    };
    let of = owner.clone();
    let writes = work(
        0,
        Box::new(move |round, _| {
            let fact = format!("user:u{}.clearance = {}", 17 + round % 1_000, round % 10);
            // Of users that nobody is asked about here the answers do not depend.
            let fact = fact.replace("user:u", "user:bench-");
            (call(&of, "POST", "/api/v1/facts", &json!({ "set": [fact] })), WRITE_EVERY)
        }),
    );
    let of = owner.clone();
    let supposing = work(
        1,
        Box::new(move |round, _| {
            let question = json!({
                "subject": format!("user:u{}", round % 1_000), "permission": "manifest:release", "resource": "manifest:p1500",
                "suppose": [format!("user:u{}.clearance = 1", round % 1_000)], "would-take": true,
            });
            (call(&of, "POST", "/api/v1/ask", &question), Duration::ZERO)
        }),
    );
    let of = owner.clone();
    let searching = work(
        2,
        Box::new(move |_, before| {
            let page: Option<SearchResponse> = serde_json::from_value(before).ok();
            let token = page.map(|page| page.page.next_token).unwrap_or_default();
            let search = json!({
                "subject": { "type": "user" }, "action": { "name": "view" }, "resource": { "type": "vessel", "id": "p60" },
                "page": { "token": token, "limit": 1_000 },
            });
            (call(&of, "POST", "/access/v1/search/subject", &search), Duration::ZERO)
        }),
    );
    let rehearsing = work(
        3,
        Box::new(move |_, _| {
            (call(&owner, "POST", "/api/v1/rehearsals", &json!({})), Duration::from_millis(20))
        }),
    );
    tokio::time::sleep(Duration::from_secs(1)).await;
    let start = Instant::now();
    counts.iter().for_each(|count| count.store(0, Ordering::Relaxed));
    let pressed = told("beside all of it", &measured(questions()).await);
    let seconds = start.elapsed().as_secs_f64();
    go_on.store(false, Ordering::Relaxed);
    for task in [writes, supposing, searching, rehearsing] {
        task.await.expect("went on");
    }
    let [writes, supposed, searched, rehearsed] = [0, 1, 2, 3].map(|at| counts[at].load(Ordering::Relaxed));
    println!(
        "meanwhile: {:.0} writes a second, {supposed} suppositions, {searched} pages of a search, {rehearsed} rehearsals",
        writes as f64 / seconds
    );
    println!(
        "the 99.9th percentile is {:.1} times that beside busy threads",
        pressed.as_secs_f64() / quiet.as_secs_f64()
    );
    loaded.end().await;
}
