//! Whether the journal is what was written, row by row, and whether the tables are what it comes to. A row that was
//! altered, taken out, put in or moved no longer fits what stands around it; a table that was changed beside the journal
//! no longer fits its fold. Whoever rewrites all of it consistently is found out by a digest that was kept elsewhere: a
//! node's, or a checkpoint's.

use crate::journal::{Chain, Kind, NewRow, Row, read as read_row};
use crate::workspace::register_of_tables;
use crate::{Result, Store, key};
use futures_util::TryStreamExt as _;
use ostrog_core::register::Register;
use ostrog_core::register::journal::{Entry, from_bytes};
use serde_json::{Map, Value};
use sha2::{Digest as _, Sha256};
use sqlx::{PgConnection, Row as _};
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// Most findings that are told.
const MAX_TOLD: usize = 1_000;
/// Rows that are folded at a time.
const CHUNK: usize = 500;

/// Something that is not as it must be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    /// The row it is about.
    pub position: Option<i64>,
    /// What, in words.
    pub words: String,
}

/// What verifying came to.
#[derive(Clone, Debug)]
pub struct Verified {
    /// The epoch now.
    pub epoch: String,
    /// The last position.
    pub position: i64,
    /// The digest there.
    pub digest: Chain,
    /// How many rows were looked at.
    pub rows: i64,
    /// How many of these an upgrade made part of the chain, long after they were written.
    pub chained: i64,
    /// Whether the tables were held against it.
    pub folded: bool,
    /// What is not as it must be.
    pub found: Vec<Found>,
}

/// What rows come to beside the register.
#[derive(Default)]
struct Control {
    live: Option<BTreeMap<String, i64>>,
    releases: BTreeSet<(i64, String, Option<i64>, bool)>,
    keys: BTreeMap<String, Map<String, Value>>,
    issuers: BTreeMap<String, Map<String, Value>>,
    settings: BTreeMap<i64, (String, bool, bool)>,
    reviews: BTreeMap<(String, String, String, Option<String>), i64>,
    /// By revision, the digest that was put live or approved.
    revisions: BTreeMap<i64, String>,
    approvals: BTreeMap<String, String>,
    barred: BTreeSet<i64>,
    drafts: BTreeMap<i64, String>,
}

impl Control {
    fn row(&mut self, row: &Row) {
        for line in row.to_json() {
            let Value::Object(line) = line else { continue };
            let text = |name: &str| line.get(name).and_then(Value::as_str).map(str::to_owned);
            let number = |name: &str| line.get(name).and_then(Value::as_i64);
            match row.kind {
                Kind::Rollout => self.rollout(row, &line),
                Kind::Key => match (text("key"), text("end-key")) {
                    (Some(key), _) => drop(self.keys.insert(key, line)),
                    (_, Some(key)) if line.get("until").is_none_or(Value::is_null) => {
                        drop(self.keys.remove(&key))
                    }
                    _ => {}
                },
                Kind::Issuer => match (text("issuer"), text("end-issuer")) {
                    (Some(key), _) => self.issuers.entry(key).or_default().extend(line),
                    (_, Some(key)) => drop(self.issuers.remove(&key)),
                    _ => {}
                },
                Kind::Settings => {
                    let Some(number) = number("settings") else { continue };
                    let known = self.settings.entry(number).or_default();
                    known.0 = text("text").unwrap_or_else(|| std::mem::take(&mut known.0));
                    known.1 |= line.get("in-force") == Some(&Value::Bool(true));
                    known.2 |= line.contains_key("ended");
                }
                Kind::Review => {
                    if let (Some(subject), Some(verdict)) = (text("review"), text("verdict")) {
                        let digest = text("digest");
                        if let Some(digest) = digest.clone().filter(|_| verdict == "approve") {
                            self.approvals.insert(subject.clone(), digest);
                        }
                        *self.reviews.entry((subject, verdict, row.actor.clone(), digest)).or_default() += 1;
                    } else if let (Some(draft), Some(revision)) = (number("draft"), number("revision")) {
                        if let Some(digest) = self.approvals.get(&format!("D-{draft}")) {
                            self.revisions.insert(revision, digest.clone());
                        }
                    } else if line.get("barred") == Some(&Value::Bool(true)) {
                        self.barred.extend(number("revision"));
                    }
                }
                Kind::Draft => {
                    if let (Some(draft), Some(digest)) = (number("draft"), text("digest")) {
                        self.drafts.insert(draft, digest);
                    }
                }
                Kind::Register
                | Kind::Shadow
                | Kind::Case
                | Kind::Rehearsal
                | Kind::Epoch
                | Kind::Upgrade => {}
            }
        }
    }

