//! Settings of the workspace: how changes are released, who operates, what is kept of decisions.

use crate::charter::syntax::{Field, Fields, parse_file};
use crate::names::is_key;
use crate::source::{Finding, Severity, SourceFile, Span};
use crate::value::{format_duration, parse_duration};
use jiff::SignedDuration;
use std::collections::{BTreeMap, BTreeSet};

/// Most approvals that can be asked for.
const MAX_APPROVALS: i64 = 9;

/// Settings of a workspace.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Settings {
    /// How changes are released.
    pub release: Release,
    /// Who operates.
    pub operators: Operators,
    /// What is kept of decisions.
    pub decisions: Decisions,
}

/// How changes are released. Unless somebody put settings, one person may work alone.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Release {
    /// How many others must approve.
    pub approvals: usize,
    /// Whether a rehearsal of exactly this text and these files must have passed.
    pub require_rehearsal: bool,
}

/// Who operates, besides keys.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Operators {
    /// By the name of a group that the issuer tells of, the rights of its members.
    pub groups: BTreeMap<String, Vec<Right>>,
    /// Operators on record.
    pub people: BTreeMap<String, Person>,
}

/// An operator on record.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Person {
    /// For people.
    pub name: String,
    /// How they sign in: issuer and `sub`, `port-id/ines`.
    pub sign_ins: BTreeSet<String>,
    /// What they may, besides what their groups let them.
    pub rights: Vec<Right>,
}

/// A role of operators, at a place.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Right {
    /// Its key.
    pub role: String,
    /// `everywhere`, or `tenant:id`.
    pub at: String,
}

/// Which decisions are kept.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub enum Log {
    /// None.
    None,
    /// Some.
    Sample,
    /// What was denied, and some of the rest.
    Denials,
    /// All of them.
    #[default]
    All,
}

impl Log {
    const WORDS: [(&'static str, Log); 4] =
        [("all", Log::All), ("denials", Log::Denials), ("sample", Log::Sample), ("none", Log::None)];
}

/// What is kept of decisions, and for how long.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Keeping {
    /// Which.
    pub log: Log,
    /// One in how many of what would not be kept else.
    pub sample: i64,
    /// For how long.
    pub keep: SignedDuration,
    /// Whether an answer waits until its record is safe.
    pub must_log: bool,
}

impl Default for Keeping {
    fn default() -> Keeping {
        Keeping { log: Log::All, sample: 100, keep: SignedDuration::from_hours(24 * 90), must_log: false }
    }
}

/// What is kept of decisions.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Decisions {
    /// Of all applications.
    pub all: Keeping,
    /// Of single ones.
    pub of: BTreeMap<String, Keeping>,
}

/// Reads settings. `roles` are the roles that operators may have.
pub fn read(file: &SourceFile, roles: &[&str]) -> (Settings, Vec<Finding>) {
    let mut findings = Vec::new();
    let toml = parse_file(0, file, &mut findings);
    let root = Fields::new(&toml, toml.root.get_ref(), Span::new(0, 0..0), "settings");
    root.only(&["release", "operators", "decisions"], &mut findings);
    let mut reader = Reader { findings: &mut findings, roles };
    let mut settings = Settings::default();
    if let Some(fields) = reader.table(&root, "release") {
        settings.release = reader.release(&fields);
    }
    if let Some(fields) = reader.table(&root, "operators") {
        settings.operators = reader.operators(&fields);
    }
    if let Some(fields) = reader.table(&root, "decisions") {
        settings.decisions = reader.decisions(&fields);
    }
    (settings, findings)
}

/// Whether none of what was found is an error.
pub fn is_whole(findings: &[Finding]) -> bool {
    findings.iter().all(|finding| finding.severity != Severity::Error)
}

struct Reader<'r> {
    findings: &'r mut Vec<Finding>,
    roles: &'r [&'r str],
}

