//! `ostrog reach`: which registered resources may a subject act on?

use super::question::{Where, With};
use super::{OutputFormat, print_rows};
use crate::exit::{Code, Failure, NO, YES};
use crate::files::counted;
use crate::shell::Shell;
use jiff::Timestamp;
use ostrog_core::decide::reach::{Reaching, reach};
use serde_json::{Value, json};

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

pub fn run(args: &Args, shell: &Shell) -> Result<Code, Failure> {
    let world = args.at.world(&args.with, shell)?;
    let now = args.with.moment()?.unwrap_or_else(Timestamp::now);
    let request = args.with.request(&args.subject, &args.permission, None)?;
    let at = Reaching { under: args.under.clone(), after: None, limit: args.limit };
    let engine = world.engine();
    let reached = reach(engine, &request, now, &at, &mut || true).map_err(Failure::input)?;
    let rows: Vec<Value> = reached
        .found
        .iter()
        .map(|(id, reason)| json!({ "resource": world.register().name(*id), "reason": reason.code(engine) }))
        .collect();
    print_rows(shell, &rows, &["resource", "reason"]);
    if shell.format == OutputFormat::Text {
        let more = if reached.next.is_some() { ", and perhaps more" } else { "" };
        shell.notice(&format!("{}{more}", counted(rows.len(), "resource")));
        if reached.new {
            shell.notice("and any that is not registered");
        }
    }
    Ok(if rows.is_empty() { NO } else { YES })
}
