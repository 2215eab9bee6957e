//! The built program as a person meets it: what it prints, and how it ends.

mod support;

use ostrog_wire::access::Evaluation;
use rstest::rstest;
use std::io::Write as _;
use std::process::{Command, Output, Stdio};
use support::{Service, folder, ostrog};

const OFFLINE: [&str; 4] = ["--charter", "demo/harbour", "--register", "demo/register.ndjson"];

fn run(command: &mut Command) -> (i32, String, String) {
    let Output { status, stdout, stderr } = command.output().expect("runs");
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).expect("UTF-8");
    (status.code().expect("ends by itself"), text(stdout), text(stderr))
}

#[rstest]
#[case::allowed(&["user:ines", "manifest:release", "manifest:m-205"], 0)]
#[case::denied(&["user:ines", "manifest:release", "manifest:m-204"], 1)]
#[case::supposed(&["user:ines", "manifest:release", "manifest:m-204", "--suppose", "user:ines.clearance = 5"], 0)]
#[case::without(&["user:ines", "manifest:release", "manifest:m-205", "--without", "user:ines in group:night"], 1)]
#[case::property(&["user:rui", "crane:operate", "crane:cr-1", "--property", "load=38"], 0)]
#[case::ignored_property(&["user:ines", "manifest:release", "manifest:m-204", "--property", "subject.clearance=9"], 1)]
#[case::context(&["user:vera", "invoice:approve", "invoice:inv-8", "--context", "ip=10.20.4.7"], 0)]
#[case::now(&["user:vera", "voyage:plan", "voyage:v-9", "--now", "2026-12-01"], 0)]
#[case::new_one(&["user:ola", "manifest:file", "--property", "line=NL", "--property", "within=voyage:v-9"], 0)]
#[case::unknown_permission(&["user:ines", "manifest:relaese", "manifest:m-204"], 1)]
#[case::malformed(&["ines", "manifest:release", "manifest:m-204"], 3)]
#[case::wrong_fact(&["user:ines", "manifest:release", "--suppose", "user:ines.clearence = 5"], 3)]
#[case::misused(&["user:ines"], 2)]
#[case::wrong_moment(&["user:ines", "manifest:view", "--now", "soon"], 2)]
fn asking_ends_as_the_answer_says(#[case] arguments: &[&str], #[case] code: i32) {
    let found = run(ostrog().arg("ask").args(arguments).args(OFFLINE));
    assert_eq!(found.0, code, "{found:?}");
    // A denial is an answer, on stdout; an error is none.
    assert_eq!(
        found.1.starts_with("| | allowed") || found.1.starts_with("|#| denied"),
        code < 2,
        "{found:?}"
    );
}

#[test]
fn a_denial_explains_itself() {
    let mut why = ostrog();
    why.args([
        "ask",
        "user:ines",
        "manifest:release",
        "manifest:m-204",
        "--why",
        "--now",
        "2026-11-23T09:00:00Z",
    ])
    .args(OFFLINE);
    let (code, out, err) = run(&mut why);
    assert_eq!((code, err.as_str()), (1, "offline, demo/harbour\n"));
    insta::assert_snapshot!(out);
}

#[test]
fn a_charters_mistakes_are_told_with_their_places() {
    let folder = folder();
    for file in [
        "charter.toml",
        "people.toml",
        "quay.toml",
        "customs.toml",
        "agents.toml",
        "roles.toml",
        "rules.toml",
    ] {
        let text = std::fs::read_to_string(support::root().join("demo/harbour").join(file)).expect("a file");
        let text = text.replace(
            "\"manifest:release\"]\nwhen = \"subject.clearance",
            "\"manifest:relaese\"]\nwhen = \"subject.clearence",
        );
        std::fs::write(folder.path().join(file), text).expect("written");
    }
    let (code, out, err) = run(ostrog().args(["charter", "check"]).arg(folder.path()));
    assert_eq!((code, err.as_str()), (3, "2 errors, 0 warnings\n"));
    insta::assert_snapshot!(out.replace(&format!("{}/", folder.path().display()), "harbour/"));
    // What cannot be checked cannot be asked.
    let (code, out, _) =
        run(ostrog().args(["ask", "user:ines", "manifest:view", "--charter"]).arg(folder.path()));
    assert_eq!((code, out.as_str()), (3, ""));
    std::os::unix::fs::symlink("/etc/hostname", folder.path().join("more.toml")).expect("linked");
    let (code, _, err) = run(ostrog().args(["charter", "check"]).arg(folder.path()));
    assert!(code == 3 && err.contains("symbolic links are not read"), "{err}");
}

