//! What is measured is what happened, and tells of nobody.

use crate::support::{Answer, Service};
use crate::tokens::port_with;
use serde_json::json;

const ROUTES: &str = "[[route]]\napplication = \"quay\"\nmethod = \"GET\"\npath = \"/vessels/{vessel}\"\nneeds = [\"vessel:view\"]\nresource = \"vessel:{vessel}\"\n";

async fn page(service: &Service, key: &str) -> String {
    let page: Answer = service.get(key, "/metrics").await;
    assert_eq!(page.status, 200, "{page}");
    assert!(page.headers["content-type"].to_str().expect("text").starts_with("text/plain; version=0.0.4"));
    String::from_utf8(page.body).expect("UTF-8")
}

/// The number of a line that begins so; zero where there is none.
fn of(page: &str, line: &str) -> f64 {
    let found = page.lines().find_map(|told| told.strip_prefix(line)?.trim().parse().ok());
    found.unwrap_or_default()
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_measured_is_what_happened_and_tells_of_nobody() {
    let (service, sign_in, owner, quay) = port_with(ROUTES).await;
    let watcher = service.operator("metrics", "everywhere").await;
    let before = page(&service, &watcher).await;
    let asks = |action: &str, id: &str, who: serde_json::Value| json!({ "subject": who, "action": { "name": action }, "resource": { "type": "vessel", "id": id } });
    let ines = json!({ "type": "user", "id": "ines" });
    for _ in 0..3 {
        assert!(
            service
                .post(&quay, "/access/v1/evaluation", &asks("view", "tern", ines.clone()))
                .await
                .decision()
        );
    }
    let batch = json!({ "subject": ines, "action": { "name": "moor" }, "evaluations": [
        { "resource": { "type": "vessel", "id": "tern" } }, { "resource": { "type": "vessel", "id": "skua" } } ] });
    assert_eq!(service.post(&quay, "/access/v1/evaluations", &batch).await.status, 200);
    let unknown = asks("sink", "tern", json!({ "type": "user", "id": "rui" }));
    assert!(!service.post(&quay, "/access/v1/evaluation", &unknown).await.decision());
    let late = sign_in.token(&json!({ "exp": 1_000_000_000 }));
    let token = json!({ "type": "token", "id": late });
    assert!(!service.post(&quay, "/access/v1/evaluation", &asks("view", "tern", token)).await.decision());
    // What is asked to be told, and not to be done, counts as no decision.
    let told = json!({ "subject": "user:ines", "permission": "vessel:view", "resource": "vessel:tern" });
    assert_eq!(service.post(&owner, "/api/v1/ask", &told).await.status, 200);

    let now = page(&service, &watcher).await;
    let more = |line: &str| of(&now, line) - of(&before, line);
    let decided = |answer: &str, reason: &str| {
        more(&format!(
            "ostrog_decisions_total{{application=\"quay\",answer=\"{answer}\",reason=\"{reason}\"}}"
        ))
    };
    assert!((decided("allow", "role") - 4.0).abs() < 0.5, "{now}");
    assert!((decided("deny", "unknown-permission") - 1.0).abs() < 0.5, "{now}");
    assert!((decided("deny", "token-refused") - 1.0).abs() < 0.5, "{now}");
    assert!(decided("deny", "no-role") + decided("deny", "condition") > 0.5, "{now}");
    assert!(
        (more("ostrog_refused_tokens_total{issuer=\"port-id\",why=\"expired\"}") - 1.0).abs() < 0.5,
        "{now}"
    );
    assert!(more("ostrog_decision_seconds_count") > 6.5, "{now}");
    assert!(more("ostrog_request_seconds_count{path=\"/access/v1/evaluation\"}") > 4.5, "{now}");
    let (_, position) = service.node.live_revision().expect("is live");
    #[allow(clippy::cast_precision_loss, reason = "positions of a test are small")]
    let position = position as f64;
    assert!((of(&now, "ostrog_position") - position).abs() < 0.5, "{now}");
    assert!(of(&now, "ostrog_live_revision{application=\"quay\"}") > 1.5, "{now}");
    assert!(
        of(&now, "ostrog_register_facts") > 5.0 && of(&now, "process_resident_memory_bytes") > 1e6,
        "{now}"
    );

    // Labels tell of nobody.
    for secret in
        ["ines", "rui", "tern", "northline", &late, &quay, "user:", "vessel:", "master", "/vessels/"]
    {
        assert!(!now.contains(secret), "{secret}: {now}");
    }
    for (key, status) in [(&quay, 403), (&watcher, 200), (&owner, 200), (&String::new(), 401)] {
        assert_eq!(service.get(key, "/metrics").await.status, status);
    }
    // Whoever reads what is measured reads nothing else.
    for path in ["/api/v1/entities", "/api/v1/changes", "/api/v1/keys", "/api/v1/settings", "/api/v1/drafts"]
    {
        assert_eq!(service.get(&watcher, path).await.status, 403, "{path}");
    }
}
