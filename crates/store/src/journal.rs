//! The journal: what happened, by position, each row digested with the one before it.

use crate::workspace::Write;
use crate::{Error, Result, Store, moment, sql};
use jiff::Timestamp;
use ostrog_core::register::journal::{Entry, to_bytes};
use serde_json::Value;
use sha2::{Digest as _, Sha256};
use sqlx::Row as _;
use sqlx::postgres::PgRow;
use std::fmt;
use std::str::FromStr;

/// What kind of thing happened.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Kind {
    /// Facts changed: the content is entries of the register's journal.
    Register,
    /// Revisions went live.
    Rollout,
    /// A draft was saved or discarded.
    Draft,
    /// A draft, or settings, were approved, returned or remarked upon, or a revision was shut for good.
    Review,
    /// Settings of the workspace.
    Settings,
    /// A shadow was begun or ended.
    Shadow,
    /// A case was kept or taken away.
    Case,
    /// Files of the rehearsal were saved, or one was run.
    Rehearsal,
    /// A key was made or ended.
    Key,
    /// An issuer of tokens was set up or ended.
    Issuer,
    /// The database was restored or failed over: positions of before mean nothing any more.
    Epoch,
    /// The database was brought to a newer form, and what of it was mended.
    Upgrade,
}

impl Kind {
    const ALL: [(Kind, &'static str); 12] = [
        (Kind::Register, "register"),
        (Kind::Rollout, "rollout"),
        (Kind::Draft, "draft"),
        (Kind::Review, "review"),
        (Kind::Settings, "settings"),
        (Kind::Shadow, "shadow"),
        (Kind::Case, "case"),
        (Kind::Rehearsal, "rehearsal"),
        (Kind::Key, "key"),
        (Kind::Issuer, "issuer"),
        (Kind::Epoch, "epoch"),
        (Kind::Upgrade, "upgrade"),
    ];

    /// The word for it.
    pub fn word(self) -> &'static str {
        Self::ALL.iter().find(|(kind, _)| *kind == self).map_or("", |(_, word)| word)
    }
}

impl FromStr for Kind {
    type Err = Error;

    fn from_str(text: &str) -> Result<Kind> {
        let found = Self::ALL.iter().find(|(_, word)| *word == text).map(|(kind, _)| *kind);
        found.ok_or_else(|| Error::Unreadable(format!("a row of the unknown kind {text:?}")))
    }
}

/// The digest of a row and of all before it.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct Chain(pub [u8; 32]);

impl Chain {
    /// What stands before the first row.
    pub const START: Chain = Chain([0; 32]);

    pub(crate) fn from_column(bytes: &[u8]) -> Result<Chain> {
        let bytes = bytes.try_into().map_err(|_| Error::Unreadable("a digest has 32 bytes".to_owned()))?;
        Ok(Chain(bytes))
    }

    /// The digest of a row that follows this one.
    ///
    /// Of the text `ostrog-change-1`, then of each field with its length before it, in eight bytes,
    /// big-endian: this digest, the epoch, the position (eight bytes), the moment (microseconds since
    /// 1970 in UTC, eight bytes), who, the kind, and the content as it is kept.
    #[must_use]
    pub fn next(&self, row: &NewRow<'_>, epoch: &str, position: i64) -> Chain {
        let mut digest = Sha256::new();
        digest.update(b"ostrog-change-1");
        let mut field = |bytes: &[u8]| {
            digest.update(u64::try_from(bytes.len()).unwrap_or(u64::MAX).to_be_bytes());
            digest.update(bytes);
        };
        field(&self.0);
        field(epoch.as_bytes());
        field(&position.to_be_bytes());
        field(&row.at.as_microsecond().to_be_bytes());
        field(row.actor.as_bytes());
        field(row.kind.word().as_bytes());
        field(row.content);
        Chain(digest.finalize().into())
    }
}

impl fmt::Display for Chain {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&hex::encode(self.0))
    }
}

