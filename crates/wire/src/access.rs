//! The shapes of the AuthZEN Authorization API 1.0. Members that the standard does not know are passed over;
//! those it knows are read strictly, and `null` in the place of an optional one is as if it were not there.

use crate::strict::{Object, read_object};
use ostrog_core::decide::hints::Hint;
use ostrog_core::decide::rows::Columns;
use ostrog_core::decide::told::RowsTold;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// A subject or a resource.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Entity {
    /// Its type.
    #[serde(rename = "type")]
    pub kind: String,
    /// Its id; an anonymous subject and a new resource have none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub id: Option<String>,
    /// What the request says of it.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Object>))]
    pub properties: Option<Object>,
}

read_object!(Entity { kind: "type" must, id: "id" may, properties: "properties" may, });

/// An action.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Action {
    /// The bare action (`release`), or the whole permission (`manifest:release`).
    pub name: String,
}

read_object!(Action { name: "name" must, });

/// One question.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EvaluationRequest {
    /// Who.
    pub subject: Entity,
    /// May do what.
    pub action: Action,
    /// With what.
    pub resource: Entity,
    /// The surroundings; `session` among them is the session, and `explain: true` asks for an explanation.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Object>))]
    pub context: Option<Object>,
}

read_object!(EvaluationRequest {
    subject: "subject" must,
    action: "action" must,
    resource: "resource" must,
    context: "context" may,
});

/// Several questions; what an item leaves out is taken from the defaults beside it, member by member, whole.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EvaluationsRequest {
    /// The default subject.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub subject: Option<Entity>,
    /// The default action.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub action: Option<Action>,
    /// The default resource.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub resource: Option<Entity>,
    /// The default context.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Object>))]
    pub context: Option<Object>,
    /// The items, at most 1000; none asks the defaults as one question.
    pub evaluations: Vec<EvaluationItem>,
    /// How far to go.
    pub options: Options,
}

read_object!(EvaluationsRequest {
    subject: "subject" may,
    action: "action" may,
    resource: "resource" may,
    context: "context" may,
    evaluations: "evaluations" default,
    options: "options" default,
});

/// One of a batch; what it leaves out is the batch's.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EvaluationItem {
    /// Who.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub subject: Option<Entity>,
    /// May do what.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub action: Option<Action>,
    /// With what.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub resource: Option<Entity>,
    /// The surroundings.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Object>))]
    pub context: Option<Object>,
}

read_object!(EvaluationItem {
    subject: "subject" may,
    action: "action" may,
    resource: "resource" may,
    context: "context" may,
});

/// A batch in which items may be malformed: each is denied with its error, and the others are answered.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct LooseEvaluationsRequest {
    /// The default subject.
    pub subject: Option<Value>,
    /// The default action.
    pub action: Option<Value>,
    /// The default resource.
    pub resource: Option<Value>,
    /// The default context.
    pub context: Option<Value>,
    /// The items, whatever they are.
    pub evaluations: Vec<Value>,
    /// How far to go.
    pub options: Options,
}

read_object!(LooseEvaluationsRequest {
    subject: "subject" may,
    action: "action" may,
    resource: "resource" may,
    context: "context" may,
    evaluations: "evaluations" default,
    options: "options" default,
});

/// Options of a batch.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Options {
    /// When to stop.
    #[cfg_attr(feature = "schema", schema(default = "execute_all"))]
    pub evaluations_semantic: Semantic,
}

read_object!(Options { evaluations_semantic: "evaluations_semantic" default, });

/// When a batch stops.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
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
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Evaluation {
    /// Allowed or denied.
    pub decision: bool,
    /// Why, as far as the key may see.
    #[serde(default)]
    pub context: EvaluationContext,
}

/// What an answer tells beside the decision.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EvaluationContext {
    /// The stable code.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// Whom a token names: `user:ines`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subject: Option<String>,
    /// What a rule says to people.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
    /// What a rule says to programs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Object>))]
    pub advice: Option<Map<String, Value>>,
    /// Asked for with `context.explain`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub explanation: Option<Box<ostrog_core::decide::explain::Explanation>>,
    /// The revision that was tried ahead: this is no answer of what is live.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tried: Option<i64>,
    /// Of an item of a batch: the revision that answered it, where the header tells another one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub revision: Option<i64>,
    /// Of an item of a batch that could not be answered: its status as a call of its own would have it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub error: Option<ItemError>,
}

/// Why an item of a batch was not answered.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ItemError {
    /// An HTTP status.
    pub status: u16,
    /// What is wrong.
    pub message: String,
}

/// The answers of a batch, in order.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Evaluations {
    /// As far as the semantic let it go.
    pub evaluations: Vec<Evaluation>,
}

/// The answer to a batch: without items, the answer to one question.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(untagged)]
pub enum BatchAnswer {
    /// Of several.
    Many(Evaluations),
    /// Of one.
    One(Evaluation),
}

/// Where to ask.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
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
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SearchRequest {
    /// Who.
    pub subject: Entity,
    /// May do what; left out in a search for actions.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub action: Option<Action>,
    /// With what.
    pub resource: Entity,
    /// The surroundings.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Object>))]
    pub context: Option<Object>,
    /// Which page.
    pub page: PageRequest,
}

read_object!(SearchRequest {
    subject: "subject" must,
    action: "action" may,
    resource: "resource" must,
    context: "context" may,
    page: "page" default,
});

