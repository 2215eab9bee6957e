//! A document to begin from, and what it suggests.

use crate::charter::File;
use ostrog_core::import::{Base, Guess, Left, Piece, Plan, Standing};
use serde::{Deserialize, Serialize};

/// A document to begin from.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Imported {
    /// An OpenAPI 3.0 or 3.1 document, JSON or YAML.
    pub document: String,
    /// The key of the application it describes.
    pub application: String,
    /// Where its paths begin, such as `/v1`; without it, what the document says counts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub base: Option<String>,
    /// The charter that it is laid beside, and written into.
    #[serde(default)]
    pub files: Vec<File>,
    /// What is written; without it, nothing is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub write: Option<ImportChoice>,
}

/// Which pieces of a draft are written.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ImportChoice {
    /// Those that stand so; what is new, if it is empty.
    #[serde(default)]
    pub only: Vec<Standing>,
    /// But for these, by what they are about and their key: `type vessel`, `route GET /tides`. A new route that is
    /// left out is written so that it refuses.
    #[serde(default)]
    pub without: Vec<String>,
}

/// What a document suggests.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct Suggested {
    /// Where its paths begin; nothing, if that is not known.
    pub base: Option<String>,
    /// How many operations the document has.
    pub operations: usize,
    /// How many became routes that let somebody in.
    pub mapped: usize,
    /// Whether the application is there already, so that this is a comparison.
    pub known: bool,
    /// Routes that let anybody in; those that write first.
    pub open: Vec<String>,
    /// What is left, and why.
    pub unmapped: Vec<Unmapped>,
    /// How much is guessed, by kind.
    pub guesses: Vec<GuessCount>,
    /// What is suggested, in the order it is written.
    pub pieces: Vec<Piece>,
    /// The files that change, as they are with what was chosen.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub files: Option<Vec<File>>,
}

/// What becomes no route that lets anybody in.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(as = ImportUnmapped))]
pub struct Unmapped {
    /// Which.
    pub what: String,
    /// Why.
    pub why: String,
    /// Whether it is told apart from others by query, header or body, at which no route looks.
    pub elsewhere: bool,
}

/// How many guesses of one kind there are.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct GuessCount {
    /// The kind.
    pub guess: Guess,
    /// What is guessed, in a few words.
    pub words: String,
    /// How many.
    pub count: usize,
}

impl Suggested {
    /// What a plan comes to, and what was written of it.
    pub fn of(plan: Plan, files: Option<Vec<File>>) -> Suggested {
        let base = match &plan.base {
            Base::Known(base) => Some(base.clone()),
            Base::Unsaid | Base::Unknown(_) => None,
        };
        let counted =
            |(guess, count): (Guess, usize)| GuessCount { guess, words: guess.words().to_owned(), count };
        let left = |left: Left| Unmapped { what: left.what, why: left.why, elsewhere: left.elsewhere };
        Suggested {
            base,
            operations: plan.operations,
            mapped: plan.mapped,
            known: plan.known,
            guesses: plan.guesses().into_iter().map(counted).collect(),
            open: plan.open,
            unmapped: plan.left.into_iter().map(left).collect(),
            pieces: plan.pieces,
            files,
        }
    }
}
