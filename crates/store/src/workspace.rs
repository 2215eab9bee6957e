//! The counter row, everything at one position, and writes in their order.

use crate::issuer::Issuer;
use crate::journal::{Chain, Kind, NewRow, lines};
use crate::key::Key;
use crate::release::Placed;
use crate::revision::Revision;
use crate::settings::Put;
use crate::{Error, Result, Store, random_text};
use futures_util::{Stream, TryStreamExt as _};
use jiff::Timestamp;
use ostrog_core::register::journal::{Entry, from_bytes};
use ostrog_core::register::{NextIds, Register};
use serde_json::{Value, json};
use sqlx::{PgConnection, Postgres, Row as _, Transaction};
use std::time::Duration;
use tokio::sync::mpsc::{Receiver, Sender, channel};

/// Everything a node answers from, as it was at one position.
#[derive(Debug)]
pub struct Loaded {
    /// Changes when the database was restored.
    pub epoch: String,
    /// The position all of this is at.
    pub position: i64,
    /// The digest of the journal up to there.
    pub digest: Chain,
    /// What is live.
    pub live: Placed,
    /// Each revision that is live for some application.
    pub revisions: Vec<Revision>,
    /// The facts.
    pub register: Register,
    /// The keys that have not been ended.
    pub keys: Vec<Key>,
    /// The issuers of tokens.
    pub issuers: Vec<Issuer>,
    /// The settings, if any were put.
    pub settings: Option<Put>,
}

/// A write under way: it holds the counter row, so no other write is. Dropped without
/// [`Write::commit`], nothing of it was.
#[derive(Debug)]
pub struct Write {
    transaction: Transaction<'static, Postgres>,
    epoch: String,
    position: i64,
    digest: Chain,
}

/// How many rows of the register are handed on at a time.
const PART: usize = 4_000;

/// What is read of the register, in parts.
enum Part {
    /// Entities that will be spoken of.
    Names(Vec<String>),
    /// Entries as they are kept.
    Docs(Vec<Vec<u8>>),
    /// Names that stay known as deleted.
    Gone(Vec<String>),
}

/// Builds a register of the parts as they come, beside whoever reads them.
fn build(mut parts: Receiver<Part>) -> Result<Register> {
    let unreadable = |why: String| Error::Unreadable(why);
    let mut register = Register::default();
    while let Some(part) = parts.blocking_recv() {
        match part {
            Part::Names(names) => register.fold_names(names.iter().map(String::as_str)),
            Part::Gone(names) => {
                let entries: Vec<Entry> = names.into_iter().map(Entry::Deleted).collect();
                register.fold(&entries).map_err(|why| unreadable(why.to_string()))?;
            }
            Part::Docs(docs) => {
                let mut entries = Vec::with_capacity(docs.len());
                for doc in docs {
                    let read = from_bytes(&doc)
                        .map_err(|why| unreadable(format!("{} ({why})", String::from_utf8_lossy(&doc))))?;
                    entries.extend(read);
                }
                register.fold(&entries).map_err(|why| unreadable(why.to_string()))?;
            }
        }
    }
    Ok(register)
}

impl Store {
    pub(crate) async fn ensure_workspace(&self) -> Result<()> {
        sqlx::query("insert into workspace (epoch) values ($1) on conflict do nothing")
            .bind(new_epoch())
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Reads everything at one position: one transaction with one snapshot. Takes as long as it takes:
    /// seconds for each million facts.
    ///
    /// # Errors
    /// If the database cannot be reached or holds what cannot be read.
    pub async fn load(&self) -> Result<Loaded> {
        let mut transaction = self.pool.begin().await?;
        sqlx::query("set transaction isolation level repeatable read, read only")
            .execute(&mut *transaction)
            .await?;
        let row = sqlx::query("select epoch, position, digest, next_grant, next_activation from workspace")
            .fetch_one(&mut *transaction)
            .await?;
        let live = crate::release::placed(&mut transaction).await?;
        let mut revisions = Vec::new();
        for number in live.revisions() {
            let missing = || Error::Unreadable(format!("revision {number} is live and not there"));
            revisions.push(crate::revision::read(&mut transaction, number).await?.ok_or_else(missing)?);
        }
        let keys = crate::key::read_all(&mut transaction).await?;
        let issuers = crate::issuer::read_all(&mut transaction).await?;
        let settings = crate::settings::in_force(&mut transaction).await?;
        let mut register = register_of_tables(&mut transaction).await?;
        transaction.commit().await?;
        let number =
            |column| -> Result<u64> { Ok(u64::try_from(row.try_get::<i64, _>(column)?).unwrap_or(1)) };
        register.skip_ids(NextIds { grant: number("next_grant")?, activation: number("next_activation")? });
        Ok(Loaded {
            epoch: row.try_get("epoch")?,
            position: row.try_get("position")?,
            digest: Chain::from_column(row.try_get("digest")?)?,
            live,
            revisions,
            register,
            keys,
            issuers,
            settings,
        })
    }

    /// Begins a write: waits until no other is under way.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn begin_write(&self) -> Result<Write> {
        let mut transaction = self.pool.begin().await?;
        // The lock on the one counter row: it guards the order of all writes, and every check
        // over the whole register that a writer makes.
        let row = sqlx::query("select epoch, position, digest from workspace for update")
            .fetch_one(&mut *transaction)
            .await?;
        Ok(Write {
            epoch: row.try_get("epoch")?,
            position: row.try_get("position")?,
            digest: Chain::from_column(row.try_get("digest")?)?,
            transaction,
        })
    }
}

