//! The chain of changes: every kind of tampering is named, in the rows and in the tables beside them.

use crate::release::{approve, rehearse, with_reviews};
use crate::support::{Answer, CHARTER, Service};
use ostrog_wire::changes::Verification;
use ostrog_wire::charter::DraftText;
use serde_json::json;
use std::time::{Duration, Instant};

/// A database in which some of everything happened; an owner's key.
async fn some_history() -> (Service, String) {
    let (service, vera, wim, owner) = with_reviews().await;
    let files = json!([{ "path": "charter.toml", "text": format!("{CHARTER}# another\n") }]);
    let saved = service.post(&vera, "/api/v1/drafts", &json!({ "title": "another", "files": files })).await;
    let draft = saved.read::<DraftText>().draft.id;
    rehearse(&service, &vera, &draft).await;
    assert_eq!(approve(&service, &wim, &draft).await.status, 200);
    let live = service.post(&vera, "/api/v1/rollouts", &json!({ "what": "2", "for": "quay" })).await;
    assert_eq!(live.status, 200, "{live}");
    let back = service.post(&vera, "/api/v1/rollbacks", &json!({ "for": "quay", "note": "a try" })).await;
    assert_eq!(back.status, 200, "{back}");
    let shut = service.post(&vera, "/api/v1/revisions/2/bar", &json!({ "note": "a try" })).await;
    assert_eq!(shut.status, 200, "{shut}");
    for n in 0..5 {
        let set = json!({ "set": [format!("user:ines.clearance = {n}")] });
        assert_eq!(service.post(&vera, "/api/v1/facts", &set).await.status, 200);
    }
    let issuer = json!({ "key": "port-id", "url": "https://id.example", "audiences": { "quay": ["q"] } });
    assert_eq!(service.post(&owner, "/api/v1/issuers", &issuer).await.status, 200);
    (service, owner)
}

async fn verified(service: &Service, key: &str, query: &str) -> Verification {
    let answer: Answer = service.get(key, &format!("/api/v1/verification{query}")).await;
    assert_eq!(answer.status, 200, "{answer}");
    answer.read()
}

/// What is found, in words.
async fn found(service: &Service, key: &str) -> Vec<String> {
    let told = verified(service, key, "").await;
    assert!(told.folded);
    let words = |one: &ostrog_wire::changes::FoundShown| match one.position {
        Some(position) => format!("{position}: {}", one.words),
        None => one.words.clone(),
    };
    told.found.iter().map(words).collect()
}

