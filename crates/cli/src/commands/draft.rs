//! `ostrog draft save | list | show | discard | restore`: texts under way.

use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, NO, YES};
use crate::files::{self, counted};
use crate::shell::Shell;
use crate::table::{self, Column};
use ostrog_core::source::SourceFile;
use ostrog_wire::charter::{DraftShown, DraftText, File, Saved};
use std::path::PathBuf;

#[derive(Debug, clap::Subcommand)]
pub enum Command {
    /// Save a charter as a draft, one with errors too
    Save {
        /// The charter's folder
        dir: PathBuf,
        /// What it is about
        #[arg(long)]
        title: String,
        /// The draft this is the new text of; without one, a new draft
        #[arg(long, value_name = "D")]
        draft: Option<String>,
        /// The text holds what is live now, with the draft's changes
        #[arg(long, requires = "draft")]
        onto_live: bool,
    },
    /// List drafts
    List {
        /// Those that were discarded in the last thirty days
        #[arg(long)]
        discarded: bool,
    },
    /// Show a draft: its checks, its changes in words
    Show {
        /// Such as D-1
        draft: String,
    },
    /// Discard a draft; for thirty days it can be taken back
    Discard {
        /// Such as D-1
        draft: String,
    },
    /// Take a discarded draft back, as it was
    Restore {
        /// Such as D-1
        draft: String,
    },
}

pub async fn run(command: Command, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let client = global.client().await?;
    match command {
        Command::Save { dir, title, draft, onto_live } => {
            let sources = files::sources(&dir)?;
            let file = |file: &SourceFile| File { path: file.path.clone(), text: file.text.clone() };
            let files = sources.files().iter().map(file).collect();
            let saved = Saved { title, files, draft, from: None, onto_live };
            Ok(tell(&client.save_draft(&saved).await?, shell))
        }
        Command::List { discarded } => {
            let columns: &[Column<DraftShown>] = &[
                ("id", |draft| draft.id.clone()),
                ("title", |draft| draft.title.clone()),
                ("base", |draft| draft.base.map_or_else(String::new, |base| base.to_string())),
                ("authors", |draft| draft.authors.join(", ")),
                ("saved-at", |draft| draft.saved_at.clone()),
            ];
            let drafts = if discarded { client.discarded_drafts().await? } else { client.drafts().await? };
            table::print(shell, &drafts, columns);
            Ok(YES)
        }
        Command::Show { draft } => Ok(tell(&client.draft(&draft).await?, shell)),
        Command::Discard { draft } => {
            let ended = client.discard_draft(&draft).await?;
            let id = &ended.id;
            shell.notice(&format!("{id} is discarded; for thirty days: ostrog draft restore {id}"));
            Ok(YES)
        }
        Command::Restore { draft } => Ok(tell(&client.restore_draft(&draft).await?, shell)),
    }
}

/// Tells how a draft stands; no if it has errors.
fn tell(found: &DraftText, shell: &Shell) -> Code {
    let DraftText { draft, standing, .. } = found;
    let errors = standing.findings.iter().filter(|finding| finding.severity == "error").count();
    let code = if errors > 0 { NO } else { YES };
    if shell.format != OutputFormat::Text {
        shell.answer(&serde_json::to_string(found).unwrap_or_default());
        return code;
    }
    let base = draft.base.map_or_else(|| "nothing".to_owned(), |base| format!("revision {base}"));
    shell.answer(&format!("{}  {}, from {base}", draft.id, draft.title));
    for finding in &standing.findings {
        shell.answer(&format!("    {}  {}", finding.at, finding.message));
    }
    for change in &standing.changes {
        let sign = match &*change.effect {
            "wider" => "+",
            "narrower" => "-",
            _ => "~",
        };
        let key = if change.key.is_empty() { String::new() } else { format!(" {}", change.key) };
        shell.answer(&format!("    {sign} {}{key}: {}", change.about, change.words));
    }
    for fact in &standing.unfit {
        shell.answer(&format!("    does not fit: {fact}"));
    }
    if !standing.fits {
        shell.notice(
            "another revision went live since it was begun: bring that into it, and save it with --onto-live",
        );
    }
    if errors > 0 {
        shell.notice(&counted(errors, "error"));
    } else if standing.changes.is_empty() {
        shell.notice("it means the same as what is live");
    }
    code
}
