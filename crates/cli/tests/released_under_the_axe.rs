//! Approvals, rollouts, rollbacks and shadows while an axe falls on the node that does them: never half live, never live
//! what nobody approved, and nothing lost that was acknowledged.

mod support;

use ostrog_core::prelude::Sources;
use ostrog_core::source::SourceFile;
use ostrog_service::node::Node;
use ostrog_store::Store;
use ostrog_store::cluster::Cluster;
use ostrog_store::key::{KeyKind, Making};
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::{Duration, Instant};
use support::{Service, folder, root, signal};

const SETTINGS: &str =
    "[release]\napprovals = 1\nrequire-rehearsal = false\n[operators.people.vera]\n[operators.people.wim]\n";
const APPS: [&str; 3] = ["agents", "customs", "quay"];

struct Dice(u64);

impl Dice {
    fn below(&mut self, bound: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % bound
    }
}

/// The demo's charter, with a last line.
fn files(last: &str) -> Vec<SourceFile> {
    let mut all: Vec<SourceFile> = std::fs::read_dir(root().join("demo/harbour"))
        .expect("is there")
        .map(|entry| {
            let path = entry.expect("readable").path();
            let name = path.file_name().and_then(|name| name.to_str()).expect("UTF-8").to_owned();
            SourceFile { path: name, text: std::fs::read_to_string(&path).expect("UTF-8") }
        })
        .collect();
    all.sort_by(|one, other| one.path.cmp(&other.path));
    all[0].text.push_str(last);
    all
}

/// Two people on record, made by whoever looks after the service.
async fn two_people(url: &str) -> (String, String) {
    let store = Store::open(url).await.expect("opens");
    let node = Arc::new(Node::open(store.clone(), Duration::from_secs(60)).await.expect("opens"));
    let put = node.put_live(Sources::new(files("")), "first", "test").await;
    put.unwrap_or_else(|why| panic!("{}", why.detail()));
    let put = node.put_settings_of_host(SETTINGS, "test").await;
    put.unwrap_or_else(|why| panic!("{}", why.detail()));
    let mut keys = Vec::new();
    for person in ["vera", "wim"] {
        let making = Making { person: Some(person.to_owned()), ..Making::whole(KeyKind::Operator, person) };
        keys.push(node.new_key_of_host(making, "test").await.expect("a key").reveal().to_owned());
    }
    store.close().await;
    let wim = keys.pop().expect("two");
    (keys.pop().expect("two"), wim)
}

