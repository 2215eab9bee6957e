//! What a request behind a proxy would come to.

use super::told;
use crate::App;
use crate::body::StrictJson;
use crate::node::gate::Operator;
use crate::node::gate::permission::Permission;
use crate::problem::{Problem, Refused};
use axum::extract::State;
use axum::response::Response;
use jiff::Timestamp;
use ostrog_core::names::Near;
use ostrog_core::prelude::Request;
use ostrog_core::routes::{self, RouteTold};
use ostrog_wire::issuers::TokenText;
use ostrog_wire::questions::RouteQuestion;

/// Tells which route a request takes, and what it comes to for who makes it. Nothing is counted or noted.
///
/// Costs a decision for each permission that is needed; of any one, those of a search until one is found.
#[utoipa::path(post, path = "/api/v1/routes/check", tag = "questions", request_body = RouteQuestion,
    responses((status = 200, description = "What it comes to", body = RouteTold), Refused),
    security(("key" = [])))]
pub async fn check_route(
    State(app): State<App>,
    operator: Operator,
    StrictJson(asked, _held): StrictJson<RouteQuestion>,
) -> Result<Response, Problem> {
    // What is registered shows in the answer: it is for those who may read all of it.
    operator.need(Permission::RegisterRead)?;
    let decisions = operator.decisions(Permission::Evaluation)?.of_application(&asked.application);
    let all = || decisions.policy().model().applications.iter().map(|known| known.key.as_str());
    if !all().any(|known| known == asked.application) {
        let near = Near::of(&asked.application, all());
        return Err(Problem::invalid(format!("There is no application {:?}{near}.", asked.application)));
    }
    let now = Timestamp::now();
    let subject = asked.subject.clone().unwrap_or_else(|| "anonymous".to_owned());
    let (bearer, claims) = match &asked.token {
        None => (None, None),
        Some(_) if asked.subject.is_some() => {
            return Err(Problem::invalid("Say who makes the request by a name or by a token, not by both."));
        }
        Some(TokenText(token)) => match operator.bearer_for(token, &asked.application, now).await? {
            Ok((bearer, claims)) => (Some(bearer), Some(claims)),
            Err(why) => {
                let refused = RouteTold::refused("token-refused", why);
                return told(&app, operator, move |_, _| Ok(refused)).await;
            }
        },
    };
    told(&app, operator, move |operator, ticket| {
        let decisions = operator.decisions(Permission::Evaluation)?.of_application(&asked.application);
        let name = bearer.as_ref().map_or_else(|| subject.clone(), |bearer| bearer.name.clone());
        let who = Request { subject, bearer: bearer.clone().map(Ok), ..Request::default() };
        let asking = decisions.asking(claims, Some(&asked.application));
        let under = |kind: &str| asking.under(kind);
        let model = decisions.policy().model();
        let request = (asked.method.as_str(), asked.path.as_str());
        let who = (&who, &under as _);
        let found = routes::told(model, &asked.application, request, who, now, &mut || ticket.goes_on());
        let found = found.map_err(|why| Problem::malformed(format!("{why}.")))?;
        Ok(RouteTold { subject: Some(name), ..found })
    })
    .await
}
