//! `ostrog charter new | check | tidy | compare | import | show`.

mod import;
mod new;

use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, INPUT, NO, YES};
use crate::files::{self, counted};
use crate::shell::Shell;
use crate::table;
use ostrog_core::charter::compare::{self, Direction};
use ostrog_core::charter::{self, tidy};
use ostrog_core::prelude::{Change, Checks, Policy, Register, Sources};
use ostrog_core::register::against;
use ostrog_core::source::{Finding, Severity, wrong_path};
use ostrog_wire::charter::File;
use serde::Serialize;
use std::path::{Path, PathBuf};

#[derive(Debug, clap::Subcommand)]
pub enum Command {
    /// Write a small charter, register and rehearsal to begin with
    New {
        /// The folder; it is made if it is not there
        dir: PathBuf,
    },
    /// Check a charter offline: every mistake, with its place
    Check {
        /// The charter's folder
        dir: PathBuf,
        /// Hold it against the facts of this file: who holds nothing, which grants give nothing
        #[arg(long, value_name = "FILE")]
        register: Option<PathBuf>,
    },
    /// Lay a charter's files out in one way, comments and all
    Tidy {
        /// The charter's folder
        dir: PathBuf,
        /// Only tell which files are not tidy
        #[arg(long)]
        check: bool,
    },
    /// Tell what differs in meaning between two charters
    Compare {
        /// A folder
        old: PathBuf,
        /// Another
        new: PathBuf,
    },
    /// Make a draft of an application from an OpenAPI 3.0 or 3.1 document
    Import(import::Args),
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
        Command::New { dir } => new::run(&dir, shell),
        Command::Check { dir, register } => check(&dir, register.as_deref(), shell),
        Command::Tidy { dir, check } => tidy(&dir, check, shell),
        Command::Compare { old, new } => compare(&old, &new, shell),
        Command::Import(args) => import::run(&args, shell),
        Command::Show { revision, into } => show(revision, into, global, shell).await,
    }
}

/// A finding as it is written where no person reads it.
#[derive(Serialize)]
struct Found<'f> {
    severity: &'static str,
    code: &'static str,
    file: String,
    line: usize,
    column: usize,
    message: &'f str,
    help: Option<&'f str>,
    /// The other place that matters, such as where a name was first defined.
    second: Option<Second>,
}

/// A second place, and what it is.
#[derive(Serialize)]
struct Second {
    what: &'static str,
    file: String,
    line: usize,
    column: usize,
}

