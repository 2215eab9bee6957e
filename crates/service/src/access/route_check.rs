//! What a reverse proxy asks about each request: `GET /route-check`.

use super::ask::Asker;
use super::forwarded::{Caller, Forwarded};
use super::tokens::Tokens;
use crate::App;
use crate::asked::Short;
use crate::measures::of_code;
use crate::node::gate::Scope;
use crate::node::gate::permission::Permission;
use crate::node::gate::proxy::Proxy;
use crate::problem::{Problem, Refused};
use axum::extract::State;
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse as _, Response};
use jiff::Timestamp;
use ostrog_core::charter::model::Model;
use ostrog_core::decide::bearer::{Bearer, Token};
use ostrog_core::decide::in_force::Asking;
use ostrog_core::prelude::{Request, World};
use ostrog_core::routes::{Asked, Outcome, Path, Taken, Target, TargetRefused, pattern_of, taken};
use ostrog_store::key::Detail;
use ostrog_wire::access::{Action, Entity, Evaluation, EvaluationContext};
use ostrog_wire::problem::ProblemPart;
use ostrog_wire::strict::Object;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use serde_json::{Map, Value};
use std::sync::Arc;
use std::time::Duration;

/// How long looking for any resource may take.
const PATIENCE: Duration = Duration::from_secs(1);
/// What stands in a name as it is: `user:ines` is read more easily than `user%3Aines`.
const IN_NAMES: AsciiSet = NON_ALPHANUMERIC.remove(b':').remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// Why a request is not let through.
enum Denied {
    /// Somebody has to sign in (RFC 6750, 3: without an error, for nothing was wrong).
    SignIn,
    /// What came as a token does not count (RFC 6750, 3.1).
    BadToken,
    /// Anything else.
    Because(Problem),
}

impl From<Problem> for Denied {
    fn from(problem: Problem) -> Denied {
        Denied::Because(problem)
    }
}

/// Whether a request may pass.
///
/// The proxy tells it in the headers that its key is set to: `X-Original-Method` and `X-Original-URI`, or
/// `X-Forwarded-Method` and `X-Forwarded-Uri`, with its caller's `Authorization`. It must have deleted from the
/// request all that it sets itself, and `Ostrog-*`.
#[utoipa::path(get, path = "/route-check", tag = "decisions",
    params(("Ostrog-Proxy-Key" = String, Header, description = "The proxy's key")),
    responses(
        (status = 200, description = "It may",
            headers(("Ostrog-Subject" = String, description = "Who, percent-encoded; `anonymous` is nobody"),
                ("Ostrog-Path" = String, description = "The path in its one form"),
                ("Ostrog-Decision" = String, description = "What the decision is called in the log"))),
        Refused,
    ))]
pub async fn route_check(State(app): State<App>, proxy: Proxy, headers: HeaderMap) -> Response {
    checked(&app, &proxy, &headers).await
}

/// The same, for proxies that ask by POST. A body is not read.
#[utoipa::path(post, path = "/route-check", tag = "decisions",
    params(("Ostrog-Proxy-Key" = String, Header, description = "The proxy's key")),
    responses((status = 200, description = "It may"), Refused))]
pub async fn route_check_by_post(State(app): State<App>, proxy: Proxy, headers: HeaderMap) -> Response {
    checked(&app, &proxy, &headers).await
}

async fn checked(app: &App, proxy: &Proxy, headers: &HeaderMap) -> Response {
    let mut response = match passes(app, proxy, headers).await {
        Ok(passed) => (StatusCode::OK, passed).into_response(),
        Err(denied) => denied.into_response(),
    };
    let answered = response.headers_mut();
    answered.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    // A body is never read: whatever follows it on the connection could be taken for the rest of it.
    if headers.contains_key(header::TRANSFER_ENCODING)
        || headers.get(header::CONTENT_LENGTH).is_some_and(|length| length != "0")
    {
        answered.insert(header::CONNECTION, HeaderValue::from_static("close"));
    }
    response
}

impl Denied {
    fn into_response(self) -> Response {
        let (problem, challenge) = match self {
            Denied::Because(problem) => return problem.into_response(),
            Denied::SignIn => ("The request needs somebody who is signed in.", "Bearer"),
            Denied::BadToken => ("The token does not count.", "Bearer error=\"invalid_token\""),
        };
        let mut response = Problem::sign_in(problem).into_response();
        response.headers_mut().insert(header::WWW_AUTHENTICATE, HeaderValue::from_static(challenge));
        response
    }
}

