//! The counter row, everything at one position, and writes in their order.

use crate::revision::Revision;
use crate::{Error, Result, Store, random_text};
use futures_util::TryStreamExt as _;
use jiff::Timestamp;
use ostrog_core::prelude::{Change, line};
use ostrog_core::register::NextIds;
use serde_json::Value;
use sqlx::{PgConnection, Postgres, Row as _, Transaction};
use std::collections::HashSet;

/// Everything a node answers from, as it was at one position.
#[derive(Debug)]
pub struct Loaded {
    /// Changes when the database was restored.
    pub epoch: String,
    /// The position all of this is at.
    pub position: i64,
    /// The live revision, if there is one.
    pub revision: Option<Revision>,
    /// The entities.
    pub entities: Vec<Change>,
    /// Names of deleted entities.
    pub deleted: Vec<String>,
    /// The grants.
    pub grants: Vec<Change>,
    /// The activations.
    pub activations: Vec<Change>,
    /// The roles that tenants made.
    pub tenant_roles: Vec<Change>,
    /// The numbers that are given next.
    pub next: NextIds,
}

/// What one change leaves behind.
#[derive(Clone, Debug)]
pub struct Recorded {
    /// What kind of change: `register`, `rollout`, `key`.
    pub kind: &'static str,
    /// Register lines that give the same register when applied, a note, or what else happened.
    pub lines: Vec<Value>,
}

/// A write under way: it holds the counter row, so no other write is. Dropped without
/// [`Write::commit`], nothing of it was.
#[derive(Debug)]
pub struct Write {
    transaction: Transaction<'static, Postgres>,
    epoch: String,
    position: i64,
}

/// What a line is kept in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Table {
    Entities,
    Grants,
    Activations,
    TenantRoles,
}

/// Lines that follow each other and do the same, each to another row: one statement.
#[derive(Debug)]
struct Run<'l> {
    table: Table,
    ends: bool,
    keys: Vec<String>,
    docs: Vec<&'l Value>,
}

/// Most lines of one statement.
const MAX_RUN: usize = 2_000;

fn runs(lines: &[Value]) -> Vec<Run<'_>> {
    let mut runs: Vec<Run<'_>> = Vec::new();
    let mut seen: HashSet<String> = HashSet::new();
    for line in lines {
        let Some((table, ends, key)) = row(line) else { continue };
        let same = runs.last().is_some_and(|run| {
            (run.table, run.ends) == (table, ends) && run.keys.len() < MAX_RUN && !seen.contains(&key)
        });
        if !same {
            seen.clear();
            runs.push(Run { table, ends, keys: Vec::new(), docs: Vec::new() });
        }
        seen.insert(key.clone());
        if let Some(run) = runs.last_mut() {
            run.keys.push(key);
            run.docs.push(line);
        }
    }
    runs
}

/// What lines name, each once: entities and grants.
fn named(lines: &[Value]) -> Vec<&str> {
    let said = lines.iter().flat_map(|line| {
        let (grant, activation) = (&line["grant"], &line["activation"]);
        let plain = [&line["entity"], &line["delete"], &line["end-grant"]];
        let given = [&grant["id"], &grant["to"], &grant["at"], &activation["grant"], &activation["subject"]];
        plain.into_iter().chain(given)
    });
    let mut names: Vec<&str> = said.filter_map(Value::as_str).collect();
    names.sort_unstable();
    names.dedup();
    names
}

/// The row that a line is about, and whether it ends it.
fn row(line: &Value) -> Option<(Table, bool, String)> {
    let text = |value: &Value| value.as_str().unwrap_or_default().to_owned();
    let object = line.as_object()?;
    let of = |key: &str| object.get(key);
    if let Some(name) = of("entity") {
        return Some((Table::Entities, false, text(name)));
    }
    if let Some(grant) = of("grant") {
        return Some((Table::Grants, false, text(&grant["id"])));
    }
    if let Some(activation) = of("activation") {
        return Some((Table::Activations, false, text(&activation["id"])));
    }
    if let Some(role) = of("tenant-role") {
        return Some((
            Table::TenantRoles,
            false,
            format!("{}/{}", text(&role["tenant"]), text(&role["key"])),
        ));
    }
    let ends = [
        ("delete", Table::Entities),
        ("end-grant", Table::Grants),
        ("end-activation", Table::Activations),
        ("end-tenant-role", Table::TenantRoles),
    ];
    ends.into_iter().find_map(|(key, table)| Some((table, true, text(of(key)?))))
}

