//! Rehearsals: sample entities and cases, run against a charter before anybody relies on it.
//!
//! [`read`] turns files into a [`Rehearsal`]; [`Rehearsal::run`] asks every case,
//! [`Rehearsal::settle`] settles every guarantee; both report.

mod coverage;
mod file;
mod guarantee;
mod table;
mod weaker;
mod write;

pub use coverage::Coverage;
pub use file::read;
pub use guarantee::{Guarantee, GuaranteeReport, Outcome};
pub use weaker::{Weaker, weaker};
pub use write::write;

use crate::charter::policy::Policy;
use crate::charter::syntax::Effect;
use crate::decide::bearer::{Bearer, Token};
use crate::decide::explain::{Explanation, explain};
use crate::decide::question::Request;
use crate::decide::{World, with_scratch};
use crate::names::nearest;
use crate::register::Register;
use crate::register::fact::Retraction;
use crate::register::line::{ActivationLine, Change, EntityLine, GrantLine};
use crate::source::{At, Finding, Place, Severity, Sources, Span};
use jiff::Timestamp;
use serde::Serialize;
use std::sync::Arc;

/// Samples and cases, as written.
#[derive(Clone, Debug, Default)]
pub struct Rehearsal {
    /// Whether it is laid over a register: a sample then stands in the place of the entity of its name,
    /// with the groups and grants the sample states and no others.
    pub over: bool,
    /// The moment its cases are asked at, unless they say another.
    pub now: Option<Timestamp>,
    /// Its sample entities.
    pub samples: Vec<Sample>,
    /// Its cases.
    pub cases: Vec<Case>,
    /// Its guarantees.
    pub guarantees: Vec<Guarantee>,
}

/// A sample entity with its groups and grants.
#[derive(Clone, Debug)]
pub struct Sample {
    /// What is said of it.
    pub line: EntityLine,
    /// Groups it is a member of.
    pub groups: Vec<String>,
    /// Grants to it; `to` is the sample itself.
    pub grants: Vec<At<SampleGrant>>,
    /// Where its name stands.
    pub span: Span,
}

/// A grant to a sample.
#[derive(Clone, Debug)]
pub struct SampleGrant {
    /// The grant.
    pub line: GrantLine,
    /// Whether it is active, if its role is on standby.
    pub active: Option<Active>,
}

/// That a grant on standby is active.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Active {
    /// In any session and none.
    Always,
    /// In this session.
    In(String),
}

/// What one subject may and may not.
#[derive(Clone, Debug)]
pub struct Case {
    /// A sentence.
    pub name: String,
    /// The question, without its permission.
    pub request: Request,
    /// Who asks, if a token says it; it is taken as verified.
    pub token: Option<At<Token>>,
    /// What must be allowed.
    pub may: Vec<At<String>>,
    /// What must be denied.
    pub may_not: Vec<At<String>>,
    /// Its own moment.
    pub now: Option<Timestamp>,
    /// The reason code of every denial, or of every allow if there are none.
    pub because: Option<At<String>>,
    /// Where the subject is named.
    pub subject_span: Span,
    /// Where the resource is named.
    pub resource_span: Span,
    /// Where the case stands.
    pub span: Span,
}

/// What a run found.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Report {
    /// The charter's digest.
    pub charter: String,
    /// How many cases passed.
    pub passed: usize,
    /// How many failed.
    pub failed: usize,
    /// Every case, in order.
    pub cases: Vec<CaseReport>,
}

/// One case.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct CaseReport {
    /// Its sentence.
    pub name: String,
    /// Where it stands.
    pub place: String,
    /// Whether every answer is as it should be.
    pub passed: bool,
    /// Its questions.
    pub checks: Vec<Check>,
}

/// One question of a case.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Check {
    /// Who asked.
    pub subject: String,
    /// For what.
    pub permission: String,
    /// On what.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub resource: Option<String>,
    /// What the case says.
    pub expected: bool,
    /// Whether the answer, and its reason where one is stated, are as expected.
    pub passed: bool,
    /// Why it proves little even though it passed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub doubt: Option<String>,
    /// The reason the case states, if the answer has another.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expected_reason: Option<String>,
    /// The answer and its way.
    pub explanation: Explanation,
}