    fn rollout(&mut self, row: &Row, line: &Map<String, Value>) {
        let Some(placed) = row.live() else { return };
        let moved = line.get("for").and_then(Value::as_array).into_iter().flatten().filter_map(Value::as_str);
        let back = line.get("back") == Some(&Value::Bool(true));
        for application in moved {
            let revision = placed.of.get(application).copied();
            self.releases.insert((row.position, application.to_owned(), revision, back));
        }
        if let (Some(last), Some(digest), false) =
            (placed.last, line.get("digest").and_then(Value::as_str), back)
        {
            self.revisions.insert(last, digest.to_owned());
        }
        self.live = Some(placed.of);
    }
}

/// Findings, as many as are told.
#[derive(Default)]
struct Findings(Vec<Found>);

impl Findings {
    fn at(&mut self, position: i64, words: impl Into<String>) {
        self.push(Some(position), words.into());
    }

    fn table(&mut self, words: impl Into<String>) {
        self.push(None, words.into());
    }

    fn push(&mut self, position: Option<i64>, words: String) {
        if self.0.len() < MAX_TOLD {
            self.0.push(Found { position, words });
        }
    }
}

impl Store {
    /// The epoch and the digest of a row.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn row_at(&self, position: i64) -> Result<Option<(String, Chain)>> {
        let row = sqlx::query("select epoch, digest from journal where position = $1")
            .bind(position)
            .fetch_optional(&self.pool)
            .await?;
        row.map(|row| Ok((row.try_get("epoch")?, Chain::from_column(row.try_get("digest")?)?))).transpose()
    }

    /// Recomputes the chain from a position, and, from the first row, folds the journal and holds the tables and what
    /// nodes tell against it: all of it as it is at one moment. Costs reading all of it, and a second register in
    /// memory.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn verify(&self, from: i64) -> Result<Verified> {
        let mut transaction = self.pool.begin().await?;
        sqlx::query("set transaction isolation level repeatable read, read only")
            .execute(&mut *transaction)
            .await?;
        let row =
            sqlx::query("select epoch, position, digest from workspace").fetch_one(&mut *transaction).await?;
        let mut verified = Verified {
            epoch: row.try_get("epoch")?,
            position: row.try_get("position")?,
            digest: Chain::from_column(row.try_get("digest")?)?,
            rows: 0,
            chained: 0,
            folded: from <= 1,
            found: Vec::new(),
        };
        let mut findings = Findings::default();
        let (fold, control) = chain(&mut transaction, from.max(1), &mut verified, &mut findings).await?;
        if verified.folded {
            register(&mut transaction, fold, &mut findings).await?;
            tables(&mut transaction, &control, &mut findings).await?;
        }
        nodes(&mut transaction, &verified, &mut findings).await?;
        verified.found = findings.0;
        Ok(verified)
    }
}

