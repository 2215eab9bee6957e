//! What happened: by pages, and as it happens.

use super::Scope;
use super::permission::Permission;
use crate::problem::Problem;
use ostrog_store::journal::{Chain, Row};
use ostrog_store::verify::Verified;
use std::collections::VecDeque;

/// Most rows, and bytes of them, that are read at a time: each reader holds as much.
const CHUNK: i64 = 100;
const CHUNK_BYTES: i64 = 256 << 10;

/// Reading what happened.
#[derive(Clone, Copy, Debug)]
pub struct Journal<'s>(&'s Scope);

impl Scope {
    /// Reading what happened.
    ///
    /// # Errors
    /// If the caller may not.
    pub fn journal(&self) -> Result<Journal<'_>, Problem> {
        self.need(Permission::LogRead).map(|()| Journal(self))
    }
}

impl Journal<'_> {
    /// Rows before a position, newest first; `brief` ones without their content's end.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn before(&self, before: Option<i64>, limit: i64, brief: bool) -> Result<Vec<Row>, Problem> {
        self.0.looks.up();
        Ok(self.0.node.store.rows_before(before, limit, brief).await?)
    }

    /// Rows that name something, newest first, with only the lines that do.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn about(&self, name: &str, before: Option<i64>, limit: i64) -> Result<Vec<Row>, Problem> {
        self.0.looks.up();
        Ok(self.0.node.store.rows_about(name, before, limit).await?)
    }

    /// Refuses who may not have all of it verified: that tells of every fact.
    ///
    /// # Errors
    /// If the caller may not read all facts.
    pub fn may_verify(&self) -> Result<(), Problem> {
        self.0.need(Permission::RegisterRead)
    }

    /// Whether the rows are what was written, and the tables what they come to.
    ///
    /// # Errors
    /// If the caller may not read all facts, or the database cannot be reached.
    pub async fn verify(&self, from: i64) -> Result<Verified, Problem> {
        self.may_verify()?;
        self.0.looks.up();
        Ok(self.0.node.store.verify(from).await?)
    }

    /// The epoch and the digest of a row.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn row_at(&self, position: i64) -> Result<Option<(String, Chain)>, Problem> {
        self.0.looks.up();
        Ok(self.0.node.store.row_at(position).await?)
    }

    /// Rows after a position, as this node reaches them.
    ///
    /// # Errors
    /// If the position is not reached yet.
    pub fn follow(&self, after: i64) -> Result<Followed, Problem> {
        if after < 0 || after > self.0.view.position {
            let at = self.0.position();
            return Err(Problem::malformed(format!("There is no position {after}; the last is {at}.")));
        }
        Ok(Followed { scope: self.0.clone(), after, waiting: VecDeque::new() })
    }
}

/// Rows as they come.
#[derive(Debug)]
pub struct Followed {
    scope: Scope,
    after: i64,
    waiting: VecDeque<Row>,
}

impl Followed {
    /// The epoch that is followed.
    pub fn epoch(&self) -> &str {
        self.scope.epoch()
    }

    /// The next row. None at the end: of the epoch, of the caller's key, of the service, or when the
    /// database cannot be read.
    pub async fn next(&mut self) -> Option<Row> {
        let node = std::sync::Arc::clone(&self.scope.node);
        let mut positions = node.positions();
        while self.waiting.is_empty() {
            let view = node.view();
            if view.epoch != self.scope.view.epoch || !self.scope.counts() {
                return None;
            }
            if view.position > self.after {
                let mut rows = node.store.rows_after(self.after, CHUNK, CHUNK_BYTES).await.ok()?;
                // Others may have written more; who hears of a row may ask this node about it.
                rows.retain(|row| row.position <= view.position);
                self.waiting = rows.into();
                continue;
            }
            drop(view);
            tokio::select! {
                moved = positions.changed() => moved.ok()?,
                // A key may end by itself.
                () = tokio::time::sleep(std::time::Duration::from_secs(1)) => {}
                () = node.stopping() => return None,
            }
        }
        let row = self.waiting.pop_front()?;
        self.after = row.position;
        // What was read before the key ended is not told after it.
        (*row.epoch == *self.scope.view.epoch && self.scope.counts()).then_some(row)
    }
}
