//! Shadows: revisions that live questions are answered under beside, and how the answers differ.

use crate::journal::Kind;
use crate::workspace::Write;
use crate::{By, Result, Store, moment, moment_if_any, sql};
use jiff::Timestamp;
use serde_json::{Value, json};
use sqlx::postgres::PgRow;
use sqlx::{PgConnection, Row as _};

/// A shadow that was begun.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Shadow {
    /// 1, 2, 3 …
    pub number: i64,
    /// Under which revision.
    pub revision: i64,
    /// Whose questions.
    pub applications: Vec<String>,
    /// One in this many of them.
    pub one_in: i32,
    /// Of one processor's time, per mille.
    pub share: i32,
    /// Who began it.
    pub author: String,
    /// When.
    pub started_at: Timestamp,
    /// Until when, if it ends by itself.
    pub until: Option<Timestamp>,
    /// Since when, and why, it has ended.
    pub ended: Option<(Timestamp, String)>,
}

/// What was counted of a shadow.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Counts {
    /// Questions that were answered beside.
    pub asked: i64,
    /// Of these, those with another answer.
    pub differing: i64,
    /// Questions that there was no room for.
    pub dropped: i64,
    /// One in this many, where there was more to do than its share allows.
    pub one_in: i32,
}

/// Questions with another answer, all alike.
#[derive(Clone, Debug)]
pub struct Difference {
    /// The application whose key asked.
    pub application: String,
    /// What was asked for.
    pub permission: String,
    /// Whether it was allowed.
    pub allowed: bool,
    /// Why.
    pub reason: String,
    /// Why it is otherwise under the shadow's revision.
    pub shadow_reason: String,
    /// The question, without any token.
    pub question: Value,
    /// How often.
    pub times: i64,
    /// First.
    pub first_at: Timestamp,
    /// Last.
    pub last_at: Timestamp,
}

/// Most different questions that are kept of one shadow.
const MAX_KEPT: i64 = 10_000;
/// Most that are told.
const MAX_TOLD: i64 = 1_000;

fn shadow(row: &PgRow) -> Result<Shadow> {
    Ok(Shadow {
        number: row.try_get("number")?,
        revision: row.try_get("revision")?,
        applications: row.try_get("applications")?,
        one_in: row.try_get("one_in")?,
        share: row.try_get("share")?,
        author: row.try_get("author")?,
        started_at: moment(row, "started_at")?,
        until: moment_if_any(row, "until")?,
        ended: moment_if_any(row, "ended_at")?
            .zip(Some(row.try_get::<Option<String>, _>("ended")?.unwrap_or_default())),
    })
}

/// Those that have not ended.
pub(crate) async fn running(connection: &mut PgConnection) -> Result<Vec<Shadow>> {
    let rows = sqlx::query("select * from shadows where ended_at is null order by number")
        .fetch_all(connection)
        .await?;
    rows.iter().map(shadow).collect()
}