#[test]
fn what_one_begins_with_checks_answers_and_passes() {
    let folder = folder();
    let at = |name: &str| folder.path().join("port").join(name).display().to_string();
    let made = run(ostrog().args(["charter", "new", &at("")]));
    assert_eq!((made.0, made.1.lines().count()), (0, 3), "{made:?}");
    assert!(made.2.contains("ostrog rehearse"), "{made:?}");
    // The commands it names next.
    let charter = at("charter");
    let checked = run(ostrog().args(["charter", "check", &charter, "--register", &at("register.ndjson")]));
    assert_eq!(checked.0, 0, "{checked:?}");
    assert!(checked.2.contains("nothing to say against it"), "{checked:?}");
    let register = at("register.ndjson");
    let asked = |resource: &str| {
        let offline = ["--charter", &charter, "--register", &register];
        run(ostrog().args(["ask", "user:ada", "pier:assign", resource]).args(offline))
    };
    assert_eq!((asked("pier:east").0, asked("pier:west").0), (0, 1));
    assert!(asked("pier:west").1.contains("The pier is closed"), "{:?}", asked("pier:west"));
    let rehearsed = run(ostrog().args(["rehearse", &at("rehearsal"), "--charter", &charter]));
    assert_eq!(rehearsed.0, 0, "{rehearsed:?}");
    assert!(rehearsed.1.contains("3 of 3 cases pass"), "{rehearsed:?}");
    // Over nothing that is there.
    let again = run(ostrog().args(["charter", "new", &at("")]));
    assert_eq!(again.0, 3, "{again:?}");
    assert!(again.2.contains("is there already"), "{again:?}");
}

