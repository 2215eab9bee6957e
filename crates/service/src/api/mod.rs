//! The management API: what the command line and the console need.

mod ask;
mod charter;
mod register;
mod session;

use crate::App;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

/// All paths.
pub fn router() -> OpenApiRouter<App> {
    OpenApiRouter::new()
        .routes(routes!(session::begin, session::show, session::end))
        .routes(routes!(ask::ask))
        .routes(routes!(charter::status))
        .routes(routes!(charter::revisions, charter::put_live))
        .routes(routes!(charter::revision))
        .routes(routes!(charter::model))
        .routes(routes!(charter::grid))
        .routes(routes!(register::entities))
        .routes(routes!(register::entity))
        .routes(routes!(register::facts))
        .routes(routes!(register::grants, register::give))
        .routes(routes!(register::end))
        .routes(routes!(register::changes))
        .routes(routes!(register::load))
}
