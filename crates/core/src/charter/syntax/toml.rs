//! TOML with places: a file as a table, and a cursor over one table's keys that knows which keys
//! may stand there and says so about all others.

use crate::source::{At, Finding, SourceFile, Span};
use crate::value::Scalar;
use ::toml::Spanned;
use ::toml::de::{DeTable, DeValue};

/// One parsed file; borrows its text.
#[derive(Debug)]
pub struct TomlFile<'s> {
    /// Its index in the sources.
    pub id: u32,
    /// Its text.
    pub text: &'s str,
    /// Its content.
    pub root: Spanned<DeTable<'s>>,
}

/// Parses a file; broken syntax becomes findings, and what could be read is kept.
pub fn parse_file<'s>(id: u32, file: &'s SourceFile, findings: &mut Vec<Finding>) -> TomlFile<'s> {
    let text = file.text.as_str();
    let (root, errors) = DeTable::parse_recoverable(text);
    for error in errors {
        let range = error.span().unwrap_or(0..0);
        let span = Span::new(id, range.clone());
        let message = error.message().lines().next().unwrap_or("broken TOML").to_owned();
        let mut finding = Finding::error("toml", span, message.clone());
        if message.contains("duplicate key") {
            let key = text.get(range).unwrap_or("");
            finding.message = format!("{key:?} is defined twice");
            let first = first_key(root.get_ref(), key, span).or_else(|| first_header(text, span));
            if let Some(first) = first {
                finding = finding.beside(first, "first defined here");
            }
        }
        findings.push(finding);
    }
    TomlFile { id, text, root }
}

/// The last key of this text before a place: where a duplicate was defined first.
fn first_key(table: &DeTable<'_>, key: &str, before: Span) -> Option<Span> {
    let mut found: Option<Span> = None;
    let mut tables = vec![table];
    while let Some(table) = tables.pop() {
        for (name, value) in table {
            let span = Span::new(before.file, name.span());
            if name.get_ref() == key && span.start < before.start {
                found = found.max(Some(span));
            }
            let mut values = vec![value.get_ref()];
            while let Some(value) = values.pop() {
                match value {
                    DeValue::Table(inner) => tables.push(inner),
                    DeValue::Array(items) => values.extend(items.iter().map(Spanned::get_ref)),
                    _ => {}
                }
            }
        }
    }
    found
}

/// The first line that reads like the one a place is on: where a table's header stood before.
fn first_header(text: &str, at: Span) -> Option<Span> {
    let header = text.get(..at.start as usize)?.rfind('\n').map_or(0, |end| end + 1);
    let wanted = text[header..].lines().next()?.trim();
    let mut start = 0;
    for line in text[..header].split_inclusive('\n') {
        if line.trim() == wanted {
            return Some(Span::new(at.file, start..start + line.trim_end().len()));
        }
        start += line.len();
    }
    None
}

/// The keys of one table, in the order they were written.
#[derive(Debug)]
pub struct Fields<'a, 's> {
    file: &'a TomlFile<'s>,
    entries: Vec<(&'a Spanned<std::borrow::Cow<'s, str>>, &'a Spanned<DeValue<'s>>)>,
    /// What the table is called in messages, e.g. `[role.planner]`.
    what: String,
    /// The table's place: its first key, or itself.
    pub span: Span,
}

impl<'a, 's> Fields<'a, 's> {
    /// A cursor over `table`.
    pub fn new(file: &'a TomlFile<'s>, table: &'a DeTable<'s>, span: Span, what: &str) -> Self {
        let mut entries: Vec<_> = table.iter().collect();
        entries.sort_by_key(|(key, _)| key.span().start);
        Fields { file, entries, what: what.to_owned(), span }
    }

    /// A cursor over a whole file.
    pub fn root(file: &'a TomlFile<'s>) -> Self {
        Fields::new(file, file.root.get_ref(), Span::new(file.id, 0..0), "a charter")
    }

    fn span_of(&self, range: std::ops::Range<usize>) -> Span {
        Span::new(self.file.id, range)
    }

    /// Complains about every key that is not in `known`.
    pub fn only(&self, known: &[&str], findings: &mut Vec<Finding>) {
        for (key, _) in &self.entries {
            let name = key.get_ref().as_ref();
            if !known.contains(&name) {
                let message = format!("unknown key {name:?} in {}", self.what);
                let finding = Finding::error("unknown-key", self.span_of(key.span()), message);
                let finding = finding.meant(name, known.iter().copied());
                findings.push(if finding.meant.is_none() {
                    finding.help(format!("known here: {}", known.join(", ")))
                } else {
                    finding
                });
            }
        }
    }

    /// Every key with its value, in order.
    pub fn entries(&self) -> impl Iterator<Item = (At<String>, Field<'a, 's>)> + '_ {
        self.entries.iter().map(|(key, value)| {
            let name = At::new(key.get_ref().to_string(), self.span_of(key.span()));
            let what = format!("{:?} of {}", name.value, self.what);
            (name, Field { file: self.file, value, what })
        })
    }

    /// The value of a key.
    pub fn get(&self, key: &str) -> Option<Field<'a, 's>> {
        let (_, value) = self.entries.iter().find(|(name, _)| name.get_ref() == key)?;
        Some(Field { file: self.file, value, what: format!("{key:?} of {}", self.what) })
    }
}

/// A value, with words for what it is.
#[derive(Clone, Debug)]
pub struct Field<'a, 's> {
    file: &'a TomlFile<'s>,
    value: &'a Spanned<DeValue<'s>>,
    what: String,
}

impl<'a, 's> Field<'a, 's> {
    /// Its place.
    pub fn span(&self) -> Span {
        Span::new(self.file.id, self.value.span())
    }