/// The headers of a request that may pass; or why it may not.
async fn passes(app: &App, proxy: &Proxy, headers: &HeaderMap) -> Result<HeaderMap, Denied> {
    if headers.contains_key("ostrog-try-revision") {
        return Err(Problem::forbidden(
            "No request is let through ahead: Ostrog-Try-Revision is for questions.",
        )
        .into());
    }
    let proxied = proxy.proxied();
    let forwarded = Forwarded::read(headers, proxied.headers)?;
    let scope = proxy.asking(app, forwarded.host(proxied)?);
    let scope = scope
        .ok_or_else(|| Problem::unmapped("No route takes this request: its host is none of the proxy's."))?;
    let decisions = scope.decisions(Permission::RouteCheck)?;
    let (bearer, claims, borne) = match bearer(&scope, decisions.world(), &forwarded).await? {
        Some(borne) => (Some(borne.bearer), Some(borne.claims), Some((borne.text, borne.tokens))),
        None => (None, None, None),
    };
    let path_refused = |why: &dyn std::fmt::Display| Problem::path_refused(format!("{why}."));
    if forwarded.overrides() {
        return Err(path_refused(&"another method is asked for in a header").into());
    }
    let target = match Target::read(forwarded.method, forwarded.target) {
        Ok(target) => target,
        Err(TargetRefused::TokenInQuery) => return Err(Denied::BadToken),
        Err(why) => return Err(path_refused(&why).into()),
    };
    let application = scope.application().unwrap_or_default().to_owned();
    let unmapped = |pattern: String| {
        let method = &target.method;
        app.measures.unmapped(&application);
        app.asked.unmapped(&application, method, &pattern, Timestamp::now());
        Denied::from(Problem::unmapped("No route takes this request."))
    };
    let model = decisions.policy().model();
    let path = match proxied.strip.as_deref() {
        None => target.path.clone(),
        Some(prefix) => {
            let behind = Path::read(prefix).ok().and_then(|prefix| target.path.behind(&prefix));
            behind.ok_or_else(|| unmapped(pattern_of(model, &application, &target.path)))?
        }
    };
    let now = Timestamp::now();
    let address = forwarded.address(proxied.trusted_hops).map(|address| address.to_string());
    let field = proxied.address_as.clone().zip(address);
    let context: Map<String, Value> =
        field.into_iter().map(|(field, address)| (field, address.into())).collect();
    let request = Request {
        subject: "anonymous".to_owned(),
        bearer: bearer.clone().map(Ok),
        context: context.clone(),
        ..Request::default()
    };
    let Some(route) = taken(model, &application, &target.method, &path) else {
        return Err(unmapped(pattern_of(model, &application, &path)));
    };
    let (outcome, asked) = if route.searches() {
        searched(app, &scope, &target.method, &path, (request, claims)).await?
    } else {
        ask(&route, &decisions.asking(claims, scope.application()), model, &request, now, &mut || true)?
    };
    let id = app.next_decision();
    noted(app, &application, bearer.as_deref(), &asked, now);
    beside(app, &scope, borne, &asked, context, now);
    let who = bearer.as_ref().map_or("anonymous", |bearer| bearer.name.as_str());
    tracing::debug!(%id, key = scope.key_id(), who, method = target.method, route = route.route.path(), ?outcome);
    match outcome {
        Outcome::Open | Outcome::Allowed => {
            let who = utf8_percent_encode(who, &IN_NAMES).to_string();
            let all = [("ostrog-subject", who), ("ostrog-path", path.canonical()), ("ostrog-decision", id)];
            let value = |(name, text): (&'static str, String)| {
                let value = HeaderValue::try_from(text);
                Ok((
                    header::HeaderName::from_static(name),
                    value.map_err(|_| Problem::internal("A header."))?,
                ))
            };
            all.into_iter().map(value).collect()
        }
        Outcome::Refused => Err(Problem::route_refused("This is refused, whoever asks.").into()),
        Outcome::Denied(_) if bearer.is_none() => Err(Denied::SignIn),
        Outcome::Denied(reason) => Err(denied(&scope, &reason, asked.last()).into()),
    }
}

/// A token that came with a request.
struct Borne {
    bearer: Arc<Bearer>,
    claims: Token,
    text: String,
    tokens: Arc<Tokens>,
}

/// Who bears the caller's token, if there is one.
async fn bearer(scope: &Scope, under: &World, forwarded: &Forwarded<'_>) -> Result<Option<Borne>, Denied> {
    let text = match forwarded.caller() {
        Caller::Nobody => return Ok(None),
        Caller::OtherScheme => return Err(Denied::SignIn),
        Caller::Unclear => return Err(Denied::BadToken),
        Caller::Bearer(token) => token.to_owned(),
    };
    let tokens = Tokens::of(scope, vec![text.clone()]).await;
    let bearer = tokens.bearer(scope, under, &text).map_err(|_| Denied::BadToken)?;
    let claims = tokens.claims(&text).ok_or(Denied::BadToken)?;
    Ok(Some(Borne { bearer, claims, text, tokens }))
}

