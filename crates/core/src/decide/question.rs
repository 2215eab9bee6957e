//! What is asked: from names, JSON properties and a context to ids and typed facts, with a note of
//! all that was ignored on the way.

use super::bearer::{Bearer, NotBorne, Vouched};
use super::{Engine, Reason};
use crate::charter::model::{Attribute, Kind, KindId, NameId, PermId, Relation, Stated};
use crate::names::{did_you_mean, kind_of, nearest, split_entity};
use crate::register::line::stated;
use crate::register::{EntityId, State};
use jiff::Timestamp;
use serde_json::{Map, Value};
use std::sync::{Arc, LazyLock};

/// Most properties or context keys of one question.
const MAX_PROPERTIES: usize = 256;
/// Why something that was stated does not count.
const VOUCHED_ONLY: &str = "only a token can vouch for it";
/// Among how many names it is looked for the one that was meant.
const NEAR_AMONG: usize = 20_000;

/// Who asks to be let in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Subject {
    /// Nobody known.
    Anonymous,
    /// A user or service of the register.
    Entity(EntityId),
}

/// What it is about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Resource {
    /// A resource of the register, deleted ones included.
    Registered(EntityId),
    /// One the register does not know.
    Stated {
        /// `type:id`, if it has an id.
        name: Option<Box<str>>,
        /// What the question says it lies within.
        within: Option<EntityId>,
    },
}

/// What the request said of the subject or the resource.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Said {
    /// Attributes.
    pub attributes: Vec<(NameId, Stated)>,
    /// Relations; `None` is something that is no registered entity.
    pub relations: Vec<(NameId, Option<Vec<EntityId>>)>,
}

/// A question about one revision and one state of the register.
#[derive(Clone, Debug, PartialEq)]
pub struct Question {
    /// Who.
    pub subject: Subject,
    /// May do what.
    pub permission: PermId,
    /// With what.
    pub resource: Resource,
    /// What the request says of the subject.
    pub of_subject: Arc<Said>,
    /// What the request says of the resource.
    pub of_resource: Arc<Said>,
    /// The context, by the index of its declared keys.
    pub context: Arc<[Option<Stated>]>,
    /// The moment it is asked about.
    pub now: Timestamp,
    /// The session it is asked in.
    pub session: Option<Arc<str>>,
    /// What a token vouches for beside the register.
    pub vouched: Option<Arc<Vouched>>,
}

/// A question as it comes in.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Request {
    /// `user:ines`, `service:crane-feed`, `anonymous`.
    pub subject: String,
    /// Who bears the token that stands in the place of the subject; or why nobody does.
    pub bearer: Option<Result<Arc<Bearer>, NotBorne>>,
    /// Whether what is said of the subject and in the context is taken as vouched for by a token.
    pub vouched: bool,
    /// `type:action`.
    pub permission: String,
    /// `type:id`; none asks about a new one.
    pub resource: Option<String>,
    /// Properties of the subject.
    pub of_subject: Map<String, Value>,
    /// Properties of the resource, `within` among them.
    pub of_resource: Map<String, Value>,
    /// The context; its `session` is the session.
    pub context: Map<String, Value>,
}

/// A request turned into a question, or into the refusal it meets at once.
#[derive(Clone, Debug)]
pub struct Asked {
    /// The question; or why it is denied without being asked.
    pub question: Result<Question, Reason>,
    /// What the request said that does not count, and why.
    pub ignored: Vec<String>,
    /// Whom and what it names that is not in the register, and how that is asked.
    pub unregistered: Vec<String>,
}

/// A question that makes no sense: an error, not a decision.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct Malformed(pub String);

impl Request {
    /// Resolves the request's names.
    ///
    /// # Errors
    /// A subject that is no subject, a name that is none, or a permission of another type than
    /// the resource's.
    pub fn resolve(&self, engine: Engine<'_>, now: Timestamp) -> Result<Asked, Malformed> {
        self.read(Reader { engine, now, tells: true, vouched: self.vouched })
    }

    /// The same, without telling what does not count: for those who ask many.
    ///
    /// # Errors
    /// As [`Request::resolve`].
    pub fn resolve_quietly(&self, engine: Engine<'_>, now: Timestamp) -> Result<Asked, Malformed> {
        self.read(Reader { engine, now, tells: false, vouched: self.vouched })
    }

