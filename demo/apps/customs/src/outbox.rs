//! What Ostrog must know: kept in the transaction of what happened, told in order, until Ostrog has it.
//!
//! What was told and not marked, because the desk stopped in between, is told again: telling twice changes nothing. Of a
//! thing that is there already, only the fact that changed is told: what others know of it (its reviewers, that it is
//! detached) is not the desk's to overwrite. Where Ostrog is away, the first that waits is tried again,
//! twice as long apart each time. Where it refuses one, that one is set aside with the reason, `GET /health` counts it,
//! and the others go on.

use crate::Error;
use ostrog_client::guard::Guard;
use ostrog_client::wire::register::{EntityLine, Facts, LoadQuery, Written};
use ostrog_client::{Client, Error as NotTold};
use serde::{Deserialize, Serialize};
use sqlx::{PgPool, Postgres, Transaction};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::Notify;

/// How long is waited before Ostrog is tried again.
const FIRST_WAIT: Duration = Duration::from_millis(100);
const LONGEST_WAIT: Duration = Duration::from_secs(5);
/// How often somebody who waits for a line looks.
const LOOK: Duration = Duration::from_millis(20);

/// What waits to be told.
#[derive(Clone, Debug)]
pub struct Outbox {
    pool: PgPool,
    client: Client,
    guard: Guard,
    wake: Arc<Notify>,
}

/// What is told.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Telling {
    /// A thing that is new.
    New(Box<EntityLine>),
    /// A fact line about one that is not.
    Fact(String),
}

/// How much waits, and how much Ostrog refused.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Standing {
    /// Waits to be told.
    pub waiting: i64,
    /// Was refused.
    pub refused: i64,
}

impl Outbox {
    pub(crate) fn new(pool: PgPool, client: Client, guard: Guard) -> Outbox {
        Outbox { pool, client, guard, wake: Arc::default() }
    }

    /// Keeps what is to be told in the transaction of what it is about; [`Outbox::told`] waits for it after the commit.
    ///
    /// # Errors
    /// If the database fails; then nothing of the transaction is kept.
    pub async fn keep(&self, all: &mut Transaction<'_, Postgres>, telling: &Telling) -> Result<i64, Error> {
        let text = serde_json::to_string(telling)?;
        // One after the other: the numbers are given in the order of the commits.
        sqlx::query("lock table outbox in share row exclusive mode").execute(&mut **all).await?;
        let id = sqlx::query_scalar("insert into outbox (telling) values ($1) returning id").bind(text);
        Ok(id.fetch_one(&mut **all).await?)
    }

    /// Whether something is registered: what lies in what is not could never be told.
    ///
    /// # Errors
    /// If Ostrog does not answer.
    pub async fn knows(&self, name: &str) -> Result<bool, NotTold> {
        match self.client.entity(name).await {
            Ok(_) => Ok(true),
            Err(NotTold::Refused(problem)) if problem.status == 404 => Ok(false),
            Err(error) => Err(error),
        }
    }

    /// Waits a while until something was told; whether it was.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn told(&self, id: i64, longest: Duration) -> Result<bool, Error> {
        self.wake.notify_one();
        let until = tokio::time::Instant::now() + longest;
        loop {
            let done = "select told_at is not null, told_at is not null or refused is not null from outbox where id = $1";
            let (told, done) =
                sqlx::query_as(done).bind(id).fetch_optional(&self.pool).await?.unwrap_or((false, true));
            if done || tokio::time::Instant::now() > until {
                return Ok(told);
            }
            tokio::time::sleep(LOOK).await;
        }
    }

    /// How it stands.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn standing(&self) -> Result<Standing, Error> {
        let counts = "select count(*) filter (where told_at is null and refused is null),
            count(*) filter (where refused is not null) from outbox";
        let (waiting, refused) = sqlx::query_as(counts).fetch_one(&self.pool).await?;
        Ok(Standing { waiting, refused })
    }

    /// Tells what waits, for as long as it is polled.
    pub async fn run(self) {
        let mut wait = FIRST_WAIT;
        loop {
            match self.tell_next().await {
                Ok(true) => {
                    wait = FIRST_WAIT;
                    continue;
                }
                // Nothing waits. The clock looks too: another desk on the same tables may have stopped.
                Ok(false) => wait = LONGEST_WAIT,
                Err(error) => {
                    tracing::warn!(%error, "Ostrog was not told");
                    wait = (wait * 2).min(LONGEST_WAIT);
                }
            }
            tokio::select! {
                () = self.wake.notified() => wait = wait.min(LONGEST_WAIT),
                () = tokio::time::sleep(wait) => {}
            }
        }
    }

    /// Tells the first that waits; whether there was one.
    async fn tell_next(&self) -> Result<bool, TellError> {
        let mut all = self.pool.begin().await?;
        // Locked: of two desks on the same tables one tells, and in order.
        let next = "select id, telling from outbox where told_at is null and refused is null order by id limit 1 for update";
        let Some((id, line)) = sqlx::query_as::<_, (i64, String)>(next).fetch_optional(&mut *all).await?
        else {
            return Ok(false);
        };
        match self.tell(&line).await {
            Ok(written) => {
                if let Some(written) = written {
                    self.guard.after(&written.position, Some(&written.digest));
                }
                sqlx::query("update outbox set told_at = now() where id = $1")
                    .bind(id)
                    .execute(&mut *all)
                    .await?;
            }
            // What it says is wrong, and stays wrong.
            Err(NotTold::Refused(problem)) if matches!(problem.status, 400 | 404 | 409 | 422) => {
                tracing::error!(id, why = problem.detail, "Ostrog refuses what the desk tells");
                let refused = sqlx::query("update outbox set refused = $2 where id = $1").bind(id);
                refused.bind(problem.detail).execute(&mut *all).await?;
            }
            Err(error) => return Err(error.into()),
        }
        all.commit().await?;
        Ok(true)
    }
}

impl Outbox {
    /// Tells; nothing is written where it is registered already.
    async fn tell(&self, text: &str) -> Result<Option<Written>, NotTold> {
        let telling = serde_json::from_str(text).map_err(|error| NotTold::Unreadable(error.to_string()))?;
        match telling {
            Telling::Fact(fact) => {
                let facts = Facts { set: vec![fact], remove: Vec::new() };
                self.client.set_facts(&facts).await.map(Some)
            }
            Telling::New(line) => match self.client.entity(&line.entity).await {
                Ok(_) => Ok(None),
                Err(NotTold::Refused(problem)) if problem.status == 404 => {
                    let text = serde_json::to_string(&line).unwrap_or_default();
                    self.client.load(text, &LoadQuery::default()).await.map(Some)
                }
                Err(error) => Err(error),
            },
        }
    }
}

#[derive(Debug, thiserror::Error)]
enum TellError {
    #[error("{0}")]
    Database(#[from] sqlx::Error),
    #[error("{0}")]
    Ostrog(#[from] NotTold),
}
