//! `ostrog log changes`: what happened.

use super::{Global, OutputFormat, print_rows};
use crate::exit::{Code, Failure, YES};
use crate::shell::Shell;
use serde_json::Value;

#[derive(Debug, clap::Subcommand)]
pub enum Command {
    /// What was written, newest first
    Changes {
        /// Only those before this position
        #[arg(long, value_name = "POSITION")]
        before: Option<i64>,
        /// At most so many
        #[arg(long, value_name = "N", default_value_t = 50)]
        limit: i64,
    },
}

pub async fn run(command: Command, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let Command::Changes { before, limit } = command;
    let (before, limit) = (before.map(|before| before.to_string()), limit.to_string());
    let mut query = vec![("limit", limit.as_str())];
    query.extend(before.iter().map(|before| ("before", before.as_str())));
    let mut rows: Vec<Value> = global.client()?.get("/api/v1/changes", &query).await?;
    if shell.format == OutputFormat::Text {
        for row in &mut rows {
            row["what"] = summary(&row["lines"]).into();
        }
    }
    print_rows(shell, &rows, &["position", "at", "actor", "kind", "what"]);
    Ok(YES)
}

/// The first line of a change, and how many more there are.
pub fn summary(lines: &Value) -> String {
    const LONGEST: usize = 100;
    let lines = lines.as_array().map_or(&[][..], Vec::as_slice);
    let first: String = lines.first().map_or_else(String::new, |line| {
        let text = line.to_string();
        match text.char_indices().nth(LONGEST) {
            Some((end, _)) => format!("{}…", &text[..end]),
            None => text,
        }
    });
    if lines.len() > 1 { format!("{first} and {} more", lines.len() - 1) } else { first }
}