impl Rehearsal {
    /// Keeps the cases and guarantees whose name contains `only`, and tells whether there are any.
    pub fn narrow(&mut self, only: &str) -> bool {
        self.cases.retain(|case| case.name.contains(only));
        self.guarantees.retain(|one| one.name.contains(only));
        !(self.cases.is_empty() && self.guarantees.is_empty())
    }

    /// Asks every case of a charter and the samples alone, or laid over `facts` if the rehearsal is.
    /// `now` is the moment of the run.
    ///
    /// # Errors
    /// Findings in the rehearsal itself: samples the charter does not permit, names that are no
    /// sample, permissions that do not exist. Then no case is asked.
    pub fn run(
        &self,
        policy: &Arc<Policy>,
        facts: Register,
        sources: &Sources,
        now: Timestamp,
    ) -> Result<Report, Vec<Finding>> {
        let mut findings = Vec::new();
        let facts = if self.over { facts } else { Register::default() };
        let world = self.world(policy, facts, &mut findings);
        for case in &self.cases {
            self.names(case, &world, &mut findings);
        }
        if findings.iter().any(|finding| finding.severity == Severity::Error) {
            return Err(findings);
        }
        let cases: Vec<CaseReport> =
            self.cases.iter().map(|case| self.case(case, &world, sources, now)).collect();
        let passed = cases.iter().filter(|case| case.passed).count();
        Ok(Report { charter: policy.digest().to_string(), passed, failed: cases.len() - passed, cases })
    }

    /// What a sample takes the place of: the grants, memberships and activations the register knows of it.
    fn displaced(facts: &Register, name: &str) -> Vec<Change> {
        let Some(id) = facts.registered(name) else { return Vec::new() };
        let grants = facts.grants_to(id).map(|(_, grant)| Change::EndGrant(grant.id.to_string()));
        let groups = facts.groups(id).iter().map(|group| {
            let (entity, of) = (name.to_owned(), facts.name(*group).to_owned());
            Change::Retract(Retraction::Member { entity, of })
        });
        // Those of its own grants end with them; a group's would outlive a membership the sample states again.
        let through = facts.all_activations().filter(|activation| {
            let grant = facts.grant(activation.grant);
            activation.subject == id && grant.is_some_and(|grant| grant.to != id)
        });
        let activations = through.map(|activation| Change::EndActivation(activation.id.to_string()));
        activations.chain(grants).chain(groups).collect()
    }

    /// The samples, over the facts, under the charter.
    fn world(&self, policy: &Arc<Policy>, facts: Register, findings: &mut Vec<Finding>) -> World {
        let mut changes = Vec::new();
        let mut spans = Vec::new();
        let mut activations = Vec::new();
        for sample in &self.samples {
            let displaced = Self::displaced(&facts, &sample.line.name);
            spans.extend(displaced.iter().map(|_| sample.span));
            changes.extend(displaced);
        }
        for sample in &self.samples {
            changes.push(Change::Entity(Box::new(sample.line.clone())));
            spans.push(sample.span);
        }
        for sample in &self.samples {
            for group in &sample.groups {
                let name = if group.starts_with("group:") { group.clone() } else { format!("group:{group}") };
                if !self.samples.iter().any(|other| other.line.name == name)
                    && facts.registered(&name).is_none()
                {
                    findings.push(self.unknown_sample(&name, sample.span));
                    continue;
                }
                let members = Some(vec![sample.line.name.clone()]);
                changes.push(Change::Entity(Box::new(EntityLine {
                    name,
                    merge: true,
                    members,
                    ..EntityLine::default()
                })));
                spans.push(sample.span);
            }
            for grant in &sample.grants {
                let mut line = grant.value.line.clone();
                if let Some(active) = &grant.value.active {
                    let id = line.id.get_or_insert_with(|| format!("sample-{}", changes.len())).clone();
                    activations.push((
                        ActivationLine {
                            grant: id,
                            subject: sample.line.name.clone(),
                            session: match active {
                                Active::Always => None,
                                Active::In(session) => Some(session.clone()),
                            },
                            assumed: true,
                            ..ActivationLine::default()
                        },
                        grant.span,
                    ));
                }
                changes.push(Change::Grant(Box::new(line)));
                spans.push(grant.span);
            }
        }
        for (activation, span) in activations {
            changes.push(Change::Activate(Box::new(activation)));
            spans.push(span);
        }
        let mut world = World::new(Arc::clone(policy), facts);
        if let Err(refusals) = world.apply(&changes) {
            findings.extend(
                refusals
                    .into_iter()
                    .map(|refusal| Finding::error("sample", spans[refusal.change], refusal.why.to_string())),
            );
        }
        world
    }

