//! What is live for which application, and what was.

use crate::journal::{Kind, Row};
use crate::workspace::Write;
use crate::{Error, Result, Store, moment, sql};
use jiff::Timestamp;
use ostrog_core::charter;
use ostrog_core::decide::in_force::declared;
use serde::Deserialize;
use serde_json::json;
use sqlx::{PgConnection, Row as _};
use std::collections::{BTreeMap, BTreeSet};

/// Which revision is live for which application.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Placed {
    /// By application.
    pub of: BTreeMap<String, i64>,
    /// The one that was put live last.
    pub last: Option<i64>,
}

impl Placed {
    /// Each revision that is live for some application, the last one first.
    pub fn revisions(&self) -> Vec<i64> {
        let others: BTreeSet<i64> =
            self.of.values().copied().filter(|number| Some(*number) != self.last).collect();
        self.last.into_iter().chain(others).collect()
    }

    /// The applications that a revision is live for.
    pub fn applications(&self, revision: i64) -> BTreeSet<String> {
        let of_it = self.of.iter().filter(|(_, number)| **number == revision);
        of_it.map(|(application, _)| application.clone()).collect()
    }
}

/// Revisions that go live at one position.
#[derive(Clone, Debug)]
pub struct Release<'r> {
    /// By application, the revision; none: the application is not part of what is live any more.
    pub moves: BTreeMap<String, Option<i64>>,
    /// What is live with it.
    pub live: Placed,
    /// Whether it goes back to what was live before.
    pub back: bool,
    /// Why.
    pub note: Option<&'r str>,
    /// What else is told of it, in the journal.
    pub beside: serde_json::Map<String, serde_json::Value>,
}

/// One step of what was live for an application.
#[derive(Clone, Debug)]
pub struct Step {
    /// Where it stands in the journal.
    pub position: i64,
    /// The application.
    pub application: String,
    /// What went live; none: the application is not part of what is live any more.
    pub revision: Option<i64>,
    /// What was live until then.
    pub before: Option<i64>,
    /// Whether it went back to what was live before.
    pub back: bool,
    /// When.
    pub at: Timestamp,
    /// Who.
    pub actor: String,
    /// Why.
    pub note: Option<String>,
    /// Who gained and who lost by it, in words.
    pub shift: Option<String>,
}

impl Row {
    /// What is live after a rollout; none of a row that does not say so.
    pub fn live(&self) -> Option<Placed> {
        #[derive(Deserialize)]
        struct Line {
            live: BTreeMap<String, i64>,
            last: i64,
        }
        let line = self.content.split(|byte| *byte == b'\n').next()?;
        let line = serde_json::from_slice::<Line>(line).ok()?;
        Some(Placed { of: line.live, last: Some(line.last) })
    }
}

impl Store {
    /// What was live, newest first: of one application or of all.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn releases(&self, application: Option<&str>, limit: i64) -> Result<Vec<Step>> {
        let rows = sqlx::query(STEPS).bind(application).bind(limit).fetch_all(&self.pool).await?;
        rows.iter().map(step).collect()
    }

    /// Brings a database up to date in which one revision was live for all applications.
    pub(crate) async fn spread_releases(&self) -> Result<()> {
        let mut write = self.begin_write().await?;
        let old: bool = sqlx::query_scalar(
            "select exists (select 1 from information_schema.columns
                            where table_schema = current_schema()
                              and table_name = 'workspace' and column_name = 'live_revision')",
        )
        .fetch_one(write.connection())
        .await?;
        if !old {
            return Ok(());
        }
        let rows = sqlx::query("select position, revision from rollouts order by position")
            .fetch_all(write.connection())
            .await?;
        let mut live: BTreeMap<String, (i64, i64)> = BTreeMap::new();
        for row in rows {
            let (position, revision): (i64, i64) = (row.try_get("position")?, row.try_get("revision")?);
            // A text of long ago that cannot be read any more was live for nobody who is still asked about.
            let applications = match write.applications_of(revision).await {
                Err(Error::Unreadable(_)) => BTreeSet::new(),
                found => found?,
            };
            let gone = live.keys().filter(|known| !applications.contains(*known)).cloned();
            let moves: Vec<(String, Option<i64>)> = gone
                .collect::<Vec<_>>()
                .into_iter()
                .map(|application| (application, None))
                .chain(applications.iter().map(|application| (application.clone(), Some(revision))))
                .collect();
            for (application, revision) in moves {
                let before = live.get(&application).map(|(revision, _)| *revision);
                write.keep_step(position, &application, revision, before, false).await?;
                match revision {
                    Some(revision) => live.insert(application, (revision, position)),
                    None => live.remove(&application),
                };
            }
        }
        for (application, (revision, position)) in live {
            write.keep_live(&application, Some(revision), position).await?;
        }
        for statement in ["alter table workspace drop column live_revision", "drop table rollouts"] {
            sqlx::query(statement).execute(write.connection()).await?;
        }
        write.commit().await?;
        Ok(())
    }
}

