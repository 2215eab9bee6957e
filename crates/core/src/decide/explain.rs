//! The explanation of a decision: data first, recorded by the very walk that decided, and one
//! sentence made of it.

use super::question::{Asked, Question, Resource, Subject};
use super::{Decision, Engine, Listener, Owner, Part, Reason, Scratch, Via, Walk, walk};
use crate::charter::model::{RoleId, RuleId};
use crate::charter::syntax::Effect;
use crate::register::PlaceOf;
use crate::source::Span;
use crate::value::Truth;
use serde::Serialize;

/// Why an answer is what it is.
#[derive(Clone, Debug, PartialEq, Serialize)]
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
    #[serde(skip_serializing_if = "serde_json::Map::is_empty")]
    pub advice: serde_json::Map<String, serde_json::Value>,
}

/// One station of the way.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Station {
    /// `subject`, `group`, `grant`, `place`, `role`, `rule` or `permission`.
    pub kind: &'static str,
    /// The thing.
    pub name: String,
    /// What is said of it.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Whether the way ends here, shut.
    pub shut: bool,
}

/// A role that arrived.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Arrival {
    /// The role.
    pub role: String,
    /// Where and through whom, e.g. `at tenant:northline, through group:night`.
    pub how: String,
    /// The grant, if it came by one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub grant: Option<String>,
    /// Whether it gives the permission: `true`, `false`, `undetermined`.
    pub gives: &'static str,
    /// The conditions on the way.
    pub conditions: Vec<ConditionTold>,
}

/// A rule about the permission.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct RuleTold {
    /// Its key.
    pub key: String,
    /// `allow` or `deny`.
    pub effect: &'static str,
    /// The value of its condition.
    pub value: &'static str,
    /// Whether it reaches the subject at all.
    pub reaches: bool,
    /// Its condition.
    pub conditions: Vec<ConditionTold>,
}

/// A condition with what became of it.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ConditionTold {
    /// Whose it is, e.g. `role inspector`.
    pub of: String,
    /// Where it stands: `roles.toml:14`.
    pub place: String,
    /// As written.
    pub text: String,
    /// Its value.
    pub value: &'static str,
    /// The part that made it so, with what was read.
    pub because: String,
    /// Its smallest parts.
    pub parts: Vec<PartTold>,
}

/// A part of a condition.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct PartTold {
    /// As written.
    pub text: String,
    /// Its value.
    pub value: &'static str,
    /// Paths in it, and what was read.
    pub reads: Vec<(String, String)>,
}

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
    let decision = walk(engine, question, scratch, &mut record);
    let teller = Teller { walk: Walk::new(engine, question, scratch), question, record };
    let mut explanation = blank(engine, decision, asked);
    teller.tell(decision, &mut explanation);
    (decision, explanation)
}

