//! `ostrog rehearse`: the cases of a rehearsal, offline.

use super::OutputFormat;
use crate::exit::{Code, Failure, NO, YES};
use crate::files::{self, counted};
use crate::shell::{Shell, Tone};
use jiff::Timestamp;
use ostrog_core::rehearse::{CaseReport, Check, read};
use ostrog_core::source::Severity;
use std::path::PathBuf;

/// The command's arguments.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The rehearsal's folder
    dir: PathBuf,
    /// The charter's folder
    #[arg(long, value_name = "DIR")]
    charter: PathBuf,
    /// The facts a rehearsal that is not stand-alone is laid over
    #[arg(long, value_name = "FILE")]
    register: Option<PathBuf>,
    /// Only cases whose name contains this
    #[arg(long, value_name = "NAME")]
    only: Option<String>,
    /// Tell every case, not only those that fail
    #[arg(long)]
    all: bool,
}

pub fn run(args: Args, shell: &Shell) -> Result<Code, Failure> {
    let world = files::world(&args.charter, args.register.as_deref(), shell)?;
    let sources = files::sources(&args.dir)?;
    let mut findings = Vec::new();
    let mut rehearsal = read(&sources, &mut findings);
    if let Some(only) = &args.only {
        rehearsal.cases.retain(|case| case.name.contains(only.as_str()));
        if rehearsal.cases.is_empty() {
            return Err(Failure::input(format!("no case's name contains {only:?}")));
        }
    }
    if rehearsal.over && args.register.is_none() {
        return Err(Failure::misused(
            "this rehearsal is laid over a register (stand-alone = false); name its facts with --register FILE",
        ));
    }
    if !rehearsal.over && args.register.is_some() {
        shell.notice("this rehearsal stands alone; the register is not looked at");
    }
    let wrong = findings.iter().any(|finding| finding.severity == Severity::Error);
    let report = if wrong {
        Err(findings)
    } else {
        rehearsal.run(world.policy(), world.register().clone(), &sources, Timestamp::now())
    };
    let at = std::time::Instant::now();
    let mut last = at;
    let settled = rehearsal.settle(world.policy(), &sources, &|| true, &mut |one| {
        shell.answer(&format!("{}  {}  {:?} {:?}", one.outcome.word(), one.name, last.elapsed(), one.why));
        for told in &one.told {
            shell.answer(&format!("      {told}"));
        }
        last = std::time::Instant::now();
    });
    if let Err(findings) = &settled {
        files::told(&sources, findings, shell);
    }
    let report = report.map_err(|findings| {
        files::told(&sources, &findings, shell);
        Failure::input(format!(
            "{} has {}; no case was asked",
            args.dir.display(),
            counted(findings.len(), "error")
        ))
    })?;
    shell.notice(&format!("offline, {}", args.charter.display()));
    if shell.format == OutputFormat::Text {
        for case in &report.cases {
            if args.all || !case.passed || case.checks.iter().any(|check| check.doubt.is_some()) {
                tell(case, args.all, shell);
            }
        }
        let failed = format!("{} failed", report.failed);
        let failed = if report.failed == 0 { failed } else { shell.tone(Tone::Bad, &failed) };
        shell.answer(&format!("{} of {} pass, {failed}", report.passed, counted(report.cases.len(), "case")));
    } else {
        shell.answer(&serde_json::to_string(&report).map_err(Failure::input)?);
    }
    Ok(if report.failed == 0 { YES } else { NO })
}

fn tell(case: &CaseReport, all: bool, shell: &Shell) {
    let word = if case.passed { shell.tone(Tone::Good, "passed") } else { shell.tone(Tone::Bad, "failed") };
    shell.answer(&format!("{word}  {}   {}", case.name, shell.tone(Tone::Soft, &case.place)));
    for check in &case.checks {
        if all || !check.passed || check.doubt.is_some() {
            tell_check(check, shell);
        }
    }
}

fn tell_check(check: &Check, shell: &Shell) {
    let resource = check.resource.as_deref().unwrap_or("a new one");
    let wanted = match (check.passed, check.expected) {
        (true, _) => "",
        (false, true) if !check.explanation.allowed => "   should be allowed",
        (false, false) if check.explanation.allowed => "   should be denied",
        _ => "   for another reason",
    };
    shell.answer(&format!(
        "    {}  {} on {resource}{wanted}",
        shell.verdict(check.explanation.allowed),
        check.permission
    ));
    shell.answer(&format!("                 {}", check.explanation.sentence));
    if let Some(reason) = &check.expected_reason {
        shell.answer(&format!("                 because {}, not {reason}", check.explanation.reason));
    }
    if let Some(doubt) = &check.doubt {
        shell.answer(&format!("                 {}", shell.tone(Tone::Soft, &format!("warning: {doubt}"))));
    }
}
