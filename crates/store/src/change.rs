//! What happened, by position.

use crate::{MOMENT_FORMAT, Result, Store, moment};
use jiff::Timestamp;
use serde_json::{Value, json};
use sqlx::Row as _;
use sqlx::postgres::PgRow;

/// One change.
#[derive(Clone, Debug)]
pub struct Change {
    /// 1, 2, 3 … without gaps.
    pub position: i64,
    /// When.
    pub at: Timestamp,
    /// Who: a key's id.
    pub actor: String,
    /// `register`, `rollout`, `draft`, `case`, `key`.
    pub kind: String,
    /// What.
    pub lines: Value,
}

impl Store {
    /// Changes before a position, newest first; all if none is given.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn changes_before(&self, before: Option<i64>, limit: i64) -> Result<Vec<Change>> {
        let rows = sqlx::query(
            "select position, to_char(at at time zone 'utc', $1) as at, actor, kind, lines
             from changes where position < $2 order by position desc limit $3",
        )
        .bind(MOMENT_FORMAT)
        .bind(before.unwrap_or(i64::MAX))
        .bind(limit)
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(read).collect()
    }

    /// Changes whose lines name an entity, newest first.
    ///
    /// Costs a look at changes from the newest on, until so many are found.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn changes_about(&self, name: &str, before: Option<i64>, limit: i64) -> Result<Vec<Change>> {
        let of_grants = [json!([{ "grant": { "to": name } }]), json!([{ "grant": { "at": name } }])];
        let ids: Vec<String> = sqlx::query_scalar(
            "select distinct line -> 'grant' ->> 'id' from changes, jsonb_array_elements(lines) as line
             where lines @> any($1) and (line -> 'grant' ->> 'to' = $2 or line -> 'grant' ->> 'at' = $2)
               and line -> 'grant' ->> 'id' is not null limit 1000",
        )
        .bind(of_grants.to_vec())
        .bind(name)
        .fetch_all(&self.pool)
        .await?;
        let mut about = vec![json!([{ "entity": name }]), json!([{ "delete": name }])];
        about.push(json!([{ "activation": { "subject": name } }]));
        about.extend(of_grants);
        // The line that ends a grant names nothing else.
        about.extend(ids.iter().map(|id| json!([{ "end-grant": id }])));
        let rows = sqlx::query(
            "select position, to_char(at at time zone 'utc', $1) as at, actor, kind, lines
             from changes where position < $2 and kind = 'register' and lines @> any($4)
             order by position desc limit $3",
        )
        .bind(MOMENT_FORMAT)
        .bind(before.unwrap_or(i64::MAX))
        .bind(limit)
        .bind(about)
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(read).collect()
    }
}

pub(crate) fn read(row: &PgRow) -> Result<Change> {
    Ok(Change {
        position: row.try_get("position")?,
        at: moment(row.try_get("at")?)?,
        actor: row.try_get("actor")?,
        kind: row.try_get("kind")?,
        lines: row.try_get("lines")?,
    })
}
