//! `ostrog ask`: may a subject do something? Offline or live, one question or a file of them.

use super::question::{Asking, Where, With};
use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, INPUT, NO, YES};
use crate::lines::{self, Line};
use crate::shell::Shell;
use crate::telling;
use jiff::Timestamp;
use ostrog_core::decide::take::{Take, what_it_would_take};
use ostrog_core::prelude::{Explanation, Request, Sight, World, explain, with_scratch};
use ostrog_wire::access::{Evaluation, EvaluationContext, ItemError};
use ostrog_wire::questions::{BlankOptions, QuestionRequest};
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// How long what it would take is looked for.
const MAX_SEARCH: Duration = Duration::from_millis(500);

/// The command's arguments.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// user:ines, service:crane-feed, anonymous
    #[arg(required_unless_present = "from")]
    subject: Option<String>,
    /// type:action
    #[arg(required_unless_present = "from")]
    permission: Option<String>,
    /// type:id; without one, a new resource
    resource: Option<String>,
    /// Tell every role, rule and condition that took part
    #[arg(long)]
    why: bool,
    /// Read one question a line (NDJSON, AuthZEN shape); answer one a line
    #[arg(long, value_name = "FILE", conflicts_with_all = ["subject", "permission", "resource"])]
    from: Option<PathBuf>,
    #[command(flatten)]
    at: Where,
    #[command(flatten)]
    with: With,
}

/// An answer as it is written where no person reads it.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct Answer<'a> {
    #[serde(flatten)]
    explanation: &'a Explanation,
    #[serde(skip_serializing_if = "Option::is_none")]
    would_take: Option<&'a Take>,
}

pub async fn run(args: Args, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    if let Some(file) = &args.from {
        return from_file(file, &args, global, shell).await;
    }
    let request = args.with.request(
        args.subject.as_deref().unwrap_or_default(),
        args.permission.as_deref().unwrap_or_default(),
        args.resource.as_deref(),
    )?;
    let (explanation, take) = match args.at.asking(&args.with, global, shell).await? {
        Asking::Offline(mut world, now) => {
            let explanation = explained(&world, &request, now)?;
            let wanted = args.why && !explanation.allowed;
            let take = wanted.then(|| take(&mut world, &request, now)).transpose()?;
            (explanation, take)
        }
        Asking::Live(client) => {
            let question = args.at.question(&request, BlankOptions::default(), &args.with)?;
            let answer = client.ask(&QuestionRequest { would_take: args.why, ..question }).await?;
            args.at.asked_of(&answer.of, shell);
            (answer.explanation, answer.would_take)
        }
    };
    if shell.format == OutputFormat::Text {
        telling::answer(&explanation, args.with.supposed(), shell);
        if args.why {
            if let Some(take) = &take {
                telling::would_take(take, shell);
            }
            telling::details(&explanation, &request, shell);
        }
    } else {
        let answer = Answer { explanation: &explanation, would_take: take.as_ref() };
        shell.answer(&serde_json::to_string(&answer).map_err(Failure::input)?);
    }
    Ok(if explanation.allowed { YES } else { NO })
}

fn explained(world: &World, request: &Request, now: Timestamp) -> Result<Explanation, Failure> {
    let asked = request.resolve(world.engine(), now).map_err(Failure::input)?;
    Ok(with_scratch(|scratch| explain(world.engine(), &asked, scratch)).1)
}

fn take(world: &mut World, request: &Request, now: Timestamp) -> Result<Take, Failure> {
    let began = std::time::Instant::now();
    let mut go_on = || began.elapsed() < MAX_SEARCH;
    what_it_would_take(world, request, now, &Sight::Everything, &mut go_on).map_err(Failure::input)
}

/// Answers a file's questions, each line with a line: one that cannot be answered is denied with its error, as
/// an item of a batch is, and the others are answered all the same.
async fn from_file(file: &Path, args: &Args, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let now = args.with.moment()?;
    let asking = args.at.asking(&args.with, global, shell).await?;
    let mut code = YES;
    for (at, text) in lines::numbered(&lines::read(file)?) {
        let answer = match from_line(text, now, args, &asking).await {
            Ok(answer) => answer,
            Err(failure) if failure.code == INPUT => {
                shell.problem(&format!("{}:{at}  {}", file.display(), failure.message));
                let error = ItemError { status: 400, message: failure.message };
                let context = EvaluationContext { error: Some(error), ..EvaluationContext::default() };
                Evaluation { decision: false, context }
            }
            // Nobody is there to answer the others either.
            Err(failure) => return Err(failure),
        };
        code = match (&answer.context.error, answer.decision) {
            (Some(_), _) => INPUT,
            (None, false) if code == YES => NO,
            _ => code,
        };
        shell.answer(&serde_json::to_string(&answer).map_err(Failure::input)?);
    }
    Ok(code)
}

async fn from_line(
    text: &str,
    now: Option<Timestamp>,
    args: &Args,
    asking: &Asking,
) -> Result<Evaluation, Failure> {
    let Line { mut request, now: moment, .. } = Line::read(text).map_err(Failure::input)?;
    args.with.fill(&mut request)?;
    let moment = moment.or(now);
    let explanation = match asking {
        Asking::Offline(world, _) => explained(world, &request, moment.unwrap_or_else(Timestamp::now))?,
        Asking::Live(client) => {
            let question = args.at.question(&request, BlankOptions::default(), &args.with)?;
            let now = moment.map(|moment| moment.to_string());
            client.ask(&QuestionRequest { now, ..question }).await?.explanation
        }
    };
    let context = EvaluationContext {
        reason: Some(explanation.reason),
        message: explanation.message,
        advice: Some(explanation.advice).filter(|advice| !advice.is_empty()),
        ..EvaluationContext::default()
    };
    Ok(Evaluation { decision: explanation.allowed, context })
}