#[test]
fn a_document_becomes_a_charter_is_compared_and_written_as_far_as_is_said() {
    let folder = folder();
    let at = |name: &str| folder.path().join(name).display().to_string();
    let (into, changed) = (at("charter"), at("quay.yaml"));
    let import = |document: &str, more: &[&str]| {
        run(ostrog()
            .args(["charter", "import", document, "--application", "quay", "--into", &into])
            .args(more))
    };
    let document = support::root().join("demo/documents/quay.yaml").display().to_string();
    let made = import(&document, &[]);
    assert_eq!(made.0, 0, "{made:?}");
    assert!(made.1.contains("open        GET /status"), "{made:?}");
    assert!(made.2.ends_with(
        "22 of 23 operations mapped; 1 not, 1 of them told apart by query, header or body alone\n"
    ));
    let checked = run(ostrog().args(["charter", "check", &into]));
    assert_eq!(checked.0, 0, "{checked:?}");
    assert_eq!(run(ostrog().args(["charter", "tidy", "--check", &into])).0, 0);
    let again = import(&document, &[]);
    assert!(again.0 == 0 && again.2.contains("; nothing differs"), "{again:?}");

    // The next version: one operation more, one otherwise, one gone.
    let file = std::path::Path::new(&into).join("quay.toml");
    let mine = std::fs::read_to_string(&file)
        .expect("a file")
        .replace("[role.quay-read]", "# Mine.\n[role.quay-read]");
    std::fs::write(&file, &mine).expect("written");
    let text = std::fs::read_to_string(&document).expect("a document");
    let text = text
        .replace("/berths/{berth}/close:", "/berths/{berth}/open:")
        .replace("operationId: closeBerth", "operationId: openBerth")
        .replace("summary: One notice }", "summary: One notice, security: [] }");
    std::fs::write(&changed, text).expect("written");
    let told = import(&changed, &[]);
    assert_eq!(told.0, 1, "{told:?}");
    for line in [
        "new         action berth:open",
        "new         permission quay-change: berth:open",
        "changed     route GET /notices/{notice}: now needs notice:view of notice:{1}",
        "gone        route POST /berths/{berth}/close",
    ] {
        assert!(told.1.contains(line), "{line} is not in {}", told.1);
    }
    assert!(told.2.contains("4 new, 1 changed, 1 gone: nothing is written without --only"), "{told:?}");
    assert_eq!(std::fs::read_to_string(&file).expect("a file"), mine, "nothing is written");
    let json = import(&changed, &["--output", "json"]);
    let json: serde_json::Value = serde_json::from_str(&json.1).expect("JSON");
    assert_eq!(
        (json["known"].as_bool(), json["mapped"].as_u64(), json["written"].as_array().map(Vec::len)),
        (Some(true), Some(22), Some(0))
    );
    let new = import(&changed, &["--only", "new"]);
    assert_eq!(new.0, 0, "{new:?}");
    let now = std::fs::read_to_string(&file).expect("a file");
    assert!(
        now.contains("# Mine.")
            && now.contains("/berths/{berth}/open")
            && now.contains("/berths/{berth}/close")
    );
    let rest = import(&changed, &["--only", "changed,gone"]);
    assert_eq!(rest.0, 0, "{rest:?}");
    let now = std::fs::read_to_string(&file).expect("a file");
    assert!(!now.contains("path = \"/berths/{berth}/close\"") && now.contains("# Mine."), "{now}");
    let checked = run(ostrog().args(["charter", "check", &into]));
    assert_eq!(checked.0, 0, "{checked:?}");
    assert!(import(&changed, &[]).2.contains("; nothing differs"));
    let routes = run(ostrog().args(["routes", "list", "quay", "--charter", &into, "--document", &changed]));
    assert!(routes.0 == 1 && routes.2.contains("23 operations, 1 unmapped"), "{routes:?}");

    // Another application in the same folder takes no type away.
    let other = run(ostrog().args([
        "charter",
        "import",
        &document,
        "--application",
        "yard",
        "--into",
        &into,
        "--base",
        "/v1",
    ]));
    assert_eq!(other.0, 0, "{other:?}");
    let yard = std::fs::read_to_string(std::path::Path::new(&into).join("yard.toml")).expect("a file");
    assert!(
        yard.contains("[resource.yard-berth]") && yard.contains("path = \"/v1/berths/{berth}\""),
        "{yard}"
    );
    assert_eq!(run(ostrog().args(["charter", "check", &into])).0, 0);

    // What comes to nothing, and mistakes.
    std::fs::write(&changed, "openapi: 3.1.0\ninfo: { title: x, version: '1' }\npaths: {}\n")
        .expect("written");
    let nothing =
        run(ostrog().args(["charter", "import", &changed, "--application", "x", "--into", &at("none")]));
    assert!(
        nothing.0 == 1 && nothing.2.contains("0 of 0 operations mapped; nothing is written"),
        "{nothing:?}"
    );
    assert!(!std::path::Path::new(&at("none")).exists());
    for (more, code, words) in [
        (["--application", "Quay"], 2, "is not a key"),
        (["--base", "v1"], 3, "write /v1"),
        (["--only", "all"], 2, "possible values: new, changed, gone"),
    ] {
        let mut command = ostrog();
        command.args(["charter", "import", &document, "--into", &into]).args(more);
        if more[0] != "--application" {
            command.args(["--application", "quay"]);
        }
        let refused = run(&mut command);
        assert!(refused.0 == code && refused.2.contains(words), "{refused:?}");
    }
}

#[test]
fn the_demos_charter_has_nothing_said_against_it() {
    let (code, out, err) = run(ostrog().args(["charter", "check", "demo/harbour"]));
    assert_eq!((code, out.as_str()), (0, ""));
    insta::assert_snapshot!(err, @"Port of Sorrel Bay: 3 applications, 12 resource types, 24 roles, 10 rules; nothing to say against it");
}

