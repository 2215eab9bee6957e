//! `ostrog rehearse`: cases, guarantees, and who gains and who loses.

use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, NO, YES};
use crate::files::{self, counted};
use crate::shell::{Shell, Tone};
use crate::sides;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use jiff::Timestamp;
use ostrog_core::prelude::{Policy, Register, Sources, World};
use ostrog_core::rehearse::{CaseReport, Check, GuaranteeReport, Outcome, Rehearsal, read};
use ostrog_core::shift::{Only, Shift, shift};
use ostrog_core::source::{Finding, Severity, SourceFile};
use ostrog_report::{Against, Rehearsed, html, junit};
use ostrog_wire::rehearsals::{RehearsalAsked, RehearsalFile, RehearsalSaved};
use std::cell::Cell;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

/// The command's arguments.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The rehearsal's folder
    dir: PathBuf,
    /// The charter: a folder, a draft (D-17), a revision, or what is live
    #[arg(long, value_name = "DIR|D-N|REVISION|live", default_value = "live")]
    charter: String,
    /// The facts a rehearsal that is not stand-alone is laid over, and the shift is made on; without
    /// it those of the service
    #[arg(long, value_name = "FILE")]
    register: Option<PathBuf>,
    /// Tell who gains and who loses: against live, a revision, a draft or another folder
    #[arg(long, value_name = "live|REVISION|DIR|nothing", default_value = "nothing")]
    against: String,
    /// Save the files with the service, and rehearse there: an approval binds what that finds. Of a draft, or of what
    /// is live
    #[arg(long, conflicts_with_all = ["register", "against", "only", "all", "json", "html"])]
    keep: bool,
    /// How long each guarantee may take; past it, it is undecided
    #[arg(long, value_name = "TIME", default_value = "20s", value_parser = super::time)]
    budget: Duration,
    /// Only cases and guarantees whose name contains this
    #[arg(long, value_name = "NAME")]
    only: Option<String>,
    /// Tell every case, not only those that fail
    #[arg(long)]
    all: bool,
    /// Write everything that was found as JSON
    #[arg(long, value_name = "FILE")]
    json: Option<PathBuf>,
    /// Write it as JUnit XML
    #[arg(long, value_name = "FILE")]
    junit: Option<PathBuf>,
    /// Write it as one HTML page
    #[arg(long, value_name = "FILE")]
    html: Option<PathBuf>,
}

pub async fn run(args: Args, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let sources = files::rehearsal(&args.dir)?;
    if args.keep {
        return kept(&args, &sources, global, shell).await;
    }
    let mut findings = Vec::new();
    let mut rehearsal = read(&sources, &mut findings);
    wrong(&args.dir, &sources, &findings, shell)?;
    if let Some(only) = args.only.as_deref().filter(|only| !rehearsal.narrow(only)) {
        return Err(Failure::input(format!("no case's and no guarantee's name contains {only:?}")));
    }
    if rehearsal.over && args.register.is_none() && global.server.is_none() {
        return Err(Failure::misused(
            "this rehearsal is laid over a register (stand-alone = false); name its facts with --register FILE, or a service with --server URL",
        ));
    }
    let against = match args.against.as_str() {
        "nothing" => None,
        of => Some(sides::charter(of, global, shell).await?),
    };
    if !rehearsal.over && args.register.is_some() && against.is_none() {
        shell.notice("this rehearsal stands alone; the register is not looked at");
    }
    let sides::Side { words, policy } = sides::charter(&args.charter, global, shell).await?;
    let facts = match &args.register {
        None if against.is_none() && !rehearsal.over => Register::default(),
        file => sides::facts(file.as_deref(), global).await?,
    };
    let found = {
        let run = Run {
            args: &args,
            rehearsal: &rehearsal,
            sources: &sources,
            policy: &policy,
            of: &words,
            facts: &facts,
            shell,
        };
        let stop = stopped_by_hand();
        tokio::task::block_in_place(|| run.all(against, &stop))?
    };
    let offline = Path::new(&args.charter).is_dir();
    shell.notice(&if offline { format!("offline, {words}") } else { words.clone() });
    write(args.json.as_deref(), || serde_json::to_string_pretty(&found).unwrap_or_default())?;
    write(args.junit.as_deref(), || junit(&found))?;
    write(args.html.as_deref(), || html(&found))?;
    if shell.format == OutputFormat::Text {
        tell(&found, args.all, shell);
    } else {
        shell.answer(&serde_json::to_string(&found).map_err(Failure::input)?);
    }
    Ok(if found.holds() { YES } else { NO })
}

/// How often it is looked whether a rehearsal of the service has come to its end.
const LOOK: Duration = Duration::from_millis(500);

