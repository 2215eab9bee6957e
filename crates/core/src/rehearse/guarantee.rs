//! Guarantees as a rehearsal writes them, and what became of them.

use super::{Rehearsal, write};
use crate::charter::check::condition_beside;
use crate::charter::model::{Condition, PermId};
use crate::charter::policy::Policy;
use crate::charter::syntax::condition::Expr;
use crate::decide::explain::explain;
use crate::decide::with_scratch;
use crate::prove::{self, Claim, Example, Verdict};
use crate::source::{At, Finding, Severity, Sources, Span};
use serde::Serialize;
use serde_json::{Map, Value, json};
use std::sync::Arc;

/// A guarantee, as written.
#[derive(Clone, Debug)]
pub struct Guarantee {
    /// A sentence.
    pub name: String,
    /// What it claims.
    pub(super) claim: Claimed,
    /// Of which requests.
    pub(super) when: Option<At<Written>>,
    /// What it takes for granted.
    pub(super) assume: Option<At<Written>>,
    /// Where it stands.
    pub(super) span: Span,
}

/// A claim, its permissions as texts.
#[derive(Clone, Debug)]
pub(super) enum Claimed {
    Never(At<String>),
    Always(At<String>),
    Alike(At<String>, At<String>),
}

/// A condition, as parsed and as it stands there.
#[derive(Clone, Debug)]
pub(super) struct Written {
    pub expr: Expr,
    pub text: String,
}

/// What became of a guarantee, in one word.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// No request there can be breaks it.
    Proved,
    /// One does.
    Refuted,
    /// It was not settled.
    Undecided,
    /// No request fits it.
    Vacuous,
}

impl Outcome {
    /// The word.
    pub fn word(self) -> &'static str {
        match self {
            Outcome::Proved => "proved",
            Outcome::Refuted => "refuted",
            Outcome::Undecided => "undecided",
            Outcome::Vacuous => "vacuous",
        }
    }
}

/// One guarantee.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct GuaranteeReport {
    /// Its sentence.
    pub name: String,
    /// Where it stands.
    pub place: String,
    /// What it claims: `never manifest:release`.
    pub claim: String,
    /// Of which requests.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub when: Option<String>,
    /// What it takes for granted.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub assume: Option<String>,
    /// What became of it.
    pub outcome: Outcome,
    /// Why it was not settled, or says nothing.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// A request that breaks it, told as sentences.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub told: Vec<String>,
    /// The same as samples and a case of a rehearsal.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sample: Option<String>,
}

impl GuaranteeReport {
    /// Whether it holds.
    pub fn holds(&self) -> bool {
        self.outcome == Outcome::Proved
    }
}

impl Rehearsal {
    /// Every guarantee with its conditions typed for a charter.
    ///
    /// # Errors
    /// Findings in the guarantees: unknown permissions, conditions that have no meaning.
    pub fn checked(&self, policy: &Policy, sources: &Sources) -> Result<Vec<prove::Guarantee>, Vec<Finding>> {
        let mut findings = Vec::new();
        let checked: Vec<Option<prove::Guarantee>> =
            self.guarantees.iter().map(|one| one.check(policy, sources, &mut findings)).collect();
        if findings.iter().any(|finding| finding.severity == Severity::Error) {
            return Err(findings);
        }
        // Whatever could not be checked has left a finding.
        Ok(checked.into_iter().flatten().collect())
    }

    /// Settles every guarantee, one after the other; `settled` is told of each, and `go_on` asked
    /// from time to time: where it says no, the rest stays undecided.
    ///
    /// # Errors
    /// As [`Rehearsal::checked`]; then none is settled.
    pub fn settle(
        &self,
        policy: &Arc<Policy>,
        sources: &Sources,
        go_on: &dyn Fn() -> bool,
        settled: &mut dyn FnMut(&GuaranteeReport),
    ) -> Result<Vec<GuaranteeReport>, Vec<Finding>> {
        let checked = self.checked(policy, sources)?;
        let mut reports = Vec::new();
        for (written, checked) in self.guarantees.iter().zip(checked) {
            let verdict = prove::settle(policy, &checked, go_on);
            let report = written.report(policy, sources, &checked, verdict);
            settled(&report);
            reports.push(report);
        }
        Ok(reports)
    }
}

