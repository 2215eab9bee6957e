//! Decisions over the network: the AuthZEN Authorization API 1.0.

mod search;
mod wire;

use crate::App;
use crate::asked::Short;
use crate::body::{JsonBytes, Typed, strict};
use crate::caller::{AtLeast, Caller};
use crate::node::{Live, State};
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::State as Shared;
use axum::response::{IntoResponse, Response};
use jiff::Timestamp;
use ostrog_core::names::is_key;
use ostrog_core::prelude::{Reason, Request, decide, explain, with_scratch};
use ostrog_store::key::{Detail, Key, KeyKind};
use serde_json::{Map, Value, json};
use std::time::Duration;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use wire::{
    Answer, Answers, Batch, Configuration, Entity, Evaluation, Evaluations, Members, Question, Semantic, Told,
};

/// A node that has not heard from the database for longer says for how many seconds.
const SOON: Duration = Duration::from_secs(3);
/// Most questions of one batch.
pub const MAX_BATCH: usize = 1_000;

/// The decision paths.
pub fn router() -> OpenApiRouter<App> {
    OpenApiRouter::new()
        .routes(routes!(evaluation))
        .routes(routes!(evaluations))
        .routes(routes!(search::subject))
        .routes(routes!(search::resource))
        .routes(routes!(search::action))
        .routes(routes!(configuration))
}

/// Answers one question.
///
/// A denial is a decision, not an error: HTTP 200 with `"decision": false`.
#[utoipa::path(post, path = "/access/v1/evaluation", tag = "decisions", request_body = Evaluation,
    responses(
        (status = 200, description = "The decision", body = Answer),
        Refused,
    ), security(("key" = [])))]
async fn evaluation(
    Shared(app): Shared<App>,
    caller: Caller,
    _at: AtLeast,
    Typed(question): Typed<Evaluation>,
) -> Result<Response, Problem> {
    caller.calls("evaluation")?;
    let now = Timestamp::now();
    let state = app.node.state();
    let live = live(&app, &state)?;
    let answer = answer(&app, live, &caller.0, question.question(), now)?;
    Ok(with_position(&app, &state, live, Json(answer)))
}

/// Answers several questions at one position and one moment.
///
/// An item that is malformed is denied, with its error in its context.
#[utoipa::path(post, path = "/access/v1/evaluations", tag = "decisions", request_body = Evaluations,
    responses(
        (status = 200, description = "The decisions; without items, one decision", body = Answers),
        Refused,
    ), security(("key" = [])))]
async fn evaluations(
    Shared(app): Shared<App>,
    caller: Caller,
    _at: AtLeast,
    JsonBytes(bytes): JsonBytes,
) -> Result<Response, Problem> {
    caller.calls("evaluations")?;
    let key = &caller.0;
    let now = Timestamp::now();
    let whole = serde_json::from_slice::<Batch>(&bytes).ok().filter(|batch| !batch.evaluations.is_empty());
    if let Some(batch) = &whole
        && let Some(questions) = batch.questions()
    {
        few(questions.len())?;
        let state = app.node.state();
        let live = live(&app, &state)?;
        let answers = questions.into_iter().map(|question| answer(&app, live, key, question, now));
        let answers = so_far(answers, batch.options.evaluations_semantic);
        return Ok(with_position(&app, &state, live, Json(answers)));
    }
    let batch: Evaluations = strict(&bytes)?;
    few(batch.evaluations.len())?;
    let state = app.node.state();
    let live = live(&app, &state)?;
    let whole = |mut item: Map<String, Value>| {
        let defaults = [
            ("subject", &batch.subject),
            ("action", &batch.action),
            ("resource", &batch.resource),
            ("context", &batch.context),
        ];
        for (name, default) in defaults {
            if let (false, Some(default)) = (item.contains_key(name), default) {
                item.insert(name.to_owned(), default.clone());
            }
        }
        serde_json::from_value::<Evaluation>(Value::Object(item))
            .map_err(|error| Problem::malformed(format!("The question does not fit: {error}.")))
    };
    if batch.evaluations.is_empty() {
        let answer = answer(&app, live, key, whole(Map::new())?.question(), now)?;
        return Ok(with_position(&app, &state, live, Json(answer)));
    }
    let answers =
        batch.evaluations.iter().map(|item| answer(&app, live, key, whole(item.clone())?.question(), now));
    let answers = so_far(answers, batch.options.evaluations_semantic);
    Ok(with_position(&app, &state, live, Json(answers)))
}

