//! `ostrog rollout`, `ostrog rollback`: what is live.

use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, YES};
use crate::files::counted;
use crate::shell::Shell;
use ostrog_client::Client;
use ostrog_wire::charter::RolloutAsked;
use std::io::{BufRead as _, IsTerminal as _};

/// The arguments of `rollout`.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// A draft (D-1) or a revision (3)
    what: String,
    /// For which applications: all
    #[arg(long = "for", value_name = "APP|all")]
    applications: String,
    /// Why; kept with the change
    #[arg(long)]
    note: Option<String>,
    /// Go live even if facts of the register do not fit: they will give nothing
    #[arg(long)]
    accept_unfit: bool,
    /// Do not ask
    #[arg(long)]
    yes: bool,
}

/// The arguments of `rollback`.
#[derive(Debug, clap::Args)]
pub struct BackArgs {
    /// For which applications: all
    #[arg(long = "for", value_name = "APP|all")]
    applications: String,
    /// The revision to go back to; without one, the one before
    #[arg(long, value_name = "REVISION")]
    to: Option<i64>,
    /// Why; kept with the change
    #[arg(long)]
    note: String,
    /// Do not ask
    #[arg(long)]
    yes: bool,
}

pub async fn run(args: Args, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let client = global.client()?;
    if args.what.starts_with("D-") && !args.yes {
        let changes = client.draft(&args.what).await?.standing.changes.len();
        shell.notice(&format!("{} changes {}", args.what, counted(changes, "thing")));
    }
    asked(&args.applications, args.yes, shell)?;
    let (what, note, accept_unfit) = (args.what, args.note, args.accept_unfit);
    put(&client, &RolloutAsked { what, r#for: args.applications, note, accept_unfit }, shell).await
}

pub async fn back(args: BackArgs, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let client = global.client()?;
    asked(&args.applications, args.yes, shell)?;
    let what = args.to.map_or_else(|| "back".to_owned(), |to| to.to_string());
    let note = Some(args.note);
    put(&client, &RolloutAsked { what, r#for: args.applications, note, accept_unfit: false }, shell).await
}

async fn put(client: &Client, wanted: &RolloutAsked, shell: &Shell) -> Result<Code, Failure> {
    let live = client.roll_out(wanted).await?;
    if shell.format == OutputFormat::Text {
        shell.answer(&format!("revision {} is live for all: {}", live.number, live.title));
    } else {
        shell.answer(&serde_json::to_string(&live).unwrap_or_default());
    }
    Ok(YES)
}

/// What changes what is live is confirmed by typing what it is for.
fn asked(applications: &str, yes: bool, shell: &Shell) -> Result<(), Failure> {
    if yes {
        return Ok(());
    }
    if !std::io::stdin().is_terminal() {
        return Err(Failure::misused("this changes what is live: say --yes where nobody can be asked"));
    }
    shell.notice(&format!("this changes what is live; type {applications} to go on"));
    let mut typed = String::new();
    let read = std::io::stdin().lock().read_line(&mut typed);
    if read.is_err() || typed.trim() != applications {
        return Err(Failure::misused("nothing was changed"));
    }
    Ok(())
}
