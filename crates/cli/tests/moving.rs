//! Rules that were written by hand in a program are moved into a charter, as `docs/moving.md` tells it: recorded, begun,
//! replayed until nothing differs, asked beside the old ones, and then alone.

mod support;

use ostrog_client::Client;
use ostrog_tally::old::{ACTIONS, Person, Sheet, may};
use ostrog_tally::{Rules, Tally, recorded};
use serde_json::json;
use std::path::Path;
use support::{Service, folder, ostrog, root};

fn people() -> Vec<Person> {
    let all = [
        ("sena", "clerk", Some("b-1")),
        ("milo", "clerk", Some("b-1")),
        ("jana", "clerk", Some("b-2")),
        ("rui", "foreman", Some("b-1")),
        ("mads", "foreman", Some("b-2")),
        ("petra", "office", None),
    ];
    let person = |(id, job, berth): (&str, &str, Option<&str>)| Person {
        id: id.to_owned(),
        job: job.to_owned(),
        berth: berth.map(str::to_owned),
    };
    all.map(person).into()
}

fn sheets() -> Vec<Sheet> {
    let all = [
        ("t-1", "b-1", "sena", false),
        ("t-2", "b-1", "sena", true),
        ("t-3", "b-1", "milo", false),
        ("t-4", "b-2", "jana", false),
        ("t-5", "b-2", "jana", true),
        // Begun by somebody who works elsewhere by now.
        ("t-6", "b-2", "milo", false),
    ];
    let sheet = |(id, berth, clerk, closed): (&str, &str, &str, bool)| Sheet {
        id: id.to_owned(),
        berth: berth.to_owned(),
        clerk: clerk.to_owned(),
        closed,
    };
    all.map(sheet).into()
}

/// What the register must know of them.
fn register() -> String {
    let mut lines = vec![json!({ "entity": "tenant:authority" })];
    lines.extend(
        ["b-1", "b-2"]
            .map(|berth| json!({ "entity": format!("berth:{berth}"), "within": "tenant:authority" })),
    );
    for person in people() {
        lines.push(json!({ "entity": format!("user:{}", person.id), "tenants": ["authority"] }));
        let at = person.berth.map_or("tenant:authority".to_owned(), |berth| format!("berth:{berth}"));
        lines.push(json!({ "grant": { "role": person.job, "to": format!("user:{}", person.id), "at": at } }));
    }
    for sheet in sheets() {
        let entity = format!("tally-sheet:{}", sheet.id);
        let within = format!("berth:{}", sheet.berth);
        let clerk = json!({ "clerk": format!("user:{}", sheet.clerk) });
        lines.push(json!({ "entity": entity, "within": within, "attributes": { "closed": sheet.closed }, "relations": clerk }));
    }
    lines.iter().map(|line| format!("{line}\n")).collect()
}

fn everything() -> Vec<(Person, &'static str, Sheet)> {
    let mut all = Vec::new();
    for person in people() {
        for sheet in sheets() {
            all.extend(ACTIONS.map(|action| (person.clone(), action, sheet.clone())));
        }
    }
    all
}

/// Replays a record under a charter: the exit code, and what is told.
fn replay(charter: &str, folder: &Path) -> (Option<i32>, String) {
    let mut run = ostrog();
    run.args(["shift", charter, "--against", "record", "--questions"]).arg(folder.join("record.ndjson"));
    let run = run.arg("--register").arg(folder.join("register.ndjson")).output().expect("runs");
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    (run.status.code(), text(&run.stdout) + &text(&run.stderr))
}

#[tokio::test(flavor = "multi_thread")]
async fn rules_are_moved_without_anybody_noticing() {
    let folder = folder();
    let at = folder.path();
    std::fs::write(at.join("register.ndjson"), register()).expect("is written");
    let lines: String =
        everything().iter().map(|(who, what, on)| format!("{}\n", recorded(who, what, on))).collect();
    std::fs::write(at.join("record.ndjson"), &lines).expect("is written");

    // As it was begun it gives too much; what differs is told, and what is closed is who loses.
    let (code, told) = replay("demo/apps/tally/begun", at);
    assert_eq!(code, Some(1), "{told}");
    for part in ["tally-sheet:write", "tally-sheet:reopen", "gain"] {
        assert!(told.contains(part), "{part}: {told}");
    }
    let (code, told) = replay("demo/apps/tally/charter", at);
    assert_eq!(code, Some(0), "{told}");
    // A record that does not say what was answered is none.
    std::fs::write(at.join("record.ndjson"), lines.replacen("\"decision\":", "\"other\":", 1))
        .expect("is written");
    let (code, told) = replay("demo/apps/tally/charter", at);
    assert!(code == Some(3) && told.contains("record.ndjson:1") && told.contains("\"decision\""), "{told}");

    // The same with the service, by the program's own switch.
    let service = Service::of_charter(
        &at.join("data"),
        root().join("demo/apps/tally/charter").to_str().expect("UTF-8"),
    );
    let (status, loaded) = service.send(service.loading(&register())).await;
    assert_eq!(status, 200, "{loaded}");
    let asked = json!({ "name": "tally", "application": "tally" });
    let (_, made) = service.post(&service.operator, "/api/v1/keys", &asked).await;
    let key = made["text"].as_str().expect("a key");
    let tally = |rules| Tally::new(rules, Client::new(&service.url, key).expect("an address"));
    let (both, charter) = (tally(Rules::Both), tally(Rules::Charter));
    let mut allowed = 0;
    for (who, what, on) in everything() {
        let before = may(&who, what, &on);
        assert_eq!(both.may(&who, what, &on).await, before);
        assert_eq!(charter.may(&who, what, &on).await, before, "{} {what} {}", who.id, on.id);
        allowed += usize::from(before);
    }
    assert!(allowed > 20, "{allowed}");
    assert_eq!(both.differences(), 0);

    // What the two know differently is counted, and the old rules are still believed.
    let fact = json!({ "set": ["tally-sheet:t-1.closed = true"] });
    assert_eq!(service.post(&service.operator, "/api/v1/facts", &fact).await.0, 200);
    let (sena, sheet) = (&people()[0], &sheets()[0]);
    assert!(both.may(sena, "write", sheet).await);
    assert_eq!(both.differences(), 1);
    assert!(!charter.may(sena, "write", sheet).await);

    // Without an answer nobody may, once the charter is believed.
    service.kill();
    assert!(both.may(sena, "write", sheet).await);
    assert_eq!(both.differences(), 2, "no answer is none");
    assert!(!charter.may(sena, "read", sheet).await);
}
