//! `ostrog register load | save | show | set | remove | follow`.

use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, YES};
use crate::files::counted;
use crate::pages::{self, Line};
use crate::shell::Shell;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use ostrog_client::Client;
use ostrog_client::changes::{Changes, From, Told};
use ostrog_wire::problem::ProblemPart;
use ostrog_wire::register::{Facts, GrantLine, LoadQuery, Written};
use serde_json::Value;
use std::path::{Path, PathBuf};
use std::time::Duration;

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
    let client = global.client().await?;
    match command {
        Command::Load { file, check } => load(&client, &file, check, shell).await,
        Command::Show { entity } => show(&client, &entity, shell).await,
        Command::Save => save(&client, shell).await,
        Command::Follow { from } => follow(&client, from, shell).await,
        Command::Set { facts } => {
            facts_written(&client, Facts { set: facts, remove: Vec::new() }, shell).await
        }
        Command::Remove { facts } => {
            facts_written(&client, Facts { set: Vec::new(), remove: facts }, shell).await
        }
    }
}

async fn facts_written(client: &Client, facts: Facts, shell: &Shell) -> Result<Code, Failure> {
    tell(&client.set_facts(&facts).await?, shell);
    Ok(YES)
}

/// All that is registered, in an order in which it can be loaded.
async fn save(client: &Client, shell: &Shell) -> Result<Code, Failure> {
    let line = |line: Line| shell.answer(&serde_json::to_string(&line).unwrap_or_default());
    pages::register(client, line).await?;
    Ok(YES)
}

/// What happens, until it is broken off. A stream that breaks is taken up where it was.
async fn follow(client: &Client, from: Option<i64>, shell: &Shell) -> Result<Code, Failure> {
    let mut from = from.map_or(From::Now, From::After);
    let mut changes = client.follow(&from).await?;
    loop {
        match changes.next().await {
            Ok(Some(Told { id, change })) => {
                from = From::Event(id);
                if shell.format == OutputFormat::Text {
                    let what = super::log::summary(&change);
                    let (position, at, actor) = (change.position, &change.at, &change.actor);
                    shell.answer(&format!("{position}  {at}  {actor}  {}  {what}", change.kind));
                } else {
                    shell.answer(&serde_json::to_string(&change).unwrap_or_default());
                }
            }
            Ok(None) | Err(ostrog_client::Error::Unreachable(_)) => {
                shell.notice("the stream ended; taking it up again");
                changes = again(client, &from).await?;
            }
            Err(error) => return Err(error.into()),
        }
    }
}

