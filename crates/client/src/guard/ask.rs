//! What happens before a handler is called.

use super::caller::{Bearer, Caller, Refusal};
use super::routes::{Asked, Piece, Template};
use super::{Guard, Permit, refusal};
use crate::{Answered, Client, Error};
use axum::extract::{Request, State};
use axum::http::{Extensions, Uri};
use axum::middleware::Next;
use axum::response::{IntoResponse as _, Response};
use ostrog_core::decide::rows::Columns;
use ostrog_core::routes::Path;
use ostrog_wire::access::{
    Action, BatchAnswer, Entity, Evaluation, EvaluationItem, EvaluationsRequest, Options, Reached, Semantic,
};
use ostrog_wire::strict::Object;
use serde_json::{Map, Value};
use sha2::{Digest as _, Sha256};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, SystemTime};

/// What is asked for requests of one route.
pub struct Asks {
    pub guard: Guard,
    pub needs: What,
}

/// What a route asks.
pub enum What {
    /// Whether all of it is allowed.
    All(Vec<Asked>),
    /// On which rows.
    Rows(String, Columns),
    /// Nothing yet: the handler does.
    Handler,
}

/// What a request comes to.
enum Outcome {
    /// It goes on, with what its handler is told.
    Allowed(Extensions),
    /// Whoever asks, this is not allowed.
    Refused(Response),
    /// There is no answer.
    Unanswered(Response),
}

/// Why there is no answer.
pub enum Unanswered {
    /// None is asked for, for a while.
    Paused(Duration),
    /// It failed.
    Failed,
    /// It took too long.
    Late,
    /// It is no answer to what was asked.
    Strange,
}

impl Unanswered {
    pub fn refusal(self) -> Refusal {
        self.response().into()
    }

    fn response(self) -> Response {
        let words = "Whether you may do this cannot be asked now.";
        match self {
            Unanswered::Paused(left) => refusal::later(words, left),
            Unanswered::Failed | Unanswered::Strange => refusal::unanswered(words),
            Unanswered::Late => refusal::unanswered("Whether you may do this was not answered in time."),
        }
    }
}