    fn unknown_sample(&self, name: &str, span: Span) -> Finding {
        let near = nearest(name, self.samples.iter().map(|sample| sample.line.name.as_str()));
        let nor = if self.over { ", and the register does not know it" } else { "" };
        let finding = Finding::error("unknown-sample", span, format!("{name} is not a sample{nor}"));
        match near {
            Some(near) => finding.help(format!("did you mean {near}?")),
            None => finding.help(format!("add [sample.\"{name}\"]")),
        }
    }

    /// A misspelt name is an error, not a denial.
    fn names(&self, case: &Case, world: &World, findings: &mut Vec<Finding>) {
        let policy = world.policy();
        let known = |name: &str| {
            self.samples.iter().any(|sample| sample.line.name == name)
                || world.register().registered(name).is_some()
        };
        let subject = &case.request.subject;
        if let Some(token) = &case.token {
            let issuers = || policy.model().issuers.iter().map(|issuer| issuer.key.as_str());
            if issuers().all(|key| key != token.value.issuer) {
                let message = format!("unknown issuer {:?}", token.value.issuer);
                let finding = Finding::error("unknown-issuer", token.span, message);
                findings.push(finding.meant(&token.value.issuer, issuers()));
            }
        } else if subject != "anonymous" && !known(subject) {
            findings.push(self.unknown_sample(subject, case.subject_span));
        }
        if let Some(resource) = case.request.resource.as_ref().filter(|name| !known(name)) {
            findings.push(self.unknown_sample(resource, case.resource_span));
        }
        let request = &case.request;
        let about = case.may.iter().chain(&case.may_not).next();
        let kind = about.and_then(|permission| permission.value.split_once(':')).map(|(kind, _)| kind);
        let of_subject = said_things(policy, subject.split(':').next(), &request.of_subject);
        let of_resource = said_things(policy, kind, &request.of_resource);
        for name in of_subject.chain(of_resource).filter(|name| !known(name)) {
            findings.push(self.unknown_sample(name, case.span));
        }
        if let Some(because) = &case.because {
            let (of, list, asked) = match is_of_allow(policy, &because.value) {
                true => ("an allow", "may", &case.may),
                false => ("a denial", "may-not", &case.may_not),
            };
            if asked.is_empty() {
                let message =
                    format!("{} is the reason of {of}, and this case has no {list:?}", because.value);
                let finding = Finding::error("reason-of-nothing", because.span, message);
                findings.push(finding.help(format!("say what it is the reason of in {list:?}")));
            }
        }
        for permission in case.may.iter().chain(&case.may_not) {
            if policy.permission(&permission.value).is_none() {
                let known = policy.model().permissions.iter().map(|p| p.text.as_str());
                let message = format!("unknown permission {:?}", permission.value);
                let finding = Finding::error("unknown-permission", permission.span, message);
                findings.push(finding.meant(&permission.value, known));
            } else if let Some(resource) = &case.request.resource
                && permission.value.split_once(':').map(|(kind, _)| kind)
                    != resource.split_once(':').map(|(kind, _)| kind)
            {
                let message = format!("{:?} is no permission for {resource}", permission.value);
                findings.push(Finding::error("unknown-permission", permission.span, message));
            }
        }
    }