/// Which page of a search.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PageRequest {
    /// The `next_token` of the page before; empty for the first.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
    /// At most so many results; 100 unless stated, at most 1000.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(minimum = 0))]
    pub limit: Option<u32>,
}

read_object!(PageRequest { token: "token" may, limit: "limit" may, });

/// What a search found. It covers what is registered.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SearchResponse {
    /// Subjects or resources with `type` and `id`, or actions with `name`.
    pub results: Vec<SearchResult>,
    /// The next page.
    pub page: PageInfo,
    /// What else is to be said.
    #[serde(default)]
    pub context: SearchContext,
}

/// A subject, a resource or an action that was found.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(untagged)]
pub enum SearchResult {
    /// A subject or a resource.
    Entity {
        /// Its type.
        #[serde(rename = "type")]
        kind: String,
        /// Its id.
        id: String,
    },
    /// An action.
    Action {
        /// The bare action.
        name: String,
    },
}

/// What else is to be said of a search.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SearchContext {
    /// Why nothing was searched.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// Whom a token names.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subject: Option<String>,
    /// Whether a resource that is not registered may be meant too.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub unregistered: bool,
}

/// The next page.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PageInfo {
    /// To be sent for the next page; empty after the last one.
    pub next_token: String,
}

/// A row filter that is asked for: on which rows of an application's own table.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RowsRequest {
    /// Who.
    pub subject: Entity,
    /// May do what.
    pub action: Action,
    /// The type of the rows.
    pub resource: Entity,
    /// The surroundings.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Object>))]
    pub context: Option<Object>,
    /// The columns of the table; without, the filter is a tree alone.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub columns: Option<Columns>,
}

read_object!(RowsRequest {
    subject: "subject" must,
    action: "action" must,
    resource: "resource" must,
    context: "context" may,
    columns: "columns" may,
});

/// A row filter. It is good for the position that it was made at.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RowsResponse {
    /// As a tree and, with columns, as SQL.
    #[serde(flatten)]
    pub rows: RowsTold,
    /// What else is to be said.
    #[serde(default)]
    pub context: BesideContext,
}

/// Affordances that are asked for: what an application's interface shows and enables.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AffordancesRequest {
    /// For whom.
    pub subject: Entity,
    /// On what; what is not about its type is judged on whether it may be done somewhere.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub resource: Option<Entity>,
    /// The surroundings.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Object>))]
    pub context: Option<Object>,
    /// An operator's key says whose; an application's is its own.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub application: Option<String>,
}

read_object!(AffordancesRequest {
    subject: "subject" must,
    resource: "resource" may,
    context: "context" may,
    application: "application" may,
});

/// Affordances, judged.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AffordancesResponse {
    /// In the order of the charter.
    pub affordances: Vec<Hint>,
    /// What else is to be said.
    #[serde(default)]
    pub context: BesideContext,
}

/// What is said beside a row filter or affordances.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct BesideContext {
    /// Why nothing was asked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// Whom a token names.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subject: Option<String>,
    /// When the token ends that it was made for: until then it counts, and no longer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
}

/// What answers are of by now: an event of the stream that follows it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Reached {
    /// The live revision.
    pub revision: i64,
    /// `<epoch>.<n>`.
    pub position: String,
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read<T: serde::de::DeserializeOwned>(text: &str) -> Result<T, String> {
        serde_json::from_str(text).map_err(|error| error.to_string())
    }

    #[test]
    fn what_the_standard_does_not_know_is_passed_over_and_nothing_else() {
        let whole = r#"{"subject":{"type":"user","id":"tomas"},"action":{"name":"release"},
            "resource":{"type":"manifest","id":"m-205","properties":null},"context":null,"more":{"a":[1]}}"#;
        let question: EvaluationRequest = read(whole).expect("is one");
        assert_eq!((question.subject.id.as_deref(), question.context), (Some("tomas"), None));
        let deep = "[".repeat(100_000) + &"]".repeat(100_000);
        for wrong in [
            r#"[["user","tomas"],["release"],["manifest","m-205"],{}]"#.to_owned(),
            whole.replace(r#"{"type":"user","id":"tomas"}"#, r#"["user","tomas"]"#),
            whole.replace(r#"{"name":"release"}"#, r#""release""#),
            whole.replace(r#""context":null"#, r#""context":[]"#),
            whole.replace(r#""more""#, r#""subject""#),
            whole.replace(r#""more":{"a":[1]}"#, r#""more":1,"more":2"#),
            whole.replace(r#""more":{"a":[1]}"#, r#""more":{"a":1,"a":2}"#),
            whole.replace("[1]", &deep),
            whole.replace(r#""subject""#, r#""who""#),
            whole.replace(r#""tomas""#, "7"),
        ] {
            assert!(read::<EvaluationRequest>(&wrong).is_err(), "{}", &wrong[..wrong.len().min(200)]);
        }
    }

    #[test]
    fn empty_and_missing_are_one() {
        let page: PageRequest = read(r#"{"token":null,"limit":null}"#).expect("a page");
        assert_eq!(page, PageRequest::default());
        let batch: EvaluationsRequest = read(r#"{"evaluations":[{}],"options":null}"#).expect("a batch");
        assert_eq!(batch.options.evaluations_semantic, Semantic::ExecuteAll);
        assert!(read::<EvaluationsRequest>(r#"{"evaluations":[7]}"#).is_err());
        let loose: LooseEvaluationsRequest = read(r#"{"evaluations":[7,{}]}"#).expect("a batch");
        assert_eq!(loose.evaluations.len(), 2);
    }
}
