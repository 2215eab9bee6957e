//! Databases from before there was a journal.
//!
//! Their rows were lines of JSON that a program read as if somebody had typed them, and some were written
//! so that they could not be read again, or said something else than what had been done. They are read
//! here as they were meant, one by one; what each came to becomes a row of the journal, at its old position,
//! marked as chained later. The rows themselves are kept (`changes_before_journal`). A last row says what
//! was mended, and what is not clear: that is left out, never guessed, and listed for the operator.

use crate::journal::{Kind, NewRow, lines};
use crate::workspace::Write;
use crate::{Result, Store, moment};
use jiff::Timestamp;
use ostrog_core::names::split_made_role;
use ostrog_core::register::journal::{Entry, to_bytes};
use ostrog_core::register::{NextIds, Register};
use serde_json::{Value, json};
use sqlx::Row as _;

/// How many rows are read at a time.
const CHUNK: i64 = 200;

/// What was found of one line.
#[derive(Debug, PartialEq)]
enum Meant {
    /// It means this.
    Clearly(Vec<Entry>),
    /// It was written wrongly, and means this; why.
    Mended(Vec<Entry>, &'static str),
    /// It could mean more than one thing, or nothing: this much of it is sure; why.
    Unclear(Vec<Entry>, String),
}

impl Store {
    /// Brings a database from before the journal up to date: all of it in one transaction, or nothing.
    pub(crate) async fn upgrade(&self) -> Result<()> {
        let mut write = self.begin_write().await?;
        let done: bool =
            sqlx::query_scalar("select upgraded from workspace").fetch_one(write.connection()).await?;
        if done {
            return Ok(());
        }
        sqlx::query("update workspace set upgraded = true").execute(write.connection()).await?;
        if write.position() > 0 {
            tracing::info!(position = write.position(), "making a journal of the rows from before");
            write.make_journal().await?;
        }
        for table in ["entities", "grants", "activations", "tenant_roles"] {
            let statement = format!("alter table {table} drop column doc_before");
            sqlx::query(sqlx::AssertSqlSafe(statement)).execute(write.connection()).await?;
        }
        write.commit().await?;
        Ok(())
    }
}

impl Write {
    async fn make_journal(&mut self) -> Result<()> {
        let end = self.position();
        let row = sqlx::query("select next_grant, next_activation from workspace")
            .fetch_one(self.connection())
            .await?;
        let number =
            |column: &str| -> Result<u64> { Ok(u64::try_from(row.try_get::<i64, _>(column)?).unwrap_or(1)) };
        let next = NextIds { grant: number("next_grant")?, activation: number("next_activation")? };
        let tables = self.tables_before().await?;
        sqlx::query("delete from change_names").execute(self.connection()).await?;
        self.forget_register().await?;
        self.moved_on(0, crate::journal::Chain::START);
        let mut history = History::default();
        while self.position() < end {
            let rows = sqlx::query(
                "select position, at, actor, kind, lines from changes_before_journal
                 where position > $1 order by position limit $2",
            )
            .bind(self.position())
            .bind(CHUNK)
            .fetch_all(self.connection())
            .await?;
            if rows.is_empty() {
                break;
            }
            for row in rows {
                let (position, at) = (row.try_get::<i64, _>("position")?, moment(&row, "at")?);
                let (actor, kind): (&str, &str) = (row.try_get("actor")?, row.try_get("kind")?);
                let old: Vec<Value> = match row.try_get("lines")? {
                    Value::Array(lines) => lines,
                    other => vec![other],
                };
                let kind: Kind = kind.parse()?;
                let (content, entries) = match kind {
                    Kind::Register => history.register(position, &old),
                    _ => (lines(&old), Vec::new()),
                };
                self.record_marked(NewRow { kind, at, actor, content: &content }, true).await?;
                self.note_names(&entries, position).await?;
            }
        }
        history.register.skip_ids(next);
        history.compare(&tables);
        let entries: Vec<Entry> = history.register.entries().collect();
        self.keep(&entries, end).await?;
        let mut content = history.told;
        content.insert(0, json!({ "upgrade": "journal", "rows": end }));
        content.push(Entry::Next(history.register.next_ids()).to_json());
        let row = NewRow {
            kind: Kind::Upgrade,
            at: Timestamp::now(),
            actor: "the upgrade",
            content: &lines(&content),
        };
        self.record(row).await?;
        Ok(())
    }

