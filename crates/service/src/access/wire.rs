//! The shapes of the AuthZEN Authorization API 1.0.

use ostrog_core::json::Strict;
use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize};
use serde_json::{Map, Value};
use utoipa::ToSchema;

/// A subject or a resource.
#[derive(Clone, Debug, Deserialize, ToSchema)]
pub struct Entity {
    /// Its type.
    #[serde(rename = "type")]
    pub kind: String,
    /// Its id; an anonymous subject and a new resource have none.
    #[serde(default)]
    pub id: Option<String>,
    /// What the request says of it.
    #[serde(default)]
    #[schema(value_type = Option<Object>)]
    pub properties: Option<Members>,
}

/// The members of an object of the caller's own: read strictly, no key twice, of a bounded depth.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Members(pub Map<String, Value>);

impl<'de> Deserialize<'de> for Members {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        match Strict::deserialize(deserializer)? {
            Strict(Value::Object(members)) => Ok(Members(members)),
            Strict(other) => Err(D::Error::custom(format!("{other} is no object"))),
        }
    }
}

/// An action.
#[derive(Clone, Debug, Deserialize, ToSchema)]
pub struct Action {
    /// The bare action (`release`), or the whole permission (`manifest:release`).
    pub name: String,
}

/// One question.
#[derive(Clone, Debug, Deserialize, ToSchema)]
pub struct Evaluation {
    /// Who.
    pub subject: Entity,
    /// May do what.
    pub action: Action,
    /// With what.
    pub resource: Entity,
    /// The surroundings.
    #[serde(default)]
    #[schema(value_type = Option<Object>)]
    pub context: Option<Members>,
}

/// One question, its parts wherever they stand.
#[derive(Clone, Copy, Debug)]
pub struct Question<'q> {
    /// Who.
    pub subject: &'q Entity,
    /// May do what.
    pub action: &'q Action,
    /// With what.
    pub resource: &'q Entity,
    /// The surroundings.
    pub context: Option<&'q Members>,
}

impl Evaluation {
    /// It, by its parts.
    pub fn question(&self) -> Question<'_> {
        Question {
            subject: &self.subject,
            action: &self.action,
            resource: &self.resource,
            context: self.context.as_ref(),
        }
    }
}

/// A batch in which nothing is malformed: what most of them are, read at once. Where something is,
/// it is read as [`Evaluations`], item by item.
#[derive(Debug, Deserialize)]
pub struct Batch {
    #[serde(default, deserialize_with = "stated")]
    pub subject: Option<Entity>,
    #[serde(default, deserialize_with = "stated")]
    pub action: Option<Action>,
    #[serde(default, deserialize_with = "stated")]
    pub resource: Option<Entity>,
    #[serde(default, deserialize_with = "stated")]
    pub context: Option<Members>,
    pub evaluations: Vec<Item>,
    #[serde(default)]
    pub options: Options,
}

/// One of a batch; what it leaves out is the batch's.
#[derive(Debug, Deserialize)]
pub struct Item {
    #[serde(default, deserialize_with = "stated")]
    subject: Option<Entity>,
    #[serde(default, deserialize_with = "stated")]
    action: Option<Action>,
    #[serde(default, deserialize_with = "stated")]
    resource: Option<Entity>,
    #[serde(default, deserialize_with = "stated")]
    context: Option<Members>,
}

/// What is there is no null: that would be a default for one reader and a mistake for another.
fn stated<'de, D: Deserializer<'de>, T: Deserialize<'de>>(deserializer: D) -> Result<Option<T>, D::Error> {
    T::deserialize(deserializer).map(Some)
}

impl Batch {
    /// The questions; none if one of them lacks a part.
    pub fn questions(&self) -> Option<Vec<Question<'_>>> {
        self.evaluations
            .iter()
            .map(|item| {
                Some(Question {
                    subject: item.subject.as_ref().or(self.subject.as_ref())?,
                    action: item.action.as_ref().or(self.action.as_ref())?,
                    resource: item.resource.as_ref().or(self.resource.as_ref())?,
                    context: item.context.as_ref().or(self.context.as_ref()),
                })
            })
            .collect()
    }
}

