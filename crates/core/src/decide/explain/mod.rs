//! The explanation of a decision: data first, recorded by the very walk that decided, and one
//! sentence made of it.

mod sentence;

use super::confer::{Conferral, Witness};
use super::question::{Asked, Question, Resource, Subject};
use super::site::Link;
use super::walk::Walk;
use super::{Arrived, Decision, Engine, Listener, Owner, Part, Reason, Scratch, Via, run};
use crate::charter::model::{RoleId, RuleId};
use crate::charter::syntax::Effect;
use crate::register::PlaceOf;
use crate::source::Span;
use crate::value::Truth;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;

/// One of a few words.
pub type Word = Cow<'static, str>;

/// Why an answer is what it is.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct Explanation {
    /// Allowed or denied.
    pub allowed: bool,
    /// The reason code.
    pub reason: String,
    /// One sentence for a person.
    pub sentence: String,
    /// From the subject to the permission, each station a fact. Of a denial, as far as it leads.
    pub way: Vec<Station>,
    /// Every way a role that could give the permission arrived.
    pub arrivals: Vec<Arrival>,
    /// Every rule about the permission.
    pub rules: Vec<RuleTold>,
    /// Roles that arrive and do not give the permission at all.
    pub also_held: Vec<String>,
    /// What the question said that does not count.
    pub ignored: Vec<String>,
    /// The message of the rule that denies.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
    /// The advice of the rule that denies.
    #[serde(default, skip_serializing_if = "serde_json::Map::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = Object))]
    pub advice: serde_json::Map<String, serde_json::Value>,
}

/// One station of the way.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct Station {
    /// `subject`, `group`, `grant`, `place`, `role`, `rule` or `permission`.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub kind: Word,
    /// The thing.
    pub name: String,
    /// What is said of it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Whether the way ends here, shut.
    pub shut: bool,
}

/// A role that arrived.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct Arrival {
    /// The role.
    pub role: String,
    /// Where and through whom, e.g. `at tenant:northline, through group:night`.
    pub how: String,
    /// The grant, if it came by one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub grant: Option<String>,
    /// Whether it arrives: `true` or `undetermined`.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub arrives: Word,
    /// Whether it gives the permission: `true`, `false`, `undetermined`.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub gives: Word,
    /// Whether a separation takes away what it gives.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub separated: bool,
    /// The conditions on the way.
    pub conditions: Vec<ConditionTold>,
}

/// A rule about the permission.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct RuleTold {
    /// Its key.
    pub key: String,
    /// `allow` or `deny`.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub effect: Word,
    /// The value of its condition.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub value: Word,
    /// Whether it reaches the subject at all.
    pub reaches: bool,
    /// Its condition.
    pub conditions: Vec<ConditionTold>,
}

/// A condition with what became of it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct ConditionTold {
    /// Whose it is, e.g. `role inspector`.
    pub of: String,
    /// Where it stands: `roles.toml:14`.
    pub place: String,
    /// As written.
    pub text: String,
    /// Its value.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub value: Word,
    /// The part that made it so, with what was read.
    pub because: String,
    /// Its smallest parts.
    pub parts: Vec<PartTold>,
}

/// A part of a condition.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct PartTold {
    /// As written.
    pub text: String,
    /// Its value.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub value: Word,
    /// Paths in it, and what was read.
    #[cfg_attr(feature = "schema", schema(value_type = Vec<Vec<String>>))]
    pub reads: Vec<(String, String)>,
}

/// How many conferrals of a chain are told one by one.
const MOST_WITNESSES: usize = 16;