#[test]
fn the_demos_rehearsal_passes_and_a_careless_change_does_not() {
    let (code, out, _) = run(ostrog().args(["rehearse", "demo/rehearsal", "--charter", "demo/harbour"]));
    assert!(code == 0 && out.ends_with("41 of 41 cases pass, 12 guarantees proved\n"), "{out}");
    let folder = folder();
    for entry in std::fs::read_dir(support::root().join("demo/harbour")).expect("a folder") {
        let path = entry.expect("an entry").path();
        let text = std::fs::read_to_string(&path)
            .expect("a file")
            .replace("when = \"subject.clearance >= resource.hazard\"", "when = \"subject.clearance > 0\"");
        std::fs::write(folder.path().join(path.file_name().expect("a name")), text).expect("written");
    }
    let (code, out, _) = run(ostrog().args(["rehearse", "demo/rehearsal", "--charter"]).arg(folder.path()));
    assert_eq!(code, 1);
    insta::assert_snapshot!(out);
}

#[test]
fn a_rehearsal_with_misspelt_names_asks_nothing() {
    let folder = folder();
    let text = "[sample.\"tenant:north\"]\n[sample.\"user:ines\"]\ngroups = [\"nigth\"]\n[sample.\"group:night\"]\n[[case]]\nname = \"x\"\nas = \"user:inse\"\non = \"manifest:m-1\"\nmay = [\"manifest:veiw\"]\nbecause = \"no-rule\"\n[[guarantee]]\nname = \"y\"\n";
    std::fs::write(folder.path().join("r.toml"), text).expect("written");
    let rehearse = |folder: &std::path::Path| {
        run(ostrog().arg("rehearse").arg(folder).args(["--charter", "demo/harbour"]))
    };
    let (code, out, err) = rehearse(folder.path());
    assert_eq!((code, out.as_str()), (3, ""));
    assert!(
        err.contains("unknown reason \"no-rule\"; did you mean \"no-role\"?")
            && err.contains("a guarantee says one of never, always and alike"),
        "{err}"
    );
    std::fs::write(
        folder.path().join("r.toml"),
        text.replace("no-rule", "no-role").replace("[[guarantee]]\nname = \"y\"\n", ""),
    )
    .expect("written");
    let (code, _, err) = rehearse(folder.path());
    assert_eq!(code, 3);
    for said in [
        "did you mean user:ines?",
        "manifest:m-1 is not a sample",
        "unknown permission \"manifest:veiw\"; did you mean \"manifest:view\"?",
        "did you mean group:night?",
    ] {
        assert!(err.contains(said), "{said}: {err}");
    }
}

#[test]
fn questions_from_a_file_are_answered_in_order() {
    let questions = concat!(
        r#"{"subject":{"type":"user","id":"ines"},"action":{"name":"release"},"resource":{"type":"manifest","id":"m-204"}}"#,
        "\n",
        r#"{"subject":{"type":"user","id":"ines"},"action":{"name":"release"},"resource":{"type":"manifest","id":"m-205"}}"#,
        "\n\n",
        r#"{"subject":{"type":"user","id":"vera"},"action":{"name":"voyage:plan"},"resource":{"type":"voyage","id":"v-9"},"now":"2026-12-05T00:00:00Z"}"#,
        "\n"
    );
    let expected = concat!(
        r#"{"decision":false,"context":{"reason":"condition"}}"#,
        "\n",
        r#"{"decision":true,"context":{"reason":"role:inspector"}}"#,
        "\n",
        r#"{"decision":true,"context":{"reason":"role:planner"}}"#,
        "\n"
    );
    let (code, out, err) = asked_from(questions);
    assert_eq!((code, out.as_str(), err.as_str()), (1, expected, "offline, demo/harbour\n"));
}

/// What comes of questions on standard input.
fn asked_from(questions: &str) -> (i32, String, String) {
    let mut child = ostrog()
        .args(["ask", "--from", "-"])
        .args(OFFLINE)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("starts");
    child.stdin.take().expect("a pipe").write_all(questions.as_bytes()).expect("written");
    let Output { status, stdout, stderr } = child.wait_with_output().expect("ends");
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).expect("UTF-8");
    (status.code().expect("ends by itself"), text(stdout), text(stderr))
}

