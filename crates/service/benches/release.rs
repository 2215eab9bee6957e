//! What rolling out costs: single decisions under one revision, under two, with a shadow, and while a rollout is worked
//! out; a rollout with a million users; and going back on two nodes that are each 200 ms from the database, under load.
//! In one process and one run. Run it with `cargo xtask bench`.

#![allow(
    clippy::disallowed_methods,
    clippy::disallowed_macros,
    reason = "a benchmark has a clock and prints"
)]
#![allow(clippy::cast_possible_truncation, reason = "the numbers of a benchmark are small")]

mod loaded;
#[path = "../../core/benches/port/mod.rs"]
mod port;

use axum::Router;
use axum::body::Body;
use axum::http::Request;
use loaded::Loaded;
use loaded::asking::{EVERY, answered, call, decisions, told};
use ostrog_core::prelude::Sources;
use ostrog_service::node::Node;
use ostrog_service::{App, router};
use ostrog_store::Store;
use ostrog_store::key::{KeyKind, Making};
use serde_json::{Value, json};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::{TcpListener, TcpStream, tcp};

// As the program has it.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// How many users, unless `OSTROG_BENCH_USERS` says otherwise.
const USERS: usize = 1_000_000;
const TIME: Duration = Duration::from_secs(10);
/// How often something goes live and back.
const ROUNDS: usize = 30;
/// To the database and from it.
const ONE_WAY: Duration = Duration::from_millis(100);

/// Another application beside the port's, so that two revisions can be live.
const BESIDE: &str = "[application.customs]\n[resource.declaration]\napplication = \"customs\"\nwithin = \"tenant\"\nactions = { view = \"\" }\n";

/// The database, as far away as is said.
async fn far(url: &str) -> String {
    let at = url::Url::parse(url).expect("an address");
    let to = format!("{}:{}", at.host_str().expect("a host"), at.port().expect("a port"));
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let mut far = at;
    far.set_port(Some(listener.local_addr().expect("an address").port())).expect("can be set");
    tokio::spawn(async move {
        while let Ok((near, _)) = listener.accept().await {
            let Ok(there) = TcpStream::connect(&to).await else { continue };
            let ((one, other), (back, forth)) = (near.into_split(), there.into_split());
            tokio::spawn(later(one, forth));
            tokio::spawn(later(back, other));
        }
    });
    far.to_string()
}

/// Hands on what is read, later, in its order.
async fn later(mut from: tcp::OwnedReadHalf, mut to: tcp::OwnedWriteHalf) {
    let (sender, mut receiver) = tokio::sync::mpsc::unbounded_channel::<(Instant, Vec<u8>)>();
    let writing = tokio::spawn(async move {
        while let Some((due, bytes)) = receiver.recv().await {
            tokio::time::sleep_until(due.into()).await;
            if to.write_all(&bytes).await.is_err() {
                break;
            }
        }
    });
    let mut bytes = vec![0; 64 << 10];
    while let Ok(read @ 1..) = from.read(&mut bytes).await {
        let _ = sender.send((Instant::now() + ONE_WAY, bytes[..read].to_vec()));
    }
    drop(sender);
    let _ = writing.await;
}

async fn does(router: &Router, key: &str, path: &str, body: &Value) -> Value {
    let (status, body) = answered(router, call(key, "POST", path, body)).await;
    let answer: Value = serde_json::from_slice(&body).unwrap_or_default();
    assert!((200..300).contains(&status), "{path} {status} {answer}");
    answer
}

/// The median and the worst.
fn both(mut took: Vec<Duration>) -> String {
    took.sort_unstable();
    format!("median {:.1?}, worst {:.1?}", took[took.len() / 2], took[took.len() - 1])
}