fn few(questions: usize) -> Result<(), Problem> {
    if questions > MAX_BATCH {
        return Err(Problem::malformed(format!("A batch has at most {MAX_BATCH} evaluations.")));
    }
    Ok(())
}

/// Answers, as far as the semantic lets it go. One that is malformed is denied, with its error.
fn so_far(answers: impl Iterator<Item = Result<Answer, Problem>>, semantic: Semantic) -> Answers {
    let mut evaluations = Vec::with_capacity(answers.size_hint().0);
    for one in answers {
        let one = one.unwrap_or_else(|problem| {
            let error = json!({ "status": problem.status, "message": problem.detail });
            Answer { decision: false, context: Told { error: Some(error), ..Told::default() } }
        });
        let stop = match semantic {
            Semantic::ExecuteAll => false,
            Semantic::DenyOnFirstDeny => !one.decision,
            Semantic::PermitOnFirstPermit => one.decision,
        };
        evaluations.push(one);
        if stop {
            break;
        }
    }
    Answers { evaluations }
}

/// Where this decision point answers.
#[utoipa::path(get, path = "/.well-known/authzen-configuration", tag = "decisions",
    responses((status = 200, description = "The addresses", body = Configuration)))]
async fn configuration(Shared(app): Shared<App>) -> Json<Configuration> {
    let base = app.public_url.trim_end_matches('/').to_owned();
    Json(Configuration {
        access_evaluation_endpoint: format!("{base}/access/v1/evaluation"),
        access_evaluations_endpoint: format!("{base}/access/v1/evaluations"),
        search_subject_endpoint: format!("{base}/access/v1/search/subject"),
        search_resource_endpoint: format!("{base}/access/v1/search/resource"),
        search_action_endpoint: format!("{base}/access/v1/search/action"),
        policy_decision_point: base,
    })
}

/// What is live, if this node may answer at all.
fn live<'s>(app: &App, state: &'s State) -> Result<&'s Live, Problem> {
    app.node.fresh()?;
    state.live.as_ref().ok_or_else(|| Problem::unavailable("No charter is live."))
}

fn with_position(app: &App, state: &State, live: &Live, body: impl IntoResponse) -> Response {
    let headers = [
        ("ostrog-revision", live.revision.number.to_string()),
        ("ostrog-position", format!("{}.{}", state.epoch, state.position)),
        ("cache-control", "no-store".to_owned()),
    ];
    let mut response = (headers, body).into_response();
    let age = app.node.age();
    if age > SOON {
        response.headers_mut().insert("ostrog-stale", age.as_secs().into());
    }
    response
}

fn name(entity: &Entity) -> Option<String> {
    entity.id.as_ref().map(|id| format!("{}:{id}", entity.kind))
}

fn answer(
    app: &App,
    live: &Live,
    key: &Key,
    question: Question<'_>,
    now: Timestamp,
) -> Result<Answer, Problem> {
    let mut request = request(question)?;
    let (answer, reason) = decided(live, key, &question.resource.kind, &mut request, now)?;
    noted(app, live, key, &request, (answer.decision, reason), now);
    Ok(answer)
}

/// Remembers what operators want to see of what applications ask.
fn noted(app: &App, live: &Live, key: &Key, request: &Request, answer: (bool, Reason), now: Timestamp) {
    let application = match &key.making.kind {
        KeyKind::Application(application) => application,
        KeyKind::Operator => "operator",
    };
    let (allowed, reason) = answer;
    if matches!(reason, Reason::UnknownType | Reason::UnknownPermission)
        && live.world.policy().permission(&request.permission).is_none()
    {
        app.asked.unknown(application, &request.permission, now);
    }
    app.asked.note(application, now, || Short {
        subject: request.subject.clone(),
        permission: request.permission.clone(),
        resource: request.resource.clone(),
        allowed,
        reason: reason.code(live.world.engine()),
        at: now,
    });
}