/// Several questions; what an item leaves out is taken from the defaults beside it.
#[derive(Clone, Debug, Deserialize, ToSchema)]
pub struct Evaluations {
    /// The default subject.
    #[serde(default)]
    #[schema(value_type = Option<Object>)]
    pub subject: Option<Value>,
    /// The default action.
    #[serde(default)]
    #[schema(value_type = Option<Object>)]
    pub action: Option<Value>,
    /// The default resource.
    #[serde(default)]
    #[schema(value_type = Option<Object>)]
    pub resource: Option<Value>,
    /// The default context.
    #[serde(default)]
    #[schema(value_type = Option<Object>)]
    pub context: Option<Value>,
    /// The items; none asks the defaults as one question.
    #[serde(default)]
    #[schema(value_type = Vec<Object>)]
    pub evaluations: Vec<Map<String, Value>>,
    /// How far to go.
    #[serde(default)]
    pub options: Options,
}

/// Options of a batch.
#[derive(Clone, Debug, Default, Deserialize, ToSchema)]
pub struct Options {
    /// When to stop.
    #[serde(default)]
    pub evaluations_semantic: Semantic,
}

/// When a batch stops.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Semantic {
    /// Never.
    #[default]
    ExecuteAll,
    /// After the first denial.
    DenyOnFirstDeny,
    /// After the first allow.
    PermitOnFirstPermit,
}

/// An answer.
#[derive(Clone, Debug, Serialize, ToSchema)]
pub struct Answer {
    /// Allowed or denied.
    pub decision: bool,
    /// Why, as far as the key may see.
    pub context: Told,
}

/// What an answer tells beside the decision.
#[derive(Clone, Debug, Default, Serialize, ToSchema)]
pub struct Told {
    /// The stable code.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// What a rule says to people.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
    /// What a rule says to programs.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Object>)]
    pub advice: Option<Map<String, Value>>,
    /// Asked for with `context.explain`.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Object>)]
    pub explanation: Option<Value>,
    /// Of an item of a batch that is malformed.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Object>)]
    pub error: Option<Value>,
}

/// The answers of a batch, in order.
#[derive(Clone, Debug, Serialize, ToSchema)]
pub struct Answers {
    /// As far as the semantic let it go.
    pub evaluations: Vec<Answer>,
}

/// Where to ask.
#[derive(Clone, Debug, Serialize, ToSchema)]
pub struct Configuration {
    /// The base address.
    pub policy_decision_point: String,
    /// One question.
    pub access_evaluation_endpoint: String,
    /// Several.
    pub access_evaluations_endpoint: String,
    /// Who may?
    pub search_subject_endpoint: String,
    /// With what?
    pub search_resource_endpoint: String,
    /// What?
    pub search_action_endpoint: String,
}

/// A search: the part that is looked for has a type at most.
#[derive(Clone, Debug, Deserialize, ToSchema)]
pub struct Search {
    /// Who.
    pub subject: Entity,
    /// May do what; left out in a search for actions.
    #[serde(default)]
    pub action: Option<Action>,
    /// With what.
    pub resource: Entity,
    /// The surroundings.
    #[serde(default)]
    #[schema(value_type = Option<Object>)]
    pub context: Option<Members>,
    /// Which page.
    #[serde(default)]
    pub page: PageAsked,
}

/// Which page of a search.
#[derive(Clone, Debug, Default, Deserialize, ToSchema)]
pub struct PageAsked {
    /// The `next_token` of the page before.
    #[serde(default)]
    pub token: Option<String>,
    /// At most so many results; 100 unless stated, at most 1000.
    #[serde(default)]
    pub limit: Option<usize>,
}

/// What a search found. It covers what is registered.
#[derive(Clone, Debug, Serialize, ToSchema)]
pub struct Found {
    /// Subjects or resources with `type` and `id`, or actions with `name`.
    #[schema(value_type = Vec<Object>)]
    pub results: Vec<Value>,
    /// The next page.
    pub page: PageTold,
    /// What else is to be said: whether what is not registered may be meant too.
    #[schema(value_type = Object)]
    pub context: Map<String, Value>,
}

/// The next page.
#[derive(Clone, Debug, Serialize, ToSchema)]
pub struct PageTold {
    /// To be sent for the next page; empty after the last one.
    pub next_token: String,
}
