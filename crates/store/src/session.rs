//! Who is signed in. Sessions are kept by the digest of their token, and end by themselves.

use crate::workspace::Write;
use crate::{Error, Result, Store, moment, moment_if_any, random_text, sql};
use jiff::Timestamp;
use sha2::{Digest as _, Sha256};
use sqlx::postgres::PgRow;
use sqlx::{PgConnection, Row as _};

/// SHA-256 of a session's token.
pub type Hash = [u8; 32];

/// How a session says that it is one.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Carried {
    /// In a cookie of the console.
    Console,
    /// In the `Authorization` header of a command line.
    Command,
}

impl Carried {
    const ALL: [(Carried, &'static str); 2] = [(Carried::Console, "console"), (Carried::Command, "command")];

    fn word(self) -> &'static str {
        Self::ALL.iter().find(|(known, _)| *known == self).map_or("", |(_, word)| word)
    }
}

/// What an issuer says of somebody.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Claimed {
    /// The issuer's key.
    pub issuer: String,
    /// Who, for the issuer.
    pub sub: String,
    /// What they are called.
    pub name: String,
    /// Their groups.
    pub groups: Vec<String>,
    /// When they last showed it who they are.
    pub signed_in_at: Option<Timestamp>,
}

/// Whose a session is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Whose {
    /// Whoever had this key.
    Key(String),
    /// Whom an issuer names.
    Claimed(Claimed),
}

/// A session.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Session {
    /// SHA-256 of its token.
    pub hash: Hash,
    /// How it is carried.
    pub carried: Carried,
    /// Whose it is.
    pub whose: Whose,
    /// Digest of what it was begun with.
    pub begun_with: Option<Hash>,
    /// When it began.
    pub created_at: Timestamp,
    /// When its claims were last had.
    pub claimed_at: Timestamp,
    /// When it was last used, to the minute or so.
    pub used_at: Timestamp,
    /// When it was ended.
    pub ended_at: Option<Timestamp>,
}

/// A new token; never shown by `Debug`.
pub struct SessionText(String);

impl std::fmt::Debug for SessionText {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("SessionText(…)")
    }
}

impl SessionText {
    /// The text, to be given to its holder once.
    pub fn reveal(&self) -> &str {
        &self.0
    }
}

impl Session {
    /// A new one, and the token its holder will send.
    pub fn new(
        carried: Carried,
        whose: Whose,
        begun_with: Option<Hash>,
        now: Timestamp,
    ) -> (Session, SessionText) {
        let text = random_text();
        let session = Session {
            hash: Self::hash(&text),
            carried,
            whose,
            begun_with,
            created_at: now,
            claimed_at: now,
            used_at: now,
            ended_at: None,
        };
        (session, SessionText(text))
    }

    /// What a token is kept by.
    pub fn hash(text: &str) -> Hash {
        Sha256::digest(text).into()
    }
}

const COLUMNS: &str =
    "hash, kind, key, issuer, sub, name, groups, signed_in_at, begun_with, created_at, claimed_at,
                       used_at, ended_at";

