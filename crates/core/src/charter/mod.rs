//! A charter from its files to the tables decisions are made on:
//! [`syntax`] (as written) → [`check`] (as meant) → [`model`] → [`policy`] (dense tables).

pub mod check;
pub mod compare;
pub mod edit;
pub mod grid;
pub mod model;
pub mod outline;
pub mod policy;
pub mod print;
pub mod syntax;
pub mod tidy;

use crate::source::{Digest, Finding, Severity, Sources};
use policy::Policy;

/// The number of the format this version reads.
pub const FORMAT: u64 = 1;

/// What reading a charter gave: all findings, and the policy if none of them is an error.
#[derive(Debug)]
pub struct Reading {
    /// Sorted by place; no finding twice.
    pub findings: Vec<Finding>,
    /// There only if no finding is an error.
    pub policy: Option<Policy>,
}

impl Reading {
    /// How many findings are errors.
    pub fn errors(&self) -> usize {
        self.findings.iter().filter(|finding| finding.severity == Severity::Error).count()
    }
}

/// Reads, checks and compiles a charter.
///
/// Never fails: what is wrong is in [`Reading::findings`]. Time and memory are bounded by the
/// limits on files ([`crate::source`]) and on conditions ([`check::typing`]).
pub fn read(sources: &Sources) -> Reading {
    let mut findings = Vec::new();
    let tree = syntax::read(sources, &mut findings);
    let model = check::check(&tree, sources, &mut findings);
    findings.sort_by(|a, b| (a.span, a.severity, &a.message).cmp(&(b.span, b.severity, &b.message)));
    findings.dedup_by(|a, b| a.span == b.span && a.message == b.message);
    let policy = model.map(|model| Policy::compile(model, sources.clone()));
    Reading { findings, policy }
}

/// The digest of a charter: what approvals and revisions name.
pub fn digest(sources: &Sources) -> Digest {
    sources.digest(FORMAT)
}
