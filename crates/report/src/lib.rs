//! What a rehearsal found, in the forms it is handed on: [`Rehearsed`] is written as JSON as it
//! stands, [`junit`] for pipelines, [`html`] for reviewers: one page that needs no network.

mod html;
mod junit;

pub use html::html;
pub use junit::junit;

use ostrog_core::rehearse::{CaseReport, Coverage, GuaranteeReport, Outcome};
use ostrog_core::shift::Shift;
use serde::Serialize;

/// Everything a rehearsal found.
#[derive(Clone, Debug, Default, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Rehearsed {
    /// The program's version.
    pub version: String,
    /// The moment of the run.
    pub at: String,
    /// What the charter calls itself.
    pub name: String,
    /// Which text was rehearsed, for a person: a folder, a draft.
    pub of: String,
    /// Its digest.
    pub charter: String,
    /// What it was held against, and the digest of that.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub against: Option<Against>,
    /// Every case, in order.
    pub cases: Vec<CaseReport>,
    /// Every guarantee, in order.
    pub guarantees: Vec<GuaranteeReport>,
    /// Who gains and who loses.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub shift: Option<Shift>,
    /// What nothing looks at.
    pub coverage: Coverage,
}

/// The other side of a shift.
#[derive(Clone, Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Against {
    /// For a person: `live, revision 42`, a folder.
    pub of: String,
    /// The digest of its text.
    pub charter: String,
}

impl Rehearsed {
    /// How many cases passed.
    pub fn passed(&self) -> usize {
        self.cases.iter().filter(|case| case.passed).count()
    }

    /// How many guarantees came to this.
    pub fn settled(&self, outcome: Outcome) -> usize {
        self.guarantees.iter().filter(|one| one.outcome == outcome).count()
    }

    /// Whether every case passed and every guarantee is proved.
    pub fn holds(&self) -> bool {
        self.cases.iter().all(|case| case.passed) && self.guarantees.iter().all(GuaranteeReport::holds)
    }

    /// `31 of 32 cases pass, 4 guarantees proved, 1 refuted, 3 gain, 1 loses`
    pub fn in_words(&self) -> String {
        let mut parts = vec![format!("{} of {} pass", self.passed(), counted(self.cases.len(), "case"))];
        if !self.guarantees.is_empty() {
            parts.push(format!("{} proved", counted(self.settled(Outcome::Proved), "guarantee")));
            for outcome in [Outcome::Refuted, Outcome::Undecided, Outcome::Vacuous] {
                let count = self.settled(outcome);
                if count > 0 {
                    parts.push(format!("{count} {}", outcome.word()));
                }
            }
        }
        parts.extend(self.shift.as_ref().map(Shift::in_words));
        parts.join(", ")
    }
}

/// `1 case`, `2 cases`
fn counted(count: usize, what: &str) -> String {
    format!("{count} {what}{}", if count == 1 { "" } else { "s" })
}
