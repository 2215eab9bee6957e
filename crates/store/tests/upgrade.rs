//! Databases from before the journal, and databases that come from elsewhere.
//!
//! The dumps under `data/` were made by the program as it was before; `before-journal.sql` holds every kind
//! of row that it wrote wrongly, the last of which kept it from ever starting again.

use ostrog_core::register::Register;
use ostrog_core::register::journal::from_bytes;
use ostrog_store::Store;
use ostrog_store::cluster::Cluster;
use ostrog_store::journal::{Chain, Kind, NewRow, Row};
use serde_json::{Value, json};
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::process::Command;

struct Place {
    _folder: tempfile::TempDir,
    cluster: Cluster,
}

impl Place {
    fn new() -> Place {
        let folder = tempfile::tempdir().expect("a folder");
        std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).expect("opened");
        let cluster = Cluster::start(folder.path()).expect("starts");
        Place { _folder: folder, cluster }
    }

    async fn database(&self, name: &str) -> String {
        self.cluster.database(name).await.expect("a database")
    }
}

/// Runs one of PostgreSQL's own programs.
fn run(program: &str, arguments: &[&str]) -> String {
    let programs = std::fs::read_dir("/usr/lib/postgresql").expect("PostgreSQL is installed");
    let newest = programs.filter_map(|entry| Some(entry.ok()?.path())).max().expect("a version");
    let out = Command::new(newest.join("bin").join(program)).args(arguments).output().expect("runs");
    assert!(out.status.success(), "{program}: {}", String::from_utf8_lossy(&out.stderr));
    String::from_utf8(out.stdout).expect("text")
}

fn load_dump(url: &str, dump: &Path) {
    let dump = dump.to_str().expect("a path");
    run("psql", &["--quiet", "--no-psqlrc", "--set", "ON_ERROR_STOP=1", "--file", dump, url]);
}

fn fixture(name: &str) -> std::path::PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data").join(name)
}

/// All rows, with the chain computed anew.
async fn rows(store: &Store) -> Vec<Row> {
    let rows = store.rows_after(0, 1_000, i64::MAX).await.expect("read");
    let mut chain = Chain::START;
    for row in &rows {
        let new = NewRow { kind: row.kind, at: row.at, actor: &row.actor, content: &row.content };
        chain = chain.next(&new, &row.epoch, row.position);
        assert_eq!(chain, row.digest, "position {}", row.position);
    }
    rows
}