/// Saves the files with the service, unless it has just these, and rehearses there.
async fn kept(args: &Args, sources: &Sources, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let client = global.client().await?;
    let draft = match args.charter.as_str() {
        "live" => None,
        draft if draft.starts_with("D-") => Some(draft.to_owned()),
        other => {
            return Err(Failure::misused(format!(
                "the service rehearses a draft or what is live, not {other:?}"
            )));
        }
    };
    let file = |file: &SourceFile| RehearsalFile { path: file.path.clone(), text: file.text.clone() };
    let files: Vec<RehearsalFile> = sources.files().iter().map(file).collect();
    let has = client.rehearsal().await?;
    let same =
        |one: &RehearsalFile| has.files.iter().any(|known| known.path == one.path && known.text == one.text);
    if files.len() != has.files.len() || !files.iter().all(same) {
        client.save_rehearsal(&RehearsalSaved { files, from: has.number }).await?;
        shell.notice(
            "the rehearsal's files are saved; whoever saved them is an editor of what they are held against",
        );
    }
    let number = client.rehearse(&RehearsalAsked { draft, only: None }).await?.number;
    let ran = loop {
        tokio::time::sleep(LOOK).await;
        let ran = client.rehearsals().await?.into_iter().find(|ran| ran.number == number);
        match ran {
            Some(ran) if ran.ended_at.is_none() && &*ran.state == "running" => {}
            Some(ran) => break ran,
            None => return Err(Failure::unreachable(format!("rehearsal {number} is not told any more"))),
        }
    };
    shell.answer(&format!("rehearsal {number} of {}: {}", ran.of, ran.words));
    if let Some(path) = &args.junit {
        let text = client.rehearsal_junit(number).await?;
        write(Some(path), || text)?;
    }
    match &*ran.state {
        "held" => Ok(YES),
        "failed" => Ok(NO),
        _ => Err(Failure::unreachable(format!("rehearsal {number} did not come to an end"))),
    }
}

/// Set by the first Ctrl+C, so that what is settled so far is told; the second ends at once.
fn stopped_by_hand() -> Arc<AtomicBool> {
    let stop = Arc::new(AtomicBool::new(false));
    let flag = Arc::clone(&stop);
    tokio::spawn(async move {
        while tokio::signal::ctrl_c().await.is_ok() {
            if flag.swap(true, Ordering::Relaxed) {
                std::process::exit(130);
            }
        }
    });
    stop
}

fn wrong(dir: &Path, sources: &Sources, findings: &[Finding], shell: &Shell) -> Result<(), Failure> {
    let errors = findings.iter().filter(|finding| finding.severity == Severity::Error).count();
    if errors == 0 {
        return Ok(());
    }
    files::told(sources, findings, shell);
    let nothing = "nothing was rehearsed";
    Err(Failure::input(format!("{} has {}; {nothing}", dir.display(), counted(errors, "error"))))
}

fn write(path: Option<&Path>, text: impl FnOnce() -> String) -> Result<(), Failure> {
    let Some(path) = path else { return Ok(()) };
    std::fs::write(path, text()).map_err(|error| Failure::input(format!("{}: {error}", path.display())))
}

/// One rehearsal under way.
struct Run<'a> {
    args: &'a Args,
    rehearsal: &'a Rehearsal,
    sources: &'a Sources,
    policy: &'a Arc<Policy>,
    /// What the charter is called.
    of: &'a str,
    facts: &'a Register,
    shell: &'a Shell,
}

impl Run<'_> {
    fn all(&self, against: Option<sides::Side>, stop: &AtomicBool) -> Result<Rehearsed, Failure> {
        let now = Timestamp::now();
        let go_on = || !stop.load(Ordering::Relaxed);
        // Each claim has its own time.
        let began = Cell::new(Instant::now());
        let in_time = || go_on() && began.get().elapsed() < self.args.budget;
        let told = |findings: Vec<Finding>| wrong(&self.args.dir, self.sources, &findings, self.shell).err();
        let failed = |findings| told(findings).unwrap_or_else(|| Failure::input("the rehearsal has errors"));
        let checked = self.rehearsal.checked(self.policy, self.sources).map_err(failed)?;
        let report =
            self.rehearsal.run(self.policy, self.facts.clone(), self.sources, now).map_err(failed)?;
        let bar = self.bar();
        began.set(Instant::now());
        let settled = self.rehearsal.settle(self.policy, self.sources, &in_time, &mut |one| {
            began.set(Instant::now());
            bar.inc(1);
            bar.set_message(format!("{} {}", one.outcome.word(), one.name));
        });
        let guarantees = settled.map_err(failed)?;
        bar.set_message("leaving parts out");
        let seen = (&report.cases[..], &checked[..]);
        let coverage = self.rehearsal.coverage(self.policy, self.facts, self.sources, now, seen, &go_on);
        bar.set_message("who gains and who loses");
        let moved = against.as_ref().map(|side| {
            let world = |policy: &Arc<Policy>| World::new(Arc::clone(policy), self.facts.clone());
            let now = self.rehearsal.now.unwrap_or(now);
            shift(&world(&side.policy), &world(self.policy), now, &Only::default(), &mut |_| go_on())
        });
        bar.finish_and_clear();
        Ok(Rehearsed {
            version: env!("CARGO_PKG_VERSION").to_owned(),
            at: Timestamp::from_second(now.as_second()).unwrap_or(now).to_string(),
            name: self.policy.model().name.clone(),
            of: self.of.to_owned(),
            charter: report.charter,
            against: against
                .map(|side| Against { of: side.words, charter: side.policy.digest().to_string() }),
            cases: report.cases,
            guarantees,
            shift: moved,
            coverage,
        })
    }

    fn bar(&self) -> ProgressBar {
        let target = if self.shell.shows_progress() {
            ProgressDrawTarget::stderr()
        } else {
            ProgressDrawTarget::hidden()
        };
        let count = u64::try_from(self.rehearsal.guarantees.len()).unwrap_or(0);
        let style = ProgressStyle::with_template("{pos}/{len} guarantees  {wide_msg}");
        let bar = ProgressBar::with_draw_target(Some(count), target);
        if let Ok(style) = style { bar.with_style(style) } else { bar }
    }
}

