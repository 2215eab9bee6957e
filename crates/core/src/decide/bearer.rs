//! Who bears a token: from verified claims to a subject, and what they vouch for about it, as far as the
//! charter's `[issuer]` says. A question with a token is the same question with attributes, context and
//! session stated, asked of a register with the memberships written in; only that a grant on standby
//! counts through registered memberships alone.

use super::question::{Said, Subject};
use super::{Engine, World};
use crate::charter::model::{Attribute, GroupId, Issuer, KindId, Model, NameId, Stated};
use crate::charter::syntax::Unregistered;
use crate::names::{RESERVED_TYPES, did_you_mean, split_entity};
use crate::register::change::Checks;
use crate::register::line::stated;
use crate::register::{EntityId, Register, State, Sym, line};
use crate::value::{Scalar, ValueType};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Number, Value, json};
use std::borrow::Cow;
use std::sync::Arc;

/// A verified token.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Token {
    /// The key of its issuer in the charter.
    pub issuer: String,
    /// What it claims.
    pub claims: Map<String, Value>,
}

/// Why a verified token names nobody here: the question is denied, not asked as anonymous.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NotBorne {
    /// The revision has no block for it.
    #[error("the charter has no [issuer.{0}]{1}")]
    NoIssuer(String, String),
    /// It may not accompany this application's questions.
    #[error("tokens of {issuer} are not for the application {application}")]
    OtherApplication {
        /// The key of the issuer.
        issuer: String,
        /// The key of the application.
        application: String,
    },
    /// It has no claim that names a subject.
    #[error("the claim {0:?} names nobody")]
    NoSubject(String),
    /// What it names can be no subject.
    #[error("{0:?} can be nobody's name: {1}")]
    NoName(String, String),
    /// It differs from a name of the register by case or normal form alone.
    #[error("{0:?} is another name in the register but for case or normal form")]
    AlmostAnother(String),
    /// It was read for another register than it is asked of.
    #[error("the token was read for another state of the register")]
    OtherRegister,
}

/// What a token vouches for about memberships.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Vouched {
    /// Its issuer, by its place in the charter.
    pub issuer: usize,
    /// Groups of the register, in order.
    pub groups: Vec<EntityId>,
    /// Declared groups that the register does not know.
    pub declared: Vec<GroupId>,
    /// Tenants, in order.
    pub tenants: Vec<EntityId>,
    /// Groups of which its claims do not say whether.
    pub perhaps: Vec<EntityId>,
    /// Declared groups of which they do not, and that the register does not know.
    pub perhaps_declared: Vec<GroupId>,
}

/// One claim, and what became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct ClaimTold {
    /// Its name, as the charter has it.
    pub claim: String,
    /// What it is about: `subject`, `subject.post`, `context.amr`, `group:night`, `tenant:northline`,
    /// `session`.
    pub about: String,
    /// `counted`, `ignored`, `undetermined` or `missing`.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub outcome: Cow<'static, str>,
    /// What is to be said of it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub words: String,
}

/// Who bears a token, and what it vouches for.
#[derive(Clone, Debug)]
pub struct Bearer {
    /// `user:ines`, `service:crane-feed`.
    pub name: String,
    /// Whether they are in the register.
    pub registered: bool,
    /// What became of each claim that the charter reads.
    pub claims: Vec<ClaimTold>,
    pub(super) issuer: usize,
    pub(super) subject: Subject,
    /// What the claims say of the subject.
    pub(super) said: Said,
    /// Attributes that come from the token alone.
    pub(super) attributes: Vec<NameId>,
    /// Fields of the context that come from the token alone, and what they are.
    pub(super) context: Vec<(usize, Option<Stated>)>,
    /// The session, if it comes from the token alone.
    pub(super) session: Option<Option<Arc<str>>>,
    pub(super) vouched: Option<Arc<Vouched>>,
    /// The register with the bearer in it, who is not in it.
    world: Option<Arc<World>>,
}

/// The same bearer of the same claims.
impl PartialEq for Bearer {
    fn eq(&self, other: &Self) -> bool {
        self.name == other.name && self.issuer == other.issuer && self.claims == other.claims
    }
}

