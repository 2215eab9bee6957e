//! `ostrog shift`: who gains and who loses under another text.

use super::rehearse::tell_shift;
use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, NO, YES};
use crate::lines::{questions, recorded};
use crate::shell::Shell;
use crate::sides;
use jiff::Timestamp;
use ostrog_core::prelude::World;
use ostrog_core::shift::{Before, Only, Shift, replay, shift};
use std::path::PathBuf;
use std::sync::Arc;

/// The word for a record in the place of a text.
const RECORD: &str = "record";

/// The command's arguments.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The text: a draft (D-17), a revision, or a charter's folder
    of: String,
    /// What to hold it against: live, a revision, a draft or another folder; record: what the questions of a record
    /// (--questions) say that they were answered with, by whatever answered them
    #[arg(long, value_name = "live|REVISION|DIR|record", default_value = "live")]
    against: String,
    /// The facts, if not those of the service
    #[arg(long, value_name = "FILE")]
    register: Option<PathBuf>,
    /// By replaying these questions (NDJSON, as `ask --from` reads them), with their contexts
    #[arg(long, value_name = "FILE", conflicts_with_all = ["subject", "permission"])]
    questions: Option<PathBuf>,
    /// Only of this subject
    #[arg(long, value_name = "S")]
    subject: Option<String>,
    /// Only about this permission
    #[arg(long, value_name = "P")]
    permission: Option<String>,
}

pub async fn run(args: Args, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let after = sides::charter(&args.of, global, shell).await?;
    if args.against == RECORD {
        return against_record(&args, &after, global, shell).await;
    }
    let before = sides::charter(&args.against, global, shell).await?;
    if let Some(permission) = &args.permission
        && [&before, &after].iter().all(|side| side.policy.permission(permission).is_none())
    {
        return Err(Failure::input(format!("neither text declares the permission {permission}")));
    }
    let facts = sides::facts(args.register.as_deref(), global).await?;
    if let Some(subject) =
        args.subject.as_ref().filter(|name| *name != "anonymous" && facts.find(name).is_none())
    {
        return Err(Failure::input(format!("{subject} is not registered")));
    }
    shell.notice(&format!("{} against {}", after.words, before.words));
    let only = Only { subject: args.subject, permission: args.permission, ..Only::default() };
    let world = |policy: &Arc<_>| World::new(Arc::clone(policy), facts.clone());
    let (before, after) = (world(&before.policy), world(&after.policy));
    let now = Timestamp::now();
    let found = match &args.questions {
        Some(file) => replay(Before::Text(&before), &after, &questions(file)?, now),
        None => tokio::task::block_in_place(|| shift(&before, &after, now, &only, &mut |_| true)),
    };
    tell(&found, shell)
}

/// Holds a text against answers that were recorded.
async fn against_record(
    args: &Args,
    after: &sides::Side,
    global: &Global,
    shell: &Shell,
) -> Result<Code, Failure> {
    let Some(file) = &args.questions else {
        return Err(Failure::misused(
            "--against record holds the text against a record: add --questions FILE",
        ));
    };
    let (questions, decisions) = recorded(file)?;
    let facts = sides::facts(args.register.as_deref(), global).await?;
    shell.notice(&format!("{} against {} recorded answers", after.words, decisions.len()));
    let after = World::new(Arc::clone(&after.policy), facts);
    tell(&replay(Before::Recorded(&decisions), &after, &questions, Timestamp::now()), shell)
}

fn tell(found: &Shift, shell: &Shell) -> Result<Code, Failure> {
    if shell.format == OutputFormat::Text {
        tell_shift(found, shell);
        shell.answer(&found.in_words());
    } else {
        shell.answer(&serde_json::to_string(found).map_err(Failure::input)?);
    }
    Ok(if found.is_nothing() { YES } else { NO })
}