/// Hands the register on in parts: all names first, so that what is said of one may name any other.
async fn read_register(connection: &mut PgConnection, parts: &Sender<Part>) -> Result<()> {
    for (query, of) in [
        ("select name from entities where deleted order by position, name", Part::Gone as fn(_) -> Part),
        ("select name from entities where not deleted order by position, name", Part::Names),
    ] {
        let names = sqlx::query_scalar::<_, String>(query).fetch(&mut *connection);
        hand_on(names, parts, of).await?;
    }
    for query in [
        "select doc from entities where not deleted order by position, name",
        "select doc from tenant_roles order by position, key",
        "select doc from grants order by position, id",
        "select doc from activations order by position, id",
    ] {
        let docs = sqlx::query_scalar::<_, Vec<u8>>(query).fetch(&mut *connection);
        hand_on(docs, parts, Part::Docs).await?;
    }
    Ok(())
}

/// The register as its tables have it.
pub(crate) async fn register_of_tables(connection: &mut PgConnection) -> Result<Register> {
    let (sender, receiver) = channel(4);
    let building = tokio::task::spawn_blocking(move || build(receiver));
    let reading = read_register(connection, &sender).await;
    drop(sender);
    let built = building.await.map_err(|_| Error::Unreadable("reading was broken off".to_owned()))?;
    let register = built?;
    reading?;
    Ok(register)
}

/// How long the database may be silent in the middle of an answer.
const SILENCE: Duration = Duration::from_secs(60);

async fn hand_on<T>(
    rows: impl Stream<Item = sqlx::Result<T>>,
    parts: &Sender<Part>,
    of: fn(Vec<T>) -> Part,
) -> Result<()> {
    let mut chunks = std::pin::pin!(rows.try_chunks(PART));
    loop {
        let next = tokio::time::timeout(SILENCE, chunks.try_next()).await;
        let next = next.map_err(|_| Error::Unreachable(sqlx::Error::PoolTimedOut))?;
        let Some(chunk) = next.map_err(|broken| Error::from(broken.1))? else { return Ok(()) };
        // If it cannot be built there is nobody to hand to; the builder says why.
        if parts.send(of(chunk)).await.is_err() {
            return Ok(());
        }
    }
}

fn new_epoch() -> String {
    random_text()[..12].to_owned()
}

impl Write {
    /// The position of the last row there is.
    pub fn position(&self) -> i64 {
        self.position
    }

    /// The epoch it is of.
    pub fn epoch(&self) -> &str {
        &self.epoch
    }

    /// The digest of the last row there is.
    pub fn digest(&self) -> Chain {
        self.digest
    }

    pub(crate) fn moved_on(&mut self, position: i64, digest: Chain) {
        (self.position, self.digest) = (position, digest);
    }

    pub(crate) fn connection(&mut self) -> &mut PgConnection {
        &mut self.transaction
    }

    /// Records something that is told in one line of JSON.
    ///
    /// # Errors
    /// If the database refuses.
    pub(crate) async fn record_line(
        &mut self,
        kind: Kind,
        line: &Value,
        actor: &str,
        at: Timestamp,
    ) -> Result<i64> {
        let content = lines(std::slice::from_ref(line));
        self.record(NewRow { kind, at, actor, content: &content }).await
    }

    /// Begins another epoch: positions that were given out in this one mean nothing any more.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn begin_epoch(&mut self, why: &str, actor: &str, at: Timestamp) -> Result<()> {
        let before = std::mem::replace(&mut self.epoch, new_epoch());
        let line = json!({
            "epoch": self.epoch, "why": why,
            "from": { "epoch": before, "position": self.position, "digest": self.digest.to_string() },
        });
        self.record_line(Kind::Epoch, &line, actor, at).await?;
        Ok(())
    }

    /// Commits, and gives the position the write ends at. After this the write is kept.
    ///
    /// # Errors
    /// If the database does not confirm; then whether the write was kept is not known here, and
    /// the caller must look before it relies on either.
    pub async fn commit(mut self) -> Result<i64> {
        sqlx::query("update workspace set epoch = $1, position = $2, digest = $3")
            .bind(&self.epoch)
            .bind(self.position)
            .bind(self.digest.0.as_slice())
            .execute(&mut *self.transaction)
            .await?;
        // Sent with the commit, or not at all.
        sqlx::query("select pg_notify($1, $2)")
            .bind(crate::follow::CHANNEL)
            .bind(self.position.to_string())
            .execute(&mut *self.transaction)
            .await?;
        self.transaction.commit().await.map_err(Error::from)?;
        Ok(self.position)
    }
}