impl Guarantee {
    fn check(
        &self,
        policy: &Policy,
        sources: &Sources,
        findings: &mut Vec<Finding>,
    ) -> Option<prove::Guarantee> {
        let mut permission = |text: &At<String>| permission(policy, text, findings);
        let claim = match &self.claim {
            Claimed::Never(text) => Claim::Never(permission(text)?),
            Claimed::Always(text) => Claim::Always(permission(text)?),
            Claimed::Alike(a, b) => {
                let (first, second) = (permission(a), permission(b));
                let (first, second) = (first?, second?);
                let kind = |id: PermId| policy.model().permissions[id.index()].kind;
                if kind(first) != kind(second) {
                    let message = "alike compares two permissions of one resource type";
                    findings.push(Finding::error("types-differ", b.span, message));
                    return None;
                }
                Claim::Alike(first, second)
            }
        };
        let kind = policy.model().permissions[claim.permission().index()].kind;
        let mut condition = |written: &Option<At<Written>>| -> Option<Option<Condition>> {
            let Some(written) = written else { return Some(None) };
            Some(Some(condition_beside(policy, kind, &written.value.expr, sources, findings)?))
        };
        let (when, assume) = (condition(&self.when), condition(&self.assume));
        Some(prove::Guarantee { claim, when: when?, assume: assume? })
    }

    pub(super) fn claim(&self) -> String {
        match &self.claim {
            Claimed::Never(text) => format!("never {}", text.value),
            Claimed::Always(text) => format!("always {}", text.value),
            Claimed::Alike(a, b) => format!("alike {} and {}", a.value, b.value),
        }
    }

    fn report(
        &self,
        policy: &Arc<Policy>,
        sources: &Sources,
        checked: &prove::Guarantee,
        verdict: Verdict,
    ) -> GuaranteeReport {
        let text = |written: &Option<At<Written>>| written.as_ref().map(|written| written.value.text.clone());
        let mut report = GuaranteeReport {
            name: self.name.clone(),
            place: sources.place(self.span).to_string(),
            claim: self.claim(),
            when: text(&self.when),
            assume: text(&self.assume),
            outcome: Outcome::Proved,
            why: None,
            told: Vec::new(),
            sample: None,
        };
        match verdict {
            Verdict::Proved => {}
            Verdict::Undecided(why) => (report.outcome, report.why) = (Outcome::Undecided, Some(why)),
            Verdict::Vacuous => {
                report.outcome = Outcome::Vacuous;
                report.why = Some("no request can be what it speaks of, so that it says nothing".to_owned());
            }
            Verdict::Refuted(example) => {
                report.outcome = Outcome::Refuted;
                report.told = told(&example, policy, checked.claim);
                report.sample = Some(sample(&example, policy, checked.claim, &self.name));
            }
        }
        report
    }
}

fn permission(policy: &Policy, text: &At<String>, findings: &mut Vec<Finding>) -> Option<PermId> {
    let found = policy.permission(&text.value);
    if found.is_none() {
        let known = policy.model().permissions.iter().map(|permission| permission.text.as_str());
        let message = format!("unknown permission {:?}", text.value);
        findings.push(Finding::error("unknown-permission", text.span, message).meant(&text.value, known));
    }
    found
}

/// The permissions an example is about.
fn permissions(policy: &Policy, claim: Claim) -> Vec<String> {
    let text = |id: PermId| policy.model().permissions[id.index()].text.clone();
    match claim {
        Claim::Never(id) | Claim::Always(id) => vec![text(id)],
        Claim::Alike(a, b) => vec![text(a), text(b)],
    }
}

/// What the engine says of an example, permission by permission; then the facts it rests on.
fn told(example: &Example, policy: &Arc<Policy>, claim: Claim) -> Vec<String> {
    let Some(world) = example.world(policy) else { return Vec::new() };
    let mut told: Vec<String> = permissions(policy, claim)
        .into_iter()
        .filter_map(|permission| {
            let mut request = example.request.clone();
            request.permission.clone_from(&permission);
            let asked = request.resolve(world.engine(), example.now).ok()?;
            let (_, found) = with_scratch(|scratch| explain(world.engine(), &asked, scratch));
            let on = request.resource.as_deref().unwrap_or("a new one");
            let word = if found.allowed { "may" } else { "may not" };
            Some(format!("{} {word} {permission} on {on}: {}", request.subject, found.sentence))
        })
        .collect();
    told.extend(example.lines.iter().map(in_words));
    for (of, said) in
        [("the subject", &example.request.of_subject), ("the resource", &example.request.of_resource)]
    {
        told.extend(
            said.iter().map(|(key, value)| format!("the request says of {of}: {key} = {}", plain(value))),
        );
    }
    told.extend(
        example
            .request
            .context
            .iter()
            .map(|(key, value)| format!("the context says: {key} = {}", plain(value))),
    );
    told.push(format!("it is {}", example.now));
    told
}

