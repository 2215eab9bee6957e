//! `ostrog settings show | put`: settings of the workspace.

use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, YES};
use crate::shell::Shell;
use crate::table::{self, Column};
use ostrog_wire::release::{SettingsAsked, SettingsPut};
use std::path::PathBuf;

#[derive(Debug, clap::Subcommand)]
pub enum Command {
    /// Show the settings in force
    Show {
        /// What was put, newest first
        #[arg(long)]
        history: bool,
    },
    /// Put settings; some of them wait until another has approved them
    Put {
        /// The file, TOML
        file: PathBuf,
        /// Why; kept with them
        #[arg(long)]
        note: Option<String>,
        /// The number of the settings they were made from: refused if others were put since
        #[arg(long, value_name = "N")]
        from: Option<i64>,
        /// Only tell what they would change
        #[arg(long)]
        check: bool,
    },
}

pub async fn run(command: Command, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let client = global.client().await?;
    match command {
        Command::Show { history: true } => {
            let columns: &[Column<SettingsPut>] = &[
                ("id", |put| put.id.clone()),
                ("state", |put| put.state.clone()),
                ("by", |put| put.by.clone()),
                ("at", |put| put.at.clone()),
                ("note", |put| table::text(put.note.as_deref())),
                ("why", |put| put.why.join("; ")),
            ];
            table::print(shell, &client.settings().await?.history, columns);
        }
        Command::Show { history: false } => {
            let settings = client.settings().await?;
            if shell.format != OutputFormat::Text {
                shell.answer(&serde_json::to_string(&settings).unwrap_or_default());
                return Ok(YES);
            }
            shell.answer(settings.text.trim_end());
            for put in settings.history.iter().filter(|put| put.state == "waiting") {
                shell.notice(&format!("{} waits for approval: {}", put.id, put.why.join("; ")));
            }
        }
        Command::Put { file, note, from, check } => {
            let text = std::fs::read_to_string(&file)
                .map_err(|error| Failure::input(format!("{}: {error}", file.display())))?;
            let change = client.put_settings(&SettingsAsked { text, from, note, check }).await?;
            if shell.format != OutputFormat::Text {
                shell.answer(&serde_json::to_string(&change).unwrap_or_default());
                return Ok(YES);
            }
            for moved in &change.moved {
                let verb = if moved.gained { "gains" } else { "loses" };
                shell.answer(&format!("{} {verb} {}", moved.who, moved.what));
            }
            match (&change.id, change.in_force) {
                (None, _) => change.weighs.iter().for_each(|why| {
                    shell.answer(&format!("approved by another, where that is asked for: {why}"));
                }),
                (Some(id), true) => shell.answer(&format!("{id} is in force")),
                (Some(id), false) => {
                    shell.answer(&format!(
                        "{id} waits until another has approved it: {}",
                        change.weighs.join("; ")
                    ));
                }
            }
        }
    }
    Ok(YES)
}