impl Store {
    /// Some sessions, those that have ended among them.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn sessions(&self, hashes: &[Hash]) -> Result<Vec<Session>> {
        let hashes: Vec<&[u8]> = hashes.iter().map(<[u8; 32]>::as_slice).collect();
        let rows =
            sqlx::query(sqlx::AssertSqlSafe(format!("select {COLUMNS} from sessions where hash = any($1)")))
                .bind(hashes)
                .fetch_all(&self.pool)
                .await?;
        rows.iter().map(read).collect()
    }

    /// Begins a session. False if something was begun with the same already. Sessions of more than a day ago are
    /// let go of.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn begin_session(&self, session: &Session) -> Result<bool> {
        sqlx::query("delete from sessions where created_at < $1 - interval '1 day'")
            .bind(sql(session.created_at))
            .execute(&self.pool)
            .await?;
        let (key, claimed) = match &session.whose {
            Whose::Key(key) => (Some(key), None),
            Whose::Claimed(claimed) => (None, Some(claimed)),
        };
        let begun = sqlx::query(
            "insert into sessions (hash, kind, key, issuer, sub, name, groups, signed_in_at, begun_with, created_at,
                                   claimed_at, used_at)
             values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $10, $10) on conflict do nothing",
        )
        .bind(session.hash.as_slice())
        .bind(session.carried.word())
        .bind(key)
        .bind(claimed.map(|claimed| &claimed.issuer))
        .bind(claimed.map(|claimed| &claimed.sub))
        .bind(claimed.map_or("", |claimed| &claimed.name))
        .bind(claimed.map_or(&[][..], |claimed| &claimed.groups))
        .bind(claimed.and_then(|claimed| claimed.signed_in_at).map(sql))
        .bind(session.begun_with.as_ref().map(<[u8; 32]>::as_slice))
        .bind(sql(session.created_at))
        .execute(&self.pool)
        .await?
        .rows_affected();
        Ok(begun > 0)
    }

    /// Takes over what an issuer says of a session's holder now. False if it has ended, or is somebody else's.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn claim_again(&self, hash: &Hash, claimed: &Claimed, now: Timestamp) -> Result<bool> {
        let kept = sqlx::query(
            "update sessions set claimed_at = $2, used_at = $2, name = $3, groups = $4
             where hash = $1 and ended_at is null and issuer = $5 and sub = $6",
        )
        .bind(hash.as_slice())
        .bind(sql(now))
        .bind(&claimed.name)
        .bind(&claimed.groups)
        .bind(&claimed.issuer)
        .bind(&claimed.sub)
        .execute(&self.pool)
        .await?
        .rows_affected();
        Ok(kept > 0)
    }

    /// Notes that sessions are used. It is no write: what depends on it is to the minute.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn sessions_used(&self, hashes: &[Hash], now: Timestamp) -> Result<()> {
        let hashes: Vec<&[u8]> = hashes.iter().map(<[u8; 32]>::as_slice).collect();
        sqlx::query("update sessions set used_at = greatest(used_at, $2) where hash = any($1)")
            .bind(hashes)
            .bind(sql(now))
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Ends a session.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn end_session(&self, hash: &Hash, why: &str, now: Timestamp) -> Result<()> {
        let mut connection = self.pool.acquire().await?;
        end(&mut connection, &[*hash], why, now).await
    }
}

impl Write {
    /// Sessions with an issuer's claims that have not been ended.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn claimed_sessions(&mut self) -> Result<Vec<Session>> {
        let query = format!("select {COLUMNS} from sessions where ended_at is null and issuer is not null");
        let rows = sqlx::query(sqlx::AssertSqlSafe(query)).fetch_all(self.connection()).await?;
        rows.iter().map(read).collect()
    }

    /// Ends sessions together with what is written: whoever's rights ended with it is signed out everywhere.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn end_sessions(&mut self, hashes: &[Hash], why: &str, now: Timestamp) -> Result<()> {
        end(self.connection(), hashes, why, now).await
    }
}

async fn end(connection: &mut PgConnection, hashes: &[Hash], why: &str, now: Timestamp) -> Result<()> {
    let hashes: Vec<&[u8]> = hashes.iter().map(<[u8; 32]>::as_slice).collect();
    sqlx::query("update sessions set ended_at = $2, ended = $3 where hash = any($1) and ended_at is null")
        .bind(hashes)
        .bind(sql(now))
        .bind(why)
        .execute(connection)
        .await?;
    Ok(())
}

fn read(row: &PgRow) -> Result<Session> {
    let unreadable = |what: &str| Error::Unreadable(format!("a session's {what}"));
    let hash = |bytes: Vec<u8>| Hash::try_from(bytes).map_err(|_| unreadable("hash has 32 bytes"));
    let kind: String = row.try_get("kind")?;
    let known = Carried::ALL.into_iter().find(|(_, word)| *word == kind);
    let whose = match row.try_get::<Option<String>, _>("key")? {
        Some(key) => Whose::Key(key),
        None => Whose::Claimed(Claimed {
            issuer: row.try_get("issuer")?,
            sub: row.try_get("sub")?,
            name: row.try_get("name")?,
            groups: row.try_get("groups")?,
            signed_in_at: moment_if_any(row, "signed_in_at")?,
        }),
    };
    Ok(Session {
        hash: hash(row.try_get("hash")?)?,
        carried: known.ok_or_else(|| unreadable("kind"))?.0,
        whose,
        begun_with: row.try_get::<Option<Vec<u8>>, _>("begun_with")?.map(hash).transpose()?,
        created_at: moment(row, "created_at")?,
        claimed_at: moment(row, "claimed_at")?,
        used_at: moment(row, "used_at")?,
        ended_at: moment_if_any(row, "ended_at")?,
    })
}