const STEPS: &str = "select releases.*, journal.at, journal.actor, journal.content
     from releases join journal using (position)
     where $1::text is null or application = $1
     order by position desc, application limit $2";

fn step(row: &sqlx::postgres::PgRow) -> Result<Step> {
    #[derive(Deserialize, Default)]
    struct Line {
        note: Option<String>,
        shift: Option<String>,
    }
    let content: &[u8] = row.try_get("content")?;
    let first = content.split(|byte| *byte == b'\n').next().unwrap_or_default();
    let Line { note, shift } = serde_json::from_slice(first).unwrap_or_default();
    Ok(Step {
        position: row.try_get("position")?,
        application: row.try_get("application")?,
        revision: row.try_get("revision")?,
        before: row.try_get("before")?,
        back: row.try_get("back")?,
        at: moment(row, "at")?,
        actor: row.try_get("actor")?,
        note,
        shift,
    })
}

/// What is live, as the database has it.
pub(crate) async fn placed(connection: &mut PgConnection) -> Result<Placed> {
    let rows = sqlx::query("select application, revision from live order by position desc, revision desc")
        .fetch_all(connection)
        .await?;
    let mut placed = Placed::default();
    for row in rows {
        let revision: i64 = row.try_get("revision")?;
        placed.last = placed.last.or(Some(revision));
        placed.of.insert(row.try_get("application")?, revision);
    }
    Ok(placed)
}

impl Write {
    /// What is live at the position this write begins at.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn live(&mut self) -> Result<Placed> {
        placed(self.connection()).await
    }

    /// What was live for an application, newest first.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn releases(&mut self, application: &str) -> Result<Vec<Step>> {
        let rows =
            sqlx::query(STEPS).bind(Some(application)).bind(i64::MAX).fetch_all(self.connection()).await?;
        rows.iter().map(step).collect()
    }

    /// Puts revisions live; gives the position.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn release(&mut self, release: &Release<'_>, by: (&str, Timestamp)) -> Result<i64> {
        let before = self.live().await?;
        let revision = release.live.last.ok_or_else(|| Error::Unreadable("nothing goes live".to_owned()))?;
        let mut line = json!({
            "rollout": revision,
            "for": release.moves.keys().collect::<Vec<_>>(),
            "back": release.back,
            "before": before.of,
            "live": release.live.of,
            "last": revision,
        });
        if let Some(note) = release.note {
            line["note"] = note.into();
        }
        for (name, value) in &release.beside {
            line[name] = value.clone();
        }
        let position = self.record_line(Kind::Rollout, &line, by.0, by.1).await?;
        for (application, revision) in &release.moves {
            let before = before.of.get(application).copied();
            self.keep_step(position, application, *revision, before, release.back).await?;
            self.keep_live(application, *revision, position).await?;
        }
        Ok(position)
    }

    async fn keep_step(
        &mut self,
        position: i64,
        application: &str,
        revision: Option<i64>,
        before: Option<i64>,
        back: bool,
    ) -> Result<()> {
        sqlx::query(
            "insert into releases (position, application, revision, before, back) values ($1, $2, $3, $4, $5)",
        )
        .bind(position)
        .bind(application)
        .bind(revision)
        .bind(before)
        .bind(back)
        .execute(self.connection())
        .await?;
        Ok(())
    }

    async fn keep_live(&mut self, application: &str, revision: Option<i64>, position: i64) -> Result<()> {
        let query = match revision {
            Some(revision) => sqlx::query(
                "insert into live (application, revision, position) values ($1, $2, $3)
                 on conflict (application) do update set revision = $2, position = $3",
            )
            .bind(application)
            .bind(revision)
            .bind(position),
            None => sqlx::query("delete from live where application = $1").bind(application),
        };
        query.execute(self.connection()).await?;
        Ok(())
    }

    /// The applications that a revision declares.
    async fn applications_of(&mut self, revision: i64) -> Result<BTreeSet<String>> {
        let broken = || Error::Unreadable(format!("revision {revision} has errors, or is not there"));
        let read = crate::revision::read(self.connection(), revision).await?.ok_or_else(broken)?;
        let policy = charter::read(&read.sources).policy.ok_or_else(broken)?;
        Ok(declared(&policy).map(str::to_owned).collect())
    }

    /// Shuts a revision for good: it never goes live again.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn bar(&mut self, revision: i64, note: &str, actor: &str, at: Timestamp) -> Result<bool> {
        let barred = sqlx::query(
            "update revisions set barred_at = $2, barred = $3 where number = $1 and barred_at is null",
        )
        .bind(revision)
        .bind(sql(at))
        .bind(note)
        .execute(self.connection())
        .await?
        .rows_affected()
            > 0;
        if barred {
            let line = json!({ "revision": revision, "barred": true, "note": note });
            self.record_line(Kind::Review, &line, actor, at).await?;
        }
        Ok(barred)
    }
}
