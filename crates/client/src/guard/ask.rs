//! What happens before a handler is called.

use super::routes::{Asked, Piece, Template};
use super::{Guard, Permit, refusal};
use crate::{Client, Error};
use axum::extract::{Request, State};
use axum::http::{HeaderMap, Uri, header};
use axum::middleware::Next;
use axum::response::Response;
use ostrog_core::routes::Path;
use ostrog_wire::access::{
    Action, BatchAnswer, Entity, Evaluation, EvaluationItem, EvaluationsRequest, Options, Semantic,
};
use ostrog_wire::strict::Object;
use serde_json::{Map, Value};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

/// What is asked for requests of one route.
pub struct Asks {
    pub guard: Guard,
    pub needs: Vec<Asked>,
}

/// What a request comes to.
enum Outcome {
    Allowed(Permit),
    /// Whoever asks, this is not allowed.
    Refused(Response),
    /// There is no answer.
    Unanswered(Response),
}

/// Lets a request through to its handler, or refuses it.
pub async fn check(State(asks): State<Arc<Asks>>, mut request: Request, next: Next) -> Response {
    let outcome = asks.outcome(request.headers(), request.uri()).await;
    let shared = &asks.guard.shared;
    let count = |count: &AtomicU64| count.fetch_add(1, Ordering::Relaxed);
    match outcome {
        Outcome::Allowed(permit) => {
            count(&shared.allowed);
            request.extensions_mut().insert(permit);
            next.run(request).await
        }
        Outcome::Refused(response) => {
            count(&shared.denied);
            response
        }
        Outcome::Unanswered(response) => {
            count(&shared.unanswered);
            response
        }
    }
}

/// Whose request it is.
enum Bearer {
    Nobody,
    Token(String),
}

impl Asks {
    #[tracing::instrument(name = "guard", skip_all)]
    async fn outcome(&self, headers: &HeaderMap, uri: &Uri) -> Outcome {
        let bearer = match bearer(headers, uri) {
            Ok(bearer) => bearer,
            Err(invalid) => return Outcome::Refused(refusal::sign_in(invalid)),
        };
        let path = match Path::read(uri.path()) {
            Ok(path) => path,
            Err(why) => return Outcome::Refused(refusal::path(&format!("This path is not served: {why}."))),
        };
        let Some(question) = self.question(&bearer, &path) else {
            return Outcome::Refused(refusal::path("This path is not served."));
        };
        let trace = headers.get("traceparent").and_then(|value| value.to_str().ok());
        let leave = match self.guard.shared.pause.leave() {
            Ok(leave) => leave,
            Err(left) => {
                return Outcome::Unanswered(refusal::later(
                    "Whether you may do this cannot be asked now.",
                    left,
                ));
            }
        };
        let answers = match tokio::time::timeout(self.guard.timeout, self.ask(&question, trace)).await {
            Ok(Ok(answers)) => answers,
            Ok(Err(error)) => {
                tracing::warn!(%error, "no decision");
                // It answers, if not as it should: what is wrong is the question, or the key.
                if matches!(error, Error::Refused(_)) {
                    leave.answered();
                }
                return Outcome::Unanswered(refusal::unanswered(
                    "Whether you may do this cannot be asked now.",
                ));
            }
            Err(_) => {
                tracing::warn!(timeout = ?self.guard.timeout, "no decision in time");
                return Outcome::Unanswered(refusal::unanswered(
                    "Whether you may do this was not answered in time.",
                ));
            }
        };
        leave.answered();
        told(&bearer, answers)
    }

    /// All needs of a request as one batch.
    fn question(&self, bearer: &Bearer, path: &Path) -> Option<EvaluationsRequest> {
        let mut evaluations = Vec::new();
        for need in &self.needs {
            let name = match &need.template {
                None => None,
                Some(template) => Some(named(template, path)?),
            };
            let resource = match (need.is_new, name) {
                (false, name) => {
                    Entity { kind: need.kind.clone(), id: name.map(|(_, id)| id), properties: None }
                }
                (true, within) => {
                    let properties = within.map(|(kind, id)| {
                        Object(Map::from_iter([("within".to_owned(), Value::from(format!("{kind}:{id}")))]))
                    });
                    Entity { kind: need.kind.clone(), id: None, properties }
                }
            };
            let action = Action { name: format!("{}:{}", need.kind, need.action) };
            evaluations.push(EvaluationItem {
                action: Some(action),
                resource: Some(resource),
                ..EvaluationItem::default()
            });
        }
        let subject = match bearer {
            Bearer::Nobody => Entity { kind: "anonymous".to_owned(), ..Entity::default() },
            Bearer::Token(token) => {
                Entity { kind: "token".to_owned(), id: Some(token.clone()), properties: None }
            }
        };
        let options = Options { evaluations_semantic: Semantic::ExecuteAll };
        Some(EvaluationsRequest {
            subject: Some(subject),
            evaluations,
            options,
            ..EvaluationsRequest::default()
        })
    }

