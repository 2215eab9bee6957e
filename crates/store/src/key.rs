//! Keys: 256 random bits, shown once, kept as a SHA-256.

use crate::journal::Kind;
use crate::workspace::Write;
use crate::{By, Error, Result, Store, cut, moment, moment_if_any, random_text, sql};
use jiff::Timestamp;
pub use ostrog_wire::keys::{Detail, ENDPOINTS, HeaderPair, Proxied, Right};
use serde_json::{Map, Value, json};
use sha2::{Digest as _, Sha256};
use sqlx::postgres::PgRow;
use sqlx::{PgConnection, Row as _};
use std::fmt;
use subtle::ConstantTimeEq as _;

/// What a key may do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum KeyKind {
    /// Reads and writes everything.
    Operator,
    /// Asks questions for one application.
    Application(String),
    /// Asks about requests that a reverse proxy is to let through.
    Proxy(Proxied),
}

/// What a new key is to be.
#[derive(Clone, Debug)]
pub struct Making {
    /// Whose.
    pub kind: KeyKind,
    /// What its maker calls it.
    pub name: String,
    /// Until when, if it ends by itself.
    pub until: Option<Timestamp>,
    /// How much answers tell.
    pub detail: Detail,
    /// Which endpoints an application's key may call.
    pub endpoints: Vec<String>,
    /// Types of other applications it may ask about.
    pub types: Vec<String>,
    /// What an operator may do.
    pub rights: Vec<Right>,
    /// Whose an operator's key is; without one it is a program's.
    pub person: Option<String>,
    /// For trying ahead alone.
    pub staging: bool,
}

impl Making {
    /// A key that does all its kind can, without an end.
    pub fn whole(kind: KeyKind, name: &str) -> Making {
        let owner = Right { role: "owner".to_owned(), at: "everywhere".to_owned() };
        let (rights, endpoints) = match kind {
            KeyKind::Operator => (vec![owner], Vec::new()),
            KeyKind::Proxy(_) => (Vec::new(), Vec::new()),
            KeyKind::Application(_) => (Vec::new(), ENDPOINTS.map(str::to_owned).to_vec()),
        };
        Making {
            kind,
            name: name.to_owned(),
            until: None,
            detail: Detail::Full,
            endpoints,
            types: Vec::new(),
            rights,
            person: None,
            staging: false,
        }
    }
}

/// A key as it is kept: without its secret.
#[derive(Clone)]
pub struct Key {
    /// What it is called in logs, e.g. `k-3f9a0c`.
    pub id: String,
    /// Whose it is, and what it may do.
    pub making: Making,
    /// Since when.
    pub created_at: Timestamp,
    /// When it was last shown, to the minute or so.
    pub last_used_at: Option<Timestamp>,
    /// As whom whoever made or replaced it counts, and with them the key.
    pub made_by: Vec<String>,
    hash: [u8; 32],
}

impl fmt::Debug for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Key").field("id", &self.id).field("kind", &self.making.kind).finish_non_exhaustive()
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
    /// A new key and the text its holder will send; it counts as whoever makes it, too.
    pub fn new(mut making: Making, by: &By) -> (Key, KeyText) {
        // PostgreSQL keeps microseconds and rounds; cut off here, a key never outlives its end.
        making.until = making.until.map(cut);
        let id = format!("k-{}", &random_text()[..8]);
        let text = KeyText(format!("ostrog.{id}.{}", random_text()));
        let hash = Sha256::digest(text.reveal()).into();
        let made_by = by.counts_as.clone();
        (Key { id, making, created_at: by.at, last_used_at: None, made_by, hash }, text)
    }

    /// What the journal tells of it: all that it may do, and of its secret as much as tells another one apart.
    pub(crate) fn told(&self) -> Vec<(&'static str, Value)> {
        let making = &self.making;
        let (kind, application, proxy) = match &making.kind {
            KeyKind::Operator => ("operator", None, None),
            KeyKind::Application(application) => ("application", Some(application), None),
            KeyKind::Proxy(proxy) => ("proxy", None, Some(json!(proxy))),
        };
        vec![
            ("key", json!(self.id)),
            ("kind", json!(kind)),
            ("application", json!(application)),
            ("name", json!(making.name)),
            ("rights", json!(making.rights)),
            ("proxy", json!(proxy)),
            ("person", json!(making.person)),
            ("staging", json!(making.staging)),
            ("made-by", json!(self.made_by)),
            ("detail", json!(detail_word(making.detail))),
            ("endpoints", json!(making.endpoints)),
            ("types", json!(making.types)),
            ("secret", json!(hex::encode(Sha256::digest(self.hash)))),
        ]
    }

    /// Everybody that what is done with it counts as.
    pub fn counts_as(&self) -> Vec<String> {
        let person = self.making.person.iter().map(|person| format!("person:{person}"));
        let mut all: Vec<String> =
            std::iter::once(format!("key:{}", self.id)).chain(person).chain(self.made_by.clone()).collect();
        all.sort_unstable();
        all.dedup();
        all
    }

    /// Whether it has not ended by itself.
    pub fn counts(&self, now: Timestamp) -> bool {
        self.making.until.is_none_or(|until| now < until)
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
        same && self.counts(now)
    }
}

