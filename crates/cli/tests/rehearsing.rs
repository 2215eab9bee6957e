//! Rehearsals from the command line and on the service: a careless draft, its report, and the mended one.

mod support;

use serde_json::{Value, json};
use std::process::Command;
use std::time::Duration;
use support::{Service, folder, ostrog};

fn run(command: &mut Command) -> (i32, String, String) {
    let out = command.output().expect("runs");
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).expect("UTF-8");
    (out.status.code().unwrap_or(-1), text(out.stdout), text(out.stderr))
}

fn rehearse(charter: &str) -> Command {
    let mut command = ostrog();
    command.args(["rehearse", "demo/rehearsal", "--charter", charter]);
    command.args(["--against", "demo/harbour", "--register", "demo/register.ndjson"]);
    command
}

#[test]
fn a_careless_draft_is_refuted_and_locks_people_out_and_a_mended_one_is_clean() {
    let folder = folder();
    let at = |name: &str| folder.path().join(name);
    let mut careless = rehearse("demo/drafts/careless");
    careless.arg("--json").arg(at("r.json")).arg("--junit").arg(at("r.xml")).arg("--html").arg(at("r.html"));
    let (code, out, err) = run(&mut careless);
    assert_eq!(code, 1, "{err}");
    for said in [
        "failed  A junior inspector reads a hazardous manifest but cannot release it",
        "refuted  Nobody releases what they declared",
        "chief-inspector is granted to user:somebody",
        "loses  manifest:view  6 users: user:ines",
        "40 of 41 cases pass, 11 guarantees proved, 1 refuted, 12 gain, 7 lose",
    ] {
        assert!(out.contains(said), "{said}:\n{out}");
    }
    let json: Value =
        serde_json::from_str(&std::fs::read_to_string(at("r.json")).expect("written")).expect("JSON");
    assert_eq!((&json["shift"]["losing"], &json["against"]["of"]), (&json!(7), &json!("demo/harbour")));
    let xml = std::fs::read_to_string(at("r.xml")).expect("written");
    assert!(xml.contains("tests=\"53\" skipped=\"0\" failures=\"2\" errors=\"0\""), "{xml}");
    let schema = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/data/junit.xsd");
    let mut lint = Command::new("xmllint");
    let (code, _, said) = run(lint.args(["--noout", "--nonet", "--schema", schema]).arg(at("r.xml")));
    assert_eq!(code, 0, "{said}");
    let page = std::fs::read_to_string(at("r.html")).expect("written");
    assert!(
        page.starts_with("<!DOCTYPE html>") && page.contains("<svg") && !page.contains("src="),
        "needs nothing"
    );
    assert!(!page.contains("<script") && page.contains("7 lose"));

    // What refutes it is itself a rehearsal, in which the case fails.
    let refuted =
        json["guarantees"].as_array().expect("a list").iter().find(|one| one["outcome"] == "refuted");
    std::fs::create_dir(at("kept")).expect("made");
    let sample = refuted.expect("is there")["sample"].as_str().expect("a text");
    std::fs::write(at("kept/sample.toml"), sample).expect("written");
    let held = |charter: &str| run(ostrog().arg("rehearse").arg(at("kept")).args(["--charter", charter])).0;
    assert_eq!((held("demo/drafts/careless"), held("demo/harbour")), (1, 0));

    let (code, out, err) = run(&mut rehearse("demo/drafts/mended"));
    assert_eq!(code, 0, "{err}");
    assert!(out.ends_with("41 of 41 cases pass, 12 guarantees proved, 19 gain, 0 lose\n"), "{out}");
}