/// Decides a question and records why.
pub fn explain(engine: Engine<'_>, asked: &Asked, scratch: &mut Scratch) -> (Decision, Explanation) {
    let question = match &asked.question {
        Ok(question) => question,
        Err(reason) => {
            let decision = Decision { allowed: false, reason: *reason };
            let mut explanation = blank(engine, decision, asked);
            // What is unknown was noted, with the nearest name, when the question was read.
            explanation.sentence = explanation.ignored.pop().unwrap_or_else(|| plainly(*reason, "", ""));
            return (decision, explanation);
        }
    };
    let mut record = Record::default();
    let decision = run(engine, question, scratch, &mut record);
    let teller = Teller { walk: Walk::new(engine, question, scratch), question, record };
    let mut explanation = blank(engine, decision, asked);
    teller.tell(decision, &mut explanation);
    if !decision.allowed && !asked.unregistered.is_empty() {
        // Before any rule: most often it is a slip.
        let told = [asked.unregistered.join("; "), explanation.sentence];
        explanation.sentence = told.join(": ");
    }
    (decision, explanation)
}

fn blank(engine: Engine<'_>, decision: Decision, asked: &Asked) -> Explanation {
    let mut explanation = Explanation {
        allowed: decision.allowed,
        reason: decision.reason.code(engine),
        sentence: String::new(),
        way: Vec::new(),
        arrivals: Vec::new(),
        rules: Vec::new(),
        also_held: Vec::new(),
        ignored: asked.ignored.clone(),
        message: None,
        advice: serde_json::Map::new(),
    };
    if let (false, Reason::Rule(id)) = (decision.allowed, decision.reason) {
        let rule = &engine.policy.model().rules[id.index()];
        explanation.message.clone_from(&rule.message);
        explanation.advice =
            rule.advice.iter().map(|(key, text)| (key.clone(), text.as_str().into())).collect();
    }
    explanation
}

fn plainly(reason: Reason, subject: &str, resource: &str) -> String {
    match reason {
        Reason::TokenRefused => "the token is refused".to_owned(),
        Reason::UnknownType => "the charter declares no such type".to_owned(),
        Reason::UnknownPermission => "the charter declares no such permission".to_owned(),
        Reason::SubjectSuspended => format!("{subject} is suspended"),
        Reason::SubjectDeleted => format!("{subject} is deleted"),
        Reason::ResourceDeleted => format!("{resource} is deleted"),
        _ => String::new(),
    }
}

/// A condition that was evaluated: whose, its value, the part that made it so, all its parts.
type Evaluated = (Owner, Truth, Part, Vec<Part>);

#[derive(Debug, Default)]
struct Record {
    /// Conditions evaluated since the last arrival or rule; they belong to the next one.
    pending: Vec<Evaluated>,
    arrivals: Vec<(super::Arrival, Vec<Evaluated>)>,
    rules: Vec<(RuleId, Truth, bool, Vec<Evaluated>)>,
}

impl Listener for Record {
    const ON: bool = true;
    fn arrival(&mut self, arrival: super::Arrival) {
        self.arrivals.push((arrival, std::mem::take(&mut self.pending)));
    }
    fn rule(&mut self, rule: RuleId, value: Truth, reaches: bool) {
        self.rules.push((rule, value, reaches, std::mem::take(&mut self.pending)));
    }
    fn condition(&mut self, owner: Owner, value: Truth, culprit: Part, parts: Vec<Part>) {
        self.pending.push((owner, value, culprit, parts));
    }
}

struct Teller<'e> {
    walk: Walk<'e>,
    question: &'e Question,
    record: Record,
}

