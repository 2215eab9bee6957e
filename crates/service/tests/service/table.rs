//! The table: every operation of the API description, by every kind of caller.
//!
//! An operation without a row fails, and so does a row without an operation. What is asked of is the
//! northern line's, the other line's (`skua`, `nils`, …), or nobody's.

use crate::support::Service;
use ostrog_store::key::{KeyKind, Making};
use ostrog_wire::charter::DraftText;
use ostrog_wire::keys::{KeyMade, KeyShown};
use ostrog_wire::rehearsals::{CaseShown, RunShown};
use serde_json::{Value, json};
use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Who calls, in the order of the columns: an owner, a reader everywhere; a reader, a grant-editor and a
/// role-editor at the northern line; an application, one whose key is kept to single questions; one whose
/// key has ended, and nobody.
const CALLERS: [&str; 9] =
    ["owner", "reader", "reader@", "grants@", "roles@", "application", "kept", "ended", "nobody"];

/// The call, the body it has, and what it comes to. `{n}` is the column, so that each caller has things
/// of their own (the facts in [`given`]); `{draft}`, `{case}`, `{key}` and `{run}` are made for the call.
const TABLE: &[(&str, &str, &str)] = &[
    // -- decisions ---------------------------------------------------------------------------
    ("GET /.well-known/authzen-configuration", "", "200 200 200 200 200 200 200 200 200"),
    (
        "POST /access/v1/evaluation",
        r#"{"subject":{"type":"user","id":"ines"},"action":{"name":"view"},"resource":{"type":"vessel","id":"tern"}}"#,
        "200 200 200 200 200 200 200 401 401",
    ),
    (
        "POST /access/v1/evaluations",
        r#"{"evaluations":[{"subject":{"type":"user","id":"ines"},"action":{"name":"view"},"resource":{"type":"vessel","id":"tern"}}]}"#,
        "200 200 200 200 200 200 403 401 401",
    ),
    (
        "POST /access/v1/search/subject",
        r#"{"subject":{"type":"user"},"action":{"name":"view"},"resource":{"type":"vessel","id":"tern"}}"#,
        "200 200 200 200 200 200 403 401 401",
    ),
    (
        "POST /access/v1/search/resource",
        r#"{"subject":{"type":"user","id":"ines"},"action":{"name":"view"},"resource":{"type":"vessel"}}"#,
        "200 200 200 200 200 200 403 401 401",
    ),
    (
        "POST /access/v1/search/action",
        r#"{"subject":{"type":"user","id":"ines"},"resource":{"type":"vessel","id":"tern"}}"#,
        "200 200 200 200 200 200 403 401 401",
    ),
    (
        "POST /access/v1/rows",
        r#"{"subject":{"type":"user","id":"ines"},"action":{"name":"view"},"resource":{"type":"vessel"}}"#,
        "200 200 403 403 403 200 403 401 401",
    ),
    (
        "POST /access/v1/affordances",
        r#"{"subject":{"type":"user","id":"ines"},"application":"quay"}"#,
        "200 200 200 200 200 200 403 401 401",
    ),
    ("GET /access/v1/position", "", "200 200 200 200 200 200 403 401 401"),
    // A proxy says who it is in a header of its own; whoever does not is no proxy.
    ("GET /route-check", "", "403 403 403 403 403 403 403 403 403"),
    ("POST /route-check", "", "403 403 403 403 403 403 403 403 403"),
    // -- sessions ----------------------------------------------------------------------------
    ("POST /api/v1/session", r#"{"key":"{secret}"}"#, "200 200 200 200 200 403 403 401 401"),
    ("GET /api/v1/session", "", "200 200 200 200 200 403 403 401 401"),
    ("DELETE /api/v1/session", "", "204 204 204 204 204 204 204 204 204"),
    ("POST /api/v1/session/renewal", "{}", "409 409 409 409 409 403 403 401 401"),
    // Whoever signs in is nobody yet.
    ("GET /api/v1/sign-in", "", "200 200 200 200 200 200 200 200 200"),
    ("POST /api/v1/sign-in/{issuer}/device no-such", "", "404 404 404 404 404 404 404 404 404"),
    (
        "POST /api/v1/sign-in/{issuer}/loopback no-such",
        r#"{"back":"http://127.0.0.1:1/signed-in"}"#,
        "404 404 404 404 404 404 404 404 404",
    ),
    ("POST /api/v1/sign-in/{issuer}/session no-such", "{}", "404 404 404 404 404 404 404 404 404"),
    // -- questions ---------------------------------------------------------------------------
    (
        "POST /api/v1/ask",
        r#"{"subject":"user:ines","permission":"vessel:view","resource":"vessel:tern"}"#,
        "200 200 200 200 200 403 403 401 401",
    ),
    (
        "POST /api/v1/ask",
        r#"{"subject":"user:ines","permission":"vessel:view","resource":"vessel:skua"}"#,
        "200 200 404 404 404 403 403 401 401",
    ),
    (
        "POST /api/v1/ask",
        r#"{"subject":"user:ines","permission":"vessel:view","resource":"vessel:nowhere"}"#,
        "200 200 404 404 404 403 403 401 401",
    ),
    (
        "POST /api/v1/ask",
        r#"{"subject":"user:ines","permission":"vessel:view","resource":"vessel:tern","revision":1}"#,
        "200 200 403 403 403 403 403 401 401",
    ),
    (
        "POST /api/v1/actions",
        r#"{"subject":"user:ines","resource":"vessel:tern"}"#,
        "200 200 200 200 200 403 403 401 401",
    ),
    (
        "POST /api/v1/reach",
        r#"{"subject":"user:ines","permission":"vessel:view"}"#,
        "200 200 200 200 200 403 403 401 401",
    ),
    (
        "POST /api/v1/holders",
        r#"{"permission":"vessel:view","resource":"vessel:tern"}"#,
        "200 200 200 200 200 403 403 401 401",
    ),
    (
        "POST /api/v1/holders",
        r#"{"permission":"vessel:view","resource":"vessel:skua"}"#,
        "200 200 404 404 404 403 403 401 401",
    ),
    (
        "POST /api/v1/rows",
        r#"{"subject":"user:ines","permission":"vessel:view"}"#,
        "200 200 403 403 403 403 403 401 401",
    ),
    (
        "POST /api/v1/hints",
        r#"{"subject":"user:ines","beside":{"application":"quay"}}"#,
        "200 200 200 200 200 403 403 401 401",
    ),
    (
        "POST /api/v1/routes/check",
        r#"{"application":"quay","method":"GET","path":"/vessels/tern","subject":"user:ines"}"#,
        "200 200 403 403 403 403 403 401 401",
    ),
    // -- the register, read ------------------------------------------------------------------
    ("GET /api/v1/status", "", "200 200 200 200 200 403 403 401 401"),
    ("GET /api/v1/entities", "", "200 200 200 200 200 403 403 401 401"),
    ("GET /api/v1/entities/{name} vessel:tern", "", "200 200 200 200 200 403 403 401 401"),
    ("GET /api/v1/entities/{name} vessel:skua", "", "200 200 404 404 404 403 403 401 401"),
    ("GET /api/v1/entities/{name} vessel:nowhere", "", "404 404 404 404 404 403 403 401 401"),
    ("GET /api/v1/entities/{name}/around vessel:tern", "", "200 200 200 200 200 403 403 401 401"),
    ("GET /api/v1/entities/{name}/around vessel:skua", "", "200 200 404 404 404 403 403 401 401"),
    ("GET /api/v1/entities/{name}/members group:watch", "", "200 200 200 200 200 403 403 401 401"),
    ("GET /api/v1/entities/{name}/members group:guard", "", "200 200 404 404 404 403 403 401 401"),
    ("GET /api/v1/grants", "", "200 200 200 200 200 403 403 401 401"),
    ("GET /api/v1/activations", "", "200 200 200 200 200 403 403 401 401"),
    ("GET /api/v1/tenant-roles", "", "200 200 200 200 200 403 403 401 401"),
    ("GET /api/v1/holdings?at=vessel:tern", "", "200 200 200 200 200 403 403 401 401"),
    ("GET /api/v1/roles/{role}/reached hand", "", "200 200 403 403 403 403 403 401 401"),
    ("GET /api/v1/changes", "", "200 200 403 403 403 403 403 401 401"),
    ("GET /api/v1/asked", "", "200 200 403 403 403 403 403 401 401"),
    // -- the register, written ---------------------------------------------------------------
    (
        "PUT /api/v1/entities/{name} vessel:tern-{n}",
        r#"{"entity":"vessel:tern-{n}","within":"tenant:northline","attributes":{"length":{n}}}"#,
        "200 403 403 403 403 403 403 401 401",
    ),
    ("DELETE /api/v1/entities/{name} vessel:gone-{n}", "", "200 403 403 403 403 403 403 401 401"),
    ("DELETE /api/v1/entities/{name} vessel:lost-{n}", "", "200 403 403 403 403 403 403 401 401"),
    ("DELETE /api/v1/entities/{name} vessel:nowhere", "", "404 403 403 403 403 403 403 401 401"),
    ("POST /api/v1/facts", r#"{"set":["vessel:tern.length = 9{n}"]}"#, "200 403 403 403 403 403 403 401 401"),
    (
        "POST /api/v1/register",
        "{\"entity\":\"vessel:tern\",\"within\":\"tenant:northline\"}\n",
        "200 403 403 403 403 403 403 401 401",
    ),
    (
        "POST /api/v1/register/stream",
        "{\"entity\":\"vessel:tern\",\"within\":\"tenant:northline\"}\n",
        "200 403 403 200 200 403 403 401 401",
    ),
    (
        "POST /api/v1/grants",
        r#"{"role":"broker","to":"user:ines","at":"declaration:d{n}"}"#,
        "200 403 403 200 403 403 403 401 401",
    ),
    (
        "POST /api/v1/grants",
        r#"{"role":"hand","to":"user:ines","at":"vessel:skua"}"#,
        "200 403 403 403 403 403 403 401 401",
    ),
    (
        "POST /api/v1/grants",
        r#"{"role":"hand","to":"user:ines","at":"vessel:nowhere"}"#,
        "422 403 403 403 403 403 403 401 401",
    ),
    ("DELETE /api/v1/grants/{id} own-{n}", "", "200 403 403 200 403 403 403 401 401"),
    ("DELETE /api/v1/grants/{id} theirs-{n}", "", "200 403 403 403 403 403 403 401 401"),
    ("DELETE /api/v1/grants/{id} nowhere", "", "404 403 403 403 403 403 403 401 401"),
    (
        "POST /api/v1/activations",
        r#"{"grant":"pilot-{n}","subject":"user:ines-{n}","session":"s-{n}","reason":"a gale"}"#,
        "200 403 403 403 403 200 403 401 401",
    ),
    ("DELETE /api/v1/activations/{id} active-{n}", "", "200 403 403 403 403 403 403 401 401"),
    ("DELETE /api/v1/activations/{id} nowhere", "", "404 403 403 403 403 403 403 401 401"),
    (
        "PUT /api/v1/tenant-roles",
        r#"{"tenant":"tenant:northline","key":"made-{n}","permissions":["vessel:view"]}"#,
        "200 403 403 403 200 403 403 401 401",
    ),
    (
        "PUT /api/v1/tenant-roles",
        r#"{"tenant":"tenant:hallfjord","key":"made-{n}","permissions":["vessel:view"]}"#,
        "200 403 403 403 403 403 403 401 401",
    ),
    (
        "DELETE /api/v1/tenant-roles/{tenant}/{key} northline/own-{n}",
        "",
        "200 403 403 403 200 403 403 401 401",
    ),
    (
        "DELETE /api/v1/tenant-roles/{tenant}/{key} northline/nowhere",
        "",
        "404 403 403 403 404 403 403 401 401",
    ),
    (
        "DELETE /api/v1/tenant-roles/{tenant}/{key} hallfjord/own-{n}",
        "",
        "200 403 403 403 403 403 403 401 401",
    ),
    // -- texts -------------------------------------------------------------------------------
    ("GET /api/v1/revisions", "", "200 200 403 403 403 403 403 401 401"),
    ("GET /api/v1/revisions/{number} 1", "", "200 200 403 403 403 403 403 401 401"),
    ("GET /api/v1/model", "", "200 200 403 403 403 403 403 401 401"),
    ("GET /api/v1/types/{type}/grid vessel", "", "200 200 403 403 403 403 403 401 401"),
    ("GET /api/v1/drafts", "", "200 200 403 403 403 403 403 401 401"),
    ("POST /api/v1/drafts", r#"{"title":"another","files":{files}}"#, "200 403 403 403 403 403 403 401 401"),
    ("GET /api/v1/drafts/{id} {draft}", "", "200 200 403 403 403 403 403 401 401"),
    ("DELETE /api/v1/drafts/{id} {draft}", "", "200 403 403 403 403 403 403 401 401"),
    ("PUT /api/v1/drafts/{id}/presence {draft}", "", "200 403 403 403 403 403 403 401 401"),
    ("GET /api/v1/discarded-drafts", "", "200 200 403 403 403 403 403 401 401"),
    ("POST /api/v1/discarded-drafts/{id}/restoration {draft}", "", "404 403 403 403 403 403 403 401 401"),
    ("POST /api/v1/texts/check", r#"{"files":{files}}"#, "200 200 403 403 403 403 403 401 401"),
    ("POST /api/v1/texts/edit", r#"{"files":{files},"edits":[]}"#, "200 200 403 403 403 403 403 401 401"),
    (
        "POST /api/v1/texts/import",
        r#"{"application":"quay","document":"openapi: 3.0.0\ninfo: {title: x, version: '1'}\npaths:\n  /x: {get: {responses: {}}}\n"}"#,
        "200 200 403 403 403 403 403 401 401",
    ),
    ("POST /api/v1/rollouts", r#"{"what":"{draft}","for":"all"}"#, "200 403 403 403 403 403 403 401 401"),
    ("GET /api/v1/live", "", "200 200 403 403 403 403 403 401 401"),
    ("GET /api/v1/rollouts", "", "200 200 403 403 403 403 403 401 401"),
    ("POST /api/v1/rollbacks", r#"{"for":"all","note":"a try"}"#, "200 403 403 403 403 403 403 401 401"),
    ("POST /api/v1/revisions/{number}/bar 77", r#"{"note":"x"}"#, "404 403 403 403 403 403 403 401 401"),
    ("GET /api/v1/nodes", "", "200 200 403 403 403 403 403 401 401"),
    ("GET /api/v1/drafts/{id}/review {draft}", "", "200 200 403 403 403 403 403 401 401"),
    ("POST /api/v1/drafts/{id}/comments {draft}", r#"{"text":"hm"}"#, "204 403 403 403 403 403 403 401 401"),
    ("POST /api/v1/reviews/{id}/approval {draft}", "{}", "409 403 403 403 403 403 403 401 401"),
    ("POST /api/v1/reviews/{id}/return {draft}", r#"{"note":"x"}"#, "204 403 403 403 403 403 403 401 401"),
    ("GET /api/v1/waiting", "", "200 200 403 403 403 403 403 401 401"),
    ("GET /api/v1/settings", "", "200 200 403 403 403 403 403 401 401"),
    (
        "PUT /api/v1/settings",
        r#"{"text":"[decisions]\nkeep = \"91d\"\n"}"#,
        "200 403 403 403 403 403 403 401 401",
    ),
    ("GET /api/v1/shadows", "", "200 200 403 403 403 403 403 401 401"),
    ("POST /api/v1/shadows", r#"{"revision":1,"for":"all"}"#, "200 403 403 403 403 403 403 401 401"),
    ("GET /api/v1/shadows/{number}/differences 77", "", "404 404 403 403 403 403 403 401 401"),
    ("DELETE /api/v1/shadows/{number} 1", "", "200 403 403 403 403 403 403 401 401"),
    ("GET /api/v1/cases", "", "200 200 403 403 403 403 403 401 401"),
    (
        "POST /api/v1/cases",
        r#"{"name":"case {n}","subject":"user:ines","permission":"vessel:view","resource":"vessel:tern","may":true}"#,
        "200 403 403 403 403 403 403 401 401",
    ),
    ("GET /api/v1/cases/file", "", "200 200 403 403 403 403 403 401 401"),
    ("DELETE /api/v1/cases/{number} {case}", "", "204 403 403 403 403 403 403 401 401"),
    ("GET /api/v1/rehearsal", "", "200 200 403 403 403 403 403 401 401"),
    ("PUT /api/v1/rehearsal", r#"{"files":[],"from":0}"#, "200 403 403 403 403 403 403 401 401"),
    ("GET /api/v1/rehearsals", "", "200 200 403 403 403 403 403 401 401"),
    ("POST /api/v1/rehearsals", r#"{"draft":"{draft}"}"#, "202 403 403 403 403 403 403 401 401"),
    ("GET /api/v1/rehearsals/{number} {run}", "", "200 200 403 403 403 403 403 401 401"),
    ("GET /api/v1/rehearsals/{number}/page {run}", "", "200 200 403 403 403 403 403 401 401"),
    ("GET /api/v1/rehearsals/{number}/junit {run}", "", "200 200 403 403 403 403 403 401 401"),
    ("DELETE /api/v1/rehearsals/{number} {run}", "", "404 403 403 403 403 403 403 401 401"),
    // -- keys --------------------------------------------------------------------------------
    ("GET /api/v1/keys", "", "200 200 403 403 403 403 403 401 401"),
    ("POST /api/v1/keys", r#"{"name":"more","application":"quay"}"#, "200 403 403 403 403 403 403 401 401"),
    ("POST /api/v1/keys/{id}/replacement {key}", "", "200 403 403 403 403 403 403 401 401"),
    ("DELETE /api/v1/keys/{id} {key}", "", "200 403 403 403 403 403 403 401 401"),
    ("GET /api/v1/verification", "", "200 200 403 403 403 403 403 401 401"),
    // -- issuers -----------------------------------------------------------------------------
    ("GET /api/v1/issuers", "", "200 200 403 403 403 403 403 401 401"),
    (
        "POST /api/v1/issuers",
        r#"{"key":"added-{n}","url":"https://added-{n}.example","audiences":{"quay":["q"]}}"#,
        "200 403 403 403 403 403 403 401 401",
    ),
    ("POST /api/v1/issuers/{key}/attempt {issuer}", "", "200 403 403 403 403 403 403 401 401"),
    ("DELETE /api/v1/issuers/{key} {issuer}", "", "200 403 403 403 403 403 403 401 401"),
    ("POST /api/v1/tokens/reading", r#"{"token":"x.y.z"}"#, "200 200 200 200 200 403 403 401 401"),
];

/// The facts of all rows, for one column.
fn given(n: usize) -> Vec<Value> {
    vec![
        json!({ "entity": format!("user:ines-{n}"), "tenants": ["northline"] }),
        json!({ "entity": format!("vessel:gone-{n}"), "within": "tenant:northline" }),
        json!({ "entity": format!("vessel:lost-{n}"), "within": "tenant:hallfjord" }),
        json!({ "entity": format!("declaration:d{n}"), "within": "tenant:northline" }),
        json!({ "grant": { "id": format!("own-{n}"), "role": "hand", "to": format!("user:ines-{n}"), "at": "vessel:tern" } }),
        json!({ "grant": { "id": format!("theirs-{n}"), "role": "hand", "to": "user:nils", "at": "vessel:skua", "until": format!("2040-01-0{}T00:00:00Z", n + 1) } }),
        json!({ "grant": { "id": format!("pilot-{n}"), "role": "pilot", "to": format!("user:ines-{n}"), "at": "tenant:northline" } }),
        json!({ "activation": { "id": format!("active-{n}"), "grant": format!("pilot-{n}"), "subject": format!("user:ines-{n}"), "reason": "fog", "from": "2026-01-01T00:00:00Z", "until": "2026-01-01T01:00:00Z" } }),
        json!({ "tenant-role": { "tenant": "tenant:northline", "key": format!("own-{n}"), "permissions": ["vessel:view"] } }),
        json!({ "tenant-role": { "tenant": "tenant:hallfjord", "key": format!("own-{n}"), "permissions": ["vessel:view"] } }),
    ]
}

fn beginning() -> Vec<Value> {
    let mut lines = vec![
        json!({ "entity": "tenant:northline" }),
        json!({ "entity": "tenant:hallfjord" }),
        json!({ "entity": "user:ines", "tenants": ["northline"], "attributes": { "clearance": 3 } }),
        json!({ "entity": "user:nils", "tenants": ["hallfjord"] }),
        json!({ "entity": "group:watch", "tenant": "northline", "members": ["user:ines"] }),
        json!({ "entity": "group:guard", "tenant": "hallfjord", "members": ["user:nils"] }),
        json!({ "entity": "vessel:tern", "within": "tenant:northline" }),
        json!({ "entity": "vessel:skua", "within": "tenant:hallfjord" }),
    ];
    lines.extend((0..CALLERS.len()).flat_map(given));
    lines
}

/// What a row needs that is made for each call.
async fn fresh(service: &Service, owner: &str, what: &str, files: &Value, n: usize) -> String {
    match what {
        "{draft}" => {
            let draft = json!({ "title": "one", "files": files });
            let saved = service.post(owner, "/api/v1/drafts", &draft).await;
            saved.read::<DraftText>().draft.id
        }
        "{case}" => {
            let case = json!({ "name": format!("kept {n}"), "subject": "user:ines", "permission": "vessel:view", "resource": "vessel:tern", "may": true });
            service.post(owner, "/api/v1/cases", &case).await.read::<CaseShown>().number.to_string()
        }
        "{key}" => {
            let key =
                service.post(owner, "/api/v1/keys", &json!({ "name": "one", "application": "quay" })).await;
            key.read::<KeyMade>().key.id
        }
        "{issuer}" => {
            // No two may be of one address: it counts on.
            static NEXT: AtomicUsize = AtomicUsize::new(0);
            let key = format!("made-{}", NEXT.fetch_add(1, Ordering::Relaxed));
            let jwk =
                json!({ "kty": "OKP", "crv": "Ed25519", "x": "11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo" });
            let issuer = json!({ "key": key, "url": format!("https://{key}.example"), "audiences": { "quay": ["q"] },
                                 "keys": json!({ "keys": [jwk] }).to_string() });
            assert_eq!(service.post(owner, "/api/v1/issuers", &issuer).await.status, 200);
            key
        }
        _ => {
            let begun = service.post(owner, "/api/v1/rehearsals", &json!({})).await;
            assert_eq!(begun.status, 202, "{begun}");
            let number = begun.read::<RunShown>().number;
            ended(service, owner, number).await;
            number.to_string()
        }
    }
}

/// Waits until a rehearsal is over: one at a time is held.
async fn ended(service: &Service, owner: &str, number: i64) {
    for _ in 0..200 {
        let runs: Vec<RunShown> = service.get(owner, "/api/v1/rehearsals").await.read();
        if runs.iter().any(|run| run.number == number && run.state != "running") {
            return;
        }
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
    }
    panic!("rehearsal {number} does not end");
}

#[tokio::test(flavor = "multi_thread")]
async fn every_operation_answers_every_caller_as_it_is_written_down() {
    let service = Service::start(&beginning()).await;
    let owner = service.operator("owner", "everywhere").await;
    let ended_key = {
        let text = service.operator("owner", "everywhere").await;
        let id = text.split('_').nth(1).unwrap_or_default().to_owned();
        let all: Vec<KeyShown> = service.get(&owner, "/api/v1/keys").await.read();
        let id = all
            .iter()
            .map(|key| &key.id)
            .find(|known| **known == id || text.contains(known.as_str()))
            .expect("is listed")
            .clone();
        assert_eq!(service.call(&owner, &format!("DELETE /api/v1/keys/{id}"), None).await.status, 200);
        text
    };
    let kept = Making {
        endpoints: vec!["evaluation".to_owned()],
        ..Making::whole(KeyKind::Application("quay".to_owned()), "kept")
    };
    let callers = [
        owner.clone(),
        service.operator("reader", "everywhere").await,
        service.operator("reader", "tenant:northline").await,
        service.operator("grant-editor", "tenant:northline").await,
        service.operator("role-editor", "tenant:northline").await,
        service.application("quay").await,
        service.key(kept).await,
        ended_key,
        String::new(),
    ];
    let files = json!([{ "path": "charter.toml", "text": crate::support::CHARTER }]);

    let mut wrong = String::new();
    for (call, body, outcomes) in TABLE {
        let operation = operation(call);
        let outcomes: Vec<u16> =
            outcomes.split(' ').map(|status| status.parse().expect("a status")).collect();
        assert_eq!(outcomes.len(), CALLERS.len(), "{call}");
        for (n, (key, expected)) in callers.iter().zip(&outcomes).enumerate() {
            let mut call = concrete(call).replace("{n}", &n.to_string());
            let mut body = body.replace("{n}", &n.to_string()).replace("{secret}", key);
            body = body.replace("{files}", &files.to_string());
            for what in ["{draft}", "{case}", "{key}", "{run}", "{issuer}"] {
                if call.contains(what) || body.contains(what) {
                    let made = fresh(&service, &owner, what, &files, n).await;
                    call = call.replace(what, &made);
                    body = body.replace(what, &made);
                }
            }
            let lines = operation.starts_with("POST /api/v1/register");
            let body = match body.as_str() {
                "" => None,
                _ if lines => Some(Value::String(body)),
                _ => Some(serde_json::from_str(&body).unwrap_or_else(|why| panic!("{why}: {body}"))),
            };
            let answer = service.call(key, &call, body.as_ref()).await;
            if answer.status.as_u16() != *expected {
                let _ = writeln!(wrong, "{call} by {}: {answer}, not {expected}", CALLERS[n]);
            } else if *expected >= 400 {
                answer.problem();
            }
            if answer.status == 202 {
                ended(&service, &owner, answer.read::<RunShown>().number).await;
            }
        }
    }
    assert!(wrong.is_empty(), "{wrong}");

    let described: BTreeSet<String> = operations();
    let listed: BTreeSet<String> = TABLE.iter().map(|(call, ..)| operation(call).to_owned()).collect();
    assert_eq!(described.difference(&listed).collect::<Vec<_>>(), Vec::<&String>::new(), "have no row");
    assert_eq!(listed.difference(&described).collect::<Vec<_>>(), Vec::<&String>::new(), "are no operations");
}

/// `METHOD /path/{part} value` as the operation, and the values of its parts.
fn split(call: &str) -> (&str, &str) {
    let mut spaces = call.match_indices(' ').map(|(at, _)| at);
    match (spaces.next(), spaces.next()) {
        (Some(_), Some(at)) => (&call[..at], &call[at + 1..]),
        _ => (call, ""),
    }
}

/// The operation of a call, without parameters.
fn operation(call: &str) -> &str {
    split(call).0.split('?').next().unwrap_or_default()
}

/// The call with its parts filled in.
fn concrete(call: &str) -> String {
    let (operation, values) = split(call);
    let mut values = values.split('/');
    let part = |part: &str| match part.starts_with('{') {
        true => values.next().unwrap_or_default().to_owned(),
        false => part.to_owned(),
    };
    operation.split('/').map(part).collect::<Vec<_>>().join("/")
}

fn operations() -> BTreeSet<String> {
    let description = ostrog_service::description().to_json().expect("can be written");
    let description: Value = serde_json::from_str(&description).expect("JSON");
    let paths = description["paths"].as_object().expect("paths");
    let methods = ["get", "put", "post", "delete", "patch", "head", "options"];
    let each = paths.iter().flat_map(|(path, item)| {
        let known = methods.iter().filter(|method| item.get(**method).is_some());
        known.map(move |method| format!("{} {path}", method.to_uppercase()))
    });
    each.collect()
}
