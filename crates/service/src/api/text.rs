//! Texts on the way: checked as they are written, changed by forms, and begun from a document.

use super::charter::files_shown;
use super::draft::sources;
use super::model::model_of;
use super::standing::{Units, standing};
use super::told;
use crate::App;
use crate::body::{LARGE, StrictJson};
use crate::node::gate::Operator;
use crate::problem::{Problem, Refused};
use axum::extract::State;
use axum::response::Response;
use ostrog_core::charter;
use ostrog_core::charter::edit::edit;
use ostrog_core::charter::grid::grid;
use ostrog_core::charter::model::KindId;
use ostrog_core::charter::outline::{Defined, outline};
use ostrog_core::import;
use ostrog_core::names::is_key;
use ostrog_wire::charter::{Checked, DefinedShown, Edited, Edits, File, Files};
use ostrog_wire::import::{Imported, Suggested};

/// Checks a text without keeping it.
#[utoipa::path(post, path = "/api/v1/texts/check", tag = "charter", request_body = Files,
    responses(
        (status = 200, description = "Its errors, its changes, and what it defines", body = Checked),
        Refused,
    ), security(("key" = [])))]
pub async fn check_text(
    State(app): State<App>,
    operator: Operator,
    StrictJson(asked, held): StrictJson<Files, LARGE>,
) -> Result<Response, Problem> {
    operator.texts()?;
    let sources = sources(asked.files)?;
    let work = move |operator: &Operator, ticket: &crate::lanes::Ticket| {
        let _held = held;
        let texts = operator.texts()?;
        let base = texts.live().map(|(info, _)| info.number);
        let units = Units::new(&sources);
        let shown = |one: Defined| DefinedShown {
            kind: one.kind.into(),
            range: units.range(one.span),
            name: one.name,
            words: one.words,
        };
        let outline = outline(&sources).into_iter().map(shown).collect();
        let reading = charter::read(&sources);
        let policy = reading.policy.as_ref();
        let grid = policy.zip(asked.grid.as_deref()).and_then(|(policy, kind)| {
            let id = policy.kind(kind).filter(|kind| KindId::is_resource(*kind))?;
            Some(grid(policy, id))
        });
        let standing = standing(texts, &sources, (&reading.findings, policy), base, ticket)?;
        Ok(Checked { standing, outline, model: policy.map(model_of), grid })
    };
    told(&app, operator, work).await
}

/// Changes a text by its parts, without keeping it: comments and layout stay.
#[utoipa::path(post, path = "/api/v1/texts/edit", tag = "charter", request_body = Edits,
    responses(
        (status = 200, description = "The text with the changes", body = Edited),
        Refused,
    ), security(("key" = [])))]
pub async fn edit_text(
    State(app): State<App>,
    operator: Operator,
    StrictJson(asked, held): StrictJson<Edits, LARGE>,
) -> Result<Response, Problem> {
    operator.texts()?;
    let sources = sources(asked.files)?;
    let work = move |_: &Operator, _: &crate::lanes::Ticket| {
        let _held = held;
        let edited = edit(&sources, &asked.edits).map_err(|wrong| Problem::invalid(format!("{wrong}.")))?;
        Ok(Edited { files: files_shown(&edited) })
    };
    told(&app, operator, work).await
}

/// Makes a draft of an application from an OpenAPI document, or lays one beside the charter that is there, without
/// keeping it.
#[utoipa::path(post, path = "/api/v1/texts/import", tag = "charter", request_body = Imported,
    responses(
        (status = 200, description = "What it suggests", body = Suggested),
        Refused,
    ), security(("key" = [])))]
pub async fn import_text(
    State(app): State<App>,
    operator: Operator,
    StrictJson(asked, held): StrictJson<Imported, LARGE>,
) -> Result<Response, Problem> {
    operator.texts()?;
    if !is_key(&asked.application) {
        return Err(Problem::invalid(format!("{:?} is no key of an application.", asked.application)));
    }
    let beside = if asked.files.is_empty() { None } else { Some(sources(asked.files)?) };
    let work = move |_: &Operator, _: &crate::lanes::Ticket| {
        let _held = held;
        let wrong =
            |why: import::NotImported| Problem::invalid(format!("The document cannot be read: {why}."));
        let options = import::Options {
            application: &asked.application,
            base: asked.base.as_deref(),
            beside: beside.as_ref(),
        };
        let plan = import::plan(&asked.document, &options).map_err(wrong)?;
        let files = match asked.write {
            None => None,
            Some(choice) => {
                let choice = import::Choice {
                    only: choice.only.into_iter().collect(),
                    without: choice.without.into_iter().collect(),
                };
                let files = plan.write(&choice, beside.as_ref()).map_err(wrong)?;
                Some(files.into_iter().map(|file| File { path: file.path, text: file.text }).collect())
            }
        };
        Ok(Suggested::of(plan, files))
    };
    told(&app, operator, work).await
}
