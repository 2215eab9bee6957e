//! From an OpenAPI 3.0 or 3.1 document to a draft of a charter: types and containment from the shapes of paths,
//! actions from methods and operation ids, routes, and roles to start from. Every guess says why it was made; what
//! cannot be mapped is refused by a route of its own, and told.
//!
//! [`document`] reads the document, [`paths`] each path as a route can write it; [`kinds`] says which things the
//! paths speak of, [`guess`] what each operation needs, [`crossing`] what no route could tell apart, [`scopes`] what
//! the document's scopes come to. [`write`](mod@write) makes pieces of text of that, [`again`] lays them beside a
//! charter that is there, and writes what is chosen.

mod again;
mod crossing;
mod document;
mod guess;
mod kinds;
mod paths;
mod scopes;
mod words;
mod write;

use crate::source::{SourceFile, Sources};
use document::Document;
pub use document::{Base, Left, NotImported, Operation, Security};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// Largest document read, in bytes.
pub const MAX_DOCUMENT_BYTES: usize = 32 << 20;
/// Most operations of a document.
pub const MAX_OPERATIONS: usize = 20_000;

/// What is imported, and where to.
#[derive(Clone, Copy, Debug, Default)]
pub struct Options<'o> {
    /// The application's key.
    pub application: &'o str,
    /// Where its paths begin: `/v1`. Without it, what the document says counts.
    pub base: Option<&'o str>,
    /// What is there already.
    pub beside: Option<&'o Sources>,
}

/// A kind of guess.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(as = Guess))]
pub enum Guess {
    /// That nobody has to be signed in.
    Open,
    /// That a permission is needed where the document makes signing in optional, or asks for nothing.
    Optional,
    /// That something shows credentials or keys.
    Secret,
    /// What is needed where two operations are told apart by nothing.
    Twice,
    /// How one thing is told from all others.
    Id,
    /// That something is about a collection.
    Collection,
    /// That something is about the application itself.
    Itself,
    /// That several paths are about the same type.
    Same,
    /// That several types share a name.
    Apart,
    /// What lies within what.
    Within,
    /// What is done.
    Action,
    /// What a role gives.
    Role,
}

impl Guess {
    /// What is guessed, in a few words.
    pub fn words(self) -> &'static str {
        match self {
            Guess::Open => "open to anybody",
            Guess::Optional => "signing in is optional in the document, and a permission is needed here",
            Guess::Secret => "shows credentials or keys",
            Guess::Twice => "told apart by nothing, so that all of both is needed",
            Guess::Id => "how one is named",
            Guess::Collection => "about a collection",
            Guess::Itself => "about the application itself",
            Guess::Same => "several paths, one type",
            Guess::Apart => "one word, several types",
            Guess::Within => "what lies within what",
            Guess::Action => "what is done",
            Guess::Role => "what a role gives",
        }
    }
}

/// What a piece of a draft is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(as = PieceAbout))]
pub enum About {
    /// What there is to know of the draft, as a comment.
    Note,
    /// The application.
    Application,
    /// A resource type.
    Type,
    /// An action of a type that is there.
    Action,
    /// A role.
    Role,
    /// A permission in a role that is there.
    Permission,
    /// A route.
    Route,
}

impl About {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            About::Note => "note",
            About::Application => "application",
            About::Type => "type",
            About::Action => "action",
            About::Role => "role",
            About::Permission => "permission",
            About::Route => "route",
        }
    }
}

/// How a piece stands beside what is there.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(as = PieceStanding))]
pub enum Standing {
    /// It is not there.
    New,
    /// It is there and otherwise.
    Changed,
    /// It is there, and the document has it no longer.
    Gone,
    /// It is there.
    Same,
}

impl Standing {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Standing::New => "new",
            Standing::Changed => "changed",
            Standing::Gone => "gone",
            Standing::Same => "same",
        }
    }
}

