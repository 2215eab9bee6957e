//! What others wrote: how far the database is, a bell that rings at each write, and what happened.

use crate::change::{Change, read};
use crate::{MOMENT_FORMAT, Result, Store, random_text};
use sqlx::postgres::PgListener;
use sqlx::{Connection as _, Row as _};

/// The channel that each write rings.
pub(crate) const CHANNEL: &str = "ostrog_position";

/// How far a database is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Head {
    /// Changes when the database was restored.
    pub epoch: String,
    /// The last position.
    pub position: i64,
}

/// Rings when somebody has written. It may ring once for several writes, and for none.
#[derive(Debug)]
pub struct Bell(PgListener);

impl Bell {
    /// Waits for the next ring.
    ///
    /// # Errors
    /// If the connection is lost: then rings may have been missed.
    pub async fn rung(&mut self) -> Result<()> {
        match self.0.try_recv().await? {
            Some(_) => Ok(()),
            None => Err(sqlx::Error::WorkerCrashed.into()),
        }
    }
}

impl Store {
    /// How far the database is.
    ///
    /// # Errors
    /// If it cannot be reached.
    pub async fn head(&self) -> Result<Head> {
        let row = sqlx::query("select epoch, position from workspace").fetch_one(&self.pool).await?;
        Ok(Head { epoch: row.try_get("epoch")?, position: row.try_get("position")? })
    }

    /// A bell for writes from now on.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn listen(&self) -> Result<Bell> {
        // The pool waits for seconds where nobody listens; a try of one's own is refused at once.
        sqlx::PgConnection::connect_with(&self.pool.connect_options()).await?.close().await?;
        let mut listener = PgListener::connect_with(&self.pool).await?;
        listener.listen(CHANNEL).await?;
        Ok(Bell(listener))
    }

    /// Changes after a position, oldest first.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn changes_after(&self, after: i64, limit: i64) -> Result<Vec<Change>> {
        let rows = sqlx::query(
            "select position, to_char(at at time zone 'utc', $1) as at, actor, kind, lines,
                    jsonb_array_length(lines)::bigint as count
             from changes where position > $2 order by position limit $3",
        )
        .bind(MOMENT_FORMAT)
        .bind(after)
        .bind(limit)
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(read).collect()
    }

    /// Begins another epoch, if the present one is still `old`: positions given out in the old one
    /// mean nothing any more.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn begin_epoch(&self, old: &str) -> Result<()> {
        sqlx::query("update workspace set epoch = $1 where epoch = $2")
            .bind(&random_text()[..12])
            .bind(old)
            .execute(&self.pool)
            .await?;
        Ok(())
    }
}