impl Bearer {
    /// Reads verified claims under a charter and a register; `asking` is the application whose question it is.
    ///
    /// Costs a look at each claim the charter reads. A bearer who is not registered and counts as signed
    /// in costs a copy of the register, whose parts are shared.
    ///
    /// # Errors
    /// If the token names nobody here.
    pub fn of(world: &World, token: &Token, asking: Option<&str>) -> Result<Bearer, NotBorne> {
        let engine = world.engine();
        let model = engine.policy.model();
        let place = model.issuers.binary_search_by(|issuer| issuer.key.as_str().cmp(&token.issuer));
        let Ok(place) = place else {
            let near = did_you_mean(&token.issuer, model.issuers.iter().map(|issuer| issuer.key.as_str()));
            return Err(NotBorne::NoIssuer(token.issuer.clone(), near));
        };
        let issuer = &model.issuers[place];
        if let Some(asking) = asking
            && !issuer.applications.iter().any(|at| model.applications[*at].key == asking)
        {
            return Err(NotBorne::OtherApplication {
                issuer: issuer.key.clone(),
                application: asking.to_owned(),
            });
        }
        let name = named(issuer, &token.claims)?;
        let found = engine.register.find(&name);
        if found.is_none() && engine.register.called_alike(&name).is_some() {
            return Err(NotBorne::AlmostAnother(name));
        }
        let visits = found.is_none() && issuer.unregistered == Unregistered::SignedIn;
        let world = visits.then(|| Arc::new(with_visitor(world, &name)));
        let engine = world.as_ref().map_or(engine, |world| world.engine());
        let subject = engine.register.find(&name).map_or(Subject::Anonymous, Subject::Entity);
        let claims = Claims { engine, issuer, all: &token.claims, told: Vec::new() };
        Ok(claims.read(name, place, subject, found.is_some(), world.clone()))
    }

    /// The charter and the register that its questions are asked of: those it was read under, with the bearer
    /// in the register if they are not in it but count as signed in.
    pub fn world<'w>(&'w self, read_under: &'w World) -> &'w World {
        self.world.as_deref().unwrap_or(read_under)
    }

    /// What the register says of what a claim is about, where that is something else.
    pub fn beside(&self, world: &World, told: &ClaimTold) -> Option<String> {
        let engine = world.engine();
        let id = engine.register.registered(&self.name)?;
        if let Some(key) = told.about.strip_prefix("subject.") {
            let sym = engine.register.sym(key);
            let registered = sym.and_then(|sym| engine.register.attribute(id, sym))?.to_json();
            let vouched = engine.policy.model().names.find(key).and_then(|name| {
                let own = self.said.attributes.iter().find(|(known, _)| known.0 == name);
                own.map(|(_, stated)| stated.to_json())
            });
            return (vouched.as_ref() != Some(&registered)).then(|| registered.to_string());
        }
        let is = match told.about.split_once(':') {
            Some(("group", _)) => {
                let group = engine.register.registered(&told.about)?;
                engine.register.holders_of(id).contains(&group)
            }
            Some(("tenant", _)) => {
                let tenant = engine.register.registered(&told.about)?;
                engine.register.tenants(id).contains(&tenant)
            }
            _ => return None,
        };
        let counted = told.outcome == "counted";
        (is != counted).then(|| if is { "a member" } else { "not a member" }.to_owned())
    }

    /// Whether it was read for a register: numbers of entities mean something in one register only.
    pub(super) fn is_of(&self, engine: Engine<'_>) -> bool {
        if let Subject::Entity(id) = self.subject
            && engine.register.name(id) != self.name
        {
            return false;
        }
        self.world.as_ref().is_none_or(|world| std::ptr::eq(world.register(), engine.register))
    }
}

/// The same register with somebody in it of whom nothing is said.
fn with_visitor(world: &World, name: &str) -> World {
    let mut other = world.clone();
    let line = line::from_json(&json!({ "entity": name }));
    if let Ok(change) = line
        && other.apply_under(&[change], Checks::of(&[])).is_err()
    {
        // A name that no subject can have was refused before.
        return world.clone();
    }
    other
}

