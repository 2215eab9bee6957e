//! What is to be said of a text that is not live: its errors, its differences, and facts that do not fit.

use crate::App;
use crate::lanes::Ticket;
use crate::node::gate::{Scope, Texts};
use crate::problem::Problem;
use ostrog_core::charter;
use ostrog_core::charter::compare::{Difference, compare};
use ostrog_core::charter::policy::Policy;
use ostrog_core::register::against;
use ostrog_core::source::{Finding, Severity, SourceFile, Sources, Span};
use ostrog_wire::charter::{ChangeOfText, FindingShown, Range, Standing};

/// Most findings, and facts that do not fit, that are told.
const MAX_FINDINGS: usize = 1_000;
const MAX_UNFIT: usize = 100;

/// How a text that began from a revision stands beside what is live, worked out beside the threads that
/// answer decisions.
///
/// # Errors
/// If the caller may not read texts, or it takes too long.
pub async fn of(app: &App, scope: &Scope, sources: Sources, base: Option<i64>) -> Result<Standing, Problem> {
    scope.texts()?;
    let (key, scope) = (scope.key_id().to_owned(), scope.clone());
    let work = move |ticket: &Ticket| {
        let reading = charter::read(&sources);
        standing(scope.texts()?, &sources, (&reading.findings, reading.policy.as_ref()), base, ticket)
    };
    app.node.lanes.questions.run(&key, super::PATIENCE, work).await
}

/// What is to be said of a text that was read.
///
/// # Errors
/// If it takes too long, or nobody waits for it any more.
pub fn standing(
    texts: Texts<'_>,
    sources: &Sources,
    (findings, policy): (&[Finding], Option<&Policy>),
    base: Option<i64>,
    ticket: &Ticket,
) -> Result<Standing, Problem> {
    let units = Units::new(sources);
    let findings =
        findings.iter().take(MAX_FINDINGS).map(|finding| shown(finding, sources, &units)).collect();
    let live = texts.live();
    let fits = base == live.map(|(info, _)| info.number);
    let mut standing = Standing { findings, fits, changes: Vec::new(), unfit: Vec::new() };
    if let (Some(policy), Some((_, live))) = (policy, live) {
        goes_on(ticket)?;
        standing.changes = compare(live, policy).into_iter().map(difference).collect();
        if let Some(facts) = texts.facts() {
            let mut go_on = || ticket.goes_on();
            standing.unfit = against::unfit(policy, facts, MAX_UNFIT, &mut go_on);
            goes_on(ticket)?;
        }
    }
    Ok(standing)
}

fn goes_on(ticket: &Ticket) -> Result<(), Problem> {
    if ticket.goes_on() {
        return Ok(());
    }
    Err(Problem::timeout(
        "Holding the text against all facts takes too long; try again when there is less to do.",
    ))
}

fn difference(difference: Difference) -> ChangeOfText {
    ChangeOfText {
        about: difference.about.into(),
        key: difference.key,
        words: difference.words,
        effect: difference.effect.word().into(),
    }
}

fn shown(finding: &Finding, sources: &Sources, units: &Units<'_>) -> FindingShown {
    FindingShown {
        at: sources.place(finding.span).to_string(),
        range: units.range(finding.span),
        severity: if finding.severity == Severity::Error { "error" } else { "warning" }.into(),
        code: finding.code.into(),
        message: finding.message.clone(),
        help: finding.help.clone(),
        fix: fix(sources.text(finding.span), finding),
    }
}

/// The text of a place with the name that was likely meant.
fn fix(text: &str, finding: &Finding) -> Option<String> {
    let meant = finding.meant.as_ref()?;
    let once = text.matches(meant.written.as_str()).count() == 1;
    once.then(|| text.replacen(&meant.written, &meant.known, 1))
}

/// Where lines begin, in bytes and in UTF-16 units as editors count: a place is found without counting
/// from the top.
pub struct Units<'s> {
    sources: &'s Sources,
    lines: Vec<Vec<(usize, usize)>>,
}

impl<'s> Units<'s> {
    /// Counts each file once.
    pub fn new(sources: &'s Sources) -> Self {
        let count = |file: &SourceFile| {
            let mut at = (0, 0);
            let mut lines = vec![at];
            for line in file.text.split_inclusive('\n') {
                at = (at.0 + line.len(), at.1 + line.encode_utf16().count());
                lines.push(at);
            }
            lines
        };
        Units { sources, lines: sources.files().iter().map(count).collect() }
    }

    /// Where a span stands.
    pub fn range(&self, span: Span) -> Range {
        let at = span.file as usize;
        let (Some(file), Some(lines)) = (self.sources.files().get(at), self.lines.get(at)) else {
            return Range { path: String::new(), start: 0, end: 0 };
        };
        let units = |byte: u32| {
            let byte = byte as usize;
            let line = lines.partition_point(|(start, _)| *start <= byte).saturating_sub(1);
            let (start, units) = lines.get(line).copied().unwrap_or_default();
            units + file.text.get(start..byte).map_or(0, |before| before.encode_utf16().count())
        };
        Range { path: file.path.clone(), start: units(span.start), end: units(span.end) }
    }
}