fn told<'r>(rows: &'r [Row], what: &str) -> Vec<(Option<i64>, Value)> {
    let upgrade: &'r Row = rows.iter().find(|row| row.kind == Kind::Upgrade).expect("an upgrade");
    let lines = upgrade.to_json();
    let of = lines.iter().filter_map(|line| line.get(what));
    of.map(|told| (told["position"].as_i64(), told["line"].clone())).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_database_from_before_is_mended_and_its_rows_are_kept() {
    let place = Place::new();
    let url = place.database("before").await;
    load_dump(&url, &fixture("before-journal.sql"));
    let store = Store::open(&url).await.expect("is brought up to date");
    let loaded = store.load().await.expect("can be read again");
    let rows = rows(&store).await;
    assert_eq!((loaded.position, loaded.digest), (13, rows[12].digest));
    assert!(rows[..12].iter().all(|row| row.chained) && !rows[12].chained);

    // The register is the fold of the journal, and the tables hold the same.
    let mut folded = Register::default();
    for row in rows.iter().filter(|row| row.kind == Kind::Register) {
        folded.fold(&from_bytes(&row.content).expect("entries")).expect("fits");
    }
    folded.skip_ids(loaded.register.next_ids());
    assert_eq!(folded.digest(), loaded.register.digest());

    // What was written wrongly, as it was meant.
    let mended: Vec<(Option<i64>, Value)> = told(&rows, "mended");
    assert_eq!(
        mended,
        [
            (Some(5), json!({ "end-grant": "g-brief" })),
            (Some(6), json!({ "delete": "user:passing" })),
            (
                Some(12),
                json!({ "tenant-role": {
                    "tenant": "brackwater/eu", "key": "eu/r", "permissions": ["voyage:view"],
                } })
            ),
        ]
    );
    assert_eq!(told(&rows, "unclear"), []);
    let register = &loaded.register;
    let key = register.sym("brackwater/eu/r").expect("is known");
    let role = register.made_role(key).expect("was made");
    assert_eq!(register.name(role.tenant), "tenant:brackwater/eu");
    let skua = register.registered("vessel:skua").expect("is there");
    let lies = register.within(skua).expect("lies somewhere");
    assert_eq!(register.name(lies), "tenant:hallfjord");
    let passing = register.find("user:passing").expect("is known as deleted");
    assert_eq!(register.state(passing).word(), "deleted");
    let ines = register.registered("user:ines").expect("is there");
    let told_of = register.entity_json(ines).to_string();
    assert_eq!(
        told_of,
        r#"{"entity":"user:ines","tenants":["tenant:northline"],"attributes":{"clearance":5}}"#
    );
    // Numbers that were given are not given again.
    assert_eq!((register.next_ids().grant, register.next_ids().activation), (5, 2));

    // What was there before is there still, byte for byte; and it is done once.
    let kept = run(
        "psql",
        &["-At", "--no-psqlrc", "-c", "select count(*), max(position) from changes_before_journal", &url],
    );
    assert_eq!(kept.trim(), "12|12");
    store.close().await;
    let again = Store::open(&url).await.expect("opens again");
    assert_eq!(again.load().await.expect("loads").position, 13);
    again.close().await;
    place.cluster.stop().expect("stops");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_not_clear_is_left_out_and_listed() {
    let place = Place::new();
    let url = place.database("before").await;
    load_dump(&url, &fixture("before-journal-unclear.sql"));
    let store = Store::open(&url).await.expect("is brought up to date");
    let register = store.load().await.expect("can be read").register;
    let rows = rows(&store).await;
    // `tenant:tenant:x` was meant, `tenant:x` was read, and there are both.
    let unclear: Vec<Value> = told(&rows, "unclear").into_iter().map(|(_, line)| line).collect();
    assert!(unclear.contains(&json!({ "entity": "user:ola", "tenants": ["tenant:x"] })), "{unclear:?}");
    assert!(
        unclear.contains(&json!({ "entity": "group:crew", "tenant": "tenant:x", "members": ["user:ola"] })),
        "{unclear:?}"
    );
    let crew = register.registered("group:crew").expect("is there");
    assert!(register.members(crew).is_empty(), "nothing is guessed");
    store.close().await;
    place.cluster.stop().expect("stops");
}

/// A dump that is restored elsewhere is another history from there on: what the old one said of positions
/// that it never had must not be believed.
#[tokio::test(flavor = "multi_thread")]
async fn a_restored_copy_begins_an_epoch() {
    let place = Place::new();
    let url = place.database("first").await;
    let store = Store::open(&url).await.expect("opens");
    let mut write = store.begin_write().await.expect("begins");
    let entry = from_bytes(br#"{"entity":"user:ines"}"#).expect("an entry");
    write.record_entries(&entry, None, "k-1", jiff::Timestamp::now()).await.expect("recorded");
    write.commit().await.expect("kept");
    let before = store.load().await.expect("loads");
    store.close().await;
    let again = Store::open(&url).await.expect("opens again");
    assert_eq!(again.load().await.expect("loads").epoch, before.epoch, "the same place is the same epoch");
    again.close().await;

    let folder = tempfile::tempdir().expect("a folder");
    let dump = folder.path().join("dump.sql");
    std::fs::write(&dump, run("pg_dump", &["--no-owner", &url])).expect("written");
    let copy = place.database("second").await;
    load_dump(&copy, &dump);
    let store = Store::open(&copy).await.expect("opens");
    let after = store.load().await.expect("loads");
    assert_ne!(after.epoch, before.epoch);
    let rows = rows(&store).await;
    let first = rows.last().expect("the epoch's first row");
    assert_eq!((first.kind, first.position, &first.epoch), (Kind::Epoch, 2, &after.epoch));
    let told = &first.to_json()[0];
    assert_eq!(
        told["from"],
        json!({ "epoch": before.epoch, "position": 1, "digest": before.digest.to_string() })
    );
    store.close().await;
    place.cluster.stop().expect("stops");
}
