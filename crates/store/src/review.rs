//! Approvals, returns and remarks: of drafts (`D-1`), of settings (`S-1`), of revisions that went live urgently
//! (`R-1`).

use crate::journal::Kind;
use crate::workspace::Write;
use crate::{By, Error, Result, Store, moment, moment_if_any, sql};
use jiff::Timestamp;
use ostrog_core::source::Digest;
use serde_json::{Value, json};
use sqlx::Row as _;
use sqlx::postgres::PgRow;

/// What somebody said of a draft.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// It may become a revision.
    Approve,
    /// Its editors are to look at it again.
    Return,
}

/// Exactly what an approval is of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Bound {
    /// The digest of the text.
    pub digest: Digest,
    /// The digest of the rehearsal's files.
    pub files: Digest,
    /// The number of the report, if there had to be one.
    pub report: Option<i64>,
}

/// An approval or a return.
#[derive(Clone, Debug)]
pub struct Review {
    /// 1, 2, 3 …
    pub number: i64,
    /// Of what: `D-1`.
    pub subject: String,
    /// What was said.
    pub verdict: Verdict,
    /// Who said it.
    pub actor: String,
    /// As whom they count.
    pub persons: Vec<String>,
    /// Why.
    pub note: Option<String>,
    /// What it is of; of a return, nothing.
    pub bound: Option<Bound>,
    /// What was accepted, with its notes.
    pub accepted: Value,
    /// When.
    pub created_at: Timestamp,
    /// Since when, and why, it counts no more.
    pub voided: Option<(Timestamp, String)>,
}

/// A remark.
#[derive(Clone, Debug)]
pub struct Comment {
    /// 1, 2, 3 …
    pub number: i64,
    /// On which line of which file, if on one.
    pub at: Option<(String, i32)>,
    /// What it says.
    pub text: String,
    /// Who says so.
    pub author: String,
    /// When.
    pub created_at: Timestamp,
}

impl Store {
    /// What was said of something, oldest first.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn reviews(&self, subject: &str) -> Result<Vec<Review>> {
        let rows = sqlx::query("select * from reviews where subject = $1 order by number")
            .bind(subject)
            .fetch_all(&self.pool)
            .await?;
        rows.iter().map(review).collect()
    }

    /// Remarks on a draft, oldest first.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn comments(&self, draft: i64) -> Result<Vec<Comment>> {
        let rows = sqlx::query("select * from comments where draft = $1 order by number")
            .bind(draft)
            .fetch_all(&self.pool)
            .await?;
        let comment = |row: &PgRow| {
            let at = row.try_get::<Option<String>, _>("path")?.zip(row.try_get::<Option<i32>, _>("line")?);
            Ok(Comment {
                number: row.try_get("number")?,
                at,
                text: row.try_get("text")?,
                author: row.try_get("author")?,
                created_at: moment(row, "created_at")?,
            })
        };
        rows.iter().map(comment).collect()
    }
}

fn review(row: &PgRow) -> Result<Review> {
    let digest = |column: &str| -> Result<Option<Digest>> {
        let bytes: Option<Vec<u8>> = row.try_get(column)?;
        bytes
            .map(|bytes| {
                let bytes = bytes.try_into();
                bytes.map(Digest).map_err(|_| Error::Unreadable("a digest has 32 bytes".to_owned()))
            })
            .transpose()
    };
    let report = row.try_get("report")?;
    let bound = digest("digest")?.zip(digest("files")?);
    let verdict: &str = row.try_get("verdict")?;
    Ok(Review {
        number: row.try_get("number")?,
        subject: row.try_get("subject")?,
        verdict: if verdict == "approve" { Verdict::Approve } else { Verdict::Return },
        actor: row.try_get("actor")?,
        persons: row.try_get("persons")?,
        note: row.try_get("note")?,
        bound: bound.map(|(digest, files)| Bound { digest, files, report }),
        accepted: row.try_get("accepted")?,
        created_at: moment(row, "created_at")?,
        voided: moment_if_any(row, "voided_at")?
            .zip(Some(row.try_get::<Option<String>, _>("voided")?.unwrap_or_default())),
    })
}

