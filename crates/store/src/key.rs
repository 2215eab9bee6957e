//! Keys: 256 random bits, shown once, kept as a SHA-256.

use crate::workspace::{Recorded, Write};
use crate::{Error, MOMENT_FORMAT, Result, Store, moment, random_text};
use jiff::Timestamp;
use serde_json::json;
use sha2::{Digest as _, Sha256};
use sqlx::Row as _;
use std::fmt;
use subtle::ConstantTimeEq as _;

/// What a key may do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum KeyKind {
    /// Reads and writes everything.
    Operator,
    /// Asks questions for one application.
    Application(String),
}

/// A key as it is kept: without its secret.
#[derive(Clone)]
pub struct Key {
    /// What it is called in logs, e.g. `k-3f9a0c`.
    pub id: String,
    /// What it may do.
    pub kind: KeyKind,
    /// What its maker called it.
    pub name: String,
    /// Since when.
    pub created_at: Timestamp,
    /// Until when, if it ends by itself.
    pub until: Option<Timestamp>,
    hash: [u8; 32],
}

impl fmt::Debug for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Key").field("id", &self.id).field("kind", &self.kind).finish_non_exhaustive()
    }
}

/// A key's text, as its holder sends it: `ostrog.ID.SECRET`. Never shown by `Debug`.
pub struct KeyText(String);

impl fmt::Debug for KeyText {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("KeyText(…)")
    }
}

impl KeyText {
    /// The text, to be shown once.
    pub fn reveal(&self) -> &str {
        &self.0
    }
}

impl Key {
    /// A new key and the text its holder will send.
    pub fn new(kind: KeyKind, name: &str, now: Timestamp, until: Option<Timestamp>) -> (Key, KeyText) {
        // PostgreSQL keeps microseconds and rounds; cut off here, a key never outlives its end.
        let until = until.map(|until| Timestamp::from_microsecond(until.as_microsecond()).unwrap_or(until));
        let id = format!("k-{}", &random_text()[..8]);
        let text = KeyText(format!("ostrog.{id}.{}", random_text()));
        let hash = Sha256::digest(text.reveal()).into();
        (Key { id, kind, name: name.to_owned(), created_at: now, until, hash }, text)
    }

    /// The id a text claims to be of.
    pub fn claimed_id(text: &str) -> Option<&str> {
        text.strip_prefix("ostrog.")?.split_once('.').map(|(id, _)| id)
    }

    /// Whether a text is this key's and it counts at a moment. Takes the same time for every
    /// wrong text.
    pub fn is(&self, text: &str, now: Timestamp) -> bool {
        let hash: [u8; 32] = Sha256::digest(text).into();
        let same: bool = self.hash.ct_eq(&hash).into();
        same && self.until.is_none_or(|until| now < until)
    }
}

impl Store {
    /// All keys that have not been ended.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn keys(&self) -> Result<Vec<Key>> {
        let rows = sqlx::query(
            "select id, application, name, hash, to_char(created_at at time zone 'utc', $1) as created_at,
                    to_char(until at time zone 'utc', $1) as until
             from keys where ended_at is null order by created_at, id",
        )
        .bind(MOMENT_FORMAT)
        .fetch_all(&self.pool)
        .await?;
        rows.iter()
            .map(|row| {
                let hash: Vec<u8> = row.try_get("hash")?;
                let application: Option<String> = row.try_get("application")?;
                let until: Option<String> = row.try_get("until")?;
                Ok(Key {
                    id: row.try_get("id")?,
                    kind: application.map_or(KeyKind::Operator, KeyKind::Application),
                    name: row.try_get("name")?,
                    created_at: moment(row.try_get("created_at")?)?,
                    until: until.as_deref().map(moment).transpose()?,
                    hash: hash
                        .try_into()
                        .map_err(|_| Error::Unreadable("a key's hash has 32 bytes".to_owned()))?,
                })
            })
            .collect()
    }
}

impl Write {
    /// Keeps a key, and records who made it.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn add_key(&mut self, key: &Key, actor: &str) -> Result<()> {
        let (kind, application) = match &key.kind {
            KeyKind::Operator => ("operator", None),
            KeyKind::Application(application) => ("application", Some(application)),
        };
        sqlx::query(
            "insert into keys (id, kind, application, name, hash, created_at, until)
             values ($1, $2, $3, $4, $5, $6::text::timestamptz, $7::text::timestamptz)",
        )
        .bind(&key.id)
        .bind(kind)
        .bind(application)
        .bind(&key.name)
        .bind(key.hash.as_slice())
        .bind(key.created_at.to_string())
        .bind(key.until.map(|until| until.to_string()))
        .execute(self.connection())
        .await?;
        let line = json!({ "key": key.id, "kind": kind, "application": application, "name": key.name });
        self.record(&Recorded { kind: "key", lines: vec![line] }, key.created_at, actor).await?;
        Ok(())
    }
}
