//! Drafts: texts under way, several side by side.

use crate::journal::Kind;
use crate::workspace::Write;
use crate::{By, Error, Result, Store, moment, moment_if_any, sql};
use jiff::Timestamp;
use ostrog_core::source::{Digest, SourceFile, Sources};
use serde_json::json;
use sqlx::Row as _;
use sqlx::postgres::PgRow;
use sqlx::types::Json;
use std::collections::{BTreeMap, BTreeSet};

/// A draft without its files.
#[derive(Clone, Debug)]
pub struct DraftInfo {
    /// 1, 2, 3 …; people say `D-1`.
    pub number: i64,
    /// What it is about.
    pub title: String,
    /// The revision it began from, if any was live: the one that was put live last.
    pub base: Option<i64>,
    /// By application, what was live when it began.
    pub bases: BTreeMap<String, i64>,
    /// Everybody who saved it.
    pub authors: Vec<String>,
    /// Everybody that these count as.
    pub editors: Vec<String>,
    /// SHA-256 of its files.
    pub digest: Digest,
    /// When it was begun.
    pub created_at: Timestamp,
    /// When it was last saved.
    pub saved_at: Timestamp,
    /// When it was discarded, if it was.
    pub discarded_at: Option<Timestamp>,
}

/// A draft with its files.
#[derive(Clone, Debug)]
pub struct Draft {
    /// What identifies it to people.
    pub info: DraftInfo,
    /// Its text.
    pub sources: Sources,
}

/// What the new text of a draft was made from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Onto {
    /// What its text before was made from.
    Base,
    /// What is live now.
    Live,
}

const COLUMNS: &str = "number, title, base, bases, authors, editors, digest,
    created_at,
    saved_at,
    ended_at";
/// How long a discarded draft can be taken back.
const KEPT: &str = "interval '30 days'";

impl Store {
    /// Drafts that have not ended, newest first.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn drafts(&self) -> Result<Vec<DraftInfo>> {
        let text = format!("select {COLUMNS} from drafts where ended_at is null order by number desc");
        let rows = sqlx::query(sqlx::AssertSqlSafe(text)).fetch_all(&self.pool).await?;
        rows.iter().map(info).collect()
    }

    /// Drafts that were discarded and can still be taken back, the last one first.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn discarded_drafts(&self) -> Result<Vec<DraftInfo>> {
        let text = format!(
            "select {COLUMNS} from drafts
             where revision is null and ended_at > now() - {KEPT} order by ended_at desc limit 100"
        );
        let rows = sqlx::query(sqlx::AssertSqlSafe(text)).fetch_all(&self.pool).await?;
        rows.iter().map(info).collect()
    }

    /// A draft that has not ended.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn draft(&self, number: i64) -> Result<Option<Draft>> {
        let mut transaction = self.pool.begin().await?;
        let text = format!("select {COLUMNS} from drafts where ended_at is null and number = $1");
        let row =
            sqlx::query(sqlx::AssertSqlSafe(text)).bind(number).fetch_optional(&mut *transaction).await?;
        let Some(row) = row else { return Ok(None) };
        let rows = sqlx::query("select path, content from draft_files where draft = $1 order by path")
            .bind(number)
            .fetch_all(&mut *transaction)
            .await?;
        let files = rows
            .iter()
            .map(|row| Ok(SourceFile { path: row.try_get("path")?, text: row.try_get("content")? }));
        let sources = Sources::new(files.collect::<Result<_>>()?);
        Ok(Some(Draft { info: info(&row)?, sources }))
    }
}

fn info(row: &PgRow) -> Result<DraftInfo> {
    let digest: Vec<u8> = row.try_get("digest")?;
    let digest = digest.try_into().map_err(|_| Error::Unreadable("a digest has 32 bytes".to_owned()))?;
    Ok(DraftInfo {
        number: row.try_get("number")?,
        title: row.try_get("title")?,
        base: row.try_get("base")?,
        bases: row.try_get::<Json<_>, _>("bases")?.0,
        authors: row.try_get("authors")?,
        editors: row.try_get("editors")?,
        digest: Digest(digest),
        created_at: moment(row, "created_at")?,
        saved_at: moment(row, "saved_at")?,
        discarded_at: moment_if_any(row, "ended_at")?,
    })
}

