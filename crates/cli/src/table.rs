//! Lists in the form that is wanted: for people in columns, else as JSON or CSV.

use crate::commands::OutputFormat;
use crate::shell::Shell;
use serde::Serialize;

/// A column: its title, and what stands in it.
pub type Column<T> = (&'static str, fn(&T) -> String);

/// Prints a list; `columns` are for people and for CSV.
pub fn print<T: Serialize>(shell: &Shell, rows: &[T], columns: &[Column<T>]) {
    let titles = columns.iter().map(|(title, _)| (*title).to_owned());
    let cells = |row: &T| columns.iter().map(|(_, cell)| cell(row)).collect::<Vec<_>>();
    match shell.format {
        OutputFormat::Json => shell.answer(&serde_json::to_string_pretty(rows).unwrap_or_default()),
        OutputFormat::Ndjson => {
            rows.iter().for_each(|row| shell.answer(&serde_json::to_string(row).unwrap_or_default()));
        }
        OutputFormat::Csv => {
            let all = std::iter::once(titles.collect()).chain(rows.iter().map(cells));
            shell.answer(&csv(all));
        }
        OutputFormat::Text if rows.is_empty() => {}
        OutputFormat::Text => {
            let all: Vec<Vec<String>> =
                std::iter::once(titles.collect()).chain(rows.iter().map(cells)).collect();
            let width = |at: usize| all.iter().map(|row| row[at].chars().count()).max().unwrap_or(0);
            let widths: Vec<usize> = (0..columns.len()).map(width).collect();
            for row in &all {
                let padded = row.iter().zip(&widths).map(|(cell, width)| format!("{cell:<width$}"));
                shell.answer(padded.collect::<Vec<_>>().join("  ").trim_end());
            }
        }
    }
}

fn csv(rows: impl Iterator<Item = Vec<String>>) -> String {
    let mut writer = csv::Writer::from_writer(Vec::new());
    for row in rows {
        // It is written into memory, and all rows are of one length.
        let _ = writer.write_record(row);
    }
    let bytes = writer.into_inner().unwrap_or_default();
    String::from_utf8(bytes).unwrap_or_default().trim_end_matches('\n').to_owned()
}

/// A text that may be missing.
pub fn text(text: Option<&str>) -> String {
    text.unwrap_or_default().to_owned()
}