#[test]
fn a_line_that_is_no_question_is_told_and_the_others_are_answered() {
    let good = r#"{"subject":{"type":"user","id":"ines"},"action":{"name":"release"},"resource":{"type":"manifest","id":"m-205"}}"#;
    let wrong = [
        r#"{"subject":{"type":"user","id":"ines"}"#,
        r#"["user:ines"]"#,
        r#"{"subject":{"type":"group","id":"night"},"action":{"name":"release"},"resource":{"type":"manifest","id":"m-205"}}"#,
    ];
    let (code, out, err) = asked_from(&[wrong[0], good, wrong[1], wrong[2], good].join("\n"));
    let answers: Vec<Evaluation> =
        out.lines().map(|line| serde_json::from_str(line).expect("an answer")).collect();
    let decisions: Vec<bool> = answers.iter().map(|answer| answer.decision).collect();
    assert_eq!((code, decisions), (3, vec![false, true, false, false, true]), "{err}");
    let in_error = answers.iter().filter(|answer| answer.context.error.is_some()).count();
    let told: Vec<&str> = err.lines().filter(|line| line.starts_with("-:")).collect();
    assert_eq!((in_error, told.len()), (3, 3), "{err}");
    assert!(
        told[0].starts_with("-:1  ") && told[1].starts_with("-:3  ") && told[2].starts_with("-:4  "),
        "{err}"
    );
}

#[test]
fn without_a_service_it_says_what_to_do() {
    let (code, _, err) = run(ostrog().arg("status"));
    assert!(code == 2 && err.contains("--server URL or set OSTROG_URL"), "{err}");
    let (code, _, err) = run(ostrog().args(["status", "--server", "http://127.0.0.1:9"]));
    assert!(code == 2 && err.contains("set OSTROG_KEY"), "{err}");
    let (code, _, err) =
        run(ostrog().args(["status", "--server", "http://127.0.0.1:9"]).env("OSTROG_KEY", "x"));
    assert!(code == 4 && err.contains("cannot be reached"), "{err}");
    let (code, _, err) = run(ostrog().args(["serve", "--database", "postgres://127.0.0.1:9/x"]));
    assert!(code == 4 && err.contains("cannot be reached"), "{err}");
    for shell in ["bash", "zsh", "fish"] {
        assert_eq!(run(ostrog().args(["completions", shell])).0, 0);
    }
}

/// One service, and the commands that speak to it, in the order somebody would use them.
#[test]
fn a_day_with_the_register() {
    let folder = folder();
    let service = Service::demo(folder.path());
    let ostrog = |arguments: &[&str]| run(service.ostrog().args(arguments));
    let release = ["ask", "user:ines", "manifest:release", "manifest:m-204"];
    assert_eq!(ostrog(&release).0, 1);
    let (code, out, err) = ostrog(&["register", "set", "user:ines.clearance = 5"]);
    assert!(code == 0 && out.contains("\"clearance\":5") && err.contains("1 change, position"), "{out}{err}");
    let (code, out, err) = ostrog(&release);
    assert_eq!(
        (code, out.as_str()),
        (0, "| | allowed  inspector at tenant:northline, through group:night in group:duty-inspectors\n")
    );
    assert!(err.starts_with("live, revision 1, position "), "{err}");

    let (code, out, _) = ostrog(&["register", "show", "user:ines"]);
    assert_eq!(code, 0);
    insta::assert_snapshot!(out);
    assert_eq!(ostrog(&["register", "remove", "user:ines in group:night"]).0, 0);
    assert_eq!(ostrog(&release).0, 1);
    let (code, out, _) = ostrog(&[
        "grant",
        "give",
        "line-agent",
        "--to",
        "user:nils",
        "--at",
        "tenant:hallfjord",
        "--value",
        "line=HF",
        "--until",
        "2027-01-01",
        "--output",
        "json",
    ]);
    assert_eq!(code, 0, "{out}");
    let (_, out, _) = ostrog(&["grant", "list", "--to", "user:nils", "--output", "csv"]);
    assert_eq!(out.lines().count(), 3);
    let id = out
        .lines()
        .find(|line| line.contains("line-agent"))
        .and_then(|line| line.split(',').next())
        .expect("an id")
        .to_owned();
    assert_eq!(ostrog(&["grant", "end", &id, "--note", "a mistake"]).0, 0);
    let changes =
        tokio::runtime::Runtime::new().expect("threads").block_on(service.get("/api/v1/changes?limit=1")).1;
    assert_eq!(changes["items"][0]["lines"][1]["note"], "a mistake");
    assert_eq!(ostrog(&["grant", "end", &id, "--note", "again"]).0, 3);

    let file = folder.path().join("more.ndjson");
    std::fs::write(&file, "{\"entity\":\"user:new\",\"tenants\":[\"northline\"]}\n\n{\"grant\":{\"role\":\"deckhnd\",\"to\":\"user:new\",\"at\":\"everywhere\"}}\n").expect("written");
    let load = |check: &[&str]| run(service.ostrog().args(["register", "load"]).arg(&file).args(check));
    let (code, _, err) = load(&[]);
    assert!(
        code == 3
            && err.contains("more.ndjson:3  unknown role \"deckhnd\"; did you mean \"deckhand\"?")
            && err.contains("nothing was changed"),
        "{err}"
    );
    std::fs::write(&file, "{\"entity\":\"user:new\",\"tenants\":[\"northline\"]}\n").expect("written");
    assert!(load(&["--check"]).1.contains("1 would change"));
    assert_eq!(ostrog(&["register", "show", "user:new"]).0, 3);
    assert!(load(&[]).1.contains("1 changed"));
    assert!(load(&[]).1.contains("0 changed"));

    let (code, out, _) = ostrog(&["status"]);
    assert!(
        code == 0 && out.contains("Port of Sorrel Bay, revision 1") && out.contains("463 entities"),
        "{out}"
    );
    let (code, out, _) = ostrog(&["charter", "show", "1"]);
    assert!(code == 0 && out.contains("[role.inspector]"));
    assert_eq!(ostrog(&["charter", "show", "9"]).0, 3);
    let (code, _, err) = run(service.ostrog().env("OSTROG_KEY", &service.customs).arg("status"));
    assert!(code == 5 && err.contains("operator's key"), "{err}");
}

