//! `ostrog draft save | list | show | discard`: texts under way.

use super::{Global, OutputFormat, print_rows};
use crate::exit::{Code, Failure, NO, YES};
use crate::files::{self, counted};
use crate::shell::Shell;
use serde_json::{Value, json};
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
    List,
    /// Show a draft: its checks, its changes in words
    Show {
        /// Such as D-1
        draft: String,
    },
    /// Discard a draft
    Discard {
        /// Such as D-1
        draft: String,
    },
}

pub async fn run(command: Command, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let client = global.client()?;
    match command {
        Command::Save { dir, title, draft, onto_live } => {
            let sources = files::sources(&dir)?;
            let files: Vec<Value> =
                sources.files().iter().map(|file| json!({ "path": file.path, "text": file.text })).collect();
            let saved = json!({ "title": title, "files": files, "draft": draft, "onto-live": onto_live });
            Ok(tell(&client.post("/api/v1/drafts", &saved).await?, shell))
        }
        Command::List => {
            let mut rows: Vec<Value> = client.get("/api/v1/drafts", &[]).await?;
            if shell.format == OutputFormat::Text {
                for row in &mut rows {
                    let authors = row["authors"].as_array().into_iter().flatten();
                    let authors: Vec<&str> = authors.filter_map(Value::as_str).collect();
                    row["authors"] = authors.join(", ").into();
                }
            }
            print_rows(shell, &rows, &["id", "title", "base", "authors", "saved-at"]);
            Ok(YES)
        }
        Command::Show { draft } => {
            let found: Value = client.get(&format!("/api/v1/drafts/{draft}"), &[]).await?;
            Ok(tell(&found, shell))
        }
        Command::Discard { draft } => {
            let ended: Value = client.delete(&["api", "v1", "drafts", &draft], &[]).await?;
            shell.notice(&format!("{} is discarded", ended["id"].as_str().unwrap_or(&draft)));
            Ok(YES)
        }
    }
}

/// Tells how a draft stands; no if it has errors.
fn tell(found: &Value, shell: &Shell) -> Code {
    let (draft, standing) = (&found["draft"], &found["standing"]);
    let list = |key: &str| standing[key].as_array().cloned().unwrap_or_default();
    let text = |value: &Value, key: &str| value[key].as_str().unwrap_or_default().to_owned();
    let errors = list("findings").iter().filter(|finding| finding["severity"] == "error").count();
    if shell.format == OutputFormat::Text {
        let base = match &draft["base"] {
            Value::Null => "nothing".to_owned(),
            base => format!("revision {base}"),
        };
        shell.answer(&format!("{}  {}, from {base}", text(draft, "id"), text(draft, "title")));
        for finding in list("findings") {
            shell.answer(&format!("    {}  {}", text(&finding, "at"), text(&finding, "message")));
        }
        for change in list("changes") {
            let sign = match change["effect"].as_str() {
                Some("wider") => "+",
                Some("narrower") => "-",
                _ => "~",
            };
            let key = text(&change, "key");
            let key = if key.is_empty() { key } else { format!(" {key}") };
            shell.answer(&format!("    {sign} {}{key}: {}", text(&change, "about"), text(&change, "words")));
        }
        for fact in list("unfit") {
            shell.answer(&format!("    does not fit: {}", fact.as_str().unwrap_or_default()));
        }
        if standing["fits"] == false {
            shell.notice("another revision went live since it was begun: bring that into it, and save it with --onto-live");
        }
        if errors > 0 {
            shell.notice(&counted(errors, "error"));
        } else if list("changes").is_empty() {
            shell.notice("it means the same as what is live");
        }
    } else {
        shell.answer(&found.to_string());
    }
    if errors > 0 { NO } else { YES }
}
