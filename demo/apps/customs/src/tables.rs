//! What the desk keeps.

use crate::Error;
use ostrog_client::wire::register::EntityLine;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use sqlx::{FromRow, PgPool, Postgres, Transaction};

/// A manifest.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, FromRow)]
pub struct Manifest {
    /// Its number: `m-204`.
    pub number: String,
    /// The line's code.
    pub line_code: Option<String>,
    /// 1 to 9.
    pub hazard_class: Option<i64>,
    /// Whether its cargo is held; not said is not held.
    pub on_hold: Option<bool>,
    /// `draft`, `filed`, `held` or `released`.
    pub state: Option<String>,
    /// The voyage it is of.
    pub voyage: Option<String>,
    /// The user who declared it.
    pub declared_by: Option<String>,
}

impl Manifest {
    /// What Ostrog must know of one that is new.
    pub fn line(&self) -> EntityLine {
        let mut attributes = Map::new();
        let said = [
            ("line", self.line_code.clone().map(Value::from)),
            ("hazard", self.hazard_class.map(Value::from)),
            ("held", self.on_hold.map(Value::from)),
            ("state", self.state.clone().map(Value::from)),
        ];
        attributes.extend(said.into_iter().filter_map(|(key, value)| Some((key.to_owned(), value?))));
        let declarant = self.declared_by.as_ref().map(|user| vec![format!("user:{user}")]);
        EntityLine {
            entity: format!("manifest:{}", self.number),
            within: self.voyage.as_ref().map(|voyage| format!("voyage:{voyage}")),
            attributes,
            relations: declarant.map(|user| ("declarant".to_owned(), user)).into_iter().collect(),
            ..EntityLine::default()
        }
    }
}

/// What of a register's line the desk keeps.
#[derive(Debug, Deserialize)]
struct Line {
    entity: String,
    within: Option<String>,
    #[serde(default)]
    attributes: Map<String, Value>,
    #[serde(default)]
    relations: Map<String, Value>,
}

/// Fills tables that are empty from lines of a register.
pub(crate) async fn begin(pool: &PgPool, register: &str) -> Result<(), Error> {
    let mut all = pool.begin().await?;
    let is_new: bool =
        sqlx::query_scalar("select not exists (select from manifests)").fetch_one(&mut *all).await?;
    if !is_new {
        return Ok(());
    }
    for text in register.lines().filter(|line| line.starts_with(r#"{"entity":"#)) {
        let line: Line = serde_json::from_str(text)?;
        fill(&mut all, &line).await?;
    }
    Ok(all.commit().await?)
}

async fn fill(all: &mut Transaction<'_, Postgres>, line: &Line) -> Result<(), Error> {
    let Some((kind, id)) = line.entity.split_once(':') else { return Ok(()) };
    let id_of = |name: &str| name.split_once(':').map(|(_, id)| id.to_owned());
    let within = line.within.as_deref().and_then(id_of);
    let text = |key: &str| line.attributes.get(key).and_then(Value::as_str).map(str::to_owned);
    let related = |key: &str| line.relations.get(key).and_then(|to| id_of(to.as_str()?));
    let query = match kind {
        "manifest" => sqlx::query("insert into manifests values ($1, $2, $3, $4, $5, $6, $7)")
            .bind(id)
            .bind(text("line"))
            .bind(line.attributes.get("hazard").and_then(Value::as_i64))
            .bind(line.attributes.get("held").and_then(Value::as_bool))
            .bind(text("state"))
            .bind(within)
            .bind(related("declarant")),
        "container" => sqlx::query("insert into containers values ($1, $2, $3)")
            .bind(id)
            .bind(within)
            .bind(text("weight")),
        "inspection" => sqlx::query("insert into inspections values ($1, $2, $3)")
            .bind(id)
            .bind(within)
            .bind(related("inspector")),
        _ => return Ok(()),
    };
    query.execute(&mut **all).await?;
    Ok(())
}