fn plain(value: &Value) -> String {
    match value {
        Value::String(text) => text.clone(),
        Value::Array(all) => all.iter().map(plain).collect::<Vec<_>>().join(", "),
        other => other.to_string(),
    }
}

/// A register line as a sentence.
fn in_words(line: &Value) -> String {
    if let Some(grant) = line.get("grant") {
        let values = grant.get("values").and_then(Value::as_object).map_or_else(String::new, |values| {
            values.iter().map(|(key, value)| format!(", {key} {}", plain(value))).collect()
        });
        return format!(
            "{} is granted to {} at {}{values}",
            plain(&grant["role"]),
            plain(&grant["to"]),
            plain(&grant["at"])
        );
    }
    if let Some(role) = line.get("tenant-role") {
        return format!(
            "tenant:{} has made a role of {}",
            plain(&role["tenant"]),
            plain(&role["permissions"])
        );
    }
    if let Some(active) = line.get("activation") {
        return format!("{} has activated {}", plain(&active["subject"]), plain(&active["grant"]));
    }
    let name = plain(&line["entity"]);
    let mut parts = Vec::new();
    for (key, value) in line.as_object().into_iter().flatten().filter(|(key, _)| *key != "entity") {
        match (key.as_str(), value) {
            ("within", value) => parts.push(format!("lies within {}", plain(value))),
            ("detached", _) => parts.push("is detached".to_owned()),
            ("tenant", value) => parts.push(format!("belongs to tenant:{}", plain(value))),
            ("tenants", value) => parts.push(format!("is a member of {}", plain(value))),
            ("members", value) => parts.push(format!("has as members {}", plain(value))),
            (_, Value::Object(said)) => {
                parts.extend(said.iter().map(|(key, value)| format!("has {key} {}", plain(value))));
            }
            _ => {}
        }
    }
    if parts.is_empty() { format!("{name} is there") } else { format!("{name} {}", parts.join(", ")) }
}

/// An example as a rehearsal: samples, and a case that says what the guarantee wants.
fn sample(example: &Example, policy: &Policy, claim: Claim, name: &str) -> String {
    let mut samples: Map<String, Value> = Map::new();
    let mut beside = Vec::new();
    let mut active: Vec<&str> = Vec::new();
    for line in &example.lines {
        if let Some(activation) = line.get("activation") {
            active.extend(activation["grant"].as_str());
        }
    }
    for line in &example.lines {
        if let Some(entity) = line.get("entity").and_then(Value::as_str) {
            let mut said = line.as_object().cloned().unwrap_or_default();
            said.shift_remove("entity");
            samples.insert(entity.to_owned(), Value::Object(said));
        } else if line.get("tenant-role").is_some() {
            beside.push(format!("# beside these, a tenant's own role: {line}"));
        }
    }
    for grant in example.lines.iter().filter_map(|line| line.get("grant")) {
        let mut held = grant.as_object().cloned().unwrap_or_default();
        let id = held.shift_remove("id");
        let to = held.shift_remove("to");
        if id.as_ref().and_then(Value::as_str).is_some_and(|id| active.contains(&id)) {
            held.insert("active".to_owned(), Value::Bool(true));
        }
        let holder = to.as_ref().and_then(Value::as_str).and_then(|to| samples.get_mut(to));
        if let Some(Value::Object(holder)) = holder {
            let grants = holder.entry("grants").or_insert_with(|| json!([]));
            if let Some(grants) = grants.as_array_mut() {
                grants.push(Value::Object(held));
            }
        }
    }
    let permissions = permissions(policy, claim);
    let request = &example.request;
    if let Some(resource) = request.resource.as_ref().filter(|resource| !samples.contains_key(*resource)) {
        beside.push(format!("# {resource} is asked about without being registered"));
    }
    let mut case = json!({ "name": name, "as": request.subject });
    if let Some(resource) = &request.resource {
        case["on"] = resource.as_str().into();
    }
    match claim {
        Claim::Never(_) => case["may-not"] = json!(permissions),
        Claim::Always(_) | Claim::Alike(..) => case["may"] = json!(permissions),
    }
    if !request.context.is_empty() {
        case["context"] = Value::Object(request.context.clone());
    }
    if !request.of_subject.is_empty() || !request.of_resource.is_empty() {
        case["properties"] = json!({ "subject": request.of_subject, "resource": request.of_resource });
    }
    let mut head = Map::new();
    head.insert("now".to_owned(), example.now.to_string().into());
    let text = write(&head, &samples, &[case]);
    beside.into_iter().map(|line| line + "\n").collect::<String>() + &text
}
