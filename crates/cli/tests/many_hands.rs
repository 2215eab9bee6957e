//! Charter and register kept by many hands: nodes that follow each other, writers that race, an axe
//! that falls at any moment, a database that goes away, and operators who may do less than all.

mod support;

use ostrog_client::changes::From;
use ostrog_client::wire::changes::{ChangeQuery, ChangeShown};
use ostrog_core::prelude::{Change, Checks, Register, Sources, charter, line};
use ostrog_core::register::journal::Entry;
use ostrog_store::cluster::Cluster;
use serde_json::{Value, json};
use std::collections::BTreeSet;
use std::path::Path;
use std::time::{Duration, Instant};
use support::{Service, folder, signal};

const TENANT: &str = "{\"entity\":\"tenant:north\"}\n{\"entity\":\"user:ines\",\"tenants\":[\"north\"]}\n{\"entity\":\"vessel:a\",\"within\":\"tenant:north\"}";

struct Dice(u64);

impl Dice {
    fn below(&mut self, bound: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % bound
    }

    fn pick<'a>(&mut self, all: &[&'a str]) -> &'a str {
        all[usize::try_from(self.below(all.len() as u64)).expect("small")]
    }
}

async fn load(service: &Service, lines: &str) -> (u16, Value) {
    service.send(service.loading(lines)).await
}

/// Everything a service holds, as register lines.
fn saved(service: &Service) -> Vec<Value> {
    let out = service.ostrog().args(["register", "save"]).output().expect("runs");
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let text = String::from_utf8(out.stdout).expect("UTF-8");
    let mut lines: Vec<Value> = text.lines().map(|line| serde_json::from_str(line).expect("JSON")).collect();
    lines.sort_by_key(ToString::to_string);
    lines
}

/// All changes, oldest first.
async fn changes(service: &Service) -> Vec<ChangeShown> {
    let mut all: Vec<ChangeShown> = Vec::new();
    let mut before = None;
    loop {
        let query = ChangeQuery { before, limit: Some(1_000), ..ChangeQuery::default() };
        let page = service.client().changes(&query).await.expect("a page");
        all.extend(page.items);
        before = page.next.map(|next| next.parse().expect("a position"));
        if before.is_none() {
            all.reverse();
            return all;
        }
    }
}

/// The register that changes come to, made by the core alone.
fn replayed(changes: &[ChangeShown]) -> Vec<Value> {
    let mut register = Register::default();
    for change in changes.iter().filter(|change| change.kind == "register") {
        let entries: Vec<Entry> =
            change.lines.iter().map(|line| Entry::from_json(line).expect("an entry")).collect();
        register.fold(&entries).expect("follows");
    }
    // What was deleted is told by no list.
    let gone = |line: &Value| line.get("state").is_some_and(|state| state == "deleted");
    let mut lines: Vec<Value> = register.lines().filter(|line| !gone(line)).collect();
    lines.sort_by_key(ToString::to_string);
    lines
}

fn positions(changes: &[ChangeShown]) -> Vec<i64> {
    changes.iter().map(|change| change.position).collect()
}

// -- an axe --------------------------------------------------------------------------------------

/// How often the axe falls.
fn rounds(usual: u64) -> u64 {
    std::env::var("OSTROG_CRASHES").ok().and_then(|text| text.parse().ok()).unwrap_or(usual)
}

/// Many writers; `axe` falls while they write. Gives the names whose writes were acknowledged.
async fn under_the_axe(service: &Service, round: u64, wait: u64, axe: impl FnOnce()) -> Vec<String> {
    let writers: Vec<_> = (0..30)
        .map(|at| {
            let name = format!("user:r{round}-{at}");
            let lines = format!(
                "{{\"entity\":\"{name}\",\"tenants\":[\"north\"]}}\n{{\"grant\":{{\"role\":\"deckhand\",\"to\":\"{name}\",\"at\":\"tenant:north\"}}}}"
            );
            let request = service.loading(&lines);
            tokio::spawn(async move {
                let response = request.send().await.ok()?;
                (response.status() == 200).then_some(name)
            })
        })
        .collect();
    tokio::time::sleep(Duration::from_millis(wait)).await;
    axe();
    let mut kept = Vec::new();
    for writer in writers {
        kept.extend(writer.await.expect("ran"));
    }
    kept
}

/// Nothing that was acknowledged is lost, nothing is half there, and all ways to the register agree.
async fn whole(service: &Service, acknowledged: &[String]) {
    assert!(!acknowledged.is_empty(), "the axe fell before any write");
    let lines = saved(service);
    let names: BTreeSet<&str> = lines.iter().filter_map(|line| line["entity"].as_str()).collect();
    let holders: BTreeSet<&str> = lines.iter().filter_map(|line| line["grant"]["to"].as_str()).collect();
    for name in acknowledged {
        assert!(names.contains(name.as_str()) && holders.contains(name.as_str()), "{name} is lost");
    }
    let users = names.iter().filter(|name| name.starts_with("user:r")).count();
    assert_eq!(users, holders.len(), "half of a write is there");
    let changes = changes(service).await;
    let count = i64::try_from(changes.len()).expect("few");
    assert_eq!(positions(&changes), (1..=count).collect::<Vec<_>>());
    assert_eq!(service.get("/api/v1/status").await.1["position"], count);
    assert_eq!(lines, replayed(&changes), "memory is not what the changes come to");
}