/// A claim: by its whole name, or step by step between dots.
pub fn claim<'c>(claims: &'c Map<String, Value>, name: &str) -> Option<&'c Value> {
    let found = claims.get(name).or_else(|| {
        let mut steps = name.split('.');
        let first = claims.get(steps.next()?)?;
        steps.try_fold(first, |value, step| value.as_object()?.get(step))
    });
    found.filter(|value| !value.is_null())
}

/// Whom the claims name.
fn named(issuer: &Issuer, claims: &Map<String, Value>) -> Result<String, NotBorne> {
    let text = |name: &str| claim(claims, name).and_then(Value::as_str);
    let is_service = match &issuer.services {
        Some((name, values)) => {
            let is = |value: &Value| value.as_str().is_some_and(|text| values.iter().any(|one| one == text));
            claim(claims, name).is_some_and(|value| match value {
                Value::Array(items) => items.iter().any(is),
                one => is(one),
            })
        }
        None => text("sub").is_some_and(|sub| text("client_id") == Some(sub)),
    };
    let name = if is_service {
        format!("service:{}", text("client_id").ok_or_else(|| NotBorne::NoSubject("client_id".to_owned()))?)
    } else {
        let value = text(&issuer.subject).filter(|value| !value.is_empty());
        let value = value.ok_or_else(|| NotBorne::NoSubject(issuer.subject.clone()))?;
        let value = if issuer.lower_case { value.to_lowercase() } else { value.to_owned() };
        format!("user:{}{value}", issuer.prefix)
    };
    let (_, id) = split_entity(&name).map_err(|wrong| NotBorne::NoName(name.clone(), wrong.to_string()))?;
    if let Some((kind, _)) = id.split_once(':').filter(|(kind, _)| RESERVED_TYPES.contains(kind)) {
        return Err(NotBorne::NoName(name.clone(), format!("it begins with {kind}:")));
    }
    Ok(name)
}

/// Claims as they are read.
struct Claims<'c> {
    engine: Engine<'c>,
    issuer: &'c Issuer,
    all: &'c Map<String, Value>,
    told: Vec<ClaimTold>,
}

