//! One canonical layout for charter files. Comments stay with what they stand by, the order of
//! tables stays as it was, and what is written means what it meant.

use toml_edit::{Array, Decor, DocumentMut, InlineTable, Item, KeyMut, RawString, Table, Value};

/// Widest line a list is kept on.
const WIDTH: usize = 100;

/// The keys of tables in the order they are written; others follow as they stood.
const ORDER: [&str; 44] = [
    "application",
    "key",
    "role",
    "name",
    "format",
    "description",
    "method",
    "path",
    "within",
    "actions",
    "to",
    "relation",
    "holds",
    "at",
    "effect",
    "includes",
    "permissions",
    "except",
    "roles",
    "needs",
    "open",
    "resource",
    "new",
    "any",
    "type",
    "many",
    "from",
    "values",
    "default",
    "held-by",
    "held-at",
    "grantable",
    "given-to",
    "standby",
    "when",
    "regardless",
    "unguarded",
    "through-detached",
    "for",
    "across-tenants",
    "visible",
    "enabled",
    "under",
    "message",
];

/// Lays a file out anew.
///
/// # Errors
/// If it is not TOML; what is wrong is told by checking it.
pub fn tidy(text: &str) -> Result<String, String> {
    let mut document: DocumentMut = text.parse().map_err(|error: toml_edit::TomlError| {
        error.message().lines().next().unwrap_or("broken TOML").to_owned()
    })?;
    table(document.as_table_mut(), true);
    let tail = comments(document.trailing().as_str().unwrap_or_default());
    document.set_trailing(tail);
    let mut out = String::new();
    let mut blank = true;
    for line in document.to_string().lines() {
        let line = line.trim_end();
        // Nothing begins with an empty line, and there are never two.
        if line.is_empty() && blank {
            continue;
        }
        blank = line.is_empty();
        out.push_str(line);
        out.push('\n');
    }
    let out = format!("{}\n", out.trim_end());
    if meaning(text)? != meaning(&out)? {
        return Err("this file cannot be laid out without changing what it says".to_owned());
    }
    Ok(out)
}

fn meaning(text: &str) -> Result<toml::Table, String> {
    text.parse().map_err(|error: toml::de::Error| error.message().to_owned())
}

/// The comment lines of a decoration, trimmed, with single empty lines between.
fn comments(decor: &str) -> String {
    decor.split('\n').map(|line| format!("{}\n", line.trim())).collect()
}

fn text_of(raw: Option<&RawString>) -> String {
    raw.and_then(RawString::as_str).unwrap_or_default().to_owned()
}

/// What stands before a key or header: comments, each on its line.
fn before(decor: &Decor) -> String {
    let text = text_of(decor.prefix());
    // What stands on the key's own line before it is only blanks.
    text.rsplit_once('\n').map_or_else(String::new, |(lines, _)| comments(lines))
}

/// A comment behind a value, two blanks away.
fn behind(decor: &Decor) -> String {
    let text = text_of(decor.suffix());
    let comment = text.trim();
    if comment.is_empty() { String::new() } else { format!("  {comment}") }
}

fn table(table: &mut Table, root: bool) {
    if !root && !table.is_implicit() && !table.is_dotted() {
        let lines = before(table.decor());
        let comment = behind(table.decor());
        let gap = if lines.starts_with('\n') { "" } else { "\n" };
        table.decor_mut().set_prefix(format!("{gap}{lines}"));
        table.decor_mut().set_suffix(comment);
    }
    if !table.is_dotted() {
        let place = |name: &str| ORDER.iter().position(|known| *known == name).unwrap_or(ORDER.len());
        let sorts = table.iter().all(|(_, item)| item.is_value());
        // Names that an author chose keep the author's order.
        if sorts
            && table.iter().any(|(name, _)| place(name) < 2 || name == "permissions" || name == "application")
        {
            table.sort_values_by(|a, _, b, _| place(a.get()).cmp(&place(b.get())));
        }
    }
    for (mut key, item) in table.iter_mut() {
        entry(&mut key, item);
    }
}

fn entry(key: &mut KeyMut<'_>, item: &mut Item) {
    match item {
        Item::Table(inner) => table(inner, false),
        Item::ArrayOfTables(all) => all.iter_mut().for_each(|inner| table(inner, false)),
        Item::Value(value) => {
            let lines = before(key.leaf_decor());
            key.leaf_decor_mut().set_prefix(lines);
            key.leaf_decor_mut().set_suffix(" ");
            let width = key.get().len() + 3;
            self::value(value, width, true);
        }
        Item::None => {}
    }
}

fn value(value: &mut Value, column: usize, last: bool) {
    let comment = if last { behind(value.decor()) } else { String::new() };
    match value {
        Value::Array(items) => array(items, column),
        Value::InlineTable(inner) => inline(inner),
        _ => {}
    }
    value.decor_mut().set_prefix(" ");
    value.decor_mut().set_suffix(comment);
}

fn has_comment(items: &Array) -> bool {
    let in_decor =
        |decor: &Decor| text_of(decor.prefix()).contains('#') || text_of(decor.suffix()).contains('#');
    text_of(Some(items.trailing())).contains('#') || items.iter().any(|item| in_decor(item.decor()))
}

fn array(items: &mut Array, column: usize) {
    // Comments between items hold to lines that cannot be joined.
    if has_comment(items) {
        return;
    }
    for item in items.iter_mut() {
        value(item, 0, false);
        item.decor_mut().clear();
    }
    items.set_trailing("");
    items.set_trailing_comma(false);
    for (at, item) in items.iter_mut().enumerate() {
        item.decor_mut().set_prefix(if at == 0 { "" } else { " " });
    }
    if column + items.to_string().len() <= WIDTH {
        return;
    }
    for item in items.iter_mut() {
        item.decor_mut().set_prefix("\n    ");
    }
    items.set_trailing("\n");
    items.set_trailing_comma(true);
}

fn inline(table: &mut InlineTable) {
    let count = table.len();
    for (at, (mut key, inner)) in table.iter_mut().enumerate() {
        key.leaf_decor_mut().set_prefix(" ");
        key.leaf_decor_mut().set_suffix(" ");
        value(inner, 0, false);
        if at + 1 == count {
            inner.decor_mut().set_suffix(" ");
        }
    }
}