impl Reader<'_> {
    fn error(&mut self, code: &'static str, span: Span, message: impl Into<String>) {
        self.findings.push(Finding::error(code, span, message));
    }

    fn table<'a, 's>(&mut self, fields: &Fields<'a, 's>, key: &str) -> Option<Fields<'a, 's>> {
        fields.get(key)?.table(&format!("[{key}]"), self.findings)
    }

    /// A whole number from one to another.
    fn number(&mut self, field: &Field<'_, '_>, what: &str, from: i64, to: i64) -> Option<i64> {
        let number = field.integer(self.findings)?;
        if (from..=to).contains(&number.value) {
            return Some(number.value);
        }
        let message = format!("{what} is from {from} to {to}, not {}", number.value);
        self.error("out-of-range", number.span, message);
        None
    }

    fn release(&mut self, fields: &Fields<'_, '_>) -> Release {
        fields.only(&["approvals", "require-rehearsal"], self.findings);
        let approvals = fields.get("approvals");
        let approvals =
            approvals.and_then(|field| self.number(&field, "the number of approvals", 0, MAX_APPROVALS));
        let required = fields.get("require-rehearsal").and_then(|field| field.boolean(self.findings));
        Release {
            // Whoever writes the section and leaves this out does not mean less.
            approvals: approvals.map_or(1, |number| usize::try_from(number).unwrap_or(1)),
            require_rehearsal: required.unwrap_or(true),
        }
    }

    fn operators(&mut self, fields: &Fields<'_, '_>) -> Operators {
        fields.only(&["groups", "people"], self.findings);
        let mut operators = Operators::default();
        let groups = fields.get("groups").and_then(|field| field.table("[operators.groups]", self.findings));
        for (name, field) in groups.iter().flat_map(Fields::entries) {
            let rights = self.rights(&field);
            operators.groups.insert(name.value, rights);
        }
        let people = fields.get("people").and_then(|field| field.table("[operators.people]", self.findings));
        let mut whose: BTreeMap<String, String> = BTreeMap::new();
        for (key, field) in people.iter().flat_map(Fields::entries) {
            if !is_key(&key.value) {
                let message = format!("{:?} is no key: small letters, digits and -", key.value);
                self.error("not-a-key", key.span, message);
            }
            let what = format!("[operators.people.{}]", key.value);
            let Some(fields) = field.table(&what, self.findings) else { continue };
            fields.only(&["name", "sign-ins", "roles"], self.findings);
            let name = fields.get("name").and_then(|field| field.text(self.findings));
            let mut person = Person {
                name: name.map_or_else(|| key.value.clone(), |name| name.value),
                ..Person::default()
            };
            let sign_ins = fields.get("sign-ins").map(|field| field.texts(self.findings)).unwrap_or_default();
            for sign_in in sign_ins {
                let parts = sign_in.value.split_once('/');
                if !parts.is_some_and(|(issuer, sub)| is_key(issuer) && !sub.is_empty()) {
                    let message =
                        format!("{:?} is no sign-in: an issuer's key, /, and the sub", sign_in.value);
                    self.error("not-a-sign-in", sign_in.span, message);
                } else if let Some(other) = whose.insert(sign_in.value.clone(), key.value.clone()) {
                    let message = format!("{} is {other}'s sign-in already", sign_in.value);
                    self.error("defined-twice", sign_in.span, message);
                }
                person.sign_ins.insert(sign_in.value);
            }
            if let Some(field) = fields.get("roles") {
                person.rights = self.rights(&field);
            }
            operators.people.insert(key.value, person);
        }
        operators
    }

    /// `"owner"`, `"reader@tenant:northline"`.
    fn rights(&mut self, field: &Field<'_, '_>) -> Vec<Right> {
        let mut rights = Vec::new();
        for text in field.texts(self.findings) {
            let (role, at) = text.value.split_once('@').unwrap_or((&text.value, "everywhere"));
            if !self.roles.contains(&role) {
                let finding = Finding::error(
                    "unknown-role",
                    text.span,
                    format!("there is no operator's role {role:?}"),
                );
                self.findings.push(finding.meant(role, self.roles.iter().copied()));
                continue;
            }
            if at != "everywhere" && !at.starts_with("tenant:") {
                let message = format!("{at:?} is no place of a right: everywhere, or tenant:id");
                self.error("not-a-place", text.span, message);
                continue;
            }
            rights.push(Right { role: role.to_owned(), at: at.to_owned() });
        }
        rights.sort();
        rights.dedup();
        rights
    }

    fn decisions(&mut self, fields: &Fields<'_, '_>) -> Decisions {
        let all = self.keeping(fields, &Keeping::default(), true);
        let mut of = BTreeMap::new();
        for (key, field) in fields.entries().filter(|(_, field)| field.is_table()) {
            let what = format!("[decisions.{}]", key.value);
            if let Some(fields) = field.table(&what, self.findings) {
                let keeping = self.keeping(&fields, &all, false);
                of.insert(key.value, keeping);
            }
        }
        Decisions { all, of }
    }

    fn keeping(&mut self, fields: &Fields<'_, '_>, unless: &Keeping, outer: bool) -> Keeping {
        const KEYS: [&str; 4] = ["log", "sample", "keep", "must-log"];
        let tables: Vec<String> = fields
            .entries()
            .filter(|(_, field)| outer && field.is_table())
            .map(|(key, _)| key.value)
            .collect();
        let known: Vec<&str> = KEYS.into_iter().chain(tables.iter().map(String::as_str)).collect();
        fields.only(&known, self.findings);
        let mut keeping = unless.clone();
        if let Some(word) = fields.get("log").and_then(|field| field.text(self.findings)) {
            match Log::WORDS.iter().find(|(known, _)| *known == word.value) {
                Some((_, log)) => keeping.log = *log,
                None => {
                    let message = format!("{:?} is not what can be kept", word.value);
                    let finding = Finding::error("unknown-value", word.span, message);
                    let words = Log::WORDS.map(|(word, _)| word);
                    self.findings
                        .push(finding.meant(&word.value, words).help("write all, denials, sample or none"));
                }
            }
        }
        if let Some(field) = fields.get("sample") {
            keeping.sample = self.number(&field, "sample", 1, 1_000_000).unwrap_or(keeping.sample);
        }
        if let Some(text) = fields.get("keep").and_then(|field| field.text(self.findings)) {
            match parse_duration(&text.value).filter(|keep| keep.is_positive()) {
                Some(keep) => keeping.keep = keep,
                None => self.error("wrong-shape", text.span, "keep is a stretch of time such as 90d"),
            }
        }
        if let Some(must) = fields.get("must-log").and_then(|field| field.boolean(self.findings)) {
            keeping.must_log = must;
        }
        keeping
    }
}