impl<'c> Claims<'c> {
    fn model(&self) -> &'c Model {
        self.engine.policy.model()
    }

    fn tell(
        &mut self,
        claim: &str,
        about: impl Into<String>,
        outcome: &'static str,
        words: impl Into<String>,
    ) {
        self.told.push(ClaimTold {
            claim: claim.to_owned(),
            about: about.into(),
            outcome: outcome.into(),
            words: words.into(),
        });
    }

    fn read(
        mut self,
        name: String,
        place: usize,
        subject: Subject,
        registered: bool,
        world: Option<Arc<World>>,
    ) -> Bearer {
        let who = if registered || world.is_some() { "" } else { "not in the register; asked as anonymous" };
        let by = if name.starts_with("service:") { "client_id" } else { &self.issuer.subject };
        self.tell(
            by,
            "subject",
            "counted",
            if who.is_empty() { name.clone() } else { format!("{name}: {who}") },
        );
        let kind = match name.starts_with("service:") {
            true => KindId::SERVICE,
            false => KindId::USER,
        };
        let said = Said { attributes: self.attributes(kind, subject), relations: Vec::new() };
        let context = self.context();
        let session = self.issuer.session.as_deref().map(|name| self.session(name));
        let vouched = match subject {
            Subject::Anonymous => {
                self.nobodys();
                None
            }
            Subject::Entity(_) => Some(self.vouched(place)),
        };
        Bearer {
            name,
            registered,
            issuer: place,
            subject,
            said,
            attributes: self.issuer.attributes.iter().map(|(name, _)| *name).collect(),
            context,
            session,
            vouched: vouched.map(Arc::new),
            claims: self.told,
            world,
        }
    }

    /// Memberships of somebody who is anonymous.
    fn nobodys(&mut self) {
        let tenants = self.issuer.tenants.iter().map(|tenants| &tenants.claim);
        let names: Vec<&String> =
            tenants.chain(self.issuer.groups.iter().map(|groups| &groups.claim)).collect();
        for name in names {
            if claim(self.all, name).is_some() {
                self.tell(name, "memberships", "ignored", "who is not registered is a member of nothing");
            }
        }
    }

    // -- what is said of the subject ---------------------------------------------------------------

    fn attributes(&mut self, kind: KindId, subject: Subject) -> Vec<(NameId, Stated)> {
        let model = self.model();
        let mut all = Vec::new();
        for (attribute, from) in &self.issuer.attributes {
            let key = format!("subject.{}", model.names.text(attribute.0));
            let Some(value) = claim(self.all, from) else {
                self.tell(from, key, "missing", "");
                continue;
            };
            let kind = &model.kinds[kind.index()];
            let declared = kind.attribute(*attribute);
            let why = match declared {
                _ if subject == Subject::Anonymous => "who is not registered is anonymous",
                None => "a subject of this kind declares no such attribute",
                Some(declared) if !declared.from.reads_request() => "it is read from the register only",
                Some(declared) => {
                    all.extend(self.value(declared, from, key, value).map(|value| (*attribute, value)));
                    continue;
                }
            };
            self.tell(from, key, "ignored", why);
        }
        all
    }

    fn context(&mut self) -> Vec<(usize, Option<Stated>)> {
        let model = self.model();
        let mut all = Vec::new();
        for (at, from) in &self.issuer.context {
            let declared = &model.context[*at];
            let key = format!("context.{}", model.names.text(declared.name.0));
            let value = match claim(self.all, from) {
                Some(value) => self.value(declared, from, key, value),
                None => {
                    self.tell(from, key, "missing", "");
                    None
                }
            };
            all.push((*at, value));
        }
        all
    }

    /// A value as its attribute is stated: seconds fill a time.
    fn value(&mut self, declared: &Attribute, from: &str, key: String, value: &Value) -> Option<Stated> {
        let seconds = |number: &Number| Timestamp::from_second(number.as_i64()?).ok();
        let value = match value {
            Value::Number(number) if declared.kind == ValueType::Time => seconds(number).map_or_else(
                || stated(value),
                |time| Some(Stated::One(Scalar::Text(time.to_string().into()))),
            ),
            _ => stated(value),
        };
        let is_read = match &value {
            Some(Stated::One(scalar)) => !declared.many && scalar.read(declared.kind).is_some(),
            Some(Stated::Many(all)) => {
                declared.many && all.iter().all(|scalar| scalar.read(declared.kind).is_some())
            }
            _ => false,
        };
        match is_read {
            true => self.tell(from, key, "counted", ""),
            false => {
                let many = if declared.many { "a list of " } else { "" };
                self.tell(from, key, "undetermined", format!("it is no {many}{}", declared.kind));
            }
        }
        value
    }

    fn session(&mut self, name: &str) -> Option<Arc<str>> {
        let Some(value) = claim(self.all, name) else {
            self.tell(name, "session", "missing", "");
            return None;
        };
        let Some(text) = value.as_str() else {
            self.tell(name, "session", "ignored", "it is no text");
            return None;
        };
        let session = format!("{}/{text}", self.issuer.key);
        self.tell(name, "session", "counted", session.clone());
        Some(session.into())
    }

    // -- memberships -------------------------------------------------------------------------------

    fn vouched(&mut self, issuer: usize) -> Vouched {
        let mut vouched = Vouched { issuer, ..Vouched::default() };
        if let Some(tenants) = &self.issuer.tenants {
            self.tenants(&tenants.claim, tenants.only.as_deref(), &mut vouched);
        }
        for at in 0..self.issuer.groups.len() {
            self.groups(at, &mut vouched);
        }
        for list in [&mut vouched.groups, &mut vouched.tenants, &mut vouched.perhaps] {
            list.sort_unstable();
            list.dedup();
        }
        for list in [&mut vouched.declared, &mut vouched.perhaps_declared] {
            list.sort_unstable();
            list.dedup();
        }
        vouched
    }

    fn tenants(&mut self, name: &str, only: Option<&[String]>, vouched: &mut Vouched) {
        let items = match claim(self.all, name) {
            None => return self.tell(name, "tenants", "missing", ""),
            Some(Value::Array(items)) => items.as_slice(),
            Some(one) => std::slice::from_ref(one),
        };
        for item in items {
            let Some(id) = item.as_str() else {
                self.tell(name, "tenants", "ignored", format!("{item} is no text"));
                continue;
            };
            let full = format!("tenant:{id}");
            match self.engine.register.registered(&full) {
                _ if only.is_some_and(|only| !only.contains(&full)) => {
                    self.tell(name, full, "ignored", "this issuer may not vouch for it");
                }
                None => self.tell(name, full, "ignored", "it is not registered"),
                Some(id) => {
                    vouched.tenants.push(id);
                    self.tell(name, full, "counted", "");
                }
            }
        }
    }

    fn groups(&mut self, at: usize, vouched: &mut Vouched) {
        let groups = &self.issuer.groups[at];
        let name = groups.claim.as_str();
        let overflowed = claim(self.all, "_claim_names").and_then(Value::as_object);
        let items = match claim(self.all, name) {
            None if overflowed.is_some_and(|names| names.contains_key(name)) => {
                self.tell(
                    name,
                    "groups",
                    "undetermined",
                    "the token leaves its groups to be asked for elsewhere",
                );
                return self.perhaps(at, vouched);
            }
            None => return self.tell(name, "groups", "missing", ""),
            Some(Value::Array(items)) => items.as_slice(),
            Some(one @ Value::String(_)) => std::slice::from_ref(one),
            Some(_) => {
                self.tell(name, "groups", "undetermined", "it is no list of texts");
                return self.perhaps(at, vouched);
            }
        };
        for item in items {
            let Some(text) = item.as_str() else {
                self.tell(name, "groups", "ignored", format!("{item} is no text"));
                continue;
            };
            let mapped = groups.map.iter().filter(|(value, _)| value == text).map(|(_, group)| group.clone());
            let by_name = groups.by_name.then(|| format!("group:{text}"));
            let meant: Vec<String> = mapped.chain(by_name).collect();
            if meant.is_empty() {
                self.tell(name, "groups", "ignored", format!("{text:?} stands for no group"));
            }
            for group in meant {
                match self.group(&group) {
                    Ok(Found::Registered(id)) => vouched.groups.push(id),
                    Ok(Found::Declared(id)) => vouched.declared.push(id),
                    Err(why) => {
                        self.tell(name, group, "ignored", why);
                        continue;
                    }
                }
                self.tell(name, group, "counted", if text.is_empty() { "" } else { text });
            }
        }
    }

    /// The groups that a claim which cannot be read might name.
    fn perhaps(&self, at: usize, vouched: &mut Vouched) {
        let groups = &self.issuer.groups[at];
        let mut add = |found: Result<Found, &str>| match found {
            Ok(Found::Registered(id)) => vouched.perhaps.push(id),
            Ok(Found::Declared(id)) => vouched.perhaps_declared.push(id),
            Err(_) => {}
        };
        groups.map.iter().for_each(|(_, group)| add(self.group(group)));
        if groups.by_name {
            let register = self.engine.register;
            let all = register.all_entities().filter(|id| register.kind(*id) == Sym::GROUP);
            all.for_each(|id| add(self.group(register.name(id))));
            self.model().groups.iter().for_each(|key| add(self.group(&format!("group:{key}"))));
        }
    }

    /// A group that may be vouched for; or why it may not.
    fn group(&self, name: &str) -> Result<Found, &'static str> {
        let register: &Register = self.engine.register;
        let Some(id) = register.find(name) else {
            let declared =
                self.model().groups.iter().position(|key| name.strip_prefix("group:") == Some(key));
            return declared.map(|at| Found::Declared(GroupId::at(at))).ok_or("there is no such group");
        };
        if register.state(id) == State::Deleted {
            return Err("it is deleted");
        }
        let only = self.issuer.tenants.as_ref().and_then(|tenants| tenants.only.as_ref());
        if let (Some(only), Some(tenant)) = (only, register.group_tenant(id))
            && !only.iter().any(|one| one == register.name(tenant))
        {
            return Err("this issuer may not vouch for groups of its tenant");
        }
        Ok(Found::Registered(id))
    }
}

/// A group that a token may vouch for.
enum Found {
    Registered(EntityId),
    Declared(GroupId),
}

impl Vouched {
    /// Its groups, and those they are in.
    pub(super) fn closure(&self, register: &Register) -> Vec<EntityId> {
        let mut all: Vec<EntityId> =
            self.groups.iter().flat_map(|group| register.holders_of(*group)).collect();
        all.sort_unstable();
        all.dedup();
        all
    }
}
