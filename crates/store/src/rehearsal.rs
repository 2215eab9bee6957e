//! The rehearsal's files, and rehearsals that were run.

use crate::journal::Kind;
use crate::workspace::Write;
use crate::{By, Result, Store, moment, moment_if_any, sql};
use jiff::Timestamp;
use ostrog_core::source::Digest;
use serde_json::{Value, json};
use sqlx::Row as _;
use sqlx::types::Json;
use std::collections::BTreeMap;

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

/// What a run is of: exactly this text and these files, held against this.
#[derive(Clone, Debug)]
pub struct Of {
    /// Which text, as people call it.
    pub name: String,
    /// The digest of the text.
    pub digest: Digest,
    /// The digest of the rehearsal's files and of the cases that were kept.
    pub files: Digest,
    /// By application, the revision it is held against.
    pub against: BTreeMap<String, i64>,
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
    /// Everybody who gains or loses, line by line.
    pub moved: Value,
}

/// What a run was of, and what it found.
#[derive(Clone, Debug)]
pub struct Report {
    /// Its number.
    pub number: i64,
    /// What it was of.
    pub of: Of,
    /// What it found.
    pub found: Found,
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
            "select holds, words, report, page, junit, moved from rehearsal_runs where number = $1 and ended_at is not null and report is not null",
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
                moved: row.try_get::<Option<Value>, _>("moved")?.unwrap_or_default(),
            })
        };
        row.map(found).transpose()
    }

    /// The last run of exactly a text with exactly some files that came to an end.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn report_of(&self, digest: Digest, files: Digest) -> Result<Option<Report>> {
        let row = sqlx::query(
            "select number, of, holds, words, report, moved, against from rehearsal_runs
             where digest = $1 and files = $2 and report is not null and moved is not null
             order by number desc limit 1",
        )
        .bind(digest.0.as_slice())
        .bind(files.0.as_slice())
        .fetch_optional(&self.pool)
        .await?;
        let report = |row: sqlx::postgres::PgRow| {
            let of = Of {
                name: row.try_get("of")?,
                digest,
                files,
                against: row.try_get::<Json<_>, _>("against")?.0,
            };
            let found = Found {
                holds: row.try_get("holds")?,
                words: row.try_get("words")?,
                report: row.try_get("report")?,
                moved: row.try_get("moved")?,
                ..Found::default()
            };
            Ok(Report { number: row.try_get("number")?, of, found })
        };
        row.map(report).transpose()
    }

    /// The rehearsal's files, and the cases that were kept, as they counted at a moment.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn checks_at(&self, at: Timestamp) -> Result<(Option<Value>, Vec<Value>)> {
        let files: Option<Value> = sqlx::query_scalar(
            "select files from rehearsal_texts where created_at <= $1 order by number desc limit 1",
        )
        .bind(sql(at))
        .fetch_optional(&self.pool)
        .await?;
        let cases: Vec<Value> = sqlx::query_scalar(
            "select body from cases where created_at <= $1 and (ended_at is null or ended_at > $1)
             order by number",
        )
        .bind(sql(at))
        .fetch_all(&self.pool)
        .await?;
        Ok((files, cases))
    }

    /// Everybody who saved files of the rehearsal, or kept or took cases, since a moment.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn rehearsal_editors(&self, since: Timestamp) -> Result<Vec<String>> {
        Ok(sqlx::query_scalar(
            "select distinct unnest(persons) from (
                 select persons from rehearsal_texts where created_at >= $1
                 union all select persons from cases where created_at >= $1 or ended_at >= $1
             ) as saved",
        )
        .bind(sql(since))
        .fetch_all(&self.pool)
        .await?)
    }
}

impl Write {
    /// Saves the rehearsal's files.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn save_rehearsal(&mut self, files: &Value, by: &By) -> Result<i64> {
        let row = sqlx::query(
            "insert into rehearsal_texts (files, author, created_at, persons) values ($1, $2, $3, $4)
             returning number",
        )
        .bind(files)
        .bind(&by.actor)
        .bind(sql(by.at))
        .bind(&by.counts_as)
        .fetch_one(self.connection())
        .await?;
        let number: i64 = row.try_get("number")?;
        let line = json!({ "rehearsal-text": number });
        self.record_line(Kind::Rehearsal, &line, &by.actor, by.at).await?;
        Ok(number)
    }

    /// Notes that a rehearsal begins. Gives its number.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn begin_rehearsal(&mut self, of: &Of, actor: &str, at: Timestamp) -> Result<i64> {
        let row = sqlx::query(
            "insert into rehearsal_runs (of, author, started_at, digest, files, against)
             values ($1, $2, $3, $4, $5, $6) returning number",
        )
        .bind(&of.name)
        .bind(actor)
        .bind(sql(at))
        .bind(of.digest.0.as_slice())
        .bind(of.files.0.as_slice())
        .bind(Json(&of.against))
        .fetch_one(self.connection())
        .await?;
        let number: i64 = row.try_get("number")?;
        let line = json!({ "rehearsal": number, "of": of.name });
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
                    page = $6, junit = $7, moved = $8
             where number = $1",
        )
        .bind(number)
        .bind(sql(at))
        .bind(found.is_ok_and(|found| found.holds))
        .bind(&words)
        .bind(found.ok().map(|found| &found.report))
        .bind(found.ok().map(|found| &found.page))
        .bind(found.ok().map(|found| &found.junit))
        .bind(found.ok().map(|found| &found.moved))
        .execute(self.connection())
        .await?;
        let line = json!({ "rehearsal": number, "found": words });
        self.record_line(Kind::Rehearsal, &line, actor, at).await?;
        Ok(())
    }
}
