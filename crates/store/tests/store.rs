//! The store on a private server of its own.

use jiff::Timestamp;
use ostrog_core::prelude::line;
use ostrog_core::source::Sources;
use ostrog_store::Store;
use ostrog_store::cluster::Cluster;
use ostrog_store::key::{Key, KeyKind, Making};
use ostrog_store::workspace::Recorded;
use serde_json::{Value, json};
use std::os::unix::fs::PermissionsExt as _;

fn folder() -> tempfile::TempDir {
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).expect("opened");
    folder
}

fn register(lines: &[Value]) -> Recorded {
    Recorded { kind: "register", lines: lines.to_vec() }
}

#[tokio::test]
async fn a_private_server_is_found_again_and_used_by_one() {
    let folder = folder();
    let cluster = Cluster::start(folder.path()).expect("starts");
    let url = cluster.database("ostrog").await.expect("a database");
    let second = Cluster::start(folder.path()).expect_err("is in use");
    assert!(second.to_string().contains("another ostrog uses"), "{second}");
    let store = Store::open(&url).await.expect("opens");
    let epoch = store.load().await.expect("loads").epoch;
    store.close().await;

    // As after a crash: the server still runs, the program is gone.
    drop(cluster);
    let cluster = Cluster::start(folder.path()).expect("is found running");
    assert_eq!(cluster.database("ostrog").await.expect("the same database"), url);
    cluster.stop().expect("stops");
    assert!(Store::open(&url).await.is_err());

    // As after a reboot: it is started, on another port, with the same content.
    let cluster = Cluster::start(folder.path()).expect("starts again");
    let store = Store::open(&cluster.database("ostrog").await.expect("a database")).await.expect("opens");
    assert_eq!(store.load().await.expect("loads").epoch, epoch);
    let secret = std::fs::metadata(folder.path().join("password")).expect("a password");
    assert_eq!(secret.permissions().mode() & 0o777, 0o600);
    store.close().await;
    cluster.stop().expect("stops");
}

#[tokio::test]
async fn a_server_that_cannot_be_started_says_why() {
    let folder = folder();
    let inner = folder.path().join("closed");
    std::fs::create_dir(&inner).expect("made");
    let is_root = std::fs::read_to_string("/proc/self/status").is_ok_and(|status| status.contains("Uid:\t0"));
    if is_root {
        std::fs::set_permissions(&inner, std::fs::Permissions::from_mode(0o700)).expect("closed");
        let error = Cluster::start(&inner.join("data")).expect_err("cannot be entered");
        assert!(error.to_string().contains("cannot enter"), "{error}");
    }
    let file = folder.path().join("file");
    std::fs::write(&file, "").expect("written");
    assert!(Cluster::start(&file.join("data")).is_err());
    assert!(Store::open("postgres://127.0.0.1:9/x").await.is_err());
    assert!(Store::open("nonsense").await.is_err());
}