impl Write {
    /// What was said of something, oldest first.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn reviews(&mut self, subject: &str) -> Result<Vec<Review>> {
        let rows = sqlx::query("select * from reviews where subject = $1 order by number")
            .bind(subject)
            .fetch_all(self.connection())
            .await?;
        rows.iter().map(review).collect()
    }

    /// Keeps an approval, of exactly this.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn approve(
        &mut self,
        subject: &str,
        bound: &Bound,
        accepted: &Value,
        note: Option<&str>,
        by: &By,
    ) -> Result<i64> {
        self.keep_review(subject, Verdict::Approve, Some(bound), accepted, note, by).await
    }

    /// Keeps that something was returned.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn give_back(&mut self, subject: &str, note: &str, by: &By) -> Result<i64> {
        self.keep_review(subject, Verdict::Return, None, &json!([]), Some(note), by).await
    }

    async fn keep_review(
        &mut self,
        subject: &str,
        verdict: Verdict,
        bound: Option<&Bound>,
        accepted: &Value,
        note: Option<&str>,
        by: &By,
    ) -> Result<i64> {
        let word = if verdict == Verdict::Approve { "approve" } else { "return" };
        let number: i64 = sqlx::query_scalar(
            "insert into reviews (subject, verdict, actor, persons, note, digest, files, report, accepted,
                                  created_at)
             values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) returning number",
        )
        .bind(subject)
        .bind(word)
        .bind(&by.actor)
        .bind(&by.counts_as)
        .bind(note)
        .bind(bound.map(|bound| bound.digest.0.to_vec()))
        .bind(bound.map(|bound| bound.files.0.to_vec()))
        .bind(bound.and_then(|bound| bound.report))
        .bind(accepted)
        .bind(sql(by.at))
        .fetch_one(self.connection())
        .await?;
        let line = json!({
            "review": subject, "verdict": word, "note": note, "counts-as": by.counts_as,
            "digest": bound.map(|bound| bound.digest.to_string()),
            "files": bound.map(|bound| bound.files.to_string()),
            "report": bound.and_then(|bound| bound.report),
            "accepted": accepted,
        });
        self.record_line(Kind::Review, &line, &by.actor, by.at).await?;
        Ok(number)
    }

    /// Approvals of something count no more, and why. Gives how many did.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn void(&mut self, subject: &str, why: &str, by: &By) -> Result<u64> {
        let voided = sqlx::query(
            "update reviews set voided = $2, voided_at = $3
             where subject = $1 and verdict = 'approve' and voided_at is null",
        )
        .bind(subject)
        .bind(why)
        .bind(sql(by.at))
        .execute(self.connection())
        .await?
        .rows_affected();
        if voided > 0 {
            let line = json!({ "review": subject, "voided": voided, "why": why });
            self.record_line(Kind::Review, &line, &by.actor, by.at).await?;
        }
        Ok(voided)
    }

    /// Keeps a remark; gives its number.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn comment(&mut self, draft: i64, at: Option<(&str, i32)>, text: &str, by: &By) -> Result<i64> {
        let number: i64 = sqlx::query_scalar(
            "insert into comments (draft, path, line, text, author, created_at)
             values ($1, $2, $3, $4, $5, $6) returning number",
        )
        .bind(draft)
        .bind(at.map(|(path, _)| path))
        .bind(at.map(|(_, line)| line))
        .bind(text)
        .bind(&by.actor)
        .bind(sql(by.at))
        .fetch_one(self.connection())
        .await?;
        let line = json!({ "draft": draft, "comment": number, "at": at, "text": text });
        self.record_line(Kind::Review, &line, &by.actor, by.at).await?;
        Ok(number)
    }

    /// A revision that went live urgently is approved now.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn approved_after_all(&mut self, revision: i64, accepted: &Value, by: &By) -> Result<()> {
        sqlx::query("update revisions set approved = true, accepted = $2 where number = $1")
            .bind(revision)
            .bind(accepted)
            .execute(self.connection())
            .await?;
        let line = json!({ "revision": revision, "approved": true });
        self.record_line(Kind::Review, &line, &by.actor, by.at).await?;
        Ok(())
    }

    /// A draft became a revision.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn numbered(&mut self, draft: i64, revision: i64, by: &By) -> Result<()> {
        let line = json!({ "draft": draft, "revision": revision });
        self.record_line(Kind::Review, &line, &by.actor, by.at).await?;
        Ok(())
    }
}