impl Teller<'_> {
    fn tell(&self, decision: Decision, out: &mut Explanation) {
        let early = matches!(
            decision.reason,
            Reason::SubjectSuspended | Reason::SubjectDeleted | Reason::ResourceDeleted
        );
        if early {
            out.sentence = plainly(decision.reason, &self.subject(), &self.resource());
            out.way.push(station(
                "subject",
                self.subject(),
                String::new(),
                decision.reason != Reason::ResourceDeleted,
            ));
            return;
        }
        out.arrivals = self
            .record
            .arrivals
            .iter()
            .map(|(arrival, conditions)| self.arrival(*arrival, conditions))
            .collect();
        out.rules = self
            .record
            .rules
            .iter()
            .map(|(rule, value, reaches, conditions)| self.rule(*rule, *value, *reaches, conditions))
            .collect();
        let could_give: Vec<Arrived> = self.record.arrivals.iter().map(|(arrival, _)| arrival.role).collect();
        for (role, how) in self.also_arriving() {
            if !could_give.contains(&role) {
                out.also_held.push(format!("{} {how}", self.key(role)));
            }
        }
        out.sentence = self.sentence(decision, out);
        out.way = self.way(decision);
    }

    /// Everything that arrives, whatever it gives.
    fn also_arriving(&self) -> Vec<(Arrived, String)> {
        let arrivals = self.walk.arrivals().into_iter();
        let mut all: Vec<_> = arrivals.map(|(role, via)| (role, self.how(role, via))).collect();
        let conferral = Conferral::of_all();
        let walk = Walk { conferral: &conferral, ..self.walk };
        let model = self.walk.engine.policy.model();
        for role in (0..model.roles.len()).map(RoleId::at) {
            let witnesses = walk.conferred_how(role);
            if !witnesses.is_empty() {
                all.push((Arrived::Role(role), self.conferred(&witnesses)));
            }
        }
        all
    }

    // -- the way -------------------------------------------------------------------------------

    fn way(&self, decision: Decision) -> Vec<Station> {
        let mut way = vec![station("subject", self.subject(), String::new(), false)];
        let arrivals = &self.record.arrivals;
        let with = |value: Truth| {
            arrivals
                .iter()
                .find(|(arrival, _)| !arrival.separated && arrival.arrives.and(arrival.gives) == value)
        };
        let chosen = match decision.reason {
            Reason::Role(role) => self.allowing(|of| of == role),
            Reason::Undetermined => with(Truth::Undetermined),
            Reason::Condition => with(Truth::False),
            Reason::Separated => arrivals.iter().find(|(arrival, _)| arrival.separated),
            Reason::Rule(_) if !decision.allowed => with(Truth::True),
            _ => None,
        };
        if let Some((arrival, conditions)) = chosen {
            self.way_of_arrival(arrival.role, arrival.via, &mut way);
            let shut = arrival.separated || arrival.arrives.and(arrival.gives) != Truth::True;
            let note = conditions.iter().find(|(_, value, ..)| *value != Truth::True);
            let note = note.map_or_else(String::new, |(_, value, culprit, _)| {
                format!("{} is {}", self.with_reads(culprit), value.word())
            });
            let note = if arrival.separated { "separated".to_owned() } else { note };
            way.push(station(
                "role",
                self.key(arrival.role).to_owned(),
                if shut { note } else { String::new() },
                shut,
            ));
        }
        if let Reason::Rule(rule) = decision.reason {
            let declared = &self.walk.engine.policy.model().rules[rule.index()];
            let verb = if decision.allowed { "allows it" } else { "denies it" };
            way.push(station("rule", declared.key.clone(), verb.to_owned(), !decision.allowed));
        }
        let permission =
            self.walk.engine.policy.model().permissions[self.question.permission.index()].text.clone();
        let note = format!("on {}", self.resource());
        let blocked = way.iter().any(|station| station.shut);
        way.push(station("permission", permission, note, !decision.allowed && !blocked));
        way
    }

    fn way_of_arrival(&self, role: Arrived, via: Via, way: &mut Vec<Station>) {
        let Via::Grant { grant, holder } = via else {
            let kind = if via == Via::Conferred { "relation" } else { "grant" };
            let name = if via == Via::Conferred { "conferred" } else { "without a grant" };
            way.push(station(kind, name.to_owned(), self.how(role, via), false));
            return;
        };
        let register = self.walk.engine.register;
        for (at, group) in self.groups(holder).into_iter().enumerate() {
            let note = self.voucher(holder).filter(|_| at == 0).unwrap_or_default();
            way.push(station("group", group, note, false));
        }
        if let Some(grant) = register.grant(grant) {
            let until = grant.terms.until.map_or_else(String::new, |until| format!("until {until}"));
            way.push(station("grant", grant.id.to_string(), until, false));
            way.push(station("place", self.place(grant.at), String::new(), false));
        }
    }

    /// The groups between the subject and a holder, the subject's own first.
    fn groups(&self, holder: u32) -> Vec<String> {
        let holders = &self.walk.holders.list;
        let mut groups = Vec::new();
        let mut at = holder as usize;
        while at > 0 && at < holders.len() {
            groups.push(self.walk.engine.register.name(holders[at].id).to_owned());
            at = holders[at].from as usize;
        }
        groups.reverse();
        groups
    }

    /// Who vouches for the first membership on the way to a holder, if the register does not say it.
    fn voucher(&self, holder: u32) -> Option<String> {
        let found = self.walk.holders.list.get(holder as usize)?;
        let vouched = self.walk.vouched().filter(|_| found.link != Link::Registered)?;
        let issuer = &self.walk.engine.policy.model().issuers[vouched.issuer].key;
        Some(match found.link {
            Link::Perhaps => format!("of which the token of {issuer} does not tell"),
            _ => format!("vouched for by {issuer}"),
        })
    }

    fn place(&self, at: PlaceOf) -> String {
        match at {
            PlaceOf::Everywhere => "everywhere".to_owned(),
            PlaceOf::At(id) => self.walk.engine.register.name(id).to_owned(),
        }
    }

    fn how(&self, role: Arrived, via: Via) -> String {
        match via {
            Via::Conferred => {
                let witnesses = match role {
                    Arrived::Role(role) => self.walk.conferred_how(role),
                    Arrived::Made(_) => Vec::new(),
                };
                self.conferred(&witnesses)
            }
            Via::Given(given) => format!("given to {}", given.text()),
            Via::Grant { grant, holder } => {
                let Some(grant) = self.walk.engine.register.grant(grant) else { return String::new() };
                let place = self.place(grant.at);
                let at = if place == "everywhere" { place } else { format!("at {place}") };
                let groups = self.groups(holder);
                let voucher = self.voucher(holder).map_or_else(String::new, |by| format!(", {by}"));
                if groups.is_empty() { at } else { format!("{at}, through {}{voucher}", groups.join(" in ")) }
            }
        }
    }

    /// Conferrals in words: `at manifest:m-204, as its declarant`.
    fn conferred(&self, witnesses: &[Witness]) -> String {
        let engine = self.walk.engine;
        let model = engine.policy.model();
        let mut words = String::new();
        let mut open = 0;
        let told = witnesses.len().min(MOST_WITNESSES);
        for witness in &witnesses[..told] {
            let confer = &model.confers[witness.confer.index()];
            let at = witness.at.map_or_else(|| self.resource(), |id| engine.register.name(id).to_owned());
            let Some(held) = confer.holds else {
                words += &format!("at {at}, as its {}", confer.path_text);
                break;
            };
            let place = witness.held_at.map_or("", |id| engine.register.name(id));
            words += &format!("at {at}, as {} at {place}", model.roles[held.index()].key);
            if let Some(by) = witness.by {
                words += &format!(" ({} ", model.roles[by.index()].key);
                open += 1;
            }
        }
        if told < witnesses.len() {
            words += &format!("and {} more", witnesses.len() - told);
        }
        if words.is_empty() {
            return "from a relationship".to_owned();
        }
        words + &")".repeat(open)
    }

    fn key(&self, role: Arrived) -> &str {
        role.key(self.walk.engine)
    }

    fn subject(&self) -> String {
        match self.question.subject {
            Subject::Anonymous => "anonymous".to_owned(),
            Subject::Entity(id) => self.walk.engine.register.name(id).to_owned(),
        }
    }

    fn resource(&self) -> String {
        match &self.question.resource {
            Resource::Registered(id) => self.walk.engine.register.name(*id).to_owned(),
            Resource::Stated { name: Some(name), .. } => format!("{name}, which is not registered"),
            Resource::Stated { name: None, .. } => "a new one".to_owned(),
        }
    }

    // -- arrivals, rules, conditions -------------------------------------------------------------

    fn arrival(&self, arrival: super::Arrival, conditions: &[Evaluated]) -> Arrival {
        let grant = match arrival.via {
            Via::Grant { grant, .. } => {
                self.walk.engine.register.grant(grant).map(|grant| grant.id.to_string())
            }
            Via::Given(_) | Via::Conferred => None,
        };
        Arrival {
            role: self.key(arrival.role).to_owned(),
            how: self.how(arrival.role, arrival.via),
            grant,
            arrives: arrival.arrives.word().into(),
            gives: arrival.gives.word().into(),
            separated: arrival.separated,
            conditions: conditions.iter().map(|told| self.condition(told)).collect(),
        }
    }

    fn rule(&self, rule: RuleId, value: Truth, reaches: bool, conditions: &[Evaluated]) -> RuleTold {
        let declared = &self.walk.engine.policy.model().rules[rule.index()];
        RuleTold {
            key: declared.key.clone(),
            effect: if declared.effect == Effect::Deny { "deny" } else { "allow" }.into(),
            value: value.word().into(),
            reaches,
            conditions: conditions.iter().map(|told| self.condition(told)).collect(),
        }
    }

    fn condition(&self, (owner, value, culprit, parts): &Evaluated) -> ConditionTold {
        let model = self.walk.engine.policy.model();
        let (of, span) = match owner {
            Owner::Role(role) => {
                let role = &model.roles[role.index()];
                (
                    format!("role {}", role.key),
                    role.when.as_ref().map_or(role.span, crate::charter::model::Condition::span),
                )
            }
            Owner::Clause(role, clause) => {
                let role = &model.roles[role.index()];
                (format!("role {}", role.key), role.clauses[*clause as usize].when.span())
            }
            Owner::TenantClause(at) => {
                let clause = &model.tenant_clauses[*at as usize];
                let span = clause.when.as_ref().map_or(clause.span, crate::charter::model::Condition::span);
                ("tenant-roles".to_owned(), span)
            }
            Owner::Confer(id) => {
                let confer = &model.confers[id.index()];
                let span = confer.when.as_ref().map_or(confer.span, crate::charter::model::Condition::span);
                (format!("confer of {}", model.kinds[confer.kind.index()].key), span)
            }
            Owner::Rule(rule) => {
                let rule = &model.rules[rule.index()];
                (
                    format!("rule {}", rule.key),
                    rule.when.as_ref().map_or(rule.span, crate::charter::model::Condition::span),
                )
            }
        };
        let place = self.walk.engine.policy.sources().place(span);
        ConditionTold {
            of,
            place: format!("{}:{}", place.path, place.line),
            text: self.text(span),
            value: value.word().into(),
            because: self.with_reads(culprit),
            parts: parts
                .iter()
                .map(|part| PartTold {
                    text: self.text(part.span),
                    value: part.value.word().into(),
                    reads: part.reads.iter().map(|(span, read)| (self.text(*span), read.clone())).collect(),
                })
                .collect(),
        }
    }

    fn text(&self, span: Span) -> String {
        self.walk.engine.policy.sources().text(span).split_whitespace().collect::<Vec<_>>().join(" ")
    }

    /// A part as written, with what was read behind each path: `subject.clearance (3) >= …`.
    fn with_reads(&self, part: &Part) -> String {
        let sources = self.walk.engine.policy.sources();
        let mut out = String::new();
        let mut at = part.span.start;
        for (span, read) in &part.reads {
            if span.start < at {
                continue;
            }
            out.push_str(sources.text(Span { end: span.end, start: at, ..part.span }));
            out.push_str(&format!(" ({read})"));
            at = span.end;
        }
        out.push_str(sources.text(Span { start: at, ..part.span }));
        out.split_whitespace().collect::<Vec<_>>().join(" ")
    }
}

fn station(kind: &'static str, name: String, note: String, shut: bool) -> Station {
    Station { kind: kind.into(), name, note, shut }
}