impl fmt::Debug for Chain {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{self}")
    }
}

/// A row to be written.
#[derive(Clone, Copy, Debug)]
pub struct NewRow<'r> {
    /// What kind of thing happened.
    pub kind: Kind,
    /// When; kept to the microsecond.
    pub at: Timestamp,
    /// Who.
    pub actor: &'r str,
    /// What: lines of JSON.
    pub content: &'r [u8],
}

/// A row of the journal.
#[derive(Clone, Debug)]
pub struct Row {
    /// 1, 2, 3 … without gaps.
    pub position: i64,
    /// The epoch it was written in.
    pub epoch: String,
    /// When.
    pub at: Timestamp,
    /// Who: a key's id, or what else acted.
    pub actor: String,
    /// What kind of thing happened.
    pub kind: Kind,
    /// What, as it was written; of a row that is told in short, the beginning.
    pub content: Vec<u8>,
    /// How many lines there are in all.
    pub lines: usize,
    /// The digest of this row and of all before it.
    pub digest: Chain,
    /// Whether it was made part of the chain by an upgrade, long after it was written.
    pub chained: bool,
}

impl Row {
    /// The lines of it as JSON, as far as they are whole.
    pub fn to_json(&self) -> Vec<Value> {
        let lines = self.content.split_inclusive(|byte| *byte == b'\n').filter(|line| line.ends_with(b"\n"));
        lines.filter_map(|line| serde_json::from_slice(line).ok()).collect()
    }
}

/// How many bytes of rows are read at a time: whole rows, at least one.
const MAX_BYTES: i64 = 8 << 20;
/// How much of a row is read where it is told in short.
const BRIEF: i32 = 16 << 10;

/// Lines of JSON as content.
pub(crate) fn lines(values: &[Value]) -> Vec<u8> {
    let mut bytes = Vec::new();
    for value in values {
        bytes.extend_from_slice(value.to_string().as_bytes());
        bytes.push(b'\n');
    }
    bytes
}

fn count(content: &[u8]) -> i32 {
    i32::try_from(content.iter().filter(|byte| **byte == b'\n').count()).unwrap_or(i32::MAX)
}

impl Store {
    /// Rows after a position, oldest first: at most so many, and so many bytes, unless one alone is longer.
    ///
    /// # Errors
    /// If the database cannot be reached, or holds what cannot be read.
    pub async fn rows_after(&self, after: i64, limit: i64, bytes: i64) -> Result<Vec<Row>> {
        let rows = sqlx::query(
            "select position, epoch, at, actor, kind, content, lines, digest, chained from (
                 select *, sum(octet_length(content)) over (order by position) - octet_length(content) as before
                 from (select * from journal where position > $1 order by position limit $2) as next
             ) as sized where before < $3 order by position",
        )
        .bind(after)
        .bind(limit)
        .bind(bytes)
        .fetch_all(&self.swift)
        .await?;
        rows.iter().map(read).collect()
    }

    /// Rows before a position, newest first, from the last one if none is given: at most so many, and
    /// at most 8 MiB. `brief` tells the first 16 KiB of each.
    ///
    /// # Errors
    /// As [`Store::rows_after`].
    pub async fn rows_before(&self, before: Option<i64>, limit: i64, brief: bool) -> Result<Vec<Row>> {
        let rows = sqlx::query(
            "select position, epoch, at, actor, kind, lines, digest, chained,
                    case when $4 then substring(content from 1 for $5) else content end as content
             from (
                 select *, sum(least(octet_length(content), case when $4 then $5 end))
                               over (order by position desc)
                           - least(octet_length(content), case when $4 then $5 end) as after
                 from (select * from journal where position < $1 order by position desc limit $2) as next
             ) as sized where after < $3 order by position desc",
        )
        .bind(before.unwrap_or(i64::MAX))
        .bind(limit)
        .bind(MAX_BYTES)
        .bind(brief)
        .bind(BRIEF)
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(read).collect()
    }

    /// Rows whose entries name something, newest first, as [`Store::rows_before`].
    ///
    /// # Errors
    /// As [`Store::rows_after`].
    pub async fn rows_about(&self, name: &str, before: Option<i64>, limit: i64) -> Result<Vec<Row>> {
        let rows = sqlx::query(
            "select position, epoch, at, actor, kind, content, lines, digest, chained from (
                 select *, sum(octet_length(content)) over (order by position desc)
                           - octet_length(content) as after
                 from (select journal.* from change_names join journal using (position)
                       where name = $1 and position < $2 order by position desc limit $3) as found
             ) as sized where after < $4 order by position desc",
        )
        .bind(name)
        .bind(before.unwrap_or(i64::MAX))
        .bind(limit)
        .bind(MAX_BYTES)
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(read).collect()
    }

    /// The digest at a position; none where there is no row.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn digest_at(&self, position: i64) -> Result<Option<Chain>> {
        let digest: Option<Vec<u8>> = sqlx::query_scalar("select digest from journal where position = $1")
            .bind(position)
            .fetch_optional(&self.pool)
            .await?;
        digest.as_deref().map(Chain::from_column).transpose()
    }
}

