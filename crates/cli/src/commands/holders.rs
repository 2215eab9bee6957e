//! `ostrog holders`: who may do something?

use super::question::{Where, With};
use super::{Global, OutputFormat, items, print_rows};
use crate::exit::{Code, Failure, NO, YES};
use crate::shell::Shell;
use ostrog_core::decide::told::{Beside, Blank};

/// The command's arguments.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// type:action
    permission: String,
    /// type:id; without one, a new resource
    resource: Option<String>,
    /// Tell of each how they come to it
    #[arg(long)]
    through: bool,
    #[command(flatten)]
    at: Where,
    #[command(flatten)]
    with: With,
}

pub async fn run(args: &Args, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let request = args.with.request("anonymous", &args.permission, args.resource.as_deref())?;
    let beside = Beside { through: args.through, ..Beside::default() };
    let told = args.at.told(Blank::Holders, &request, &beside, &args.with, global, shell).await?;
    let rows = items(&told);
    let columns: &[&str] = if args.through { &["who", "reason", "through"] } else { &["who", "reason"] };
    print_rows(shell, &rows, columns);
    if shell.format == OutputFormat::Text {
        if told["whole"] == false {
            shell.notice("and perhaps more: the search took too long");
        } else if rows.is_empty() {
            shell.notice("nobody");
        }
    }
    Ok(if rows.is_empty() { NO } else { YES })
}