#[tokio::test(flavor = "multi_thread")]
async fn killed_at_any_moment_it_loses_nothing_that_was_acknowledged() {
    let folder = folder();
    let cluster = Cluster::start(&folder.path().join("data")).expect("starts");
    let url = cluster.database("axe").await.expect("a database");
    let mut service = Service::on(&url, None);
    let operator = service.operator.clone();
    // As long as a write takes here, whatever else the machine does.
    let begun = std::time::Instant::now();
    assert_eq!(load(&service, TENANT).await.0, 200);
    let pace = u64::try_from(begun.elapsed().as_millis()).unwrap_or(u64::MAX).clamp(20, 1_000);
    let mut dice = Dice(11);
    let mut acknowledged = Vec::new();
    for round in 0..rounds(40) {
        let wait = dice.below(pace * 3);
        let pid = service.pid();
        acknowledged.extend(under_the_axe(&service, round, wait, || signal(pid, "KILL")).await);
        service.kill();
        service = Service::on(&url, Some(&operator));
    }
    whole(&service, &acknowledged).await;
    drop(service);
    cluster.stop().expect("stops");
}

/// The process that holds a private database.
fn postmaster(data: &Path) -> u32 {
    let text = std::fs::read_to_string(data.join("postgresql/data/postmaster.pid")).expect("runs");
    text.lines().next().and_then(|line| line.trim().parse().ok()).expect("a number")
}

