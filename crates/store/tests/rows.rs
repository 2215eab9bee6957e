//! Row filters in a real PostgreSQL: a statement selects exactly the rows that decisions allow.

#![allow(dead_code, reason = "the generator serves other tests too")]
#![allow(clippy::manual_try_fold, reason = "an undetermined part does not end a fold over three values")]

#[path = "../../core/tests/oracle/generate.rs"]
mod generate;
#[path = "../../core/tests/oracle/naive.rs"]
mod naive;
#[path = "../../core/tests/oracle/render.rs"]
mod render;
#[path = "../../core/tests/oracle/worlds.rs"]
mod worlds;

use generate::Dice;
use ostrog_core::decide::rows::{Columns, NoFilter, Sql, rows};
use ostrog_store::cluster::Cluster;
use serde_json::{Map, Value as Json, json};
use sqlx::{AssertSqlSafe, Connection as _, PgConnection, Row as _};
use std::collections::{BTreeMap, BTreeSet};
use std::os::unix::fs::PermissionsExt as _;

const KINDS: [(&str, &[&str]); 4] =
    [("ship", &["tenant"]), ("hold", &["ship"]), ("crate", &["hold", "ship", "beacon"]), ("beacon", &[])];

fn columns(kind: &str) -> Columns {
    let mut columns: BTreeMap<String, String> =
        ["size", "tag", "open", "net", "nets", "marks", "load", "due", "slack"]
            .map(|name| (name.to_owned(), format!("r.{name}_column")))
            .into();
    if kind != "beacon" {
        columns.insert("within".to_owned(), "r.outer_name".to_owned());
    }
    Columns { table: format!("{kind}_rows r"), id: "r.number".to_owned(), columns }
}

/// What a row lies within: of a registered resource what the register says, else something or nothing.
fn outer(dice: &mut Dice<'_>, register: &naive::Register, kind: &str, id: &str) -> Option<String> {
    if kind == "beacon" {
        return None;
    }
    match register.entities.get(&format!("{kind}:{id}")) {
        Some(entity) => entity.within.clone(),
        None => generate::outer(dice, kind),
    }
}

#[tokio::test]
async fn statements_select_exactly_what_decisions_allow() {
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).expect("opened");
    let cluster = Cluster::start(folder.path()).expect("starts");
    let url = cluster.database("rows").await.expect("a database");
    let mut database = PgConnection::connect(&url).await.expect("connects");
    for (kind, _) in KINDS {
        let statement = format!(
            "create table {kind}_rows (number text primary key, size_column bigint, tag_column text, \
             open_column boolean, net_column inet, marks_column text[], outer_name text, load_column numeric, \
             due_column timestamptz, slack_column interval, nets_column inet[])"
        );
        sqlx::query(AssertSqlSafe(statement)).execute(&mut database).await.expect("made");
    }
    let (mut made, mut selected, mut left) = (0, 0, 0);
    for seed in 0..60_u64 {
        let bytes = generate::bytes(seed, 5_000);
        let mut dice = Dice::new(&bytes);
        let charter = generate::charter(&mut dice);
        let register = generate::register_for_rows(&mut dice, &charter);
        let world = worlds::world(&charter, &register).expect("valid");
        for _ in 0..4 {
            let question = generate::question(&mut dice, &charter);
            let now = jiff::Timestamp::from_second(question.now).expect("a moment");
            let mut request = render::request(&question);
            (request.of_resource, request.resource) = (Map::new(), None);
            let kind = request.permission.split(':').next().unwrap_or_default().to_owned();
            let columns = columns(&kind);
            let filter = match rows(world.engine(), &request, now, Some(&columns), &mut || true) {
                Ok(filter) => filter,
                Err(NoFilter::Refused(_)) => continue,
                Err(why) => panic!("{why}"),
            };
            made += 1;
            let clear = format!("delete from {kind}_rows");
            sqlx::query(AssertSqlSafe(clear)).execute(&mut database).await.expect("emptied");
            let mut expected = BTreeSet::new();
            for n in 0..14 {
                let mut row = generate::row(&mut dice, &charter, &kind);
                if row["id"] == json!("s9") {
                    row.insert("id".into(), json!(format!("s9{n}")));
                }
                let id = row["id"].as_str().unwrap_or_default().to_owned();
                let outer = outer(&mut dice, &register, &kind, &id);
                row.extend(outer.iter().map(|outer| ("within".to_owned(), json!(outer))));
                if insert(&mut database, &kind, &row).await {
                    let allowed = worlds::row_is_allowed(&charter, &register, &request, now, &kind, &row);
                    if allowed.expect("valid") {
                        expected.insert(id);
                    }
                }
            }
            let sql = Sql::new(&filter, &columns);
            let mut query = sqlx::query(AssertSqlSafe(sql.statement.clone()));
            for parameter in &sql.parameters {
                query = match &parameter.value {
                    Json::Array(items) => query
                        .bind(items.iter().map(|item| item.as_str().map(str::to_owned)).collect::<Vec<_>>()),
                    one => query.bind(one.as_str().map(str::to_owned)),
                };
            }
            let found = query.fetch_all(&mut database).await.unwrap_or_else(|error| {
                panic!("{error}: {}", serde_json::to_string(&sql).unwrap_or_default())
            });
            let found: BTreeSet<String> = found.iter().map(|row| row.get(0)).collect();
            assert_eq!(found, expected, "{request:?}\n{}\n{}", sql.statement, render::charter(&charter));
            selected += found.len();
            left += 14 - found.len();
        }
    }
    database.close().await.expect("closes");
    cluster.stop().expect("stops");
    assert!(made > 100 && selected > 200 && left > 200, "{made} statements, {selected} and {left} rows");
}

/// Puts a row in, unless one of its id is there.
async fn insert(database: &mut PgConnection, kind: &str, row: &BTreeMap<String, Json>) -> bool {
    let text = |name: &str| row.get(name).and_then(Json::as_str).map(str::to_owned);
    let (_, outer) = KINDS.iter().find(|(known, _)| *known == kind).expect("known");
    // Where only one type is possible, the column holds the bare id.
    let within = text("within").map(|name| match outer {
        [_] => name.split_once(':').map_or(String::new(), |(_, id)| id.to_owned()),
        _ => name,
    });
    let many = |name: &str| -> Option<Vec<Option<String>>> {
        let items = row[name].as_array()?.iter();
        Some(items.map(|item| item.as_str().map(str::to_owned)).collect())
    };
    let statement = format!(
        "insert into {kind}_rows values ($1, $2, $3, $4, $5::text::inet, $6, $7, $8::text::numeric, \
         $9::text::timestamptz, $10::text::interval, $11::text[]::inet[]) on conflict do nothing"
    );
    let done = sqlx::query(AssertSqlSafe(statement))
        .bind(text("id"))
        .bind(row["size"].as_i64())
        .bind(text("tag"))
        .bind(row["open"].as_bool())
        .bind(text("net"))
        .bind(many("marks"))
        .bind(within)
        .bind(text("load"))
        .bind(text("due"))
        .bind(text("slack"))
        .bind(many("nets"))
        .execute(database)
        .await
        .expect("inserted");
    done.rows_affected() == 1
}