    /// What the file says there, as written.
    pub fn source(&self) -> &'s str {
        self.file.text.get(self.value.span()).unwrap_or("")
    }

    fn wrong<T>(&self, wanted: &str, findings: &mut Vec<Finding>) -> Option<T> {
        let found = match self.value.get_ref() {
            DeValue::String(_) => "a text",
            DeValue::Integer(_) => "an integer",
            DeValue::Float(_) => "a number",
            DeValue::Boolean(_) => "a boolean",
            DeValue::Datetime(_) => "a date",
            DeValue::Array(_) => "a list",
            DeValue::Table(_) => "a table",
        };
        let message = format!("{} must be {wanted}, not {found}", self.what);
        let finding = Finding::error("wrong-shape", self.span(), message);
        findings.push(match (wanted, self.value.get_ref()) {
            ("a list", DeValue::String(_)) => finding.help(format!("write [{}]", self.source())),
            ("a table", DeValue::Array(_)) => finding.help("write { key = value, … }"),
            _ => finding,
        });
        None
    }

    /// A text.
    pub fn text(&self, findings: &mut Vec<Finding>) -> Option<At<String>> {
        match self.value.get_ref() {
            DeValue::String(text) => Some(At::new(text.to_string(), self.span())),
            _ => self.wrong("a text", findings),
        }
    }

    /// `true` or `false`.
    pub fn boolean(&self, findings: &mut Vec<Finding>) -> Option<bool> {
        match self.value.get_ref() {
            DeValue::Boolean(value) => Some(*value),
            _ => self.wrong("true or false", findings),
        }
    }

    /// A whole number.
    pub fn integer(&self, findings: &mut Vec<Finding>) -> Option<At<i64>> {
        match self.scalar_or_none() {
            Some(Scalar::Integer(value)) => Some(At::new(value, self.span())),
            _ => self.wrong("a whole number", findings),
        }
    }

    fn scalar_or_none(&self) -> Option<Scalar> {
        match self.value.get_ref() {
            DeValue::String(text) => Some(Scalar::Text(text.as_ref().into())),
            DeValue::Boolean(value) => Some(Scalar::Boolean(*value)),
            DeValue::Integer(value) => {
                i64::from_str_radix(&value.as_str().replace('_', ""), value.radix()).ok().map(Scalar::Integer)
            }
            DeValue::Float(value) => Scalar::from_digits(&value.as_str().replace('_', "")),
            DeValue::Datetime(_) => {
                // TOML may write a blank instead of the T; RFC 3339 in JSON does not.
                Some(Scalar::Text(self.source().replacen(' ', "T", 1).into()))
            }
            _ => None,
        }
    }

    /// A text, number, boolean or date.
    pub fn scalar(&self, findings: &mut Vec<Finding>) -> Option<Scalar> {
        self.scalar_or_none().or_else(|| self.wrong("a text, number, boolean or date", findings))
    }

    /// The items of a list, or `None` if this is none.
    pub fn items(&self) -> Option<Vec<Field<'a, 's>>> {
        let DeValue::Array(items) = self.value.get_ref() else { return None };
        let what = format!("an item of {}", self.what);
        let field = |value| Field { file: self.file, value, what: what.clone() };
        Some(items.iter().map(field).collect())
    }

    /// A list.
    pub fn list(&self, findings: &mut Vec<Finding>) -> Vec<Field<'a, 's>> {
        self.items().or_else(|| self.wrong("a list", findings)).unwrap_or_default()
    }

    /// A list of texts that names at least one thing.
    pub fn texts(&self, findings: &mut Vec<Finding>) -> Vec<At<String>> {
        let items = self.list(findings);
        if items.is_empty() && matches!(self.value.get_ref(), DeValue::Array(_)) {
            let message = format!("{} is empty", self.what);
            findings.push(Finding::error("empty-list", self.span(), message).help("leave the key out"));
        }
        items.iter().filter_map(|item| item.text(findings)).collect()
    }

    /// A text or a list of texts.
    pub fn one_or_more(&self, findings: &mut Vec<Finding>) -> Vec<At<String>> {
        match self.value.get_ref() {
            DeValue::String(_) => self.text(findings).into_iter().collect(),
            _ => self.texts(findings),
        }
    }

    /// Whether this is a table.
    pub fn is_table(&self) -> bool {
        matches!(self.value.get_ref(), DeValue::Table(_))
    }

    /// A table.
    pub fn table(&self, what: &str, findings: &mut Vec<Finding>) -> Option<Fields<'a, 's>> {
        match self.value.get_ref() {
            DeValue::Table(table) => Some(Fields::new(self.file, table, self.span(), what)),
            _ => self.wrong("a table", findings),
        }
    }

    /// A list of tables.
    pub fn tables(&self, what: &str, findings: &mut Vec<Finding>) -> Vec<Fields<'a, 's>> {
        let items = self.list(findings);
        items.iter().filter_map(|item| item.table(what, findings)).collect()
    }

    /// A value as JSON, for texts that share their format with JSON.
    pub fn json(&self, findings: &mut Vec<Finding>) -> Option<serde_json::Value> {
        match self.value.get_ref() {
            DeValue::Array(_) => {
                Some(self.list(findings).iter().filter_map(|item| item.json(findings)).collect())
            }
            DeValue::Table(_) => {
                let fields = self.table(&self.what, findings)?;
                let pairs =
                    fields.entries().filter_map(|(key, field)| Some((key.value, field.json(findings)?)));
                Some(serde_json::Value::Object(pairs.collect()))
            }
            _ => self.scalar(findings).map(|scalar| scalar.to_json()),
        }
    }
}