/// Why a change of settings is itself approved by another; nothing where it needs no approval.
pub fn weighty(before: &Settings, after: &Settings) -> Vec<String> {
    let mut all = Vec::new();
    if before.release.approvals != after.release.approvals {
        let (was, is) = (before.release.approvals, after.release.approvals);
        all.push(format!("[release] approvals from {was} to {is}"));
    }
    if before.release.require_rehearsal != after.release.require_rehearsal {
        let word = if after.release.require_rehearsal { "required" } else { "not required any more" };
        all.push(format!("[release] a rehearsal is {word}"));
    }
    if before.operators != after.operators {
        all.push("[operators] who operates, and what they may".to_owned());
    }
    let applications: BTreeSet<Option<&String>> =
        before.decisions.of.keys().chain(after.decisions.of.keys()).map(Some).chain([None]).collect();
    for application in applications {
        fn of<'s>(settings: &'s Settings, application: Option<&String>) -> &'s Keeping {
            let own = application.and_then(|application| settings.decisions.of.get(application));
            own.unwrap_or(&settings.decisions.all)
        }
        let (was, is) = (of(before, application), of(after, application));
        let name = application.map_or_else(|| "[decisions]".to_owned(), |key| format!("[decisions.{key}]"));
        // What every answer waits for is all of them, whatever else is said.
        let log = |keeping: &Keeping| if keeping.must_log { Log::All } else { keeping.log };
        if log(is) < log(was) || (log(is) == log(was) && log(is) != Log::All && is.sample > was.sample) {
            all.push(format!("{name} less is kept"));
        }
        if was.must_log && !is.must_log {
            all.push(format!("{name} answers wait for their record no more"));
        }
        if is.keep < was.keep {
            let (was, is) = (format_duration(was.keep), format_duration(is.keep));
            all.push(format!("{name} kept for {is}, not for {was}"));
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::source::Sources;
    use rstest::rstest;

    const ROLES: [&str; 3] = ["owner", "reader", "approver"];

    fn of(text: &str) -> (Settings, Vec<String>) {
        let file = SourceFile { path: "settings.toml".to_owned(), text: text.to_owned() };
        let (settings, findings) = read(&file, &ROLES);
        let sources = Sources::new(vec![file]);
        let told =
            findings.iter().map(|finding| format!("{}  {}", sources.place(finding.span), finding.message));
        (settings, told.collect())
    }

    #[test]
    fn what_is_written_is_what_is_meant() {
        let (settings, findings) = of(r#"
[release]
approvals = 2
require-rehearsal = false
[decisions]
log = "denials"
sample = 10
keep = "30d"
[decisions.customs]
must-log = true
[operators]
groups."Platform security" = ["owner"]
[operators.people.ines]
name = "Ines"
sign-ins = ["port-id/ines"]
roles = ["reader@tenant:northline", "approver"]
"#);
        assert_eq!(findings, Vec::<String>::new());
        assert_eq!(settings.release, Release { approvals: 2, require_rehearsal: false });
        assert_eq!(settings.decisions.of["customs"].log, Log::Denials);
        assert!(settings.decisions.of["customs"].must_log && !settings.decisions.all.must_log);
        let ines = &settings.operators.people["ines"];
        assert_eq!(
            ines.rights.iter().map(|right| right.at.as_str()).collect::<Vec<_>>(),
            ["everywhere", "tenant:northline"]
        );
        assert_eq!(settings.operators.groups["Platform security"][0].role, "owner");
    }

    #[rstest]
    #[case(
        "[release]\napprovals = 10\n",
        "settings.toml:2:13  the number of approvals is from 0 to 9, not 10"
    )]
    #[case(
        "[release]\napproval = 1\n",
        "settings.toml:2:1  unknown key \"approval\" in [release]; did you mean \"approvals\"?"
    )]
    #[case(
        "[relaese]\n",
        "settings.toml:1:2  unknown key \"relaese\" in settings; did you mean \"release\"?"
    )]
    #[case("[decisions]\nlog = \"some\"\n", "settings.toml:2:7  \"some\" is not what can be kept")]
    #[case("[decisions]\nkeep = \"-1d\"\n", "settings.toml:2:8  keep is a stretch of time such as 90d")]
    #[case(
        "[operators]\ngroups.a = [\"ownr\"]\n",
        "settings.toml:2:13  there is no operator's role \"ownr\"; did you mean \"owner\"?"
    )]
    #[case(
        "[operators.people]\na = { sign-ins = [\"i/1\"] }\nb = { sign-ins = [\"i/1\"] }\n",
        "settings.toml:3:19  i/1 is a's sign-in already"
    )]
    #[case(
        "[operators.people.a]\nsign-ins = [\"ines\"]\n",
        "settings.toml:2:13  \"ines\" is no sign-in: an issuer's key, /, and the sub"
    )]
    fn mistakes_are_told_with_their_place(#[case] text: &str, #[case] message: &str) {
        assert_eq!(of(text).1, [message]);
    }

    #[rstest]
    #[case("", "", 0)]
    #[case("[release]\napprovals = 0\nrequire-rehearsal = false\n", "", 0)]
    #[case("[release]\n", "", 2)]
    #[case("", "[release]\napprovals = 1\nrequire-rehearsal = false\n", 1)]
    #[case("", "[decisions]\nlog = \"denials\"\n", 1)]
    #[case("[decisions]\nlog = \"denials\"\n", "", 0)]
    #[case("", "[decisions]\nkeep = \"89d\"\n", 1)]
    #[case("", "[decisions]\nkeep = \"91d\"\n", 0)]
    #[case("", "[decisions.customs]\nlog = \"none\"\n", 1)]
    #[case("[decisions]\nlog=\"sample\"\nsample=10\n", "[decisions]\nlog=\"sample\"\nsample=11\n", 1)]
    #[case("[decisions]\nmust-log=true\n", "", 1)]
    #[case("", "[operators]\ngroups.a = [\"reader\"]\n", 1)]
    fn what_weighs_is_approved_by_another(#[case] before: &str, #[case] after: &str, #[case] many: usize) {
        let found = weighty(&of(before).0, &of(after).0);
        assert_eq!(found.len(), many, "{found:?}");
    }
}