    /// What the tables said before, as far as it can be read: name or id, and the line.
    async fn tables_before(&mut self) -> Result<Vec<(String, Value)>> {
        let rows = sqlx::query(
            "select name as key, doc_before from entities where not deleted
             union all select id, doc_before from grants
             union all select id, doc_before from activations",
        )
        .fetch_all(self.connection())
        .await?;
        rows.iter().map(|row| Ok((row.try_get("key")?, row.try_get("doc_before")?))).collect()
    }
}

/// The register as the rows before made it, and what is to be said of them.
#[derive(Debug, Default)]
struct History {
    register: Register,
    told: Vec<Value>,
}

impl History {
    /// What a row came to where nothing is odd about it: most of them.
    fn plain(&mut self, old: &[Value]) -> Option<(Vec<u8>, Vec<Entry>)> {
        let mut named = self.register.clone();
        named.fold_names(old.iter().filter_map(|line| line["entity"].as_str()));
        let (mut entries, mut notes) = (Vec::new(), Vec::new());
        for line in old {
            match line["note"].as_str() {
                Some(note) => notes.push(Entry::Note(note.to_owned())),
                None => match meant(&named, line) {
                    Meant::Clearly(found) => entries.extend(found),
                    _ => return None,
                },
            }
        }
        let mut after = self.register.clone();
        after.fold(&entries).ok()?;
        self.register = after;
        Some(([to_bytes(&entries), to_bytes(&notes)].concat(), entries))
    }

    /// What a row of register lines came to: its content in the journal, and its entries.
    fn register(&mut self, position: i64, old: &[Value]) -> (Vec<u8>, Vec<Entry>) {
        if let Some(plain) = self.plain(old) {
            return plain;
        }
        let mut entries = Vec::new();
        let mut notes = Vec::new();
        let mut after = self.register.clone();
        // What is made on a line may be named on one before it.
        after.fold_names(old.iter().filter_map(|line| line["entity"].as_str()));
        for line in old {
            if let Some(note) = line["note"].as_str() {
                notes.push(Entry::Note(note.to_owned()));
                continue;
            }
            let meant = meant(&after, line);
            let found = match meant {
                Meant::Clearly(found) => found,
                Meant::Mended(found, why) => {
                    self.tell("mended", position, line, why);
                    found
                }
                Meant::Unclear(sure, why) => {
                    self.tell("unclear", position, line, &why);
                    sure
                }
            };
            // Each by itself: what one of them breaks, the others need not.
            let mut with = after.clone();
            match with.fold(&found) {
                Ok(()) => {
                    after = with;
                    entries.extend(found);
                }
                Err(why) => self.tell("unclear", position, line, &why.to_string()),
            }
        }
        // As one net effect it must come to the same, or it is recorded as it came, piece by piece.
        let mut whole = self.register.clone();
        if whole.fold(&entries).is_err() || whole.digest() != after.digest() {
            self.tell("unclear", position, &Value::from(old.to_vec()), "its lines do not fit together");
            entries.clear();
        } else {
            self.register = whole;
        }
        let content = [to_bytes(&entries), to_bytes(&notes)].concat();
        (content, entries)
    }

    fn tell(&mut self, what: &str, position: i64, line: &Value, why: &str) {
        tracing::warn!(position, %line, why, "a row from before the journal is {what}");
        self.told.push(json!({ what: { "position": position, "line": line, "why": why } }));
    }

