//! `ostrog hints`: what does an application's interface show and enable for a subject?

use super::question::{Where, With};
use super::{Global, OutputFormat, items, print_rows};
use crate::exit::{Code, Failure, YES};
use crate::shell::Shell;
use ostrog_core::decide::told::{Beside, Blank};
use serde_json::{Value, json};

/// The command's arguments.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// user:ines, service:crane-feed, anonymous
    subject: String,
    /// The application's key
    application: String,
    /// type:id; what is not about its type is judged on whether it may be done somewhere
    resource: Option<String>,
    #[command(flatten)]
    at: Where,
    #[command(flatten)]
    with: With,
}

pub async fn run(args: &Args, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let request = args.with.request(&args.subject, "", args.resource.as_deref())?;
    let beside = Beside { application: args.application.clone(), ..Beside::default() };
    let told = args.at.told(Blank::Hints, &request, &beside, &args.with, global, shell).await?;
    let found = items(&told);
    if shell.format != OutputFormat::Text {
        print_rows(shell, &found, &["key", "visible", "enabled", "somewhere", "name"]);
        return Ok(YES);
    }
    let row = |hint: &Value| {
        let state = match (hint["visible"] == true, hint["enabled"] == true) {
            (false, _) => "hidden",
            (true, false) => "shown",
            (true, true) => "enabled",
        };
        let judged = if hint["somewhere"] == true { "somewhere" } else { "here" };
        json!({ "affordance": hint["key"], "state": state, "judged": judged, "name": hint["name"] })
    };
    let rows: Vec<Value> = found.iter().map(row).collect();
    print_rows(shell, &rows, &["affordance", "state", "judged", "name"]);
    if rows.is_empty() {
        shell.notice(&format!("{} has no affordances", args.application));
    }
    Ok(YES)
}
