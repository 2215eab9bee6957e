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
mod keys;
mod model;
mod questions;
mod register;
mod rehearsals;
mod session;
mod stream;
mod tenant_roles;
mod text;

use crate::App;
pub use changes::MAX_STREAMS;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

/// All paths.
pub fn router() -> OpenApiRouter<App> {
    OpenApiRouter::new()
        .routes(routes!(session::begin, session::show, session::end))
        .routes(routes!(questions::ask))
        .routes(routes!(questions::actions))
        .routes(routes!(questions::reach))
        .routes(routes!(questions::holders))
        .routes(routes!(questions::rows))
        .routes(routes!(questions::hints))
        .routes(routes!(charter::status))
        .routes(routes!(charter::revisions))
        .routes(routes!(charter::revision))
        .routes(routes!(model::model))
        .routes(routes!(model::grid))
        .routes(routes!(draft::drafts, draft::save))
        .routes(routes!(draft::draft, draft::discard))
        .routes(routes!(draft::be_present))
        .routes(routes!(draft::roll_out))
        .routes(routes!(text::check))
        .routes(routes!(text::change))
        .routes(routes!(text::begin))
        .routes(routes!(cases::cases, cases::keep))
        .routes(routes!(cases::file))
        .routes(routes!(cases::take_away))
        .routes(routes!(rehearsals::text, rehearsals::save))
        .routes(routes!(rehearsals::runs, rehearsals::begin))
        .routes(routes!(rehearsals::report, rehearsals::stop))
        .routes(routes!(rehearsals::page))
        .routes(routes!(rehearsals::xml))
        .routes(routes!(asked::asked))
        .routes(routes!(around::around))
        .routes(routes!(holdings::holdings))
        .routes(routes!(holdings::reached))
        .routes(routes!(entities::entities))
        .routes(routes!(entities::entity, entities::put_entity, entities::delete_entity))
        .routes(routes!(entities::members))
        .routes(routes!(register::facts))
        .routes(routes!(grants::grants, grants::give))
        .routes(routes!(grants::end))
        .routes(routes!(grants::activations, grants::activate))
        .routes(routes!(grants::deactivate))
        .routes(routes!(tenant_roles::tenant_roles, tenant_roles::put_tenant_role))
        .routes(routes!(tenant_roles::end_tenant_role))
        .routes(routes!(register::load))
        .routes(routes!(stream::stream))
        .routes(routes!(changes::changes))
        .routes(routes!(keys::keys, keys::make))
        .routes(routes!(keys::replace))
        .routes(routes!(keys::end))
}
