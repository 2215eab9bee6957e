//! Fact lines: the small grammar in which people write one fact.
//!
//! ```text
//! user:ines.clearance = 5                    manifest:m-204.reviewers += user:ola
//! manifest:m-204 within voyage:v-9           manifest:m-300 detached
//! user:ines in group:night                   user:ines in tenant:northline
//! user:ines state suspended
//! grant inspector to user:ines at tenant:northline from 2026-12-01 until 2027-01-01
//! grant line-agent to user:ola at everywhere with line=NL,HF
//! activate g-812 for user:ines session s-77 until 2026-11-23T10:00:00Z reason permit 5531
//! ```

use super::line::{ActivationLine, Change, EntityLine, GrantLine, Related, stated};
use super::wrong::Wrong;
use crate::charter::model::{Attribute, Stated};
use crate::charter::policy::Policy;
use crate::names::{Near, split_entity};
use crate::value::{Scalar, ValueType, parse_time};

/// Longest fact line, in bytes.
const MAX_FACT_BYTES: usize = 64 << 10;

/// What `register remove` takes away.
#[derive(Clone, Debug, PartialEq)]
pub enum Retraction {
    /// An attribute; with a value, only if it is that.
    Attribute {
        /// Whose.
        entity: String,
        /// Its name.
        name: String,
        /// What it must be.
        value: Option<Stated>,
    },
    /// What a relation leads to; without a target, all of it.
    Related {
        /// Whose.
        entity: String,
        /// Its name.
        name: String,
        /// To what.
        target: Option<String>,
    },
    /// A membership of a group or tenant.
    Member {
        /// Who.
        entity: String,
        /// Of what.
        of: String,
    },
    /// That a resource is detached.
    Detached(String),
    /// That a subject is suspended.
    Suspended(String),
    /// A grant.
    Grant(Box<GrantLine>),
    /// What activates a grant for a subject, in that session if one is stated.
    Activation(Box<ActivationLine>),
}

/// One fact, as written.
#[derive(Clone, Debug, PartialEq)]
pub enum Fact {
    /// `entity.name = value`, `entity.name += value`, or `entity.name` alone.
    Said {
        /// Whose.
        entity: String,
        /// Attribute or relation.
        name: String,
        /// Whether it is added to what is there.
        add: bool,
        /// The value as written.
        value: Option<String>,
    },
    /// `entity within outer`
    Within(String, String),
    /// `entity detached`
    Detached(String),
    /// `entity in group:x`, `entity in tenant:x`
    In(String, String),
    /// `entity state word`
    State(String, String),
    /// `grant …`
    Grant(Box<GrantLine>),
    /// `activate …`
    Activate(Box<ActivationLine>),
}

impl Fact {
    /// Reads a fact line.
    ///
    /// # Errors
    /// What is wrong, and what a line looks like.
    pub fn parse(line: &str) -> Result<Fact, Wrong> {
        let line = line.trim();
        if line.len() > MAX_FACT_BYTES {
            return Err(Wrong::FactTooLong(MAX_FACT_BYTES));
        }
        let words: Vec<&str> = line.split_whitespace().collect();
        match words.as_slice() {
            ["grant", rest @ ..] => grant(rest).map(|line| Fact::Grant(Box::new(line))),
            ["activate", rest @ ..] => activate(rest).map(|line| Fact::Activate(Box::new(line))),
            [entity, "within", outer] => Ok(Fact::Within(name(entity)?, (*outer).to_owned())),
            [entity, "detached"] => Ok(Fact::Detached(name(entity)?)),
            [entity, "in", of] => Ok(Fact::In(name(entity)?, name(of)?)),
            [entity, "state", word] => Ok(Fact::State(name(entity)?, (*word).to_owned())),
            [word] if word.contains('=') => tight(word),
            [entity] => said(entity, false, None),
            [path, "=", ..] => said(path, false, Some(behind(line, "="))),
            [path, "+=", ..] => said(path, true, Some(behind(line, "+="))),
            [] => Err(Wrong::FactMissing),
            [_, word, ..] => {
                let near = Near::of(word, ["within", "detached", "in", "state"]);
                Err(Wrong::NotAFact { line: line.into(), near })
            }
        }
    }

