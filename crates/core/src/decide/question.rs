//! What is asked: from names, JSON properties and a context to ids and typed facts, with a note of
//! all that was ignored on the way.

use super::{Engine, Reason};
use crate::charter::model::{Attribute, Kind, KindId, NameId, PermId, Relation, Stated};
use crate::charter::policy::Policy;
use crate::names::{did_you_mean, split_entity};
use crate::register::line::stated;
use crate::register::{EntityId, State};
use jiff::Timestamp;
use serde_json::{Map, Value};

/// Most properties or context keys of one question.
const MAX_PROPERTIES: usize = 256;

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
    pub of_subject: Said,
    /// What the request says of the resource.
    pub of_resource: Said,
    /// The context, by the index of its declared keys.
    pub context: Vec<Option<Stated>>,
    /// The moment it is asked about.
    pub now: Timestamp,
    /// The session it is asked in.
    pub session: Option<Box<str>>,
}

/// A question as it comes in.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Request {
    /// `user:ines`, `service:crane-feed`, `anonymous`.
    pub subject: String,
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
        let mut ignored = Vec::new();
        let subject = self.subject(engine, &mut ignored)?;
        if let Some(reason) = self.unknown(engine.policy)? {
            let kind = self.permission.split(':').next().unwrap_or_default();
            let known = engine.policy.model().kinds.iter().map(|kind| kind.key.as_str());
            ignored.push(format!("the charter declares no type {kind:?}{}", did_you_mean(kind, known)));
            return Ok(Asked { question: Err(reason), ignored });
        }
        let Some(permission) = engine.policy.permission(&self.permission) else {
            let known = engine.policy.model().permissions.iter().map(|permission| permission.text.as_str());
            let near = did_you_mean(&self.permission, known);
            ignored.push(format!("the charter declares no permission {:?}{near}", self.permission));
            return Ok(Asked { question: Err(Reason::UnknownPermission), ignored });
        };
        for (what, map) in
            [("subject", &self.of_subject), ("resource", &self.of_resource), ("context", &self.context)]
        {
            if map.len() > MAX_PROPERTIES {
                return Err(Malformed(format!("{what} has more than {MAX_PROPERTIES} properties")));
            }
        }
        let model = engine.policy.model();
        let kind = &model.kinds[model.permissions[permission.index()].kind.index()];
        let (resource, of_resource) = self.resource(engine, kind, &mut ignored);
        let of_subject = match subject {
            Subject::Anonymous => {
                ignored.extend(
                    self.of_subject.keys().map(|key| format!("subject.{key}: the subject is anonymous")),
                );
                Said::default()
            }
            Subject::Entity(id) => {
                let kind = engine.kind(id).unwrap_or(KindId::USER);
                said(engine, &model.kinds[kind.index()], &self.of_subject, "subject", &mut ignored)
            }
        };
        let context = self.context(engine.policy, &mut ignored);
        let session = self.context.get("session").and_then(Value::as_str).map(Into::into);
        let question =
            Question { subject, permission, resource, of_subject, of_resource, context, now, session };
        Ok(Asked { question: Ok(question), ignored })
    }

    fn subject(&self, engine: Engine<'_>, ignored: &mut Vec<String>) -> Result<Subject, Malformed> {
        if self.subject == "anonymous" || self.subject.starts_with("anonymous:") {
            return Ok(Subject::Anonymous);
        }
        let (kind, _) = split_entity(&self.subject).map_err(|wrong| Malformed(wrong.into()))?;
        if kind != "user" && kind != "service" {
            let near = did_you_mean(kind, ["user", "service", "anonymous"]);
            return Err(Malformed(format!(
                "a subject is a user, a service or anonymous, not a {kind}{near}"
            )));
        }
        Ok(match engine.register.find(&self.subject) {
            Some(id) => Subject::Entity(id),
            None => {
                ignored.push(format!("{} is not registered and is treated as anonymous", self.subject));
                Subject::Anonymous
            }
        })
    }

    /// Whether the type or the permission is unknown, in this order.
    fn unknown(&self, policy: &Policy) -> Result<Option<Reason>, Malformed> {
        let Some((kind, action)) = self.permission.split_once(':') else {
            return Err(Malformed(format!("{:?} is not a permission: write type:action", self.permission)));
        };
        if action.is_empty() || kind.is_empty() {
            return Err(Malformed(format!("{:?} is not a permission: write type:action", self.permission)));
        }
        if let Some(resource) = &self.resource {
            let (resource_kind, _) = split_entity(resource).map_err(|wrong| Malformed(wrong.into()))?;
            if resource_kind != kind {
                return Err(Malformed(format!(
                    "{:?} is a permission for a {kind}, and {resource} is a {resource_kind}",
                    self.permission
                )));
            }
        }
        let known = policy.kind(kind).is_some_and(KindId::is_resource);
        Ok((!known).then_some(Reason::UnknownType))
    }

    fn resource(&self, engine: Engine<'_>, kind: &Kind, ignored: &mut Vec<String>) -> (Resource, Said) {
        let mut properties = self.of_resource.clone();
        let within = properties.remove("within").filter(|value| !value.is_null());
        let of_resource = said(engine, kind, &properties, "resource", ignored);
        if let Some(id) = self.resource.as_ref().and_then(|name| engine.register.find(name)) {
            if within.is_some() {
                ignored.push("resource.within: the resource is registered".to_owned());
            }
            return (Resource::Registered(id), of_resource);
        }
        let outer = within.and_then(|value| match stated_within(engine, kind, &value) {
            Ok(id) => Some(id),
            Err(why) => {
                ignored.push(format!("resource.within: {why}"));
                None
            }
        });
        let name = self.resource.as_deref().map(Into::into);
        (Resource::Stated { name, within: outer }, of_resource)
    }

    fn context(&self, policy: &Policy, ignored: &mut Vec<String>) -> Vec<Option<Stated>> {
        let declared = &policy.model().context;
        for key in self.context.keys().filter(|key| key.as_str() != "session") {
            if !declared.iter().any(|attribute| policy.name(attribute.name) == key) {
                let near = did_you_mean(key, declared.iter().map(|attribute| policy.name(attribute.name)));
                ignored.push(format!("context.{key}: not declared{near}"));
            }
        }
        declared
            .iter()
            .map(|attribute| self.context.get(policy.name(attribute.name)).and_then(stated))
            .collect()
    }
}