/// Each row against the one before it; gives what they come to, if they can be folded.
async fn chain(
    connection: &mut PgConnection,
    from: i64,
    verified: &mut Verified,
    findings: &mut Findings,
) -> Result<(Option<Register>, Control)> {
    let (mut before, mut epoch) = (Chain::START, None::<String>);
    if from > 1 {
        let row = sqlx::query("select digest, epoch from journal where position = $1")
            .bind(from - 1)
            .fetch_optional(&mut *connection)
            .await?;
        match row {
            Some(row) => {
                before = Chain::from_column(row.try_get("digest")?)?;
                epoch = Some(row.try_get("epoch")?);
            }
            None => findings.at(from - 1, "this row is missing"),
        }
    }
    let mut next = from;
    let mut fold = verified.folded.then(Register::default);
    let mut control = Control::default();
    let mut waiting: Vec<(i64, Vec<u8>)> = Vec::new();
    let query = "select position, epoch, at, actor, kind, content, lines, digest, chained from journal
                 where position >= $1 order by position";
    let mut rows = sqlx::query(query).bind(from).fetch(connection);
    while let Some(row) = rows.try_next().await? {
        let position: i64 = row.try_get("position")?;
        for missing in (next..position).take(MAX_TOLD) {
            findings.at(missing, "this row is missing");
        }
        next = position + 1;
        verified.rows += 1;
        let row = match read_row(&row) {
            Ok(row) => row,
            Err(why) => {
                findings.at(position, format!("this row cannot be read: {why}"));
                before = Chain::from_column(row.try_get("digest")?).unwrap_or(before);
                continue;
            }
        };
        verified.chained += i64::from(row.chained);
        let new = NewRow { kind: row.kind, at: row.at, actor: &row.actor, content: &row.content };
        if before.next(&new, &row.epoch, position) != row.digest {
            findings.at(position, "this row is not what was written, or does not follow the one before it");
        }
        if epoch.as_ref().is_some_and(|epoch| *epoch != row.epoch) && row.kind != Kind::Epoch {
            findings.at(position, "another epoch begins here, and no row says so");
        }
        control.row(&row);
        (before, epoch) = (row.digest, Some(row.epoch));
        if row.kind == Kind::Register && fold.is_some() {
            waiting.push((position, row.content));
            if waiting.len() >= CHUNK {
                fold = folded(fold, std::mem::take(&mut waiting), findings).await;
            }
        }
    }
    drop(rows);
    fold = folded(fold, waiting, findings).await;
    if next - 1 != verified.position {
        let words = format!(
            "the workspace is at position {}, and the journal ends at {}",
            verified.position,
            next - 1
        );
        findings.table(words);
    } else if before != verified.digest && verified.rows > 0 {
        findings.at(verified.position, "the workspace tells another digest of this row");
    }
    Ok((fold, control))
}

/// Folds some rows on, beside the threads that answer. None once one of them cannot be folded.
async fn folded(
    fold: Option<Register>,
    rows: Vec<(i64, Vec<u8>)>,
    findings: &mut Findings,
) -> Option<Register> {
    let mut register = fold?;
    let work = move || {
        for (position, content) in rows {
            let entries = from_bytes(&content).map_err(|why| (position, why.to_string()))?;
            register.fold(&entries).map_err(|why| (position, why.to_string()))?;
        }
        Ok::<Register, (i64, String)>(register)
    };
    match tokio::task::spawn_blocking(work).await {
        Ok(Ok(register)) => Some(register),
        Ok(Err((position, why))) => {
            findings
                .at(position, format!("what this row says cannot be so after what stands before it: {why}"));
            None
        }
        Err(_) => {
            findings.table("folding the journal was broken off; the log says why");
            None
        }
    }
}

/// What an entry is about, in words.
fn about(entry: &Entry) -> Option<String> {
    Some(match entry {
        Entry::Entity(line) => line.name.clone(),
        Entry::Deleted(name) => name.clone(),
        Entry::Grant(line) => format!("grant {}", line.id.as_deref().unwrap_or_default()),
        Entry::Activation(line) => format!("activation {}", line.id.as_deref().unwrap_or_default()),
        Entry::TenantRole(line) => format!("role {} of {}", line.key, line.tenant),
        Entry::GrantEnded { .. }
        | Entry::ActivationEnded { .. }
        | Entry::TenantRoleEnded(_)
        | Entry::Next(_)
        | Entry::Note(_) => return None,
    })
}

/// Lists in their order: those of facts have none.
fn sorted(value: Value) -> Value {
    match value {
        Value::Array(all) => {
            let mut all: Vec<Value> = all.into_iter().map(sorted).collect();
            all.sort_by_cached_key(Value::to_string);
            all.into()
        }
        Value::Object(all) => {
            let sorted: BTreeMap<String, Value> =
                all.into_iter().map(|(name, value)| (name, sorted(value))).collect();
            sorted.into_iter().collect::<Map<_, _>>().into()
        }
        other => other,
    }
}

fn of_register(register: &Register) -> HashMap<String, [u8; 32]> {
    let digest = |entry: &Entry| Sha256::digest(sorted(entry.to_json()).to_string()).into();
    register.entries().filter_map(|entry| Some((about(&entry)?, digest(&entry)))).collect()
}