    /// Tells where the tables said something else than the rows come to.
    fn compare(&mut self, tables: &[(String, Value)]) {
        let register = self.register.clone();
        for (key, old) in tables {
            let found = meant(&register, old);
            let (Meant::Clearly(entries) | Meant::Mended(entries, _)) = found else { continue };
            for entry in &entries {
                let now = match entry {
                    Entry::Entity(line) => {
                        register.registered(&line.name).map(|id| Entry::entity(&register, id))
                    }
                    Entry::Grant(_) => register.grant_by_id(key).map(|grant| Entry::grant(&register, &grant)),
                    Entry::Activation(_) => {
                        register.activation_by_id(key).map(|one| Entry::activation(&register, one))
                    }
                    _ => continue,
                };
                if now.as_ref() != Some(entry) {
                    let line = now.map_or(Value::Null, |entry| entry.to_json());
                    self.told.push(json!({ "unclear": {
                        "table": old, "journal": line, "why": "the tables said something else; the rows count",
                    } }));
                }
            }
        }
    }
}

/// What a line from before meant. It was written as somebody would type it: tenants by their ids alone,
/// and the name of a tenant's role cut at the first `/`.
fn meant(register: &Register, line: &Value) -> Meant {
    let mut line = line.clone();
    let mut why = None;
    match tenants_in_full(register, &mut line) {
        Ok(None) => {}
        Ok(mended) => why = mended,
        Err(unclear) => return Meant::Unclear(sure(&line), unclear),
    }
    if let Some(role) = line.get_mut("tenant-role") {
        let full = format!(
            "{}/{}",
            role["tenant"].as_str().and_then(|tenant| tenant.split_once(':')).map_or("", |(_, id)| id),
            role["key"].as_str().unwrap_or_default()
        );
        // Of `a/b/key` it was `b/key`: the key is what stands after the last one.
        if let Some((_, key)) = split_made_role(&full)
            && role["key"] != key
        {
            role["key"] = key.into();
            why = Some("the name of the role was cut at the first of several slashes");
        }
    }
    let ended = |missing: bool, entry: Option<Entry>, what: &'static str| match (missing, entry) {
        (true, _) => Some(Meant::Mended(Vec::new(), what)),
        (false, entry) => entry.map(|entry| Meant::Clearly(vec![entry])),
    };
    if let Some(id) = line["end-grant"].as_str() {
        let grant = register.grant_by_id(id);
        let entry = grant.map(|grant| Entry::grant_ended(register, &grant));
        let why = "the grant was given and ended by one batch";
        return ended(grant.is_none(), entry, why).unwrap_or(Meant::Unclear(Vec::new(), String::new()));
    }
    if let Some(id) = line["end-activation"].as_str() {
        let activation = register.activation_by_id(id);
        let entry = activation.map(|activation| Entry::activation_ended(register, activation));
        let why = "the activation was made and ended by one batch";
        return ended(activation.is_none(), entry, why).unwrap_or(Meant::Unclear(Vec::new(), String::new()));
    }
    if let Some(name) = line["end-tenant-role"].as_str() {
        let known = register.sym(name).is_some_and(|key| register.made_role(key).is_some());
        let entry = Entry::TenantRoleEnded(name.to_owned());
        let why = "the role was made and ended by one batch";
        return ended(!known, Some(entry), why).unwrap_or(Meant::Unclear(Vec::new(), String::new()));
    }
    if let Some(name) = line["delete"].as_str() {
        let entry = Entry::Deleted(name.to_owned());
        return match register.registered(name) {
            Some(_) => Meant::Clearly(vec![entry]),
            None => Meant::Mended(vec![entry], "the entity was made and deleted by one batch"),
        };
    }
    match Entry::from_json(&line) {
        // As it would be written today: lists in their order, and equal numbers in one form.
        Ok(entry) => {
            let entries = vec![in_order(entry)];
            why.map_or_else(|| Meant::Clearly(entries.clone()), |why| Meant::Mended(entries.clone(), why))
        }
        Err(wrong) => Meant::Unclear(sure(&line), wrong.to_string()),
    }
}

/// What is sure of an entity that is not clearly told: that it is there, and whether it is suspended. A group
/// has no members then, and nobody is let in by what was guessed.
fn sure(line: &Value) -> Vec<Entry> {
    let mut known = json!({ "entity": line["entity"] });
    if line["state"] == "suspended" {
        known["state"] = "suspended".into();
    }
    Entry::from_json(&known).into_iter().collect()
}

fn in_order(entry: Entry) -> Entry {
    match entry {
        Entry::Entity(mut line) => {
            for list in [&mut line.tenants, &mut line.members] {
                list.iter_mut().for_each(|names| names.sort_unstable());
                *list = list.take().filter(|names| !names.is_empty());
            }
            line.attributes.sort_by(|a, b| a.0.cmp(&b.0));
            line.relations.sort_by(|a, b| a.0.cmp(&b.0));
            line.detached = line.detached.filter(|detached| *detached);
            line.state = line.state.filter(|state| state != "active");
            Entry::Entity(line)
        }
        Entry::Grant(mut line) => {
            line.values.sort_by(|a, b| a.0.cmp(&b.0));
            Entry::Grant(line)
        }
        other => other,
    }
}

/// Writes the tenants of a line in full. They were written by their ids, and read as whole names where
/// they looked like one: the tenant `tenant:tenant:x` became `tenant:x`.
fn tenants_in_full(
    register: &Register,
    line: &mut Value,
) -> std::result::Result<Option<&'static str>, String> {
    let mut mended = None;
    let mut one = |tenant: &mut Value| -> std::result::Result<(), String> {
        let Some(id) = tenant.as_str() else { return Ok(()) };
        let meant = format!("tenant:{id}");
        let (is_meant, is_read) = (
            register.registered(&meant).is_some(),
            id.starts_with("tenant:") && register.registered(id).is_some(),
        );
        match (is_meant, is_read) {
            (true, true) => {
                return Err(format!("{meant} was written, and {id} was read: both are registered"));
            }
            (false, true) => {
                mended = Some("a tenant was written by its whole name");
                *tenant = id.into();
            }
            _ => {
                if id.starts_with("tenant:") {
                    mended = Some("the name of the tenant was read as that of another");
                }
                *tenant = meant.into();
            }
        }
        Ok(())
    };
    if line["entity"].is_string() {
        if let Some(tenant) = line.get_mut("tenant") {
            one(tenant)?;
        }
        if let Some(tenants) = line.get_mut("tenants").and_then(Value::as_array_mut) {
            tenants.iter_mut().try_for_each(&mut one)?;
        }
    }
    if let Some(tenant) = line.get_mut("tenant-role").and_then(|role| role.get_mut("tenant")) {
        one(tenant)?;
    }
    Ok(mended)
}
