//! `ostrog actions`: what may a subject do with a resource?

use super::question::{Where, With};
use super::{OutputFormat, print_rows};
use crate::exit::{Code, Failure, NO, YES};
use crate::shell::Shell;
use jiff::Timestamp;
use ostrog_core::decide::actions::actions;
use serde_json::{Value, json};

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

pub fn run(args: &Args, shell: &Shell) -> Result<Code, Failure> {
    let world = args.at.world(&args.with, shell)?;
    let now = args.with.moment()?.unwrap_or_else(Timestamp::now);
    let request = args.with.request(&args.subject, "", Some(&args.resource))?;
    let engine = world.engine();
    let found = actions(engine, &request, now).map_err(Failure::input)?;
    let any = found.iter().any(|(_, decision)| decision.allowed);
    let shown = found.iter().filter(|(_, decision)| args.all || decision.allowed);
    let marks = shell.format == OutputFormat::Text;
    let answer = |allowed: bool| match (marks, allowed) {
        (true, true) => "| | allowed",
        (true, false) => "|#| denied",
        (false, true) => "allowed",
        (false, false) => "denied",
    };
    let rows: Vec<Value> = shown
        .map(|(permission, decision)| {
            let declared = &engine.policy.model().permissions[permission.index()];
            json!({
                "answer": answer(decision.allowed),
                "permission": declared.text,
                "reason": decision.reason.code(engine),
                "description": declared.description,
            })
        })
        .collect();
    print_rows(shell, &rows, &["answer", "permission", "reason", "description"]);
    if !any && shell.format == OutputFormat::Text {
        shell.notice(&format!("{} may do nothing with {}", args.subject, args.resource));
    }
    Ok(if any { YES } else { NO })
}
