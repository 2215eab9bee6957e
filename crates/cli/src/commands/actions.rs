//! `ostrog actions`: what may a subject do with a resource?

use super::question::{Where, With};
use super::{Global, OutputFormat, items, print_rows};
use crate::exit::{Code, Failure, NO, YES};
use crate::shell::Shell;
use ostrog_core::decide::told::{Beside, Blank};
use serde_json::Value;

/// The command's arguments.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// user:ines, service:crane-feed, anonymous
    subject: String,
    /// type:id
    resource: String,
    /// What is denied too
    #[arg(long)]
    all: bool,
    #[command(flatten)]
    at: Where,
    #[command(flatten)]
    with: With,
}

pub async fn run(args: &Args, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let request = args.with.request(&args.subject, "", Some(&args.resource))?;
    let told = args.at.told(Blank::Actions, &request, &Beside::default(), &args.with, global, shell).await?;
    let allowed = |row: &Value| row["answer"] == "allowed";
    let mut rows = items(&told);
    let any = rows.iter().any(allowed);
    rows.retain(|row| args.all || allowed(row));
    if shell.format == OutputFormat::Text {
        for row in &mut rows {
            row["answer"] = if allowed(row) { "| | allowed" } else { "|#| denied" }.into();
        }
    }
    print_rows(shell, &rows, &["answer", "permission", "reason", "description"]);
    if !any && shell.format == OutputFormat::Text {
        shell.notice(&format!("{} may do nothing with {}", args.subject, args.resource));
    }
    Ok(if any { YES } else { NO })
}