/// The tables of the register against the fold.
async fn register(
    connection: &mut PgConnection,
    fold: Option<Register>,
    findings: &mut Findings,
) -> Result<()> {
    let Some(fold) = fold else { return Ok(()) };
    let kept = match register_of_tables(connection).await {
        Ok(kept) => kept,
        Err(why) => {
            findings.table(format!("the tables of the register cannot be read: {why}"));
            return Ok(());
        }
    };
    let work = move || {
        let (told, kept) = (of_register(&fold), of_register(&kept));
        let mut words = Vec::new();
        for (name, digest) in &kept {
            match told.get(name) {
                None => words.push(format!("{name} is in the tables, and no row says so")),
                Some(known) if known != digest => {
                    words.push(format!("{name} is something else in the tables than what the rows come to"));
                }
                Some(_) => {}
            }
        }
        let missing = told.keys().filter(|name| !kept.contains_key(*name));
        words.extend(missing.map(|name| format!("{name} is missing in the tables")));
        words.sort();
        words
    };
    let words = tokio::task::spawn_blocking(work).await.unwrap_or_default();
    words.into_iter().for_each(|words| findings.table(words));
    Ok(())
}

/// The other tables against what rows come to.
async fn tables(connection: &mut PgConnection, control: &Control, findings: &mut Findings) -> Result<()> {
    let live: BTreeMap<String, i64> = crate::release::placed(connection).await?.of;
    if control.live.as_ref().is_some_and(|told| *told != live) {
        findings.table("what is live is something else in the tables than what the rows come to");
    }
    let rows =
        sqlx::query("select position, application, revision, back from releases").fetch_all(&mut *connection);
    let mut releases = BTreeSet::new();
    for row in rows.await? {
        releases.insert((
            row.try_get::<i64, _>("position")?,
            row.try_get::<String, _>("application")?,
            row.try_get::<Option<i64>, _>("revision")?,
            row.try_get::<bool, _>("back")?,
        ));
    }
    let first = control.releases.first().map(|(position, ..)| *position);
    // Steps from before each application had one of its own were spread by an upgrade.
    let spread = |step: &&(i64, String, Option<i64>, bool)| first.is_none_or(|first| step.0 < first);
    for step in releases.symmetric_difference(&control.releases).filter(|step| !spread(step)) {
        findings.table(format!(
            "what went live for {} at position {} is something else in the tables",
            step.1, step.0
        ));
    }
    keys(connection, control, findings).await?;
    issuers(connection, control, findings).await?;
    settings(connection, control, findings).await?;
    reviews(connection, control, findings).await?;
    revisions(connection, control, findings).await
}

/// Names the fields in which a table has something else than a line that tells them.
fn differing(told: &Map<String, Value>, kept: &[(&str, Value)]) -> Vec<String> {
    let differs = |(name, value): &&(&str, Value)| told.get(*name).is_some_and(|told| told != value);
    kept.iter().filter(differs).map(|(name, _)| (*name).to_owned()).collect()
}

async fn keys(connection: &mut PgConnection, control: &Control, findings: &mut Findings) -> Result<()> {
    let mut seen = BTreeSet::new();
    for key in key::read_all(connection).await? {
        seen.insert(key.id.clone());
        let Some(told) = control.keys.get(&key.id) else {
            findings.table(format!("the key {} counts, and no row says so", key.id));
            continue;
        };
        let differ = differing(told, &key.told());
        if !differ.is_empty() {
            let words = format!("the key {} is something else in the tables: {}", key.id, differ.join(", "));
            findings.table(words);
        }
    }
    for key in control.keys.keys().filter(|key| !seen.contains(*key)) {
        findings.table(format!("the key {key} is missing in the tables"));
    }
    Ok(())
}

async fn issuers(connection: &mut PgConnection, control: &Control, findings: &mut Findings) -> Result<()> {
    let mut seen = BTreeSet::new();
    for issuer in crate::issuer::read_all(connection).await? {
        seen.insert(issuer.key.clone());
        let Some(told) = control.issuers.get(&issuer.key) else {
            findings.table(format!("the issuer {} is set up, and no row says so", issuer.key));
            continue;
        };
        let differ = differing(told, &issuer.told());
        if !differ.is_empty() {
            let words =
                format!("the issuer {} is something else in the tables: {}", issuer.key, differ.join(", "));
            findings.table(words);
        }
    }
    for key in control.issuers.keys().filter(|key| !seen.contains(*key)) {
        findings.table(format!("the issuer {key} is missing in the tables"));
    }
    Ok(())
}

