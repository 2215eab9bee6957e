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

/// What is to be verified.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::IntoParams))]
#[cfg_attr(feature = "schema", into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub struct VerificationQuery {
    /// From this position on; then the tables are not held against it. Without it, all of it.
    pub from: Option<i64>,
    /// Tell the digest at this position too.
    pub at: Option<i64>,
}

/// What verifying the changes came to.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Verification {
    /// The epoch.
    pub epoch: String,
    /// The last position.
    pub position: i64,
    /// The digest there.
    pub digest: String,
    /// How many rows were looked at.
    pub rows: i64,
    /// How many of them an upgrade made part of the chain, long after they were written.
    pub chained: i64,
    /// Whether the tables, and what nodes tell, were held against them.
    pub folded: bool,
    /// The epoch and the digest at the position that was asked for; none: there is no such row.
    pub at: Option<EpochDigest>,
    /// What is not as it must be.
    pub found: Vec<FoundShown>,
}

/// A digest, and the epoch its row was written in.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EpochDigest {
    /// The epoch.
    pub epoch: String,
    /// The digest.
    pub digest: String,
}

/// Something that is not as it must be.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FoundShown {
    /// The row it is about; none: a table.
    pub position: Option<i64>,
    /// What.
    pub words: String,
}
