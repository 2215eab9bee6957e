//! Decisions over the network: the AuthZEN Authorization API 1.0.

mod wire;

use crate::App;
use crate::body::StrictJson;
use crate::caller::Caller;
use crate::node::{Live, State};
use crate::problem::Problem;
use axum::Json;
use axum::extract::State as Shared;
use axum::http::HeaderMap;
use axum::response::{IntoResponse, Response};
use jiff::Timestamp;
use ostrog_core::names::is_key;
use ostrog_core::prelude::{Reason, Request, decide, explain, with_scratch};
use ostrog_store::key::{Key, KeyKind};
use serde_json::{Map, Value, json};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use wire::{Answer, Answers, Configuration, Entity, Evaluation, Evaluations, Semantic};

/// Most questions of one batch.
pub const MAX_BATCH: usize = 1_000;

/// The decision paths.
pub fn router() -> OpenApiRouter<App> {
    OpenApiRouter::new()
        .routes(routes!(evaluation))
        .routes(routes!(evaluations))
        .routes(routes!(configuration))
}

/// Answers one question.
///
/// A denial is a decision, not an error: HTTP 200 with `"decision": false`.
#[utoipa::path(post, path = "/access/v1/evaluation", tag = "decisions", request_body = Evaluation,
    responses(
        (status = 200, description = "The decision", body = Answer),
        (status = 400, description = "The question is malformed", body = Problem, content_type = "application/problem+json"),
        (status = 401, description = "No key, or none that counts", body = Problem, content_type = "application/problem+json"),
        (status = 413, description = "Too large", body = Problem, content_type = "application/problem+json"),
        (status = 415, description = "Not JSON", body = Problem, content_type = "application/problem+json"),
        (status = 503, description = "Nothing is live, or not at the position asked for", body = Problem, content_type = "application/problem+json"),
    ), security(("key" = [])))]
async fn evaluation(
    Shared(app): Shared<App>,
    Caller(key): Caller,
    headers: HeaderMap,
    StrictJson(question): StrictJson<Evaluation>,
) -> Result<Response, Problem> {
    let now = Timestamp::now();
    let state = app.node.state();
    let live = live(&state, &headers)?;
    let answer = answer(live, &key, &question, now)?;
    Ok(with_position(&state, live, Json(answer)))
}

/// Answers several questions at one position and one moment.
///
/// An item that is malformed is denied, with its error in its context.
#[utoipa::path(post, path = "/access/v1/evaluations", tag = "decisions", request_body = Evaluations,
    responses(
        (status = 200, description = "The decisions; without items, one decision", body = Answers),
        (status = 400, description = "The batch is malformed or too long", body = Problem, content_type = "application/problem+json"),
        (status = 401, description = "No key, or none that counts", body = Problem, content_type = "application/problem+json"),
        (status = 413, description = "Too large", body = Problem, content_type = "application/problem+json"),
        (status = 415, description = "Not JSON", body = Problem, content_type = "application/problem+json"),
        (status = 503, description = "Nothing is live, or not at the position asked for", body = Problem, content_type = "application/problem+json"),
    ), security(("key" = [])))]
async fn evaluations(
    Shared(app): Shared<App>,
    Caller(key): Caller,
    headers: HeaderMap,
    StrictJson(batch): StrictJson<Evaluations>,
) -> Result<Response, Problem> {
    if batch.evaluations.len() > MAX_BATCH {
        return Err(Problem::malformed(format!("A batch has at most {MAX_BATCH} evaluations.")));
    }
    let now = Timestamp::now();
    let state = app.node.state();
    let live = live(&state, &headers)?;
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
        let answer = answer(live, &key, &whole(Map::new())?, now)?;
        return Ok(with_position(&state, live, Json(answer)));
    }
    let mut answers = Vec::with_capacity(batch.evaluations.len());
    for item in &batch.evaluations {
        let one = whole(item.clone()).and_then(|question| answer(live, &key, &question, now));
        let one = one.unwrap_or_else(|problem| {
            let error = json!({ "status": problem.status, "message": problem.detail });
            Answer { decision: false, context: Map::from_iter([("error".to_owned(), error)]) }
        });
        let stop = match batch.options.evaluations_semantic {
            Semantic::ExecuteAll => false,
            Semantic::DenyOnFirstDeny => !one.decision,
            Semantic::PermitOnFirstPermit => one.decision,
        };
        answers.push(one);
        if stop {
            break;
        }
    }
    Ok(with_position(&state, live, Json(Answers { evaluations: answers })))
}

/// Where this decision point answers.
#[utoipa::path(get, path = "/.well-known/authzen-configuration", tag = "decisions",
    responses((status = 200, description = "The addresses", body = Configuration)))]
async fn configuration(Shared(app): Shared<App>) -> Json<Configuration> {
    let base = app.public_url.trim_end_matches('/').to_owned();
    Json(Configuration {
        access_evaluation_endpoint: format!("{base}/access/v1/evaluation"),
        access_evaluations_endpoint: format!("{base}/access/v1/evaluations"),
        policy_decision_point: base,
    })
}

