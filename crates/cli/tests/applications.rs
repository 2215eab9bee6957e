//! The port's own applications: whichever way one asks, it is one truth; what they write reaches Ostrog; and what `ostrog
//! demo` opens is there.

#[path = "support/apps.rs"]
mod apps;
mod support;

use apps::{Apps, desk};
use ostrog_client::wire::register::EntityLine;
use ostrog_customs_desk::outbox::Telling;
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};
use std::io::{BufRead as _, BufReader};
use std::process::Stdio;
use std::time::Duration;
use support::proxy::{CUSTOMS, Kind, Proxy};
use support::{folder, ostrog, root, signal};

/// Whom the stand-in knows.
const PEOPLE: [&str; 10] =
    ["maren", "ines", "tomas", "ola", "rui", "sena", "petra", "nils", "old-hand", "noor"];

/// Every `step`th manifest of the demo, and those that differ from all others.
fn manifests(step: usize) -> Vec<String> {
    let register = apps::register();
    let ids = register.lines().filter_map(|line| {
        let rest = line.strip_prefix(r#"{"entity":"manifest:"#)?;
        Some(rest.split('"').next()?.to_owned())
    });
    ids.enumerate().filter(|(at, _)| *at < 4 || at % step == 0).map(|(_, id)| id).collect()
}

/// Decision, affordance, route through the real proxy, and row filter on the real table: of each person and each
/// manifest all four say the same.
#[tokio::test(flavor = "multi_thread")]
async fn four_ways_to_ask_are_one_truth() {
    let apps = Apps::open().await;
    let service = &apps.service;
    let proxied =
        json!({ "applications": [{ "application": "customs" }], "headers": "original", "trusted-hops": 1 });
    let key = apps::key(service, json!({ "name": "nginx", "proxy": proxied })).await;
    let application = support::proxy::Application::start().await;
    let ostrog = service.url.trim_start_matches("http://").to_owned();
    let proxy = Proxy::start(Kind::Nginx, &application.address, &ostrog, &key);
    // Somebody who may release some and not others.
    let fact = json!({ "set": ["user:ines.clearance = 5"] });
    assert_eq!(service.post(&service.operator, "/api/v1/facts", &fact).await.0, 200);
    let all = manifests(5);
    let mut allowed = BTreeMap::<&str, usize>::new();
    for person in PEOPLE {
        let token = service.token_of(person).await;
        let subject = json!({ "type": "token", "id": token });

        // By row filter, on the desk's own table.
        let (mut seen, mut page) = (BTreeSet::new(), 0);
        loop {
            let (status, listed) =
                apps.desk("GET", &format!("/manifests?size=100&page={page}"), &token, None).await;
            assert_eq!(status, 200, "{person}: {listed}");
            let items = listed["items"].as_array().expect("items");
            seen.extend(items.iter().map(|item| item["number"].as_str().expect("a number").to_owned()));
            page += 1;
            if items.len() < 100 {
                assert_eq!(listed["total"], seen.len(), "{person}: counted as it is listed");
                break;
            }
        }
        for manifest in &all {
            // By decision.
            let item = |action: &str| json!({ "action": { "name": action }, "resource": { "type": "manifest", "id": manifest } });
            let actions = ["view", "open-page", "release", "amend"];
            let batch = json!({ "subject": subject, "evaluations": actions.map(item) });
            let (_, answers) = service.post(&service.customs, "/access/v1/evaluations", &batch).await;
            let may: Vec<bool> = (0..actions.len())
                .map(|at| answers["evaluations"][at]["decision"].as_bool().expect("a decision"))
                .collect();
            let &[view, open, release, amend] = may.as_slice() else { panic!("{answers}") };
            assert_eq!(seen.contains(manifest), view, "{person} {manifest}: the list");
            for (action, may) in actions.iter().zip(&may) {
                *allowed.entry(action).or_default() += usize::from(*may);
            }

            // By affordance.
            let asked = json!({ "subject": subject, "resource": { "type": "manifest", "id": manifest } });
            let (_, hints) = service.post(&service.customs, "/access/v1/affordances", &asked).await;
            let hint = |key: &str| {
                let all = hints["affordances"].as_array().unwrap_or_else(|| panic!("{hints}"));
                let hint = all.iter().find(|hint| hint["key"] == key).expect("is declared");
                (hint["visible"] == true, hint["enabled"] == true)
            };
            let menu = hint("manifest-menu");
            assert_eq!(menu, (open, open), "{person} {manifest}: the menu");
            let button = hint("release-button");
            assert_eq!(button, (view && open, view && open && release), "{person} {manifest}: the button");
            let correct = hint("amend-button").0;
            assert_eq!(correct, amend && open, "{person} {manifest}: the other button");

            // By route, through the proxy.
            let bearer = format!("Bearer {token}");
            let headers = [("Authorization", bearer.as_str())];
            for (what, may) in [
                (format!("GET /manifests/{manifest}"), open),
                (format!("POST /manifests/{manifest}/release"), view && release),
            ] {
                let (status, _, body) = proxy.ask(CUSTOMS, &what, &headers, "").await;
                assert_eq!(status == 200, may, "{person} {what}: {status} {body}");
                assert!(matches!(status, 200 | 403), "{person} {what}: {status} {body}");
            }
        }
    }
    // It says nothing unless there is both.
    let asked = PEOPLE.len() * all.len();
    for (action, count) in &allowed {
        assert!(*count > 0 && *count < asked, "{action}: {count} of {asked}");
    }

    // The list of somebody who is not signed in, of another application's token, and of nobody's.
    assert_eq!(apps.desk("GET", "/manifests", "", None).await.0, 401);
    assert_eq!(apps.desk("GET", "/manifests", "a.b.c", None).await.0, 401);
}

/// Where the page's button asks for one permission and its API for another, a guarantee that they are alike finds it.
#[test]
fn a_page_and_its_api_that_part_are_found() {
    let folder = folder();
    let charter = folder.path().join("charter");
    std::fs::create_dir(&charter).expect("is made");
    for file in std::fs::read_dir(root().join("demo/harbour")).expect("is there").flatten() {
        std::fs::copy(file.path(), charter.join(file.file_name())).expect("is copied");
    }
    let rehearsal = folder.path().join("rehearsal");
    std::fs::create_dir(&rehearsal).expect("is made");
    // The button in the side bar is `inspection:open`; the report's API asks for `inspection:close`.
    let alike = "[[guarantee]]\nname = \"Who begins one signs it off\"\nalike = [\"inspection:open\", \"inspection:close\"]\n";
    std::fs::write(rehearsal.join("guarantees.toml"), alike).expect("is written");
    let rehearse = || {
        let run =
            ostrog().arg("rehearse").arg(&rehearsal).arg("--charter").arg(&charter).output().expect("runs");
        (run.status.code(), String::from_utf8_lossy(&run.stdout).into_owned())
    };
    let (code, told) = rehearse();
    assert_eq!(code, Some(0), "{told}");
    let roles = std::fs::read_to_string(charter.join("roles.toml")).expect("is there");
    let parted = roles.replace(
        r#"permissions = ["manifest:amend", "inspection:open", "inspection:close"]"#,
        r#"permissions = ["manifest:amend", "inspection:open"]"#,
    );
    assert_ne!(roles, parted);
    std::fs::write(charter.join("roles.toml"), parted).expect("is written");
    let (code, told) = rehearse();
    assert_eq!(code, Some(1), "{told}");
    assert!(told.contains("refuted") && told.contains("Who begins one signs it off"), "{told}");
}

/// What the desk writes reaches Ostrog, in order, once, whatever is away in between.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_written_here_is_known_there() {
    let apps = Apps::open().await;
    let service = &apps.service;
    let (ola, ines) = (service.token_of("ola").await, service.token_of("ines").await);
    let file = |number: &str| json!({ "number": number, "line": "NL", "hazard": 3 });
    let voyage = "/voyages/v-9/manifests";
    let (status, filed) = apps.desk("POST", voyage, &ola, Some(&file("m-901"))).await;
    assert_eq!((status, &filed["registered"]), (201, &json!(true)), "{filed}");
    let (status, told) = apps.desk("GET", "/manifests/m-901", &ola, None).await;
    assert_eq!((status, &told["declared_by"]), (200, &json!("ola")), "{told}");
    for (token, number, body, status) in [
        (&ola, "again", file("m-901"), 409),
        (&ola, "wrong", file("M 901; drop"), 422),
        (&ola, "hazard", json!({ "number": "m-902", "line": "NL", "hazard": 12 }), 422),
        (&ines, "not hers", file("m-902"), 403),
    ] {
        let (found, told) = apps.desk("POST", voyage, token, Some(&body)).await;
        assert_eq!(found, status, "{number}: {told}");
    }
    // She may file anywhere, and in what is not there nothing is.
    let (status, told) = apps.desk("POST", "/voyages/none/manifests", &ola, Some(&file("m-903"))).await;
    assert_eq!(status, 422, "{told}");

    // What changes is told as that fact alone: the reviewers of another's hand stay.
    let tomas = service.token_of("tomas").await;
    let (status, told) = apps.desk("POST", "/manifests/m-205/release", &tomas, None).await;
    assert_eq!((status, &told["registered"]), (200, &json!(true)), "{told}");
    let (_, known) = service.get("/api/v1/entities/manifest:m-205").await;
    assert_eq!(known["entity"]["attributes"]["state"], "released", "{known}");
    assert_eq!(known["entity"]["relations"]["reviewers"].as_array().map(Vec::len), Some(2), "{known}");
    let (status, _) = apps.desk("POST", "/manifests/m-205/release", &tomas, None).await;
    assert_eq!(status, 409, "allowed, and nothing to do");

    // A desk that cannot tell keeps what it has to tell, and says that Ostrog does not know it yet.
    let mute = desk(service, &apps.database, "http://127.0.0.1:1").await;
    let outbox = mute.outbox();
    let pool = mute.pool().clone();
    let keep = async |telling: &Telling| {
        let mut all = pool.begin().await.expect("begins");
        let id = outbox.keep(&mut all, telling).await.expect("is kept");
        all.commit().await.expect("is written");
        id
    };
    let new = |id: &str, voyage: &str| {
        let within = Some(format!("voyage:{voyage}"));
        Telling::New(Box::new(EntityLine {
            entity: format!("manifest:{id}"),
            within,
            ..EntityLine::default()
        }))
    };
    let (_, before) = service.get("/api/v1/changes?limit=1").await;
    // As the desk itself tells: in between it was stopped, and one line is wrong for good.
    let ids = [
        keep(&new("m-911", "v-9")).await,
        keep(&Telling::Fact("manifest:m-911.hazard = 4".to_owned())).await,
        keep(&Telling::Fact("manifest:m-911.colour = red".to_owned())).await,
        keep(&new("m-911", "v-400")).await,
        keep(&new("m-912", "v-9")).await,
    ];
    for (at, id) in ids.into_iter().enumerate() {
        let told = outbox.told(id, Duration::from_secs(20)).await.expect("is known");
        assert_eq!(told, at != 2, "{at}");
    }
    assert_eq!(
        outbox.standing().await.map(|standing| (standing.waiting, standing.refused)).expect("stands"),
        (0, 1)
    );
    let (_, known) = service.get("/api/v1/entities/manifest:m-911").await;
    assert_eq!(known["entity"]["within"], "voyage:v-9", "told once: {known}");
    assert_eq!(known["entity"]["attributes"]["hazard"], 4, "{known}");
    let (_, after) = service.get("/api/v1/changes?limit=1").await;
    let moved = |page: &Value| page["items"][0]["position"].as_i64().expect("a position");
    assert_eq!(moved(&after) - moved(&before), 3, "one change each, and none twice");

    // Ostrog hangs: nobody is let in, nothing is half-written, and it goes on.
    signal(service.pid(), "STOP");
    let (status, _) = apps.desk("POST", voyage, &ola, Some(&file("m-920"))).await;
    assert_eq!(status, 503);
    signal(service.pid(), "CONT");
    let mut status = 503;
    for _ in 0..100 {
        status = apps.desk("POST", voyage, &ola, Some(&file("m-920"))).await.0;
        if status != 503 {
            break;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    assert_eq!(status, 201);
}

/// The crane feed signs itself in and writes to its crane's log; nobody else's.
#[tokio::test(flavor = "multi_thread")]
async fn a_feed_signs_in_as_itself() {
    let apps = Apps::open().await;
    let (_, issuers) = apps.service.get("/api/v1/issuers").await;
    let asked =
        apps.service.http().post(format!("{}/token", issuers[0]["url"].as_str().expect("an address")));
    let asked = asked.basic_auth("crane-feed", Some("made-up-crane-feed"));
    let asked = asked.header("content-type", "application/x-www-form-urlencoded");
    let (_, answer) = apps.service.send(asked.body("grant_type=client_credentials")).await;
    let bearer = format!("Bearer {}", answer["access_token"].as_str().expect("a token"));
    let host = "quay.sorrel-bay.example";
    let lifted = r#"{"lifted":"c-77"}"#;
    for (what, bearer, status) in [
        ("GET /tides", None, 200),
        ("GET /voyages/v-9", None, 401),
        ("POST /cranes/cr-1/log", Some(&bearer), 201),
        ("POST /cranes/none/log", Some(&bearer), 403),
        ("GET /voyages/v-9", Some(&bearer), 403),
    ] {
        let mut headers = vec![("Content-Type", "application/json")];
        headers.extend(bearer.map(|bearer| ("Authorization", bearer.as_str())));
        let body = if what.starts_with("POST") { lifted } else { "" };
        let (found, _, told) = apps.quay.ask(host, what, &headers, body).await;
        assert_eq!(found, status, "{what}: {told}");
    }
}

/// `ostrog demo` opens all of it, says where, and leaves nothing behind.
#[tokio::test(flavor = "multi_thread")]
async fn the_demo_opens_the_ports_applications() {
    let folder = folder();
    let mut demo = ostrog();
    demo.args(["demo", "--port", "0", "--live-only", "--keep"]).arg(folder.path().join("data"));
    let mut demo = demo.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().expect("starts");
    let lines = BufReader::new(demo.stdout.take().expect("a pipe")).lines().map_while(Result::ok);
    let mut told = Vec::new();
    for line in lines {
        let last = line.starts_with("Ctrl-C");
        told.push(line);
        if last {
            break;
        }
    }
    let address = |name: &str| {
        let line = told.iter().find(|line| line.trim_start().starts_with(name));
        let line = line.unwrap_or_else(|| panic!("{name} is not told: {told:?}"));
        line.split_whitespace().find(|word| word.starts_with("http://")).expect("an address").to_owned()
    };
    let http = reqwest::Client::new();
    let mut all = Vec::new();
    for (name, path, status) in
        [("agents' portal", "/", 200), ("customs desk", "/health", 200), ("Quayside", "/tides", 200)]
    {
        let address = address(name);
        let answer = http.get(format!("{address}{path}")).send().await.expect("an answer");
        assert_eq!(answer.status().as_u16(), status, "{name}");
        all.push(address);
    }
    signal(demo.id(), "TERM");
    demo.wait().expect("ends");
    for address in all {
        assert!(http.get(&address).send().await.is_err(), "{address} is still open");
    }

    // A port that is taken is told, with what to do.
    let taken = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
    let port = taken.local_addr().expect("an address").port() - 3;
    let mut demo = ostrog();
    demo.args(["demo", "--live-only", "--port", &port.to_string(), "--keep"]).arg(folder.path().join("data"));
    let said = demo.output().expect("ends");
    let words = String::from_utf8_lossy(&said.stderr).into_owned();
    assert_eq!(said.status.code(), Some(4), "{words}");
    assert!(words.contains("--port 0"), "{words}");
}
