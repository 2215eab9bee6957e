//! `ostrog charter import`.

use super::super::OutputFormat;
use crate::exit::{Code, Failure, NO, YES};
use crate::files::{self, counted};
use crate::shell::{Shell, Tone};
use ostrog_core::import::{About, Base, Choice, NotImported, Options, Plan, Standing, plan};
use ostrog_core::prelude::Sources;
use ostrog_core::source::SourceFile;
use ostrog_wire::import::Suggested;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};

/// Most lines of one kind that are shown; `--output json` has all.
const SHOWN: usize = 40;

#[derive(Debug, clap::Args)]
pub struct Args {
    /// JSON or YAML
    document: PathBuf,
    /// The application's key
    #[arg(long, value_name = "KEY")]
    application: String,
    /// The charter's folder; it is made if it is not there
    #[arg(long, value_name = "DIR")]
    into: PathBuf,
    /// Where paths begin, such as /v1; without it, what the document says counts
    #[arg(long, value_name = "PATH")]
    base: Option<String>,
    /// Where the application is there already: write what is new, what changed, or what is gone
    #[arg(long, value_enum, value_delimiter = ',', value_name = "WHAT")]
    only: Vec<Only>,
}

#[derive(Clone, Copy, Debug, clap::ValueEnum)]
enum Only {
    New,
    Changed,
    Gone,
}

pub fn run(args: &Args, shell: &Shell) -> Result<Code, Failure> {
    let application = &args.application;
    if !ostrog_core::names::is_key(application) {
        return Err(Failure::misused(format!(
            "--application {application:?} is not a key: a to z, 0 to 9 and hyphens"
        )));
    }
    let failed = |why: &dyn std::fmt::Display| Failure::input(format!("{}: {why}", args.document.display()));
    let text = std::fs::read_to_string(&args.document).map_err(|error| failed(&error))?;
    let beside = if args.into.is_dir() { Some(files::sources(&args.into)?) } else { None };
    let options = Options { application, base: args.base.as_deref(), beside: beside.as_ref() };
    let refused = |why: NotImported| match why {
        NotImported::Beside(why) => Failure::input(format!("{}: {why}", args.into.display())),
        why => failed(&why),
    };
    let plan = plan(&text, &options).map_err(refused)?;
    let differs =
        [Standing::New, Standing::Changed, Standing::Gone].iter().any(|one| plan.standing(*one) > 0);
    let mut written = Vec::new();
    if plan.mapped > 0 && (!plan.known || !args.only.is_empty()) {
        let standing = |only: &Only| match only {
            Only::New => Standing::New,
            Only::Changed => Standing::Changed,
            Only::Gone => Standing::Gone,
        };
        let choice = Choice { only: args.only.iter().map(standing).collect(), ..Choice::default() };
        let mut files = plan.write(&choice, beside.as_ref()).map_err(refused)?;
        if !beside.as_ref().is_some_and(has_head) && !files.is_empty() {
            // A folder of nothing else becomes a charter.
            let text = format!("[charter]\nname = \"{application}\"\nformat = 1\n");
            files.push(SourceFile { path: "charter.toml".to_owned(), text });
        }
        write(&args.into, &files)?;
        written = files.into_iter().map(|file| file.path).collect();
    }
    let code = match (plan.mapped, plan.known && args.only.is_empty() && differs) {
        (0, _) | (_, true) => NO,
        (_, false) => YES,
    };
    if shell.format == OutputFormat::Text {
        tell(&plan, args, &written, differs, shell);
    } else {
        let mut whole = serde_json::to_value(Suggested::of(plan, None)).unwrap_or_default();
        whole["written"] = written.into();
        shell.answer(&whole.to_string());
    }
    Ok(code)
}

fn has_head(sources: &Sources) -> bool {
    sources.files().iter().any(|file| file.text.contains("[charter]"))
}

/// Writes all files beside where they belong before any takes its place.
fn write(into: &Path, files: &[SourceFile]) -> Result<(), Failure> {
    let failed = |path: &Path, error: std::io::Error| Failure::input(format!("{}: {error}", path.display()));
    std::fs::create_dir_all(into).map_err(|error| failed(into, error))?;
    let mut ready = Vec::new();
    for file in files {
        let path = into.join(&file.path);
        let mode = std::fs::metadata(&path).map_or(0o644, |known| known.permissions().mode());
        let mut text = tempfile::Builder::new()
            .permissions(std::fs::Permissions::from_mode(mode))
            .tempfile_in(into)
            .map_err(|error| failed(&path, error))?;
        std::io::Write::write_all(&mut text, file.text.as_bytes()).map_err(|error| failed(&path, error))?;
        ready.push((text, path));
    }
    for (text, path) in ready {
        text.persist(&path).map_err(|error| failed(&path, error.error))?;
    }
    Ok(())
}

fn tell(plan: &Plan, args: &Args, written: &[String], differs: bool, shell: &Shell) {
    for path in written {
        shell.answer(&format!("written     {}", args.into.join(path).display()));
    }
    match &plan.base {
        Base::Known(base) if base.is_empty() => {}
        Base::Known(base) => shell.answer(&format!("base        {base}")),
        Base::Unsaid => shell.answer("base        / (the document names no server; --base says otherwise)"),
        Base::Unknown(why) => shell.answer(&format!("base        / ({why}; --base says otherwise)")),
    }
    listed(shell, plan.open.iter().map(|one| format!("open        {one}")));
    if plan.known {
        let differences =
            plan.pieces.iter().filter(|piece| piece.standing != Standing::Same && piece.about != About::Note);
        listed(
            shell,
            differences.map(|piece| {
                let head = format!("{:<11} {} {}", piece.standing.word(), piece.about.word(), piece.key);
                match (&piece.now, piece.standing) {
                    (Some(now), Standing::Changed) => format!("{head}: now {now}"),
                    _ => head,
                }
            }),
        );
    }
    listed(shell, plan.left.iter().map(|left| format!("not mapped  {left}")));
    if !plan.known {
        for (guess, count) in plan.guesses() {
            let line = format!("guessed     {count:>5}  {}", guess.words());
            shell.answer(&shell.tone(Tone::Soft, &line));
        }
    }
    let missed = plan.operations - plan.mapped;
    let elsewhere = match plan.elsewhere() {
        0 => String::new(),
        count => format!(", {count} of them told apart by query, header or body alone"),
    };
    let counts = format!("{} of {} mapped", plan.mapped, counted(plan.operations, "operation"));
    let missed = if missed == 0 { String::new() } else { format!("; {missed} not{elsewhere}") };
    let rest = if plan.mapped == 0 {
        "; nothing is written".to_owned()
    } else if plan.known && args.only.is_empty() && differs {
        let (new, changed, gone) =
            (plan.standing(Standing::New), plan.standing(Standing::Changed), plan.standing(Standing::Gone));
        format!(
            "; {new} new, {changed} changed, {gone} gone: nothing is written without --only new, changed or gone"
        )
    } else if plan.known && !differs {
        "; nothing differs".to_owned()
    } else {
        String::new()
    };
    shell.notice(&format!("{counts}{missed}{rest}"));
}

fn listed(shell: &Shell, lines: impl Iterator<Item = String>) {
    let lines: Vec<String> = lines.collect();
    for line in lines.iter().take(SHOWN) {
        shell.answer(line);
    }
    if lines.len() > SHOWN {
        let more = format!("            and {} more: --output json has all", lines.len() - SHOWN);
        shell.answer(&shell.tone(Tone::Soft, &more));
    }
}
