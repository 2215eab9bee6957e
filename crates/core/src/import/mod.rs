//! From an OpenAPI 3.0 or 3.1 document to a draft of a charter: types and containment from the
//! shapes of paths, actions from methods and operation ids, routes, and three starter roles. Every
//! guess says why it was made; what cannot be mapped is listed.
//!
//! [`document`] reads the document; [`guess`] decides what its paths mean; [`write`](mod@write)
//! writes the draft.

mod document;
mod guess;
mod write;

use crate::source::MAX_FILE_BYTES;
use document::Document;
pub use document::{NotImported, Operation};

/// Largest document read, in bytes.
pub const MAX_DOCUMENT_BYTES: usize = 32 << 20;
/// Most operations mapped.
pub const MAX_OPERATIONS: usize = 20_000;

/// A draft, and what became of the document.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Draft {
    /// The file's text.
    pub text: String,
    /// How many operations the document has.
    pub operations: usize,
    /// How many became routes.
    pub routes: usize,
    /// What is left, and why.
    pub unmapped: Vec<String>,
}

/// Makes a draft for one application.
///
/// Bounded by the limits above; costs time in the size of the document.
///
/// # Errors
/// If the text is neither JSON nor YAML, no OpenAPI document of version 3, or too large a one.
pub fn openapi(text: &str, application: &str) -> Result<Draft, NotImported> {
    let document = Document::read(text)?;
    let guessed = guess::guess(&document);
    let draft = write::write(&document, &guessed, application);
    if draft.text.len() > MAX_FILE_BYTES {
        return Err(NotImported::TooMany { operations: draft.operations });
    }
    Ok(draft)
}

/// The operations of a document, in its order.
///
/// # Errors
/// As [`openapi`], but for the draft's size.
pub fn operations(text: &str) -> Result<Vec<Operation>, NotImported> {
    Ok(Document::read(text)?.operations)
}