    /// Asks, once more if the service was not reached: a question changes nothing.
    async fn ask(
        &self,
        question: &EvaluationsRequest,
        trace: Option<&str>,
    ) -> crate::Result<Vec<Evaluation>> {
        let client = self.client(trace);
        let mut answer = client.evaluations(question).await;
        if matches!(answer, Err(Error::Unreachable(_))) {
            tokio::time::sleep(Duration::from_millis(20)).await;
            answer = client.evaluations(question).await;
        }
        match answer? {
            BatchAnswer::Many(answers) if answers.evaluations.len() == self.needs.len() => {
                Ok(answers.evaluations)
            }
            _ => Err(Error::Unreadable("there are not as many answers as questions".to_owned())),
        }
    }

    fn client(&self, trace: Option<&str>) -> Client {
        let after = self.guard.shared.after.lock().unwrap_or_else(std::sync::PoisonError::into_inner).clone();
        let mut client = self.guard.client.clone();
        if let Some((position, digest)) = after {
            client = client.at_least(&position, digest.as_deref());
        }
        match trace {
            Some(trace) => client.traced(trace),
            None => client,
        }
    }
}

/// Who asks; or that nobody is asked for, and whether a token is why.
fn bearer(headers: &HeaderMap, uri: &Uri) -> Result<Bearer, bool> {
    let in_query =
        |pair: &str| pair.split('=').next().is_some_and(|key| key.eq_ignore_ascii_case("access_token"));
    if uri.query().is_some_and(|query| query.split('&').any(in_query)) {
        return Err(true);
    }
    let mut all = headers.get_all(header::AUTHORIZATION).iter();
    let Some(first) = all.next() else { return Ok(Bearer::Nobody) };
    if all.next().is_some() {
        return Err(true);
    }
    let text = first.to_str().map_err(|_| true)?;
    let (scheme, token) = text.split_once(' ').ok_or(false)?;
    if !scheme.eq_ignore_ascii_case("bearer") {
        return Err(false);
    }
    let token = token.trim();
    if token.is_empty() || token.contains([' ', ',']) {
        return Err(true);
    }
    Ok(Bearer::Token(token.to_owned()))
}

fn named(template: &Template, path: &Path) -> Option<(String, String)> {
    let mut id = String::new();
    for piece in &template.pieces {
        match piece {
            Piece::Text(text) => id.push_str(text),
            Piece::Segment(at) => id.push_str(path.segments().get(*at).filter(|text| !text.is_empty())?),
        }
    }
    Some((template.kind.clone(), id))
}

/// What the answers come to: all of them must allow.
fn told(bearer: &Bearer, answers: Vec<Evaluation>) -> Outcome {
    let is_token = matches!(bearer, Bearer::Token(_));
    if let Some(error) = answers.iter().find_map(|answer| answer.context.error.as_ref()) {
        tracing::warn!(status = error.status, error = error.message, "a need cannot be asked");
        return Outcome::Unanswered(refusal::unanswered("Whether you may do this cannot be asked now."));
    }
    if let Some(denied) = answers.iter().find(|answer| !answer.decision) {
        let reason = denied.context.reason.as_deref();
        return Outcome::Refused(match (is_token, reason) {
            (false, _) => refusal::sign_in(false),
            (true, Some("token-refused")) => refusal::sign_in(true),
            (true, reason) => refusal::denied(reason, denied.context.message.as_deref()),
        });
    }
    let subject = answers.iter().find_map(|answer| answer.context.subject.clone());
    match (is_token, subject) {
        // Whom a token names is told with every answer to one.
        (true, None) => Outcome::Unanswered(refusal::unanswered("Whose token this is was not answered.")),
        (true, Some(subject)) => permit(subject, answers),
        (false, _) => permit("anonymous".to_owned(), answers),
    }
}

fn permit(subject: String, answers: Vec<Evaluation>) -> Outcome {
    Outcome::Allowed(Permit {
        subject,
        reasons: answers.into_iter().map(|answer| answer.context.reason).collect(),
    })
}
