//! The store on a private server of its own.

use jiff::Timestamp;
use ostrog_core::register::State;
use ostrog_core::register::journal::Entry;
use ostrog_core::source::Sources;
use ostrog_store::By;
use ostrog_store::Store;
use ostrog_store::cluster::Cluster;
use ostrog_store::journal::{Chain, Kind, NewRow, Row};
use ostrog_store::key::{Key, KeyKind, Making};
use ostrog_store::release::{Placed, Release};
use ostrog_store::revision::Standing;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::os::unix::fs::PermissionsExt as _;

fn folder() -> tempfile::TempDir {
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).expect("opened");
    folder
}

fn entries(lines: &[Value]) -> Vec<Entry> {
    lines.iter().map(|line| Entry::from_json(line).expect("an entry")).collect()
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
    drop(cluster);
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
    let ghost = entries(&[json!({"entity":"user:ghost"})]);
    write.record_entries(&ghost, None, "k-1", Timestamp::now()).await.expect("recorded");
    drop(write);

    // Many at a time: each sees the position of the one before it.
    let writers: Vec<_> = (0..20)
        .map(|at| {
            let store = store.clone();
            tokio::spawn(async move {
                let mut write = store.begin_write().await.expect("begins");
                let before = write.position();
                let user = format!("user:u{at}");
                let grant = json!({ "id": format!("g-{at}"), "role": "r", "to": user, "at": "everywhere" });
                let made = entries(&[json!({ "entity": user }), json!({ "grant": grant })]);
                let now = Timestamp::now();
                let recorded = write.record_entries(&made, None, "k-1", now).await.expect("recorded");
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
    let was = json!({"role":"r","to":"user:u2","at":"everywhere"});
    let lines = [
        json!({"end-grant":"g-2","was":was}),
        json!({"delete":"user:u2"}),
        json!({"entity":"user:u1","state":"suspended"}),
    ];
    write
        .record_entries(&entries(&lines), Some("moved on"), "k-2", Timestamp::now())
        .await
        .expect("recorded");
    assert_eq!(write.commit().await.expect("kept"), 21);

    let loaded = store.load().await.expect("loads");
    let register = &loaded.register;
    assert_eq!((loaded.position, register.entity_count(), register.grant_count()), (21, 19, 19));
    let gone = register.find("user:u2").expect("is known");
    assert_eq!(register.state(gone), State::Deleted);
    let suspended = register.registered("user:u1").expect("is there");
    assert_eq!(register.state(suspended), State::Suspended);

    let rows = store.rows_before(None, 3, false).await.expect("read");
    assert_eq!(rows.iter().map(|row| row.position).collect::<Vec<_>>(), [21, 20, 19]);
    assert_eq!((rows[0].actor.as_str(), rows[0].kind, rows[0].lines), ("k-2", Kind::Register, 4));
    let noted: Vec<Value> = lines.into_iter().chain([json!({ "note": "moved on" })]).collect();
    assert_eq!(rows[0].to_json(), noted);
    assert_eq!(store.rows_before(Some(2), 10, false).await.expect("read").len(), 1);
    // The history of a thing: the rows that name it, also by what ended with it.
    let about = store.rows_about("user:u2", None, 10).await.expect("read");
    assert_eq!((about.len(), about[0].position), (2, 21));
    assert_eq!(store.rows_about("user:u2", Some(21), 10).await.expect("read").len(), 1);
    assert!(store.rows_about("user:nobody", None, 10).await.expect("read").is_empty());

    // Each row's digest follows from the one before it and from what stands in it.
    let rows = store.rows_after(0, 100, i64::MAX).await.expect("read");
    let mut chain = Chain::START;
    for row in &rows {
        let new = NewRow { kind: row.kind, at: row.at, actor: &row.actor, content: &row.content };
        chain = chain.next(&new, &row.epoch, row.position);
        assert_eq!(chain, row.digest, "position {}", row.position);
    }
    assert_eq!((rows.len(), chain), (21, loaded.digest));
    let head = store.head(20).await.expect("read");
    assert_eq!((head.position, head.digest, head.known), (21, chain, Some(rows[19].digest)));
    assert_eq!(store.head(22).await.expect("read").known, None);
    store.close().await;
    cluster.stop().expect("stops");
}

/// Few rows at a time where they are long, and at least one.
#[tokio::test]
async fn long_rows_are_read_a_few_at_a_time() {
    let folder = folder();
    let cluster = Cluster::start(folder.path()).expect("starts");
    let store = Store::open(&cluster.database("ostrog").await.expect("a database")).await.expect("opens");
    for at in 0..5 {
        let mut write = store.begin_write().await.expect("begins");
        let note = "n".repeat(if at == 2 { 10 << 20 } else { 3 << 20 });
        write.record_entries(&[], Some(&note), "k-1", Timestamp::now()).await.expect("recorded");
        write.commit().await.expect("kept");
    }
    let mut after = 0;
    let mut parts = Vec::new();
    while after < 5 {
        let rows = store.rows_after(after, 100, 8 << 20).await.expect("read");
        parts.push(rows.len());
        after = rows.last().expect("at least one").position;
    }
    assert_eq!(parts, [3, 2], "three MiB twice, and one that alone is too long");
    assert_eq!(store.rows_before(None, 100, false).await.expect("read").len(), 3);
    let brief = store.rows_before(None, 100, true).await.expect("read");
    assert!(brief.len() == 5 && brief.iter().all(|row| row.content.len() <= 16 << 10 && row.lines == 1));
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

    let by = By::host("k-1", now);
    let mut write = store.begin_write().await.expect("begins");
    let number = write.add_revision(&sources, "First", &Standing::default(), &by).await.expect("kept");
    assert_eq!(
        write.add_revision(&sources, "Again", &Standing::default(), &by).await.expect("kept"),
        number + 1
    );
    let moves: BTreeMap<String, i64> =
        [("customs".to_owned(), number), ("quay".to_owned(), number + 1)].into();
    let release = Release {
        moves: moves.iter().map(|(application, number)| (application.clone(), Some(*number))).collect(),
        live: Placed { of: moves.clone(), last: Some(number) },
        back: false,
        note: Some("first"),
        beside: serde_json::Map::new(),
    };
    write.release(&release, ("k-1", now)).await.expect("live");
    let (operator, operator_text) = Key::new(Making::whole(KeyKind::Operator, "owner"), &by);
    let until = now.checked_add(jiff::SignedDuration::from_secs(60)).expect("a moment");
    let (desk, desk_text) = Key::new(
        Making { until: Some(until), ..Making::whole(KeyKind::Application("customs".into()), "desk") },
        &by,
    );
    write.add_key(&operator, "k-1").await.expect("kept");
    write.add_key(&desk, "k-1").await.expect("kept");
    write.commit().await.expect("committed");

    let loaded = store.load().await.expect("loads");
    // Of two that went live at one position the later one counts as the last.
    assert_eq!(loaded.live, Placed { of: moves, last: Some(number + 1) });
    let [last, first] = &loaded.revisions[..] else { panic!("{:?}", loaded.revisions) };
    assert_eq!((last.info.number, last.info.title.as_str()), (number + 1, "Again"));
    assert_eq!((first.info.title.as_str(), &first.sources), ("First", &sources));
    let steps = store.releases(Some("quay"), 10).await.expect("read");
    assert_eq!(
        (steps.len(), steps[0].revision, steps[0].note.as_deref()),
        (1, Some(number + 1), Some("first"))
    );
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
    let kept = store.rows_before(None, 10, false).await.expect("read");
    let told = |row: &Row| String::from_utf8_lossy(&row.content).contains(&secret);
    assert!(!printed.contains(&secret) && !kept.iter().any(told));
    let password = std::fs::read_to_string(folder.path().join("password")).expect("a password");
    assert!(!format!("{cluster:?}").contains(password.trim()));
    store.close().await;
    cluster.stop().expect("stops");
}
