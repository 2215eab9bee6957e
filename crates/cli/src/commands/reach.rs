//! `ostrog reach`: which registered resources may a subject act on?

use super::question::{Where, With};
use super::{Global, OutputFormat, items, print_rows};
use crate::exit::{Code, Failure, NO, YES};
use crate::files::counted;
use crate::shell::Shell;
use ostrog_core::decide::told::{Beside, Blank};

/// The command's arguments.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// user:ines, service:crane-feed, anonymous
    subject: String,
    /// type:action
    permission: String,
    /// Only what lies within this
    #[arg(long, value_name = "RESOURCE")]
    under: Option<String>,
    /// Stop after so many
    #[arg(long, value_name = "N")]
    limit: Option<usize>,
    #[command(flatten)]
    at: Where,
    #[command(flatten)]
    with: With,
}

pub async fn run(args: &Args, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let request = args.with.request(&args.subject, &args.permission, None)?;
    let beside = Beside { under: args.under.clone(), limit: args.limit, ..Beside::default() };
    let told = args.at.told(Blank::Reach, &request, &beside, &args.with, global, shell).await?;
    let rows = items(&told);
    print_rows(shell, &rows, &["resource", "reason"]);
    if shell.format == OutputFormat::Text {
        let more = if told["whole"] == true { "" } else { ", and perhaps more" };
        shell.notice(&format!("{}{more}", counted(rows.len(), "resource")));
        if told["new"] == true {
            shell.notice("and any that is not registered");
        }
    }
    Ok(if rows.is_empty() { NO } else { YES })
}
