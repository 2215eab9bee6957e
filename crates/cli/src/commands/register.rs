//! `ostrog register load | save | show | set | remove | follow`.

use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, YES};
use crate::files::counted;
use crate::shell::Shell;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use ostrog_client::{Client, Page, Written};
use serde_json::{Value, json};
use std::path::{Path, PathBuf};

/// Lines sent at a time.
const CHUNK: usize = 10_000;

#[derive(Debug, clap::Subcommand)]
pub enum Command {
    /// Load register lines (NDJSON)
    Load {
        /// The file; - for standard input
        file: PathBuf,
        /// Only say what would be refused and what would change
        #[arg(long)]
        check: bool,
    },
    /// Show an entity: what is said of it, its groups, its grants
    Show {
        /// type:id
        entity: String,
    },
    /// Make a fact hold
    Set {
        /// Such as 'user:ines.clearance = 5'
        #[arg(required = true)]
        facts: Vec<String>,
    },
    /// Write everything as register lines (NDJSON)
    Save,
    /// Follow what happens, as it happens
    Follow {
        /// From after this position; without one, from now on
        #[arg(long, value_name = "POSITION")]
        from: Option<i64>,
    },
    /// Make a fact hold no longer
    Remove {
        /// Such as 'user:ines in group:night'
        #[arg(required = true)]
        facts: Vec<String>,
    },
}

pub async fn run(command: Command, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let client = global.client()?;
    match command {
        Command::Load { file, check } => load(&client, &file, check, shell).await,
        Command::Show { entity } => show(&client, &entity, shell).await,
        Command::Save => save(&client, shell).await,
        Command::Follow { from } => follow(&client, from, shell).await,
        Command::Set { facts } => facts_written(&client, json!({ "set": facts }), shell).await,
        Command::Remove { facts } => facts_written(&client, json!({ "remove": facts }), shell).await,
    }
}

async fn facts_written(client: &Client, facts: Value, shell: &Shell) -> Result<Code, Failure> {
    let written = client.post("/api/v1/facts", &facts).await?;
    tell(&written, shell);
    Ok(YES)
}

/// All that is registered, in an order in which it can be loaded.
async fn save(client: &Client, shell: &Shell) -> Result<Code, Failure> {
    for path in ["entities", "tenant-roles", "grants", "activations"] {
        let mut after = String::new();
        loop {
            let paged = path == "entities" || path == "grants";
            let query: &[(&str, &str)] =
                if paged { &[("limit", "1000"), ("after", after.as_str())] } else { &[] };
            let page: Page = client.get(&format!("/api/v1/{path}"), query).await?;
            page.items.iter().for_each(|line| shell.answer(&line.to_string()));
            match page.next {
                Some(next) => after = next,
                None => break,
            }
        }
    }
    Ok(YES)
}

/// What happens, until it is broken off. A stream that breaks is taken up where it was.
async fn follow(client: &Client, from: Option<i64>, shell: &Shell) -> Result<Code, Failure> {
    let mut after = from;
    let mut changes = client.follow(after).await?;
    loop {
        match changes.next().await {
            Ok(Some(change)) => {
                after = change["position"].as_i64().or(after);
                if shell.format == OutputFormat::Text {
                    let text = |key: &str| change[key].as_str().unwrap_or_default();
                    let what = super::log::summary(&change["lines"]);
                    shell.answer(&format!(
                        "{}  {}  {}  {}  {what}",
                        change["position"],
                        text("at"),
                        text("actor"),
                        text("kind")
                    ));
                } else {
                    shell.answer(&change.to_string());
                }
            }
            Ok(None) | Err(ostrog_client::Error::Unreachable(_)) => {
                shell.notice("the stream ended; taking it up again");
                tokio::time::sleep(std::time::Duration::from_secs(1)).await;
                changes = client.follow(after).await?;
            }
            Err(error) => return Err(error.into()),
        }
    }
}

/// What a write came to.
pub fn tell(written: &Written, shell: &Shell) {
    if shell.format == OutputFormat::Text {
        for line in &written.changed {
            shell.answer(&line.to_string());
        }
        match written.changed.len() {
            0 => shell.notice("it was so already; nothing changed"),
            changed => {
                shell.notice(&format!("{}, position {}", counted(changed, "change"), written.position))
            }
        }
    } else {
        shell.answer(&serde_json::to_string(written).unwrap_or_default());
    }
}

