//! Reading a token: what it says, whether it holds, what it means here. It is neither kept nor logged.

use super::told;
use crate::App;
use crate::body::StrictJson;
use crate::node::gate::Operator;
use crate::node::gate::permission::Permission;
use crate::problem::{Problem, Refused};
use axum::extract::State;
use axum::response::Response;
use jiff::Timestamp;
use ostrog_core::decide::bearer::Token;
use ostrog_core::decide::gains::{Gain as Found, gains};
use ostrog_tokens::read;
use ostrog_wire::issuers::{ClaimRead, Gain, TokenAsked, TokenRead, TokenText};

/// How many resources of each permission are named.
const NAMED: usize = 5;

/// Tells what a token says and what it means here.
///
/// Costs two searches for each permission of the issuer's applications.
#[utoipa::path(post, path = "/api/v1/tokens/reading", tag = "issuers", request_body = TokenAsked,
    responses((status = 200, description = "What was read", body = TokenRead), Refused),
    security(("key" = [])))]
pub async fn read_token(
    State(app): State<App>,
    operator: Operator,
    StrictJson(asked, _held): StrictJson<TokenAsked>,
) -> Result<Response, Problem> {
    operator.decisions(Permission::Evaluation)?;
    let now = Timestamp::now();
    let mut told_of = TokenRead::default();
    let borne = match (asked.token, asked.issuer, asked.claims) {
        (Some(TokenText(token)), None, None) => {
            let (header, claims) = read(&token);
            (told_of.header, told_of.claims) = (header.unwrap_or_default(), claims.unwrap_or_default());
            match operator.verified(&token, now).await {
                Ok(verified) => {
                    told_of.verified = Some(true);
                    told_of.words = format!("a token of {}, until {}", verified.issuer, verified.until);
                    operator.bearer(&verified, operator.decisions(Permission::Evaluation)?.world())
                }
                Err(why) => {
                    (told_of.verified, told_of.words) = (Some(false), why.to_string());
                    return told(&app, operator, move |_, _| Ok(told_of)).await;
                }
            }
        }
        (None, Some(issuer), Some(claims)) => {
            told_of.words = format!("as if a token of {issuer} had these claims, and was verified");
            told_of.claims = claims.clone();
            let decisions = operator.decisions(Permission::Evaluation)?;
            operator.bearer_of(&Token { issuer, claims }, decisions.world())
        }
        _ => return Err(Problem::invalid("Send a token; or an issuer and claims.")),
    };
    let bearer = match borne {
        Ok(bearer) => bearer,
        Err(why) => {
            told_of.nobody = Some(why.to_string());
            return told(&app, operator, move |_, _| Ok(told_of)).await;
        }
    };
    told(&app, operator, move |operator, ticket| {
        let decisions = operator.decisions(Permission::Evaluation)?;
        let register = decisions.world().register();
        told_of.subject = Some(bearer.name.clone());
        told_of.read = bearer
            .claims
            .iter()
            .map(|told| claim_read(told, bearer.beside(decisions.world(), told)))
            .collect();
        let found = gains(decisions.world(), decisions.sight(), &bearer, now, &mut || ticket.goes_on());
        let found = found.map_err(|error| Problem::malformed(format!("{error}.")))?;
        let too_long = || Problem::timeout("What the token adds takes too long to find out.");
        let found = found.ok_or_else(too_long)?;
        let shown = |found: Vec<Found>| {
            let name = |id: &_| register.name(*id).to_owned();
            let gain = |found: Found| Gain {
                permission: decisions.policy().model().permissions[found.permission.index()].text.clone(),
                reason: found.reason,
                resources: found.resources.len(),
                first: found
                    .resources
                    .iter()
                    .take(NAMED)
                    .map(name)
                    .chain(found.new.then(|| "a new one".to_owned()))
                    .collect(),
            };
            found.into_iter().map(gain).collect()
        };
        (told_of.gains, told_of.losses) = (shown(found.gained), shown(found.lost));
        Ok(told_of)
    })
    .await
}

fn claim_read(told: &ostrog_core::decide::bearer::ClaimTold, register: Option<String>) -> ClaimRead {
    ClaimRead {
        claim: told.claim.clone(),
        about: told.about.clone(),
        outcome: told.outcome.to_string(),
        words: told.words.clone(),
        register,
    }
}
