//! `ostrog shadow`: live questions, answered once more under a revision that is not live.

use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, NO, YES};
use crate::shell::{Shell, Tone};
use crate::table::{self, Column};
use ostrog_wire::release::{ShadowAsked, ShadowShown};

/// The command's arguments.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// A revision to begin one under; or status, differences or stop
    what: String,
    /// Of differences and stop, which shadow; without it, the last one
    number: Option<i64>,
    /// Whose questions: all, or keys of applications with commas between
    #[arg(long = "for", value_name = "APP[,APP]|all")]
    applications: Option<String>,
    /// Until when
    #[arg(long, value_name = "T")]
    until: Option<String>,
    /// Answer one question in so many
    #[arg(long, value_name = "N")]
    one_in: Option<i32>,
    /// The share of one processor's time that a node may spend on it, in percent
    #[arg(long, value_name = "PERCENT")]
    share: Option<i32>,
}

pub async fn run(args: Args, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let client = global.client().await?;
    let last = |all: Vec<ShadowShown>| {
        let found = match args.number {
            Some(number) => all.into_iter().find(|one| one.number == number),
            None => all.into_iter().next(),
        };
        found.ok_or_else(|| Failure::input("there is no such shadow"))
    };
    match args.what.as_str() {
        "status" => {
            let columns: &[Column<ShadowShown>] = &[
                ("shadow", |one| one.number.to_string()),
                ("revision", |one| one.revision.to_string()),
                ("for", |one| one.applications.join(",")),
                ("asked", |one| one.asked.to_string()),
                ("differing", |one| one.differing.to_string()),
                ("dropped", |one| one.dropped.to_string()),
                ("one in", |one| one.sampled.to_string()),
                ("by", |one| one.by.clone()),
                ("state", |one| match (&one.ended, &one.until) {
                    (Some(why), _) => format!("ended: {why}"),
                    (None, Some(until)) => format!("runs until {until}"),
                    (None, None) => "runs".to_owned(),
                }),
            ];
            table::print(shell, &client.shadows().await?, columns);
            Ok(YES)
        }
        "differences" => {
            let shadow = last(client.shadows().await?)?;
            let groups = client.differences(shadow.number).await?;
            if shell.format != OutputFormat::Text {
                shell.answer(&serde_json::to_string(&groups).unwrap_or_default());
            } else {
                shell.notice(&format!(
                    "shadow {}, revision {}: {} of {} answers differ",
                    shadow.number, shadow.revision, shadow.differing, shadow.asked
                ));
                for group in &groups {
                    let word = match group.newly_denied {
                        true => shell.tone(Tone::Bad, "newly denied "),
                        false => shell.tone(Tone::Good, "newly allowed"),
                    };
                    shell.answer(&format!("{word}  {}  {} times", group.permission, group.times));
                    shell
                        .answer(&format!("    live {}, in the shadow {}", group.reason, group.shadow_reason));
                    for one in group.questions.iter().take(5) {
                        let resource = one.resource.as_deref().unwrap_or("a new one");
                        shell.answer(&format!("    {} on {resource}, {} times", one.subject, one.times));
                    }
                    if group.questions.len() > 5 {
                        shell.answer(&format!("    and {} more", group.questions.len() - 5));
                    }
                }
            }
            Ok(if groups.is_empty() { YES } else { NO })
        }
        "stop" => {
            let shadow = last(client.shadows().await?)?;
            let ended = client.end_shadow(shadow.number).await?;
            shell.notice(&format!("shadow {} has ended", ended.number));
            Ok(YES)
        }
        revision => {
            let revision = revision.parse().map_err(|_| {
                Failure::misused(format!("{revision:?} is no revision, and not status, differences or stop"))
            })?;
            let r#for = args
                .applications
                .ok_or_else(|| Failure::misused("whose questions? --for all, or --for customs,quay"))?;
            let asked =
                ShadowAsked { revision, r#for, until: args.until, one_in: args.one_in, share: args.share };
            let begun = client.begin_shadow(&asked).await?;
            if shell.format == OutputFormat::Text {
                shell.answer(&format!(
                    "shadow {} runs under revision {} for {}",
                    begun.number,
                    begun.revision,
                    begun.applications.join(", ")
                ));
            } else {
                shell.answer(&serde_json::to_string(&begun).unwrap_or_default());
            }
            Ok(YES)
        }
    }
}
