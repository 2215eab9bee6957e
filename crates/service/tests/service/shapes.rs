//! What is sent, well and badly: every refusal is a problem document, and nothing is half done.

use crate::support::{Answer, Service, request};
use axum::body::Body;
use axum::http::Request;
use ostrog_store::key::{KeyKind, Making};
use ostrog_wire::access::{BatchAnswer, Configuration, Evaluations, SearchResponse, SearchResult};
use rstest::rstest;
use serde_json::{Value, json};

fn lines() -> Vec<Value> {
    vec![
        json!({ "entity": "tenant:northline" }),
        json!({ "entity": "user:ines", "tenants": ["northline"], "attributes": { "clearance": 3 } }),
        json!({ "entity": "user:tom", "tenants": ["northline"], "attributes": { "clearance": 3 } }),
        json!({ "entity": "vessel:tern", "within": "tenant:northline", "attributes": { "length": 100 } }),
        json!({ "entity": "vessel:skua", "within": "tenant:northline", "attributes": { "length": 90 } }),
        json!({ "grant": { "id": "g-ines", "role": "master", "to": "user:ines", "at": "tenant:northline" } }),
        json!({ "grant": { "id": "g-pilot", "role": "pilot", "to": "user:ines", "at": "tenant:northline" } }),
    ]
}

fn question(subject: Value, action: &str, resource: Value) -> Value {
    json!({ "subject": subject, "action": { "name": action }, "resource": resource })
}

fn ines() -> Value {
    json!({ "type": "user", "id": "ines" })
}

fn tern() -> Value {
    json!({ "type": "vessel", "id": "tern" })
}

/// A call whose body is these bytes.
fn raw(key: &str, path: &str, kind: &str, body: impl Into<Body>) -> Request<Body> {
    let request = Request::builder().method("POST").uri(path).header("host", "x");
    let request = request.header("authorization", format!("Bearer {key}")).header("content-type", kind);
    request.body(body.into()).expect("a request")
}

const EVALUATION: &str = "/access/v1/evaluation";