/// A draft that has only to be approved.
async fn draft(service: &Service, vera: &str, round: u64) -> String {
    let files: Vec<Value> = files(&format!("# {round}\n"))
        .into_iter()
        .map(|file| json!({ "path": file.path, "text": file.text }))
        .collect();
    let (status, saved) = service
        .post(vera, "/api/v1/drafts", &json!({ "title": format!("round {round}"), "files": files }))
        .await;
    assert_eq!(status, 200, "{saved}");
    let id = saved["draft"]["id"].as_str().expect("an id").to_owned();
    let (status, run) = service.post(vera, "/api/v1/rehearsals", &json!({ "draft": id })).await;
    assert_eq!(status, 202, "{run}");
    let until = Instant::now() + Duration::from_secs(60);
    loop {
        let (_, runs) = service.get("/api/v1/rehearsals").await;
        let own = runs.as_array().expect("runs").iter().find(|one| one["number"] == run["number"]);
        if own.is_some_and(|one| one["ended-at"].is_string()) {
            return id;
        }
        assert!(Instant::now() < until, "it comes to an end");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

type Live = BTreeMap<String, i64>;

/// What the changes of a service come to, held against all it tells. Gives what is live.
async fn is_whole(service: &Service, acknowledged: &[(&'static str, Value)]) -> Live {
    let mut changes = Vec::new();
    let mut path = "/api/v1/changes?limit=1000".to_owned();
    loop {
        let (_, page) = service.get(&path).await;
        changes.extend(page["items"].as_array().expect("changes").clone());
        let Some(next) = page["next"].as_str() else { break };
        path = format!("/api/v1/changes?limit=1000&before={next}");
    }
    changes.reverse();
    let positions: Vec<i64> = changes.iter().filter_map(|change| change["position"].as_i64()).collect();
    assert_eq!(positions, (1..=i64::try_from(positions.len()).expect("few")).collect::<Vec<_>>());

    let (mut live, mut approved) = (Live::new(), BTreeSet::from([1]));
    let mut reviewed: BTreeMap<String, bool> = BTreeMap::new();
    let mut steps: BTreeMap<String, Vec<(i64, bool)>> = BTreeMap::new();
    for change in &changes {
        for line in change["lines"].as_array().expect("lines") {
            match change["kind"].as_str().expect("a kind") {
                "review" if line["verdict"] == "approve" => {
                    let counts: Vec<&str> = line["counts-as"]
                        .as_array()
                        .expect("people")
                        .iter()
                        .filter_map(Value::as_str)
                        .collect();
                    assert!(!counts.contains(&"person:vera"), "who wrote it approved it: {line}");
                    reviewed.insert(line["review"].as_str().expect("which").to_owned(), true);
                }
                "review" if line["revision"].is_i64() => {
                    let draft = format!("D-{}", line["draft"]);
                    assert_eq!(reviewed.get(&draft), Some(&true), "numbered, and nobody approved it: {line}");
                    approved.insert(line["revision"].as_i64().expect("a number"));
                }
                "rollout" => {
                    let before: Live = serde_json::from_value(line["before"].clone()).unwrap_or_default();
                    assert_eq!(before, live, "{line}");
                    let after: Live = serde_json::from_value(line["live"].clone()).expect("what is live");
                    let moved =
                        line["for"].as_array().expect("applications").iter().filter_map(Value::as_str);
                    for app in moved {
                        let revision = after[app];
                        assert!(approved.contains(&revision), "nobody approved {revision}: {line}");
                        let is_back = line["back"] == true;
                        steps.entry(app.to_owned()).or_default().push((revision, is_back));
                        live.insert(app.to_owned(), revision);
                    }
                    assert_eq!(after, live, "something else moved: {line}");
                }
                _ => {}
            }
        }
    }
    let (_, told) = service.get("/api/v1/live").await;
    let told: Live = told
        .as_array()
        .expect("a list")
        .iter()
        .map(|one| {
            (
                one["application"].as_str().expect("a key").to_owned(),
                one["revision"].as_i64().expect("a number"),
            )
        })
        .collect();
    assert_eq!(told, live, "what is live is not what the changes come to");
    for app in APPS {
        let (_, told) = service.get(&format!("/api/v1/rollouts?application={app}")).await;
        let told: Vec<(i64, bool)> = told
            .as_array()
            .expect("steps")
            .iter()
            .rev()
            .map(|step| (step["revision"].as_i64().expect("a number"), step["back"] == true))
            .collect();
        assert!(steps[app].ends_with(&told), "{app}: {told:?} {:?}", steps[app]);
    }
    let (_, shadows) = service.get("/api/v1/shadows").await;
    let shadows: BTreeSet<i64> =
        shadows.as_array().expect("shadows").iter().filter_map(|shadow| shadow["number"].as_i64()).collect();
    for (what, answer) in acknowledged {
        match *what {
            "approve" => {
                let revision = answer["revision"].as_i64().expect("it was the last approval");
                assert!(approved.contains(&revision), "{revision} is lost");
            }
            "shadow" => assert!(shadows.contains(&answer["number"].as_i64().expect("a number")), "{answer}"),
            _ => {
                let position =
                    answer["position"].as_str().and_then(|at| at.rsplit('.').next()?.parse::<usize>().ok());
                let change = &changes[position.expect("a position") - 1];
                assert_eq!(change["kind"], "rollout", "{answer}");
            }
        }
    }
    live
}

#[tokio::test(flavor = "multi_thread")]
async fn killed_at_any_moment_it_is_never_half_live() {
    let rounds = std::env::var("OSTROG_CRASHES").ok().and_then(|text| text.parse().ok()).unwrap_or(14);
    let folder = folder();
    let cluster = Cluster::start(&folder.path().join("data")).expect("starts");
    let url = cluster.database("axe").await.expect("a database");
    let (vera, wim) = two_people(&url).await;
    let beside = Service::on(&url, Some(&vera));
    let mut service = Service::on(&url, Some(&vera));
    // As long as a write takes here, whatever else the machine does.
    let mut pace = 20;
    for n in 0..3 {
        let begun = Instant::now();
        let tenant = service.http().put(format!("{}/api/v1/entities/tenant:t{n}", service.url));
        let written = service.send(tenant.bearer_auth(&vera).json(&json!({}))).await;
        assert_eq!(written.0, 200, "{}", written.1);
        pace = u64::try_from(begun.elapsed().as_millis()).unwrap_or(u64::MAX).clamp(pace, 1_000);
    }
    let mut dice = Dice(18);
    let mut acknowledged: Vec<(&'static str, Value)> = Vec::new();
    let mut fell = 0;
    for round in 0..rounds {
        let id = draft(&beside, &vera, round).await;
        let (_, revisions) = beside.get("/api/v1/revisions").await;
        let newest = revisions[0]["number"].as_i64().expect("a number");
        let calls = [
            (
                "approve",
                wim.clone(),
                format!("/api/v1/reviews/{id}/approval"),
                json!({ "accepts": { "all": "read" } }),
            ),
            (
                "rollout",
                wim.clone(),
                "/api/v1/rollouts".to_owned(),
                json!({ "what": (newest + 1).to_string(), "for": "all" }),
            ),
            (
                "rollout",
                vera.clone(),
                "/api/v1/rollouts".to_owned(),
                json!({ "what": newest.to_string(), "for": APPS[dice.below(3) as usize] }),
            ),
            (
                "rollback",
                vera.clone(),
                "/api/v1/rollbacks".to_owned(),
                json!({ "for": APPS[dice.below(3) as usize], "note": "back" }),
            ),
            (
                "shadow",
                wim.clone(),
                "/api/v1/shadows".to_owned(),
                json!({ "revision": newest, "for": "all" }),
            ),
        ];
        let mut under_way = Vec::new();
        for (at, (what, key, path, body)) in calls.into_iter().enumerate() {
            // The approval first, so that there is something to roll out; the rest as it comes.
            let wait = if at == 0 { 0 } else { dice.below(pace * 4) };
            let request = service.http().post(format!("{}{path}", service.url)).bearer_auth(key).json(&body);
            under_way.push(tokio::spawn(async move {
                tokio::time::sleep(Duration::from_millis(wait)).await;
                let response = request.send().await.ok()?;
                let is = response.status() == 200;
                let answer: Value = response.json().await.ok()?;
                is.then_some((what, answer))
            }));
        }
        // Every fourth time all of it is done before the axe falls.
        if round % 4 == 3 {
            while under_way.iter().any(|call| !call.is_finished()) {
                tokio::time::sleep(Duration::from_millis(5)).await;
            }
        } else {
            tokio::time::sleep(Duration::from_millis(dice.below(pace * 8))).await;
        }
        signal(service.pid(), "KILL");
        for call in under_way {
            match call.await.expect("ran") {
                Some(done) => acknowledged.push(done),
                None => fell += 1,
            }
        }
        service.kill();
        // Only so many run at a time: what began makes room.
        let (_, shadows) = beside.get("/api/v1/shadows").await;
        for shadow in shadows.as_array().expect("shadows").iter().filter(|shadow| shadow["ended"].is_null()) {
            beside.delete(&format!("/api/v1/shadows/{}", shadow["number"])).await;
        }
        service = Service::on(&url, Some(&vera));
        let live = is_whole(&service, &acknowledged).await;
        let until = Instant::now() + Duration::from_secs(5);
        while beside.get("/api/v1/status").await.1["position"]
            != service.get("/api/v1/status").await.1["position"]
        {
            assert!(Instant::now() < until, "the other node follows");
        }
        assert_eq!(is_whole(&beside, &acknowledged).await, live);
        // What was begun and not approved goes no further.
        beside.delete(&format!("/api/v1/drafts/{id}")).await;
    }
    let kinds: BTreeSet<&str> = acknowledged.iter().map(|(what, _)| *what).collect();
    assert!(kinds.contains("approve") && kinds.len() >= 3, "{kinds:?}");
    assert!(fell > 0, "the axe never fell on anything");
    drop((service, beside));
    cluster.stop().expect("stops");
}