#[test]
fn a_charter_is_held_against_a_register_as_questions_would_be() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("register.ndjson");
    let base = std::fs::read_to_string(support::root().join("demo/register.ndjson")).expect("the demo's");
    let more = [
        r#"{"entity":"user:ines","merge":true,"attributes":{"post":"attic"}}"#,
        r#"{"entity":"group:southern","tenant":"hallfjord","members":["user:nils"]}"#,
        r#"{"grant":{"id":"g-abroad","role":"deckhand","to":"group:southern","at":"vessel:kestrel"}}"#,
        r#"{"grant":{"id":"g-idle","role":"inspector","to":"user:nils","at":"berth:b-1"}}"#,
    ];
    std::fs::write(&file, format!("{base}{}\n", more.join("\n"))).expect("written");
    let check = |format: &str| {
        let mut command = ostrog();
        command.args(["charter", "check", "demo/harbour", "--output", format, "--register"]).arg(&file);
        run(&mut command)
    };
    let (code, _, err) = check("text");
    let line = base.lines().count() + 1;
    assert_eq!(code, 3, "{err}");
    assert!(err.contains(&format!("register.ndjson:{line}  ")) && err.contains("attic"), "{err}");
    assert!(err.contains("the grant g-abroad: group:southern is a group of tenant:hallfjord"), "{err}");
    assert!(err.contains("the grant g-idle: inspector gives nothing at berth:b-1"), "{err}");

    // A second place stands in what programs read, too; a broken byte is told with its line.
    let charter = folder.path().join("charter");
    std::fs::create_dir(&charter).expect("a folder");
    let text = "[charter]\nname = \"x\"\nformat = 1\n[role.a]\n[role.b]\n[role.a]\n";
    std::fs::write(charter.join("a.toml"), text).expect("written");
    let (code, out, _) = run(ostrog().args(["charter", "check", "--output", "ndjson"]).arg(&charter));
    let twice = out.lines().find(|line| line.contains("defined twice")).expect("is told");
    let twice: serde_json::Value = serde_json::from_str(twice).expect("JSON");
    assert_eq!((code, twice["second"]["line"].as_u64()), (3, Some(4)), "{twice}");
    std::fs::write(charter.join("a.toml"), b"[charter]\nname = \"\xff\"\n").expect("written");
    let (code, _, err) = run(ostrog().args(["charter", "check"]).arg(&charter));
    assert!(code == 3 && err.contains("a.toml:2  the byte 0xff is not UTF-8"), "{err}");
}
