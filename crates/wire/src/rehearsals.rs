//! Rehearsals: their files, their runs, and cases kept from trying.

use ostrog_core::decide::explain::Word;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// A file.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct RehearsalFile {
    /// `cases.toml`, or `cases.csv` for a table.
    pub path: String,
    /// What stands in it.
    pub text: String,
}

/// The rehearsal's files.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct RehearsalText {
    /// 1, 2, 3 …; 0 where none was saved.
    pub number: i64,
    /// The files.
    pub files: Vec<RehearsalFile>,
    /// What is wrong with them, under what is live.
    pub findings: Vec<String>,
    /// Who saved them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub author: Option<String>,
    /// When.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub saved_at: Option<String>,
}

/// Files to save.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct RehearsalSaved {
    /// The files.
    pub files: Vec<RehearsalFile>,
    /// The number of those they were made from.
    pub from: i64,
}

/// What to rehearse.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct RehearsalAsked {
    /// A draft; without one, what is live.
    pub draft: Option<String>,
    /// Only cases and guarantees whose name contains this.
    pub only: Option<String>,
}

/// A rehearsal that was run, or runs.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct RunShown {
    /// 1, 2, 3 …
    pub number: i64,
    /// Which text.
    pub of: String,
    /// Who ran it.
    pub author: String,
    /// When it began.
    pub started_at: String,
    /// When it ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended_at: Option<String>,
    /// `running`, `held`, `failed`, or `broken-off`: it found nothing.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub state: Word,
    /// What it came to, or does now.
    pub words: String,
    /// How far it is with that: steps done, of how many.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Vec<usize>>))]
    pub progress: Option<(usize, usize)>,
}

/// A case.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct CaseShown {
    /// 1, 2, 3 …
    pub number: i64,
    /// As the rehearsal format writes it.
    #[cfg_attr(feature = "schema", schema(value_type = Object))]
    pub case: Value,
    /// Who kept it.
    pub author: String,
    /// When.
    pub created_at: String,
}

/// A question and the answer it shall have.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct CaseAsked {
    /// What it shows.
    pub name: String,
    /// Who.
    pub subject: String,
    /// May do what.
    pub permission: String,
    /// With what; none: a new resource.
    #[serde(default)]
    pub resource: Option<String>,
    /// Whether they may.
    pub may: bool,
    /// The context.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(value_type = Object))]
    pub context: Map<String, Value>,
    /// What the request says of the subject and of the resource.
    #[serde(default)]
    pub properties: Properties,
    /// The moment.
    #[serde(default)]
    pub now: Option<String>,
    /// The reason code it shall have.
    #[serde(default)]
    pub because: Option<String>,
}

/// What a request says.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct Properties {
    /// Of the subject.
    #[serde(skip_serializing_if = "Map::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = Object))]
    pub subject: Map<String, Value>,
    /// Of the resource.
    #[serde(skip_serializing_if = "Map::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = Object))]
    pub resource: Map<String, Value>,
}
