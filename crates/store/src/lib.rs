//! PostgreSQL behind Ostrog: the record that outlives every process.
//!
//! - [`cluster`]: a private server on loopback, where no database is given;
//! - [`workspace`]: the counter row, loading everything at one position, and writes;
//! - [`revision`]: charters, numbered and immutable;
//! - [`draft`]: charters under way;
//! - [`key`]: keys, stored hashed;
//! - [`case`]: answers that shall stay;
//! - [`release`]: what is live for which application, and what was;
//! - [`session`]: who is signed in;
//! - [`review`]: approvals, returns and remarks;
//! - [`settings`]: settings of the workspace;
//! - [`shadow`]: revisions that are answered under beside;
//! - [`nodes`]: which nodes there are;
//! - [`rehearsal`]: its files, and runs of it;
//! - [`journal`]: what happened, by position, as a chain of digests;
//! - `tables`: the fold of it, as it is now;
//! - [`follow`]: how far the database is, and whether it is the same one still;
//! - [`verify`]: whether the journal is what was written, and the tables what it comes to;
//! - `upgrade`: databases from before there was a journal.

#![forbid(unsafe_code)]

pub mod case;
pub mod cluster;
pub mod draft;
pub mod follow;
pub mod issuer;
pub mod journal;
pub mod key;
pub mod nodes;
pub mod presence;
pub mod rehearsal;
pub mod release;
pub mod review;
pub mod revision;
pub mod session;
pub mod settings;
pub mod shadow;
mod tables;
mod upgrade;
pub mod verify;
pub mod workspace;

use sqlx::postgres::{PgConnectOptions, PgPool, PgPoolOptions};
use std::str::FromStr as _;
use std::time::Duration;

/// Why the database did not do what it was asked.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// It cannot be reached, or went away.
    #[error("the database cannot be reached: {0}")]
    Unreachable(#[source] sqlx::Error),
    /// It answered with an error.
    #[error("the database refused: {0}")]
    Refused(#[source] sqlx::Error),
    /// Its schema could not be brought up to date.
    #[error("the database's schema cannot be brought up to date: {0}")]
    Migration(#[source] sqlx::migrate::MigrateError),
    /// The private server could not be used.
    #[error("{0}")]
    Cluster(String),
    /// What it holds cannot be read.
    #[error("the database holds what cannot be read: {0}")]
    Unreadable(String),
}

impl From<sqlx::Error> for Error {
    fn from(error: sqlx::Error) -> Self {
        match error {
            sqlx::Error::Io(_)
            | sqlx::Error::PoolTimedOut
            | sqlx::Error::PoolClosed
            | sqlx::Error::Tls(_)
            | sqlx::Error::WorkerCrashed => Error::Unreachable(error),
            // Class 57 is "operator intervention": the server is shutting down or starting up.
            sqlx::Error::Database(ref inner) if inner.code().is_some_and(|code| code.starts_with("57P")) => {
                Error::Unreachable(error)
            }
            error => Error::Refused(error),
        }
    }
}

/// Who does something, as whom they count, and when.
#[derive(Clone, Debug)]
pub struct By {
    /// The id of a key, or what else acts.
    pub actor: String,
    /// Everybody that they count as: `key:k-3f9a0c12`, `person:ines`, `sign-in:port-id/ines`. Two of which one
    /// approves what the other wrote must have none of these in common.
    pub counts_as: Vec<String>,
    /// When.
    pub at: jiff::Timestamp,
}

impl By {
    /// The program itself, or whoever started it.
    pub fn host(actor: &str, at: jiff::Timestamp) -> By {
        By { actor: actor.to_owned(), counts_as: Vec::new(), at }
    }
}

/// A result of the store.
pub type Result<T> = std::result::Result<T, Error>;

/// The database.
#[derive(Clone, Debug)]
pub struct Store {
    pool: PgPool,
    /// For those who follow: its connections are not tried before they are used, which takes a way to the database
    /// and back. One that is broken shows by the answer, and whoever follows looks again.
    swift: PgPool,
}

impl Store {
    /// Most connections one node holds.
    const MAX_CONNECTIONS: u32 = 8;
    /// How many of its own whoever follows has.
    const FOLLOWING: u32 = 2;
    /// How long a call waits for a free connection.
    const PATIENCE: Duration = Duration::from_secs(5);

    /// Connects and brings the schema up to date.
    ///
    /// # Errors
    /// A URL that is none, a server that is not there, or a schema from a later version.
    pub async fn open(url: &str) -> Result<Store> {
        let options = PgConnectOptions::from_str(url)?.application_name("ostrog");
        let pool = PgPoolOptions::new()
            .max_connections(Self::MAX_CONNECTIONS)
            .acquire_timeout(Self::PATIENCE)
            .connect_with(options.clone())
            .await?;
        let swift = PgPoolOptions::new()
            .max_connections(Self::FOLLOWING)
            .acquire_timeout(Self::PATIENCE)
            .test_before_acquire(false)
            .connect_lazy_with(options);
        sqlx::migrate!("./migrations").run(&pool).await.map_err(Error::Migration)?;
        let store = Store { pool, swift };
        store.ensure_workspace().await?;
        store.upgrade().await?;
        store.spread_releases().await?;
        store.come_home().await?;
        Ok(store)
    }

    /// How many connections are open, and how many of them nobody uses.
    pub fn connections(&self) -> (u32, usize) {
        (self.pool.size(), self.pool.num_idle())
    }

    /// Waits for calls under way and closes all connections.
    pub async fn close(&self) {
        self.swift.close().await;
        self.pool.close().await;
    }

    /// Whether the database answers now.
    ///
    /// # Errors
    /// If it does not.
    pub async fn ping(&self) -> Result<()> {
        sqlx::query("select 1").execute(&self.pool).await?;
        Ok(())
    }
}

/// A moment as PostgreSQL keeps it: to the microsecond, cut off and not rounded, so that a key, say, never
/// outlives its end.
fn cut(at: jiff::Timestamp) -> jiff::Timestamp {
    jiff::Timestamp::from_microsecond(at.as_microsecond()).unwrap_or(at)
}

/// A moment to be bound in a query.
fn sql(at: jiff::Timestamp) -> jiff_sqlx::Timestamp {
    use jiff_sqlx::ToSqlx as _;
    cut(at).to_sqlx()
}

/// A moment of a row.
fn moment(row: &sqlx::postgres::PgRow, column: &str) -> Result<jiff::Timestamp> {
    use sqlx::Row as _;
    Ok(row.try_get::<jiff_sqlx::Timestamp, _>(column)?.to_jiff())
}

/// A moment of a row that may be missing.
fn moment_if_any(row: &sqlx::postgres::PgRow, column: &str) -> Result<Option<jiff::Timestamp>> {
    use sqlx::Row as _;
    Ok(row.try_get::<Option<jiff_sqlx::Timestamp>, _>(column)?.map(jiff_sqlx::Timestamp::to_jiff))
}

/// 256 random bits as text.
fn random_text() -> String {
    use rand::TryRngCore as _;
    let mut bytes = [0u8; 32];
    rand::rngs::OsRng.try_fill_bytes(&mut bytes).expect("the system has random numbers");
    hex::encode(bytes)
}