#[test]
fn a_shift_can_be_told_of_one_subject_and_one_permission() {
    let mut shift = ostrog();
    shift.args([
        "shift",
        "demo/drafts/careless",
        "--against",
        "demo/harbour",
        "--register",
        "demo/register.ndjson",
    ]);
    shift.args(["--subject", "user:ines", "--permission", "manifest:view"]);
    let (code, out, err) = run(&mut shift);
    assert_eq!((code, err.as_str()), (1, "demo/drafts/careless against demo/harbour\n"));
    assert!(
        out.contains("loses  manifest:view  1 user: user:ines") && out.ends_with("0 gain, 1 loses\n"),
        "{out}"
    );
    let (code, _, err) = run(shift.args(["--register", "demo/none"]));
    assert_ne!(code, 1, "{err}");
    for (wrong, said) in [
        (["--subject", "user:inse"], "user:inse is not registered"),
        (["--permission", "x:y"], "neither text"),
    ] {
        let mut command = ostrog();
        command.args([
            "shift",
            "demo/drafts/mended",
            "--against",
            "demo/harbour",
            "--register",
            "demo/register.ndjson",
        ]);
        let (code, _, err) = run(command.args(wrong));
        assert!(code == 3 && err.contains(said), "{code} {err}");
    }
}

#[test]
fn recorded_questions_are_replayed_with_what_they_said() {
    let folder = folder();
    let file = folder.path().join("asked.ndjson");
    let line = |subject: &str, ip: &str| {
        json!({ "subject": { "type": "user", "id": subject }, "action": { "name": "view" },
                "resource": { "type": "manifest", "id": "m-204" }, "context": { "ip": ip }, "now": "2026-11-23T09:00:00Z" }).to_string()
    };
    std::fs::write(&file, format!("{}\n{}\n", line("ines", "10.20.4.7"), line("lio", "10.20.4.7")))
        .expect("written");
    let replay = |file: &std::path::Path| {
        let mut shift = ostrog();
        shift.args([
            "shift",
            "demo/drafts/careless",
            "--against",
            "demo/harbour",
            "--register",
            "demo/register.ndjson",
        ]);
        run(shift.arg("--questions").arg(file))
    };
    let (code, out, err) = replay(&file);
    assert_eq!(code, 1, "{err}");
    assert!(out.contains("on 1 resource: manifest:m-204") && out.ends_with("0 gain, 1 loses\n"), "{out}");
    std::fs::write(&file, "{\"subject\":{}}\n").expect("written");
    let (code, _, err) = replay(&file);
    assert!(code == 3 && err.contains("asked.ndjson:1"), "{err}");
}