fn stated_within(engine: Engine<'_>, kind: &Kind, value: &Value) -> Result<EntityId, String> {
    let model = engine.policy.model();
    let text = value.as_str().ok_or("it names one entity")?;
    let (outer, _) = split_entity(text)?;
    let declared = kind.within.iter().any(|kind| model.kinds[kind.index()].key == outer);
    if !declared {
        return Err(format!("a {} does not lie within a {outer}", kind.key));
    }
    engine.register.registered(text).ok_or_else(|| format!("{text} is not registered"))
}

/// The properties that count, by what the type declares.
fn said(
    engine: Engine<'_>,
    kind: &Kind,
    properties: &Map<String, Value>,
    whose: &str,
    ignored: &mut Vec<String>,
) -> Said {
    let mut said = Said::default();
    let policy = engine.policy;
    for (key, value) in properties {
        if let Some(attribute) = kind.attributes.iter().find(|a| policy.name(a.name) == key) {
            attribute_said(attribute, key, value, whose, &mut said, ignored);
        } else if let Some(relation) = kind.relations.iter().find(|r| policy.name(r.name) == key) {
            relation_said(engine, relation, key, value, whose, &mut said, ignored);
        } else {
            let names = kind.attributes.iter().map(|a| a.name).chain(kind.relations.iter().map(|r| r.name));
            let near = did_you_mean(key, names.map(|name| policy.name(name)));
            ignored.push(format!("{whose}.{key}: not declared for a {}{near}", kind.key));
        }
    }
    said
}

fn attribute_said(
    attribute: &Attribute,
    key: &str,
    value: &Value,
    whose: &str,
    said: &mut Said,
    ignored: &mut Vec<String>,
) {
    if !attribute.from.reads_request() {
        ignored.push(format!("{whose}.{key}: it is read from the register only"));
    } else if let Some(value) = stated(value) {
        said.attributes.push((attribute.name, value));
    }
}

fn relation_said(
    engine: Engine<'_>,
    relation: &Relation,
    key: &str,
    value: &Value,
    whose: &str,
    said: &mut Said,
    ignored: &mut Vec<String>,
) {
    if !relation.from.reads_request() {
        ignored.push(format!("{whose}.{key}: it is read from the register only"));
        return;
    }
    let items = match value {
        Value::Null => return,
        Value::Array(items) if relation.many || items.len() == 1 => items.as_slice(),
        Value::Array(_) => &[],
        one => std::slice::from_ref(one),
    };
    let wrong_count = !relation.many && items.len() != 1;
    let find = |item: &Value| {
        let id = engine.register.find(item.as_str()?)?;
        (engine.register.state(id) != State::Deleted).then_some(id)
    };
    let to: Option<Vec<EntityId>> = items.iter().map(find).collect();
    let to = to.filter(|_| !wrong_count);
    if to.is_none() {
        ignored
            .push(format!("{whose}.{key}: it names something that is not registered, so it cannot be read"));
    }
    said.relations.push((relation.name, to));
}
