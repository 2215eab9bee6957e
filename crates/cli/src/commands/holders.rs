//! `ostrog holders`: who may do something?

use super::Global;
use super::question::{Asking, Where, With};
use crate::exit::{Code, Failure, NO, UNREACHABLE, YES};
use crate::shell::Shell;
use crate::table::{self, Column};
use ostrog_core::decide::told::{self, HolderTold};
use ostrog_wire::questions::BlankOptions;

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
    let told = match args.at.asking(&args.with, global, shell).await? {
        Asking::Offline(world, now) => {
            told::holders(world.engine(), &request, args.through, now, &mut || true)
                .map_err(Failure::input)?
        }
        Asking::Live(client) => {
            let beside = BlankOptions { through: args.through, ..BlankOptions::default() };
            let question = args.at.question(&request, beside, &args.with)?;
            args.at.told(client.holders(&question).await?, shell)
        }
    };
    let columns: [Column<HolderTold>; 3] = [
        ("who", |row| row.who.clone()),
        ("reason", |row| row.reason.clone()),
        ("through", |row| table::text(row.through.as_deref())),
    ];
    table::print(shell, &told.items, if args.through { &columns } else { &columns[..2] });
    if let Some(note) = &told.note {
        shell.notice(note);
    }
    if !told.whole {
        shell.problem("this is not all: the search took too long");
        return Ok(UNREACHABLE);
    }
    if told.items.is_empty() {
        shell.notice("nobody");
    }
    Ok(if told.items.is_empty() { NO } else { YES })
}