#[test]
fn cases_may_be_a_table() {
    let folder = folder();
    let samples = "[sample.\"user:ines\"]\n[sample.\"tariff:t\"]\n";
    let table = "subject,permission,resource,expected\nuser:ines, tariff:view, tariff:t, may\n# a remark\nanonymous,tariff:edit,tariff:t,may-not\n";
    std::fs::write(folder.path().join("samples.toml"), samples).expect("written");
    let rehearse = |table: &str| {
        std::fs::write(folder.path().join("cases.csv"), table).expect("written");
        run(ostrog().arg("rehearse").arg(folder.path()).args(["--charter", "demo/harbour", "--all"]))
    };
    let (code, out, err) = rehearse(table);
    assert!(code == 0 && out.contains("2 of 2 cases pass") && out.contains("cases.csv:4"), "{out}{err}");
    let (code, out, _) = rehearse(&table.replace("may-not", "may"));
    assert!(code == 1 && out.contains("should be allowed"), "{out}");
    for (wrong, said) in [
        (table.replace("may-not", "perhaps"), "expected is may or may-not"),
        (table.replace("subject,", "who,"), "subject,permission,resource,expected"),
        (table.replace(", may\n", "\n"), "four columns"),
        (table.replace("user:ines", "user:inse"), "did you mean user:ines?"),
    ] {
        let (code, _, err) = rehearse(&wrong);
        assert!(code == 3 && err.contains(said), "{said}: {err}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_service_rehearses_in_the_background_and_keeps_what_it_found() {
    let folder = folder();
    let service = Service::demo(folder.path());
    let owner = service.operator.clone();
    let save = ["draft", "save", "demo/drafts/careless", "--title", "Clerks"];
    let saved = service.ostrog().args(save).current_dir(support::root()).output().expect("runs");
    assert!(saved.status.success(), "{}", String::from_utf8_lossy(&saved.stderr));

    // Its files: wrong ones are told, others are not written over.
    let (_, text) = service.get("/api/v1/rehearsal").await;
    assert_eq!((text["files"].as_array().map(Vec::len), &text["findings"]), (Some(3), &json!([])));
    let put = async |body: Value| {
        let call =
            service.http().put(format!("{}/api/v1/rehearsal", service.url)).bearer_auth(&owner).json(&body);
        service.send(call).await
    };
    let mut files = text["files"].clone();
    files.as_array_mut().expect("a list").push(
        json!({ "path": "more.toml", "text": "[[guarantee]]\nname = \"x\"\nnever = \"berth:clos\"\n" }),
    );
    let (status, wrong) = put(json!({ "files": files, "from": text["number"] })).await;
    assert_eq!(status, 200);
    assert!(
        wrong["findings"][0].as_str().expect("a text").contains("did you mean \"berth:close\"?"),
        "{wrong}"
    );
    assert_eq!(
        put(json!({ "files": text["files"], "from": text["number"] })).await.0,
        409,
        "somebody saved since"
    );
    assert_eq!(
        put(json!({ "files": [{ "path": "../x.toml", "text": "" }], "from": wrong["number"] })).await.0,
        422
    );
    assert_eq!(put(json!({ "files": text["files"], "from": wrong["number"] })).await.0, 200);

    let ended = async |number: i64| loop {
        let (_, runs) = service.get("/api/v1/rehearsals").await;
        let run = runs.as_array().expect("a list").iter().find(|run| run["number"] == number).cloned();
        let run = run.expect("is there");
        if run["state"] != "running" {
            return run;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    };
    let case = json!({ "name": "A junior is refused", "subject": "user:ines", "permission": "manifest:release",
                       "resource": "manifest:m-204", "may": false, "properties": { "resource": { "weight": 3 } } });
    assert_eq!(service.post(&owner, "/api/v1/cases", &case).await.0, 200);
    let (status, run) = service.post(&owner, "/api/v1/rehearsals", &json!({ "draft": "D-1" })).await;
    assert_eq!(status, 202, "{run}");
    let run = ended(run["number"].as_i64().expect("a number")).await;
    let words = "41 of 42 cases pass, 11 guarantees proved, 1 refuted, 12 gain, 7 lose";
    assert_eq!((&run["state"], &run["words"]), (&json!("failed"), &json!(words)));
    let number = run["number"].clone();
    let (_, report) = service.get(&format!("/api/v1/rehearsals/{number}")).await;
    assert_eq!(report["shift"]["losing"], 7);
    for (path, kind, said) in
        [("page", "text/html", "Nobody releases"), ("junit", "application/xml", "<testsuites")]
    {
        let call = service
            .http()
            .get(format!("{}/api/v1/rehearsals/{number}/{path}", service.url))
            .bearer_auth(&owner);
        let answer = call.send().await.expect("answers");
        assert!(answer.headers()["content-type"].to_str().is_ok_and(|found| found.starts_with(kind)));
        assert!(answer.text().await.expect("a text").contains(said));
    }
    let (_, run) = service.post(&owner, "/api/v1/rehearsals", &json!({})).await;
    assert_eq!(ended(run["number"].as_i64().expect("a number")).await["state"], "held");
    // Once one is told to be over there is room for the next, and none is ever told to be broken off.
    for _ in 0..40 {
        let only = json!({ "only": "A junior is refused" });
        let (status, run) = service.post(&owner, "/api/v1/rehearsals", &only).await;
        assert_eq!(status, 202, "{run}");
        let number = run["number"].clone();
        let over = loop {
            let (_, runs) = service.get("/api/v1/rehearsals").await;
            let run = runs.as_array().expect("a list").iter().find(|run| run["number"] == number).cloned();
            if let Some(run) = run.filter(|run| run["state"] != "running") {
                break run;
            }
        };
        assert!(!over["ended-at"].is_null(), "{over}");
    }
    let (_, run) = service.post(&owner, "/api/v1/rehearsals", &json!({ "only": "Nobody's" })).await;
    let run = ended(run["number"].as_i64().expect("a number")).await;
    assert_eq!(
        (&run["state"], &run["words"]),
        (&json!("failed"), &json!("no case's and no guarantee's name contains \"Nobody's\""))
    );
    for (status, found) in [
        (404, service.get("/api/v1/rehearsals/99").await.0),
        (404, service.get("/api/v1/rehearsals/one/page").await.0),
        (404, service.delete("/api/v1/rehearsals/1").await.0),
        (404, service.post(&owner, "/api/v1/rehearsals", &json!({ "draft": "D-9" })).await.0),
    ] {
        assert_eq!(found, status);
    }
    // Who may only read runs none.
    let reader = json!({ "name": "reader", "rights": [{ "role": "reader", "at": "everywhere" }] });
    let (status, reader) = service.post(&owner, "/api/v1/keys", &reader).await;
    assert_eq!(status, 200, "{reader}");
    let key = reader["text"].as_str().expect("a key");
    assert_eq!(service.post(key, "/api/v1/rehearsals", &json!({})).await.0, 403);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_command_rehearses_what_is_live_and_drafts_over_the_facts_of_the_service() {
    let folder = folder();
    let service = Service::demo(folder.path());
    let live =
        |arguments: &[&str]| run(service.ostrog().args(["rehearse", "demo/rehearsal"]).args(arguments));
    let (code, out, err) = live(&[]);
    assert_eq!((code, err.as_str()), (0, "live, revision 1\n"), "{out}");
    assert!(out.ends_with("41 of 41 cases pass, 12 guarantees proved\n"), "{out}");
    assert_eq!(
        run(service.ostrog().args(["draft", "save", "demo/drafts/careless", "--title", "Haste"])).0,
        0
    );
    let (code, out, err) = live(&["--charter", "D-1", "--against", "live"]);
    assert_eq!((code, err.as_str()), (1, "D-1\n"), "{out}");
    assert!(out.ends_with("1 refuted, 12 gain, 7 lose\n"), "{out}");

    // Laid over the facts the service has now: a change of them is felt, and a misspelt name told.
    let over = folder.path().join("over");
    std::fs::create_dir(&over).expect("made");
    let write = |subject: &str| {
        let text = format!(
            "[rehearsal]\nstand-alone = false\nnow = \"2026-11-23T09:00:00Z\"\n\
             [[case]]\nname = \"Too hazardous\"\nas = \"{subject}\"\non = \"manifest:m-204\"\nmay-not = [\"manifest:release\"]\n"
        );
        std::fs::write(over.join("cases.toml"), text).expect("written");
    };
    write("user:ines");
    let over = || service.ostrog().arg("rehearse").arg(&over).output().expect("runs");
    assert_eq!(over().status.code(), Some(0));
    assert_eq!(run(service.ostrog().args(["register", "set", "user:ines.clearance = 5"])).0, 0);
    assert_eq!(over().status.code(), Some(1));
    write("user:inse");
    let wrong = over();
    let said = [wrong.stdout, wrong.stderr].concat();
    assert_eq!(wrong.status.code(), Some(3));
    assert!(String::from_utf8_lossy(&said).contains("the register does not know it"), "{said:?}");

    // Without a service that is misuse, and says what to name.
    let alone =
        run(ostrog().arg("rehearse").arg(folder.path().join("over")).args(["--charter", "demo/harbour"]));
    assert_eq!(alone.0, 2);
    assert!(alone.2.contains("--register FILE") && alone.2.contains("--server URL"), "{}", alone.2);
    for (of, code) in [("D-7", 3), ("99", 3), ("demo/none", 2)] {
        let (found, _, err) = live(&["--charter", of]);
        assert_eq!(found, code, "{of}: {err}");
    }
}

#[test]
fn a_guarantee_that_takes_too_long_is_undecided_and_says_so() {
    let (code, out, err) = run(rehearse("demo/harbour").args(["--budget", "0s"]));
    assert_eq!(code, 1, "{err}");
    assert!(
        out.contains("undecided") && out.contains("its time was up") && !out.contains("12 guarantees proved"),
        "{out}"
    );
    let (code, _, err) = run(rehearse("demo/harbour").args(["--budget", "soon"]));
    assert!(code == 2 && err.contains("\"soon\" is no time such as 15m or 20s"), "{err}");
}