impl<'f> Found<'f> {
    fn of(finding: &'f Finding, sources: &Sources) -> Found<'f> {
        let place = sources.place(finding.span);
        Found {
            severity: if finding.severity == Severity::Error { "error" } else { "warning" },
            code: finding.code,
            file: place.path,
            line: place.line,
            column: place.column,
            message: &finding.message,
            help: finding.help.as_deref(),
            second: finding.second.map(|(span, what)| {
                let place = sources.place(span);
                Second { what, file: place.path, line: place.line, column: place.column }
            }),
        }
    }
}

fn check(dir: &Path, register: Option<&Path>, shell: &Shell) -> Result<Code, Failure> {
    let sources = files::sources(dir)?;
    let mut reading = charter::read(&sources);
    let mut unfit = 0;
    if let (Some(path), Some(policy)) = (register, &reading.policy) {
        let mut facts = Register::default();
        let (lines, changes): (Vec<usize>, Vec<Change>) = files::changes(path)?.into_iter().unzip();
        // What would be refused where it is asked of is told here; what can be said beside it is, too.
        let policies: [&Policy; 1] = [policy];
        if let Err(refusals) = facts.apply(&changes, Checks::of(&policies)) {
            unfit = refusals.len();
            for refusal in &refusals {
                shell.problem(&format!("{}:{}  {}", path.display(), lines[refusal.change], refusal.why));
            }
        }
        let mut facts = Register::default();
        facts.apply(&changes, Checks::of(&[])).map_err(|refusals| {
            let told: Vec<String> = refusals.iter().map(|refusal| refusal.why.to_string()).collect();
            Failure::input(format!("{}: {}", path.display(), told.join("\n")))
        })?;
        for (grant, why) in against::idle(policy, &facts) {
            shell.notice(&format!("the grant {} gives nothing: {why}", grant.id));
        }
        for (grant, why) in against::doubtful(policy, &facts) {
            shell.notice(&format!("the grant {}: {why}", grant.id));
        }
        reading.findings.extend(against::unheld(policy, &facts));
        let of = |finding: &Finding| (finding.span, finding.severity);
        reading.findings.sort_by_key(of);
    }
    if shell.format != OutputFormat::Text {
        let rows: Vec<Found<'_>> =
            reading.findings.iter().map(|finding| Found::of(finding, &sources)).collect();
        table::print(
            shell,
            &rows,
            &[
                ("severity", |found| found.severity.to_owned()),
                ("file", |found| found.file.clone()),
                ("line", |found| found.line.to_string()),
                ("column", |found| found.column.to_string()),
                ("code", |found| found.code.to_owned()),
                ("message", |found| found.message.to_owned()),
            ],
        );
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
    Ok(if errors == 0 && unfit == 0 { YES } else { INPUT })
}

fn tidy(dir: &Path, check: bool, shell: &Shell) -> Result<Code, Failure> {
    let sources = files::sources(dir)?;
    let mut changed = 0;
    for file in sources.files() {
        let path = dir.join(&file.path);
        let tidied =
            tidy::tidy(&file.text).map_err(|why| Failure::input(format!("{}: {why}", path.display())))?;
        if tidied != file.text {
            changed += 1;
            shell.answer(&path.display().to_string());
            if !check {
                write(&path, &tidied)?;
            }
        }
    }
    let verb = if check { "not tidy" } else { "laid out anew" };
    shell.notice(&format!("{} {verb}", counted(changed, "file")));
    Ok(if check && changed > 0 { NO } else { YES })
}

fn write(path: &Path, text: &str) -> Result<(), Failure> {
    std::fs::write(path, text).map_err(|error| Failure::input(format!("{}: {error}", path.display())))
}

fn compare(old: &Path, new: &Path, shell: &Shell) -> Result<Code, Failure> {
    let differences = compare::compare(&*files::policy(old, shell)?, &*files::policy(new, shell)?);
    if shell.format == OutputFormat::Text {
        for difference in &differences {
            let sign = match difference.effect {
                Direction::Wider => "+",
                Direction::Narrower => "-",
                Direction::Other => "~",
            };
            let key = if difference.key.is_empty() { String::new() } else { format!(" {}", difference.key) };
            shell.answer(&format!("{sign} {}{key}  {}", difference.about, difference.words));
        }
        if differences.is_empty() {
            shell.notice("the two mean the same");
        } else {
            shell.notice("+ more may be allowed, - less, ~ neither for sure");
        }
    } else {
        table::print(
            shell,
            &differences,
            &[
                ("about", |one| one.about.to_owned()),
                ("key", |one| one.key.clone()),
                ("effect", |one| one.effect.word().to_owned()),
                ("words", |one| one.words.clone()),
            ],
        );
    }
    Ok(if differences.is_empty() { YES } else { NO })
}

async fn show(
    revision: Option<String>,
    into: Option<PathBuf>,
    global: &Global,
    shell: &Shell,
) -> Result<Code, Failure> {
    let revision = revision.unwrap_or_else(|| "live".to_owned());
    let client = global.client().await?;
    let (name, digest, files, whole) = if revision.starts_with("D-") {
        let found = client.draft(&revision).await?;
        let whole = serde_json::to_string(&found).unwrap_or_default();
        (found.draft.id, found.draft.digest, found.files, whole)
    } else {
        let found = client.revision(&revision).await?;
        let whole = serde_json::to_string(&found).unwrap_or_default();
        (format!("revision {}", found.revision.number), found.revision.digest, found.files, whole)
    };
    shell.notice(&format!("{name}, {digest}"));
    if let Some(folder) = into {
        write_into(&folder, &files)?;
        shell.notice(&format!("{} written into {}", counted(files.len(), "file"), folder.display()));
    } else if shell.format == OutputFormat::Text {
        for file in &files {
            shell.answer(&format!("# {}\n{}", file.path, file.text));
        }
    } else {
        shell.answer(&whole);
    }
    Ok(YES)
}

/// Writes files into a folder: none, if the path of one leads elsewhere.
fn write_into(folder: &Path, files: &[File]) -> Result<(), Failure> {
    for file in files {
        if let Some(wrong) = wrong_path(&file.path) {
            return Err(Failure::input(format!("{:?}: {wrong}; nothing is written", file.path)));
        }
    }
    for file in files {
        let path = folder.join(&file.path);
        let parent = path.parent().map(Path::to_owned).unwrap_or_default();
        std::fs::create_dir_all(parent)
            .and_then(|()| std::fs::write(&path, &file.text))
            .map_err(|error| Failure::input(format!("{}: {error}", path.display())))?;
    }
    Ok(())
}