/// What is live, if it includes the position the caller wants.
fn live<'s>(state: &'s State, headers: &HeaderMap) -> Result<&'s Live, Problem> {
    if let Some(wanted) = headers.get("ostrog-min-position") {
        let wanted = wanted.to_str().unwrap_or("");
        let (epoch, position) =
            wanted.rsplit_once('.').map_or((state.epoch.as_str(), wanted), |(epoch, n)| (epoch, n));
        let position: i64 =
            position.parse().map_err(|_| Problem::malformed("Ostrog-Min-Position is <epoch>.<n>, or n."))?;
        if epoch != state.epoch {
            return Err(Problem::unavailable(
                "The position asked for is of another epoch: the database was restored since.",
            ));
        }
        if position > state.position {
            return Err(Problem::unavailable(format!(
                "This node is at position {}, before the one asked for.",
                state.position
            )));
        }
    }
    state.live.as_ref().ok_or_else(|| Problem::unavailable("No charter is live."))
}

fn with_position(state: &State, live: &Live, body: impl IntoResponse) -> Response {
    let headers = [
        ("ostrog-revision", live.revision.number.to_string()),
        ("ostrog-position", format!("{}.{}", state.epoch, state.position)),
        ("cache-control", "no-store".to_owned()),
    ];
    (headers, body).into_response()
}

fn name(entity: &Entity) -> Option<String> {
    entity.id.as_ref().map(|id| format!("{}:{id}", entity.kind))
}

fn answer(live: &Live, key: &Key, question: &Evaluation, now: Timestamp) -> Result<Answer, Problem> {
    let mut request = request(question)?;
    let engine = live.world.engine();
    // How much to say is not a fact about the question.
    let explaining = request.context.remove("explain") == Some(Value::Bool(true));
    if !owns(live, key, &question.resource.kind) {
        // What is not there and what is not the key's to ask about answer alike.
        return Ok(told(false, Reason::UnknownType.code(engine)));
    }
    let unvouched = key.kind == KeyKind::Operator && request.of_resource.remove("within").is_some();
    let mut asked =
        request.resolve(engine, now).map_err(|malformed| Problem::malformed(format!("{malformed}.")))?;
    if unvouched {
        // Where an unregistered resource lies is the word of the application that owns its type.
        asked
            .ignored
            .push("resource.within: the key is not one of the application that owns the type".to_owned());
    }
    if explaining {
        let (decision, explanation) = with_scratch(|scratch| explain(engine, &asked, scratch));
        let mut answer = told(decision.allowed, explanation.reason.clone());
        answer
            .context
            .insert("explanation".to_owned(), serde_json::to_value(&explanation).unwrap_or_default());
        message(&mut answer, live, decision.reason, decision.allowed);
        return Ok(answer);
    }
    Ok(match &asked.question {
        Err(reason) => told(false, reason.code(engine)),
        Ok(question) => {
            let decision = with_scratch(|scratch| decide(engine, question, scratch));
            let mut answer = told(decision.allowed, decision.reason.code(engine));
            message(&mut answer, live, decision.reason, decision.allowed);
            answer
        }
    })
}

/// Whether a key asks about a type: an application's key about those of its application.
fn owns(live: &Live, key: &Key, kind: &str) -> bool {
    let KeyKind::Application(application) = &key.kind else { return true };
    let policy = live.world.policy();
    let owner = policy.kind(kind).and_then(|kind| policy.model().kinds[kind.index()].application);
    owner.is_some_and(|owner| policy.model().applications[owner].key == *application)
}

fn told(decision: bool, reason: String) -> Answer {
    Answer { decision, context: Map::from_iter([("reason".to_owned(), Value::from(reason))]) }
}

fn message(answer: &mut Answer, live: &Live, reason: Reason, allowed: bool) {
    let (false, Reason::Rule(rule)) = (allowed, reason) else { return };
    let rule = &live.world.policy().model().rules[rule.index()];
    if let Some(message) = &rule.message {
        answer.context.insert("message".to_owned(), message.as_str().into());
    }
    if !rule.advice.is_empty() {
        let advice: Map<String, Value> =
            rule.advice.iter().map(|(key, text)| (key.clone(), text.as_str().into())).collect();
        answer.context.insert("advice".to_owned(), advice.into());
    }
}

fn request(question: &Evaluation) -> Result<Request, Problem> {
    // A type with a colon in it could pass for another type's id.
    for entity in [&question.subject, &question.resource] {
        if !is_key(&entity.kind) {
            return Err(Problem::malformed(format!("{:?} is not a type.", entity.kind)));
        }
    }
    let subject = match (question.subject.kind.as_str(), name(&question.subject)) {
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
        resource: name(&question.resource),
        of_subject: question.subject.properties.clone().unwrap_or_default(),
        of_resource: question.resource.properties.clone().unwrap_or_default(),
        context: question.context.clone().unwrap_or_default(),
    })
}
