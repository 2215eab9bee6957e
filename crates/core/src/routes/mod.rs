//! Which route a request takes, and what that comes to for who makes it.
//!
//! - [`path`]: a request's target in its one reading;
//! - [`told`]: what a request comes to, for people;
//! - [`unmapped`]: what requests look like that no route takes.

mod path;
mod told;
mod unmapped;

use crate::charter::check::pattern;
use crate::charter::model::{Model, Need, Needs, Route, RouteTarget, Segment};
use crate::decide::in_force::ByType;
use crate::decide::question::{Malformed, Request};
use crate::decide::reach::{Reaching, reach};
use crate::decide::{Engine, Reason, decide, with_scratch};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

pub use crate::charter::check::MAX_SEGMENTS;
pub use path::{MAX_PATH_BYTES, Path, PathRefused, Target, TargetRefused};
pub use told::{RouteTold, told};
pub use unmapped::pattern_of;

/// A route that a request takes, with what its parameters are.
#[derive(Clone, Debug)]
pub struct Taken<'m> {
    /// The route.
    pub route: &'m Route,
    values: Vec<(&'m str, String)>,
}

/// The route of an application that a request takes. HEAD takes one of HEAD's and GET's together.
pub fn taken<'m>(model: &'m Model, application: &str, method: &str, path: &Path) -> Option<Taken<'m>> {
    let application = model.applications.iter().position(|one| one.key == application)?;
    let mut best: Option<&Route> = None;
    model.paths[application].fitting(path.segments(), &mut |at| {
        let route = &model.routes[at];
        if answers(route, method) && best.is_none_or(|best| before(route, best, method)) {
            best = Some(route);
        }
        None::<()>
    });
    let route = best?;
    let values = values(route, path)?;
    Some(Taken { route, values })
}

/// Whether a route is for a method: of HEAD and GET, HEAD takes both.
fn answers(route: &Route, method: &str) -> bool {
    route.method == method || (method == "HEAD" && route.method == "GET")
}

/// Which of two that a request fits decides: what is more literal, and then what is for its very method.
fn before(route: &Route, other: &Route, method: &str) -> bool {
    let own = |route: &Route| route.method != method;
    route.precedence(other).then_with(|| own(route).cmp(&own(other))).is_lt()
}

/// The route into which every request to an operation falls, if no route that is more literal takes it: of the
/// application, for a method and a path with parameters in braces.
pub fn route_of<'m>(model: &'m Model, application: &str, method: &str, path: &str) -> Option<&'m Route> {
    let application = model.applications.iter().position(|one| one.key == application)?;
    let segments = pattern(path)?;
    let mut best: Option<&Route> = None;
    model.paths[application].meeting(&segments, &mut |at| {
        let route = &model.routes[at];
        let covers = segments.iter().zip(&route.segments).all(|(asked, segment)| asked.lies_in(segment));
        if covers && answers(route, method) && best.is_none_or(|best| before(route, best, method)) {
            best = Some(route);
        }
        None::<()>
    });
    best
}

/// What a route's parameters are for a path, if it matches.
fn values<'m>(route: &'m Route, path: &Path) -> Option<Vec<(&'m str, String)>> {
    if route.segments.len() != path.segments().len() {
        return None;
    }
    let mut all = Vec::new();
    for (segment, text) in route.segments.iter().zip(path.segments()) {
        match segment {
            Segment::Literal(literal) if literal == text => {}
            Segment::Literal(_) => return None,
            Segment::Parameter(parameter) => {
                all.push((parameter.name.as_str(), parameter.value(text)?.to_owned()));
            }
        }
    }
    Some(all)
}

/// What a request comes to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// It needs nothing.
    Open,
    /// Whoever asks is refused.
    Refused,
    /// All that is needed is allowed.
    Allowed,
    /// Something that is needed is denied: by this reason code, or because what it names is not registered
    /// (`not-registered`), or because looking for any took too long (`over-budget`).
    Denied(String),
}

/// One thing that was asked for a request.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(as = NeedAsked))]
pub struct Asked {
    /// The permission.
    pub permission: String,
    /// What it is about, in words.
    pub about: String,
    /// Whether it is allowed.
    pub allowed: bool,
    /// The reason code.
    pub reason: String,
    /// What the rule says that denies it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
    /// Of what is not registered: the reason code and the message as if that did not matter. Whoever makes the
    /// request is told these, so that what is not there and what is not theirs are one answer.
    #[serde(skip)]
    pub told_outside: Option<(String, Option<String>)>,
}

/// A decision in short: whether, why, and what the rule says that denies it.
type Short = (bool, String, Option<String>);