impl Write {
    /// Keeps a draft: a new one, or a new text of one that has not ended; none if that is gone. Whoever saved a
    /// draft of the same text before, as it stood when it ended, counts among its editors.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn save_draft(
        &mut self,
        number: Option<(i64, Onto)>,
        sources: &Sources,
        title: &str,
        by: &By,
    ) -> Result<Option<i64>> {
        let digest = ostrog_core::charter::digest(sources);
        let live = self.live().await?;
        let heirs: Vec<String> = sqlx::query_scalar(
            "select distinct unnest(editors) from drafts where ended_at is not null and digest = $1",
        )
        .bind(digest.0.as_slice())
        .fetch_all(self.connection())
        .await?;
        let editors: BTreeSet<String> = by.counts_as.iter().cloned().chain(heirs).collect();
        let editors: Vec<String> = editors.into_iter().collect();
        let row =
            match number {
                None => sqlx::query(
                    "insert into drafts (title, base, bases, authors, editors, digest, created_at, saved_at)
                     values ($1, $5, $6, array[$2], $7, $3, $4, $4)
                     returning number",
                )
                .bind(title)
                .bind(&by.actor)
                .bind(digest.0.as_slice())
                .bind(sql(by.at))
                .bind(live.last)
                .bind(Json(&live.of))
                .bind(&editors)
                .fetch_optional(self.connection())
                .await?,
                Some((number, onto)) => {
                    sqlx::query(
                        "update drafts set title = $1, digest = $3, saved_at = $4,
                            base = case when $6 then $7 else base end,
                            bases = case when $6 then $8 else bases end,
                            authors = case when $2 = any(authors) then authors else authors || $2 end,
                            editors = array(select distinct unnest(editors || $9))
                     where number = $5 and ended_at is null returning number",
                    )
                    .bind(title)
                    .bind(&by.actor)
                    .bind(digest.0.as_slice())
                    .bind(sql(by.at))
                    .bind(number)
                    .bind(onto == Onto::Live)
                    .bind(live.last)
                    .bind(Json(&live.of))
                    .bind(&editors)
                    .fetch_optional(self.connection())
                    .await?
                }
            };
        let Some(row) = row else { return Ok(None) };
        let number: i64 = row.try_get("number")?;
        sqlx::query("delete from draft_files where draft = $1")
            .bind(number)
            .execute(self.connection())
            .await?;
        for file in sources.files() {
            sqlx::query("insert into draft_files (draft, path, content) values ($1, $2, $3)")
                .bind(number)
                .bind(&file.path)
                .bind(&file.text)
                .execute(self.connection())
                .await?;
        }
        let line = json!({ "draft": number, "saved": title, "digest": digest.to_string() });
        self.record_line(Kind::Draft, &line, &by.actor, by.at).await?;
        Ok(Some(number))
    }

    /// Ends a draft: discarded, or live as a revision. False if it had ended.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn end_draft(
        &mut self,
        number: i64,
        revision: Option<i64>,
        actor: &str,
        at: Timestamp,
    ) -> Result<bool> {
        let ended = sqlx::query(
            "update drafts set ended_at = $2, revision = $3
             where number = $1 and ended_at is null",
        )
        .bind(number)
        .bind(sql(at))
        .bind(revision)
        .execute(self.connection())
        .await?
        .rows_affected()
            > 0;
        if ended && revision.is_none() {
            let line = json!({ "draft": number, "discarded": true });
            self.record_line(Kind::Draft, &line, actor, at).await?;
        }
        Ok(ended)
    }

    /// Takes a discarded draft back. False if it was not discarded, or too long ago.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn restore_draft(&mut self, number: i64, actor: &str, at: Timestamp) -> Result<bool> {
        let text = format!(
            "update drafts set ended_at = null
             where number = $1 and revision is null and ended_at > now() - {KEPT}"
        );
        let done = sqlx::query(sqlx::AssertSqlSafe(text)).bind(number).execute(self.connection()).await?;
        if done.rows_affected() == 0 {
            return Ok(false);
        }
        let line = json!({ "draft": number, "restored": true });
        self.record_line(Kind::Draft, &line, actor, at).await?;
        Ok(true)
    }
}
