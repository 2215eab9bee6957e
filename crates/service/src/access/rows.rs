//! Row filters: on which rows of its own table may a subject act?

use super::answer;
use super::ask::{Asker, not_told, permission};
use super::tokens::{TOKEN, Tokens};
use crate::App;
use crate::body::StrictJson;
use crate::lanes::Ticket;
use crate::node::gate::Scope;
use crate::node::gate::permission::Permission;
use crate::problem::{Problem, Refused};
use axum::extract::State;
use axum::response::Response;
use jiff::Timestamp;
use ostrog_core::decide::told::{RowsTold, rows as filter};
use ostrog_core::prelude::Reason;
use ostrog_wire::access::{BesideContext, RowsRequest, RowsResponse};
use std::time::Duration;

/// How long one may take.
const PATIENCE: Duration = Duration::from_secs(5);

/// A decision as a condition on the application's own rows: it selects exactly those of which an
/// evaluation with what its columns hold would be allowed.
///
/// It is good for the position that the answer names and, made for a token, until `context.until`. An
/// application that is not to ask about the type gets a filter that selects nothing, as for a type that
/// nobody declared.
#[utoipa::path(post, path = "/access/v1/rows", operation_id = "row_filter", tag = "decisions", request_body = RowsRequest,
    responses(
        (status = 200, description = "The filter; `filter` selects nothing where a token does not count", body = RowsResponse,
            headers(("Ostrog-Revision" = i64, description = "The revision asked"),
                ("Ostrog-Position" = String, description = "The position asked at, `<epoch>.<n>`"))),
        Refused,
    ), security(("key" = [])))]
pub async fn rows(
    State(app): State<App>,
    scope: Scope,
    StrictJson(asked, _held): StrictJson<RowsRequest>,
) -> Result<Response, Problem> {
    scope.decisions(Permission::Rows)?;
    if scope.application().is_none() {
        // A filter tells of rows of all tenants.
        scope.need(Permission::RegisterRead)?;
    }
    if asked.resource.id.is_some() {
        return Err(Problem::malformed("The rows are of a type: leave the resource's id out."));
    }
    let token = asked.subject.id.clone().filter(|_| asked.subject.kind == TOKEN);
    let tokens = Tokens::of(&scope, token.clone().into_iter().collect()).await;
    let (key, lane) = (scope.key_id().to_owned(), app.clone());
    let work = move |ticket: &Ticket| {
        let decisions = scope.decisions(Permission::Rows)?.about(&asked.resource.kind);
        let asker = Asker::new(&app, &scope, decisions, &tokens);
        let who = asker.who(&asked.subject, false)?;
        let permission = permission(&asked.resource.kind, &asked.action.name)?;
        let parts = (&asked.subject, Some(&asked.resource));
        let request = asker.request(&who, parts, permission, asked.context.as_ref())?;
        let until = token.as_deref().and_then(|token| tokens.until(token)).map(|until| until.to_string());
        let reason = if who.is_refused() {
            Some(Reason::TokenRefused)
        } else if !asker.knows(&asked.resource.kind) {
            Some(Reason::UnknownType)
        } else {
            None
        };
        let rows = match reason {
            Some(_) => RowsTold::nothing(asked.columns.as_ref()),
            None => {
                let mut go_on = || ticket.goes_on() && scope.counts();
                let (engine, now) = (asker.engine_for(&who), Timestamp::now());
                filter(engine, &request, asked.columns.as_ref(), now, &mut go_on).map_err(not_told)?
            }
        };
        let reason = reason.map(|reason| reason.code(decisions.engine()));
        let context = BesideContext { subject: who.told(), reason, until };
        Ok(answer(&scope, decisions, &RowsResponse { rows, context }))
    };
    lane.node.lanes.questions.run(&key, PATIENCE, work).await
}
