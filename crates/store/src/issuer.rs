//! Issuers of tokens, as operators set them up.

use crate::journal::Kind;
use crate::workspace::Write;
use crate::{By, Error, Result, Store, moment, sql};
use jiff::Timestamp;
use serde_json::{Value, json};
use sha2::{Digest as _, Sha256};
use sqlx::postgres::PgRow;
use sqlx::{PgConnection, Row as _};
use std::collections::BTreeMap;

/// An issuer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Issuer {
    /// Its key in charters.
    pub key: String,
    /// Its `iss`.
    pub iss: String,
    /// By application, the audiences its tokens may name.
    pub audiences: BTreeMap<String, Vec<String>>,
    /// A JWK set or PEM, if its keys are not had from where it says they are.
    pub keys: Option<Vec<u8>>,
    /// Whether private and link-local addresses may be asked.
    pub private: bool,
    /// Whether its ID tokens count.
    pub id_tokens: bool,
    /// As which client operators sign in with it; none: they do not.
    pub client: Option<String>,
    /// Whether another has to approve that first.
    pub waits: bool,
    /// As whom whoever set it up counts.
    pub persons: Vec<String>,
    /// Since when.
    pub created_at: Timestamp,
    /// Who set it up.
    pub author: String,
}

impl Issuer {
    /// The client as which operators sign in with it now.
    pub fn for_operators(&self) -> Option<&str> {
        self.client.as_deref().filter(|_| !self.waits)
    }

    /// What the journal tells of it.
    pub(crate) fn told(&self) -> Vec<(&'static str, Value)> {
        let keys = if self.keys.is_some() { "a file" } else { "discovered" };
        vec![
            ("issuer", json!(self.key)),
            ("iss", json!(self.iss)),
            ("audiences", json!(self.audiences)),
            ("keys", json!(keys)),
            ("keys-digest", json!(self.keys.as_ref().map(|keys| hex::encode(Sha256::digest(keys))))),
            ("private", json!(self.private)),
            ("id-tokens", json!(self.id_tokens)),
            ("client", json!(self.client)),
            ("waits", json!(self.waits)),
            ("counts-as", json!(self.persons)),
        ]
    }

    /// Digest of all that an approval of it binds.
    pub fn digest(&self) -> [u8; 32] {
        let bound = json!([
            self.key,
            self.iss,
            self.audiences,
            self.keys,
            self.private,
            self.id_tokens,
            self.client,
            self.created_at.to_string(),
        ]);
        Sha256::digest(bound.to_string()).into()
    }
}

impl Store {
    /// All issuers, by key.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn issuers(&self) -> Result<Vec<Issuer>> {
        let mut connection = self.pool.acquire().await?;
        read_all(&mut connection).await
    }
}

pub(crate) async fn read_all(connection: &mut PgConnection) -> Result<Vec<Issuer>> {
    let rows = sqlx::query(
        "select key, iss, audiences, keys, private, id_tokens, client, waits, persons, created_at, author
         from issuers order by key",
    )
    .fetch_all(connection)
    .await?;
    rows.iter().map(read).collect()
}

fn read(row: &PgRow) -> Result<Issuer> {
    let audiences = serde_json::from_value(row.try_get("audiences")?);
    Ok(Issuer {
        key: row.try_get("key")?,
        iss: row.try_get("iss")?,
        audiences: audiences.map_err(|_| Error::Unreadable("an issuer's audiences".to_owned()))?,
        keys: row.try_get("keys")?,
        private: row.try_get("private")?,
        id_tokens: row.try_get("id_tokens")?,
        client: row.try_get("client")?,
        waits: row.try_get("waits")?,
        persons: row.try_get("persons")?,
        created_at: moment(row, "created_at")?,
        author: row.try_get("author")?,
    })
}

impl Write {
    /// Keeps an issuer, and records who set it up. False if its key or its `iss` is taken.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn add_issuer(&mut self, issuer: &Issuer) -> Result<bool> {
        let added = sqlx::query(
            "insert into issuers (key, iss, audiences, keys, private, id_tokens, created_at, author, client, waits,
                                  persons)
             values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) on conflict do nothing",
        )
        .bind(&issuer.key)
        .bind(&issuer.iss)
        .bind(json!(issuer.audiences))
        .bind(&issuer.keys)
        .bind(issuer.private)
        .bind(issuer.id_tokens)
        .bind(sql(issuer.created_at))
        .bind(&issuer.author)
        .bind(&issuer.client)
        .bind(issuer.waits)
        .bind(&issuer.persons)
        .execute(self.connection())
        .await?
        .rows_affected()
            > 0;
        if added {
            let line = issuer.told().into_iter().map(|(name, value)| (name.to_owned(), value));
            let line = Value::Object(line.collect());
            self.record_line(Kind::Issuer, &line, &issuer.author, issuer.created_at).await?;
        }
        Ok(added)
    }

    /// Operators sign in with an issuer from now on.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn issuer_approved(&mut self, key: &str, by: &By) -> Result<()> {
        sqlx::query("update issuers set waits = false where key = $1")
            .bind(key)
            .execute(self.connection())
            .await?;
        let line = json!({ "issuer": key, "waits": false });
        self.record_line(Kind::Issuer, &line, &by.actor, by.at).await?;
        Ok(())
    }

    /// All issuers, as this write finds them.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn issuers(&mut self) -> Result<Vec<Issuer>> {
        read_all(self.connection()).await
    }

    /// Ends an issuer. False if there is none.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn end_issuer(&mut self, key: &str, actor: &str, now: Timestamp) -> Result<bool> {
        let ended = sqlx::query("delete from issuers where key = $1")
            .bind(key)
            .execute(self.connection())
            .await?
            .rows_affected()
            > 0;
        if ended {
            self.record_line(Kind::Issuer, &json!({ "end-issuer": key }), actor, now).await?;
        }
        Ok(ended)
    }
}
