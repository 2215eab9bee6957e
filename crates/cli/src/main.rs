//! The program `ostrog`: its commands, one file each, and the service it serves.

#![forbid(unsafe_code)]

mod checkpoint;
mod commands;
mod exit;
mod files;
mod lines;
mod pages;
mod sessions;
mod settings;
mod shell;
mod sides;
mod table;
mod telling;

use clap::Parser as _;
use std::process::ExitCode;

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    // A reader that has seen enough closes the pipe; that is no error of ours.
    let cli = match commands::Cli::try_parse() {
        Ok(cli) => cli,
        Err(error) => {
            let _ = error.print();
            return if error.use_stderr() { exit::MISUSED.into() } else { ExitCode::SUCCESS };
        }
    };
    let shell = shell::Shell::new(&cli.global);
    let runtime = match tokio::runtime::Runtime::new() {
        Ok(runtime) => runtime,
        Err(error) => {
            shell.notice(&format!("no threads to run on: {error}"));
            return exit::UNREACHABLE.into();
        }
    };
    match runtime.block_on(commands::run(cli, &shell)) {
        Ok(code) => code.into(),
        Err(failure) => {
            for line in failure.message.lines() {
                shell.problem(line);
            }
            failure.code.into()
        }
    }
}
