//! What the console asks for, asked by whoever else may call: texts on the way, what was given, what
//! applications asked, and cases.

mod support;

use serde_json::{Value, json};
use support::{Service, folder};

fn names(list: &Value) -> Vec<&str> {
    list.as_array().expect("a list").iter().filter_map(Value::as_str).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_text_is_checked_changed_and_begun_without_being_kept() {
    let folder = folder();
    let service = Service::demo(folder.path());
    let key = service.operator.clone();
    let (_, live) = service.get("/api/v1/revisions/live").await;
    let files = live["files"].clone();

    // As it is: no finding, no change, everything defined with its place.
    let check = json!({ "files": files, "grid": "manifest" });
    let (status, checked) = service.post(&key, "/api/v1/texts/check", &check).await;
    assert_eq!(status, 200);
    assert_eq!((&checked["standing"]["findings"], &checked["standing"]["changes"]), (&json!([]), &json!([])));
    assert_eq!(checked["grid"]["kind"], "manifest");
    let role = checked["outline"].as_array().expect("a list").iter().find(|one| one["name"] == "inspector");
    let role = role.expect("is defined");
    let file = files.as_array().expect("files").iter().find(|file| file["path"] == role["path"]);
    let text: Vec<u16> = file.expect("a file")["text"].as_str().expect("a text").encode_utf16().collect();
    let place = |end: &str| usize::try_from(role[end].as_u64().expect("a number")).expect("small");
    assert_eq!(String::from_utf16_lossy(&text[place("start")..place("end")]), "inspector");

    // A mistake behind letters that take two units: its place is told as editors count, with what to write.
    let mut broken = files.clone();
    let odd = "# \u{1F6A2}\u{1F6A2}\n[role.odd]\npermissions = [\"manifest:relaese\"]\n";
    broken.as_array_mut().expect("files").push(json!({ "path": "zz.toml", "text": odd }));
    let (status, checked) = service.post(&key, "/api/v1/texts/check", &json!({ "files": broken })).await;
    assert_eq!((status, &checked["model"]), (200, &Value::Null));
    let finding = &checked["standing"]["findings"][0];
    let units: Vec<u16> = odd.encode_utf16().collect();
    let place = |end: &str| usize::try_from(finding[end].as_u64().expect("a number")).expect("small");
    assert_eq!(String::from_utf16_lossy(&units[place("start")..place("end")]), "\"manifest:relaese\"");
    assert_eq!(finding["fix"], "\"manifest:release\"");

    // A form's change, and one that cannot be made.
    let edits = json!([{ "path": ["role", "inspector", "name"], "value": "Looker" }]);
    let (status, edited) =
        service.post(&key, "/api/v1/texts/edit", &json!({ "files": files, "edits": edits })).await;
    assert_eq!(status, 200);
    let (_, checked) = service.post(&key, "/api/v1/texts/check", &json!({ "files": edited["files"] })).await;
    assert_eq!(
        checked["model"]["roles"]
            .as_array()
            .expect("roles")
            .iter()
            .filter(|one| one["name"] == "Looker")
            .count(),
        1
    );
    let edits = json!([{ "path": ["rule", "none-such", "when"], "remove": "x" }]);
    let (status, refused) =
        service.post(&key, "/api/v1/texts/edit", &json!({ "files": files, "edits": edits })).await;
    assert_eq!((status, refused["type"].as_str()), (422, Some("urn:ostrog:problem:invalid")));

    // A document: what it suggests is a charter's file once the charter has a head.
    let paths = json!({ "/crews/{crew}": { "get": { "summary": "See a crew" } } });
    let document = json!({ "openapi": "3.1.0", "info": { "title": "Crew", "version": "1" }, "paths": paths });
    let asked = json!({ "document": document.to_string(), "application": "crew" });
    let (status, begun) = service.post(&key, "/api/v1/texts/import", &asked).await;
    assert_eq!((status, begun["mapped"].as_u64(), begun.get("files")), (200, Some(1), None));
    let mut asked = asked;
    asked["files"] = files.clone();
    asked["write"] = json!({ "without": ["role crew-read"] });
    let (_, begun) = service.post(&key, "/api/v1/texts/import", &asked).await;
    let mut more = files.clone();
    more.as_array_mut().expect("files").extend(begun["files"].as_array().expect("files").iter().cloned());
    assert!(!more.to_string().contains("crew-read"));
    let (_, checked) = service.post(&key, "/api/v1/texts/check", &json!({ "files": more })).await;
    let types = checked["model"]["types"].as_array().expect("no error");
    assert!(types.iter().any(|one| one["key"] == "crew"));
    let (status, _) =
        service.post(&key, "/api/v1/texts/import", &json!({ "document": "{}", "application": "crew" })).await;
    assert_eq!(status, 422);

    // Nothing of it was kept.
    assert_eq!(service.get("/api/v1/drafts").await.1, json!([]));
    assert_eq!(service.get("/api/v1/status").await.1["position"], 5);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_given_is_read_by_place_and_by_subject_and_within_ones_tenant_only() {
    let folder = folder();
    let service = Service::demo(folder.path());
    let (_, held) = service.get("/api/v1/holdings?at=vessel:kestrel&limit=5").await;
    assert_eq!(names(&held["from"]), ["vessel:kestrel", "tenant:northline", "everywhere"]);
    let ids = |held: &Value| -> Vec<String> {
        let items = held["items"].as_array().expect("items").iter();
        items.map(|one| one["grant"]["id"].as_str().expect("an id").to_owned()).collect()
    };
    let mut all = ids(&held);
    let mut page = held;
    while let Some(next) = page["next"].as_u64() {
        page = service.get(&format!("/api/v1/holdings?at=vessel:kestrel&limit=5&after={next}")).await.1;
        all.extend(ids(&page));
    }
    assert_eq!(all.len() as u64, page["total"].as_u64().expect("a number"));
    let (_, whole) = service.get("/api/v1/holdings?at=vessel:kestrel&limit=1000").await;
    assert_eq!(all, ids(&whole));
    assert_eq!(whole["items"].as_array().expect("items").last().expect("one")["standing"], "ended");
    let (_, ines) = service.get("/api/v1/holdings?by=user:ines").await;
    assert_eq!(ids(&ines), ["g-inspect"]);
    assert_eq!(
        names(&ines["from"]),
        ["user:ines", "group:night", "group:duty-inspectors", "group:customs-duty"]
    );
    for wrong in ["", "?at=a:b&by=c:d", "?at=vessel:none", "?by=user:none"] {
        let status = service.get(&format!("/api/v1/holdings{wrong}")).await.0;
        assert!(matches!(status, 400 | 404), "{wrong}: {status}");
    }

    let (_, around) = service.get("/api/v1/entities/manifest:m-204/around").await;
    let outer: Vec<_> =
        around["outer"].as_array().expect("a list").iter().map(|one| one["name"].clone()).collect();
    assert_eq!(outer, ["voyage:v-9", "vessel:kestrel", "tenant:northline"]);
    assert_eq!(around["relations"][0]["confers"], json!(["manifest-owner"]));
    let (_, members) = service.get("/api/v1/entities/group:yard-crew/members?limit=5").await;
    assert_eq!((names(&members["items"]).len(), members["total"].as_u64()), (5, Some(12)));
    let (_, brief) = service.get("/api/v1/entities?prefix=group:yard&brief=true").await;
    assert_eq!(
        (&brief["items"][0]["member-count"], &brief["items"][0]["members"]),
        (&json!(12), &Value::Null)
    );
    let (_, history) = service.get("/api/v1/changes?about=user:ines").await;
    assert_eq!(history["items"].as_array().expect("changes").len(), 1);

    // An operator of another tenant: what is not there and what is not theirs answer alike.
    let rights = json!([{ "role": "reader", "at": "tenant:hallfjord" }]);
    let hallfjord = operator(&service, "H", rights).await;
    let see = async |path: &str| {
        let call = service.http().get(format!("{}{path}", service.url)).bearer_auth(&hallfjord);
        service.send(call).await
    };
    for (mine, none) in [
        ("/api/v1/holdings?at=vessel:kestrel", "/api/v1/holdings?at=vessel:kestrol"),
        ("/api/v1/entities/manifest:m-204/around", "/api/v1/entities/manifest:m-2040/around"),
        ("/api/v1/entities/group:duty-inspectors/members", "/api/v1/entities/group:none/members"),
    ] {
        let (there, not) = (see(mine).await, see(none).await);
        assert_eq!((there.0, not.0), (404, 404), "{mine}");
        assert_eq!(there.1["type"], not.1["type"], "{mine}");
    }
    let (_, ines) = see("/api/v1/holdings?by=user:ines").await;
    let (_, nobody) = see("/api/v1/holdings?by=user:none").await;
    assert_eq!((&ines["items"], &nobody["items"]), (&json!([]), &json!([])));
    assert_eq!((names(&ines["from"]), names(&nobody["from"])), (vec!["user:ines"], vec!["user:none"]));
    for path in [
        "/api/v1/roles/inspector/reached",
        "/api/v1/asked",
        "/api/v1/cases",
        "/api/v1/changes?about=user:ines",
    ] {
        assert_eq!(see(path).await.0, 403, "{path}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_applications_ask_is_remembered_and_what_is_right_is_kept() {
    let folder = folder();
    let service = Service::demo(folder.path());
    let owner = service.operator.clone();
    let made =
        service.post(&owner, "/api/v1/keys", &json!({ "name": "desk", "application": "customs" })).await.1;
    let desk = made["text"].as_str().expect("a key");
    let ask = |action: &str| {
        json!({ "subject": { "type": "user", "id": "ines" }, "action": { "name": action },
                "resource": { "type": "manifest", "id": "m-204" } })
    };
    for action in ["view", "relaese", "relaese"] {
        assert_eq!(service.post(desk, "/access/v1/evaluation", &ask(action)).await.0, 200);
    }
    // Of another application's type: refused, and no sign that the charter lacks it.
    let crane = json!({ "subject": { "type": "user", "id": "ines" }, "action": { "name": "operate" },
                        "resource": { "type": "crane", "id": "c-1" } });
    assert_eq!(service.post(desk, "/access/v1/evaluation", &crane).await.0, 200);
    let (_, asked) = service.get("/api/v1/asked").await;
    let unknown = asked["unknown"].as_array().expect("a list");
    assert_eq!(unknown.len(), 1, "{unknown:?}");
    assert_eq!((&unknown[0]["permission"], &unknown[0]["count"]), (&json!("manifest:relaese"), &json!(2)));
    assert_eq!(
        (&unknown[0]["nearest"], &unknown[0]["application"]),
        (&json!("manifest:release"), &json!("customs"))
    );
    let last =
        asked["applications"].as_array().expect("a list").iter().find(|one| one["application"] == "customs");
    assert_eq!(last.expect("is there")["last"]["subject"], "user:ines");

    let case = json!({ "name": "A junior is refused", "subject": "user:ines", "permission": "manifest:release",
                       "resource": "manifest:m-204", "may": false, "because": "condition", "context": { "zone": "quay" } });
    let (status, kept) = service.post(&owner, "/api/v1/cases", &case).await;
    assert_eq!((status, kept["number"].as_i64()), (200, Some(1)));
    assert_eq!(service.post(&owner, "/api/v1/cases", &case).await.0, 409, "one of a name");
    for (part, wrong) in [
        ("subject", "user:inse"),
        ("resource", "manifest:none"),
        ("permission", "manifest:relaese"),
        ("now", "soon"),
    ] {
        let mut odd = case.clone();
        odd["name"] = part.into();
        odd[part] = wrong.into();
        let status = service.post(&owner, "/api/v1/cases", &odd).await.0;
        assert!(matches!(status, 400 | 422), "{part}: {status}");
    }
    // What is exported is a rehearsal file, and the case passes.
    let call = service.http().get(format!("{}/api/v1/cases/file", service.url)).bearer_auth(&owner);
    let text = call.send().await.expect("answers").text().await.expect("a text");
    let rehearsal = folder.path().join("kept");
    std::fs::create_dir(&rehearsal).expect("made");
    std::fs::write(rehearsal.join("cases.toml"), text).expect("written");
    let demo = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
    let mut run = service.ostrog();
    run.arg("rehearse").arg(&rehearsal).arg("--charter").arg(demo.join("harbour"));
    let out = run.arg("--register").arg(demo.join("register.ndjson")).output().expect("runs");
    assert!(
        out.status.success(),
        "{}{}",
        String::from_utf8_lossy(&out.stdout),
        String::from_utf8_lossy(&out.stderr)
    );

    assert_eq!(service.delete("/api/v1/cases/1").await.0, 204);
    assert_eq!(service.delete("/api/v1/cases/1").await.0, 404);
    assert_eq!(service.get("/api/v1/cases").await.1, json!([]));
}

/// An operator's key with these rights.
async fn operator(service: &Service, name: &str, rights: Value) -> String {
    let asked = json!({ "name": name, "rights": rights });
    let (status, made) = service.post(&service.operator, "/api/v1/keys", &asked).await;
    assert_eq!(status, 200, "{made}");
    made["text"].as_str().expect("its text").to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn the_register_is_searched_in_names_and_texts_and_only_where_one_may_read() {
    let folder = folder();
    let service = Service::demo(folder.path());
    let found = async |key: &str, query: &str| -> Vec<String> {
        let asked = service.http().get(format!("{}/api/v1/entities?{query}", service.url)).bearer_auth(key);
        let (status, page) = service.send(asked).await;
        assert_eq!(status, 200, "{page}");
        let items = page["items"].as_array().expect("items").iter();
        items.map(|one| one["entity"].as_str().expect("a name").to_owned()).collect()
    };
    let owner = service.operator.clone();
    // In names, whatever the case; in texts that are stated; and both at once with a type.
    assert_eq!(found(&owner, "containing=INES").await, ["user:ines"]);
    assert!(found(&owner, "containing=quay").await.contains(&"user:ines".to_owned()), "her post");
    let quay = found(&owner, "containing=quay&prefix=user:").await;
    assert!(!quay.is_empty() && quay.iter().all(|name| name.starts_with("user:")), "{quay:?}");
    assert_eq!(found(&owner, "containing=ines&attribute=clearance=4").await, Vec::<String>::new());
    assert_eq!(found(&owner, "containing=nobody-of-that-name").await, Vec::<String>::new());
    assert_eq!(found(&owner, "containing=%20").await, found(&owner, "").await);
    // Letters that take several bytes, and a text longer than every name.
    assert_eq!(found(&owner, "containing=%C3%A9%C3%A9").await, Vec::<String>::new());
    assert_eq!(found(&owner, &format!("containing={}", "x".repeat(5_000))).await, Vec::<String>::new());
    // Page by page it is the same.
    let all = found(&owner, "containing=m-&limit=1000").await;
    let mut pages = Vec::new();
    while let Some(last) = pages.last().cloned().or(Some(String::new())) {
        let page = found(&owner, &format!("containing=m-&limit=37&after={last}")).await;
        if page.is_empty() {
            break;
        }
        pages.extend(page);
    }
    assert!(all.len() > 80 && pages == all, "{pages:?} {all:?}");

    // A tenant's operator finds what lies in the tenant, and nothing of what does not.
    let desk =
        operator(&service, "northline's desk", json!([{ "role": "reader", "at": "tenant:northline" }])).await;
    assert!(found(&desk, "containing=kestrel").await.contains(&"vessel:kestrel".to_owned()));
    assert_eq!(found(&desk, "containing=ines").await, ["user:ines"], "a member of it");
    assert_eq!(found(&desk, "containing=rui").await, Vec::<String>::new(), "another tenant's");
    let theirs = found(&desk, "limit=1000").await;
    let by_letters: Vec<Vec<String>> =
        [found(&desk, "containing=e&limit=1000").await, found(&desk, "containing=a&limit=1000").await].into();
    assert!(by_letters.concat().iter().all(|name| theirs.contains(name)));
}

#[tokio::test(flavor = "multi_thread")]
async fn who_has_a_draft_open_is_told_to_who_may_write_it() {
    let folder = folder();
    let service = Service::demo(folder.path());
    let (_, live) = service.get("/api/v1/revisions/live").await;
    let draft = json!({ "title": "Night shift", "files": live["files"] });
    let (status, saved) = service.post(&service.operator, "/api/v1/drafts", &draft).await;
    assert_eq!(status, 200);
    let position = service.get("/api/v1/status").await.1["position"].clone();
    let there = async |key: &str, id: &str| {
        let url = format!("{}/api/v1/drafts/{id}/presence", service.url);
        service.send(service.http().put(url).bearer_auth(key)).await
    };
    let owner = service.operator.clone();
    let night =
        operator(&service, "night desk", json!([{ "role": "charter-author", "at": "everywhere" }])).await;
    let reader = operator(&service, "reader", json!([{ "role": "reader", "at": "everywhere" }])).await;
    let (status, alone) = there(&owner, "D-1").await;
    assert_eq!((status, &alone["others"], &alone["digest"]), (200, &json!([]), &saved["draft"]["digest"]));
    let (_, second) = there(&night, "D-1").await;
    assert_eq!(second["others"], json!(["demo operator"]));
    assert_eq!(there(&owner, "D-1").await.1["others"], json!(["night desk"]));
    // Nobody is told twice for saying it twice, and who may only read is not there.
    there(&night, "D-1").await;
    assert_eq!(there(&owner, "D-1").await.1["others"], json!(["night desk"]));
    assert_eq!(there(&reader, "D-1").await.0, 403);
    // Somebody saves: the digest says so.
    let text = json!([{ "path": "charter.toml", "text": "[charter]\nname = \"X\"\nformat = 1\n" }]);
    let anew = json!({ "title": "Night shift", "files": text, "draft": "D-1" });
    let (_, changed) = service.post(&night, "/api/v1/drafts", &anew).await;
    let (_, heard) = there(&owner, "D-1").await;
    assert_eq!(heard["digest"], changed["draft"]["digest"]);
    assert_ne!(heard["digest"], saved["draft"]["digest"]);
    for (id, status) in [("D-2", 404), ("x", 404)] {
        assert_eq!(there(&owner, id).await.0, status, "{id}");
    }
    // It is no change of anything: two keys and a draft were written since.
    let now = service.get("/api/v1/status").await.1["position"].clone();
    assert_eq!(now.as_i64().expect("a number") - position.as_i64().expect("a number"), 3);
}
