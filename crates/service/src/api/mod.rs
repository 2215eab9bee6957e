//! The management API: what the command line and the console need.

mod around;
mod asked;
mod cases;
mod changes;
mod charter;
mod draft;
mod entities;
mod grants;
mod holdings;
mod issuers;
mod keys;
mod model;
mod questions;
mod register;
mod rehearsals;
mod release;
mod review;
mod routes;
mod run;
mod session;
mod settings;
mod shadow;
mod standing;
mod status;
mod stream;
mod streams;
mod tenant_roles;
mod text;
mod tokens;

use crate::App;
use crate::lanes::Ticket;
use crate::node::gate::Operator;
use crate::problem::Problem;
use axum::response::{IntoResponse as _, Response};
use axum::routing::get;
use axum::{Json, Router};
use serde::Serialize;
use std::time::Duration;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

pub use cases::file as kept_file;
pub use changes::is_stream;
pub use streams::{Open, Streams};

/// How long a list over many facts, or saying what there is to say of a text, may take.
const PATIENCE: Duration = Duration::from_secs(10);

/// All paths.
pub fn router() -> OpenApiRouter<App> {
    OpenApiRouter::new()
        .routes(routes!(session::sign_in, session::signed_in, session::sign_out))
        .routes(routes!(session::renew))
        .routes(routes!(session::sign_in_with))
        .routes(routes!(session::begin_device))
        .routes(routes!(session::begin_loopback))
        .routes(routes!(session::begin_session))
        .routes(routes!(questions::ask))
        .routes(routes!(questions::actions))
        .routes(routes!(questions::reach))
        .routes(routes!(questions::holders))
        .routes(routes!(questions::rows))
        .routes(routes!(questions::hints))
        .routes(routes!(routes::check_route))
        .routes(routes!(status::status))
        .routes(routes!(charter::revisions))
        .routes(routes!(charter::revision))
        .routes(routes!(release::live))
        .routes(routes!(release::rollouts, release::roll_out))
        .routes(routes!(release::roll_back))
        .routes(routes!(release::bar))
        .routes(routes!(release::nodes))
        .routes(routes!(shadow::shadows, shadow::begin_shadow))
        .routes(routes!(shadow::differences))
        .routes(routes!(shadow::end_shadow))
        .routes(routes!(review::review))
        .routes(routes!(review::approve))
        .routes(routes!(review::give_back))
        .routes(routes!(review::comment))
        .routes(routes!(review::waiting))
        .routes(routes!(settings::settings, settings::put_settings))
        .routes(routes!(model::model))
        .routes(routes!(model::grid))
        .routes(routes!(draft::drafts, draft::save_draft))
        .routes(routes!(draft::draft, draft::discard_draft))
        .routes(routes!(draft::be_present))
        .routes(routes!(draft::discarded_drafts))
        .routes(routes!(draft::restore_draft))
        .routes(routes!(text::check_text))
        .routes(routes!(text::edit_text))
        .routes(routes!(text::import_text))
        .routes(routes!(cases::cases, cases::keep_case))
        .routes(routes!(cases::cases_file))
        .routes(routes!(cases::take_case_away))
        .routes(routes!(rehearsals::rehearsal, rehearsals::save_rehearsal))
        .routes(routes!(rehearsals::rehearsals, rehearsals::begin_rehearsal))
        .routes(routes!(rehearsals::rehearsal_report, rehearsals::stop_rehearsal))
        .routes(routes!(rehearsals::rehearsal_page))
        .routes(routes!(rehearsals::rehearsal_junit))
        .routes(routes!(asked::asked))
        .routes(routes!(around::around))
        .routes(routes!(holdings::holdings))
        .routes(routes!(holdings::role_reach))
        .routes(routes!(entities::entities))
        .routes(routes!(entities::entity, entities::put_entity, entities::delete_entity))
        .routes(routes!(entities::members))
        .routes(routes!(register::set_facts))
        .routes(routes!(grants::grants, grants::give_grant))
        .routes(routes!(grants::end_grant))
        .routes(routes!(grants::activations, grants::activate))
        .routes(routes!(grants::deactivate))
        .routes(routes!(tenant_roles::tenant_roles, tenant_roles::put_tenant_role))
        .routes(routes!(tenant_roles::end_tenant_role))
        .routes(routes!(register::load))
        .routes(routes!(stream::load_stream))
        .routes(routes!(changes::changes))
        .routes(routes!(changes::verification))
        .routes(routes!(keys::keys, keys::make_key))
        .routes(routes!(keys::replace_key))
        .routes(routes!(keys::end_key))
        .routes(routes!(issuers::issuers, issuers::add_issuer))
        .routes(routes!(issuers::end_issuer))
        .routes(routes!(issuers::try_issuer))
        .routes(routes!(tokens::read_token))
}

/// Pages by which a browser signs in with an issuer.
pub fn sign_in_pages() -> Router<App> {
    Router::new()
        .route("/sign-in/{issuer}", get(session::begin))
        .route("/sign-in/{issuer}/back", get(session::came_back))
}

/// Works out an answer beside the threads that answer decisions, and writes it there too.
async fn told<T: Serialize>(
    app: &App,
    operator: Operator,
    work: impl FnOnce(&Operator, &Ticket) -> Result<T, Problem> + Send + 'static,
) -> Result<Response, Problem> {
    let key = operator.key_id().to_owned();
    let work = move |ticket: &Ticket| Ok(Json(work(&operator, ticket)?).into_response());
    app.node.lanes.questions.run(&key, PATIENCE, work).await
}