fn blank(engine: Engine<'_>, decision: Decision, asked: &Asked) -> Explanation {
    let mut explanation = Explanation {
        allowed: decision.allowed,
        reason: decision.reason.code(engine.policy),
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
    arrivals: Vec<(RoleId, Via, Truth, Vec<Evaluated>)>,
    rules: Vec<(RuleId, Truth, bool, Vec<Evaluated>)>,
}

impl Listener for Record {
    const ON: bool = true;
    fn arrival(&mut self, role: RoleId, via: Via, gives: Truth) {
        self.arrivals.push((role, via, gives, std::mem::take(&mut self.pending)));
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
            .map(|(role, via, gives, conditions)| self.arrival(*role, *via, *gives, conditions))
            .collect();
        out.rules = self
            .record
            .rules
            .iter()
            .map(|(rule, value, reaches, conditions)| self.rule(*rule, *value, *reaches, conditions))
            .collect();
        let could_give: Vec<RoleId> = self.record.arrivals.iter().map(|(role, ..)| *role).collect();
        for (role, via) in self.walk.arrivals() {
            if !could_give.contains(&role) {
                out.also_held.push(format!("{} {}", self.key(role), self.how(via)));
            }
        }
        out.sentence = self.sentence(decision, out);
        out.way = self.way(decision);
    }

    // -- the sentence --------------------------------------------------------------------------

    fn sentence(&self, decision: Decision, out: &Explanation) -> String {
        match decision.reason {
            Reason::Role(role) => {
                let arrival = self
                    .record
                    .arrivals
                    .iter()
                    .find(|(id, _, gives, _)| *id == role && *gives == Truth::True);
                arrival.map_or_else(String::new, |(role, via, ..)| {
                    format!("{} {}", self.key(*role), self.how(*via))
                })
            }
            Reason::Rule(rule) => self.rule_sentence(rule, decision.allowed, out),
            Reason::Undetermined => self.near_miss(Truth::Undetermined, out),
            Reason::Condition => self.near_miss(Truth::False, out),
            Reason::NoRole => self.no_role(out),
            _ => String::new(),
        }
    }

    fn rule_sentence(&self, rule: RuleId, allowed: bool, out: &Explanation) -> String {
        let declared = &self.walk.engine.policy.model().rules[rule.index()];
        if allowed {
            return format!("the rule {} allows it", declared.key);
        }
        let told = out.rules.iter().find(|told| told.key == declared.key);
        let why = told.and_then(|told| told.conditions.first());
        let why = why
            .map_or_else(String::new, |condition| format!(" ({} is {})", condition.because, condition.value));
        match &declared.message {
            Some(message) => format!("{message}: the rule {}{why}", declared.key),
            None => format!("the rule {} denies it{why}", declared.key),
        }
    }

    /// What would have allowed it had a condition been true.
    fn near_miss(&self, value: Truth, out: &Explanation) -> String {
        let arrival = self.record.arrivals.iter().position(|(_, _, gives, _)| *gives == value);
        if let Some(at) = arrival {
            let (role, via, ..) = &self.record.arrivals[at];
            let conditions = &out.arrivals[at].conditions;
            let why = conditions.iter().find(|condition| condition.value == value.word());
            let why = why.map_or_else(String::new, |c| format!(", but {} is {}", c.because, c.value));
            return format!("{} holds {}{why}", self.key(*role), self.how(*via));
        }
        let rule = out
            .rules
            .iter()
            .find(|rule| rule.effect == "allow" && rule.reaches && rule.value == value.word());
        rule.map_or_else(String::new, |rule| {
            let why = rule.conditions.first().map_or("", |condition| condition.because.as_str());
            format!("the rule {} would allow it, but {why} is {}", rule.key, rule.value)
        })
    }

    fn no_role(&self, out: &Explanation) -> String {
        let permission = &self.walk.engine.policy.model().permissions[self.question.permission.index()].text;
        let who = self.subject();
        match out.also_held.as_slice() {
            [] => format!("{who} holds no role here"),
            [one] => format!("{who} holds {one}, which does not give {permission}"),
            [one, more @ ..] => {
                format!("{who} holds {one} and {} more, none of which gives {permission}", more.len())
            }
        }
    }

    // -- the way -------------------------------------------------------------------------------

    fn way(&self, decision: Decision) -> Vec<Station> {
        let mut way = vec![station("subject", self.subject(), String::new(), false)];
        let chosen = match decision.reason {
            Reason::Role(role) => {
                self.record.arrivals.iter().find(|(id, _, gives, _)| *id == role && *gives == Truth::True)
            }
            Reason::Undetermined => {
                self.record.arrivals.iter().find(|(_, _, gives, _)| *gives == Truth::Undetermined)
            }
            Reason::Condition => self.record.arrivals.iter().find(|(_, _, gives, _)| *gives == Truth::False),
            Reason::Rule(_) if !decision.allowed => {
                self.record.arrivals.iter().find(|(_, _, gives, _)| *gives == Truth::True)
            }
            _ => None,
        };
        if let Some((role, via, gives, conditions)) = chosen {
            self.way_of_arrival(*via, &mut way);
            let shut = *gives != Truth::True;
            let note = conditions.iter().find(|(_, value, ..)| *value != Truth::True);
            let note = note.map_or_else(String::new, |(_, value, culprit, _)| {
                format!("{} is {}", self.with_reads(culprit), value.word())
            });
            way.push(station(
                "role",
                self.key(*role).to_owned(),
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

    fn way_of_arrival(&self, via: Via, way: &mut Vec<Station>) {
        let Via::Grant { grant, holder } = via else {
            way.push(station("grant", "without a grant".to_owned(), self.how(via), false));
            return;
        };
        let register = self.walk.engine.register;
        for group in self.groups(holder) {
            way.push(station("group", group, String::new(), false));
        }
        if let Some(grant) = register.grant(grant) {
            let until = grant.until.map_or_else(String::new, |until| format!("until {until}"));
            way.push(station("grant", grant.id.to_string(), until, false));
            way.push(station("place", self.place(grant.at), String::new(), false));
        }
    }

    /// The groups between the subject and a holder, the subject's own first.
    fn groups(&self, holder: u32) -> Vec<String> {
        let holders = &self.walk.scratch.holders;
        let mut groups = Vec::new();
        let mut at = holder as usize;
        while at > 0 && at < holders.len() {
            groups.push(self.walk.engine.register.name(holders[at].0).to_owned());
            at = holders[at].1 as usize;
        }
        groups.reverse();
        groups
    }

    fn place(&self, at: PlaceOf) -> String {
        match at {
            PlaceOf::Everywhere => "everywhere".to_owned(),
            PlaceOf::At(id) => self.walk.engine.register.name(id).to_owned(),
        }
    }

    fn how(&self, via: Via) -> String {
        match via {
            Via::Given(given) => format!("given to {}", given.text()),
            Via::Grant { grant, holder } => {
                let Some(grant) = self.walk.engine.register.grant(grant) else { return String::new() };
                let place = self.place(grant.at);
                let at = if place == "everywhere" { place } else { format!("at {place}") };
                let groups = self.groups(holder);
                if groups.is_empty() { at } else { format!("{at}, through {}", groups.join(" in ")) }
            }
        }
    }

    fn key(&self, role: RoleId) -> &str {
        &self.walk.engine.policy.model().roles[role.index()].key
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

    fn arrival(&self, role: RoleId, via: Via, gives: Truth, conditions: &[Evaluated]) -> Arrival {
        let grant = match via {
            Via::Grant { grant, .. } => {
                self.walk.engine.register.grant(grant).map(|grant| grant.id.to_string())
            }
            Via::Given(_) => None,
        };
        Arrival {
            role: self.key(role).to_owned(),
            how: self.how(via),
            grant,
            gives: gives.word(),
            conditions: conditions.iter().map(|told| self.condition(told)).collect(),
        }
    }

    fn rule(&self, rule: RuleId, value: Truth, reaches: bool, conditions: &[Evaluated]) -> RuleTold {
        let declared = &self.walk.engine.policy.model().rules[rule.index()];
        RuleTold {
            key: declared.key.clone(),
            effect: if declared.effect == Effect::Deny { "deny" } else { "allow" },
            value: value.word(),
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
            value: value.word(),
            because: self.with_reads(culprit),
            parts: parts
                .iter()
                .map(|part| PartTold {
                    text: self.text(part.span),
                    value: part.value.word(),
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
    Station { kind, name, note, shut }
}
