//! `ostrog log changes | verify | checkpoint`: what happened, and whether that is what was written.

use super::{Global, OutputFormat};
use crate::checkpoint::{Checkpoint, SigningKey};
use crate::exit::{Code, Failure, NO, YES};
use crate::shell::Shell;
use crate::table;
use ostrog_client::Client;
use ostrog_core::register::journal::Entry;
use ostrog_wire::changes::{ChangeQuery, ChangeShown, VerificationQuery};
use serde_json::Value;
use std::path::PathBuf;

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
    /// Whether the changes are what was written, and the tables what they come to
    Verify {
        /// Only from this position on; the tables are not held against it then
        #[arg(long, value_name = "POSITION")]
        from: Option<i64>,
        /// A checkpoint that was kept elsewhere
        #[arg(long, value_name = "FILE", requires = "public_key")]
        checkpoint: Option<PathBuf>,
        /// The key it was signed for: PEM (Ed25519)
        #[arg(long, value_name = "FILE", requires = "checkpoint")]
        public_key: Option<PathBuf>,
    },
    /// Sign how far the changes are now, to be kept elsewhere
    Checkpoint {
        /// The key to sign with: PEM (Ed25519), outside database and backup
        #[arg(long, value_name = "FILE")]
        signing_key: PathBuf,
    },
}

pub async fn run(command: Command, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let client = global.client().await?;
    let (before, limit) = match command {
        Command::Changes { before, limit } => (before, limit),
        Command::Verify { from, checkpoint, public_key } => {
            let kept = checkpoint.zip(public_key);
            let kept = kept.map(|(file, key)| Checkpoint::read(&file, &key)).transpose()?;
            return verify(&client, from, kept, shell).await;
        }
        Command::Checkpoint { signing_key } => {
            let key = SigningKey::read(&signing_key)?;
            let status = client.status().await?;
            let signed = Checkpoint::sign(&status.epoch, status.position, &status.digest, &key)?;
            shell.answer(&serde_json::to_string_pretty(&signed).unwrap_or_default());
            return Ok(YES);
        }
    };
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

/// Verifies, and says how much that shows: without a digest that was kept elsewhere whoever wrote all of it anew is not
/// found out.
async fn verify(
    client: &Client,
    from: Option<i64>,
    kept: Option<Checkpoint>,
    shell: &Shell,
) -> Result<Code, Failure> {
    let at = kept.as_ref().map(|kept| kept.position);
    let found = client.verify_changes(&VerificationQuery { from, at }).await?;
    if shell.format != OutputFormat::Text {
        shell.answer(&serde_json::to_string(&found).unwrap_or_default());
    }
    let mut wrong = !found.found.is_empty();
    if shell.format == OutputFormat::Text {
        for one in &found.found {
            let at = one.position.map_or_else(String::new, |position| format!("position {position}: "));
            shell.answer(&format!("{at}{}", one.words));
        }
    }
    let beside = if found.folded { "; the tables are what they come to" } else { "" };
    let chained = match found.chained {
        0 => String::new(),
        many => format!(", {many} of them chained by an upgrade"),
    };
    let told = match kept {
        _ if wrong => format!("{} rows{chained}: not what was written", found.rows),
        None => format!(
            "{} rows{chained}: consistent in itself{beside}. Whoever wrote all of it anew is found out by a checkpoint alone",
            found.rows
        ),
        Some(kept) => match &found.at {
            Some(at) if at.epoch == kept.epoch && at.digest == kept.digest => {
                let position = kept.position;
                format!(
                    "{} rows{chained}: whole up to position {position}, as was signed {}{beside}",
                    found.rows, kept.at
                )
            }
            None if kept.position > found.position => {
                wrong = true;
                format!(
                    "lost by restore: the checkpoint is of position {}, and the last is {}",
                    kept.position, found.position
                )
            }
            _ => {
                wrong = true;
                format!("position {} is not what was signed {}: another history", kept.position, kept.at)
            }
        },
    };
    if shell.format == OutputFormat::Text {
        shell.answer(&told);
    } else {
        shell.notice(&told);
    }
    Ok(if wrong { NO } else { YES })
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
