//! What a request comes to, told step by step: for people who want to know before a proxy asks.

use super::{Asked, Outcome, Target, TargetRefused, pattern_of, taken};
use crate::charter::model::Model;
use crate::decide::in_force::ByType;
use crate::decide::question::{Malformed, Request};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;

/// A request, and what it comes to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct RouteTold {
    /// Whether it may pass.
    pub allowed: bool,
    /// `open`, `allowed`, `denied`, `route-refused`, `unmapped`, `path-refused` or `token-refused`.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub code: Cow<'static, str>,
    /// The code in words.
    pub words: String,
    /// Who asks.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subject: Option<String>,
    /// The path in its one form.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// The route that takes it: `GET /manifests/{manifest}`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub route: Option<String>,
    /// What was asked, as far as the first denial.
    #[serde(default)]
    pub needs: Vec<Asked>,
}

impl RouteTold {
    /// Of a request that is refused before anything is asked.
    pub fn refused(code: &'static str, words: impl Into<String>) -> RouteTold {
        RouteTold {
            allowed: false,
            code: code.into(),
            words: words.into(),
            subject: None,
            path: None,
            route: None,
            needs: Vec::new(),
        }
    }
}

/// Tells what a request to an application comes to, of the charter that is live for it; `who` says who makes it.
///
/// # Errors
/// If who makes it is nobody's name.
pub fn told(
    model: &Model,
    application: &str,
    (method, target): (&str, &str),
    (who, under): (&Request, ByType<'_, '_>),
    now: Timestamp,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<RouteTold, Malformed> {
    let target = match Target::read(method, target) {
        Ok(target) => target,
        Err(why @ TargetRefused::TokenInQuery) => {
            return Ok(RouteTold::refused("token-refused", why.to_string()));
        }
        Err(why) => return Ok(RouteTold::refused("path-refused", why.to_string())),
    };
    let path = Some(target.path.canonical());
    let Some(route) = taken(model, application, method, &target.path) else {
        let pattern = pattern_of(model, application, &target.path);
        let words = format!("{application} has no route for {method} {pattern}");
        return Ok(RouteTold { path, ..RouteTold::refused("unmapped", words) });
    };
    let (outcome, needs) = route.ask(model, under, who, now, go_on)?;
    let (allowed, code, words) = match outcome {
        Outcome::Open => (true, "open", "it needs nothing".to_owned()),
        Outcome::Refused => (false, "route-refused", "the route refuses whoever asks".to_owned()),
        Outcome::Allowed => (true, "allowed", "all that it needs is allowed".to_owned()),
        Outcome::Denied(reason) => (false, "denied", reason),
    };
    let route = Some(format!("{} {}", route.route.method, route.route.path()));
    Ok(RouteTold { allowed, code: code.into(), words, subject: None, path, route, needs })
}