    fn read(&self, reader: Reader<'_>) -> Result<Asked, Malformed> {
        let subject = match &self.bearer {
            None => reader.subject(&self.subject, &self.of_subject)?,
            Some(Ok(bearer)) => match reader.bearer(bearer, &self.of_subject)? {
                Ok(subject) => subject,
                Err(why) => return Ok(Asked::refused(&why)),
            },
            Some(Err(why)) => return Ok(Asked::refused(why)),
        };
        let permission = match reader.permission(&self.permission, self.resource.as_deref())? {
            Ok(permission) => permission,
            Err(unknown) => return Ok(reader.denied(unknown, &subject)),
        };
        let resource = reader.resource(permission, self.resource.as_deref(), &self.of_resource)?;
        let context = reader.context(&self.context)?;
        Ok(reader.asked(permission, &subject, &resource, &context))
    }
}

impl Asked {
    /// The denial that a token which names nobody meets, before anything is looked up.
    pub fn refused(why: &NotBorne) -> Asked {
        let told = format!("the token is refused: {why}");
        Asked { question: Err(Reason::TokenRefused), ignored: vec![told], unregistered: Vec::new() }
    }
}

/// What a request says of its subject, read.
#[derive(Clone, Debug)]
pub struct SubjectPart {
    subject: Subject,
    unregistered: Option<String>,
    said: Arc<Said>,
    ignored: Vec<String>,
    /// Who bears the token, if one stands for the subject.
    bearer: Option<Arc<Bearer>>,
}

/// What a request says of its resource, read.
#[derive(Clone, Debug)]
pub struct ResourcePart {
    resource: Resource,
    unregistered: Option<String>,
    said: Arc<Said>,
    ignored: Vec<String>,
}

/// The context of a request, read.
#[derive(Clone, Debug)]
pub struct ContextPart {
    context: Arc<[Option<Stated>]>,
    session: Option<Arc<str>>,
    ignored: Vec<String>,
}

/// A type or permission that the charter does not declare.
#[derive(Clone, Debug)]
pub struct Unknown {
    /// The code of the denial.
    pub reason: Reason,
    told: String,
}

/// Reads requests part by part: a part that many questions share is read once.
#[derive(Clone, Copy, Debug)]
pub struct Reader<'e> {
    /// What is asked.
    pub engine: Engine<'e>,
    /// The moment that is asked about.
    pub now: Timestamp,
    /// Whether what does not count is told, with what may have been meant: costs a comparison of names.
    pub tells: bool,
    /// Whether what is said of the subject and in the context is taken as vouched for by a token.
    pub vouched: bool,
}

static NOTHING_SAID: LazyLock<Arc<Said>> = LazyLock::new(Arc::default);