impl Store {
    /// All keys that have not been ended.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn keys(&self) -> Result<Vec<Key>> {
        let mut connection = self.pool.acquire().await?;
        read_all(&mut connection).await
    }

    /// Notes when keys were last used.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn used(&self, ids: &[String], at: Timestamp) -> Result<()> {
        sqlx::query("update keys set last_used_at = $2 where id = any($1)")
            .bind(ids)
            .bind(sql(at))
            .execute(&self.pool)
            .await?;
        Ok(())
    }
}

fn detail_word(detail: Detail) -> &'static str {
    match detail {
        Detail::None => "none",
        Detail::Reason => "reason",
        Detail::Full => "full",
    }
}

/// The keys that have not been ended.
pub(crate) async fn read_all(connection: &mut PgConnection) -> Result<Vec<Key>> {
    let rows = sqlx::query(
        "select id, application, name, hash, detail, endpoints, types, rights, proxy, person, counts_as, staging,
                    created_at,
                    until,
                    last_used_at
             from keys where ended_at is null order by created_at, id",
    )
    .fetch_all(connection)
    .await?;
    rows.iter().map(read).collect()
}

fn read(row: &PgRow) -> Result<Key> {
    let unreadable = |what: &str| Error::Unreadable(format!("a key's {what}"));
    let hash: Vec<u8> = row.try_get("hash")?;
    let application: Option<String> = row.try_get("application")?;
    let proxy: Option<Value> = row.try_get("proxy")?;
    let detail: String = row.try_get("detail")?;
    let making = Making {
        kind: match (application, proxy) {
            (Some(application), _) => KeyKind::Application(application),
            (None, Some(proxy)) => {
                KeyKind::Proxy(serde_json::from_value(proxy).map_err(|_| unreadable("proxy"))?)
            }
            (None, None) => KeyKind::Operator,
        },
        name: row.try_get("name")?,
        until: moment_if_any(row, "until")?,
        detail: serde_json::from_value(detail.into()).map_err(|_| unreadable("detail"))?,
        endpoints: row.try_get("endpoints")?,
        types: row.try_get("types")?,
        rights: serde_json::from_value(row.try_get("rights")?).map_err(|_| unreadable("rights"))?,
        person: row.try_get("person")?,
        staging: row.try_get("staging")?,
    };
    Ok(Key {
        id: row.try_get("id")?,
        making,
        created_at: moment(row, "created_at")?,
        last_used_at: moment_if_any(row, "last_used_at")?,
        made_by: row.try_get("counts_as")?,
        hash: hash.try_into().map_err(|_| unreadable("hash has 32 bytes"))?,
    })
}

impl Write {
    /// Keeps a key, and records who made it.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn add_key(&mut self, key: &Key, actor: &str) -> Result<()> {
        let making = &key.making;
        let (kind, application, proxy) = match &making.kind {
            KeyKind::Operator => ("operator", None, None),
            KeyKind::Application(application) => ("application", Some(application), None),
            KeyKind::Proxy(proxy) => ("proxy", None, Some(json!(proxy))),
        };
        let rights = json!(making.rights);
        sqlx::query(
            "insert into keys (id, kind, application, name, hash, created_at, until, detail, endpoints,
                               types, rights, proxy, person, counts_as, staging)
             values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15)",
        )
        .bind(&key.id)
        .bind(kind)
        .bind(application)
        .bind(&making.name)
        .bind(key.hash.as_slice())
        .bind(sql(key.created_at))
        .bind(making.until.map(sql))
        .bind(detail_word(making.detail))
        .bind(&making.endpoints)
        .bind(&making.types)
        .bind(&rights)
        .bind(&proxy)
        .bind(&making.person)
        .bind(&key.made_by)
        .bind(making.staging)
        .execute(self.connection())
        .await?;
        let line: Map<String, Value> =
            key.told().into_iter().map(|(name, value)| (name.to_owned(), value)).collect();
        let mut line = line;
        line.insert("until".to_owned(), json!(making.until.map(|until| until.to_string())));
        let line = Value::Object(line);
        self.record_line(Kind::Key, &line, actor, key.created_at).await?;
        Ok(())
    }

    /// Lets a key end by itself at a moment, unless it ends before; with none, it ends now. False if
    /// it had ended.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn end_key(
        &mut self,
        id: &str,
        until: Option<Timestamp>,
        actor: &str,
        now: Timestamp,
    ) -> Result<bool> {
        let ended = sqlx::query(
            "update keys set until = coalesce(least(until, $2), until),
                    ended_at = case when $2 is null then $3 end
             where id = $1 and ended_at is null",
        )
        .bind(id)
        .bind(until.map(sql))
        .bind(sql(now))
        .execute(self.connection())
        .await?
        .rows_affected()
            > 0;
        if ended {
            let line = json!({ "end-key": id, "until": until.map(|until| until.to_string()) });
            self.record_line(Kind::Key, &line, actor, now).await?;
        }
        Ok(ended)
    }
}
