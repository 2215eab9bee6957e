//! The tables of the register as it is: the fold of its journal, kept in step by every write, so that a
//! node need not read all that ever happened.

use crate::Result;
use crate::workspace::Write;
use ostrog_core::names::made_role_name;
use ostrog_core::register::NextIds;
use ostrog_core::register::journal::Entry;
use std::collections::HashSet;

/// What an entry is kept in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Table {
    Entities,
    Grants,
    Activations,
    TenantRoles,
}

/// Entries that follow each other and do the same, each to another row: one statement.
#[derive(Debug)]
struct Run {
    table: Table,
    ends: bool,
    keys: Vec<String>,
    docs: Vec<Vec<u8>>,
}

/// Most entries of one statement.
const MAX_RUN: usize = 2_000;

/// The row that an entry is about, and whether it ends it.
fn row(entry: &Entry) -> Option<(Table, bool, String)> {
    Some(match entry {
        Entry::Entity(line) => (Table::Entities, false, line.name.clone()),
        Entry::Deleted(name) => (Table::Entities, true, name.clone()),
        Entry::Grant(line) => (Table::Grants, false, line.id.clone().unwrap_or_default()),
        Entry::GrantEnded { id, .. } => (Table::Grants, true, id.clone()),
        Entry::Activation(line) => (Table::Activations, false, line.id.clone().unwrap_or_default()),
        Entry::ActivationEnded { id, .. } => (Table::Activations, true, id.clone()),
        Entry::TenantRole(line) => {
            let id = line.tenant.split_once(':').map_or("", |(_, id)| id);
            (Table::TenantRoles, false, made_role_name(id, &line.key))
        }
        Entry::TenantRoleEnded(name) => (Table::TenantRoles, true, name.clone()),
        Entry::Next(_) | Entry::Note(_) => return None,
    })
}

fn runs(entries: &[Entry]) -> Vec<Run> {
    let mut runs: Vec<Run> = Vec::new();
    let mut seen: HashSet<String> = HashSet::new();
    for entry in entries {
        let Some((table, ends, key)) = row(entry) else { continue };
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
            if !ends {
                run.docs.push(entry.to_json().to_string().into_bytes());
            }
        }
    }
    runs
}

impl Write {
    /// Keeps the tables in step with entries.
    pub(crate) async fn keep(&mut self, entries: &[Entry], position: i64) -> Result<()> {
        for run in runs(entries) {
            self.keep_run(&run, position).await?;
        }
        if let Some(next) = entries.iter().rev().find_map(|entry| match entry {
            Entry::Next(next) => Some(*next),
            _ => None,
        }) {
            self.keep_next(next).await?;
        }
        Ok(())
    }

    async fn keep_run(&mut self, run: &Run, position: i64) -> Result<()> {
        let (into, key) = match run.table {
            Table::Entities => ("entities", "name"),
            Table::Grants => ("grants", "id"),
            Table::Activations => ("activations", "id"),
            Table::TenantRoles => ("tenant_roles", "key"),
        };
        let statement = match (run.table, run.ends) {
            (Table::Entities, false) => "insert into entities (name, doc, deleted, position)
                 select name, doc, false, $3 from unnest($1::text[], $2::bytea[]) as line (name, doc)
                 on conflict (name) do update set doc = excluded.doc, deleted = false, position = $3"
                .to_owned(),
            (Table::Entities, true) => "insert into entities (name, doc, deleted, position)
                 select name, null, true, $2 from unnest($1::text[]) as line (name)
                 on conflict (name) do update set doc = null, deleted = true, position = $2"
                .to_owned(),
            (_, false) => format!(
                "insert into {into} ({key}, doc, position)
                 select key, doc, $3 from unnest($1::text[], $2::bytea[]) as line (key, doc)
                 on conflict ({key}) do update set doc = excluded.doc, position = $3"
            ),
            (_, true) => format!("delete from {into} where {key} = any($1) and $2 >= 0"),
        };
        // Made of the words above alone.
        let query = sqlx::query(sqlx::AssertSqlSafe(statement)).bind(&run.keys);
        let query = if run.ends { query } else { query.bind(&run.docs) };
        query.bind(position).execute(self.connection()).await?;
        Ok(())
    }

    /// Keeps the numbers that are given next.
    async fn keep_next(&mut self, next: NextIds) -> Result<()> {
        sqlx::query(
            "update workspace set next_grant = greatest(next_grant, $1),
                    next_activation = greatest(next_activation, $2)",
        )
        .bind(i64::try_from(next.grant).unwrap_or(i64::MAX))
        .bind(i64::try_from(next.activation).unwrap_or(i64::MAX))
        .execute(self.connection())
        .await?;
        Ok(())
    }

    /// Empties the tables of the register: to be filled anew.
    pub(crate) async fn forget_register(&mut self) -> Result<()> {
        for table in ["entities", "grants", "activations", "tenant_roles"] {
            let statement = format!("delete from {table}");
            sqlx::query(sqlx::AssertSqlSafe(statement)).execute(self.connection()).await?;
        }
        Ok(())
    }
}
