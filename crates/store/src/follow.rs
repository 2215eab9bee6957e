//! How far the database is, a bell that rings at each write, and whether it is the same database still.

use crate::journal::Chain;
use crate::{Result, Store};
use jiff::Timestamp;
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
    /// The digest there.
    pub digest: Chain,
    /// The digest at the position that was asked about; none where there is no row.
    pub known: Option<Chain>,
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
    /// How far the database is, and what its journal has at a position that is known.
    ///
    /// # Errors
    /// If it cannot be reached.
    pub async fn head(&self, known: i64) -> Result<Head> {
        let row = sqlx::query(
            "select epoch, position, digest, (select digest from journal where position = $1) as known
             from workspace",
        )
        .bind(known)
        .fetch_one(&self.swift)
        .await?;
        let at_known: Option<Vec<u8>> = row.try_get("known")?;
        Ok(Head {
            epoch: row.try_get("epoch")?,
            position: row.try_get("position")?,
            digest: Chain::from_column(row.try_get("digest")?)?,
            known: at_known.as_deref().map(Chain::from_column).transpose()?,
        })
    }

    /// A bell for writes from now on.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn listen(&self) -> Result<Bell> {
        // The pool waits for seconds where nobody listens; a try of one's own is refused at once.
        sqlx::PgConnection::connect_with(&self.pool.connect_options()).await?.close().await?;
        let mut listener = PgListener::connect_with(&self.pool).await?;
        // A lost connection is told at once, not after seconds of trying to have it back.
        listener.eager_reconnect(false);
        listener.listen(CHANNEL).await?;
        Ok(Bell(listener))
    }

    /// Begins another epoch, if it is still `old` and ends as it is known to: positions given out in the
    /// old one mean nothing any more.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn begin_epoch(&self, old: &str, why: &str) -> Result<()> {
        let mut write = self.begin_write().await?;
        if write.epoch() == old {
            write.begin_epoch(why, "this node", Timestamp::now()).await?;
            write.commit().await?;
        }
        Ok(())
    }

    /// Whether this is the server, database and line of history that was last written on; if not, it is
    /// a restored copy or another server took over, and another epoch begins.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn come_home(&self) -> Result<()> {
        let home: Option<String> = sqlx::query_scalar(
            "select format('%s/%s/%s',
                    (select system_identifier from pg_control_system()),
                    (select oid from pg_database where datname = current_database()),
                    substring(pg_walfile_name(pg_current_wal_lsn()) for 8))
             where not pg_is_in_recovery()",
        )
        .fetch_optional(&self.pool)
        .await?;
        // A replica is no home: nothing is written there.
        let Some(home) = home else { return Ok(()) };
        let mut write = self.begin_write().await?;
        let known: Option<String> =
            sqlx::query_scalar("select home from workspace").fetch_one(write.connection()).await?;
        if known.as_deref() == Some(home.as_str()) {
            return Ok(());
        }
        if known.is_some() {
            tracing::warn!("the database was restored or failed over; beginning another epoch");
            write
                .begin_epoch("the database was restored or failed over", "this node", Timestamp::now())
                .await?;
        }
        sqlx::query("update workspace set home = $1").bind(&home).execute(write.connection()).await?;
        write.commit().await?;
        Ok(())
    }
}