fn tell(found: &Rehearsed, all: bool, shell: &Shell) {
    for case in &found.cases {
        if all || !case.passed || case.checks.iter().any(|check| check.doubt.is_some()) {
            tell_case(case, all, shell);
        }
    }
    for one in &found.guarantees {
        if all || !one.holds() {
            tell_guarantee(one, shell);
        }
    }
    if let Some(shift) = &found.shift {
        tell_shift(shift, shell);
    }
    let coverage = &found.coverage;
    let untouched = [("rule", &coverage.rules), ("clause", &coverage.clauses), ("role", &coverage.roles)];
    for (what, list) in untouched.into_iter().filter(|(_, list)| !list.is_empty()) {
        let line = format!("no case or guarantee touches {}: {}", counted(list.len(), what), list.join(", "));
        shell.answer(&shell.tone(Tone::Soft, &line));
    }
    if !coverage.removable.is_empty() {
        let line = format!("every case passes without {}", coverage.removable.join(", or without "));
        shell.answer(&shell.tone(Tone::Soft, &line));
    }
    let words = found.in_words();
    shell.answer(&if found.holds() { words } else { shell.tone(Tone::Bad, &words) });
}

fn tell_case(case: &CaseReport, all: bool, shell: &Shell) {
    let word = if case.passed { shell.tone(Tone::Good, "passed") } else { shell.tone(Tone::Bad, "failed") };
    shell.answer(&format!("{word}  {}   {}", case.name, shell.tone(Tone::Soft, &case.place)));
    for check in &case.checks {
        if all || !check.passed || check.doubt.is_some() {
            tell_check(check, shell);
        }
    }
}

fn tell_guarantee(one: &GuaranteeReport, shell: &Shell) {
    let tone = if one.holds() { Tone::Good } else { Tone::Bad };
    let word = shell.tone(tone, one.outcome.word());
    shell.answer(&format!("{word}  {}   {}", one.name, shell.tone(Tone::Soft, &one.place)));
    if let Some(assume) = &one.assume {
        shell.answer(&format!("    assumed: {assume}"));
    }
    if let Some(why) = &one.why {
        shell.answer(&format!("    {why}"));
    }
    one.told.iter().for_each(|line| shell.answer(&format!("    {line}")));
    if one.outcome == Outcome::Refuted {
        let hint = "the report (--html, --json) has it as samples and a case";
        shell.answer(&format!("    {}", shell.tone(Tone::Soft, hint)));
    }
}

/// Losers first.
pub fn tell_shift(shift: &Shift, shell: &Shell) {
    for line in &shift.lines {
        let word = if line.lost { shell.tone(Tone::Bad, "loses ") } else { shell.tone(Tone::Good, "gains ") };
        let who: Vec<&str> = line.who.iter().take(3).map(|who| who.subject.as_str()).collect();
        let more = if line.subjects > who.len() { ", …" } else { "" };
        let on: BTreeSet<&str> = line.who.iter().flat_map(|who| &who.on).map(String::as_str).collect();
        let on: Vec<&str> = on.into_iter().take(3).collect();
        let resources = counted(line.resources, "resource");
        let rest = if line.resources > on.len() { ", …" } else { "" };
        let subjects = counted(line.subjects, if line.kind == "anonymous" { "subject" } else { &line.kind });
        shell.answer(&format!("{word} {}  {subjects}: {}{more}", line.permission, who.join(", ")));
        shell.answer(&format!("        on {resources}: {}{rest}", on.join(", ")));
        shell.answer(&format!("        was {}, is {}", line.before, line.after));
    }
    for words in &shift.unexamined {
        shell.answer(&format!("not examined  {words}"));
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
