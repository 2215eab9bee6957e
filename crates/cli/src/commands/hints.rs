//! `ostrog hints`: what does an application's interface show and enable for a subject?

use super::question::{Asking, Where, With};
use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, YES};
use crate::shell::Shell;
use crate::table;
use ostrog_core::decide::hints::Judged;
use ostrog_core::decide::in_force::Under;
use ostrog_core::decide::told;
use ostrog_wire::questions::BlankOptions;

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
    let told = match args.at.asking(&args.with, global, shell).await? {
        Asking::Offline(world, now) => {
            let under = |_: &str| Under::one(world.engine(), &request);
            let application = args.application.as_str();
            let judged = Judged { application, request: &request, asks: &|_| true, under: &under };
            told::hints(world.engine(), judged, now, &mut || true).map_err(Failure::input)?
        }
        Asking::Live(client) => {
            let beside = BlankOptions { application: args.application.clone(), ..BlankOptions::default() };
            let question = args.at.question(&request, beside, &args.with)?;
            args.at.told(client.hints(&question).await?, shell)
        }
    };
    if shell.format == OutputFormat::Text {
        table::print(
            shell,
            &told.items,
            &[
                ("affordance", |hint| hint.key.clone()),
                ("state", |hint| {
                    match (hint.visible, hint.enabled) {
                        (false, _) => "hidden",
                        (true, false) => "shown",
                        (true, true) => "enabled",
                    }
                    .to_owned()
                }),
                ("judged", |hint| if hint.somewhere { "somewhere" } else { "here" }.to_owned()),
                ("reason", |hint| hint.reason.clone().unwrap_or_default()),
                ("name", |hint| hint.name.clone()),
            ],
        );
        if told.items.is_empty() {
            shell.notice(&format!("{} has no affordances", args.application));
        }
    } else {
        table::print(
            shell,
            &told.items,
            &[
                ("key", |hint| hint.key.clone()),
                ("visible", |hint| hint.visible.to_string()),
                ("enabled", |hint| hint.enabled.to_string()),
                ("somewhere", |hint| hint.somewhere.to_string()),
                ("reason", |hint| hint.reason.clone().unwrap_or_default()),
                ("name", |hint| hint.name.clone()),
            ],
        );
    }
    Ok(YES)
}