impl Store {
    /// Those that have not ended, oldest first.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn running_shadows(&self) -> Result<Vec<Shadow>> {
        let mut connection = self.pool.acquire().await?;
        running(&mut connection).await
    }

    /// The last ones, newest first, each with what was counted on all nodes.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn shadows(&self, limit: i64) -> Result<Vec<(Shadow, Counts)>> {
        let rows = sqlx::query(
            "select shadows.*, counted.* from shadows
             left join lateral (
                 select coalesce(sum(asked), 0)::bigint as asked,
                        coalesce(sum(differing), 0)::bigint as differing,
                        coalesce(sum(dropped), 0)::bigint as dropped,
                        coalesce(max(shadow_counts.one_in), 1) as now_one_in
                 from shadow_counts where shadow = shadows.number
             ) as counted on true
             order by number desc limit $1",
        )
        .bind(limit)
        .fetch_all(&self.pool)
        .await?;
        let both = |row: &PgRow| {
            let counts = Counts {
                asked: row.try_get("asked")?,
                differing: row.try_get("differing")?,
                dropped: row.try_get("dropped")?,
                one_in: row.try_get("now_one_in")?,
            };
            Ok((shadow(row)?, counts))
        };
        rows.iter().map(both).collect()
    }

    /// How answers differ, what is newly denied first, then by how often: at most a thousand.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn shadow_differences(&self, number: i64) -> Result<Vec<Difference>> {
        let rows = sqlx::query(
            "select * from shadow_differences where shadow = $1
             order by allowed desc, times desc, permission, digest limit $2",
        )
        .bind(number)
        .bind(MAX_TOLD)
        .fetch_all(&self.pool)
        .await?;
        let difference = |row: &PgRow| {
            Ok(Difference {
                application: row.try_get("application")?,
                permission: row.try_get("permission")?,
                allowed: row.try_get("allowed")?,
                reason: row.try_get("reason")?,
                shadow_reason: row.try_get("shadow_reason")?,
                question: row.try_get("question")?,
                times: row.try_get("times")?,
                first_at: moment(row, "first_at")?,
                last_at: moment(row, "last_at")?,
            })
        };
        rows.iter().map(difference).collect()
    }

    /// Adds to what a node counted of a shadow, and keeps what differs, as long as there is room for it. It is no
    /// write: nothing depends on it, and nobody waits for it.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn count_shadow(
        &self,
        number: i64,
        node: &str,
        counts: Counts,
        differences: &[(Vec<u8>, Difference)],
    ) -> Result<()> {
        let mut transaction = self.pool.begin().await?;
        sqlx::query(
            "insert into shadow_counts (shadow, node, asked, differing, dropped, one_in)
             values ($1, $2, $3, $4, $5, $6)
             on conflict (shadow, node) do update set asked = shadow_counts.asked + $3,
                 differing = shadow_counts.differing + $4, dropped = shadow_counts.dropped + $5, one_in = $6",
        )
        .bind(number)
        .bind(node)
        .bind(counts.asked)
        .bind(counts.differing)
        .bind(counts.dropped)
        .bind(counts.one_in)
        .execute(&mut *transaction)
        .await?;
        for (digest, one) in differences {
            sqlx::query(
                "insert into shadow_differences (shadow, digest, application, permission, allowed, reason,
                                                 shadow_reason, question, times, first_at, last_at)
                 select $1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11
                 where (select count(*) from shadow_differences where shadow = $1) < $12
                    or exists (select 1 from shadow_differences where shadow = $1 and digest = $2)
                 on conflict (shadow, digest) do update set times = shadow_differences.times + $9, last_at = $11",
            )
            .bind(number)
            .bind(digest)
            .bind(&one.application)
            .bind(&one.permission)
            .bind(one.allowed)
            .bind(&one.reason)
            .bind(&one.shadow_reason)
            .bind(&one.question)
            .bind(one.times)
            .bind(sql(one.first_at))
            .bind(sql(one.last_at))
            .bind(MAX_KEPT)
            .execute(&mut *transaction)
            .await?;
        }
        transaction.commit().await?;
        Ok(())
    }
}

impl Write {
    /// Begins a shadow; gives its number.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn begin_shadow(&mut self, shadow: &Shadow, by: &By) -> Result<i64> {
        let number: i64 = sqlx::query_scalar(
            "insert into shadows (revision, applications, one_in, share, author, started_at, until)
             values ($1, $2, $3, $4, $5, $6, $7) returning number",
        )
        .bind(shadow.revision)
        .bind(&shadow.applications)
        .bind(shadow.one_in)
        .bind(shadow.share)
        .bind(&by.actor)
        .bind(sql(by.at))
        .bind(shadow.until.map(sql))
        .fetch_one(self.connection())
        .await?;
        let line = json!({
            "shadow": number, "revision": shadow.revision, "for": shadow.applications,
            "one-in": shadow.one_in, "until": shadow.until.map(|until| until.to_string()),
        });
        self.record_line(Kind::Shadow, &line, &by.actor, by.at).await?;
        Ok(number)
    }

    /// Ends a shadow, and says why. False if it had ended.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn end_shadow(&mut self, number: i64, why: &str, by: &By) -> Result<bool> {
        let ended = sqlx::query(
            "update shadows set ended_at = $2, ended = $3 where number = $1 and ended_at is null",
        )
        .bind(number)
        .bind(sql(by.at))
        .bind(why)
        .execute(self.connection())
        .await?
        .rows_affected()
            > 0;
        if ended {
            let line = json!({ "shadow": number, "ended": why });
            self.record_line(Kind::Shadow, &line, &by.actor, by.at).await?;
        }
        Ok(ended)
    }
}