/// One table of a draft, or a line that a table that is there would get.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(as = ImportPiece))]
pub struct Piece {
    /// What it is about.
    pub about: About,
    /// Which: a key, `type:action`, `role: permission`, or `METHOD /path`.
    pub key: String,
    /// The file that it belongs in.
    pub file: String,
    /// Its text, with why it is so.
    pub text: String,
    /// What it says now, of what is there and otherwise or is gone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub now: Option<String>,
    /// How it stands beside what is there.
    pub standing: Standing,
    /// What of it is guessed.
    pub guesses: Vec<Guess>,
    /// Of a route, the permissions that it needs; of a role, what it gives.
    pub permissions: Vec<String>,
    /// Of a route, which type it takes to lie within which; of a type that is there, what it does not lie within yet.
    #[serde(skip)]
    pub within: Vec<(String, String)>,
}

/// A draft, and what became of the document.
#[derive(Clone, Debug, Default)]
pub struct Plan {
    /// The application's key.
    pub application: String,
    /// Where its paths begin.
    pub base: Base,
    /// How many operations the document has.
    pub operations: usize,
    /// How many became routes that let somebody in.
    pub mapped: usize,
    /// Routes that let anybody in; those that write first.
    pub open: Vec<String>,
    /// What is not mapped, and why.
    pub left: Vec<Left>,
    /// What is suggested, in the order it is written.
    pub pieces: Vec<Piece>,
    /// Whether the application is there already.
    pub known: bool,
}

/// Which pieces are written.
#[derive(Clone, Debug, Default)]
pub struct Choice {
    /// Those that stand so; `new` alone if it is empty.
    pub only: BTreeSet<Standing>,
    /// But for these: `about key`. A route that is left out refuses what it would take.
    pub without: BTreeSet<String>,
}

impl Piece {
    /// What it is called where pieces are chosen: `route GET /tides`.
    pub fn id(&self) -> String {
        format!("{} {}", self.about.word(), self.key)
    }
}

impl Plan {
    /// How many guesses there are of each kind.
    pub fn guesses(&self) -> BTreeMap<Guess, usize> {
        let mut counts = BTreeMap::new();
        for guess in self.pieces.iter().flat_map(|piece| &piece.guesses) {
            *counts.entry(*guess).or_default() += 1;
        }
        counts
    }

    /// How many pieces stand so; what is a comment does not count.
    pub fn standing(&self, standing: Standing) -> usize {
        let stands = |piece: &&Piece| piece.standing == standing && piece.about != About::Note;
        self.pieces.iter().filter(stands).count()
    }

    /// How many operations are told apart by what no route looks at.
    pub fn elsewhere(&self) -> usize {
        self.left.iter().filter(|left| left.elsewhere).count()
    }

    /// The files that change, as they are with what is chosen written into them.
    ///
    /// # Errors
    /// If a file would grow too large, or what is there cannot be changed.
    pub fn write(&self, choice: &Choice, beside: Option<&Sources>) -> Result<Vec<SourceFile>, NotImported> {
        again::write(self, choice, beside)
    }
}

/// Makes a draft for one application.
///
/// Bounded by the limits above; costs time in the size of the document, times the logarithm of its operations.
///
/// # Errors
/// If the text is neither JSON nor YAML, no OpenAPI document of version 3.0 or 3.1, or too large a one; or if what is
/// there already is no TOML.
pub fn plan(text: &str, options: &Options<'_>) -> Result<Plan, NotImported> {
    let document = Document::read(text, options.base)?;
    let there = options.beside.map(|beside| again::There::read(beside, options.application)).transpose()?;
    let taken = there.as_ref().map(again::There::taken).unwrap_or_default();
    let guessed = guess::guess(&document, &taken, options.application);
    let mut plan = write::plan(&document, &guessed, options.application);
    if let Some(there) = there {
        there.compare(&mut plan);
    }
    Ok(plan)
}

/// The operations of a document, in its order, their paths behind the base.
///
/// # Errors
/// As [`plan`].
pub fn operations(text: &str, base: Option<&str>) -> Result<Vec<Operation>, NotImported> {
    Ok(Document::read(text, base)?.operations)
}
