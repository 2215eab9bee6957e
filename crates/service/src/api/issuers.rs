//! Issuers of tokens: setting up, trying and ending them. Only owners do.

use crate::body::{InPath, StrictJson};
use crate::node::gate::Operator;
use crate::problem::{Problem, Refused};
use axum::Json;
use jiff::Timestamp;
use ostrog_core::names::is_key;
use ostrog_store::issuer::Issuer as Kept;
use ostrog_tokens::discovery;
use ostrog_tokens::issuers::Standing;
use ostrog_tokens::keys::{KeySet, KeyTold};
use ostrog_wire::issuers::{AttemptStep, Attempted, IssuerAsked, IssuerShown, KeyFound, Refusal};

/// Most audiences of one issuer.
const MAX_AUDIENCES: usize = 100;

fn key_found(told: KeyTold) -> KeyFound {
    KeyFound { place: told.place, kid: told.kid, algorithms: told.algorithms, skipped: told.skipped }
}

fn shown(kept: &Kept, standing: Option<Standing>, in_charter: bool) -> IssuerShown {
    let mut shown = IssuerShown {
        key: kept.key.clone(),
        url: kept.iss.clone(),
        audiences: kept.audiences.clone(),
        from_file: kept.keys.is_some(),
        private: kept.private,
        id_tokens: kept.id_tokens,
        operators: kept.client.is_some(),
        client: kept.client.clone(),
        waits: kept.waits,
        created_at: kept.created_at.to_string(),
        author: kept.author.clone(),
        in_charter,
        keys: Vec::new(),
        keys_since: None,
        failed: None,
        refused: None,
    };
    if let Some(standing) = standing {
        shown.keys = standing.keys.into_iter().map(key_found).collect();
        shown.keys_since = standing.came.map(|came| came.to_string());
        shown.failed = standing.failed;
        shown.refused = standing.refused.map(|(at, why)| Refusal { at: at.to_string(), why });
    }
    shown
}

/// All issuers, with how they stand on this node.
#[utoipa::path(get, path = "/api/v1/issuers", tag = "issuers",
    responses((status = 200, description = "Issuers, by key", body = Vec<IssuerShown>), Refused),
    security(("key" = [])))]
pub async fn issuers(operator: Operator) -> Result<Json<Vec<IssuerShown>>, Problem> {
    let list = operator.issuers()?;
    let all = list.all().into_iter().map(|(kept, issuer)| {
        let standing = issuer.map(|issuer| issuer.standing());
        shown(&kept, standing, list.is_in_charter(&kept.key))
    });
    Ok(Json(all.collect()))
}

/// Sets one up. What its tokens mean stands in the charter, under the same key.
///
/// Operators sign in with it once another has approved that (`I-KEY`), where the settings say so.
#[utoipa::path(post, path = "/api/v1/issuers", tag = "issuers", request_body = IssuerAsked,
    responses((status = 200, description = "It is set up", body = IssuerShown), Refused),
    security(("key" = [])))]
pub async fn add_issuer(
    operator: Operator,
    StrictJson(asked, _held): StrictJson<IssuerAsked>,
) -> Result<Json<IssuerShown>, Problem> {
    let keeping = operator.issuer_keeping()?;
    if asked.operators {
        operator.need_lately()?;
    }
    let kept = keeping.add(kept(asked, operator.key_id())?).await?;
    let now = operator.again()?;
    Ok(Json(shown(&kept, None, now.issuers()?.is_in_charter(&kept.key))))
}

fn kept(asked: IssuerAsked, author: &str) -> Result<Kept, Problem> {
    if !is_key(&asked.key) {
        return Err(Problem::invalid(format!("{:?} is no key of an issuer.", asked.key)));
    }
    discovery::issuer(&asked.url).map_err(|why| Problem::invalid(format!("{}: {why}.", asked.url)))?;
    let named = asked.audiences.values().flatten();
    if asked.audiences.values().any(Vec::is_empty) || (asked.audiences.is_empty() && !asked.operators) {
        return Err(Problem::invalid("An issuer needs an audience for each application: customs=AUD."));
    }
    match (&asked.client, asked.operators) {
        (None, false) => {}
        (Some(client), true) if client.is_empty() || client.len() > 1_000 => {
            return Err(Problem::invalid("A client has a name of 1 to 1,000 bytes."));
        }
        (Some(client), true) if named.clone().any(|one| one == client) => {
            return Err(Problem::invalid(format!(
                "{client:?} is an application's audience: operators sign in with a client that serves none."
            )));
        }
        (Some(_), true) => {}
        _ => {
            return Err(Problem::invalid(
                "Operators sign in with an issuer as a client of it: say operators and client together.",
            ));
        }
    }
    if named.clone().count() > MAX_AUDIENCES || named.clone().any(|one| one.is_empty() || one.len() > 1_000) {
        return Err(Problem::invalid(format!(
            "An issuer has at most {MAX_AUDIENCES} audiences, none of them empty or of more than 1,000 bytes."
        )));
    }
    let keys = asked.keys.map(String::into_bytes);
    if let Some(text) = &keys {
        KeySet::read(text).map_err(|why| Problem::invalid(format!("The keys cannot be read: {why}.")))?;
    }
    Ok(Kept {
        key: asked.key,
        iss: asked.url,
        audiences: asked.audiences,
        keys,
        private: asked.private,
        id_tokens: asked.id_tokens,
        client: asked.client,
        waits: false,
        persons: Vec::new(),
        created_at: Timestamp::now(),
        author: author.to_owned(),
    })
}

/// Ends one: its tokens count no more, at once.
#[utoipa::path(delete, path = "/api/v1/issuers/{key}", tag = "issuers",
    params(("key" = String, Path, description = "The issuer's key")),
    responses((status = 200, description = "It has ended", body = IssuerShown), Refused),
    security(("key" = [])))]
pub async fn end_issuer(
    operator: Operator,
    InPath(key): InPath<String>,
) -> Result<Json<IssuerShown>, Problem> {
    let ended = operator.issuer_keeping()?.end(&key).await?;
    Ok(Json(shown(&ended, None, operator.issuers()?.is_in_charter(&ended.key))))
}

/// Finds its keys step by step, from this node, and keeps nothing of it. What was fetched is not told.
#[utoipa::path(post, path = "/api/v1/issuers/{key}/attempt", tag = "issuers",
    params(("key" = String, Path, description = "The issuer's key")),
    responses((status = 200, description = "What was found", body = Attempted), Refused),
    security(("key" = [])))]
pub async fn try_issuer(operator: Operator, InPath(key): InPath<String>) -> Result<Json<Attempted>, Problem> {
    operator.issuer_keeping()?;
    let (steps, keys) = operator.issuers()?.attempt(&key).await?;
    let step =
        |step: ostrog_tokens::issuers::Step| AttemptStep { what: step.what, ok: step.ok, words: step.words };
    Ok(Json(Attempted {
        steps: steps.into_iter().map(step).collect(),
        keys: keys.into_iter().map(key_found).collect(),
    }))
}