/// Takes a stream up again, as soon as the service can be reached.
async fn again(client: &Client, from: &From) -> Result<Changes, Failure> {
    loop {
        tokio::time::sleep(Duration::from_secs(1)).await;
        match client.follow(from).await {
            Err(ostrog_client::Error::Unreachable(_)) => {}
            followed => return Ok(followed?),
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
    let mut loaded = Loaded { lines: lines.len(), changed: 0, position: String::new(), checked_only: check };
    let mut before = 0;
    for chunk in lines.chunks(CHUNK) {
        let body: Vec<&str> = chunk.iter().map(|(_, line)| *line).collect();
        let written = match client.load(body.join("\n"), &LoadQuery { check, at: None }).await {
            Ok(written) => written,
            Err(error) => {
                bar.abandon();
                return Err(broken_off(file, &lines[..before], chunk, error));
            }
        };
        loaded.changed += written.changed.len();
        loaded.position = written.position;
        before += chunk.len();
        bar.inc(chunk.len() as u64);
    }
    bar.finish_and_clear();
    if shell.format == OutputFormat::Text {
        let verb = if check { "would change" } else { "changed" };
        let Loaded { lines, changed, position, .. } = loaded;
        shell.answer(&format!("{} read, {changed} {verb}, position {position}", counted(lines, "line")));
    } else {
        shell.answer(&serde_json::to_string(&loaded).unwrap_or_default());
    }
    Ok(YES)
}

/// What a load came to, where no person reads it.
#[derive(serde::Serialize)]
#[serde(rename_all = "kebab-case")]
struct Loaded {
    lines: usize,
    changed: usize,
    position: String,
    checked_only: bool,
}

/// A line and how many are before it.
type Numbered<'t> = (usize, &'t str);

/// Why a load ended before its end, by the line of the file, and how much of it is in force.
fn broken_off(
    file: &Path,
    before: &[Numbered<'_>],
    chunk: &[Numbered<'_>],
    error: ostrog_client::Error,
) -> Failure {
    let last = before.last().map_or(0, |(line, _)| line + 1);
    let in_force = format!("{} up to line {last} are in force", counted(before.len(), "line"));
    let kept = match before.len() {
        0 => "nothing was changed".to_owned(),
        _ => format!("{in_force}, the rest is not"),
    };
    match &error {
        ostrog_client::Error::Refused(problem) if problem.status == 422 => {
            let line = |part: &ProblemPart| {
                let at = part.at.parse().ok().and_then(|at: usize| chunk.get(at.checked_sub(1)?));
                format!("{}:{}  {}", file.display(), at.map_or(0, |(line, _)| line + 1), part.detail)
            };
            let told: Vec<String> = problem.errors.iter().map(line).collect();
            Failure::input(format!("{}\n{kept}", told.join("\n")))
        }
        ostrog_client::Error::Refused(_) => {
            let failure = Failure::from(error);
            Failure { message: format!("{}\n{kept}", failure.message), ..failure }
        }
        _ => {
            // What was sent last may have arrived all the same.
            let first = chunk.first().map_or(0, |(line, _)| line + 1);
            let failure = Failure::from(error);
            let message = format!(
                "{}\n{in_force}; whether those from line {first} on are is not known: load the file again, which changes nothing twice",
                failure.message
            );
            Failure { message, ..failure }
        }
    }
}

async fn show(client: &Client, name: &str, shell: &Shell) -> Result<Code, Failure> {
    let shown = client.entity(name).await?;
    if shell.format != OutputFormat::Text {
        shell.answer(&serde_json::to_string(&shown).unwrap_or_default());
        return Ok(YES);
    }
    let entity = &shown.entity;
    shell.answer(&entity.entity);
    let say = |key: &str, text: String| {
        if !text.is_empty() {
            shell.answer(&format!("    {key:<14}  {text}"));
        }
    };
    say("state", entity.state.clone().unwrap_or_default());
    say("within", entity.within.clone().unwrap_or_default());
    say("detached", if entity.detached { "true".to_owned() } else { String::new() });
    say("tenant", entity.tenant.clone().unwrap_or_default());
    say("tenants", entity.tenants.join(", "));
    say("members", entity.members.join(", "));
    entity.attributes.iter().for_each(|(key, value)| say(key, plain(value)));
    entity.relations.iter().for_each(|(key, to)| say(key, to.join(", ")));
    say("in", shown.groups.join(", "));
    say("contains", shown.contents.join(", "));
    for GrantLine { grant } in &shown.grants {
        let mut text = format!("{} at {}", grant.role, grant.at);
        for (key, moment) in [("from", &grant.from), ("until", &grant.until)] {
            if let Some(moment) = moment {
                text.push_str(&format!(", {key} {moment}"));
            }
        }
        for (key, values) in &grant.values {
            let values: Vec<String> = values.iter().map(plain).collect();
            text.push_str(&format!(", {key}={}", values.join(", ")));
        }
        say("holds", format!("{text}   ({})", grant.id.as_deref().unwrap_or_default()));
    }
    Ok(YES)
}

/// A value of an attribute as people read it.
fn plain(value: &Value) -> String {
    match value {
        Value::String(text) => text.clone(),
        Value::Array(items) => items.iter().map(plain).collect::<Vec<_>>().join(", "),
        other => other.to_string(),
    }
}
