//! Nodes and their database: two on one, and one that lost it.

mod support;

use ostrog_store::cluster::Cluster;
use serde_json::json;
use std::time::{Duration, Instant};
use support::{Service, folder};

const TENANT: &str = "{\"entity\":\"tenant:north\"}\n{\"entity\":\"user:ines\",\"tenants\":[\"north\"]}\n{\"entity\":\"vessel:a\",\"within\":\"tenant:north\"}";

async fn load(service: &Service, lines: &str) -> (u16, serde_json::Value) {
    service.send(service.loading(lines)).await
}

#[tokio::test(flavor = "multi_thread")]
async fn two_nodes_write_in_turn_and_neither_breaks_what_the_other_made() {
    let folder = folder();
    let cluster = Cluster::start(&folder.path().join("data")).expect("starts");
    let url = cluster.database("shared").await.expect("a database");
    let first = Service::on(&url, None);
    let second = Service::on(&url, Some(&first.operator));
    assert_eq!(load(&first, TENANT).await.0, 200);
    // The second catches up before it checks: what the first made can be named.
    let (status, written) =
        load(&second, "{\"grant\":{\"role\":\"deckhand\",\"to\":\"user:ines\",\"at\":\"vessel:a\"}}").await;
    assert_eq!(status, 200, "{written}");
    // The same grant through the first is the same grant, not another.
    let (status, written) =
        load(&first, "{\"grant\":{\"role\":\"deckhand\",\"to\":\"user:ines\",\"at\":\"vessel:a\"}}").await;
    assert_eq!((status, written["changed"].as_array().map(Vec::len)), (200, Some(0)));
    // Two that race to close a circle of groups never both succeed.
    assert_eq!(load(&first, "{\"entity\":\"group:a\"}\n{\"entity\":\"group:b\"}").await.0, 200);
    for round in 0..10 {
        let reset = "{\"entity\":\"group:a\"}\n{\"entity\":\"group:b\"}";
        let (one, other) = (
            "{\"entity\":\"group:a\",\"members\":[\"group:b\"]}",
            "{\"entity\":\"group:b\",\"members\":[\"group:a\"]}",
        );
        let (left, right) = tokio::join!(load(&first, one), load(&second, other));
        let mut statuses = [left.0, right.0];
        statuses.sort_unstable();
        assert_eq!(statuses, [200, 422], "round {round}: {left:?} {right:?}");
        assert_eq!(load(&first, reset).await.0, 200);
    }
    drop((first, second));
    cluster.stop().expect("stops");
}

#[tokio::test(flavor = "multi_thread")]
async fn without_its_database_it_answers_on_and_refuses_writes() {
    let folder = folder();
    let cluster = Cluster::start(&folder.path().join("data")).expect("starts");
    let url = cluster.database("lost").await.expect("a database");
    let service = Service::on(&url, None);
    assert_eq!(load(&service, TENANT).await.0, 200);
    cluster.stop().expect("stops");
    let key = service.operator.clone();
    let answer = service.evaluate(&key, "user:ines", "view", "vessel:a").await;
    assert_eq!(answer, json!({ "decision": true, "context": { "reason": "role:colleague" } }));
    let start = Instant::now();
    let (status, problem) = load(&service, "{\"entity\":\"user:new\"}").await;
    assert_eq!(
        (status, problem["type"].as_str()),
        (503, Some("urn:ostrog:problem:unavailable")),
        "{problem}"
    );
    assert!(start.elapsed() < Duration::from_secs(15));
    assert_eq!(service.get("/api/v1/entities/user:new").await.0, 404);
    assert_eq!(service.get("/api/v1/status").await.1["database"], false);
}

/// The same question gets the same answer however it is put: on the command line without a
/// service, one by one over the network, and in a batch.
#[tokio::test(flavor = "multi_thread")]
async fn all_ways_of_asking_agree() {
    let folder = folder();
    let service = Service::demo(folder.path());
    let (_, model) = service.get("/api/v1/model").await;
    let mut questions = Vec::new();
    for kind in model["types"].as_array().expect("types") {
        let prefix = format!("{}:", kind["key"].as_str().expect("a key"));
        let (_, page) = service.get(&format!("/api/v1/entities?prefix={prefix}&limit=4")).await;
        for item in page["items"].as_array().expect("items") {
            for action in kind["actions"].as_array().expect("actions") {
                for subject in ["ines", "maren", "ola", "petra", "rui", "vera", "nils", "old-hand", "nobody"]
                {
                    let id = item["entity"].as_str().expect("a name").trim_start_matches(&prefix);
                    questions.push(json!({
                        "subject": { "type": "user", "id": subject },
                        "action": { "name": action["key"] },
                        "resource": { "type": kind["key"], "id": id },
                        "context": { "ip": "10.20.4.7" },
                    }));
                }
            }
        }
    }
    assert!(questions.len() > 800, "{}", questions.len());
    let file = folder.path().join("questions.ndjson");
    let lines: Vec<String> = questions.iter().map(ToString::to_string).collect();
    std::fs::write(&file, lines.join("\n")).expect("written");
    let offline = support::ostrog()
        .args(["ask", "--charter", "demo/harbour", "--register", "demo/register.ndjson", "--from"])
        .arg(&file)
        .output()
        .expect("runs");
    let offline: Vec<serde_json::Value> = String::from_utf8_lossy(&offline.stdout)
        .lines()
        .map(|line| serde_json::from_str(line).expect("JSON"))
        .collect();
    assert_eq!(offline.len(), questions.len());
    let allowed = offline.iter().filter(|answer| answer["decision"] == true).count();
    assert!(
        allowed * 10 > questions.len() && allowed * 2 < questions.len(),
        "{allowed} of {}",
        questions.len()
    );

    let key = service.operator.clone();
    for (at, chunk) in questions.chunks(500).enumerate() {
        let (status, answers) =
            service.post(&key, "/access/v1/evaluations", &json!({ "evaluations": chunk })).await;
        assert_eq!(status, 200, "{answers}");
        for (offset, answer) in answers["evaluations"].as_array().expect("answers").iter().enumerate() {
            assert_eq!(answer, &offline[at * 500 + offset], "{}", questions[at * 500 + offset]);
        }
    }
    for (question, expected) in questions.iter().zip(&offline).step_by(7) {
        assert_eq!(&service.post(&key, "/access/v1/evaluation", question).await, &(200, expected.clone()));
    }
}
