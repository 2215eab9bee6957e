//! `ostrog rollout`, `ostrog rollback`: what is live.

use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, YES};
use crate::files::counted;
use crate::shell::Shell;
use ostrog_client::Client;
use serde_json::{Value, json};
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
        let draft: Value = client.get(&format!("/api/v1/drafts/{}", args.what), &[]).await?;
        let changes = draft["standing"]["changes"].as_array().map_or(0, Vec::len);
        shell.notice(&format!("{} changes {}", args.what, counted(changes, "thing")));
    }
    asked(&args.applications, args.yes, shell)?;
    let wanted = json!({
        "what": args.what, "for": args.applications, "note": args.note, "accept-unfit": args.accept_unfit,
    });
    put(&client, &wanted, shell).await
}

pub async fn back(args: BackArgs, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let client = global.client()?;
    asked(&args.applications, args.yes, shell)?;
    let what = args.to.map_or_else(|| "back".to_owned(), |to| to.to_string());
    put(&client, &json!({ "what": what, "for": args.applications, "note": args.note }), shell).await
}

async fn put(client: &Client, wanted: &Value, shell: &Shell) -> Result<Code, Failure> {
    let live: Value = client.post("/api/v1/rollouts", wanted).await?;
    if shell.format == OutputFormat::Text {
        let title = live["title"].as_str().unwrap_or_default();
        shell.answer(&format!("revision {} is live for all: {title}", live["number"]));
    } else {
        shell.answer(&live.to_string());
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
