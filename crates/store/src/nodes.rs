//! Which nodes there are, and how far they answer.

use crate::journal::Chain;
use crate::{Result, Store, moment, sql};
use jiff::Timestamp;
use sqlx::Row as _;

/// A node, as it says of itself.
#[derive(Clone, Debug)]
pub struct NodeSeen {
    /// New with every start.
    pub id: String,
    /// Where it listens.
    pub address: String,
    /// Since when it runs.
    pub started_at: Timestamp,
    /// How far it answers.
    pub position: i64,
    /// The epoch that position is of.
    pub epoch: String,
    /// The digest of the journal there, as it says it; who lists nodes is not told.
    pub digest: Option<Chain>,
    /// When it last said so.
    pub seen_at: Timestamp,
    /// For how many seconds it answers from what it knows.
    pub max_stale: i64,
}

/// How long a node is told that says nothing any more: a day.
const TOLD_FOR: &str = "interval '1 day'";

impl Store {
    /// Notes how far a node answers. It is no write: nobody relies on it but to know whether all have followed.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn node_is(&self, node: &NodeSeen) -> Result<()> {
        sqlx::query(
            "insert into nodes (id, address, started_at, position, epoch, seen_at, max_stale, digest)
             values ($1, $2, $3, $4, $5, now(), $6, $7)
             on conflict (id) do update set position = $4, epoch = $5, seen_at = now(), address = $2, digest = $7",
        )
        .bind(&node.id)
        .bind(&node.address)
        .bind(sql(node.started_at))
        .bind(node.position)
        .bind(&node.epoch)
        .bind(node.max_stale)
        .bind(node.digest.map(|digest| digest.0.to_vec()))
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// A node ends in order: it answers nothing any more.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn node_ends(&self, id: &str) -> Result<()> {
        sqlx::query("delete from nodes where id = $1").bind(id).execute(&self.pool).await?;
        Ok(())
    }

    /// All nodes that said something in the last day, oldest first.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn nodes(&self) -> Result<Vec<NodeSeen>> {
        let text = format!("select * from nodes where seen_at > now() - {TOLD_FOR} order by started_at, id");
        let rows = sqlx::query(sqlx::AssertSqlSafe(text)).fetch_all(&self.pool).await?;
        let node = |row: &sqlx::postgres::PgRow| {
            Ok(NodeSeen {
                id: row.try_get("id")?,
                address: row.try_get("address")?,
                started_at: moment(row, "started_at")?,
                position: row.try_get("position")?,
                digest: None,
                epoch: row.try_get("epoch")?,
                seen_at: moment(row, "seen_at")?,
                max_stale: row.try_get("max_stale")?,
            })
        };
        rows.iter().map(node).collect()
    }
}
