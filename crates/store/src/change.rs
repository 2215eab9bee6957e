//! What happened, by position.

use crate::{MOMENT_FORMAT, Result, Store, moment};
use jiff::Timestamp;
use serde_json::Value;
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
    /// How many lines there are in all, where only some are told.
    pub count: i64,
}

/// How many lines are told of one change, where not all of them are.
const FEW: i32 = 20;

impl Store {
    /// Changes before a position, newest first; all if none is given. `few` tells the first lines of
    /// each only.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn changes_before(&self, before: Option<i64>, limit: i64, few: bool) -> Result<Vec<Change>> {
        let rows = sqlx::query(
            "select position, to_char(at at time zone 'utc', $1) as at, actor, kind,
                    jsonb_array_length(lines)::bigint as count,
                    case when $4 then jsonb_path_query_array(lines, '$[0 to $end]', jsonb_build_object('end', $5 - 1))
                         else lines end as lines
             from changes where position < $2 order by position desc limit $3",
        )
        .bind(MOMENT_FORMAT)
        .bind(before.unwrap_or(i64::MAX))
        .bind(limit)
        .bind(few)
        .bind(FEW)
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(read).collect()
    }

    /// Changes whose lines name an entity, or end a grant that named it, newest first; of each only
    /// those lines, the first of them, with its note.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn changes_about(&self, name: &str, before: Option<i64>, limit: i64) -> Result<Vec<Change>> {
        // The line that ends a grant names nothing else: the grants of late are looked up first.
        let mut names: Vec<String> = sqlx::query_scalar(
            "select distinct id #>> '{}' from
                 (select lines from change_names join changes using (position)
                  where name = $1 order by position desc limit 50) as late,
                 jsonb_path_query(lines, '$[*].grant ? (@.to == $n || @.at == $n).id', jsonb_build_object('n', $1)) as id
             limit 1000",
        )
        .bind(name)
        .fetch_all(&self.pool)
        .await?;
        let grants = Value::from(names.clone());
        names.push(name.to_owned());
        let rows = sqlx::query(
            "select position, to_char(at at time zone 'utc', $1) as at, actor, kind,
                    jsonb_array_length(own)::bigint as count,
                    jsonb_path_query_array(own, '$[0 to $end]', jsonb_build_object('end', $6 - 1)) as lines
             from (select distinct position from change_names
                   where name = any($4) and position < $2 order by position desc limit $3) as found
             join changes using (position),
             jsonb_path_query_array(lines,
                 '$[*] ? (@.entity == $n || @.delete == $n || @.grant.to == $n || @.grant.at == $n
                          || @.activation.subject == $n || @.\"end-grant\" == $grants[*] || exists(@.note))',
                 jsonb_build_object('n', $5::text, 'grants', $7::jsonb)) as own
             order by position desc",
        )
        .bind(MOMENT_FORMAT)
        .bind(before.unwrap_or(i64::MAX))
        .bind(limit)
        .bind(&names)
        .bind(name)
        .bind(FEW)
        .bind(grants)
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
        count: row.try_get("count")?,
    })
}
