//! Row filters: a decision as a condition on an application's own rows.

use crate::{Answered, Error, Result};
use ostrog_core::decide::rows::Sql;
use ostrog_wire::access::RowsResponse;

/// On which rows of a table somebody may act. It selects exactly those of which a decision would be an allow, and
/// never gives null.
///
/// It is good for the position that it was made at: ask anew for each request, as the decisions of it would be.
#[derive(Clone, Debug, PartialEq)]
pub struct RowFilter {
    /// Whom it is for, if a token says so: `user:ines`.
    pub subject: Option<String>,
    /// Whether it selects nothing.
    pub none: bool,
    /// Why nothing was asked: `token-refused`, `unknown-type`.
    pub reason: Option<String>,
    /// The position that it is good for.
    pub position: Option<String>,
    sql: Sql,
}

/// A piece of a condition.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Piece {
    Text(String),
    /// The parameter that stands there, from 1 on.
    Parameter(usize),
}

impl RowFilter {
    /// Reads a filter that was asked for with columns.
    ///
    /// # Errors
    /// If it is none that can be put into a query.
    pub fn read(answered: Answered<RowsResponse>) -> Result<RowFilter> {
        let Answered { answer: RowsResponse { rows, context }, position, .. } = answered;
        let sql = rows.sql.ok_or_else(|| Error::Unreadable("the row filter has no SQL".to_owned()))?;
        let filter =
            RowFilter { subject: context.subject, none: rows.none, reason: context.reason, position, sql };
        let bound = 1..=filter.sql.parameters.len();
        let is_bound = |piece: &Piece| match piece {
            Piece::Text(_) => true,
            Piece::Parameter(number) => bound.contains(number),
        };
        if filter.sql.condition.is_empty() || !filter.pieces().iter().all(is_bound) {
            return Err(Error::Unreadable("the row filter lacks a parameter".to_owned()));
        }
        Ok(filter)
    }

    /// The condition with its parameters from `$1` on, for a driver of another kind.
    pub fn sql(&self) -> &Sql {
        &self.sql
    }

    /// The condition in pieces. What is quoted is text.
    fn pieces(&self) -> Vec<Piece> {
        let mut pieces = vec![Piece::Text(String::new())];
        let mut quote = None;
        let mut rest = self.sql.condition.chars().peekable();
        while let Some(c) = rest.next() {
            if c == '$' && quote.is_none() && rest.peek().is_some_and(char::is_ascii_digit) {
                let mut number = 0_usize;
                while let Some(digit) = rest.peek().and_then(|c| c.to_digit(10)) {
                    number = number.saturating_mul(10).saturating_add(digit as usize);
                    rest.next();
                }
                pieces.extend([Piece::Parameter(number), Piece::Text(String::new())]);
                continue;
            }
            match quote {
                None if c == '"' || c == '\'' => quote = Some(c),
                Some(open) if c == open => quote = None,
                _ => {}
            }
            if let Some(Piece::Text(text)) = pieces.last_mut() {
                text.push(c);
            }
        }
        pieces
    }

    /// Puts the condition, in parentheses, into a query: behind `where` or `and`. Every value is bound.
    ///
    /// ```
    /// # use ostrog_client::RowFilter;
    /// # fn example(filter: &RowFilter) {
    /// let mut query = sqlx::QueryBuilder::new("select m.number from manifests m where m.on_hold and ");
    /// filter.push_to(&mut query);
    /// query.push(" order by m.number limit ").push_bind(50_i64);
    /// # }
    /// ```
    #[cfg(feature = "sqlx")]
    pub fn push_to(&self, query: &mut sqlx::QueryBuilder<sqlx::Postgres>) {
        use serde_json::Value;
        if self.none {
            query.push("false");
            return;
        }
        query.push("(");
        for piece in self.pieces() {
            match piece {
                Piece::Text(text) => {
                    query.push(text);
                }
                // Looked at when it was read: it is there.
                Piece::Parameter(number) => {
                    match self.sql.parameters.get(number - 1).map(|parameter| &parameter.value) {
                        Some(Value::String(text)) => {
                            query.push_bind(text.clone());
                        }
                        Some(Value::Array(items)) => {
                            query.push_bind(items.iter().map(text_of).collect::<Vec<String>>());
                        }
                        other => {
                            query.push_bind(other.map(text_of));
                        }
                    }
                }
            }
        }
        query.push(")");
    }
}

#[cfg(feature = "sqlx")]
fn text_of(value: &serde_json::Value) -> String {
    value.as_str().map_or_else(|| value.to_string(), str::to_owned)
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn filter(condition: &str, parameters: usize) -> Result<RowFilter> {
        let parameters = vec![json!({ "kind": "text", "value": "x" }); parameters];
        let sql = json!({ "statement": "", "condition": condition, "parameters": parameters });
        let answer = json!({ "filter": {}, "none": false, "sql": sql, "context": {} });
        let answer = serde_json::from_value(answer).expect("a row filter");
        RowFilter::read(Answered { answer, revision: None, position: None })
    }

    #[test]
    fn parameters_are_found_wherever_they_stand_and_nowhere_else() {
        let found = filter(r#"$2 = a and "b$1" is not null and $1::text[] && c or '$3 "' = d$"#, 2);
        let text = |text: &str| Piece::Text(text.to_owned());
        let expected = [
            text(""),
            Piece::Parameter(2),
            text(r#" = a and "b$1" is not null and "#),
            Piece::Parameter(1),
            text(r#"::text[] && c or '$3 "' = d$"#),
        ];
        assert_eq!(found.expect("is read").pieces(), expected);
        for (condition, parameters) in
            [("a = $2", 1), ("", 0), ("a = $1", 0), ("a = $0", 1), ("$99999999999999999999999", 1)]
        {
            assert!(filter(condition, parameters).is_err(), "{condition}");
        }
    }
}
