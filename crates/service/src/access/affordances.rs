//! Affordances: what an application's interface shows and enables for a subject.

use super::answer;
use super::ask::{Asker, malformed, not_told};
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
use ostrog_core::charter::model::KindId;
use ostrog_core::decide::hints::{Hint, Judged, hints};
use ostrog_core::decide::told::NotTold;
use ostrog_core::prelude::Reason;
use ostrog_store::key::Detail;
use ostrog_wire::access::{AffordancesRequest, AffordancesResponse, BesideContext};
use std::time::Duration;

/// How long they may take.
const PATIENCE: Duration = Duration::from_secs(5);

/// What an application's interface shows and enables: each affordance judged as a decision on the
/// resource that is asked about, or on whether there is one that it may be done with.
///
/// For a token that does not count, there is none, and `context.reason` says so.
#[utoipa::path(post, path = "/access/v1/affordances", tag = "decisions", request_body = AffordancesRequest,
    responses(
        (status = 200, description = "Each affordance of the application", body = AffordancesResponse,
            headers(("Ostrog-Revision" = i64, description = "The revision asked"),
                ("Ostrog-Position" = String, description = "The position asked at, `<epoch>.<n>`"))),
        Refused,
    ), security(("key" = [])))]
pub async fn affordances(
    State(app): State<App>,
    scope: Scope,
    StrictJson(asked, _held): StrictJson<AffordancesRequest>,
) -> Result<Response, Problem> {
    scope.decisions(Permission::Affordances)?;
    let application = match (scope.application(), &asked.application) {
        (Some(own), None) => own.to_owned(),
        (Some(own), Some(named)) if own == named => own.to_owned(),
        (Some(_), Some(_)) => {
            return Err(Problem::forbidden("This key asks for the affordances of its own application."));
        }
        (None, Some(named)) => named.clone(),
        (None, None) => {
            return Err(Problem::malformed("application is missing: an operator's key says whose."));
        }
    };
    let token = asked.subject.id.clone().filter(|_| asked.subject.kind == TOKEN);
    let tokens = Tokens::of(&scope, token.clone().into_iter().collect()).await;
    let (key, lane) = (scope.key_id().to_owned(), app.clone());
    let work = move |ticket: &Ticket| {
        let decisions = scope.decisions(Permission::Affordances)?.of_application(&application);
        let asker = Asker::new(&app, &scope, decisions, &tokens);
        let who = asker.who(&asked.subject, false)?;
        let until = token.as_deref().and_then(|token| tokens.until(token)).map(|until| until.to_string());
        let mut context = BesideContext { subject: who.told(), reason: None, until };
        if who.is_refused() {
            context.reason = Some(Reason::TokenRefused.code(decisions.engine()));
            return Ok(answer(&scope, decisions, &AffordancesResponse { affordances: Vec::new(), context }));
        }
        let parts = (&asked.subject, asked.resource.as_ref());
        let request = asker.request(&who, parts, String::new(), asked.context.as_ref())?;
        let kinds = &decisions.policy().model().kinds;
        let asks = |kind: KindId| asker.may_ask_about(&kinds[kind.index()].key);
        let claims = token.as_deref().and_then(|token| tokens.claims(token));
        let asking = decisions.asking(claims, scope.application());
        let under = |kind: &str| asking.under(kind);
        let judged = Judged { application: &application, request: &request, asks: &asks, under: &under };
        let mut go_on = || ticket.goes_on() && scope.counts();
        let found = hints(asker.engine_for(&who), judged, Timestamp::now(), &mut go_on).map_err(malformed)?;
        let mut affordances = found.ok_or(NotTold::BrokenOff).map_err(not_told)?;
        if scope.detail() == Detail::None {
            affordances.iter_mut().for_each(tell_nothing);
        }
        Ok(answer(&scope, decisions, &AffordancesResponse { affordances, context }))
    };
    lane.node.lanes.questions.run(&key, PATIENCE, work).await
}

fn tell_nothing(hint: &mut Hint) {
    (hint.reason, hint.message) = (None, None);
}