impl Reader<'_> {
    /// Who asks.
    ///
    /// # Errors
    /// If it is the name of no subject, or more is said of it than can be.
    pub fn subject(&self, name: &str, properties: &Map<String, Value>) -> Result<SubjectPart, Malformed> {
        let mut ignored = Vec::new();
        let (subject, unregistered) = self.who(name)?;
        ignored.extend(unregistered.clone());
        few(properties, "subject")?;
        let said = match subject {
            Subject::Anonymous => {
                let told = properties.keys().map(|key| format!("subject.{key}: the subject is anonymous"));
                ignored.extend(told.take(if self.tells { usize::MAX } else { 0 }));
                Arc::clone(&NOTHING_SAID)
            }
            Subject::Entity(id) => {
                let kind = self.engine.kind(id).unwrap_or(KindId::USER);
                let kind = &self.engine.policy.model().kinds[kind.index()];
                self.said(kind, properties, "subject", &mut ignored)
            }
        };
        Ok(SubjectPart { subject, unregistered, said, ignored, bearer: None })
    }

    /// Who asks by a token. What its issuer maps comes from the token alone.
    ///
    /// # Errors
    /// If more is said of the subject than can be; within, if the token was read for another register.
    pub fn bearer(
        &self,
        bearer: &Arc<Bearer>,
        properties: &Map<String, Value>,
    ) -> Result<Result<SubjectPart, NotBorne>, Malformed> {
        few(properties, "subject")?;
        if !bearer.is_of(self.engine) {
            return Ok(Err(NotBorne::OtherRegister));
        }
        let mut ignored = Vec::new();
        if self.tells {
            let odd = bearer.claims.iter().filter(|told| {
                matches!(&*told.outcome, "ignored" | "undetermined")
                    || told.about == "subject" && !bearer.registered
            });
            ignored.extend(odd.map(|told| format!("token.{}: {} ({})", told.claim, told.words, told.about)));
        }
        let policy = self.engine.policy;
        let (mapped, stated): (Map<_, _>, Map<_, _>) = properties
            .iter()
            .map(|(key, value)| (key.clone(), value.clone()))
            .partition(|(key, _)| bearer.attributes.iter().any(|name| policy.name(*name) == key));
        if self.tells {
            ignored.extend(mapped.keys().map(|key| format!("subject.{key}: the token alone says it")));
        }
        let mut part = match bearer.subject {
            Subject::Anonymous => self.subject("anonymous", &stated)?,
            Subject::Entity(id) => {
                let kind = self.engine.kind(id).unwrap_or(KindId::USER);
                let kind = &policy.model().kinds[kind.index()];
                let mut told = Vec::new();
                let said = self.said(kind, &stated, "subject", &mut told);
                SubjectPart { subject: bearer.subject, unregistered: None, said, ignored: told, bearer: None }
            }
        };
        if !bearer.said.attributes.is_empty() {
            let said = Arc::make_mut(&mut part.said);
            said.attributes.extend(bearer.said.attributes.iter().cloned());
        }
        ignored.append(&mut part.ignored);
        Ok(Ok(SubjectPart { ignored, bearer: Some(Arc::clone(bearer)), ..part }))
    }

    /// The subject; and, where it is wanted, that it is not in the register.
    fn who(&self, name: &str) -> Result<(Subject, Option<String>), Malformed> {
        if name == "anonymous" || name.starts_with("anonymous:") {
            return Ok((Subject::Anonymous, None));
        }
        // Nobody is registered under a name that none can be: unknown, like anybody else who is not.
        let kind = kind_of(name).map_err(|wrong| Malformed(wrong.into()))?;
        if kind != "user" && kind != "service" {
            let near = did_you_mean(kind, ["user", "service", "anonymous"]);
            return Err(Malformed(format!(
                "a subject is a user, a service or anonymous, not a {kind}{near}"
            )));
        }
        // Whether they are deleted is for a decision to say, to those who see that.
        let register = self.engine.register;
        let found = register
            .find(name)
            .filter(|id| self.engine.sight.is_everything() || register.state(*id) != State::Deleted);
        Ok(match found {
            Some(id) => (Subject::Entity(id), None),
            None => (Subject::Anonymous, self.not_registered(name, "as anonymous")),
        })
    }

    /// That something is not in the register, with what may have been meant, and how it is asked.
    fn not_registered(&self, name: &str, asked: &str) -> Option<String> {
        if !self.tells {
            return None;
        }
        let register = self.engine.register;
        let all = self.engine.sight.all(register).take(NEAR_AMONG).map(|id| register.name(id));
        let near = nearest(name, all).map_or_else(String::new, |near| format!(" (did you mean {near}?)"));
        Some(format!("{name} is not in the register{near}; asked {asked}"))
    }

    /// What is to be done.
    ///
    /// # Errors
    /// If it is no permission, or one of another type than the resource's.
    pub fn permission(
        &self,
        permission: &str,
        resource: Option<&str>,
    ) -> Result<Result<PermId, Unknown>, Malformed> {
        let policy = self.engine.policy;
        let kind = match permission.split_once(':') {
            Some((kind, action)) if !kind.is_empty() && !action.is_empty() => kind,
            _ => return Err(Malformed(format!("{permission:?} is not a permission: write type:action"))),
        };
        if let Some(resource) = resource {
            // Nothing is registered under a name that nothing can have.
            let of = kind_of(resource).map_err(|wrong| Malformed(wrong.into()))?;
            if of != kind {
                return Err(Malformed(format!(
                    "{permission:?} is a permission for a {kind}, and {resource} is a {of}"
                )));
            }
        }
        if !policy.kind(kind).is_some_and(KindId::is_resource) {
            let known = policy.model().kinds.iter().map(|kind| kind.key.as_str());
            let near = self.near(kind, known);
            let told = format!("the charter declares no type {kind:?}{near}");
            return Ok(Err(Unknown { reason: Reason::UnknownType, told }));
        }
        Ok(policy.permission(permission).ok_or_else(|| {
            let known = policy.model().permissions.iter().map(|permission| permission.text.as_str());
            let near = self.near(permission, known);
            let told = format!("the charter declares no permission {permission:?}{near}");
            Unknown { reason: Reason::UnknownPermission, told }
        }))
    }

    fn near<'n>(&self, wrong: &str, known: impl Iterator<Item = &'n str>) -> String {
        if self.tells { did_you_mean(wrong, known) } else { String::new() }
    }

    /// What it is to be done with.
    ///
    /// # Errors
    /// If more is said of it than can be.
    pub fn resource(
        &self,
        permission: PermId,
        name: Option<&str>,
        properties: &Map<String, Value>,
    ) -> Result<ResourcePart, Malformed> {
        few(properties, "resource")?;
        let engine = self.engine;
        let model = engine.policy.model();
        let kind = &model.kinds[model.permissions[permission.index()].kind.index()];
        let mut ignored = Vec::new();
        let said = self.said(kind, properties, "resource", &mut ignored);
        let within = properties.get("within").filter(|value| !value.is_null());
        let found = name.and_then(|name| engine.register.find(name));
        if let Some(id) = found.filter(|id| self.engine.sight.names(engine.register, *id)) {
            if within.is_some() && self.tells {
                ignored.push("resource.within: the resource is registered".to_owned());
            }
            return Ok(ResourcePart {
                resource: Resource::Registered(id),
                unregistered: None,
                said,
                ignored,
            });
        }
        let within = within.and_then(|value| match self.within(kind, value) {
            Ok(id) => Some(id),
            Err(why) => {
                if self.tells {
                    ignored.push(format!("resource.within: {why}"));
                }
                None
            }
        });
        let resource = Resource::Stated { name: name.map(Into::into), within };
        let unregistered = name.and_then(|name| self.not_registered(name, "as a new one"));
        Ok(ResourcePart { resource, unregistered, said, ignored })
    }

    /// Where an unregistered resource is said to lie.
    fn within(&self, kind: &Kind, value: &Value) -> Result<EntityId, String> {
        let model = self.engine.policy.model();
        let text = value.as_str().ok_or("it names one entity")?;
        let (outer, _) = split_entity(text)?;
        let declared = kind.within.iter().any(|kind| model.kinds[kind.index()].key == outer);
        if !declared {
            return Err(format!("a {} does not lie within a {outer}", kind.key));
        }
        self.named(text).ok_or_else(|| format!("{text} is not registered"))
    }

    /// An entity that is registered and may be named.
    fn named(&self, name: &str) -> Option<EntityId> {
        let register = self.engine.register;
        register.registered(name).filter(|id| self.engine.sight.names(register, *id))
    }

    /// The surroundings.
    ///
    /// # Errors
    /// If they have more keys than they can.
    pub fn context(&self, context: &Map<String, Value>) -> Result<ContextPart, Malformed> {
        few(context, "context")?;
        let policy = self.engine.policy;
        let declared = &policy.model().context;
        let mut ignored = Vec::new();
        if self.tells {
            for key in context.keys().filter(|key| key.as_str() != "session") {
                if !declared.iter().any(|attribute| policy.name(attribute.name) == key) {
                    let names = declared.iter().map(|attribute| policy.name(attribute.name));
                    ignored.push(format!("context.{key}: not declared{}", self.near(key, names)));
                }
            }
            let only = declared.iter().filter(|attribute| !self.may_be_stated(attribute));
            let only = only.filter(|attribute| context.contains_key(policy.name(attribute.name)));
            ignored.extend(
                only.map(|attribute| format!("context.{}: {VOUCHED_ONLY}", policy.name(attribute.name))),
            );
        }
        let read = |attribute: &Attribute| {
            let said = context.get(policy.name(attribute.name)).filter(|_| self.may_be_stated(attribute));
            said.and_then(stated)
        };
        Ok(ContextPart {
            context: declared.iter().map(read).collect(),
            session: context.get("session").and_then(Value::as_str).map(Into::into),
            ignored,
        })
    }

    /// The question that the parts make.
    pub fn asked(
        &self,
        permission: PermId,
        subject: &SubjectPart,
        resource: &ResourcePart,
        context: &ContextPart,
    ) -> Asked {
        let mut question = Question {
            subject: subject.subject,
            permission,
            resource: resource.resource.clone(),
            of_subject: Arc::clone(&subject.said),
            of_resource: Arc::clone(&resource.said),
            context: Arc::clone(&context.context),
            now: self.now,
            session: context.session.clone(),
            vouched: None,
        };
        let mut ignored: Vec<String> =
            [&subject.ignored, &resource.ignored, &context.ignored].into_iter().flatten().cloned().collect();
        if let Some(bearer) = &subject.bearer {
            if let Err(why) = self.owns(bearer, permission) {
                return Asked::refused(&why);
            }
            self.vouch(bearer, &mut question, &mut ignored);
        }
        Asked {
            question: Ok(question),
            ignored,
            unregistered: subject.unregistered.iter().chain(&resource.unregistered).cloned().collect(),
        }
    }

    /// Whether the issuer's tokens are for the application that owns what is asked about.
    fn owns(&self, bearer: &Bearer, permission: PermId) -> Result<(), NotBorne> {
        let model = self.engine.policy.model();
        let issuer = &model.issuers[bearer.issuer];
        let owner = model.kinds[model.permissions[permission.index()].kind.index()].application;
        match owner.filter(|owner| !issuer.applications.contains(owner)) {
            None => Ok(()),
            Some(owner) => Err(NotBorne::OtherApplication {
                issuer: issuer.key.clone(),
                application: model.applications[owner].key.clone(),
            }),
        }
    }

    /// Puts what a token says in the place of what the application does, where the issuer maps it.
    fn vouch(&self, bearer: &Bearer, question: &mut Question, ignored: &mut Vec<String>) {
        question.vouched.clone_from(&bearer.vouched);
        if let Some(session) = &bearer.session {
            if self.tells && question.session.is_some() {
                ignored.push("context.session: the token alone says it".to_owned());
            }
            question.session.clone_from(session);
        }
        if bearer.context.is_empty() {
            return;
        }
        let declared = &self.engine.policy.model().context;
        let mut context = question.context.to_vec();
        for (at, value) in &bearer.context {
            let stated = std::mem::replace(&mut context[*at], value.clone());
            if self.tells && stated.is_some() {
                let key = self.engine.policy.name(declared[*at].name);
                ignored.push(format!("context.{key}: the token alone says it"));
            }
        }
        question.context = context.into();
    }

    fn may_be_stated(&self, attribute: &Attribute) -> bool {
        self.vouched || attribute.from.may_be_stated()
    }

    /// The denial that something unknown meets.
    pub fn denied(&self, unknown: Unknown, subject: &SubjectPart) -> Asked {
        let ignored = subject.unregistered.iter().cloned().chain([unknown.told]).collect();
        Asked { question: Err(unknown.reason), ignored, unregistered: Vec::new() }
    }

    /// The properties that count, by what the type declares.
    fn said(
        &self,
        kind: &Kind,
        properties: &Map<String, Value>,
        whose: &str,
        ignored: &mut Vec<String>,
    ) -> Arc<Said> {
        if properties.is_empty() {
            return Arc::clone(&NOTHING_SAID);
        }
        let mut said = Said::default();
        let policy = self.engine.policy;
        for (key, value) in properties.iter().filter(|(key, _)| key.as_str() != "within") {
            let why = if let Some(attribute) = kind.attributes.iter().find(|a| policy.name(a.name) == key) {
                self.attribute_said(attribute, value, &mut said)
            } else if let Some(relation) = kind.relations.iter().find(|r| policy.name(r.name) == key) {
                self.relation_said(relation, value, &mut said)
            } else {
                let names =
                    kind.attributes.iter().map(|a| a.name).chain(kind.relations.iter().map(|r| r.name));
                let near = self.near(key, names.map(|name| policy.name(name)));
                Some(format!("not declared for a {}{near}", kind.key))
            };
            if let (Some(why), true) = (why, self.tells) {
                ignored.push(format!("{whose}.{key}: {why}"));
            }
        }
        Arc::new(said)
    }

    fn attribute_said(&self, attribute: &Attribute, value: &Value, said: &mut Said) -> Option<String> {
        if !attribute.from.reads_request() {
            return Some("it is read from the register only".to_owned());
        }
        if !self.may_be_stated(attribute) {
            return Some(VOUCHED_ONLY.to_owned());
        }
        said.attributes.extend(stated(value).map(|value| (attribute.name, value)));
        None
    }

    fn relation_said(&self, relation: &Relation, value: &Value, said: &mut Said) -> Option<String> {
        if !relation.from.reads_request() {
            return Some("it is read from the register only".to_owned());
        }
        let items = match value {
            Value::Null => return None,
            Value::Array(items) if relation.many || items.len() == 1 => items.as_slice(),
            Value::Array(_) => &[],
            one => std::slice::from_ref(one),
        };
        let wrong_count = !relation.many && items.len() != 1;
        let to: Option<Vec<EntityId>> = items.iter().map(|item| self.named(item.as_str()?)).collect();
        let to = to.filter(|_| !wrong_count);
        let why = to.is_none().then_some("it names something that is not registered, so it cannot be read");
        said.relations.push((relation.name, to));
        why.map(str::to_owned)
    }
}

fn few(said: &Map<String, Value>, what: &str) -> Result<(), Malformed> {
    if said.len() > MAX_PROPERTIES {
        return Err(Malformed(format!("{what} has more than {MAX_PROPERTIES} properties")));
    }
    Ok(())
}