    /// The change that makes it so.
    ///
    /// # Errors
    /// If the charter declares no such attribute or relation, or the value is not of its type.
    pub fn assert(self, policy: &Policy) -> Result<Change, Wrong> {
        let merge = |name: String| EntityLine { name, merge: true, ..EntityLine::default() };
        let line = match self {
            Fact::Grant(line) => return Ok(Change::Grant(line)),
            Fact::Activate(line) => return Ok(Change::Activate(line)),
            Fact::Within(entity, outer) => EntityLine { within: Some(Some(outer)), ..merge(entity) },
            Fact::Detached(entity) => EntityLine { detached: Some(true), ..merge(entity) },
            Fact::State(entity, word) => EntityLine { state: Some(word), ..merge(entity) },
            Fact::In(entity, of) if of.starts_with("group:") => {
                EntityLine { members: Some(vec![entity]), ..merge(of) }
            }
            Fact::In(entity, of) if of.starts_with("tenant:") => {
                EntityLine { tenants: Some(vec![of]), ..merge(entity) }
            }
            Fact::In(entity, of) => {
                return Err(Wrong::InWhat { entity: entity.into(), of: of.into() });
            }
            Fact::Said { entity, name, value: None, .. } => {
                return Err(Wrong::SayWhat { entity: entity.into(), name: name.into() });
            }
            Fact::Said { entity, name, add, value: Some(value) } => match meaning(policy, &entity, &name)? {
                Meaning::Relation => {
                    let to = list(&value).into_iter().map(unquoted).collect();
                    EntityLine { relations: vec![(name, Some(Related { to, add }))], ..merge(entity) }
                }
                Meaning::Attribute(attribute) => {
                    if add {
                        return Err(Wrong::WholeList { entity: entity.into(), name: name.into() });
                    }
                    let value = attribute_value(attribute, &value);
                    EntityLine { attributes: vec![(name, value)], ..merge(entity) }
                }
            },
        };
        Ok(Change::Entity(Box::new(line)))
    }

    /// The change that makes it so no longer.
    ///
    /// # Errors
    /// If the charter declares no such attribute or relation, or the fact cannot be taken away.
    pub fn retract(self, policy: &Policy) -> Result<Change, Wrong> {
        Ok(Change::Retract(match self {
            Fact::Grant(line) => Retraction::Grant(line),
            Fact::Activate(line) => Retraction::Activation(line),
            Fact::Within(entity, _) => return Err(Wrong::LiesSomewhere(entity.into())),
            Fact::Detached(entity) => Retraction::Detached(entity),
            Fact::State(entity, word) if word == "suspended" => Retraction::Suspended(entity),
            Fact::State(_, word) => return Err(Wrong::StateStays(word.into())),
            Fact::In(entity, of) => Retraction::Member { entity, of },
            Fact::Said { entity, name, value, .. } => match meaning(policy, &entity, &name)? {
                Meaning::Relation => {
                    Retraction::Related { entity, name, target: value.map(|value| unquoted(&value)) }
                }
                Meaning::Attribute(attribute) => {
                    let value = value.and_then(|value| attribute_value(attribute, &value));
                    Retraction::Attribute { entity, name, value }
                }
            },
        }))
    }
}

enum Meaning<'p> {
    Attribute(&'p Attribute),
    Relation,
}

fn meaning<'p>(policy: &'p Policy, entity: &str, name: &str) -> Result<Meaning<'p>, Wrong> {
    let (kind, _) = split_entity(entity)?;
    let Some(declared) = policy.kind(kind).map(|kind| &policy.model().kinds[kind.index()]) else {
        let known = policy.model().kinds.iter().map(|kind| kind.key.as_str());
        return Err(Wrong::UnknownType { kind: kind.into(), near: Near::of(kind, known) });
    };
    if declared.relations.iter().any(|relation| policy.name(relation.name) == name) {
        return Ok(Meaning::Relation);
    }
    let found = declared.attributes.iter().find(|attribute| policy.name(attribute.name) == name);
    found.map(Meaning::Attribute).ok_or_else(|| {
        let attributes = declared.attributes.iter().map(|a| policy.name(a.name));
        let known = attributes.chain(declared.relations.iter().map(|r| policy.name(r.name)));
        Wrong::UnknownProperty { kind: kind.into(), name: name.into(), near: Near::of(name, known) }
    })
}

/// What somebody typed, as the value the attribute's type makes of it.
fn attribute_value(attribute: &Attribute, written: &str) -> Option<Stated> {
    let scalar = |text: &str| typed_scalar(attribute.kind, text);
    if attribute.many {
        let items = list(written);
        return Some(Stated::Many(items.into_iter().filter_map(scalar).collect()));
    }
    scalar(written).map(Stated::One)
}

