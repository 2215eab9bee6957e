//! Questions as an operator puts them, and what applications asked.

use crate::issuers::TokenText;
use ostrog_core::decide::explain::Explanation;
use ostrog_core::decide::rows::Columns;
use ostrog_core::decide::take::Take;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// A question to try. What its blank does not need may be left out.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct QuestionRequest {
    /// `user:ines`, `service:crane-feed` or `anonymous`.
    pub subject: String,
    /// A token in the place of the subject; not for `holders`.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>))]
    pub token: Option<TokenText>,
    /// `type:action`.
    pub permission: String,
    /// `type:id`; without one, a new resource.
    pub resource: Option<String>,
    /// What the request says of the subject.
    #[cfg_attr(feature = "schema", schema(value_type = Object))]
    pub subject_properties: Map<String, Value>,
    /// What the request says of the resource.
    #[cfg_attr(feature = "schema", schema(value_type = Object))]
    pub resource_properties: Map<String, Value>,
    /// The context.
    #[cfg_attr(feature = "schema", schema(value_type = Object))]
    pub context: Map<String, Value>,
    /// Another moment than the present one.
    pub now: Option<String>,
    /// Fact lines supposed to hold.
    pub suppose: Vec<String>,
    /// Fact lines supposed not to hold.
    pub without: Vec<String>,
    /// Under the text of this revision.
    pub revision: Option<i64>,
    /// Under the text of this draft.
    pub draft: Option<String>,
    /// `ask`: of a denial, what it would take.
    pub would_take: bool,
    /// What else a question with a blank needs.
    pub beside: BlankOptions,
}

/// The answer and why.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct AskAnswer {
    /// Decision, reason, sentence, way, conditions.
    pub explanation: Explanation,
    /// What would change a denial.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub would_take: Option<Take>,
    /// What was asked.
    #[serde(flatten)]
    pub of: AskedOf,
}

/// The answer to a question with a blank.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct BlankAnswer<T> {
    /// The list, or the filter.
    #[serde(flatten)]
    pub answer: T,
    /// What was asked.
    #[serde(flatten)]
    pub of: AskedOf,
}

/// What a question with a blank needs besides; each belongs to some of them.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct BlankOptions {
    /// `reach`: only what lies within this.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub under: Option<String>,
    /// `reach` and `holders`: only what was registered after this one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub after: Option<String>,
    /// `reach` and `holders`: at most so many. Of `holders` a page, as far as it goes: individuals in
    /// the order they were registered, also those whose whole class may.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub limit: Option<usize>,
    /// `holders`: tell of each how they come to it.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub through: bool,
    /// `holders`: the classes of which everybody may, and how many may in all; nobody by name.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub count: bool,
    /// `rows`: the columns of the application's table.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub columns: Option<Columns>,
    /// `hints`: the application.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub application: String,
}

/// What was asked of.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct AskedOf {
    /// How many facts were supposed: the answer is not one about what is.
    pub supposed: usize,
    /// The moment asked about.
    pub now: String,
    /// The live revision, or the one asked under.
    pub revision: i64,
    /// The position asked at.
    pub position: i64,
    /// Until when the answer can be relied on: when the token ends that it was given for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
}

/// What applications asked lately, of this node, since its start.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AskedLately {
    /// Each application and its last question.
    pub applications: Vec<LastAsked>,
    /// Questions about what the charter does not declare, oftenest first.
    pub unknown: Vec<UnknownAsked>,
    /// Requests behind proxies that no route takes, oftenest first.
    pub unmapped: Vec<UnmappedAsked>,
}

/// A request, to be told what it comes to.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct RouteQuestion {
    /// The application behind the proxy.
    pub application: String,
    /// `GET`, `POST` …
    pub method: String,
    /// The path as the request has it, with its query.
    pub path: String,
    /// Who makes it: `user:ines`; none, and no token: nobody that is signed in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subject: Option<String>,
    /// Their token. It is verified for the application.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>))]
    pub token: Option<TokenText>,
}

/// Requests that no route takes.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct UnmappedAsked {
    /// The application.
    pub application: String,
    /// The method.
    pub method: String,
    /// The path, ids cut out: `/manifests/{manifest}/print`.
    pub pattern: String,
    /// How often.
    pub count: u64,
    /// When last.
    pub last: String,
}

/// An application and its last question.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LastAsked {
    /// Its key.
    pub application: String,
    /// Its name.
    pub name: String,
    /// The question; none: it asked nothing yet.
    pub last: Option<LastQuestion>,
    /// Decisions of this node in each of the last sixty minutes, the last one first.
    pub minutes: Vec<Decided>,
}

/// How much was decided within a minute.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Decided {
    /// How often it was allowed.
    pub allowed: u64,
    /// How often it was denied.
    pub denied: u64,
}

/// A question in short.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LastQuestion {
    /// Who.
    pub subject: String,
    /// `type:action`.
    pub permission: String,
    /// With what.
    pub resource: Option<String>,
    /// The decision.
    pub allowed: bool,
    /// Why.
    pub reason: String,
    /// When.
    pub at: String,
}

/// A permission that the charter does not declare.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct UnknownAsked {
    /// The application that asked, or `operator`.
    pub application: String,
    /// As it asked.
    pub permission: String,
    /// The nearest that there is.
    pub nearest: Option<String>,
    /// How often.
    pub count: u64,
    /// When last.
    pub last: String,
}