    fn case(&self, case: &Case, world: &World, sources: &Sources, now: Timestamp) -> CaseReport {
        let stated = case.now.or(self.now);
        let bearer = case.token.as_ref().map(|token| Bearer::of(world, &token.value, None).map(Arc::new));
        let world = match &bearer {
            Some(Ok(bearer)) => bearer.world(world),
            _ => world,
        };
        let named = match &bearer {
            None => case.request.subject.clone(),
            Some(Ok(bearer)) => bearer.name.clone(),
            Some(Err(_)) => "a token that is refused".to_owned(),
        };
        let expected = case.may.iter().map(|p| (p, true)).chain(case.may_not.iter().map(|p| (p, false)));
        let checks: Vec<Check> = expected
            .filter_map(|(permission, expected)| {
                let permission = permission.value.clone();
                let request = Request { permission, bearer: bearer.clone(), ..case.request.clone() };
                let asked = request.resolve(world.engine(), stated.unwrap_or(now)).ok()?;
                let (decision, explanation) =
                    with_scratch(|scratch| explain(world.engine(), &asked, scratch));
                let of_allow = case.because.as_ref().map(|code| is_of_allow(world.policy(), &code.value));
                let applies = of_allow == Some(expected);
                let reason = case.because.as_ref().filter(|_| applies).map(|because| because.value.clone());
                let expected_reason = reason.filter(|reason| *reason != explanation.reason);
                let passed = decision.allowed == expected && expected_reason.is_none();
                let doubt = if passed { doubt(&explanation, stated.is_none()) } else { None };
                Some(Check {
                    subject: named.clone(),
                    permission: request.permission,
                    resource: request.resource,
                    expected,
                    passed,
                    doubt,
                    expected_reason,
                    explanation,
                })
            })
            .collect();
        let Place { path, line, .. } = sources.place(case.span);
        CaseReport {
            name: case.name.clone(),
            place: format!("{path}:{line}"),
            passed: checks.len() == case.may.len() + case.may_not.len()
                && checks.iter().all(|check| check.passed),
            checks,
        }
    }
}

/// Whether a reason is one of an allow: a role, or an allow rule. Of a rule that is not there nothing is
/// known but that it decides nothing.
fn is_of_allow(policy: &Policy, code: &str) -> bool {
    let rule = code.strip_prefix("rule:");
    let allows =
        |key: &str| policy.model().rules.iter().any(|rule| rule.key == key && rule.effect == Effect::Allow);
    code.starts_with("role:") || rule.is_some_and(allows)
}

/// The entities that properties name: at the end of relations, and what something lies within.
fn said_things<'r>(
    policy: &'r Policy,
    kind: Option<&str>,
    said: &'r serde_json::Map<String, serde_json::Value>,
) -> impl Iterator<Item = &'r str> {
    let kind = kind.and_then(|kind| policy.kind(kind));
    let relations =
        kind.into_iter().flat_map(|kind| &policy.model().kinds[kind.index()].relations).map(|one| one.name);
    let names: Vec<&str> = relations.map(|name| policy.name(name)).chain(["within"]).collect();
    said.iter().filter(move |(key, _)| names.contains(&key.as_str())).flat_map(|(_, value)| {
        let listed = value.as_array().into_iter().flatten().chain(Some(value));
        // Without its type a name may stand where only one type is possible.
        listed.filter_map(serde_json::Value::as_str).filter(|name| name.contains(':'))
    })
}

/// Why an answer that is as expected proves little.
fn doubt(explanation: &Explanation, at_the_run: bool) -> Option<String> {
    if !explanation.ignored.is_empty() {
        return Some(format!("not all that it says counts: {}", explanation.ignored.join("; ")));
    }
    let conditions = explanation.arrivals.iter().flat_map(|arrival| &arrival.conditions);
    let conditions = conditions.chain(explanation.rules.iter().flat_map(|rule| &rule.conditions));
    let mut reads = conditions.flat_map(|condition| &condition.parts).flat_map(|part| &part.reads);
    if at_the_run && reads.any(|(path, _)| path == "now") {
        return Some("it depends on the moment of the run; state now".to_owned());
    }
    if explanation.allowed {
        return None;
    }
    match explanation.reason.as_str() {
        "no-role" if explanation.also_held.is_empty() => {
            Some("the subject holds nothing at all here".to_owned())
        }
        "undetermined" => Some("a fact is missing; with it, it might be allowed".to_owned()),
        code if code.starts_with("rule:") => {
            let key = &code["rule:".len()..];
            let undetermined =
                explanation.rules.iter().any(|rule| rule.key == key && rule.value == "undetermined");
            undetermined.then(|| "the rule denies because a fact is missing".to_owned())
        }
        _ => None,
    }
}