impl Store {
    pub(crate) async fn ensure_workspace(&self) -> Result<()> {
        sqlx::query("insert into workspace (epoch) values ($1) on conflict do nothing")
            .bind(&random_text()[..12])
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Reads everything at one position: one transaction with one snapshot.
    ///
    /// # Errors
    /// If the database cannot be reached or holds what cannot be read.
    pub async fn load(&self) -> Result<Loaded> {
        let mut transaction = self.pool.begin().await?;
        sqlx::query("set transaction isolation level repeatable read, read only")
            .execute(&mut *transaction)
            .await?;
        let row =
            sqlx::query("select epoch, position, live_revision, next_grant, next_activation from workspace")
                .fetch_one(&mut *transaction)
                .await?;
        let live: Option<i64> = row.try_get("live_revision")?;
        let revision = match live {
            Some(number) => crate::revision::read(&mut transaction, number).await?,
            None => None,
        };
        let mut loaded = Loaded {
            epoch: row.try_get("epoch")?,
            position: row.try_get("position")?,
            revision,
            entities: Vec::new(),
            deleted: Vec::new(),
            grants: Vec::new(),
            activations: Vec::new(),
            tenant_roles: Vec::new(),
            next: NextIds {
                grant: u64::try_from(row.try_get::<i64, _>("next_grant")?).unwrap_or(1),
                activation: u64::try_from(row.try_get::<i64, _>("next_activation")?).unwrap_or(1),
            },
        };
        let deleted = sqlx::query("select name from entities where deleted order by position, name")
            .fetch_all(&mut *transaction)
            .await?;
        loaded.deleted = deleted.iter().map(|row| row.try_get("name")).collect::<sqlx::Result<_>>()?;
        loaded.entities =
            lines(&mut transaction, "select doc from entities where not deleted order by position, name")
                .await?;
        loaded.tenant_roles =
            lines(&mut transaction, "select doc from tenant_roles order by position, key").await?;
        loaded.grants = lines(&mut transaction, "select doc from grants order by position, id").await?;
        loaded.activations =
            lines(&mut transaction, "select doc from activations order by position, id").await?;
        transaction.commit().await?;
        Ok(loaded)
    }

    /// Begins a write: waits until no other is under way.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn begin_write(&self) -> Result<Write> {
        let mut transaction = self.pool.begin().await?;
        // The lock on the one counter row: it guards the order of all writes, and every check
        // over the whole register that a writer makes.
        let row = sqlx::query("select epoch, position from workspace for update")
            .fetch_one(&mut *transaction)
            .await?;
        Ok(Write { epoch: row.try_get("epoch")?, position: row.try_get("position")?, transaction })
    }
}

/// Register lines, each read as it comes: a large register does not stand in memory twice.
async fn lines(connection: &mut PgConnection, query: &'static str) -> Result<Vec<Change>> {
    let mut rows = sqlx::query(query).fetch(connection);
    let mut changes = Vec::new();
    while let Some(row) = rows.try_next().await? {
        let doc: Value = row.try_get("doc")?;
        changes.push(line::from_json(&doc).map_err(Error::Unreadable)?);
    }
    Ok(changes)
}

impl Write {
    /// The position before this write.
    pub fn position(&self) -> i64 {
        self.position
    }

    /// The epoch it is of.
    pub fn epoch(&self) -> &str {
        &self.epoch
    }

    pub(crate) fn connection(&mut self) -> &mut PgConnection {
        &mut self.transaction
    }