impl Taken<'_> {
    /// Whether it is looked for any resource: such a question may take long.
    pub fn searches(&self) -> bool {
        let Needs::All(needs) = &self.route.needs else { return false };
        needs.iter().any(|need| matches!(need.target, RouteTarget::Any(_)))
    }

    /// Asks for all that the route needs, as the request says who asks, each under the charter that is live for
    /// its type; `model` is of the charter that the route stands in, `go_on` is asked while any resource is looked
    /// for.
    ///
    /// Costs a decision for each permission; of any one, those of a search until one is found.
    ///
    /// # Errors
    /// If the request makes no sense.
    pub fn ask(
        &self,
        model: &Model,
        under: ByType<'_, '_>,
        request: &Request,
        now: Timestamp,
        go_on: &mut dyn FnMut() -> bool,
    ) -> Result<(Outcome, Vec<Asked>), Malformed> {
        let needs = match &self.route.needs {
            Needs::Open => return Ok((Outcome::Open, Vec::new())),
            Needs::Refused => return Ok((Outcome::Refused, Vec::new())),
            Needs::All(needs) => needs,
        };
        let mut asked = Vec::new();
        for need in needs {
            self.need((model, under), need, request, now, go_on, &mut asked)?;
            if let Some(denied) = asked.iter().find(|one: &&Asked| !one.allowed) {
                return Ok((Outcome::Denied(denied.reason.clone()), asked));
            }
        }
        Ok((Outcome::Allowed, asked))
    }

    fn need(
        &self,
        (model, under): (&Model, ByType<'_, '_>),
        need: &Need,
        request: &Request,
        now: Timestamp,
        go_on: &mut dyn FnMut() -> bool,
        asked: &mut Vec<Asked>,
    ) -> Result<(), Malformed> {
        let kind = need.permissions.first().map(|id| model.permissions[id.index()].kind);
        let under = under(kind.map_or("", |kind| &model.kinds[kind.index()].key));
        let engine = under.engine;
        let values: Vec<(&str, &str)> =
            self.values.iter().map(|(name, value)| (*name, value.as_str())).collect();
        let named = need.target.template().map(|template| template.named(model, &values));
        let mut request = Request { resource: None, ..under.asks(request) };
        let texts = need.permissions.iter().map(|id| model.permissions[id.index()].text.clone());
        match (&need.target, named) {
            (RouteTarget::Named(_), Some(name)) => {
                let counts = self.route.unregistered || engine.register.registered(&name).is_some();
                request.resource = Some(name.clone());
                for permission in texts {
                    request.permission = permission;
                    asked.push(one(engine, &request, now, &name, counts)?);
                }
            }
            (RouteTarget::Any(_), under) => {
                let all: Vec<String> = texts.collect();
                let about =
                    under.as_ref().map_or("any one".to_owned(), |name| format!("any one within {name}"));
                let found = any(engine, &all, under, &request, now, go_on)?;
                asked.extend(all.into_iter().map(|permission| {
                    let (allowed, reason, message) = found.clone();
                    Asked { permission, about: about.clone(), allowed, reason, message, told_outside: None }
                }));
            }
            (_, outer) => {
                let is_there = |name: &String| engine.register.registered(name).is_some();
                let counts = self.route.unregistered || outer.as_ref().is_none_or(is_there);
                let about =
                    outer.as_ref().map_or("a new one".to_owned(), |name| format!("a new one within {name}"));
                request.of_resource.extend(outer.map(|name| ("within".to_owned(), name.into())));
                for permission in texts {
                    request.permission = permission;
                    asked.push(one(engine, &request, now, &about, counts)?);
                }
            }
        }
        Ok(())
    }
}

/// One permission of what a request names; `counts`: whether that may be allowed at all.
fn one(
    engine: Engine<'_>,
    request: &Request,
    now: Timestamp,
    about: &str,
    counts: bool,
) -> Result<Asked, Malformed> {
    let (allowed, reason, message) = decided(engine, request, now)?;
    let (permission, about) = (request.permission.clone(), about.to_owned());
    if counts {
        return Ok(Asked { permission, about, allowed, reason, message, told_outside: None });
    }
    let outside = if allowed { ("no-role".to_owned(), None) } else { (reason, message) };
    let reason = "not-registered".to_owned();
    Ok(Asked { permission, about, allowed: false, reason, message: None, told_outside: Some(outside) })
}

fn decided(engine: Engine<'_>, request: &Request, now: Timestamp) -> Result<Short, Malformed> {
    let asked = request.resolve_quietly(engine, now)?;
    Ok(match &asked.question {
        Err(reason) => (false, reason.code(engine), None),
        Ok(question) => {
            let decision = with_scratch(|scratch| decide(engine, question, scratch));
            let message = match decision.reason {
                Reason::Rule(rule) if !decision.allowed => {
                    engine.policy.model().rules[rule.index()].message.clone()
                }
                _ => None,
            };
            (decision.allowed, decision.reason.code(engine), message)
        }
    })
}

/// Whether there is one registered resource for which all are allowed.
fn any(
    engine: Engine<'_>,
    permissions: &[String],
    under: Option<String>,
    request: &Request,
    now: Timestamp,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<Short, Malformed> {
    let Some((first, rest)) = permissions.split_first() else {
        return Ok((false, "no-role".to_owned(), None));
    };
    if under.as_ref().is_some_and(|name| engine.register.registered(name).is_none()) {
        return Ok((false, "not-registered".to_owned(), None));
    }
    let request = Request { permission: first.clone(), ..request.clone() };
    // With one permission the first is enough; with more each that is found is asked for the others.
    let limit = rest.is_empty().then_some(1);
    let found = reach(engine, &request, now, &Reaching { under, after: None, limit }, go_on)?;
    for (id, reason) in &found.found {
        let mut all = true;
        for permission in rest {
            let resource = Some(engine.register.name(*id).to_owned());
            let other = Request { permission: permission.clone(), resource, ..request.clone() };
            all = all && decided(engine, &other, now)?.0;
        }
        if all {
            return Ok((true, reason.code(engine), None));
        }
    }
    let left = found.next.is_some();
    Ok((false, if left { "over-budget" } else { "no-role" }.to_owned(), None))
}
