//! Shadows: live questions, answered once more under a revision that is not live.

use crate::body::{InPath, StrictJson};
use crate::node::gate::Operator;
use crate::node::gate::ahead::ShadowAsked as Asked;
use crate::node::gate::release::for_whom;
use crate::problem::{Problem, Refused};
use axum::Json;
use jiff::Timestamp;
use ostrog_core::value::parse_time;
use ostrog_store::shadow::{Counts, Difference, Shadow};
use ostrog_wire::release::{DifferenceGroup, DifferenceShown, ShadowAsked, ShadowShown};
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// The share of one processor's time that is taken unless stated, in percent.
const SHARE: i32 = 25;
/// Most questions that are told of a group.
const MAX_QUESTIONS: usize = 50;

fn shown((shadow, counts): (Shadow, Counts), names: &BTreeMap<String, String>) -> ShadowShown {
    ShadowShown {
        number: shadow.number,
        revision: shadow.revision,
        applications: shadow.applications,
        one_in: shadow.one_in,
        sampled: counts.one_in.max(shadow.one_in),
        share: shadow.share / 10,
        by: names.get(&shadow.author).cloned().unwrap_or(shadow.author),
        started: shadow.started_at.to_string(),
        until: shadow.until.map(|until| until.to_string()),
        ended: shadow.ended.map(|(_, why)| why),
        asked: counts.asked,
        differing: counts.differing,
        dropped: counts.dropped,
    }
}

/// The last shadows, newest first, with what was counted on all nodes.
#[utoipa::path(get, path = "/api/v1/shadows", tag = "rollouts",
    responses((status = 200, description = "At most 20", body = Vec<ShadowShown>), Refused),
    security(("key" = [])))]
pub async fn shadows(operator: Operator) -> Result<Json<Vec<ShadowShown>>, Problem> {
    let texts = operator.texts()?;
    let names = texts.names().await?;
    Ok(Json(texts.shadows().await?.into_iter().map(|one| self::shown(one, &names)).collect()))
}

/// Begins to answer live questions once more, under a revision that is not live. Callers are answered as before; what
/// differs is counted and kept. With more to do than its share of the processor allows it samples less, then ends.
#[utoipa::path(post, path = "/api/v1/shadows", tag = "rollouts", request_body = ShadowAsked,
    responses((status = 200, description = "It runs", body = ShadowShown), Refused),
    security(("key" = [])))]
pub async fn begin_shadow(
    operator: Operator,
    StrictJson(asked, _held): StrictJson<ShadowAsked>,
) -> Result<Json<ShadowShown>, Problem> {
    let shadowing = operator.shadowing()?;
    let until = match &asked.until {
        None => None,
        Some(text) => {
            let until = parse_time(text).filter(|until| *until > Timestamp::now());
            Some(until.ok_or_else(|| Problem::invalid(format!("{text:?} is no moment to come.")))?)
        }
    };
    let (one_in, share) = (asked.one_in.unwrap_or(1), asked.share.unwrap_or(SHARE));
    if !(1..=1_000).contains(&one_in) || !(1..=100).contains(&share) {
        return Err(Problem::malformed(
            "One question in 1 to 1000 is answered, with a share of 1 to 100 percent.",
        ));
    }
    let r#for = for_whom(&asked.r#for)?;
    let asked = Asked { revision: asked.revision, r#for, until, one_in, share: share * 10 };
    let number = shadowing.begin(asked).await?;
    one(&operator, number).await
}

async fn one(operator: &Operator, number: i64) -> Result<Json<ShadowShown>, Problem> {
    let texts = operator.texts()?;
    let names = texts.names().await?;
    let found = texts.shadows().await?.into_iter().find(|(shadow, _)| shadow.number == number);
    let missing = || Problem::not_found(format!("There is no shadow {number}."));
    Ok(Json(shown(found.ok_or_else(missing)?, &names)))
}

/// How answers differ, grouped, what is newly denied first.
#[utoipa::path(get, path = "/api/v1/shadows/{number}/differences", tag = "rollouts",
    params(("number" = String, Path, description = "The shadow's number")),
    responses((status = 200, description = "Groups", body = Vec<DifferenceGroup>), Refused),
    security(("key" = [])))]
pub async fn differences(
    operator: Operator,
    InPath(number): InPath<String>,
) -> Result<Json<Vec<DifferenceGroup>>, Problem> {
    let texts = operator.texts()?;
    let missing = || Problem::not_found(format!("There is no shadow {number}."));
    let number: i64 = number.parse().map_err(|_| missing())?;
    let _there = one(&operator, number).await?;
    let mut groups: Vec<DifferenceGroup> = Vec::new();
    for found in texts.differences(number).await? {
        let same = |group: &DifferenceGroup| {
            group.permission == found.permission
                && group.newly_denied == found.allowed
                && group.reason == found.reason
                && group.shadow_reason == found.shadow_reason
        };
        let at = match groups.iter().position(same) {
            Some(at) => at,
            None => {
                groups.push(DifferenceGroup {
                    permission: found.permission.clone(),
                    newly_denied: found.allowed,
                    reason: found.reason.clone(),
                    shadow_reason: found.shadow_reason.clone(),
                    times: 0,
                    questions: Vec::new(),
                });
                groups.len() - 1
            }
        };
        groups[at].times += found.times;
        if groups[at].questions.len() < MAX_QUESTIONS {
            groups[at].questions.push(difference(found));
        }
    }
    groups.sort_by_key(|group| (!group.newly_denied, -group.times));
    Ok(Json(groups))
}

fn difference(found: Difference) -> DifferenceShown {
    let text = |name: &str| found.question[name].as_str().map(str::to_owned);
    let mut said = json!({});
    for name in ["subject-properties", "resource-properties", "context"] {
        if let Value::Object(members) = &found.question[name] {
            said[name] = members.clone().into();
        }
    }
    DifferenceShown {
        application: found.application.clone(),
        subject: text("subject").unwrap_or_default(),
        resource: text("resource"),
        said,
        times: found.times,
        first: found.first_at.to_string(),
        last: found.last_at.to_string(),
    }
}

/// Stops a shadow.
#[utoipa::path(delete, path = "/api/v1/shadows/{number}", tag = "rollouts",
    params(("number" = String, Path, description = "The shadow's number")),
    responses((status = 200, description = "It has ended", body = ShadowShown), Refused),
    security(("key" = [])))]
pub async fn end_shadow(
    operator: Operator,
    InPath(number): InPath<String>,
) -> Result<Json<ShadowShown>, Problem> {
    let shadowing = operator.shadowing()?;
    let missing = || Problem::not_found(format!("No shadow {number} runs."));
    let number: i64 = number.parse().map_err(|_| missing())?;
    shadowing.end(number).await?;
    one(&operator, number).await
}