async fn load(client: &Client, file: &Path, check: bool, shell: &Shell) -> Result<Code, Failure> {
    // Read whole first: a line that is no line is told before anything is sent.
    let text = if file == Path::new("-") {
        std::io::read_to_string(std::io::stdin())
    } else {
        std::fs::read_to_string(file)
    };
    let text = text.map_err(|error| Failure::input(format!("{}: {error}", file.display())))?;
    let lines: Vec<(usize, &str)> =
        text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty()).collect();
    let wrong: Vec<String> = lines
        .iter()
        .filter_map(|(at, line)| {
            ostrog_core::prelude::line::parse(line)
                .err()
                .map(|message| format!("{}:{}  {message}", file.display(), at + 1))
        })
        .collect();
    if !wrong.is_empty() {
        return Err(Failure::input(wrong.join("\n")));
    }
    if check && lines.len() > CHUNK {
        return Err(Failure::misused(format!(
            "--check looks at one chunk at a time, at most {CHUNK} lines; {} has {}",
            file.display(),
            lines.len()
        )));
    }
    let bar = ProgressBar::new(lines.len() as u64);
    bar.set_draw_target(if shell.shows_progress() {
        ProgressDrawTarget::stderr()
    } else {
        ProgressDrawTarget::hidden()
    });
    bar.set_style(
        ProgressStyle::with_template("loading {bar:30} {pos} of {len} lines, {eta} to go")
            .unwrap_or_else(|_| ProgressStyle::default_bar()),
    );
    let mut changed = 0;
    let mut position = String::new();
    for chunk in lines.chunks(CHUNK) {
        let body: Vec<&str> = chunk.iter().map(|(_, line)| *line).collect();
        let written = match client.load(body.join("\n"), check).await {
            Ok(written) => written,
            Err(error) => return Err(refused(file, chunk, error)),
        };
        changed += written.changed.len();
        position = written.position;
        bar.inc(chunk.len() as u64);
    }
    bar.finish_and_clear();
    let verb = if check { "would change" } else { "changed" };
    if shell.format == OutputFormat::Text {
        shell
            .answer(&format!("{} read, {changed} {verb}, position {position}", counted(lines.len(), "line")));
    } else {
        shell.answer(
            &json!({ "lines": lines.len(), "changed": changed, "position": position, "checked-only": check })
                .to_string(),
        );
    }
    Ok(YES)
}

/// Refusals by the line of the file, not of the chunk.
fn refused(file: &Path, chunk: &[(usize, &str)], error: ostrog_client::Error) -> Failure {
    if let ostrog_client::Error::Refused(problem) = &error
        && problem.status == 422
    {
        let told: Vec<String> = problem
            .errors
            .iter()
            .map(|part| {
                let line = part
                    .at
                    .parse()
                    .ok()
                    .and_then(|at: usize| chunk.get(at.checked_sub(1)?))
                    .map_or(0, |(line, _)| line + 1);
                format!("{}:{line}  {}", file.display(), part.detail)
            })
            .collect();
        let before = chunk.first().map_or(0, |(line, _)| *line);
        let kept = if before == 0 {
            "nothing was changed".to_owned()
        } else {
            format!("the {before} lines before are in force, the rest is not")
        };
        return Failure::input(format!("{}\n{kept}", told.join("\n")));
    }
    error.into()
}

async fn show(client: &Client, name: &str, shell: &Shell) -> Result<Code, Failure> {
    let shown = client.entity(name).await?;
    if shell.format != OutputFormat::Text {
        shell.answer(&shown.to_string());
        return Ok(YES);
    }
    let entity = &shown["entity"];
    shell.answer(entity["entity"].as_str().unwrap_or(name));
    for key in ["state", "within", "detached", "tenant", "tenants", "members"] {
        if !entity[key].is_null() {
            shell.answer(&format!("    {key:<14}  {}", plain(&entity[key])));
        }
    }
    for group in ["attributes", "relations"] {
        for (key, value) in entity[group].as_object().into_iter().flatten() {
            shell.answer(&format!("    {key:<14}  {}", plain(value)));
        }
    }
    for (title, key) in [("in", "groups"), ("contains", "contents")] {
        let names = plain(&shown[key]);
        if !names.is_empty() {
            shell.answer(&format!("    {title:<14}  {names}"));
        }
    }
    for line in shown["grants"].as_array().into_iter().flatten() {
        let grant = &line["grant"];
        let mut text = format!("    {:<14}  {} at {}", "holds", plain(&grant["role"]), plain(&grant["at"]));
        for key in ["from", "until", "values"] {
            if !grant[key].is_null() {
                text.push_str(&format!(", {key} {}", plain(&grant[key])));
            }
        }
        shell.answer(&format!("{text}   ({})", plain(&grant["id"])));
    }
    Ok(YES)
}

fn plain(value: &Value) -> String {
    match value {
        Value::Null => String::new(),
        Value::String(text) => text.clone(),
        Value::Array(items) => items.iter().map(plain).collect::<Vec<_>>().join(", "),
        Value::Object(map) => {
            map.iter().map(|(key, value)| format!("{key}={}", plain(value))).collect::<Vec<_>>().join(" ")
        }
        other => other.to_string(),
    }
}
