//! A filter as a condition of PostgreSQL, with bound parameters. Nothing of a value stands in the
//! text; what stands there of columns is what the columns' file says.

use super::{Columns, Comparand, Predicate, Where};
use crate::value::{Value, ValueType};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;
use std::borrow::Cow;
use std::fmt::Write as _;

/// A condition and its parameters.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct Sql {
    /// `select ID from TABLE where …`
    pub statement: String,
    /// The condition alone.
    pub condition: String,
    /// What to bind to `$1`, `$2` and so on.
    pub parameters: Vec<Parameter>,
}

/// A parameter: bound as text, or as a list of texts; the statement casts it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct Parameter {
    /// `text` or `text[]`.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub kind: Cow<'static, str>,
    /// The value.
    #[cfg_attr(feature = "schema", schema(value_type = Object))]
    pub value: Json,
}

impl Sql {
    /// Writes a filter in these columns' names. It never gives null.
    pub fn new(filter: &Where, columns: &Columns) -> Sql {
        let mut writer = Writer { columns, parameters: Vec::new() };
        let condition = writer.condition(filter);
        let statement = format!("select {} from {} where {condition}", columns.id, columns.table);
        Sql { statement, condition, parameters: writer.parameters }
    }
}

struct Writer<'c> {
    columns: &'c Columns,
    parameters: Vec<Parameter>,
}

impl Writer<'_> {
    fn condition(&mut self, filter: &Where) -> String {
        match filter {
            Where::Every => "true".to_owned(),
            Where::None => "false".to_owned(),
            Where::All(parts) => self.joined(parts, " and "),
            Where::Any(parts) => self.joined(parts, " or "),
            Where::Not(inner) => format!("not {}", self.condition(inner)),
            Where::Is(predicate) => self.predicate(predicate),
        }
    }

    fn joined(&mut self, parts: &[Where], word: &str) -> String {
        let parts: Vec<String> = parts.iter().map(|part| self.condition(part)).collect();
        format!("({})", parts.join(word))
    }

    fn column(&self, name: &str) -> String {
        match name {
            "id" => self.columns.id.clone(),
            // Only declared columns are asked about.
            name => self.columns.columns.get(name).cloned().unwrap_or_default(),
        }
    }

    fn bind(&mut self, kind: &'static str, value: Json) -> String {
        let known = self.parameters.iter().position(|p| p.kind == kind && p.value == value);
        let at = known.unwrap_or_else(|| {
            self.parameters.push(Parameter { kind: kind.into(), value });
            self.parameters.len() - 1
        });
        format!("${}", at + 1)
    }

    fn one(&mut self, value: &Value<'_>, kind: ValueType) -> String {
        let at = self.bind("text", text(value).into());
        format!("{at}::text{}", cast(kind))
    }

    fn many(&mut self, values: &[Value<'_>], kind: ValueType) -> String {
        let at = self.bind("text[]", values.iter().map(text).collect());
        let cast = cast(kind);
        if cast.is_empty() { format!("{at}::text[]") } else { format!("{at}::text[]{cast}[]") }
    }

    /// A condition on one column that is false, not null, where the column is null.
    fn predicate(&mut self, predicate: &Predicate) -> String {
        let column = self.column(&predicate.column);
        let kind = predicate.kind;
        if predicate.operator == "known" {
            return format!("({column} is not null)");
        }
        let mut out = format!("({column} is not null and ");
        let test = match (&predicate.with, predicate.operator) {
            (Comparand::Nothing, _) => format!("array_position({column}, null) is null"),
            (Comparand::Column(other), operator) => {
                let other = self.column(other);
                format!("{other} is not null and {column} {} {other}", sign(operator))
            }
            (Comparand::One(value), "starts") => {
                let value = self.one(value, kind);
                format!("starts_with({column}, {value})")
            }
            (Comparand::One(value), "ends") => {
                let value = self.one(value, kind);
                format!("right({column}, length({value})) = {value}")
            }
            (Comparand::One(value), "contains") => {
                let value = self.one(value, kind);
                format!("position({value} in {column}) > 0")
            }
            (Comparand::One(Value::Text(pattern)), "fits") => {
                let value = self.one(&Value::Text(like(pattern).into()), kind);
                format!("{column} like {value} escape '\\'")
            }
            (Comparand::One(value), operator) => {
                let value = self.one(value, kind);
                format!("{column} {} {value}", sign(operator))
            }
            (Comparand::Many(values), operator) => {
                let values = self.many(values, kind);
                match (predicate.many, operator, kind) {
                    // Of networks `&&` says that one lies in the other (PostgreSQL, inet).
                    (true, "overlaps", ValueType::Address) => format!(
                        "exists (select from unnest({column}) one, unnest({values}) other where one && other)"
                    ),
                    (true, "overlaps", _) => format!("{column} && {values}"),
                    // All that the list holds is declared, and nothing is missing in it.
                    (true, _, _) => {
                        format!("{column} <@ {values} and array_position({column}, null) is null")
                    }
                    (false, "in", ValueType::Address) => format!("{column} <<= any({values})"),
                    (false, _, ValueType::Address) => format!("not ({column} <<= any({values}))"),
                    (false, "in", _) => format!("{column} = any({values})"),
                    (false, _, _) => format!("{column} <> all({values})"),
                }
            }
        };
        let _ = write!(out, "{test})");
        out
    }
}

fn sign(operator: &str) -> &str {
    match operator {
        "==" => "=",
        "!=" => "<>",
        other => other,
    }
}

fn text(value: &Value<'_>) -> String {
    match value {
        Value::Text(text) => text.to_string(),
        Value::Duration(length) => format!("{} seconds", length.as_secs()),
        other => other.to_string(),
    }
}

fn cast(kind: ValueType) -> &'static str {
    match kind {
        ValueType::Text => "",
        ValueType::Integer => "::bigint",
        ValueType::Decimal => "::numeric",
        ValueType::Boolean => "::boolean",
        ValueType::Time => "::timestamptz",
        ValueType::Duration => "::interval",
        ValueType::Address => "::inet",
    }
}

/// A pattern of `*` and `?` as one of `%` and `_`.
fn like(pattern: &str) -> String {
    let mut out = String::new();
    for c in pattern.chars() {
        match c {
            '*' => out.push('%'),
            '?' => out.push('_'),
            '%' | '_' | '\\' => out.extend(['\\', c]),
            c => out.push(c),
        }
    }
    out
}
