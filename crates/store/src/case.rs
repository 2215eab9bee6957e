//! Cases that were kept from trying.

use crate::journal::Kind;
use crate::workspace::Write;
use crate::{By, Result, Store, moment, sql};
use jiff::Timestamp;
use serde_json::{Value, json};
use sqlx::Row as _;

/// A case.
#[derive(Clone, Debug)]
pub struct Case {
    /// 1, 2, 3 …
    pub number: i64,
    /// As the rehearsal format writes it.
    pub body: Value,
    /// Who kept it: a key's id.
    pub author: String,
    /// When.
    pub created_at: Timestamp,
}

impl Store {
    /// All cases that have not been taken away, oldest first.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn cases(&self) -> Result<Vec<Case>> {
        let rows = sqlx::query(
            "select number, body, author, created_at
             from cases where ended_at is null order by number",
        )
        .fetch_all(&self.pool)
        .await?;
        let case = |row: &sqlx::postgres::PgRow| {
            Ok(Case {
                number: row.try_get("number")?,
                body: row.try_get("body")?,
                author: row.try_get("author")?,
                created_at: moment(row, "created_at")?,
            })
        };
        rows.iter().map(case).collect()
    }
}

impl Write {
    /// Keeps a case, and records who kept it. Gives its number.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn keep_case(&mut self, body: &Value, by: &By) -> Result<i64> {
        let row = sqlx::query(
            "insert into cases (body, author, created_at, persons) values ($1, $2, $3, $4) returning number",
        )
        .bind(body)
        .bind(&by.actor)
        .bind(sql(by.at))
        .bind(&by.counts_as)
        .fetch_one(self.connection())
        .await?;
        let number: i64 = row.try_get("number")?;
        let line = json!({ "case": number, "kept": body["name"] });
        self.record_line(Kind::Case, &line, &by.actor, by.at).await?;
        Ok(number)
    }

    /// Takes a case away. False if there was none.
    ///
    /// # Errors
    /// If the database refuses.
    pub async fn end_case(&mut self, number: i64, by: &By) -> Result<bool> {
        let ended = sqlx::query(
            "update cases set ended_at = $2, persons = persons || $3 where number = $1 and ended_at is null",
        )
        .bind(number)
        .bind(sql(by.at))
        .bind(&by.counts_as)
        .execute(self.connection())
        .await?
        .rows_affected()
            > 0;
        if ended {
            let line = json!({ "case": number, "taken-away": true });
            self.record_line(Kind::Case, &line, &by.actor, by.at).await?;
        }
        Ok(ended)
    }
}