async fn settings(connection: &mut PgConnection, control: &Control, findings: &mut Findings) -> Result<()> {
    let rows = sqlx::query(
        "select number, text, in_force_at is not null as in_force, ended_at is not null as ended from settings",
    );
    let mut kept = BTreeMap::new();
    for row in rows.fetch_all(connection).await? {
        let text: String = row.try_get("text")?;
        // What others took the place of is ended by their being put.
        kept.insert(row.try_get::<i64, _>("number")?, (text, row.try_get::<bool, _>("in_force")?));
    }
    let told: BTreeMap<i64, (String, bool)> = control
        .settings
        .iter()
        .map(|(number, (text, in_force, _))| (*number, (text.clone(), *in_force)))
        .collect();
    let numbers: BTreeSet<i64> = kept.keys().chain(told.keys()).copied().collect();
    for number in numbers.into_iter().filter(|number| kept.get(number) != told.get(number)) {
        findings.table(format!(
            "settings S-{number} are something else in the tables than what the rows come to"
        ));
    }
    Ok(())
}

async fn reviews(connection: &mut PgConnection, control: &Control, findings: &mut Findings) -> Result<()> {
    let mut kept: BTreeMap<(String, String, String, Option<String>), i64> = BTreeMap::new();
    for row in
        sqlx::query("select subject, verdict, actor, digest from reviews").fetch_all(connection).await?
    {
        let digest: Option<Vec<u8>> = row.try_get("digest")?;
        let key = (
            row.try_get("subject")?,
            row.try_get("verdict")?,
            row.try_get("actor")?,
            digest.map(hex::encode),
        );
        *kept.entry(key).or_default() += 1;
    }
    let all: BTreeSet<_> = kept.keys().chain(control.reviews.keys()).collect();
    for review in all.into_iter().filter(|review| kept.get(*review) != control.reviews.get(*review)) {
        let (subject, verdict, actor, _) = review;
        findings.table(format!("that {actor} said {verdict} of {subject} is something else in the tables"));
    }
    Ok(())
}

async fn revisions(connection: &mut PgConnection, control: &Control, findings: &mut Findings) -> Result<()> {
    let numbers: Vec<i64> = sqlx::query_scalar("select number from revisions order by number")
        .fetch_all(&mut *connection)
        .await?;
    for number in &numbers {
        match crate::revision::read(connection, *number).await {
            Ok(Some(revision)) => {
                let digest = revision.info.digest.to_string();
                if control.revisions.get(number).is_some_and(|told| *told != digest) {
                    findings.table(format!(
                        "the text of revision {number} is not the one that was approved or put live"
                    ));
                }
                if control.barred.contains(number) && revision.info.standing.barred.is_none() {
                    findings.table(format!("revision {number} was shut for good, and is open in the tables"));
                }
            }
            Ok(None) => {}
            Err(why) => findings.table(format!("revision {number}: {why}")),
        }
    }
    for number in control.revisions.keys().filter(|number| !numbers.contains(*number)) {
        findings.table(format!("revision {number} is missing in the tables"));
    }
    Ok(())
}

/// What nodes tell of the journal against it.
async fn nodes(connection: &mut PgConnection, verified: &Verified, findings: &mut Findings) -> Result<()> {
    let rows = sqlx::query(
        "select nodes.id, nodes.position, nodes.digest as told, journal.digest as kept
         from nodes left join journal on journal.position = nodes.position
         where nodes.digest is not null and nodes.epoch = $1 and nodes.position between 1 and $2",
    )
    .bind(&verified.epoch)
    .bind(verified.position)
    .fetch_all(connection)
    .await?;
    for row in rows {
        let (told, kept): (Vec<u8>, Option<Vec<u8>>) = (row.try_get("told")?, row.try_get("kept")?);
        if kept.as_ref() != Some(&told) {
            let node: String = row.try_get("id")?;
            findings
                .at(row.try_get("position")?, format!("the node {node} knows another digest of this row"));
        }
    }
    Ok(())
}