pub(crate) fn read(row: &PgRow) -> Result<Row> {
    let kind: &str = row.try_get("kind")?;
    let lines: i32 = row.try_get("lines")?;
    Ok(Row {
        position: row.try_get("position")?,
        epoch: row.try_get("epoch")?,
        at: moment(row, "at")?,
        actor: row.try_get("actor")?,
        kind: kind.parse()?,
        content: row.try_get("content")?,
        lines: usize::try_from(lines).unwrap_or(0),
        digest: Chain::from_column(row.try_get("digest")?)?,
        chained: row.try_get("chained")?,
    })
}

impl Write {
    /// Records something under the next position.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn record(&mut self, row: NewRow<'_>) -> Result<i64> {
        self.record_marked(row, false).await
    }

    pub(crate) async fn record_marked(&mut self, row: NewRow<'_>, chained: bool) -> Result<i64> {
        let position = self.position() + 1;
        let digest = self.digest().next(&row, self.epoch(), position);
        let (epoch, lines) = (self.epoch().to_owned(), count(row.content));
        sqlx::query(
            "insert into journal (position, epoch, at, actor, kind, content, lines, digest, chained)
             values ($1, $2, $3, $4, $5, $6, $7, $8, $9)",
        )
        .bind(position)
        .bind(epoch)
        .bind(sql(row.at))
        .bind(row.actor)
        .bind(row.kind.word())
        .bind(row.content)
        .bind(lines)
        .bind(digest.0.as_slice())
        .bind(chained)
        .execute(self.connection())
        .await?;
        self.moved_on(position, digest);
        Ok(position)
    }

    /// Records what a batch came to, and keeps the tables of the register in step with it.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn record_entries(
        &mut self,
        entries: &[Entry],
        note: Option<&str>,
        actor: &str,
        at: Timestamp,
    ) -> Result<i64> {
        let mut content = to_bytes(entries);
        content
            .extend(to_bytes(&note.map(|note| Entry::Note(note.to_owned())).into_iter().collect::<Vec<_>>()));
        let row = NewRow { kind: Kind::Register, at, actor, content: &content };
        let position = self.record(row).await?;
        self.note_names(entries, position).await?;
        self.keep(entries, position).await?;
        Ok(position)
    }

    /// Notes which things a row names.
    pub(crate) async fn note_names(&mut self, entries: &[Entry], position: i64) -> Result<()> {
        let mut names: Vec<&str> = entries.iter().flat_map(Entry::names).collect();
        names.sort_unstable();
        names.dedup();
        if names.is_empty() {
            return Ok(());
        }
        sqlx::query(
            "insert into change_names (name, position) select unnest($1::text[]), $2 on conflict do nothing",
        )
        .bind(&names)
        .bind(position)
        .execute(self.connection())
        .await?;
        Ok(())
    }
}
