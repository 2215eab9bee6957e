//! `ostrog rollout`, `ostrog rollback`, `ostrog revision`: what is live.

use super::rehearse::tell_shift;
use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, NO, YES};
use crate::shell::Shell;
use crate::table::{self, Column};
use ostrog_client::Client;
use ostrog_wire::charter::RevisionShown;
use ostrog_wire::release::{LiveShown, NodeShown, ReleasedShown, RollbackAsked, RolloutAsked, StepShown};
use std::io::{BufRead as _, IsTerminal as _};
use std::time::{Duration, Instant};

/// How long is waited for nodes that have not followed.
const PATIENCE: Duration = Duration::from_secs(15);
/// How often it is looked.
const AGAIN: Duration = Duration::from_millis(100);

/// The arguments of `rollout`.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// A revision (3); a draft (D-1) that was approved, or where nobody has to, or urgently; or status: what is live where
    what: String,
    /// For which applications: all, or their keys with commas between
    #[arg(long = "for", value_name = "APP[,APP]|all")]
    applications: Option<String>,
    /// Why; kept with the change
    #[arg(long)]
    note: Option<String>,
    /// Go live even if facts of the register do not fit: they will give nothing
    #[arg(long)]
    accept_unfit: bool,
    /// What is live there now, where the revision was approved on another one
    #[arg(long, value_name = "REVISION")]
    over: Option<i64>,
    /// Put a draft live that nobody approved: by an owner, with a note; marked until somebody approves it
    #[arg(long, requires = "note")]
    urgent: bool,
    /// Wait until every node answers from it
    #[arg(long)]
    wait: bool,
    /// Of status: go on telling what goes live
    #[arg(long)]
    follow: bool,
    /// Do not ask
    #[arg(long)]
    yes: bool,
}

/// The arguments of `rollback`.
#[derive(Debug, clap::Args)]
pub struct BackArgs {
    /// For which applications: all, or their keys with commas between
    #[arg(long = "for", value_name = "APP[,APP]|all")]
    applications: String,
    /// The revision to go back to; without one, the one before
    #[arg(long, value_name = "REVISION")]
    to: Option<i64>,
    /// Why; kept with the change
    #[arg(long)]
    note: String,
    /// Wait until every node answers from it
    #[arg(long)]
    wait: bool,
    /// Do not ask
    #[arg(long)]
    yes: bool,
}

/// Revisions.
#[derive(Debug, clap::Subcommand)]
pub enum RevisionCommand {
    /// List revisions, newest first
    List,
    /// Shut a revision for good: it never goes live again
    Bar {
        /// Such as 3
        revision: i64,
        /// Why; kept with it
        #[arg(long)]
        note: String,
    },
}

pub async fn run(args: Args, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let client = global.client().await?;
    if args.what == "status" {
        return status(&client, args.follow, shell).await;
    }
    let Some(applications) = args.applications else {
        return Err(Failure::misused("for which applications? --for all, or --for customs,quay"));
    };
    let asked = RolloutAsked {
        what: args.what,
        r#for: applications.clone(),
        note: args.note,
        accept_unfit: args.accept_unfit,
        urgent: args.urgent,
        over: args.over,
        check: false,
    };
    if !args.yes {
        can_be_asked()?;
        let would = client.roll_out(&RolloutAsked { check: true, ..asked.clone() }).await?;
        shell.notice(&format!("{} for {applications}: {}", asked.what, would.words));
        confirmed(&applications, shell)?;
    }
    let released = client.roll_out(&asked).await?;
    told(&client, released, args.wait, shell).await
}

pub async fn back(args: BackArgs, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let client = global.client().await?;
    if !args.yes {
        can_be_asked()?;
        confirmed(&args.applications, shell)?;
    }
    let asked = RollbackAsked { r#for: args.applications, to: args.to, note: Some(args.note) };
    let released = client.roll_back(&asked).await?;
    told(&client, released, args.wait, shell).await
}

pub async fn revision(command: RevisionCommand, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let client = global.client().await?;
    match command {
        RevisionCommand::List => {
            let columns: &[Column<RevisionShown>] = &[
                ("revision", |revision| revision.number.to_string()),
                ("title", |revision| revision.title.clone()),
                ("by", |revision| revision.author.clone()),
                ("at", |revision| revision.created_at.clone()),
                ("state", |revision| state(revision).to_owned()),
            ];
            table::print(shell, &client.revisions().await?, columns);
        }
        RevisionCommand::Bar { revision, note } => {
            let shut = client.bar(revision, &note).await?;
            shell.notice(&format!("revision {} never goes live again", shut.number));
        }
    }
    Ok(YES)
}

fn state(revision: &RevisionShown) -> &'static str {
    match (&revision.barred, revision.approved) {
        (Some(_), _) => "shut",
        (None, true) => "approved",
        (None, false) => "urgent, not approved",
    }
}

