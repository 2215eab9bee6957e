//! Who has a draft open just now.

use crate::{Result, Store};

/// How long somebody is taken to be there after the last sign of it, in seconds.
pub const PRESENT_FOR: i32 = 40;

/// Somebody who has a draft open.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Present {
    /// Their key's id.
    pub key: String,
    /// What the key is called.
    pub name: String,
}

impl Store {
    /// Notes that the holder of a key has a draft open, and tells who else has. It changes nothing
    /// that anybody relies on, so it takes no lock and no position.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn be_present(&self, draft: i64, key: &str) -> Result<Vec<Present>> {
        sqlx::query(
            "insert into draft_presence (draft, key, seen_at) values ($1, $2, now())
             on conflict (draft, key) do update set seen_at = now()",
        )
        .bind(draft)
        .bind(key)
        .execute(&self.pool)
        .await?;
        let others: Vec<(String, String)> = sqlx::query_as(
            "select keys.id, keys.name from draft_presence join keys on keys.id = draft_presence.key
             where draft = $1 and keys.id <> $2 and seen_at > now() - make_interval(secs => $3)
             order by keys.name, keys.id",
        )
        .bind(draft)
        .bind(key)
        .bind(f64::from(PRESENT_FOR))
        .fetch_all(&self.pool)
        .await?;
        Ok(others.into_iter().map(|(key, name)| Present { key, name }).collect())
    }
}