/// Asks for all that a route needs, each under the charter that is live for its type.
fn ask(
    route: &Taken<'_>,
    asking: &Asking<'_>,
    model: &Model,
    request: &Request,
    now: Timestamp,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<(Outcome, Vec<Asked>), Problem> {
    let under = |kind: &str| asking.under(kind);
    // What a path names is no mistake of the proxy's: a name that can be nobody's is not registered.
    route.ask(model, &under, request, now, go_on).map_err(|why| Problem::path_refused(format!("{why}.")))
}

/// The same, beside the threads that answer single decisions.
async fn searched(
    app: &App,
    scope: &Scope,
    method: &str,
    path: &Path,
    (request, claims): (Request, Option<Token>),
) -> Result<(Outcome, Vec<Asked>), Problem> {
    let (key, scope, method, path) =
        (scope.key_id().to_owned(), scope.clone(), method.to_owned(), path.clone());
    let work = move |ticket: &crate::lanes::Ticket| {
        let decisions = scope.decisions(Permission::RouteCheck)?;
        let model = decisions.policy().model();
        let application = scope.application().unwrap_or_default();
        let route = taken(model, application, &method, &path);
        let route = route.ok_or_else(|| Problem::internal("A route is not there any more."))?;
        let asking = decisions.asking(claims, scope.application());
        ask(&route, &asking, model, &request, Timestamp::now(), &mut || ticket.goes_on())
    };
    app.node.lanes.batches.run(&key, PATIENCE, work).await
}

/// A denial, as far as the key's detail lets it be told. What is not registered and what is nobody's to reach are
/// one answer: whoever makes requests does not find out by it what there is.
fn denied(scope: &Scope, reason: &str, asked: Option<&Asked>) -> Problem {
    if scope.detail() == Detail::None {
        return Problem::denied("The request is denied.");
    }
    let outside = asked.and_then(|asked| asked.told_outside.as_ref());
    let (reason, message) = match outside {
        Some((reason, message)) => (reason.as_str(), message.clone()),
        None if reason == "not-registered" => ("no-role", None),
        None => (reason, asked.and_then(|asked| asked.message.clone())),
    };
    let needed = asked.map_or_else(String::new, |asked| asked.permission.clone());
    let told = message.clone().unwrap_or_else(|| format!("It needs {needed}, which is denied: {reason}."));
    let part = ProblemPart {
        at: needed,
        detail: message.unwrap_or_else(|| reason.to_owned()),
        code: Some(reason.to_owned()),
        meant: None,
    };
    Problem::denied(told).with(vec![part])
}

/// Hands what was asked for the request on, where it is to be answered once more in a shadow: each need is a question.
fn beside(
    app: &App,
    scope: &Scope,
    borne: Option<(String, Arc<Tokens>)>,
    asked: &[Asked],
    context: Map<String, Value>,
    now: Timestamp,
) {
    if !scope.has_shadows() {
        return;
    }
    let Ok(decisions) = scope.decisions(Permission::RouteCheck) else { return };
    let (subject, tokens) = match borne {
        Some((text, tokens)) => (("token", Some(text)), tokens),
        None => (("anonymous", None), Arc::default()),
    };
    let subject = Entity { kind: subject.0.to_owned(), id: subject.1, properties: None };
    let context = Some(Object(context)).filter(|context| !context.0.is_empty());
    for one in asked {
        // What is asked of any resource, or of none, is no question of one.
        let Some((kind, id)) = one.about.split_once(':') else { continue };
        let resource = Entity { kind: kind.to_owned(), id: Some(id.to_owned()), properties: None };
        let action = Action { name: one.permission.clone() };
        let why = EvaluationContext { reason: Some(one.reason.clone()), ..EvaluationContext::default() };
        let answer = Evaluation { decision: one.allowed, context: why };
        let asker = Asker::at(app, scope, decisions.about(kind), &tokens, now);
        asker.beside((&subject, &action, &resource, context.as_ref()), &answer);
    }
}

/// Remembers what operators want to see of it.
fn noted(app: &App, application: &str, bearer: Option<&Bearer>, asked: &[Asked], now: Timestamp) {
    let Some(last) = asked.last() else { return };
    for one in asked {
        app.measures.decided(application, one.allowed, of_code(&one.reason));
    }
    app.asked.note(application, now, last.allowed, || Short {
        subject: bearer.map_or_else(|| "anonymous".to_owned(), |bearer| bearer.name.clone()),
        permission: last.permission.clone(),
        resource: last.about.contains(':').then(|| last.about.clone()),
        allowed: last.allowed,
        reason: last.reason.clone(),
        at: now,
    });
}
