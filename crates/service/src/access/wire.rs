//! The shapes of the AuthZEN Authorization API 1.0.

use serde::{Deserialize, Serialize};
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
    pub properties: Option<Map<String, Value>>,
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
    pub context: Option<Map<String, Value>>,
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
    /// The reason code, and what else the key may see.
    #[schema(value_type = Object)]
    pub context: Map<String, Value>,
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
    pub context: Option<Map<String, Value>>,
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
