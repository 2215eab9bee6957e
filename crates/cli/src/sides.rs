//! Texts and facts to compare: from a folder, or from the service.

use crate::commands::Global;
use crate::exit::Failure;
use crate::files;
use crate::shell::Shell;
use ostrog_client::{Client, Page};
use ostrog_core::charter;
use ostrog_core::prelude::{Change, Policy, Register, SourceFile, Sources, World, line};
use serde_json::Value;
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
    let path = if draft { "drafts" } else { "revisions" };
    let found: Value = global.client()?.get(&format!("/api/v1/{path}/{of}"), &[]).await?;
    let text = |file: &Value, key: &str| file[key].as_str().unwrap_or_default().to_owned();
    let all = found["files"].as_array().into_iter().flatten();
    let sources = Sources::new(
        all.map(|file| SourceFile { path: text(file, "path"), text: text(file, "text") }).collect(),
    );
    let reading = charter::read(&sources);
    let words = match &found["revision"]["number"] {
        Value::Null => of.to_owned(),
        number if of == "live" => format!("live, revision {number}"),
        number => format!("revision {number}"),
    };
    match reading.policy {
        Some(policy) => Ok(Side { words, policy: Arc::new(policy) }),
        None => {
            files::told(&sources, &reading.findings, shell);
            Err(Failure::input(format!("{words} has errors")))
        }
    }
}

/// The facts of a file, or those the service has now.
pub async fn facts(file: Option<&Path>, policy: &Arc<Policy>, global: &Global) -> Result<Register, Failure> {
    let changes: Vec<Change> = match file {
        Some(path) => files::changes(path)?.into_iter().map(|(_, change)| change).collect(),
        None => live(&global.client()?).await?,
    };
    let mut world = World::new(Arc::clone(policy), Register::default());
    // As it is kept: what an earlier charter allowed is there, too.
    world.apply_recorded(&changes).map_err(|refusals| {
        let told: Vec<String> = refusals.into_iter().map(|refusal| refusal.message).collect();
        Failure::input(told.join("\n"))
    })?;
    Ok(world.register().clone())
}

async fn live(client: &Client) -> Result<Vec<Change>, Failure> {
    let mut changes = Vec::new();
    for path in ["entities", "tenant-roles", "grants", "activations"] {
        let paged = path == "entities" || path == "grants";
        let mut after = String::new();
        loop {
            let query: &[(&str, &str)] =
                if paged { &[("limit", "1000"), ("after", after.as_str())] } else { &[] };
            let page: Page = client.get(&format!("/api/v1/{path}"), query).await?;
            for item in &page.items {
                changes.push(line::from_json(item).map_err(Failure::input)?);
            }
            match page.next {
                Some(next) => after = next,
                None => break,
            }
        }
    }
    Ok(changes)
}
