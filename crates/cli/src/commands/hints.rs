//! `ostrog hints`: what does an application's interface show and enable for a subject?

use super::question::{Where, With};
use super::{OutputFormat, print_rows};
use crate::exit::{Code, Failure, YES};
use crate::shell::Shell;
use jiff::Timestamp;
use ostrog_core::decide::hints::hints;
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

pub fn run(args: &Args, shell: &Shell) -> Result<Code, Failure> {
    let world = args.at.world(&args.with, shell)?;
    let now = args.with.moment()?.unwrap_or_else(Timestamp::now);
    let request = args.with.request(&args.subject, "", args.resource.as_deref())?;
    let found = hints(world.engine(), &args.application, &request, now).map_err(Failure::input)?;
    if shell.format == OutputFormat::Text {
        let rows: Vec<Value> = found
            .iter()
            .map(|hint| {
                let state = match (hint.visible, hint.enabled) {
                    (false, _) => "hidden",
                    (true, false) => "shown",
                    (true, true) => "enabled",
                };
                let judged = if hint.somewhere { "somewhere" } else { "here" };
                json!({ "affordance": hint.key, "state": state, "judged": judged, "name": hint.name })
            })
            .collect();
        print_rows(shell, &rows, &["affordance", "state", "judged", "name"]);
        if rows.is_empty() {
            shell.notice(&format!("{} has no affordances", args.application));
        }
    } else {
        let rows: Vec<Value> = found.iter().filter_map(|hint| serde_json::to_value(hint).ok()).collect();
        print_rows(shell, &rows, &["key", "visible", "enabled", "somewhere", "name"]);
    }
    Ok(YES)
}
