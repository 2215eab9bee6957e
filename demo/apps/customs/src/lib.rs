//! The customs desk: manifests, their containers and inspections, in tables of its own. An example of an application
//! that guards itself with `ostrog-client`.
//!
//! | request | needs |
//! | --- | --- |
//! | `GET /manifests?state=&sort=&page=&size=` | `manifest:view`: those rows of which it holds, counted and sorted in SQL |
//! | `GET /manifests/{manifest}` | `manifest:open-page` |
//! | `GET /manifests/{manifest}/affordances` | `manifest:view`; what its page shows |
//! | `POST /voyages/{voyage}/manifests` | `manifest:file` on a new one in the voyage, with its line |
//! | `POST /manifests/{manifest}/release` | `manifest:view` and `manifest:release` |
//! | `GET /manifests/{manifest}/containers` | `container:view`: those of which it holds |
//! | `POST /containers/{container}/inspections` | `inspection:open` on a new one in the container |
//! | `GET /health` | nothing |
//!
//! What it writes and Ostrog must know is written twice: in its tables, and in an outbox of the same transaction, from
//! where it is told in order until Ostrog has it ([`outbox`]). So neither is ever without the other for good: a manifest
//! that Ostrog does not know yet is one that nobody may open.
//!
//! - [`api`]: routes and handlers;
//! - [`tables`]: what is kept, and how it is begun;
//! - [`outbox`]: what is told to Ostrog.

#![forbid(unsafe_code)]

pub mod api;
pub mod outbox;
pub mod tables;

use axum::Router;
use ostrog_client::Client;
use ostrog_client::guard::{Columns, Guard, NotBuilt};
use outbox::Outbox;
use sqlx::PgPool;
use std::collections::BTreeMap;
use std::io;
use tokio::net::TcpListener;

/// Which columns the tables have, as the charter calls them.
const COLUMNS: &str = include_str!("../../../columns.toml");

/// Where the desk keeps things, and how it asks.
#[derive(Clone, Debug)]
pub struct Desk {
    pub(crate) pool: PgPool,
    pub(crate) guard: Guard,
    pub(crate) outbox: Outbox,
}

/// Why there is no desk.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The tables cannot be read or made.
    #[error("the desk's tables: {0}")]
    Tables(#[from] sqlx::Error),
    /// They cannot be made.
    #[error("the desk's tables: {0}")]
    Migration(#[from] sqlx::migrate::MigrateError),
    /// What they begin with cannot be read.
    #[error("what the desk begins with: {0}")]
    Beginning(#[from] serde_json::Error),
    /// The file of its columns cannot be read.
    #[error("the desk's columns: {0}")]
    Columns(#[from] toml::de::Error),
    /// A route cannot be guarded.
    #[error(transparent)]
    NotBuilt(#[from] NotBuilt),
    /// It cannot listen.
    #[error("{0}")]
    Listening(#[from] io::Error),
}

impl Desk {
    /// A desk with tables in a database: `guarded` asks with the application's key, `telling` writes with one that may
    /// write entities. Tables without a row begin with register lines (NDJSON).
    ///
    /// # Errors
    /// If the database is away, or holds something else.
    pub async fn open(
        database: &str,
        guarded: Client,
        telling: Client,
        register: &str,
    ) -> Result<Desk, Error> {
        let pool = PgPool::connect(database).await?;
        sqlx::migrate!().run(&pool).await?;
        tables::begin(&pool, register).await?;
        let guard = Guard::new(guarded);
        let outbox = Outbox::new(pool.clone(), telling, guard.clone());
        Ok(Desk { pool, guard, outbox })
    }

    /// What it tells.
    pub fn outbox(&self) -> &Outbox {
        &self.outbox
    }

    /// Where it keeps things.
    pub fn pool(&self) -> &PgPool {
        &self.pool
    }

    /// Its routes.
    ///
    /// # Errors
    /// If one of them cannot be guarded.
    pub fn router(self) -> Result<Router, Error> {
        let columns: BTreeMap<String, Columns> = toml::from_str(COLUMNS)?;
        api::router(self, &columns)
    }

    /// Serves it until `stop` resolves, and tells Ostrog what happened meanwhile.
    ///
    /// # Errors
    /// If the listener fails.
    pub async fn serve(
        self,
        listener: TcpListener,
        stop: impl Future<Output = ()> + Send + 'static,
    ) -> Result<(), Error> {
        let telling = tokio::spawn(self.outbox.clone().run());
        let pool = self.pool.clone();
        let served = axum::serve(listener, self.router()?).with_graceful_shutdown(stop).await;
        telling.abort();
        pool.close().await;
        Ok(served?)
    }
}
