//! Rehearsals as text, laid out as people write them.

use serde_json::{Map, Value};
use std::fmt::Write as _;

/// A rehearsal file: its head, its samples by name, its cases.
pub fn write(head: &Map<String, Value>, samples: &Map<String, Value>, cases: &[Value]) -> String {
    let mut text = String::new();
    table(&mut text, "[rehearsal]", head);
    for (name, sample) in samples {
        let empty = Map::new();
        table(&mut text, &format!("[sample.{}]", quoted(name)), sample.as_object().unwrap_or(&empty));
    }
    for case in cases.iter().filter_map(Value::as_object) {
        table(&mut text, "[[case]]", case);
    }
    text
}

fn table(text: &mut String, head: &str, fields: &Map<String, Value>) {
    if !text.is_empty() {
        text.push('\n');
    }
    let _ = writeln!(text, "{head}");
    for (key, value) in fields {
        let _ = writeln!(text, "{} = {}", bare(key), inline(value));
    }
}

fn bare(key: &str) -> String {
    let plain = !key.is_empty() && key.chars().all(|c| c.is_ascii_alphanumeric() || c == '-' || c == '_');
    if plain { key.to_owned() } else { quoted(key) }
}

fn quoted(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}

fn inline(value: &Value) -> String {
    match value {
        Value::String(text) => quoted(text),
        Value::Array(all) => format!("[{}]", all.iter().map(inline).collect::<Vec<_>>().join(", ")),
        Value::Object(fields) if fields.is_empty() => "{}".to_owned(),
        Value::Object(fields) => {
            let fields: Vec<String> =
                fields.iter().map(|(key, value)| format!("{} = {}", bare(key), inline(value))).collect();
            format!("{{ {} }}", fields.join(", "))
        }
        // There is none in TOML; where it may stand it says the same as nothing.
        Value::Null => "\"\"".to_owned(),
        plain => plain.to_string(),
    }
}
