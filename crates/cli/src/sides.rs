//! Texts and facts to compare: from a folder, or from the service.

use crate::commands::Global;
use crate::exit::Failure;
use crate::files;
use crate::pages::{self, Line};
use crate::shell::Shell;
use ostrog_client::Client;
use ostrog_core::charter;
use ostrog_core::prelude::{Change, Checks, Policy, Register, SourceFile, Sources, line};
use ostrog_wire::charter::File;
use std::path::Path;
use std::sync::Arc;

/// A charter, and what to call it.
#[derive(Debug)]
pub struct Side {
    pub words: String,
    pub policy: Arc<Policy>,
}

/// The charter of a folder, of a draft (`D-17`), of a revision, or the live one.
pub async fn charter(of: &str, global: &Global, shell: &Shell) -> Result<Side, Failure> {
    let folder = Path::new(of);
    if folder.is_dir() {
        return Ok(Side { words: of.to_owned(), policy: files::policy(folder, shell)? });
    }
    let draft = of.starts_with("D-");
    if !draft && of != "live" && of.parse::<u32>().is_err() {
        return Err(Failure::misused(format!(
            "{of:?} is no folder, no draft (D-17), no revision and not live"
        )));
    }
    let client = global.client().await?;
    let (words, files) = if draft {
        (of.to_owned(), client.draft(of).await?.files)
    } else {
        let found = client.revision(of).await?;
        let words = format!("revision {}", found.revision.number);
        (if of == "live" { format!("live, {words}") } else { words }, found.files)
    };
    let file = |file: File| SourceFile { path: file.path, text: file.text };
    let sources = Sources::new(files.into_iter().map(file).collect());
    let reading = charter::read(&sources);
    match reading.policy {
        Some(policy) => Ok(Side { words, policy: Arc::new(policy) }),
        None => {
            files::told(&sources, &reading.findings, shell);
            Err(Failure::input(format!("{words} has errors")))
        }
    }
}

/// The facts of a file, or those the service has now.
///
/// # Errors
/// If they cannot be read.
pub async fn facts(file: Option<&Path>, global: &Global) -> Result<Register, Failure> {
    let changes: Vec<Change> = match file {
        Some(path) => files::changes(path)?.into_iter().map(|(_, change)| change).collect(),
        None => live(&global.client().await?).await?,
    };
    let mut register = Register::default();
    // As it is kept: what an earlier charter allowed is there, too.
    register.apply(&changes, Checks::of(&[])).map_err(|refusals| {
        let told: Vec<String> = refusals.into_iter().map(|refusal| refusal.why.to_string()).collect();
        Failure::input(told.join("\n"))
    })?;
    Ok(register)
}

async fn live(client: &Client) -> Result<Vec<Change>, Failure> {
    let mut lines = Vec::new();
    pages::register(client, |line| lines.push(line)).await?;
    let change = |line: &Line| {
        let line = serde_json::to_value(line).map_err(Failure::input)?;
        line::from_json(&line).map_err(Failure::input)
    };
    lines.iter().map(change).collect()
}
