//! What happened.

use serde::{Deserialize, Serialize};
use serde_json::Value;

/// Which changes.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::IntoParams))]
#[cfg_attr(feature = "schema", into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub struct ChangeQuery {
    /// Only those before this position.
    pub before: Option<i64>,
    /// Only those that name this entity or grant; of each only those lines.
    pub about: Option<String>,
    /// Only the first 20 lines of each.
    #[serde(default)]
    pub brief: bool,
    /// A stream: only those after this position.
    pub after: Option<i64>,
    /// At most so many; 50 unless stated, at most 1000.
    pub limit: Option<i64>,
}

/// One change.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ChangeShown {
    /// 1, 2, 3 … without gaps.
    pub position: i64,
    /// When.
    pub at: String,
    /// The id of the key that did it.
    pub actor: String,
    /// `register`, `rollout`, `draft`, `case`, `rehearsal`, `key`, `epoch` or `upgrade`.
    pub kind: String,
    /// What, as register lines.
    #[cfg_attr(feature = "schema", schema(value_type = Vec<Object>))]
    pub lines: Vec<Value>,
    /// How many lines there are, where not all are told.
    pub count: usize,
    /// The digest of the journal up to here, in hexadecimal.
    pub digest: String,
}