#[tokio::test]
async fn writes_stand_in_one_order_whole_or_not_at_all() {
    let folder = folder();
    let cluster = Cluster::start(folder.path()).expect("starts");
    let store = Store::open(&cluster.database("ostrog").await.expect("a database")).await.expect("opens");

    // A write that is dropped was never there.
    let mut write = store.begin_write().await.expect("begins");
    write
        .record(&register(&[json!({"entity":"user:ghost"})]), Timestamp::now(), "k-1")
        .await
        .expect("recorded");
    drop(write);

    // Many at a time: each sees the position of the one before it.
    let writers: Vec<_> = (0..20)
        .map(|at| {
            let store = store.clone();
            tokio::spawn(async move {
                let mut write = store.begin_write().await.expect("begins");
                let before = write.position();
                let lines = [json!({ "entity": format!("user:u{at}") }), json!({ "grant": { "id": format!("g-{at}"), "role": "r", "to": format!("user:u{at}"), "at": "everywhere" } })];
                let recorded = write.record(&register(&lines), Timestamp::now(), "k-1").await.expect("recorded");
                assert_eq!(recorded, before + 1);
                write.commit().await.expect("kept")
            })
        })
        .collect();
    let mut positions = Vec::new();
    for writer in writers {
        positions.push(writer.await.expect("ran"));
    }
    positions.sort_unstable();
    assert_eq!(positions, (1..=20).collect::<Vec<i64>>());

    let mut write = store.begin_write().await.expect("begins");
    let lines = [
        json!({"entity":"user:u1","state":"suspended"}),
        json!({"delete":"user:u2"}),
        json!({"end-grant":"g-2"}),
    ];
    write.record(&register(&lines), Timestamp::now(), "k-2").await.expect("recorded");
    assert_eq!(write.commit().await.expect("kept"), 21);

    let loaded = store.load().await.expect("loads");
    assert_eq!((loaded.position, loaded.entities.len(), loaded.grants.len()), (21, 19, 19));
    assert_eq!(loaded.deleted, ["user:u2"]);
    assert!(
        loaded
            .entities
            .contains(&line::from_json(&json!({"entity":"user:u1","state":"suspended"})).expect("a line"))
    );
    let changes = store.changes_before(None, 3, false).await.expect("read");
    assert_eq!(changes.iter().map(|change| change.position).collect::<Vec<_>>(), [21, 20, 19]);
    assert_eq!(
        (changes[0].actor.as_str(), changes[0].kind.as_str(), &changes[0].lines),
        ("k-2", "register", &json!(lines))
    );
    assert_eq!(store.changes_before(Some(2), 10, false).await.expect("read").len(), 1);
    // The history of a thing: the lines that name it, and those that end what named it.
    let about = store.changes_about("user:u2", None, 10).await.expect("read");
    assert_eq!((about.len(), about[0].position, about[0].count), (2, 21, 2));
    assert_eq!(about[0].lines, json!([lines[1], lines[2]]));
    assert_eq!(store.changes_about("user:u2", Some(21), 10).await.expect("read").len(), 1);
    assert!(store.changes_about("user:nobody", None, 10).await.expect("read").is_empty());
    store.close().await;
    cluster.stop().expect("stops");
}

#[tokio::test]
async fn revisions_and_keys_are_kept_as_they_were_made() {
    let folder = folder();
    let cluster = Cluster::start(folder.path()).expect("starts");
    let store = Store::open(&cluster.database("ostrog").await.expect("a database")).await.expect("opens");
    let now = Timestamp::now();
    let sources = Sources::single("a.toml", "[charter]\nname = \"x\"\nformat = 1\n");

    let mut write = store.begin_write().await.expect("begins");
    let number = write.add_revision(&sources, "First", "k-1", now).await.expect("kept");
    assert_eq!(write.add_revision(&sources, "Again", "k-1", now).await.expect("kept"), number + 1);
    write.set_live(number).await.expect("live");
    let (operator, operator_text) = Key::new(Making::whole(KeyKind::Operator, "owner"), now);
    let until = now.checked_add(jiff::SignedDuration::from_secs(60)).expect("a moment");
    let (desk, desk_text) = Key::new(
        Making { until: Some(until), ..Making::whole(KeyKind::Application("customs".into()), "desk") },
        now,
    );
    write.add_key(&operator, "k-1").await.expect("kept");
    write.add_key(&desk, "k-1").await.expect("kept");
    write.commit().await.expect("committed");

    let live = store.load().await.expect("loads").revision.expect("is live");
    assert_eq!((live.info.number, live.info.title.as_str(), live.sources), (number, "First", sources));
    assert_eq!(store.revisions(10).await.expect("read").len(), 2);
    assert!(store.revision(77).await.expect("read").is_none());

    let keys = store.keys().await.expect("read");
    let key = |id: &str| keys.iter().find(|key| key.id == id).expect("is kept");
    assert!(key(&operator.id).is(operator_text.reveal(), now));
    assert!(!key(&operator.id).is(desk_text.reveal(), now) && !key(&operator.id).is("", now));
    assert_eq!(key(&desk.id).making.kind, KeyKind::Application("customs".into()));
    assert!(key(&desk.id).is(desk_text.reveal(), now) && !key(&desk.id).is(desk_text.reveal(), until));
    assert_eq!(Key::claimed_id(desk_text.reveal()), Some(desk.id.as_str()));
    assert!(Key::claimed_id("ostrog.k").is_none() && Key::claimed_id("").is_none());
    // Nothing that is printed or kept holds the secret.
    let secret = operator_text.reveal().rsplit('.').next().expect("a secret").to_owned();
    let printed = format!("{operator:?} {operator_text:?} {keys:?}");
    let kept = store.changes_before(None, 10, false).await.expect("read");
    assert!(
        !printed.contains(&secret) && kept.iter().all(|change| !change.lines.to_string().contains(&secret))
    );
    store.close().await;
    cluster.stop().expect("stops");
}