#[tokio::main]
async fn main() {
    if std::env::args().any(|argument| argument == "--test") {
        return;
    }
    let loaded = Loaded::new(USERS).await;
    let Loaded { node, facts, users, took, url, .. } = &loaded;
    println!("{users} users, {} lines, loaded in {took:.1?}", facts.lines.len());
    let key = loaded.application().await;
    let owner = Making::whole(KeyKind::Operator, "bench");
    let owner = node.new_key_of_host(owner, "bench").await.expect("a key").reveal().to_owned();
    let first = router(App::new(Arc::clone(node), "http://127.0.0.1"));
    tokio::spawn(Arc::clone(node).follow());

    let asked = port::questions(facts, *users);
    let name = |name: &str| name.split_once(':').map(|(kind, id)| json!({ "type": kind, "id": id }));
    let question = |(user, asks, place): &(u32, port::Asks, u32)| -> (Request<Body>, bool) {
        let request = facts.request(*user, *asks, *place);
        let action = request.permission.split_once(':').map_or("", |(_, action)| action);
        let resource = request.resource.as_deref().and_then(name);
        let body =
            json!({ "subject": name(&request.subject), "action": { "name": action }, "resource": resource });
        (call(&key, "POST", "/access/v1/evaluation", &body), facts.by_hand.decide(*user, *asks, *place))
    };
    let questions = |time: Duration| {
        let count = (time.as_micros() / EVERY.as_micros()) as usize;
        asked.iter().cycle().take(count).map(question).collect::<Vec<_>>()
    };
    let measured = async |questions| {
        let (handle, router) = (tokio::runtime::Handle::current(), first.clone());
        let (tell, heard) = tokio::sync::oneshot::channel();
        std::thread::spawn(move || tell.send(decisions(handle, router, questions)));
        heard.await.expect("measured")
    };

    println!(
        "{:>24}  {:>10}  {:>10}  {:>10}  {:>10}",
        "single decisions", "median", "99th", "99.9th", "worst"
    );
    told("one revision", &measured(questions(TIME)).await);
    let text = format!("{}{BESIDE}", port::CHARTER);
    let put = node.put_live(Sources::single("bench.toml", &text), "two applications", "bench").await;
    put.unwrap_or_else(|why| panic!("{}", why.detail()));
    // Readers plan, too: each of the million is asked about.
    let wider =
        text.replace("permissions = [\"vessel:view\"", "permissions = [\"vessel:plan\", \"vessel:view\"");
    let files = json!([{ "path": "bench.toml", "text": text.clone() + "# another\n" }]);
    let draft = does(&first, &owner, "/api/v1/drafts", &json!({ "title": "another", "files": files })).await;
    let draft = draft["draft"]["id"].as_str().expect("an id").to_owned();
    let same = Instant::now();
    does(&first, &owner, "/api/v1/rollouts", &json!({ "what": draft, "for": "quay" })).await;
    let same = same.elapsed();
    told("two revisions", &measured(questions(TIME)).await);
    let shadow = does(&first, &owner, "/api/v1/shadows", &json!({ "revision": 2, "for": "all" })).await;
    told("with a shadow", &measured(questions(TIME)).await);
    let (_, told_of) = answered(&first, call(&owner, "GET", "/api/v1/shadows", &Value::Null)).await;
    let told_of: Value = serde_json::from_slice(&told_of).expect("shadows");
    println!(
        "                          the shadow answered {} again, one in {}; {} differ",
        told_of[0]["asked"], told_of[0]["sampled"], told_of[0]["differing"]
    );
    answered(&first, call(&owner, "DELETE", &format!("/api/v1/shadows/{}", shadow["number"]), &Value::Null))
        .await;

    let files = json!([{ "path": "bench.toml", "text": wider }]);
    let draft = does(&first, &owner, "/api/v1/drafts", &json!({ "title": "wider", "files": files })).await;
    let rolled = {
        let (router, owner) = (first.clone(), owner.clone());
        let asked = json!({ "what": draft["draft"]["id"], "for": "all", "check": true });
        async move {
            let begun = Instant::now();
            let answer = does(&router, &owner, "/api/v1/rollouts", &asked).await;
            (begun.elapsed(), answer["words"].as_str().unwrap_or_default().to_owned())
        }
    };
    let (during, (took, words)) = tokio::join!(measured(questions(TIME)), rolled);
    told("while it is worked out", &during);
    println!("a rollout of what means the same: {same:.1?}; of what moves something: {took:.1?} ({words})");

    // Two nodes, each far from the database, and one of them asked all the time.
    let far = far(url).await;
    let begun = Instant::now();
    let open = async || {
        let store = Store::open(&far).await.expect("opens");
        let node = Arc::new(Node::open(store, Duration::from_secs(3_600)).await.expect("opens"));
        tokio::spawn(Arc::clone(&node).follow());
        node
    };
    let (here, there) = (open().await, open().await);
    println!("two nodes 200 ms from the database, started in {:.1?}", begun.elapsed());
    let router = router(App::new(Arc::clone(&here), "http://127.0.0.1"));
    let load = measured(questions(Duration::from_secs(1) * ROUNDS as u32));
    let at = |node: &Node| node.live_revision().map_or(0, |(_, position)| position);
    let rounds = async {
        let (mut answers, mut follows) = (Vec::new(), Vec::new());
        for _ in 0..ROUNDS {
            let wanted = at(&here) + 1;
            does(&router, &owner, "/api/v1/rollouts", &json!({ "what": "2", "for": "quay", "over": 3 }))
                .await;
            while at(&there) < wanted || at(&here) < wanted {
                tokio::time::sleep(Duration::from_millis(1)).await;
            }
            let begun = Instant::now();
            let asked = json!({ "for": "quay", "note": "back" });
            let back = does(&router, &owner, "/api/v1/rollbacks", &asked);
            let followed = async {
                while at(&here) <= wanted {
                    tokio::time::sleep(Duration::from_millis(1)).await;
                }
                let kept = Instant::now();
                while at(&there) <= wanted {
                    tokio::time::sleep(Duration::from_millis(1)).await;
                }
                (kept.duration_since(begun), kept.elapsed())
            };
            let (_, (kept, followed)) = tokio::join!(back, followed);
            answers.push(kept);
            follows.push(followed);
        }
        (answers, follows)
    };
    let (asked, (answers, follows)) = tokio::join!(load, rounds);
    println!("rolled back {ROUNDS} times: in force on the node that was asked after {}", both(answers));
    println!("and on the other one after that by {}", both(follows));
    told("decisions beside it", &asked);
    loaded.end().await;
}