/// Tells what went live; no if nodes were waited for that did not follow.
async fn told(client: &Client, released: ReleasedShown, wait: bool, shell: &Shell) -> Result<Code, Failure> {
    if shell.format == OutputFormat::Text {
        for (application, revision) in &released.live {
            match revision {
                Some(revision) => shell.answer(&format!("{application}: revision {revision} is live")),
                None => shell.answer(&format!("{application}: not part of what is live any more")),
            }
        }
        shell.answer(&released.words);
        tell_shift(&released.shift, shell);
        for fact in &released.unfit {
            shell.answer(&format!("does not fit, and gives nothing: {fact}"));
        }
    } else {
        shell.answer(&serde_json::to_string(&released).unwrap_or_default());
    }
    if !wait {
        return Ok(YES);
    }
    let behind = followed(client, &released.position).await?;
    for node in &behind {
        shell.notice(&format!(
            "node {} ({}) has not followed; it may answer as before until {}",
            node.id, node.address, node.until
        ));
    }
    Ok(if behind.is_empty() { YES } else { NO })
}

/// Waits until every node answers from a position, and gives those that do not.
async fn followed(client: &Client, position: &str) -> Result<Vec<NodeShown>, Failure> {
    let wanted: i64 = position.rsplit_once('.').and_then(|(_, number)| number.parse().ok()).unwrap_or(0);
    let began = Instant::now();
    loop {
        let now = jiff::Timestamp::now();
        let counts = |node: &NodeShown| node.until.parse::<jiff::Timestamp>().is_ok_and(|until| now < until);
        let mut behind = client.nodes().await?;
        behind.retain(|node| node.position < wanted && counts(node));
        if behind.is_empty() || began.elapsed() > PATIENCE {
            return Ok(behind);
        }
        tokio::time::sleep(AGAIN).await;
    }
}

/// What is live where; then, if it is wanted, what goes live.
async fn status(client: &Client, follow: bool, shell: &Shell) -> Result<Code, Failure> {
    let columns: &[Column<LiveShown>] = &[
        ("application", |live| live.application.clone()),
        ("revision", |live| live.revision.to_string()),
        ("title", |live| live.title.clone()),
        ("since", |live| live.since.clone()),
        ("by", |live| live.by.clone()),
        ("back to", |live| live.back.map_or_else(String::new, |back| back.to_string())),
        ("", |live| if live.urgent { "urgent, not approved".to_owned() } else { String::new() }),
    ];
    table::print(shell, &client.live().await?, columns);
    if shell.format == OutputFormat::Text {
        let nodes = client.nodes().await?;
        let most = nodes.iter().map(|node| node.position).max().unwrap_or(0);
        for node in nodes.iter().filter(|node| node.position < most) {
            shell.answer(&format!(
                "node {} ({}) is at position {} of {most}; it may answer as before until {}",
                node.id, node.address, node.position, node.until
            ));
        }
    }
    let mut told = client.rollouts(None).await?.first().map_or(0, |step| step.position);
    if !follow {
        return Ok(YES);
    }
    loop {
        tokio::time::sleep(Duration::from_secs(1)).await;
        let mut new: Vec<StepShown> = client.rollouts(None).await?;
        new.retain(|step| step.position > told);
        for step in new.iter().rev() {
            told = told.max(step.position);
            let what = match (step.revision, step.back) {
                (Some(revision), true) => format!("back to revision {revision}"),
                (Some(revision), false) => format!("revision {revision}"),
                (None, _) => "not part of what is live any more".to_owned(),
            };
            let note = step.note.as_deref().map_or_else(String::new, |note| format!(" ({note})"));
            shell.answer(&format!("{}  {}: {what}, by {}{note}", step.at, step.application, step.actor));
        }
    }
}

fn can_be_asked() -> Result<(), Failure> {
    if std::io::stdin().is_terminal() {
        return Ok(());
    }
    Err(Failure::misused("this changes what is live: say --yes where nobody can be asked"))
}

/// What changes what is live is confirmed by typing what it is for.
fn confirmed(applications: &str, shell: &Shell) -> Result<(), Failure> {
    shell.notice(&format!("this changes what is live; type {applications} to go on"));
    let mut typed = String::new();
    let read = std::io::stdin().lock().read_line(&mut typed);
    if read.is_err() || typed.trim() != applications {
        return Err(Failure::misused("nothing was changed"));
    }
    Ok(())
}