fn decided(
    live: &Live,
    key: &Key,
    kind: &str,
    request: &mut Request,
    now: Timestamp,
) -> Result<(Answer, Reason), Problem> {
    let engine = live.world.engine();
    // How much to say is not a fact about the question.
    let explaining = request.context.remove("explain") == Some(Value::Bool(true));
    if !owns(live, key, kind) {
        // What is not there and what is not the key's to ask about answer alike.
        let reason = Reason::UnknownType;
        return Ok((told(key, false, reason.code(engine)), reason));
    }
    let ignored = unvouched(live, key, request, kind);
    let mut asked =
        request.resolve(engine, now).map_err(|malformed| Problem::malformed(format!("{malformed}.")))?;
    asked.ignored.extend(ignored);
    if explaining && key.making.detail == Detail::Full {
        let (decision, explanation) = with_scratch(|scratch| explain(engine, &asked, scratch));
        let mut answer = told(key, decision.allowed, explanation.reason.clone());
        answer.context.explanation = serde_json::to_value(&explanation).ok();
        message(&mut answer, live, key, decision.reason, decision.allowed);
        return Ok((answer, decision.reason));
    }
    Ok(match &asked.question {
        Err(reason) => (told(key, false, reason.code(engine)), *reason),
        Ok(question) => {
            let decision = with_scratch(|scratch| decide(engine, question, scratch));
            let mut answer = told(key, decision.allowed, decision.reason.code(engine));
            message(&mut answer, live, key, decision.reason, decision.allowed);
            (answer, decision.reason)
        }
    })
}

/// Where an unregistered resource lies is the word of the application that owns its type: of
/// another's key it does not count. What is left out is told.
fn unvouched(live: &Live, key: &Key, request: &mut Request, kind: &str) -> Option<String> {
    let own = match &key.making.kind {
        KeyKind::Operator => false,
        KeyKind::Application(application) => owner(live, kind) == Some(application),
    };
    let stated = !own && request.of_resource.remove("within").is_some();
    stated.then(|| "resource.within: the key is not one of the application that owns the type".to_owned())
}

/// The application that owns a type.
fn owner<'l>(live: &'l Live, kind: &str) -> Option<&'l String> {
    let policy = live.world.policy();
    let owner = policy.kind(kind).and_then(|kind| policy.model().kinds[kind.index()].application)?;
    Some(&policy.model().applications[owner].key)
}

/// Whether a key asks about a type: an application's key about those of its application, and those
/// that are listed for it.
fn owns(live: &Live, key: &Key, kind: &str) -> bool {
    let KeyKind::Application(application) = &key.making.kind else { return true };
    owner(live, kind) == Some(application) || key.making.types.iter().any(|listed| listed == kind)
}

fn told(key: &Key, decision: bool, reason: String) -> Answer {
    let reason = (key.making.detail != Detail::None).then_some(reason);
    Answer { decision, context: Told { reason, ..Told::default() } }
}

fn message(answer: &mut Answer, live: &Live, key: &Key, reason: Reason, allowed: bool) {
    let (false, Reason::Rule(rule)) = (allowed, reason) else { return };
    if key.making.detail == Detail::None {
        return;
    }
    let rule = &live.world.policy().model().rules[rule.index()];
    answer.context.message.clone_from(&rule.message);
    if !rule.advice.is_empty() {
        let advice: Map<String, Value> =
            rule.advice.iter().map(|(key, text)| (key.clone(), text.as_str().into())).collect();
        answer.context.advice = Some(advice);
    }
}

fn request(question: Question<'_>) -> Result<Request, Problem> {
    // A type with a colon in it could pass for another type's id.
    for entity in [question.subject, question.resource] {
        if !is_key(&entity.kind) {
            return Err(Problem::malformed(format!("{:?} is not a type.", entity.kind)));
        }
    }
    let subject = match (question.subject.kind.as_str(), name(question.subject)) {
        ("anonymous", _) => "anonymous".to_owned(),
        (_, Some(name)) => name,
        (_, None) => {
            return Err(Problem::malformed(
                "The subject has no id; an anonymous one has the type anonymous.",
            ));
        }
    };
    let kind = &question.resource.kind;
    let action = &question.action.name;
    let permission = match action.split_once(':') {
        None => format!("{kind}:{action}"),
        Some((of, _)) if of == kind => action.clone(),
        Some((of, _)) => {
            return Err(Problem::malformed(format!(
                "The action {action} is of {of}, and the resource is a {kind}."
            )));
        }
    };
    Ok(Request {
        subject,
        permission,
        resource: name(question.resource),
        of_subject: members(question.subject.properties.as_ref()),
        of_resource: members(question.resource.properties.as_ref()),
        context: members(question.context),
    })
}

fn members(members: Option<&Members>) -> Map<String, Value> {
    members.map_or_else(Map::new, |members| members.0.clone())
}
