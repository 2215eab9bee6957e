//! Revisions: charters as they were rolled out, numbered from 1, never changed.

use crate::workspace::Write;
use crate::{By, Error, Result, Store, moment, moment_if_any, sql};
use jiff::Timestamp;
use ostrog_core::source::{Digest, SourceFile, Sources};
use serde_json::Value;
use sqlx::types::Json;
use sqlx::{PgConnection, Row as _};
use std::collections::BTreeMap;

/// A revision with its files.
#[derive(Clone, Debug)]
pub struct Revision {
    /// What identifies it to people.
    pub info: RevisionInfo,
    /// Its text.
    pub sources: Sources,
}

/// A revision without its files.
#[derive(Clone, Debug)]
pub struct RevisionInfo {
    /// 1, 2, 3 …
    pub number: i64,
    /// SHA-256 of its files.
    pub digest: Digest,
    /// What its author said of it.
    pub title: String,
    /// Who made it.
    pub author: String,
    /// When.
    pub created_at: Timestamp,
    /// How far it may go.
    pub standing: Standing,
}

/// How far a revision may go, and what it was approved on.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Standing {
    /// Approved as the settings said, or put live while nobody had to approve.
    pub approved: bool,
    /// Put live without an approval.
    pub urgent: bool,
    /// Since when, and why, it never goes live again.
    pub barred: Option<(Timestamp, String)>,
    /// Everybody who edited it, as whom they count.
    pub editors: Vec<String>,
    /// By application, what it was approved on.
    pub bases: BTreeMap<String, i64>,
    /// The draft it was.
    pub draft: Option<i64>,
    /// What approvers accepted of what it changes.
    pub accepted: Value,
    /// The number of the rehearsal's files it was approved with.
    pub rehearsal: Option<i64>,
}

impl Store {
    /// One revision with its files.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn revision(&self, number: i64) -> Result<Option<Revision>> {
        let mut connection = self.pool.acquire().await?;
        read(&mut connection, number).await
    }

    /// All revisions, newest first.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn revisions(&self, limit: i64) -> Result<Vec<RevisionInfo>> {
        let rows = sqlx::query("select * from revisions order by number desc limit $1")
            .bind(limit)
            .fetch_all(&self.pool)
            .await?;
        rows.iter().map(info).collect()
    }
}

impl Write {
    /// Keeps a charter as the next revision.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn add_revision(
        &mut self,
        sources: &Sources,
        title: &str,
        standing: &Standing,
        by: &By,
    ) -> Result<i64> {
        let digest = ostrog_core::charter::digest(sources);
        let row = sqlx::query(
            "insert into revisions (number, digest, title, author, created_at, approved, urgent, editors,
                                    bases, draft, accepted, rehearsal)
             values ((select coalesce(max(number), 0) + 1 from revisions), $1, $2, $3, $4, $5, $6, $7, $8,
                     $9, $10, $11)
             returning number",
        )
        .bind(digest.0.as_slice())
        .bind(title)
        .bind(&by.actor)
        .bind(sql(by.at))
        .bind(standing.approved)
        .bind(standing.urgent)
        .bind(&standing.editors)
        .bind(Json(&standing.bases))
        .bind(standing.draft)
        .bind(&standing.accepted)
        .bind(standing.rehearsal)
        .fetch_one(self.connection())
        .await?;
        let number: i64 = row.try_get("number")?;
        for file in sources.files() {
            sqlx::query("insert into revision_files (revision, path, content) values ($1, $2, $3)")
                .bind(number)
                .bind(&file.path)
                .bind(&file.text)
                .execute(self.connection())
                .await?;
        }
        Ok(number)
    }
}

pub(crate) async fn read(connection: &mut PgConnection, number: i64) -> Result<Option<Revision>> {
    let row = sqlx::query("select * from revisions where number = $1")
        .bind(number)
        .fetch_optional(&mut *connection)
        .await?;
    let Some(row) = row else { return Ok(None) };
    let info = info(&row)?;
    let rows = sqlx::query("select path, content from revision_files where revision = $1 order by path")
        .bind(number)
        .fetch_all(&mut *connection)
        .await?;
    let mut files = Vec::new();
    for row in rows {
        files.push(SourceFile { path: row.try_get("path")?, text: row.try_get("content")? });
    }
    let sources = Sources::new(files);
    if ostrog_core::charter::digest(&sources) != info.digest {
        return Err(Error::Unreadable(format!("revision {number} is not what its digest says")));
    }
    Ok(Some(Revision { info, sources }))
}

fn info(row: &sqlx::postgres::PgRow) -> Result<RevisionInfo> {
    let digest: Vec<u8> = row.try_get("digest")?;
    let digest = digest.try_into().map_err(|_| Error::Unreadable("a digest has 32 bytes".to_owned()))?;
    Ok(RevisionInfo {
        number: row.try_get("number")?,
        digest: Digest(digest),
        title: row.try_get("title")?,
        author: row.try_get("author")?,
        created_at: moment(row, "created_at")?,
        standing: Standing {
            approved: row.try_get("approved")?,
            urgent: row.try_get("urgent")?,
            barred: moment_if_any(row, "barred_at")?
                .zip(Some(row.try_get::<Option<String>, _>("barred")?.unwrap_or_default())),
            editors: row.try_get("editors")?,
            bases: row.try_get::<Json<_>, _>("bases")?.0,
            draft: row.try_get("draft")?,
            accepted: row.try_get("accepted")?,
            rehearsal: row.try_get("rehearsal")?,
        },
    })
}
