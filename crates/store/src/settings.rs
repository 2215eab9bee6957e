//! Settings of the workspace, as they were put: the last ones in force count.

use crate::journal::Kind;
use crate::workspace::Write;
use crate::{By, Result, Store, moment, moment_if_any, sql};
use jiff::Timestamp;
use serde_json::json;
use sha2::{Digest as _, Sha256};
use sqlx::postgres::PgRow;
use sqlx::{PgConnection, Row as _};

/// Settings as they were put.
#[derive(Clone, Debug)]
pub struct Put {
    /// 1, 2, 3 …; people say `S-1`.
    pub number: i64,
    /// The text.
    pub text: String,
    /// Who put them.
    pub author: String,
    /// As whom they count.
    pub persons: Vec<String>,
    /// Why.
    pub note: Option<String>,
    /// When.
    pub created_at: Timestamp,
    /// Since when they are in force, if they are or were.
    pub in_force_at: Option<Timestamp>,
    /// Since when, and why, they wait no more.
    pub ended: Option<(Timestamp, String)>,
}

impl Put {
    /// Whether they wait for approval.
    pub fn waits(&self) -> bool {
        self.in_force_at.is_none() && self.ended.is_none()
    }
}

impl Store {
    /// The last that were put, newest first.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn all_settings(&self, limit: i64) -> Result<Vec<Put>> {
        let rows = sqlx::query("select * from settings order by number desc limit $1")
            .bind(limit)
            .fetch_all(&self.pool)
            .await?;
        rows.iter().map(put).collect()
    }

    /// The ones in force, if any were put.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn settings(&self) -> Result<Option<Put>> {
        let mut connection = self.pool.acquire().await?;
        in_force(&mut connection).await
    }
}

/// The ones in force.
pub(crate) async fn in_force(connection: &mut PgConnection) -> Result<Option<Put>> {
    let row = sqlx::query(
        "select * from settings where in_force_at is not null order by in_force_at desc, number desc limit 1",
    )
    .fetch_optional(connection)
    .await?;
    row.as_ref().map(put).transpose()
}

fn put(row: &PgRow) -> Result<Put> {
    Ok(Put {
        number: row.try_get("number")?,
        text: row.try_get("text")?,
        author: row.try_get("author")?,
        persons: row.try_get("persons")?,
        note: row.try_get("note")?,
        created_at: moment(row, "created_at")?,
        in_force_at: moment_if_any(row, "in_force_at")?,
        ended: moment_if_any(row, "ended_at")?
            .zip(Some(row.try_get::<Option<String>, _>("ended")?.unwrap_or_default())),
    })
}

impl Write {
    /// The ones in force at the position this write begins at.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn settings(&mut self) -> Result<Option<Put>> {
        in_force(self.connection()).await
    }

    /// Some that were put.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn settings_put(&mut self, number: i64) -> Result<Option<Put>> {
        let row = sqlx::query("select * from settings where number = $1")
            .bind(number)
            .fetch_optional(self.connection())
            .await?;
        row.as_ref().map(put).transpose()
    }

    /// Keeps settings; in force at once, or waiting for approval. Whatever waited waits no more: it was made
    /// from others. Gives the number.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn put_settings(
        &mut self,
        text: &str,
        at_once: bool,
        note: Option<&str>,
        by: &By,
    ) -> Result<i64> {
        sqlx::query(
            "update settings set ended_at = $1, ended = 'others were put'
             where in_force_at is null and ended_at is null",
        )
        .bind(sql(by.at))
        .execute(self.connection())
        .await?;
        let digest: [u8; 32] = Sha256::digest(text).into();
        let number: i64 = sqlx::query_scalar(
            "insert into settings (text, digest, author, persons, note, created_at, in_force_at)
             values ($1, $2, $3, $4, $5, $6, case when $7 then $6 end) returning number",
        )
        .bind(text)
        .bind(digest.as_slice())
        .bind(&by.actor)
        .bind(&by.counts_as)
        .bind(note)
        .bind(sql(by.at))
        .bind(at_once)
        .fetch_one(self.connection())
        .await?;
        let line = json!({
            "settings": number, "in-force": at_once, "digest": hex::encode(digest), "text": text, "note": note,
        });
        self.record_line(Kind::Settings, &line, &by.actor, by.at).await?;
        Ok(number)
    }

    /// Settings that waited are in force now.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn settings_in_force(&mut self, number: i64, by: &By) -> Result<()> {
        sqlx::query("update settings set in_force_at = $2 where number = $1")
            .bind(number)
            .bind(sql(by.at))
            .execute(self.connection())
            .await?;
        let line = json!({ "settings": number, "in-force": true });
        self.record_line(Kind::Settings, &line, &by.actor, by.at).await?;
        Ok(())
    }

    /// Settings that waited are returned, or taken back. False if they did not wait.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn end_settings(&mut self, number: i64, why: &str, by: &By) -> Result<bool> {
        let ended = sqlx::query(
            "update settings set ended_at = $2, ended = $3
             where number = $1 and in_force_at is null and ended_at is null",
        )
        .bind(number)
        .bind(sql(by.at))
        .bind(why)
        .execute(self.connection())
        .await?
        .rows_affected()
            > 0;
        if ended {
            let line = json!({ "settings": number, "ended": why });
            self.record_line(Kind::Settings, &line, &by.actor, by.at).await?;
        }
        Ok(ended)
    }
}
