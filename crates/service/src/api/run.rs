//! One run of a rehearsal: what it needs, and what it finds.

use super::cases;
use crate::jobs::Job;
use crate::node::release::for_all;
use jiff::Timestamp;
use ostrog_core::prelude::{InForce, Policy, Register, SourceFile, Sources};
use ostrog_core::rehearse::{Rehearsal, read};
use ostrog_core::release::accept::{First, Item, of_guarantee, of_shift};
use ostrog_core::shift::{Only, between};
use ostrog_core::source::{Finding, Severity};
use ostrog_report::{Against, Rehearsed, html, junit};
use ostrog_store::rehearsal::Found;
use ostrog_wire::rehearsals::RehearsalFile;
use serde_json::{Value, json};
use std::cell::Cell;
use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// How long each guarantee may take; past it, it is undecided.
const BUDGET: Duration = Duration::from_secs(20);

/// The files of a rehearsal.
pub fn sources(files: &[RehearsalFile]) -> Sources {
    Sources::new(
        files.iter().map(|file| SourceFile { path: file.path.clone(), text: file.text.clone() }).collect(),
    )
}

/// Cases that were kept from trying, as a file of a rehearsal over the register.
pub fn kept(cases: &[Value]) -> Sources {
    Sources::single("kept.toml", &cases::file(cases))
}

/// What is wrong with files, a line for each.
pub fn told(sources: &Sources, findings: &[Finding]) -> Vec<String> {
    findings.iter().map(|finding| format!("{}  {}", sources.place(finding.span), finding.message)).collect()
}

/// One run, with all it needs.
pub struct Beside {
    /// For a person: `live, revision 42`.
    pub of: String,
    /// The digest of what was put live last.
    pub charter: String,
    /// What is live, for each application.
    pub before: InForce,
    /// The text, live for all of them.
    pub after: InForce,
    /// Users who operate or edit.
    pub people: BTreeSet<String>,
}

/// One run.
pub struct Run {
    /// The rehearsal's files.
    pub files: Sources,
    /// Cases that were kept from trying.
    pub kept: Sources,
    /// Only cases and guarantees whose name contains this.
    pub only: Option<String>,
    /// What is rehearsed.
    pub policy: Arc<Policy>,
    /// What it is compared with, and its name.
    pub against: Option<Beside>,
    /// The register.
    pub facts: Register,
    /// Which text it is.
    pub of: String,
    /// How far it is.
    pub job: Arc<Job>,
}

impl Run {
    /// What it finds.
    ///
    /// # Errors
    /// What is wrong with its files.
    pub fn found(self) -> Result<Found, String> {
        let found = self.rehearsed()?;
        // What approvers rely on is whole: nothing narrowed, nothing broken off.
        let whole = self.job.goes_on()
            && self.only.is_none()
            && found.shift.as_ref().is_some_and(|shift| shift.unexamined.is_empty());
        Ok(Found {
            moved: if whole { json!(self.items(&found)) } else { Value::Null },
            holds: found.holds() && self.job.goes_on(),
            words: match self.job.goes_on() {
                true => found.in_words(),
                false => format!("stopped: {}", found.in_words()),
            },
            report: serde_json::to_value(&found).map_err(|error| error.to_string())?,
            page: html(&found),
            junit: junit(&found),
        })
    }

    /// What approvers of the text must each accept.
    fn items(&self, found: &Rehearsed) -> Vec<Item> {
        let (Some(shift), Some(beside)) = (&found.shift, &self.against) else { return Vec::new() };
        let first = First { people: &beside.people, for_all: &|reason| for_all(&beside.after, reason) };
        let mut items = of_shift(shift, first);
        let broken = found.guarantees.iter().filter(|guarantee| !guarantee.holds());
        items.extend(broken.map(|guarantee| {
            let told = guarantee.why.iter().chain(&guarantee.told).cloned().collect();
            of_guarantee(&guarantee.name, guarantee.outcome.word(), told)
        }));
        items
    }

    fn read(&self, sources: &Sources) -> Result<Rehearsal, String> {
        let mut findings = Vec::new();
        let rehearsal = read(sources, &mut findings);
        if findings.iter().any(|finding| finding.severity == Severity::Error) {
            return Err(told(sources, &findings).join("\n"));
        }
        Ok(rehearsal)
    }

    fn rehearsed(&self) -> Result<Rehearsed, String> {
        let now = Timestamp::now();
        let go_on = || self.job.goes_on();
        let (mut written, mut kept) = (self.read(&self.files)?, self.read(&self.kept)?);
        if let Some(only) = &self.only {
            let found = [&mut written, &mut kept].map(|part| part.narrow(only));
            if found == [false, false] {
                return Err(format!("no case's and no guarantee's name contains {only:?}"));
            }
        }
        self.job.does("asking the cases");
        let failed = |sources: &Sources| {
            let sources = sources.clone();
            move |findings: Vec<Finding>| told(&sources, &findings).join("\n")
        };
        let checked = written.checked(&self.policy, &self.files).map_err(failed(&self.files))?;
        let report =
            written.run(&self.policy, self.facts.clone(), &self.files, now).map_err(failed(&self.files))?;
        let over = kept.run(&self.policy, self.facts.clone(), &self.kept, now).map_err(failed(&self.kept))?;
        self.job.does("settling the guarantees");
        let all = written.guarantees.len();
        self.job.is_at(0, all);
        // Each claim has its own time.
        let (began, settled) = (Cell::new(Instant::now()), Cell::new(0));
        let in_time = || go_on() && began.get().elapsed() < BUDGET;
        let guarantees = written
            .settle(&self.policy, &self.files, &in_time, &mut |_| {
                began.set(Instant::now());
                settled.set(settled.get() + 1);
                self.job.is_at(settled.get(), all);
            })
            .map_err(failed(&self.files))?;
        self.job.does("leaving parts out");
        let seen = (&report.cases[..], &checked[..]);
        let (parts, tried) = (self.policy.parts().len(), Cell::new(0));
        let next_part = || {
            self.job.is_at(tried.replace(tried.get() + 1), parts);
            go_on()
        };
        let coverage = written.coverage(&self.policy, &self.facts, &self.files, now, seen, &next_part);
        self.job.does("who gains and who loses");
        let moved = self.against.as_ref().map(|beside| {
            between(&beside.before, &beside.after, now, &Only::default(), &mut |progress| {
                let (done, of) = progress.in_thousandths();
                self.job.is_at(done, of);
                go_on()
            })
        });
        Ok(Rehearsed {
            version: env!("CARGO_PKG_VERSION").to_owned(),
            at: now.to_string(),
            name: self.policy.model().name.clone(),
            of: self.of.clone(),
            charter: report.charter,
            against: self
                .against
                .as_ref()
                .map(|beside| Against { of: beside.of.clone(), charter: beside.charter.clone() }),
            cases: report.cases.into_iter().chain(over.cases).collect(),
            guarantees,
            shift: moved,
            coverage,
        })
    }
}