/// Lets a request through to its handler, or refuses it.
pub async fn check(State(asks): State<Arc<Asks>>, mut request: Request, next: Next) -> Response {
    let outcome = match Caller::of(&asks.guard, request.headers(), request.uri()) {
        Err(refusal) => Outcome::Refused(refusal.into_response()),
        Ok(caller) => asks.outcome(caller, request.uri()).await,
    };
    let shared = &asks.guard.shared;
    let count = |count: &AtomicU64| count.fetch_add(1, Ordering::Relaxed);
    match outcome {
        Outcome::Allowed(told) => {
            count(&shared.allowed);
            request.extensions_mut().extend(told);
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

impl Guard {
    /// Asks, as often as is sensible: within its time, once more if the service was not reached (a question changes
    /// nothing), and not at all while it is left alone.
    #[tracing::instrument(name = "guard", skip_all)]
    pub(super) async fn asks<T, F: Future<Output = crate::Result<Answered<T>>> + Send>(
        &self,
        trace: Option<&str>,
        ask: impl Fn(Client) -> F,
    ) -> Result<Answered<T>, Unanswered> {
        let leave = self.shared.pause.leave().map_err(Unanswered::Paused)?;
        let client = self.client(trace);
        let asked = async {
            match ask(client.clone()).await {
                Err(Error::Unreachable(_)) => {
                    tokio::time::sleep(Duration::from_millis(20)).await;
                    ask(client.clone()).await
                }
                answer => answer,
            }
        };
        let answered = match tokio::time::timeout(self.timeout, asked).await {
            Ok(Ok(answered)) => answered,
            Ok(Err(error)) => {
                tracing::warn!(%error, "no decision");
                // It answers, if not as it should: what is wrong is the question, or the key.
                match error {
                    Error::Refused(problem) if problem.status < 500 && problem.status != 429 => {
                        leave.answered();
                    }
                    _ => leave.failed(),
                }
                return Err(Unanswered::Failed);
            }
            Err(_) => {
                leave.failed();
                tracing::warn!(timeout = ?self.timeout, "no decision in time");
                return Err(Unanswered::Late);
            }
        };
        leave.answered();
        if let (Some(revision), Some(position)) = (answered.revision, &answered.position) {
            self.hears(&Reached { revision, position: position.clone() });
        }
        Ok(answered)
    }

    fn client(&self, trace: Option<&str>) -> Client {
        let after = self.shared.after.lock().unwrap_or_else(std::sync::PoisonError::into_inner).clone();
        let mut client = self.client.clone();
        if let Some((position, digest)) = after {
            client = client.at_least(&position, digest.as_deref());
        }
        match trace {
            Some(trace) => client.traced(trace),
            None => client,
        }
    }
}

impl Asks {
    async fn outcome(&self, caller: Caller, uri: &Uri) -> Outcome {
        if let Bearer::Token(token) = &caller.bearer
            && !self.guard.verifies(token).await
        {
            return Outcome::Refused(refusal::sign_in(true));
        }
        let path = match Path::read(uri.path()) {
            Ok(path) => path,
            Err(why) => return Outcome::Refused(refusal::path(&format!("This path is not served: {why}."))),
        };
        match &self.needs {
            What::All(needs) => self.decided(needs, caller, &path).await,
            What::Handler => {
                let mut told = Extensions::new();
                told.insert(caller);
                Outcome::Allowed(told)
            }
            What::Rows(permission, columns) => match caller.row_filter(permission, columns).await {
                Ok(filter) if filter.none && !caller.is_signed_in() => {
                    Outcome::Refused(refusal::sign_in(false))
                }
                Ok(filter) => {
                    let subject = filter.subject.clone().unwrap_or_else(|| "anonymous".to_owned());
                    let mut told = Extensions::new();
                    told.insert(Permit { subject, reasons: Vec::new(), caller });
                    told.insert(filter);
                    Outcome::Allowed(told)
                }
                Err(refusal) => {
                    let response = refusal.into_response();
                    match response.status().is_server_error() {
                        true => Outcome::Unanswered(response),
                        false => Outcome::Refused(response),
                    }
                }
            },
        }
    }

    async fn decided(&self, needs: &[Asked], caller: Caller, path: &Path) -> Outcome {
        let Some(items) = needs.iter().map(|need| item(need, path)).collect() else {
            return Outcome::Refused(refusal::path("This path is not served."));
        };
        match self.guard.decides(&caller, items).await {
            Told::Allowed(subject, reasons) => {
                let mut told = Extensions::new();
                told.insert(Permit { subject, reasons, caller });
                Outcome::Allowed(told)
            }
            Told::Refused(response) => Outcome::Refused(response),
            Told::Unanswered(response) => Outcome::Unanswered(response),
        }
    }
}

impl Guard {
    /// Asks whether all of it is allowed, or finds that it was lately.
    pub(super) async fn decides(&self, caller: &Caller, evaluations: Vec<EvaluationItem>) -> Told {
        let needs = evaluations.len();
        let question = &EvaluationsRequest {
            subject: Some(caller.entity()),
            evaluations,
            options: Options { evaluations_semantic: Semantic::ExecuteAll },
            ..EvaluationsRequest::default()
        };
        let whole = self.cached_for.and_then(|_| serde_json::to_vec(question).ok());
        let digest = whole.map(|question| Sha256::digest(question).into());
        if let Some((subject, reasons)) = digest.as_ref().and_then(|digest| self.kept(digest)) {
            return Told::Allowed(subject, reasons);
        }
        let ask = |client: Client| async move { client.evaluations_of(question).await };
        let answered = match self.asks(caller.trace.as_deref(), ask).await {
            Ok(answered) => answered,
            Err(why) => return Told::Unanswered(why.response()),
        };
        let answers = match answered.answer {
            BatchAnswer::Many(answers) if needs > 0 && answers.evaluations.len() == needs => {
                answers.evaluations
            }
            _ => {
                tracing::warn!("there are not as many answers as questions");
                return Told::Unanswered(Unanswered::Strange.response());
            }
        };
        let told = told(&caller.bearer, answers);
        if let (Told::Allowed(subject, reasons), Some(digest)) = (&told, digest)
            && let (Some(revision), Some(position)) = (answered.revision, answered.position)
        {
            let of = Reached { revision, position };
            self.keep(digest, (subject.clone(), reasons.clone()), caller.bearer.until(), &of);
        }
        told
    }
}

/// Seconds since 1970.
pub fn now() -> u64 {
    SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).map_or(u64::MAX, |since| since.as_secs())
}

/// A need of a request.
fn item(need: &Asked, path: &Path) -> Option<EvaluationItem> {
    let name = match &need.template {
        None => None,
        Some(template) => Some(named(template, path)?),
    };
    let kind = need.kind.clone();
    let resource = match (need.is_new, name) {
        (false, name) => Entity { kind, id: name.map(|(_, id)| id), properties: None },
        (true, within) => {
            let properties = within.map(|(kind, id)| {
                Object(Map::from_iter([("within".to_owned(), Value::from(format!("{kind}:{id}")))]))
            });
            Entity { kind, id: None, properties }
        }
    };
    let action = Action { name: format!("{}:{}", need.kind, need.action) };
    Some(EvaluationItem { action: Some(action), resource: Some(resource), ..EvaluationItem::default() })
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

/// What answers come to.
pub enum Told {
    /// Whom, and why.
    Allowed(String, Vec<Option<String>>),
    Refused(Response),
    Unanswered(Response),
}

/// What the answers come to: all of them must allow.
fn told(bearer: &Bearer, answers: Vec<Evaluation>) -> Told {
    let is_token = matches!(bearer, Bearer::Token(_));
    if let Some(error) = answers.iter().find_map(|answer| answer.context.error.as_ref()) {
        tracing::warn!(status = error.status, error = error.message, "a need cannot be asked");
        return Told::Unanswered(refusal::unanswered("Whether you may do this cannot be asked now."));
    }
    if let Some(denied) = answers.iter().find(|answer| !answer.decision) {
        let reason = denied.context.reason.as_deref();
        return Told::Refused(match (is_token, reason) {
            (false, _) => refusal::sign_in(false),
            (true, Some("token-refused")) => refusal::sign_in(true),
            (true, reason) => refusal::denied(reason, denied.context.message.as_deref()),
        });
    }
    let subject = answers.iter().find_map(|answer| answer.context.subject.clone());
    let reasons = answers.into_iter().map(|answer| answer.context.reason).collect();
    match (is_token, subject) {
        // Whom a token names is told with every answer to one.
        (true, None) => Told::Unanswered(refusal::unanswered("Whose token this is was not answered.")),
        (true, Some(subject)) => Told::Allowed(subject, reasons),
        (false, _) => Told::Allowed("anonymous".to_owned(), reasons),
    }
}
