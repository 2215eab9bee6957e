//! `ostrog reach`: which registered resources may a subject act on?

use super::Global;
use super::question::{Asking, Where, With};
use crate::exit::{Code, Failure, NO, YES};
use crate::files::counted;
use crate::shell::Shell;
use crate::table;
use ostrog_client::Client;
use ostrog_core::decide::told::{self, Listed, ResourceTold};
use ostrog_core::prelude::Request;
use ostrog_wire::questions::BlankOptions;

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
    let told = match args.at.asking(&args.with, global, shell).await? {
        Asking::Offline(world, now) => {
            let at = (args.under.as_deref(), None, args.limit);
            told::reach(world.engine(), &request, at, now, &mut || true).map_err(Failure::input)?
        }
        Asking::Live(client) => all_pages(args, &client, &request, shell).await?,
    };
    table::print(
        shell,
        &told.items,
        &[("resource", |row| row.resource.clone()), ("reason", |row| row.reason.clone())],
    );
    // What ends at the number that was asked for may go on behind it.
    let more = if told.whole { "" } else { ", and perhaps more behind them" };
    shell.notice(&format!("{}{more}", counted(told.items.len(), "resource")));
    if told.new {
        shell.notice("and any that is not registered");
    }
    Ok(if told.items.is_empty() { NO } else { YES })
}

/// The whole list, or as much of it as was asked for: each page begins where the one before ended.
async fn all_pages(
    args: &Args,
    client: &Client,
    request: &Request,
    shell: &Shell,
) -> Result<Listed<ResourceTold>, Failure> {
    let mut all = Listed { items: Vec::new(), whole: false, next: None, new: false, total: None, note: None };
    let mut first = true;
    loop {
        let limit = args.limit.map(|limit| limit - all.items.len());
        let beside = BlankOptions {
            under: args.under.clone(),
            after: all.next.take(),
            limit,
            ..BlankOptions::default()
        };
        let answer = client.reach(&args.at.question(request, beside, &args.with)?).await?;
        if std::mem::take(&mut first) {
            args.at.asked_of(&answer.of, shell);
        }
        let page = answer.answer;
        all.items.extend(page.items);
        (all.whole, all.new, all.next) = (page.whole, page.new, page.next);
        let full = args.limit.is_some_and(|limit| all.items.len() >= limit);
        if all.whole || full || all.next.is_none() {
            return Ok(all);
        }
    }
}
