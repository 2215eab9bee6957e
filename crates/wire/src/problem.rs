//! How calls are refused: RFC 9457 problem documents with stable types.

use serde::{Deserialize, Serialize};
use std::borrow::Cow;

/// What every problem type begins with.
pub const BASE: &str = "urn:ostrog:problem:";

/// A refusal.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Problem {
    /// The stable name of the kind of problem: `urn:ostrog:problem:…`.
    #[serde(rename = "type")]
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub kind: Cow<'static, str>,
    /// The kind in words.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub title: Cow<'static, str>,
    /// The HTTP status.
    pub status: u16,
    /// What is wrong here, and what to do.
    pub detail: String,
    /// One entry for each thing wrong, where there are several.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub errors: Vec<ProblemPart>,
}

impl Problem {
    /// The stable name without what all begin with: `forbidden`.
    pub fn name(&self) -> &str {
        self.kind.strip_prefix(BASE).unwrap_or(&self.kind)
    }
}

/// One of several things wrong.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ProblemPart {
    /// Which line, from 1, where in a file, or which field.
    pub at: String,
    /// What is wrong.
    pub detail: String,
    /// The stable name of what is wrong.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
    /// The name that was likely meant, where one is not known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub meant: Option<String>,
}