#[tokio::test(flavor = "multi_thread")]
async fn its_database_killed_at_any_moment_loses_nothing_that_was_acknowledged() {
    let folder = folder();
    let data = folder.path().join("data");
    let mut cluster = Cluster::start(&data).expect("starts");
    let url = cluster.database("axe").await.expect("a database");
    let service = Service::on(&url, None);
    assert_eq!(load(&service, TENANT).await.0, 200);
    let mut dice = Dice(12);
    let mut acknowledged = Vec::new();
    for round in 0..rounds(12) {
        let pid = postmaster(&data);
        let wait = dice.below(60);
        acknowledged.extend(under_the_axe(&service, round, wait, || signal(pid, "KILL")).await);
        drop(cluster);
        // Its children end when they notice; until then the folder is theirs.
        let start = Instant::now();
        cluster = loop {
            let started = Cluster::start(&data);
            if let Ok(started) = started {
                match started.database("axe").await {
                    Ok(found) => {
                        assert_eq!(found, url, "it is where it was");
                        break started;
                    }
                    // It was still seen running, and was not.
                    Err(error) => assert!(start.elapsed() < Duration::from_secs(30), "{error}"),
                }
            }
            assert!(start.elapsed() < Duration::from_secs(30), "it does not start again");
            tokio::time::sleep(Duration::from_millis(50)).await;
        };
        let back = Instant::now();
        while load(&service, "{\"entity\":\"user:ines\",\"tenants\":[\"north\"]}").await.0 != 200 {
            assert!(back.elapsed() < Duration::from_secs(10), "it does not come back");
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    }
    whole(&service, &acknowledged).await;
    // A node that reads everything anew holds the same.
    let other = Service::on(&url, Some(&service.operator));
    assert_eq!(saved(&other), saved(&service));
    drop((service, other));
    cluster.stop().expect("stops");
}

// -- a database that goes away -------------------------------------------------------------------

#[tokio::test(flavor = "multi_thread")]
async fn without_its_database_it_answers_says_its_age_refuses_writes_and_comes_back() {
    let folder = folder();
    let data = folder.path().join("data");
    let cluster = Cluster::start(&data).expect("starts");
    let url = cluster.database("away").await.expect("a database");
    let service = Service::with(&["--database", &url], None);
    let short = Service::with(&["--database", &url, "--max-stale", "3s"], Some(&service.operator));
    assert_eq!(load(&service, TENANT).await.0, 200);
    let question = json!({ "subject": { "type": "user", "id": "ines" }, "action": { "name": "view" }, "resource": { "type": "vessel", "id": "a" } });
    let ask = |service: &Service| {
        let request = service.http().post(format!("{}/access/v1/evaluation", service.url));
        request.bearer_auth(&service.operator).json(&question).send()
    };
    cluster.stop().expect("stops");
    drop(cluster);
    let gone = Instant::now();
    let (mut aged, mut shut) = (false, false);
    while gone.elapsed() < Duration::from_secs(6) {
        let answer = ask(&service).await.expect("an answer");
        assert_eq!(answer.status(), 200);
        aged |= answer.headers().contains_key("ostrog-stale");
        let body: Value = answer.json().await.expect("JSON");
        assert_eq!(body["decision"], true, "{body}");
        shut = ask(&short).await.expect("an answer").status() == 503;
    }
    assert!(aged, "it never said how old its answers were");
    assert!(shut, "past max-stale it went on answering");
    assert_eq!(
        service
            .post(
                &short.operator,
                "/api/v1/ask",
                &json!({ "subject": "user:ines", "permission": "vessel:view" })
            )
            .await
            .0,
        200
    );
    let ready = |service: &Service| service.http().get(format!("{}/readyz", service.url)).send();
    assert_eq!(ready(&service).await.expect("an answer").status(), 200);
    assert_eq!(ready(&short).await.expect("an answer").status(), 503);
    // What is read of memory that may be old says so.
    let read = service.http().get(format!("{}/api/v1/entities", service.url)).bearer_auth(&service.operator);
    assert!(read.send().await.expect("an answer").headers().contains_key("ostrog-stale"));
    let (status, problem) = load(&service, "{\"entity\":\"user:new\"}").await;
    assert_eq!((status, &problem["type"]), (503, &json!("urn:ostrog:problem:unavailable")), "{problem}");
    let cluster = Cluster::start(&data).expect("starts again");
    let back = Instant::now();
    while ask(&short).await.expect("an answer").status() != 200 {
        assert!(back.elapsed() < Duration::from_secs(3), "it does not come back");
    }
    // Each node finds out for itself, within the same stretch.
    while load(&service, "{\"entity\":\"user:new\"}").await.0 != 200 {
        assert!(back.elapsed() < Duration::from_secs(3), "it takes no writes again");
    }
    drop((service, short));
    cluster.stop().expect("stops");
}

// -- nodes ---------------------------------------------------------------------------------------

#[tokio::test(flavor = "multi_thread")]
async fn what_one_node_writes_is_in_force_on_the_other_at_once() {
    let folder = folder();
    let cluster = Cluster::start(&folder.path().join("data")).expect("starts");
    let url = cluster.database("nodes").await.expect("a database");
    let first = Service::on(&url, None);
    let second = Service::on(&url, Some(&first.operator));
    assert_eq!(load(&first, TENANT).await.0, 200);
    let question = json!({ "subject": { "type": "user", "id": "ines" }, "action": { "name": "view" }, "resource": { "type": "vessel", "id": "a" } });
    let mut waits = Vec::new();
    for round in 0..30 {
        let state = if round % 2 == 0 { "suspended" } else { "active" };
        let (status, written) =
            load(&first, &format!("{{\"entity\":\"user:ines\",\"state\":\"{state}\",\"merge\":true}}")).await;
        assert_eq!(status, 200, "{written}");
        let start = Instant::now();
        // The other node is asked for an answer that includes the write.
        let request = second.http().post(format!("{}/access/v1/evaluation", second.url));
        let request = request.bearer_auth(&second.operator).json(&question);
        let request =
            request.header("ostrog-min-position", written["position"].as_str().expect("a position"));
        let (status, answer) = second.send(request).await;
        assert_eq!((status, &answer["decision"]), (200, &json!(state == "active")), "{answer}");
        waits.push(start.elapsed());
    }
    waits.sort_unstable();
    assert!(waits[15] < Duration::from_millis(200), "the median is {:?}", waits[15]);
    // What cannot be reached is refused, not answered from the past.
    for (wanted, status) in [("999999", 503), ("other.1", 503), ("x", 400), ("1", 200)] {
        let request = second.http().post(format!("{}/access/v1/evaluation", second.url));
        let request =
            request.bearer_auth(&second.operator).json(&question).header("ostrog-min-position", wanted);
        assert_eq!(second.send(request).await.0, status, "{wanted}");
    }
    // A new key counts on the other node, and an ended one does not.
    let asked = json!({ "name": "reader", "rights": [{ "role": "reader", "at": "everywhere" }] });
    let (status, made) = first.post(&first.operator, "/api/v1/keys", &asked).await;
    assert_eq!(status, 200, "{made}");
    let (text, id) = (made["text"].as_str().expect("a key"), made["key"]["id"].as_str().expect("an id"));
    let works = async |wanted: u16| {
        let start = Instant::now();
        loop {
            let status = second
                .post(text, "/api/v1/ask", &json!({ "subject": "user:ines", "permission": "vessel:view" }))
                .await
                .0;
            if status == wanted {
                return;
            }
            assert!(start.elapsed() < Duration::from_secs(1), "{status}, not {wanted}");
        }
    };
    works(200).await;
    assert_eq!(first.delete(&format!("/api/v1/keys/{id}")).await.0, 200);
    works(401).await;
    drop((first, second));
    cluster.stop().expect("stops");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stream_of_changes_is_taken_up_where_it_broke_off() {
    let folder = folder();
    let cluster = Cluster::start(&folder.path().join("data")).expect("starts");
    let url = cluster.database("stream").await.expect("a database");
    let first = Service::on(&url, None);
    let second = Service::on(&url, Some(&first.operator));
    let client = ostrog_client::Client::new(&second.url, &second.operator).expect("a client");
    assert_eq!(load(&first, TENANT).await.0, 200);
    let mut seen = Vec::new();
    let mut last = From::Now;
    let mut stream = client.follow(&From::After(0)).await.expect("streams");
    for round in 0..6 {
        let line = format!("{{\"entity\":\"user:n{round}\"}}");
        let (status, written) = load(if round % 2 == 0 { &first } else { &second }, &line).await;
        assert_eq!(status, 200, "{written}");
        let position = written["position"].as_str().and_then(|text| text.rsplit('.').next()?.parse().ok());
        while seen.last() != position.as_ref() {
            let next = tokio::time::timeout(Duration::from_secs(5), stream.next()).await.expect("in time");
            let next = next.expect("reads").expect("goes on");
            seen.push(next.change.position);
            last = From::Event(next.id);
        }
        // Broken off, and taken up again.
        stream = client.follow(&last).await.expect("streams");
    }
    assert_eq!(seen, (1..=i64::try_from(seen.len()).expect("few")).collect::<Vec<_>>());
    drop((stream, first, second));
    cluster.stop().expect("stops");
}

/// A write that may or may not be valid.
fn random_line(dice: &mut Dice) -> String {
    let users = ["user:a", "user:b", "user:c"];
    let groups = ["group:g", "group:h", "group:i"];
    let any = ["user:a", "user:b", "group:g", "group:h", "group:i"];
    let places = ["tenant:north", "vessel:a", "vessel:b", "everywhere"];
    let line = match dice.below(9) {
        0 => json!({ "entity": dice.pick(&users), "tenants": ["north"] }),
        1 | 2 => json!({ "entity": dice.pick(&groups), "members": [dice.pick(&any), dice.pick(&any)] }),
        3 => {
            json!({ "entity": dice.pick(&["vessel:a", "vessel:b"]), "within": dice.pick(&["tenant:north", "tenant:south"]) })
        }
        4 => json!({ "delete": dice.pick(&any) }),
        5 => json!({ "end-grant": format!("g-{}", dice.below(12) + 1) }),
        _ => {
            let role = dice.pick(&["deckhand", "inspector", "declaring-agent", "nobody"]);
            json!({ "grant": { "role": role, "to": dice.pick(&any), "at": dice.pick(&places) } })
        }
    };
    line.to_string()
}

#[tokio::test(flavor = "multi_thread")]
async fn histories_on_two_nodes_are_those_of_the_core() {
    let folder = folder();
    let cluster = Cluster::start(&folder.path().join("data")).expect("starts");
    let url = cluster.database("histories").await.expect("a database");
    let first = Service::on(&url, None);
    let second = Service::on(&url, Some(&first.operator));
    let start = "{\"entity\":\"tenant:north\"}\n{\"entity\":\"tenant:south\"}\n{\"entity\":\"user:a\"}\n{\"entity\":\"group:g\"}";
    assert_eq!(load(&first, start).await.0, 200);
    let folder_of_charter = support::root().join("demo/harbour");
    let files = std::fs::read_dir(folder_of_charter).expect("is there").map(|entry| {
        let path = entry.expect("readable").path();
        let name = path.file_name().and_then(|name| name.to_str()).expect("UTF-8").to_owned();
        ostrog_core::source::SourceFile { path: name, text: std::fs::read_to_string(&path).expect("UTF-8") }
    });
    let policy = charter::read(&Sources::new(files.collect())).policy.expect("no errors");
    let mut model = Register::default();
    let parse =
        |text: &str| -> Vec<Change> { text.lines().map(|text| line::parse(text).expect("a line")).collect() };
    let policies = [&policy];
    model.apply(&parse(start), Checks::of(&policies)).expect("valid");
    let mut dice = Dice(5);
    let (mut kept, mut refused) = (0, 0);
    for _ in 0..250 {
        let batch: Vec<String> = (0..=dice.below(3)).map(|_| random_line(&mut dice)).collect();
        let batch = batch.join("\n");
        let node = if dice.below(2) == 0 { &first } else { &second };
        let (status, told) = load(node, &batch).await;
        let now = Some(jiff::Timestamp::now());
        let checks = Checks { now, ..Checks::of(&policies) };
        let expected = model.apply(&parse(&batch), checks);
        assert_eq!(status == 200, expected.is_ok(), "{batch}\n{told}\n{expected:?}");
        if status == 200 { kept += 1 } else { refused += 1 }
    }
    assert!(kept > 40 && refused > 40, "{kept} kept, {refused} refused");
    // The rest at once from many sides: the order is the database's.
    let lines = (0..60).map(|_| random_line(&mut dice)).collect();
    let statuses = at_once([&first, &second], lines).await;
    assert!(statuses.iter().all(|status| matches!(status, 200 | 422)), "{statuses:?}");
    let changes = changes(&first).await;
    let end = changes.len();
    assert_eq!(positions(&changes), (1..=i64::try_from(end).expect("few")).collect::<Vec<_>>());
    let expected = replayed(&changes);
    for service in [&first, &second] {
        let start = Instant::now();
        while service.get("/api/v1/status").await.1["position"] != json!(end) {
            assert!(start.elapsed() < Duration::from_secs(2), "it does not catch up");
        }
        assert_eq!(saved(service), expected);
    }
    drop((first, second));
    cluster.stop().expect("stops");
}

/// Loads every one of some texts, all at once, in turn through two nodes.
async fn at_once(nodes: [&Service; 2], texts: Vec<String>) -> Vec<u16> {
    let requests = texts.into_iter().enumerate().map(|(at, text)| {
        let service = nodes[at % 2];
        let request = service.loading(&text).send();
        tokio::spawn(async move { request.await.expect("an answer").status().as_u16() })
    });
    let requests: Vec<_> = requests.collect();
    let mut statuses = Vec::new();
    for request in requests {
        statuses.push(request.await.expect("ran"));
    }
    statuses
}

#[tokio::test(flavor = "multi_thread")]
async fn ten_writers_never_make_together_what_none_may_make_alone() {
    let folder = folder();
    let cluster = Cluster::start(&folder.path().join("data")).expect("starts");
    let url = cluster.database("race").await.expect("a database");
    let first = Service::on(&url, None);
    let second = Service::on(&url, Some(&first.operator));
    let groups: String = (0..10).map(|at| format!("\n{{\"entity\":\"group:c{at}\"}}")).collect();
    assert_eq!(load(&first, &format!("{TENANT}{groups}")).await.0, 200);
    let nodes = [&first, &second];
    for round in 0..5 {
        // Ten groups, each to be a member of the next: the last one would close the circle.
        let circle = (0..10)
            .map(|at| format!("{{\"entity\":\"group:c{at}\",\"members\":[\"group:c{}\"]}}", (at + 1) % 10));
        let statuses = at_once(nodes, circle.collect()).await;
        assert_eq!(
            statuses.iter().filter(|status| **status == 422).count(),
            1,
            "round {round}: {statuses:?}"
        );
        let open: String = (0..10).map(|at| format!("{{\"entity\":\"group:c{at}\"}}\n")).collect();
        assert_eq!(load(&first, &open).await.0, 200);
        // Two roles that nobody may hold both of, five writers each.
        let user = format!("user:s{round}");
        assert_eq!(load(&first, &format!("{{\"entity\":\"{user}\"}}")).await.0, 200);
        let parted = (0..10).map(|at| {
            let role = if at % 2 == 0 { "inspector" } else { "declaring-agent" };
            format!("{{\"grant\":{{\"role\":\"{role}\",\"to\":\"{user}\",\"at\":\"tenant:north\"}}}}")
        });
        let statuses = at_once(nodes, parted.collect()).await;
        assert_eq!(
            statuses.iter().filter(|status| **status == 200).count(),
            5,
            "round {round}: {statuses:?}"
        );
        // The same grant ten times is one grant.
        let same = format!("{{\"grant\":{{\"role\":\"deckhand\",\"to\":\"{user}\",\"at\":\"vessel:a\"}}}}");
        assert_eq!(at_once(nodes, vec![same; 10]).await, [200; 10]);
        let grants = first.get(&format!("/api/v1/grants?to={user}")).await.1;
        assert_eq!(grants["items"].as_array().map(Vec::len), Some(2), "{grants}");
    }
    drop((first, second));
    cluster.stop().expect("stops");
}

// -- operators -----------------------------------------------------------------------------------

#[tokio::test(flavor = "multi_thread")]
async fn operators_do_what_their_rights_say_and_nobody_raises_their_own() {
    let folder = folder();
    let service = Service::demo(folder.path());
    let make = async |by: &str, name: &str, rights: Value| {
        let (status, made) =
            service.post(by, "/api/v1/keys", &json!({ "name": name, "rights": rights })).await;
        (
            status,
            made["text"].as_str().unwrap_or_default().to_owned(),
            made["key"]["id"].as_str().unwrap_or_default().to_owned(),
        )
    };
    let owner = service.operator.clone();
    let right = |role: &str, at: &str| json!([{ "role": role, "at": at }]);
    let mut keys = Vec::new();
    for (role, at) in [
        ("reader", "everywhere"),
        ("grant-editor", "tenant:northline"),
        ("entity-editor", "everywhere"),
        ("charter-author", "everywhere"),
        ("releaser", "everywhere"),
        ("key-keeper", "everywhere"),
    ] {
        let (status, text, _) = make(&owner, role, right(role, at)).await;
        assert_eq!(status, 200, "{role}");
        keys.push(text);
    }
    let grant = |at: &str| ("/api/v1/grants", json!({ "role": "deckhand", "to": "user:ines", "at": at }));
    let entity = ("/api/v1/facts", json!({ "set": ["user:ines.clearance = 5"] }));
    let draft = ("/api/v1/drafts", json!({ "title": "x", "files": [] }));
    let back = ("/api/v1/rollbacks", json!({ "for": "all", "note": "x" }));
    let key = ("/api/v1/keys", json!({ "name": "x", "application": "customs" }));
    let ask = ("/api/v1/ask", json!({ "subject": "user:ines", "permission": "tariff:view" }));
    let ask_north = (
        "/api/v1/ask",
        json!({ "subject": "user:ines", "permission": "vessel:view", "resource": "vessel:kestrel" }),
    );
    // reader, grant-editor at northline, entity-editor, charter-author, releaser, key-keeper
    let table: [(&(&str, Value), [u16; 6]); 8] = [
        (&grant("tenant:northline"), [403, 200, 403, 403, 403, 403]),
        (&grant("tenant:hallfjord"), [403, 403, 403, 403, 403, 403]),
        (&grant("everywhere"), [403, 403, 403, 403, 403, 403]),
        (&entity, [403, 403, 200, 403, 403, 403]),
        (&draft, [403, 403, 403, 200, 403, 403]),
        (&back, [403, 403, 403, 403, 409, 403]),
        (&key, [403, 403, 403, 403, 403, 200]),
        (&ask, [200, 403, 200, 200, 200, 200]),
    ];
    for ((path, body), statuses) in table {
        for (text, status) in keys.iter().zip(statuses) {
            let (found, told) = service.post(text, path, body).await;
            assert_eq!(found, status, "{path} {body}: {told}");
        }
    }
    assert_eq!(service.post(&keys[1], ask_north.0, &ask_north.1).await.0, 200);
    // A tenant's operator sees the tenant and no more.
    let of = async |path: &str| {
        service.send(service.http().get(format!("{}{path}", service.url)).bearer_auth(&keys[1])).await
    };
    let (_, page) = of("/api/v1/grants?limit=1000").await;
    let places = page["items"]
        .as_array()
        .expect("items")
        .iter()
        .map(|line| line["grant"]["at"].as_str().unwrap_or_default());
    assert!(
        places.clone().count() > 3 && places.clone().all(|at| at != "everywhere" && at != "tenant:hallfjord"),
        "{page}"
    );
    let elsewhere = of("/api/v1/entities/tenant:hallfjord").await;
    let nowhere = of("/api/v1/entities/tenant:nowhere").await;
    assert_eq!((elsewhere.0, elsewhere.1["type"].clone()), (nowhere.0, nowhere.1["type"].clone()));
    // Nobody raises their own rights, by making a key or by replacing one.
    let keeper = &keys[5];
    for rights in [
        right("owner", "everywhere"),
        right("grant-editor", "tenant:northline"),
        right("releaser", "everywhere"),
    ] {
        assert_eq!(make(keeper, "more", rights).await.0, 403);
    }
    assert_eq!(make(keeper, "same", right("key-keeper", "everywhere")).await.0, 200);
    let all = service.get("/api/v1/keys").await.1;
    let owners: Vec<&str> = all
        .as_array()
        .expect("keys")
        .iter()
        .filter(|key| key["rights"][0]["role"] == "owner")
        .filter_map(|key| key["id"].as_str())
        .collect();
    assert_eq!(owners.len(), 1);
    let replace = format!("/api/v1/keys/{}/replacement", owners[0]);
    assert_eq!(service.post(keeper, &replace, &json!({})).await.0, 403);
    let end = service.http().delete(format!("{}/api/v1/keys/{}", service.url, owners[0]));
    assert_eq!(service.send(end.bearer_auth(keeper)).await.0, 403);
    assert_eq!(service.delete(&format!("/api/v1/keys/{}", owners[0])).await.0, 409, "the last owner stays");
    // Replaced, the old key counts on for the overlap, and no longer.
    let replaced = |seconds: u32| format!("{replace}?overlap={seconds}");
    let (status, new) = service.post(&owner, &replaced(2), &json!({})).await;
    assert_eq!(status, 200, "{new}");
    assert_eq!(service.get("/api/v1/status").await.0, 200);
    tokio::time::sleep(Duration::from_millis(2_200)).await;
    assert_eq!(service.get("/api/v1/status").await.0, 401);
    let text = new["text"].as_str().expect("a key");
    let status = service.http().get(format!("{}/api/v1/status", service.url)).bearer_auth(text);
    assert_eq!(service.send(status).await.0, 200);
    // Two owners end each other's keys at once: one of them stays.
    let mut last = (text.to_owned(), new["key"]["id"].as_str().expect("an id").to_owned());
    for _ in 0..rounds(5) {
        let (_, text, id) = make(&last.0, "second", right("owner", "everywhere")).await;
        let second = (text, id);
        let end = |by: &str, id: &str| {
            let call = service.http().delete(format!("{}/api/v1/keys/{id}", service.url));
            service.send(call.bearer_auth(by))
        };
        let (first_ended, second_ended) = tokio::join!(end(&second.0, &last.1), end(&last.0, &second.1));
        assert_ne!(first_ended.0 == 200, second_ended.0 == 200, "{first_ended:?} {second_ended:?}");
        if first_ended.0 == 200 {
            last = second;
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_applications_key_hears_and_asks_what_it_may() {
    let folder = folder();
    let service = Service::demo(folder.path());
    let make = async |more: Value| {
        let mut asked = json!({ "name": "desk", "application": "customs" });
        asked.as_object_mut().expect("an object").extend(more.as_object().cloned().expect("an object"));
        let (status, made) = service.post(&service.operator, "/api/v1/keys", &asked).await;
        assert_eq!(status, 200, "{made}");
        made["text"].as_str().expect("a key").to_owned()
    };
    let question = |kind: &str, id: &str| {
        json!({
            "subject": { "type": "user", "id": "ines" }, "action": { "name": "view" },
            "resource": { "type": kind, "id": id }, "context": { "explain": true },
        })
    };
    let ask = async |key: &str, kind: &str, id: &str| {
        service.post(key, "/access/v1/evaluation", &question(kind, id)).await.1
    };
    let (none, reason, full) = (
        make(json!({ "detail": "none" })).await,
        make(json!({})).await,
        make(json!({ "detail": "full" })).await,
    );
    assert_eq!(ask(&none, "manifest", "m-204").await, json!({ "decision": true, "context": {} }));
    assert_eq!(
        ask(&reason, "manifest", "m-204").await,
        json!({ "decision": true, "context": { "reason": "role:inspector" } })
    );
    assert!(ask(&full, "manifest", "m-204").await["context"]["explanation"].is_object());
    // Another application's type, unless it is listed.
    assert_eq!(ask(&reason, "vessel", "kestrel").await["context"]["reason"], "unknown-type");
    let listed = make(json!({ "types": ["vessel"] })).await;
    assert_eq!(ask(&listed, "vessel", "kestrel").await["decision"], true);
    // Kept to one endpoint.
    let kept = make(json!({ "endpoints": ["search"] })).await;
    assert_eq!(service.post(&kept, "/access/v1/evaluation", &question("manifest", "m-204")).await.0, 403);
    // The three searches, page by page, agree with questions one by one.
    let mut found = Vec::new();
    let mut token = json!(null);
    loop {
        let search = json!({ "subject": { "type": "user", "id": "ines" }, "action": { "name": "release" }, "resource": { "type": "manifest" }, "page": { "token": token, "limit": 3 } });
        let (status, page) = service.post(&kept, "/access/v1/search/resource", &search).await;
        assert_eq!(status, 200, "{page}");
        let other = json!({ "subject": { "type": "user", "id": "ola" }, "action": { "name": "release" }, "resource": { "type": "manifest" }, "page": page["page"]["next_token"].as_str().map(|token| json!({ "token": token })) });
        if page["page"]["next_token"] != "" {
            assert_eq!(
                service.post(&kept, "/access/v1/search/resource", &other).await.0,
                400,
                "a token of another query"
            );
        }
        found.extend(page["results"].as_array().cloned().expect("results"));
        token = page["page"]["next_token"].clone();
        if token == "" {
            break;
        }
    }
    let told = service
        .post(
            &service.operator,
            "/api/v1/reach",
            &json!({ "subject": "user:ines", "permission": "manifest:release" }),
        )
        .await
        .1;
    let mut expected: Vec<&str> = told["items"]
        .as_array()
        .expect("items")
        .iter()
        .filter_map(|item| item["resource"].as_str()?.split_once(':').map(|(_, id)| id))
        .collect();
    expected.sort_unstable();
    let ids: Vec<&str> = found.iter().filter_map(|result| result["id"].as_str()).collect();
    assert!(ids.len() > 3);
    assert_eq!(ids, expected);
    let who = json!({ "subject": { "type": "user" }, "action": { "name": "release" }, "resource": { "type": "manifest", "id": "m-205" }, "page": { "limit": 1000 } });
    let who = service.post(&kept, "/access/v1/search/subject", &who).await.1;
    for subject in who["results"].as_array().expect("results") {
        let answer = service
            .evaluate(
                &service.customs,
                &format!("user:{}", subject["id"].as_str().expect("an id")),
                "release",
                "manifest:m-205",
            )
            .await;
        assert_eq!(answer["decision"], true);
    }
    let what = json!({ "subject": { "type": "user", "id": "ines" }, "resource": { "type": "manifest", "id": "m-205" } });
    let what = service.post(&kept, "/access/v1/search/action", &what).await.1;
    assert!(what["results"].as_array().expect("results").contains(&json!({ "name": "view" })), "{what}");
    // Who is not said is a mistake, not anonymous.
    for looks_for in ["resource", "action"] {
        let nobody = json!({ "subject": { "type": "user" }, "action": { "name": "view" }, "resource": { "type": "manifest", "id": "m-205" } });
        let (status, told) = service.post(&kept, &format!("/access/v1/search/{looks_for}"), &nobody).await;
        assert_eq!(status, 400, "{looks_for}: {told}");
    }
    // For a session of its own it activates what subjects may activate themselves, of its types only.
    let grants = service.get("/api/v1/grants?role=hot-works").await.1;
    let grant = grants["items"][0]["grant"]["id"].as_str().expect("a grant");
    let to = grants["items"][0]["grant"]["to"].as_str().expect("a holder");
    let activation = json!({ "grant": grant, "subject": to, "session": "s-1", "reason": "welding", "from": "2026-11-23T09:00:00Z", "until": "2026-11-23T10:00:00Z" });
    assert_eq!(service.post(&reason, "/api/v1/activations", &activation).await.0, 403, "not its types");
    let mut activation = activation;
    let (status, made) = service
        .post(&service.operator, "/api/v1/keys", &json!({ "name": "quay", "application": "quay" }))
        .await;
    assert_eq!(status, 200, "{made}");
    // Its role's condition is asked of the context that comes along, and of nobody who may not activate.
    let quay = made["text"].as_str().expect("a key");
    for context in
        [None, Some(json!({ "zone": "yard" })), Some(json!({ "zone": 7 })), Some(json!({ "zon": "quay" }))]
    {
        activation
            .as_object_mut()
            .expect("an object")
            .extend(context.map(|context| ("context".to_owned(), context)));
        let (status, told) = service.post(quay, "/api/v1/activations", &activation).await;
        assert_eq!((status, &told["type"]), (422, &json!("urn:ostrog:problem:invalid")), "{told}");
        let why = told["detail"].as_str().expect("a sentence");
        assert!(why.contains("hot-works may be activated only while context.zone == 'quay'"), "{why}");
        assert!(
            !service.post(&reason, "/api/v1/activations", &activation).await.1.to_string().contains("zone")
        );
    }
    activation["context"] = json!("quay");
    assert_eq!(service.post(quay, "/api/v1/activations", &activation).await.0, 400);
    activation["context"] = json!({ "zone": "quay" });
    let (status, told) = service.post(quay, "/api/v1/activations", &activation).await;
    assert_eq!(status, 200, "{told}");
}

// -- questions and preconditions -----------------------------------------------------------------

#[tokio::test(flavor = "multi_thread")]
async fn questions_with_a_blank_are_answered_live_as_offline() {
    let folder = folder();
    let service = Service::demo(folder.path());
    let now = "2026-11-23T09:00:00Z";
    let mut answered = 0;
    for question in [
        "actions user:ines manifest:m-204 --all",
        "actions user:rui berth:b-1 --context zone=quay",
        "actions anonymous tariff:t-1",
        "reach user:ines manifest:release",
        "reach user:lio vessel:moor",
        "reach user:maren manifest:view --under tenant:northline --limit 5",
        "reach user:nobody vessel:view",
        "holders manifest:release manifest:m-204 --through",
        "holders vessel:view vessel:kestrel",
        "holders berth:assign berth:b-2 --suppose berth:b-2.closed=false",
        "rows user:ola manifest:view --columns demo/columns.toml",
        "rows user:ines manifest:release --context zone=quay",
        "hints user:ines customs manifest:m-204",
        "hints user:ola customs",
        "ask user:ines manifest:release manifest:m-204 --suppose user:ines.clearance=5",
        "ask user:ines manifest:release manifest:m-204 --why",
        "actions user:ines manifest:m-204 --property resource.hasard=1",
        "reach user:ines manifest:relaese",
        "rows user:ines nothing",
    ] {
        let words = question.split(' ').chain(["--now", now, "--output", "json"]);
        let words: Vec<&str> = words.collect();
        let live = service.ostrog().args(&words).output().expect("runs");
        let offline = support::ostrog()
            .args(&words)
            .args(["--charter", "demo/harbour", "--register", "demo/register.ndjson"])
            .output()
            .expect("runs");
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        // What was tried, and for how long, is the clock's.
        let told = |bytes: &[u8]| {
            let text = text(bytes).replace("demo/harbour/", "");
            let mut told: Value = serde_json::from_str(&text).unwrap_or_default();
            if told["would-take"].is_object() {
                told["would-take"] = told["would-take"]["ways"].take();
            }
            told
        };
        assert_eq!(
            live.status.code(),
            offline.status.code(),
            "{question}: {}{}",
            text(&live.stderr),
            text(&offline.stderr)
        );
        assert_eq!(told(&live.stdout), told(&offline.stdout), "{question}");
        answered += usize::from(!told(&live.stdout).is_null());
    }
    assert!(answered >= 16, "{answered}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_write_that_expects_something_else_changes_nothing() {
    let folder = folder();
    let service = Service::demo(folder.path());
    let address = |name: &str| format!("{}/api/v1/entities/{name}", service.url);
    let read = async |name: &str| {
        let response =
            service.http().get(address(name)).bearer_auth(&service.operator).send().await.expect("an answer");
        response.headers()["etag"].to_str().expect("ASCII").to_owned()
    };
    let put = async |name: &str, header: (&str, &str), clearance: i64| {
        let request =
            service.http().put(address(name)).bearer_auth(&service.operator).header(header.0, header.1);
        service
            .send(request.json(&json!({ "merge": true, "attributes": { "clearance": clearance } })))
            .await
            .0
    };
    let first = read("user:ines").await;
    assert_eq!(put("user:ines", ("if-match", &first), 4).await, 200);
    assert_eq!(put("user:ines", ("if-match", &first), 9).await, 412, "somebody wrote since");
    let second = read("user:ines").await;
    assert_ne!(first, second);
    assert_eq!(put("user:ines", ("if-none-match", "*"), 9).await, 412, "it is there");
    assert_eq!(put("user:fresh", ("if-match", &second), 1).await, 412, "it is not there");
    assert_eq!(put("user:fresh", ("if-none-match", "*"), 1).await, 200);
    assert_eq!(put("user:ines", ("if-match", "*"), 5).await, 200);
    // At a position, and as a trial.
    let position = service.get("/api/v1/status").await.1["position"].as_i64().expect("a number");
    let fact = json!({ "set": ["user:ines.clearance = 7"] });
    let (status, told) =
        service.post(&service.operator, &format!("/api/v1/facts?at={}", position - 1), &fact).await;
    assert_eq!((status, &told["type"]), (412, &json!("urn:ostrog:problem:changed")), "{told}");
    let (status, told) =
        service.post(&service.operator, &format!("/api/v1/facts?at={position}&check=true"), &fact).await;
    assert!(status == 200 && told["changed"][0]["attributes"]["clearance"] == 7, "{told}");
    let (_, shown) = service.get("/api/v1/entities/user:ines").await;
    assert_eq!(shown["entity"]["attributes"]["clearance"], 5, "a trial changes nothing");
    assert_eq!(service.get("/api/v1/status").await.1["position"], position);
    // A stream goes on past what is refused, and tells of each line.
    let lines = "{\"entity\":\"user:s1\"}\nnonsense\n\n{\"entity\":\"vessel:s\",\"within\":\"tenant:nowhere\"}\n{\"entity\":\"user:s2\"}";
    let request = service.http().post(format!("{}/api/v1/register/stream", service.url));
    let request = request.header("content-type", "application/x-ndjson");
    let (status, told) = service.send(request.bearer_auth(&service.operator).body(lines)).await;
    let told: Vec<Value> = told
        .as_str()
        .expect("NDJSON")
        .lines()
        .map(|line| serde_json::from_str(line).expect("JSON"))
        .collect();
    let lines: Vec<(i64, bool)> =
        told.iter().map(|line| (line["line"].as_i64().unwrap_or(0), line["error"].is_string())).collect();
    assert_eq!((status, lines), (200, vec![(1, false), (2, true), (4, true), (5, false)]), "{told:?}");
    assert_eq!(service.get("/api/v1/entities/user:s2").await.0, 200);
    // Deleted, with what lies within only where that is said.
    assert_eq!(service.delete("/api/v1/entities/vessel:kestrel").await.0, 422);
    assert_eq!(service.delete("/api/v1/entities/vessel:kestrel?contents=true").await.0, 200);
    assert_eq!(service.get("/api/v1/entities/manifest:m-204").await.0, 404);
}

// -- texts ---------------------------------------------------------------------------------------

#[tokio::test(flavor = "multi_thread")]
async fn drafts_stand_side_by_side_go_live_and_come_back() {
    let folder = folder();
    let service = Service::demo(folder.path());
    let run = |arguments: &[&str]| {
        let out = service.ostrog().args(arguments).output().expect("runs");
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        (out.status.code().expect("ended"), text(&out.stdout), text(&out.stderr))
    };
    let charter = folder.path().join("charter");
    let path = charter.to_str().expect("UTF-8");
    assert_eq!(run(&["charter", "show", "--into", path]).0, 0);
    let roles = charter.join("roles.toml");
    let before = std::fs::read_to_string(&roles).expect("is there");
    let wider = before.replacen("[role.inspector]", "[role.inspector]\ndescription = \"Wider\"", 1).replacen(
        "permissions = [\"container:open\"]",
        "permissions = [\"container:open\", \"manifest:release\"]",
        1,
    );
    assert_ne!(wider, before);
    std::fs::write(&roles, &wider).expect("written");
    let (code, told, _) = run(&["draft", "save", path, "--title", "Wider"]);
    assert_eq!(code, 0);
    assert!(
        told.starts_with("D-1  Wider, from revision 1\n")
            && told.contains("+ role inspector: gives manifest:release always"),
        "{told}"
    );
    std::fs::write(&roles, "[role.x").expect("written");
    let (code, told, _) = run(&["draft", "save", path, "--title", "Broken"]);
    assert!(code == 1 && told.contains("roles.toml:1"), "{told}");
    let release = ["ask", "user:ines", "manifest:release", "manifest:m-204"];
    assert_eq!(run(&release).0, 1);
    assert_eq!(run(&[&release[..], &["--draft", "D-1"]].concat()).0, 0, "under the draft");
    assert_eq!(run(&["rollout", "D-2", "--for", "all", "--yes"]).0, 3, "one with errors does not go live");
    assert_eq!(run(&["rollout", "D-1", "--for", "all"]).0, 2, "nobody can be asked");
    assert_eq!(run(&["rollout", "D-1", "--for", "all", "--yes"]).0, 0);
    assert_eq!(run(&release).0, 0);
    assert_eq!(run(&[&release[..], &["--revision", "1"]].concat()).0, 1, "as it was");
    let (code, _, told) = run(&["rollout", "D-1", "--for", "all", "--yes"]);
    assert!(code == 5 && told.contains("Revision 2 is live there already"), "{told}");
    // A draft from before what is live now is brought onto it first.
    std::fs::write(&roles, &before).expect("written");
    assert_eq!(run(&["draft", "save", path, "--title", "Late", "--draft", "D-2"]).0, 0);
    let (code, _, told) = run(&["rollout", "D-2", "--for", "all", "--yes"]);
    assert!(code == 5 && told.contains("began from revision 1, and revision 2 is live"), "{told}");
    assert_eq!(run(&["draft", "save", path, "--title", "Late", "--draft", "D-2", "--onto-live"]).0, 0);
    // A role that is gone leaves grants that give nothing: said, and not without being accepted.
    let (start, rest) = wider.split_once("[role.hot-works]").expect("a role");
    let rest = rest.split_once("\n[").map_or("", |(_, rest)| rest);
    std::fs::write(&roles, format!("{start}[{rest}")).expect("written");
    let (code, told, _) = run(&["draft", "save", path, "--title", "No fire", "--draft", "D-2"]);
    assert!(code == 0 && told.contains("does not fit: grant ") && told.contains("unknown role"), "{told}");
    let (code, _, told) = run(&["rollout", "D-2", "--for", "all", "--yes"]);
    assert!(code == 5 && told.contains("The register would not be valid under D-2"), "{told}");
    let (code, _, told) = run(&["rollback", "--for", "all", "--note", "too wide", "--yes"]);
    assert_eq!(code, 0, "{told}");
    assert_eq!(run(&release).0, 1);
    assert_eq!(run(&["draft", "discard", "D-2"]).0, 0);
    assert_eq!(run(&["draft", "show", "D-2"]).0, 3);
    let (_, log, _) = run(&["log", "changes", "--output", "ndjson"]);
    assert!(log.contains("too wide") && log.contains("\"saved\":\"Wider\""), "{log}");
}
