//! `ostrog actions`: what may a subject do with a resource?

use super::question::{Asking, Where, With};
use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, NO, YES};
use crate::shell::Shell;
use crate::table;
use ostrog_core::decide::told::{self, ActionTold};
use ostrog_wire::questions::BlankOptions;

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
    let told = match args.at.asking(&args.with, global, shell).await? {
        Asking::Offline(world, now) => {
            told::actions(world.engine(), &request, now).map_err(Failure::input)?
        }
        Asking::Live(client) => {
            let question = args.at.question(&request, BlankOptions::default(), &args.with)?;
            args.at.told(client.actions(&question).await?, shell)
        }
    };
    let allowed = |row: &ActionTold| row.answer == "allowed";
    let any = told.items.iter().any(allowed);
    let mut rows = told.items;
    rows.retain(|row| args.all || allowed(row));
    let is_text = shell.format == OutputFormat::Text;
    let answer: fn(&ActionTold) -> String = match is_text {
        true => |row| if row.answer == "allowed" { "| | allowed" } else { "|#| denied" }.to_owned(),
        false => |row| row.answer.to_string(),
    };
    table::print(
        shell,
        &rows,
        &[
            ("answer", answer),
            ("permission", |row| row.permission.clone()),
            ("reason", |row| row.reason.clone()),
            ("description", |row| row.description.clone()),
        ],
    );
    if !any && is_text {
        shell.notice(&format!("{} may do nothing with {}", args.subject, args.resource));
    }
    Ok(if any { YES } else { NO })
}