/// What is done to the database by hand, and how that is named; nothing is named where nothing was done.
const TAMPERING: &[(&str, &str)] = &[
    // In a row: each field of it.
    ("update journal set content = replace(content::text, 'ines', 'rui ')::bytea where false", ""),
    ("update journal set content = set_byte(content, 5, get_byte(content, 5) # 1) where position = 9", "9: "),
    ("update journal set actor = 'somebody' where position = 9", "9: this row is not what was written"),
    ("update journal set at = at + interval '1 microsecond' where position = 9", "9: this row is not what was written"),
    ("update journal set kind = 'case' where position = 9", "9: this row is not what was written"),
    ("update journal set kind = 'made-up' where position = 9", "9: this row cannot be read"),
    ("update journal set digest = sha256('x') where position = 9", "9: this row is not what was written"),
    ("update journal set epoch = 'other' where position = 9", "9: another epoch begins here"),
    // Rows taken out, put in, moved.
    ("delete from journal where position = 9", "9: this row is missing"),
    ("delete from journal where position = (select max(position) from journal)", "the journal ends at"),
    ("delete from journal where position = 9; update journal set position = position - 1 where position = 10", "9: this row is not what was written"),
    ("insert into journal select position + 1, epoch, at, actor, kind, content, lines, digest, chained from journal
     where position = (select max(position) from journal)", "this row is not what was written"),
    ("update journal set position = -1 where position = 9; update journal set position = 9 where position = 8;
     update journal set position = 8 where position = -1", "8: this row is not what was written"),
    // The tables beside it.
    ("update entities set doc = replace(convert_from(doc, 'UTF8'), '\"clearance\":4', '\"clearance\":9')::bytea where name = 'user:ines'", "user:ines is something else in the tables"),
    ("delete from grants where id = (select min(id) from grants)", "is missing in the tables"),
    ("insert into entities (name, doc, deleted, position) values ('user:mallory', '{\"entity\":\"user:mallory\"}', false, 9)", "user:mallory is in the tables, and no row says so"),
    ("update entities set deleted = true, doc = null where name = 'vessel:tern'", "vessel:tern"),
    ("update live set revision = 2 where application = 'customs'", "what is live is something else"),
    ("delete from releases where position = (select max(position) from releases)", "what went live for quay"),
    ("update keys set rights = '[{\"role\":\"owner\",\"at\":\"everywhere\"}]', person = 'vera' where person = 'wim'", "is something else in the tables: person"),
    ("update keys set hash = sha256('x') where person = 'wim'", "is something else in the tables: secret"),
    ("insert into keys (id, kind, name, hash, created_at, detail, endpoints, types, rights)
     values ('k-mallory1', 'operator', 'm', sha256('m'), now(), 'full', '{}', '{}', '[{\"role\":\"owner\",\"at\":\"everywhere\"}]')", "the key k-mallory1 counts, and no row says so"),
    ("update keys set ended_at = now() where person = 'wim'", "is missing in the tables"),
    ("update issuers set iss = 'https://evil.example'", "the issuer port-id is something else in the tables: iss"),
    ("update settings set text = replace(text, 'approvals = 1', 'approvals = 0')", "settings S-1 are something else"),
    ("delete from settings", "settings S-1 are something else"),
    ("update reviews set actor = 'somebody'", "that somebody said approve of D-1 is something else"),
    ("update revision_files set content = content || '# more' where revision = 2", "revision 2"),
    ("update revisions set barred_at = null, barred = null where number = 2", "revision 2 was shut for good, and is open"),
];

/// Tables that are put back between two tries.
const TABLES: [&str; 14] = [
    "journal",
    "workspace",
    "entities",
    "grants",
    "activations",
    "tenant_roles",
    "live",
    "releases",
    "keys",
    "issuers",
    "settings",
    "reviews",
    "revisions",
    "revision_files",
];

#[tokio::test(flavor = "multi_thread")]
async fn every_kind_of_tampering_is_named() {
    let (service, owner) = some_history().await;
    assert_eq!(found(&service, &owner).await, Vec::<String>::new());
    // A node that follows would find it out by itself, and begin another epoch.
    service.close().await;
    let pool = service.pool().await;
    let run = async |statements: String| {
        let done = sqlx::raw_sql(sqlx::AssertSqlSafe(statements.clone())).execute(&pool).await;
        done.unwrap_or_else(|error| panic!("{statements}: {error}"));
    };
    run("create schema kept".to_owned()).await;
    for table in TABLES {
        run(format!("create table kept.{table} as select * from {table}")).await;
    }
    let store = ostrog_store::Store::open(service.url()).await.expect("opens");
    for (tampering, named) in TAMPERING {
        run((*tampering).to_owned()).await;
        let told = store.verify(1).await.expect("is read");
        let words = told.found.iter().map(|found| match found.position {
            Some(position) => format!("{position}: {}", found.words),
            None => found.words.clone(),
        });
        let words: Vec<String> = words.collect();
        match *named {
            "" => assert_eq!(words, Vec::<String>::new(), "{tampering}"),
            named => assert!(words.iter().any(|one| one.contains(named)), "{tampering}: {words:?}"),
        }
        let back = TABLES.map(|table| {
            format!(
                "delete from {table}; insert into {table} overriding system value select * from kept.{table};"
            )
        });
        run(format!("set session_replication_role = replica; {}", back.concat())).await;
        assert_eq!(store.verify(1).await.expect("is read").found, Vec::new(), "after {tampering}");
    }
    store.close().await;
}

/// Whoever writes all of it anew is found out by what was known elsewhere.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_rewritten_whole_is_found_out_by_who_knew_it() {
    let (service, owner) = some_history().await;
    let told = verified(&service, &owner, "?at=9").await;
    let kept = told.at.expect("there is such a row");
    assert_eq!(verified(&service, &owner, "?from=9").await.found, Vec::new());
    assert!(!verified(&service, &owner, "?from=9").await.folded);
    assert!(verified(&service, &owner, "?at=9999").await.at.is_none());
    // The node has said how far it answers, and with which digest.
    let until = Instant::now() + Duration::from_secs(10);
    let pool = service.pool().await;
    loop {
        let known: Option<i64> =
            sqlx::query_scalar("select max(position) from nodes where digest is not null")
                .fetch_one(&pool)
                .await
                .expect("a number");
        if known == Some(told.position) {
            break;
        }
        assert!(Instant::now() < until, "the node tells its digest");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    service.close().await;
    // Another actor at position 9, and every digest from there on computed anew.
    let mut before: Vec<u8> = sqlx::query_scalar("select digest from journal where position = 8")
        .fetch_one(&pool)
        .await
        .expect("a row");
    sqlx::raw_sql("update journal set actor = 'somebody' where position = 9")
        .execute(&pool)
        .await
        .expect("is altered");
    let field = |bytes: &str| format!("int8send(octet_length({bytes})) || {bytes}");
    let at = "int8send((extract(epoch from at) * 1000000)::bigint)";
    let fields = [
        "$1",
        "convert_to(epoch, 'UTF8')",
        "int8send(position)",
        at,
        "convert_to(actor, 'UTF8')",
        "convert_to(kind, 'UTF8')",
        "content",
    ];
    let fields = fields.map(field).join(" || ");
    for position in 9..=told.position {
        let update = format!(
            "update journal set digest = sha256(convert_to('ostrog-change-1', 'UTF8') || {fields}) where position = $2 returning digest"
        );
        before = sqlx::query_scalar(sqlx::AssertSqlSafe(update))
            .bind(&before)
            .bind(position)
            .fetch_one(&pool)
            .await
            .expect("a row");
    }
    sqlx::query("update workspace set digest = $1").bind(&before).execute(&pool).await.expect("is altered");
    let store = ostrog_store::Store::open(service.url()).await.expect("opens");
    let now = store.verify(1).await.expect("is read");
    let words: Vec<&str> = now.found.iter().map(|found| found.words.as_str()).collect();
    assert!(words.len() == 1 && words[0].ends_with("knows another digest of this row"), "{words:?}");
    let (epoch, digest) = store.row_at(9).await.expect("is read").expect("a row");
    assert_eq!(epoch, kept.epoch);
    assert_ne!(digest.to_string(), kept.digest, "a checkpoint of before does not fit");
    store.close().await;
}