#[tokio::test(flavor = "multi_thread")]
async fn what_is_no_request_is_refused_with_a_problem_and_never_allowed() {
    let service = Service::start(&lines()).await;
    let key = service.application("quay").await;
    let owner = service.operator("owner", "everywhere").await;
    assert!(service.post(&key, EVALUATION, &question(ines(), "moor", tern())).await.decision());

    let deep = format!("{}1{}", "[".repeat(100_000), "]".repeat(100_000));
    let bodies = [
        // Lists in the place of objects.
        r#"[["user","ines"],["moor"],["vessel","tern"],{}]"#.to_owned(),
        r#"[{"type":"user","id":"ines"},{"name":"moor"},{"type":"vessel","id":"tern"}]"#.to_owned(),
        r#"{"subject":["user","ines"],"action":{"name":"moor"},"resource":{"type":"vessel","id":"tern"}}"#.to_owned(),
        // Twice the same member; no JSON; nothing; another root.
        r#"{"subject":{"type":"user","id":"tom"},"subject":{"type":"user","id":"ines"},"action":{"name":"moor"},"resource":{"type":"vessel","id":"tern"}}"#.to_owned(),
        r#"{"subject":{"type":"user","id":"ines"},"action":{"name":"moor"},"resource":{"type":"vessel","id":"tern"}"#.to_owned(),
        String::new(),
        "null".to_owned(),
        // What is not known may not nest without end either.
        format!(r#"{{"x":{deep},"subject":{{"type":"user","id":"ines"}},"action":{{"name":"moor"}},"resource":{{"type":"vessel","id":"tern"}}}}"#),
    ];
    for body in bodies {
        let answer = service.send(raw(&key, EVALUATION, "application/json", body.clone())).await;
        assert_eq!(answer.status, 400, "{}: {answer}", &body[..body.len().min(200)]);
        answer.problem();
    }
    // Another media type, even where a session would vouch for the caller.
    for kind in
        ["text/plain", "application/x-www-form-urlencoded", "multipart/form-data", "application/jsonx"]
    {
        let body = question(ines(), "moor", tern()).to_string();
        let answer = service.send(raw(&key, EVALUATION, kind, body)).await;
        assert_eq!(
            (answer.status.as_u16(), answer.problem().kind.as_ref()),
            (415, "urn:ostrog:problem:wrong-media-type")
        );
    }
    // Parts of the path and parameters.
    for path in [
        "/api/v1/entities/%ff",
        "/api/v1/entities?limit=many",
        "/api/v1/entities?limt=1",
        "/api/v1/revisions/x",
    ] {
        let answer = service.get(&owner, path).await;
        assert!(matches!(answer.status.as_u16(), 400 | 404), "{path}: {answer}");
        answer.problem();
    }
    // Too large, told before it is read to its end.
    let large = format!(r#"{{"x":"{}"}}"#, "x".repeat(2 << 20));
    assert_eq!(service.send(raw(&key, EVALUATION, "application/json", large)).await.problem().status, 413);
    // Hosts: one, or none is meant.
    for hosts in [&[][..], &["a", "b"][..]] {
        let mut call = request(&key, "POST /access/v1/evaluation", Some(&question(ines(), "moor", tern())));
        call.headers_mut().remove("host");
        for host in hosts {
            call.headers_mut().append("host", host.parse().expect("a header"));
        }
        assert_eq!(service.send(call).await.problem().status, 400, "{hosts:?}");
    }
    // Methods.
    let answer = service.call(&owner, "PATCH /api/v1/grants", None).await;
    assert_eq!(answer.problem().status, 405);
}

/// An address that is not there is nobody's: a proxy that asks it must not be let through.
#[rstest]
#[case::none("/")]
#[case::of_a_page("/register")]
#[case::of_an_entity("/register/of/user:ines")]
#[tokio::test(flavor = "multi_thread")]
async fn only_the_consoles_own_addresses_answer_with_its_page(#[case] known: &str) {
    let service = Service::start(&[]).await;
    assert_eq!(service.get("", known).await.status, 200, "{known}");
    for unknown in [
        "/route-check/",
        "/metrics/",
        "/scim/v2",
        "/scim/v2/Users",
        "/register/",
        "/registers",
        "/api",
        "/api/v2/ask",
        "/access/v1",
        "/index.htm",
        "/.env",
        "//",
        "/assets/none.js",
    ] {
        let answer = service.get("", unknown).await;
        assert_eq!(answer.problem().status, 404, "{unknown}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn searches_and_batches_are_as_the_standard_has_them() {
    let service = Service::start(&lines()).await;
    let key = service.application("quay").await;
    let search = async |path: &str, body: Value| -> SearchResponse {
        let answer = service.post(&key, path, &body).await;
        assert_eq!(answer.status, 200, "{answer}");
        answer.read()
    };
    let of_resources = |page: Value| {
        let mut body = question(ines(), "view", json!({ "type": "vessel" }));
        body["page"] = page;
        body
    };
    // Absent in every way.
    let all =
        search("/access/v1/search/resource", question(ines(), "view", json!({ "type": "vessel" }))).await;
    assert_eq!(all.results.len(), 2);
    for page in
        [json!(null), json!({}), json!({ "token": null }), json!({ "token": "" }), json!({ "limit": null })]
    {
        let same = search("/access/v1/search/resource", of_resources(page.clone())).await;
        assert_eq!(same.results, all.results, "{page}");
    }
    let mut with_options = of_resources(json!({}));
    with_options["options"] = Value::Null;
    assert_eq!(search("/access/v1/search/resource", with_options).await.results, all.results);
    // None are none, and all are found by pages of one.
    assert!(
        search("/access/v1/search/resource", of_resources(json!({ "limit": 0 }))).await.results.is_empty()
    );
    for (path, body, expected) in [
        ("/access/v1/search/resource", of_resources(json!({})), 2),
        ("/access/v1/search/action", json!({ "subject": ines(), "resource": tern() }), 2),
        ("/access/v1/search/subject", question(json!({ "type": "user" }), "moor", tern()), 1),
    ] {
        let (mut body, mut found) = (body, Vec::<SearchResult>::new());
        body["page"] = json!({ "limit": 1 });
        for _ in 0..10 {
            let page = search(path, body.clone()).await;
            assert!(page.results.len() <= 1, "{path}: a page of one");
            found.extend(page.results);
            if page.page.next_token.is_empty() {
                break;
            }
            body["page"]["token"] = page.page.next_token.into();
        }
        assert_eq!(found.len(), expected, "{path}: {found:?}");
    }
    // Ids that nobody can have are a denial, not a mistake.
    for id in ["a b", &"x".repeat(300), "e\u{301}", "\u{7}"] {
        let none = json!({ "type": "vessel", "id": id });
        assert!(!service.post(&key, EVALUATION, &question(ines(), "moor", none)).await.decision(), "{id:?}");
        let nobody = json!({ "type": "user", "id": id });
        assert!(
            !service.post(&key, EVALUATION, &question(nobody, "moor", tern())).await.decision(),
            "{id:?}"
        );
    }
    // An item that cannot be read is its own fault.
    let good = question(ines(), "moor", tern());
    let body = json!({ "evaluations": [good, 7, ["x"], { "subject": ines() }, good] });
    let answers: Evaluations = service.post(&key, "/access/v1/evaluations", &body).await.read();
    let decisions: Vec<bool> = answers.evaluations.iter().map(|answer| answer.decision).collect();
    assert_eq!(decisions, [true, false, false, false, true]);
    let errors = answers
        .evaluations
        .iter()
        .filter(|answer| answer.context.error.as_ref().is_some_and(|error| error.status == 400));
    assert_eq!(errors.count(), 3);
    // A default that cannot be read is the fault of those that need it.
    let body =
        json!({ "subject": 7, "evaluations": [good, { "action": { "name": "moor" }, "resource": tern() }] });
    let answers: Evaluations = service.post(&key, "/access/v1/evaluations", &body).await.read();
    assert!(answers.evaluations[0].decision && answers.evaluations[1].context.error.is_some());
    // Without items it is one question.
    let one: BatchAnswer = service.post(&key, "/access/v1/evaluations", &good).await.read();
    assert!(matches!(one, BatchAnswer::One(answer) if answer.decision));
    let metadata: Configuration = service.get("", "/.well-known/authzen-configuration").await.read();
    assert_eq!(metadata.policy_decision_point, "http://ostrog.example");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_name_with_what_separates_is_recorded_as_it_is_and_read_again() {
    let service = Service::start(&[]).await;
    let owner = service.operator("owner", "everywhere").await;
    let load = async |lines: Value| -> Answer {
        let text: String = lines.as_array().expect("lines").iter().map(|line| format!("{line}\n")).collect();
        service.post(&owner, "/api/v1/register", &Value::String(text)).await
    };
    let first = load(json!([{ "entity": "tenant:brackwater" }, { "entity": "tenant:brackwater/eu" }, { "entity": "tenant:tenant:x" }])).await;
    assert_eq!(first.status, 200, "{first}");
    for tenant in ["brackwater/eu", "brackwater", "tenant:tenant:x"] {
        let made = load(
            json!([{ "tenant-role": { "tenant": tenant, "key": "r", "permissions": ["vessel:view"] } }]),
        )
        .await;
        assert_eq!(made.status, 200, "{made}");
    }
    // Made and ended in one batch; deleted and made anew.
    let both = load(json!([
        { "entity": "user:a" },
        { "grant": { "id": "g-1", "role": "hand", "to": "user:a", "at": "tenant:brackwater/eu" } },
        { "end-grant": "g-1" },
        { "delete": "user:a" },
    ]))
    .await;
    assert_eq!(both.status, 200, "{both}");
    // The role-editor of the one tenant does not reach the roles of the other.
    let editor = service.operator("role-editor", "tenant:brackwater").await;
    let own = service.call(&editor, "DELETE /api/v1/tenant-roles/brackwater/r", None).await;
    assert_eq!(own.status, 200, "{own}");
    let other = service.call(&editor, "DELETE /api/v1/tenant-roles/brackwater%2Feu/r", None).await;
    assert_eq!(other.status, 403, "{other}");
    let made = json!({ "tenant": "brackwater/eu", "key": "s", "permissions": ["vessel:view"] });
    assert_eq!(service.call(&editor, "PUT /api/v1/tenant-roles", Some(&made)).await.status, 403);

    // Whoever reads it anew holds the same, at the same digest.
    let other =
        ostrog_service::node::Node::open(service.store.clone(), std::time::Duration::from_secs(60)).await;
    let other = other.expect("can be read again");
    assert_eq!(other.live_revision(), service.node.live_revision());
    assert_eq!(service.get("", "/readyz").await.status, 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_key_does_what_it_is_for_and_makes_none_that_does_more() {
    let service = Service::start(&lines()).await;
    let kept = Making {
        endpoints: vec!["evaluation".to_owned()],
        ..Making::whole(KeyKind::Application("quay".to_owned()), "kept")
    };
    let kept = service.key(kept).await;
    let activation = json!({ "grant": "g-pilot", "subject": "user:ines", "session": "s", "reason": "fog" });
    assert_eq!(service.post(&kept, "/api/v1/activations", &activation).await.problem().status, 403);
    let keeper = service.operator("key-keeper", "everywhere").await;
    let asked = json!({ "name": "more", "application": "quay", "endpoints": ["activation"] });
    assert_eq!(service.post(&keeper, "/api/v1/keys", &asked).await.problem().status, 403);
    // Without a word of endpoints it gets what its maker may give.
    let made =
        service.post(&keeper, "/api/v1/keys", &json!({ "name": "plain", "application": "quay" })).await;
    let made: ostrog_wire::keys::KeyMade = made.read();
    assert_eq!(service.post(&made.text, "/api/v1/activations", &activation).await.problem().status, 403);
    assert!(service.post(&made.text, EVALUATION, &question(ines(), "view", tern())).await.decision());
}

#[tokio::test(flavor = "multi_thread")]
async fn of_two_who_save_the_same_draft_one_is_told() {
    let service = Service::start(&[]).await;
    let owner = service.operator("owner", "everywhere").await;
    let file = |text: &str| json!([{ "path": "charter.toml", "text": format!("{}\n# {text}\n", crate::support::CHARTER) }]);
    let first: ostrog_wire::charter::DraftText =
        service.post(&owner, "/api/v1/drafts", &json!({ "title": "t", "files": file("0") })).await.read();
    let rehearsal =
        |text: &str| json!({ "files": [{ "path": "cases.toml", "text": format!("# {text}\n") }], "from": 0 });
    for round in 0..10 {
        let now: ostrog_wire::charter::DraftText =
            service.get(&owner, &format!("/api/v1/drafts/{}", first.draft.id)).await.read();
        let save = |text: String| json!({ "title": "t", "files": file(&text), "draft": first.draft.id, "from": now.draft.digest });
        let (one, two) = (save(format!("{round} one")), save(format!("{round} two")));
        let (one, two) = tokio::join!(
            service.post(&owner, "/api/v1/drafts", &one),
            service.post(&owner, "/api/v1/drafts", &two)
        );
        let mut both = [one.status.as_u16(), two.status.as_u16()];
        both.sort_unstable();
        assert_eq!(both, [200, 412], "{one}\n{two}");
    }
    let (one, two) = (rehearsal("one"), rehearsal("two"));
    let (one, two) = tokio::join!(
        service.call(&owner, "PUT /api/v1/rehearsal", Some(&one)),
        service.call(&owner, "PUT /api/v1/rehearsal", Some(&two))
    );
    let mut both = [one.status.as_u16(), two.status.as_u16()];
    both.sort_unstable();
    assert_eq!(both, [200, 409], "{one}\n{two}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_discarded_draft_is_taken_back_as_it_was_and_only_then() {
    use ostrog_wire::charter::{DraftShown, DraftText};
    let service = Service::start(&[]).await;
    let owner = service.operator("owner", "everywhere").await;
    let files = json!([{ "path": "charter.toml", "text": crate::support::CHARTER }]);
    let made: DraftText =
        service.post(&owner, "/api/v1/drafts", &json!({ "title": "Pilots", "files": files })).await.read();
    let id = made.draft.id;
    let back = format!("POST /api/v1/discarded-drafts/{id}/restoration");
    let gone = async || -> Vec<DraftShown> { service.get(&owner, "/api/v1/discarded-drafts").await.read() };
    // Under way it is not discarded; nor is one that never was, or is called otherwise.
    for missing in [
        &back,
        "POST /api/v1/discarded-drafts/D-99/restoration",
        "POST /api/v1/discarded-drafts/x/restoration",
    ] {
        assert_eq!(service.call(&owner, missing, Some(&json!({}))).await.problem().status, 404, "{missing}");
    }
    assert!(gone().await.is_empty());
    let ended = service.call(&owner, &format!("DELETE /api/v1/drafts/{id}"), None).await;
    assert_eq!(ended.status.as_u16(), 200);
    assert_eq!(service.get(&owner, &format!("/api/v1/drafts/{id}")).await.problem().status, 404);
    let listed = gone().await;
    assert_eq!((listed.len(), listed[0].id.as_str()), (1, id.as_str()));
    assert!(listed[0].discarded_at.is_some());
    let restored: DraftText = service.call(&owner, &back, Some(&json!({}))).await.read();
    assert_eq!((restored.draft.title, restored.draft.digest), ("Pilots".to_owned(), made.draft.digest));
    assert!(restored.draft.discarded_at.is_none() && gone().await.is_empty());
    // What went live is no draft any more, and is taken back by no such call.
    let live = json!({ "what": id, "for": "all" });
    assert_eq!(service.post(&owner, "/api/v1/rollouts", &live).await.status.as_u16(), 200);
    assert_eq!(service.call(&owner, &back, Some(&json!({}))).await.problem().status, 404);
    assert!(gone().await.is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn who_may_is_told_by_pages_and_counted_beside() {
    let mut lines = vec![
        json!({ "entity": "tenant:north" }),
        json!({ "entity": "vessel:tern", "within": "tenant:north" }),
        json!({ "entity": "tenant:south" }),
        json!({ "entity": "vessel:skua", "within": "tenant:south" }),
    ];
    for n in 0..7 {
        let name = format!("user:u{n}");
        lines.push(json!({ "entity": name, "tenants": ["north"] }));
        if n % 2 == 0 {
            lines.push(json!({ "grant": { "role": "hand", "to": name, "at": "vessel:tern" } }));
        }
    }
    let service = Service::start(&lines).await;
    let owner = service.operator("owner", "everywhere").await;
    let whole = json!({ "permission": "vessel:view", "resource": "vessel:tern" });
    let ask = async |beside: serde_json::Value| -> serde_json::Value {
        let mut question = whole.clone();
        question["beside"] = beside;
        service.post(&owner, "/api/v1/holders", &question).await.read()
    };
    let counted = ask(json!({ "count": true })).await;
    let total = counted["total"].as_u64().expect("a number");
    let mut named: Vec<String> = Vec::new();
    let mut after: Option<String> = None;
    loop {
        let page = ask(json!({ "limit": 1, "after": after })).await;
        let items = page["items"].as_array().expect("a list");
        assert!(items.len() <= 1, "{page}");
        named.extend(items.iter().filter_map(|one| one["who"].as_str().map(str::to_owned)));
        match page["next"].as_str() {
            Some(next) => after = Some(next.to_owned()),
            None => break,
        }
    }
    assert_eq!(named.len() as u64, total, "{named:?} {counted}");
    assert!(total >= 4 && named.contains(&"user:u6".to_owned()), "{named:?}");
    let mut once = named.clone();
    once.sort();
    once.dedup();
    assert_eq!(once.len(), named.len(), "nobody is told twice");

    // A page after what is another tenant's, or is not there: one answer.
    let northern = service.operator("reader", "tenant:north").await;
    let told = async |after: &str| {
        let mut question = whole.clone();
        question["beside"] = json!({ "limit": 3, "after": after });
        service.post(&northern, "/api/v1/holders", &question).await
    };
    assert_eq!(told("user:u0").await.status.as_u16(), 200);
    let [theirs, nobodys] = [told("vessel:skua").await, told("vessel:gull").await].map(|answer| {
        assert!(answer.status.is_client_error(), "{answer}");
        answer.problem().detail.replace("skua", "gull")
    });
    assert_eq!(theirs, nobodys);
}

#[test]
fn no_secret_is_written_where_values_are_shown() {
    let by = ostrog_store::By::host("a test", jiff::Timestamp::UNIX_EPOCH);
    let key = ostrog_store::key::Key::new(Making::whole(KeyKind::Operator, "x"), &by);
    let shown = format!("{key:?}");
    assert!(!shown.contains(key.1.reveal()), "{shown}");
}

/// A type that is another application's, and one that nobody declared: one answer. What an affordance of one's own asks
/// about another's type is denied, as the question itself would be.
#[tokio::test(flavor = "multi_thread")]
async fn row_filters_and_affordances_end_where_the_keys_types_do() {
    let service = Service::start(&lines()).await;
    let (quay, customs) = (service.application("quay").await, service.application("customs").await);
    let rows = async |key: &str, kind: &str, action: &str| -> Value {
        let asked = json!({ "subject": ines(), "action": { "name": action }, "resource": { "type": kind } });
        service.post(key, "/access/v1/rows", &asked).await.read()
    };
    let own = rows(&quay, "vessel", "moor").await;
    assert_ne!(own["filter"]["rows"], "none", "{own}");
    let none = rows(&quay, "nothing", "moor").await;
    assert_eq!(
        (&none["filter"]["rows"], &none["context"]["reason"]),
        (&json!("none"), &json!("unknown-type"))
    );
    assert_eq!(rows(&quay, "declaration", "release").await, none);
    assert_eq!(rows(&customs, "vessel", "moor").await, none);
    // A permission that there is not: nothing, and no way to tell types apart by it.
    assert_eq!(rows(&quay, "vessel", "fly").await["filter"]["rows"], "none");
    assert_eq!(rows(&quay, "declaration", "fly").await, none);

    let shown = async |key: &str, asked: Value| service.post(key, "/access/v1/affordances", &asked).await;
    let all: Value = shown(&quay, json!({ "subject": ines(), "resource": tern() })).await.read();
    let of = |key: &str| {
        let all = all["affordances"].as_array().expect("affordances");
        all.iter().find(|hint| hint["key"] == key).cloned().expect("is declared")
    };
    assert_eq!((&of("vessels")["visible"], &of("vessels")["enabled"]), (&json!(true), &json!(true)));
    assert_eq!((&of("papers")["visible"], &of("papers")["enabled"]), (&json!(true), &json!(false)));
    // Of another application, by an application: not its own to ask.
    assert_eq!(shown(&customs, json!({ "subject": ines(), "application": "quay" })).await.status, 403);
    assert_eq!(shown(&customs, json!({ "subject": ines() })).await.read::<Value>()["affordances"], json!([]));
    for (wrong, status) in [
        (json!({ "subject": { "type": "user" } }), 400),
        (json!({ "subject": ines(), "resource": { "type": "a:b" } }), 400),
        (json!({ "resource": tern() }), 400),
    ] {
        assert_eq!(shown(&quay, wrong.clone()).await.status, status, "{wrong}");
    }
    let one = json!({ "subject": ines(), "action": { "name": "moor" }, "resource": tern() });
    assert_eq!(service.post(&quay, "/access/v1/rows", &one).await.status, 400, "rows are of a type");
    let columns = json!({ "table": "t", "id": "t.id", "columns": { "hue": "t.hue" } });
    let asked = json!({ "subject": ines(), "action": { "name": "moor" }, "resource": { "type": "vessel" }, "columns": columns });
    let refused = service.post(&quay, "/access/v1/rows", &asked).await;
    assert!(refused.status == 422 && refused.problem().detail.contains("hue"), "{refused}");
}
