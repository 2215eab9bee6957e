//! Charters, rehearsals and registers from disk.

use crate::exit::Failure;
use crate::lines;
use crate::shell::Shell;
use ostrog_core::charter::Reading;
use ostrog_core::prelude::{Change, Policy, Register, SourceFile, Sources, World, charter, line};
use ostrog_core::source::{Finding, MAX_CHARTER_BYTES, MAX_FILES};
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// The `*.toml` files of a folder and its folders, in name order.
pub fn sources(folder: &Path) -> Result<Sources, Failure> {
    with_endings(folder, &["toml"])
}

/// The files of a rehearsal: `*.toml`, and tables of cases, `*.csv`.
pub fn rehearsal(folder: &Path) -> Result<Sources, Failure> {
    with_endings(folder, &["toml", "csv"])
}

fn with_endings(folder: &Path, endings: &[&str]) -> Result<Sources, Failure> {
    if folder.is_file() {
        let around = folder.parent().filter(|around| !around.as_os_str().is_empty());
        let around = around.unwrap_or(Path::new("."));
        let message =
            format!("{} is a file: name the folder it stands in, {}", folder.display(), around.display());
        return Err(Failure::input(message));
    }
    let mut files = Vec::new();
    let mut total = 0u64;
    let mut waiting = vec![folder.to_owned()];
    while let Some(next) = waiting.pop() {
        let entries =
            fs::read_dir(&next).map_err(|error| Failure::input(format!("{}: {error}", next.display())))?;
        for entry in entries {
            let path = entry.map_err(|error| Failure::input(format!("{}: {error}", next.display())))?.path();
            let kind = fs::symlink_metadata(&path)
                .map_err(|error| Failure::input(format!("{}: {error}", path.display())))?;
            if kind.is_symlink() {
                return Err(Failure::input(format!(
                    "{}: symbolic links are not read; put the file itself here",
                    path.display()
                )));
            }
            if kind.is_dir() {
                waiting.push(path);
            } else if path.extension().is_some_and(|ending| endings.iter().any(|known| ending == *known)) {
                total += kind.len();
                if files.len() >= MAX_FILES || total > MAX_CHARTER_BYTES as u64 {
                    return Err(Failure::input(format!(
                        "{} holds more than {MAX_FILES} files or {MAX_CHARTER_BYTES} bytes",
                        folder.display()
                    )));
                }
                files.push(file(folder, path)?);
            }
        }
    }
    if files.is_empty() {
        return Err(Failure::input(format!("{} holds no *.toml file", folder.display())));
    }
    let shown = folder.display().to_string();
    Ok(Sources::new(files).shown_under(&format!("{}/", shown.trim_end_matches('/'))))
}

fn file(folder: &Path, path: PathBuf) -> Result<SourceFile, Failure> {
    let text = lines::read(&path)?;
    let within = path.strip_prefix(folder).unwrap_or(&path);
    let name = within
        .to_str()
        .ok_or_else(|| Failure::input(format!("{}: the name is not UTF-8", path.display())))?;
    Ok(SourceFile { path: name.to_owned(), text })
}

/// A charter that has no errors, or a failure that tells them all.
pub fn policy(folder: &Path, shell: &Shell) -> Result<Arc<Policy>, Failure> {
    let sources = sources(folder)?;
    let reading = charter::read(&sources);
    let errors = reading.errors();
    let Reading { findings, policy } = reading;
    policy.map(Arc::new).ok_or_else(|| {
        told(&sources, &findings, shell);
        Failure::input(format!("{} has {}", folder.display(), counted(errors, "error")))
    })
}

/// Prints findings on stderr.
pub fn told(sources: &Sources, findings: &[Finding], shell: &Shell) {
    for finding in findings {
        shell.problem(&sources.render(finding));
    }
}

/// `1 error`, `2 errors`.
pub fn counted(count: usize, what: &str) -> String {
    format!("{count} {what}{}", if count == 1 { "" } else { "s" })
}

/// The lines of a register file as changes, or a failure that tells every line that is none.
pub fn changes(path: &Path) -> Result<Vec<(usize, Change)>, Failure> {
    let text = lines::read(path)?;
    let mut changes = Vec::new();
    let mut wrong = Vec::new();
    for (at, text) in text.lines().enumerate().filter(|(_, text)| !text.trim().is_empty()) {
        match line::parse(text) {
            Ok(change) => changes.push((at + 1, change)),
            Err(message) => wrong.push(format!("{}:{}  {message}", path.display(), at + 1)),
        }
    }
    if wrong.is_empty() { Ok(changes) } else { Err(Failure::input(wrong.join("\n"))) }
}

/// A charter with a register from files.
pub fn world(charter: &Path, register: Option<&Path>, shell: &Shell) -> Result<World, Failure> {
    let policy = policy(charter, shell)?;
    let mut world = World::new(policy, Register::default());
    if let Some(path) = register {
        let (lines, changes): (Vec<usize>, Vec<Change>) = changes(path)?.into_iter().unzip();
        world.apply(&changes).map_err(|refusals| {
            let told: Vec<String> = refusals
                .iter()
                .map(|refusal| format!("{}:{}  {}", path.display(), lines[refusal.change], refusal.why))
                .collect();
            Failure::input(told.join("\n"))
        })?;
    }
    Ok(world)
}