    /// Records a change under the next position.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn record(&mut self, change: &Recorded, at: Timestamp, actor: &str) -> Result<i64> {
        self.position += 1;
        sqlx::query("insert into changes (position, at, actor, kind, lines) values ($1, $2::text::timestamptz, $3, $4, $5)")
            .bind(self.position)
            .bind(at.to_string())
            .bind(actor)
            .bind(change.kind)
            .bind(Value::from(change.lines.clone()))
            .execute(&mut *self.transaction)
            .await?;
        let names = named(&change.lines);
        if !names.is_empty() {
            sqlx::query("insert into change_names (name, position) select unnest($1::text[]), $2")
                .bind(&names)
                .bind(self.position)
                .execute(&mut *self.transaction)
                .await?;
        }
        for run in runs(&change.lines) {
            self.apply(&run).await?;
        }
        Ok(self.position)
    }

    /// Keeps the tables of what is now in step with lines of one kind that say what happened.
    async fn apply(&mut self, run: &Run<'_>) -> Result<()> {
        let (into, key) = match run.table {
            Table::Entities => ("entities", "name"),
            Table::Grants => ("grants", "id"),
            Table::Activations => ("activations", "id"),
            Table::TenantRoles => ("tenant_roles", "key"),
        };
        let statement = match (run.table, run.ends) {
            (Table::Entities, false) => "insert into entities (name, doc, deleted, position)
                 select name, doc, false, $3 from unnest($1::text[], $2::jsonb[]) as line (name, doc)
                 on conflict (name) do update set doc = excluded.doc, deleted = false, position = $3"
                .to_owned(),
            (Table::Entities, true) => {
                "update entities set deleted = true, position = $2 where name = any($1)".to_owned()
            }
            (_, false) => format!(
                "insert into {into} ({key}, doc, position)
                 select key, doc, $3 from unnest($1::text[], $2::jsonb[]) as line (key, doc)
                 on conflict ({key}) do update set doc = excluded.doc, position = $3"
            ),
            (_, true) => format!("delete from {into} where {key} = any($1) and $2 >= 0"),
        };
        // Made of the words above alone.
        let query = sqlx::query(sqlx::AssertSqlSafe(statement)).bind(&run.keys);
        let query = if run.ends {
            query
        } else {
            query.bind(run.docs.iter().map(|doc| (*doc).clone()).collect::<Vec<Value>>())
        };
        query.bind(self.position).execute(&mut *self.transaction).await?;
        Ok(())
    }

    /// Keeps the numbers that are given next.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn keep_next(&mut self, next: NextIds) -> Result<()> {
        sqlx::query(
            "update workspace set next_grant = greatest(next_grant, $1),
                    next_activation = greatest(next_activation, $2)",
        )
        .bind(i64::try_from(next.grant).unwrap_or(i64::MAX))
        .bind(i64::try_from(next.activation).unwrap_or(i64::MAX))
        .execute(&mut *self.transaction)
        .await?;
        Ok(())
    }

    /// Makes a revision live.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn set_live(&mut self, revision: i64) -> Result<()> {
        sqlx::query("update workspace set live_revision = $1")
            .bind(revision)
            .execute(&mut *self.transaction)
            .await?;
        Ok(())
    }

    /// Commits, and gives the position the write ends at. After this the write is kept.
    ///
    /// # Errors
    /// If the database does not confirm; then whether the write was kept is not known here, and
    /// the caller must look before it relies on either.
    pub async fn commit(mut self) -> Result<i64> {
        sqlx::query("update workspace set position = $1")
            .bind(self.position)
            .execute(&mut *self.transaction)
            .await?;
        // Sent with the commit, or not at all.
        sqlx::query("select pg_notify($1, $2)")
            .bind(crate::follow::CHANNEL)
            .bind(self.position.to_string())
            .execute(&mut *self.transaction)
            .await?;
        self.transaction.commit().await.map_err(Error::from)?;
        Ok(self.position)
    }
}
