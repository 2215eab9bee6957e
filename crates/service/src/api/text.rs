//! Texts on the way: checked as they are written, changed by forms, and begun from a document.

use super::charter::File;
use super::draft::{Standing, sources, standing};
use super::model::Model;
use crate::App;
use crate::body::{LARGE, StrictJson};
use crate::caller::Operator;
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::State;
use ostrog_core::charter::edit::{Edit, edit};
use ostrog_core::charter::grid::{Grid, grid as sheet};
use ostrog_core::charter::model::KindId;
use ostrog_core::charter::outline::{Defined, outline};
use ostrog_core::import;
use ostrog_core::names::is_key;
use ostrog_core::source::{SourceFile, Sources, Span};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A charter's files.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Files {
    /// All of them.
    files: Vec<File>,
    /// Tell the roles grid of this type too.
    #[serde(default)]
    grid: Option<String>,
}

/// What is to be said of a text.
#[derive(Debug, Serialize, ToSchema)]
pub struct Checked {
    /// Errors, warnings, changes against what is live.
    standing: Standing,
    /// Everything that is defined.
    outline: Vec<DefinedShown>,
    /// What it declares, if it has no errors.
    model: Option<Model>,
    /// The roles grid that was asked for.
    grid: Option<Grid>,
}

/// A definition.
#[derive(Debug, Serialize, ToSchema)]
pub struct DefinedShown {
    /// `type`, `permission`, `role`, `attribute` …
    kind: &'static str,
    /// As conditions and lists write it.
    name: String,
    /// What it is.
    words: String,
    /// Where.
    #[serde(flatten)]
    range: Range,
}

/// A stretch of a file, in UTF-16 units as editors count.
#[derive(Debug, Serialize, ToSchema)]
pub struct Range {
    /// The file.
    path: String,
    /// The first unit.
    start: usize,
    /// The one after the last.
    end: usize,
}

/// Where lines begin, in bytes and in units: a place is found without counting from the top.
pub struct Units<'s> {
    sources: &'s Sources,
    lines: Vec<Vec<(usize, usize)>>,
}

impl<'s> Units<'s> {
    /// Counts each file once.
    pub fn new(sources: &'s Sources) -> Self {
        let count = |file: &SourceFile| {
            let mut at = (0, 0);
            let mut lines = vec![at];
            for line in file.text.split_inclusive('\n') {
                at = (at.0 + line.len(), at.1 + line.encode_utf16().count());
                lines.push(at);
            }
            lines
        };
        Units { sources, lines: sources.files().iter().map(count).collect() }
    }

    /// Where a span stands.
    pub fn range(&self, span: Span) -> Range {
        let at = span.file as usize;
        let (Some(file), Some(lines)) = (self.sources.files().get(at), self.lines.get(at)) else {
            return Range { path: String::new(), start: 0, end: 0 };
        };
        let units = |byte: u32| {
            let byte = byte as usize;
            let line = lines.partition_point(|(start, _)| *start <= byte).saturating_sub(1);
            let (start, units) = lines.get(line).copied().unwrap_or_default();
            units + file.text.get(start..byte).map_or(0, |before| before.encode_utf16().count())
        };
        Range { path: file.path.clone(), start: units(span.start), end: units(span.end) }
    }
}

/// Checks a text without keeping it.
#[utoipa::path(post, path = "/api/v1/texts/check", tag = "charter", request_body = Files,
    responses(
        (status = 200, description = "Its errors, its changes, and what it defines", body = Checked),
        Refused,
    ), security(("key" = [])))]
pub async fn check(
    State(app): State<App>,
    operator: Operator,
    StrictJson(asked): StrictJson<Files, LARGE>,
) -> Result<Json<Checked>, Problem> {
    operator.needs("charter:read")?;
    let sources = sources(asked.files)?;
    tokio::task::block_in_place(|| {
        let base = app.node.state().live.as_ref().map(|live| live.revision.number);
        let units = Units::new(&sources);
        let shown = |one: Defined| DefinedShown {
            kind: one.kind,
            range: units.range(one.span),
            name: one.name,
            words: one.words,
        };
        let outline = outline(&sources).into_iter().map(shown).collect();
        let policy = app.texts.compiled(&sources).ok();
        let model = policy.as_ref().map(|policy| Model::of(policy));
        let grid = policy.as_ref().zip(asked.grid.as_deref()).and_then(|(policy, kind)| {
            let id = policy.kind(kind).filter(|kind| KindId::is_resource(*kind))?;
            Some(sheet(policy, id))
        });
        Ok(Json(Checked { standing: standing(&app, &sources, base), outline, model, grid }))
    })
}

/// Changes of a text by its parts.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Edits {
    /// All files.
    files: Vec<File>,
    /// One after the other: `{"path": ["role", "deckhand", "permissions"], "value": […]}`.
    #[schema(value_type = Vec<Object>)]
    edits: Vec<Edit>,
}

/// A text.
#[derive(Debug, Serialize, ToSchema)]
pub struct Edited {
    /// Its files, by path.
    files: Vec<File>,
}

/// Changes a text by its parts, without keeping it: comments and layout stay.
#[utoipa::path(post, path = "/api/v1/texts/edit", tag = "charter", request_body = Edits,
    responses(
        (status = 200, description = "The text with the changes", body = Edited),
        Refused,
    ), security(("key" = [])))]
pub async fn change(
    operator: Operator,
    StrictJson(asked): StrictJson<Edits, LARGE>,
) -> Result<Json<Edited>, Problem> {
    operator.needs("charter:read")?;
    let sources = sources(asked.files)?;
    let edited = tokio::task::block_in_place(|| edit(&sources, &asked.edits));
    let edited = edited.map_err(|wrong| Problem::invalid(format!("{wrong}.")))?;
    Ok(Json(Edited { files: edited.files().iter().map(File::from).collect() }))
}

/// A document to begin from.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Imported {
    /// An OpenAPI 3.0 or 3.1 document, JSON or YAML.
    document: String,
    /// The key of the application it describes.
    application: String,
}

/// What a document suggests.
#[derive(Debug, Serialize, ToSchema)]
pub struct Suggested {
    /// A charter's file; every guess has its reason beside it.
    text: String,
    /// How many operations the document has.
    operations: usize,
    /// How many became routes.
    routes: usize,
    /// What is left, and why.
    unmapped: Vec<String>,
}

/// Makes a charter's file from an OpenAPI document, without keeping it.
#[utoipa::path(post, path = "/api/v1/texts/import", tag = "charter", request_body = Imported,
    responses(
        (status = 200, description = "What it suggests", body = Suggested),
        Refused,
    ), security(("key" = [])))]
pub async fn begin(
    operator: Operator,
    StrictJson(asked): StrictJson<Imported, LARGE>,
) -> Result<Json<Suggested>, Problem> {
    operator.needs("charter:read")?;
    if !is_key(&asked.application) {
        return Err(Problem::invalid(format!("{:?} is no key of an application.", asked.application)));
    }
    let draft = tokio::task::block_in_place(|| import::openapi(&asked.document, &asked.application));
    let draft = draft.map_err(|wrong| Problem::invalid(format!("The document cannot be read: {wrong}.")))?;
    Ok(Json(Suggested {
        text: draft.text,
        operations: draft.operations,
        routes: draft.routes,
        unmapped: draft.unmapped,
    }))
}
