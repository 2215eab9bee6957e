//! `ostrog charter check | show`.

use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, INPUT, YES};
use crate::files::{self, counted};
use crate::shell::Shell;
use ostrog_core::charter;
use ostrog_core::source::Severity;
use serde_json::{Value, json};
use std::path::PathBuf;

#[derive(Debug, clap::Subcommand)]
pub enum Command {
    /// Check a charter offline: every mistake, with its place
    Check {
        /// The charter's folder
        dir: PathBuf,
    },
    /// Show a revision's text
    Show {
        /// A revision's number; the live one if none is given
        revision: Option<String>,
        /// Write the files into this folder instead
        #[arg(long, value_name = "DIR")]
        into: Option<PathBuf>,
    },
}

pub async fn run(command: Command, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    match command {
        Command::Check { dir } => check(&dir, shell),
        Command::Show { revision, into } => show(revision, into, global, shell).await,
    }
}

fn check(dir: &std::path::Path, shell: &Shell) -> Result<Code, Failure> {
    let sources = files::sources(dir)?;
    let reading = charter::read(&sources);
    if shell.format != OutputFormat::Text {
        let rows: Vec<Value> = reading
            .findings
            .iter()
            .map(|finding| {
                let place = sources.place(finding.span);
                json!({
                    "severity": if finding.severity == Severity::Error { "error" } else { "warning" },
                    "code": finding.code, "file": place.path, "line": place.line, "column": place.column,
                    "message": finding.message, "help": finding.help,
                })
            })
            .collect();
        super::print_rows(shell, &rows, &["severity", "file", "line", "column", "code", "message"]);
    } else {
        for finding in &reading.findings {
            shell.answer(&sources.render(finding));
        }
    }
    let errors = reading.errors();
    let warnings = reading.findings.len() - errors;
    match &reading.policy {
        None => shell.notice(&format!("{}, {}", counted(errors, "error"), counted(warnings, "warning"))),
        Some(policy) => {
            let model = policy.model();
            shell.notice(&format!(
                "{}: {}, {}, {}, {}; {}",
                model.name,
                counted(model.applications.len(), "application"),
                counted(model.kinds.len() - 4, "resource type"),
                counted(model.roles.len(), "role"),
                counted(model.rules.len(), "rule"),
                if warnings == 0 {
                    "nothing to say against it".to_owned()
                } else {
                    counted(warnings, "warning")
                },
            ));
        }
    }
    Ok(if errors == 0 { YES } else { INPUT })
}

async fn show(
    revision: Option<String>,
    into: Option<PathBuf>,
    global: &Global,
    shell: &Shell,
) -> Result<Code, Failure> {
    let revision = revision.unwrap_or_else(|| "live".to_owned());
    let found: Value = global.client()?.get(&format!("/api/v1/revisions/{revision}"), &[]).await?;
    let info = &found["revision"];
    shell.notice(&format!("revision {}, {}", info["number"], info["digest"].as_str().unwrap_or("")));
    let files = found["files"].as_array().cloned().unwrap_or_default();
    let text = |file: &Value, key: &str| file[key].as_str().unwrap_or_default().to_owned();
    if let Some(folder) = into {
        for file in &files {
            let path = folder.join(text(file, "path"));
            let parent = path.parent().map(std::path::Path::to_owned).unwrap_or_default();
            let write =
                std::fs::create_dir_all(parent).and_then(|()| std::fs::write(&path, text(file, "text")));
            write.map_err(|error| Failure::input(format!("{}: {error}", path.display())))?;
        }
        shell.notice(&format!("{} written into {}", counted(files.len(), "file"), folder.display()));
    } else if shell.format == OutputFormat::Text {
        for file in &files {
            shell.answer(&format!("# {}\n{}", text(file, "path"), text(file, "text")));
        }
    } else {
        shell.answer(&found.to_string());
    }
    Ok(YES)
}