/// What somebody typed for a value of a type; what does not fit is kept as text, so that the
/// register says what it is and what it should be.
pub fn typed_scalar(kind: ValueType, written: &str) -> Option<Scalar> {
    let text = || Some(Scalar::Text(unquoted(written).into()));
    if kind == ValueType::Text || written.starts_with(['\'', '"']) {
        return text();
    }
    match serde_json::from_str(written).ok().and_then(|value| stated(&value)) {
        Some(Stated::One(scalar)) => Some(scalar),
        _ => text(),
    }
}

fn list(written: &str) -> Vec<&str> {
    let inner = written.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')).unwrap_or(written);
    inner.split(',').map(str::trim).filter(|item| !item.is_empty()).collect()
}

fn unquoted(text: &str) -> String {
    for quote in ['\'', '"'] {
        if let Some(inner) = text.strip_prefix(quote).and_then(|rest| rest.strip_suffix(quote)) {
            return inner.to_owned();
        }
    }
    text.to_owned()
}

fn name(text: &str) -> Result<String, Wrong> {
    split_entity(text)?;
    Ok(text.to_owned())
}

fn behind(line: &str, mark: &str) -> String {
    line.split_once(mark).map_or_else(String::new, |(_, value)| value.trim().to_owned())
}

/// `user:ines.clearance=5`: written without blanks, as people do.
fn tight(word: &str) -> Result<Fact, Wrong> {
    let at = word.find('=').unwrap_or(word.len());
    let add = word[..at].ends_with('+');
    let path = word[..at].trim_end_matches('+');
    said(path, add, Some(word[at + 1..].to_owned()))
}

fn said(path: &str, add: bool, value: Option<String>) -> Result<Fact, Wrong> {
    let Some((entity, attribute)) = path.rsplit_once('.') else { return Err(Wrong::NotAPath(path.into())) };
    if value.as_deref() == Some("") {
        return Err(Wrong::ValueMissing(path.into()));
    }
    Ok(Fact::Said { entity: name(entity)?, name: attribute.to_owned(), add, value })
}

fn unexpected(word: &str, known: &[&str], usage: &'static str) -> Wrong {
    Wrong::UnexpectedWord { word: word.into(), near: Near::of(word, known.iter().copied()), usage }
}

fn nothing_after(rest: &[&str], usage: &'static str) -> Result<(), Wrong> {
    match rest {
        [word] => Err(Wrong::NothingAfter { word: (*word).into(), usage }),
        _ => Ok(()),
    }
}

fn grant(words: &[&str]) -> Result<GrantLine, Wrong> {
    const USAGE: &str = "write grant ROLE to SUBJECT at PLACE [from T] [until T] [with name=a,b]";
    let [role, "to", to, "at", at, rest @ ..] = words else { return Err(Wrong::Usage(USAGE)) };
    let mut line =
        GrantLine { role: (*role).to_owned(), to: name(to)?, at: (*at).to_owned(), ..GrantLine::default() };
    let mut rest = rest;
    while let [word, value, more @ ..] = rest {
        match *word {
            "from" => line.from = Some(moment(value)?),
            "until" => line.until = Some(moment(value)?),
            "with" => {
                let (name, values) = value.split_once('=').ok_or(Wrong::Usage(USAGE))?;
                let values = values.split(',').filter(|v| !v.is_empty());
                let scalars = values
                    .map(|value| Scalar::from_digits(value).unwrap_or_else(|| Scalar::Text(value.into())));
                line.values.push((name.to_owned(), scalars.collect()));
            }
            other => return Err(unexpected(other, &["from", "until", "with"], USAGE)),
        }
        rest = more;
    }
    nothing_after(rest, USAGE)?;
    Ok(line)
}

fn activate(words: &[&str]) -> Result<ActivationLine, Wrong> {
    const USAGE: &str = "write activate GRANT for SUBJECT [session ID] [from T] [until T] [reason WORDS]";
    let [grant, "for", subject, rest @ ..] = words else { return Err(Wrong::Usage(USAGE)) };
    let mut line =
        ActivationLine { grant: (*grant).to_owned(), subject: name(subject)?, ..ActivationLine::default() };
    let mut rest = rest;
    while let [word, value, more @ ..] = rest {
        match *word {
            "session" => line.session = Some((*value).to_owned()),
            "from" => line.from = Some(moment(value)?),
            "until" => line.until = Some(moment(value)?),
            "reason" => {
                line.reason = Some(rest[1..].join(" "));
                return Ok(line);
            }
            other => return Err(unexpected(other, &["session", "from", "until", "reason"], USAGE)),
        }
        rest = more;
    }
    nothing_after(rest, USAGE)?;
    Ok(line)
}

fn moment(text: &str) -> Result<jiff::Timestamp, Wrong> {
    parse_time(text).ok_or_else(|| Wrong::NotAFactsMoment(text.into()))
}
