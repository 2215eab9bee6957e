//! The rehearsal's files, and rehearsals that were run.

use crate::journal::Kind;
use crate::workspace::Write;
use crate::{Result, Store, moment, moment_if_any, sql};
use jiff::Timestamp;
use serde_json::{Value, json};
use sqlx::Row as _;

/// Files as they were saved.
#[derive(Clone, Debug)]
pub struct Text {
    /// 1, 2, 3 …
    pub number: i64,
    /// `[{"path": …, "text": …}]`
    pub files: Value,
    /// Who saved them: a key's id.
    pub author: String,
    /// When.
    pub created_at: Timestamp,
}

/// A rehearsal that was run, or runs.
#[derive(Clone, Debug)]
pub struct Ran {
    /// 1, 2, 3 …
    pub number: i64,
    /// Which text.
    pub of: String,
    /// Who ran it: a key's id.
    pub author: String,
    /// When it began.
    pub started_at: Timestamp,
    /// When it ended, if it did.
    pub ended_at: Option<Timestamp>,
    /// Whether everything held.
    pub holds: Option<bool>,
    /// What it came to, in words.
    pub words: Option<String>,
}

/// What a run found, in the forms it is handed on.
#[derive(Clone, Debug, Default)]
pub struct Found {
    /// Whether everything held.
    pub holds: bool,
    /// In words.
    pub words: String,
    /// As JSON.
    pub report: Value,
    /// As a page.
    pub page: String,
    /// As JUnit XML.
    pub junit: String,
}

/// Runs told at a time.
const MAX_RUNS: i64 = 50;

impl Store {
    /// The files that count, if any were saved.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn rehearsal(&self) -> Result<Option<Text>> {
        let row = sqlx::query(
            "select number, files, author, created_at
             from rehearsal_texts order by number desc limit 1",
        )
        .fetch_optional(&self.pool)
        .await?;
        let text = |row: sqlx::postgres::PgRow| {
            Ok(Text {
                number: row.try_get("number")?,
                files: row.try_get("files")?,
                author: row.try_get("author")?,
                created_at: moment(&row, "created_at")?,
            })
        };
        row.map(text).transpose()
    }

    /// The last runs, newest first.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn rehearsals(&self) -> Result<Vec<Ran>> {
        let rows = sqlx::query(
            "select number, of, author, holds, words,
                    started_at,
                    ended_at
             from rehearsal_runs order by number desc limit $1",
        )
        .bind(MAX_RUNS)
        .fetch_all(&self.pool)
        .await?;
        let ran = |row: &sqlx::postgres::PgRow| {
            Ok(Ran {
                number: row.try_get("number")?,
                of: row.try_get("of")?,
                author: row.try_get("author")?,
                started_at: moment(row, "started_at")?,
                ended_at: moment_if_any(row, "ended_at")?,
                holds: row.try_get("holds")?,
                words: row.try_get("words")?,
            })
        };
        rows.iter().map(ran).collect()
    }

    /// What a run found; nothing where there is no such run, or it has not ended.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn rehearsed(&self, number: i64) -> Result<Option<Found>> {
        let row = sqlx::query(
            "select holds, words, report, page, junit from rehearsal_runs where number = $1 and ended_at is not null and report is not null",
        )
        .bind(number)
        .fetch_optional(&self.pool)
        .await?;
        let found = |row: sqlx::postgres::PgRow| {
            Ok(Found {
                holds: row.try_get("holds")?,
                words: row.try_get("words")?,
                report: row.try_get("report")?,
                page: row.try_get("page")?,
                junit: row.try_get("junit")?,
            })
        };
        row.map(found).transpose()
    }
}

impl Write {
    /// Saves the rehearsal's files.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn save_rehearsal(&mut self, files: &Value, actor: &str, at: Timestamp) -> Result<i64> {
        let row = sqlx::query(
            "insert into rehearsal_texts (files, author, created_at) values ($1, $2, $3) returning number",
        )
        .bind(files)
        .bind(actor)
        .bind(sql(at))
        .fetch_one(self.connection())
        .await?;
        let number: i64 = row.try_get("number")?;
        let line = json!({ "rehearsal-text": number });
        self.record_line(Kind::Rehearsal, &line, actor, at).await?;
        Ok(number)
    }

    /// Notes that a rehearsal begins. Gives its number.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn begin_rehearsal(&mut self, of: &str, actor: &str, at: Timestamp) -> Result<i64> {
        let row = sqlx::query(
            "insert into rehearsal_runs (of, author, started_at) values ($1, $2, $3) returning number",
        )
        .bind(of)
        .bind(actor)
        .bind(sql(at))
        .fetch_one(self.connection())
        .await?;
        let number: i64 = row.try_get("number")?;
        let line = json!({ "rehearsal": number, "of": of });
        self.record_line(Kind::Rehearsal, &line, actor, at).await?;
        Ok(number)
    }

    /// Notes how a rehearsal ended: with what it found, or with words for why it found nothing.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn end_rehearsal(
        &mut self,
        number: i64,
        found: std::result::Result<&Found, &str>,
        actor: &str,
        at: Timestamp,
    ) -> Result<()> {
        let words = found.map_or_else(str::to_owned, |found| found.words.clone());
        sqlx::query(
            "update rehearsal_runs set ended_at = $2, holds = $3, words = $4, report = $5,
                    page = $6, junit = $7
             where number = $1",
        )
        .bind(number)
        .bind(sql(at))
        .bind(found.is_ok_and(|found| found.holds))
        .bind(&words)
        .bind(found.ok().map(|found| &found.report))
        .bind(found.ok().map(|found| &found.page))
        .bind(found.ok().map(|found| &found.junit))
        .execute(self.connection())
        .await?;
        let line = json!({ "rehearsal": number, "found": words });
        self.record_line(Kind::Rehearsal, &line, actor, at).await?;
        Ok(())
    }
}
