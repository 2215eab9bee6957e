//! `ostrog completions`.

use super::Cli;
use crate::exit::{Code, Failure, YES};
use clap::CommandFactory as _;

/// The command's arguments.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// For which shell
    shell: clap_complete::Shell,
}

pub fn run(args: &Args) -> Result<Code, Failure> {
    clap_complete::generate(args.shell, &mut Cli::command(), "ostrog", &mut std::io::stdout());
    Ok(YES)
}
