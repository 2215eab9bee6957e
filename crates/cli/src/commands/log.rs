//! `ostrog log changes`: what happened.

use super::Global;
use crate::exit::{Code, Failure, YES};
use crate::shell::Shell;
use crate::table;
use ostrog_core::register::journal::Entry;
use ostrog_wire::changes::{ChangeQuery, ChangeShown};
use serde_json::Value;

/// Longest that is shown of a line.
const LONGEST: usize = 100;

#[derive(Debug, clap::Subcommand)]
pub enum Command {
    /// What was written, newest first
    Changes {
        /// Only those before this position
        #[arg(long, value_name = "POSITION")]
        before: Option<i64>,
        /// At most so many
        #[arg(long, value_name = "N", default_value_t = 50)]
        limit: usize,
    },
}

pub async fn run(command: Command, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let Command::Changes { before, limit } = command;
    let client = global.client().await?;
    let mut found: Vec<ChangeShown> = Vec::new();
    let mut before = before;
    while found.len() < limit {
        let rest = i64::try_from(limit - found.len()).unwrap_or(i64::MAX);
        let page =
            client.changes(&ChangeQuery { before, limit: Some(rest), ..ChangeQuery::default() }).await?;
        found.extend(page.items);
        before = page.next.and_then(|next| next.parse().ok());
        if before.is_none() {
            break;
        }
    }
    table::print(
        shell,
        &found,
        &[
            ("position", |change| change.position.to_string()),
            ("at", |change| change.at.clone()),
            ("actor", |change| change.actor.clone()),
            ("kind", |change| change.kind.clone()),
            ("what", summary),
        ],
    );
    Ok(YES)
}

/// The first line of a change, and how many more there are.
pub fn summary(change: &ChangeShown) -> String {
    // The numbers that are given next, and the reason, are not what was changed.
    let beside = |line: &&Value| matches!(Entry::from_json(line), Ok(Entry::Next(_) | Entry::Note(_)));
    let besides = change.lines.iter().filter(beside).count();
    let first = change.lines.iter().find(|line| !beside(line)).map_or_else(String::new, |line| {
        let text = line.to_string();
        match text.char_indices().nth(LONGEST) {
            Some((end, _)) => format!("{}…", &text[..end]),
            None => text,
        }
    });
    match change.count - besides {
        0 | 1 => first,
        many => format!("{first} and {} more", many - 1),
    }
}
