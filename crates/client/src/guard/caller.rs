//! Who makes a request, and what else can be asked for them.

use super::ask::{Told, Unanswered};
use super::{Guard, Permit, refusal};
use crate::{Client, RowFilter};
use axum::http::{HeaderMap, Uri, header};
use axum::response::{IntoResponse, Response};
use ostrog_core::decide::hints::Hint;
use ostrog_core::decide::rows::Columns;
use ostrog_wire::access::{Action, AffordancesRequest, Entity, EvaluationItem, RowsRequest};
use ostrog_wire::strict::Object;
use serde_json::{Map, Value};
use std::fmt;

/// Who makes a request: the bearer of a token, or nobody who is signed in.
#[derive(Clone)]
pub struct Caller {
    guard: Guard,
    pub(super) bearer: Bearer,
    pub(super) trace: Option<String>,
}

/// Whose request it is.
#[derive(Clone, PartialEq, Eq)]
pub(super) enum Bearer {
    Nobody,
    Token(String),
}

impl fmt::Debug for Caller {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Caller").field("signed_in", &self.is_signed_in()).finish_non_exhaustive()
    }
}

/// Why a request goes no further: 401, 403 or 503, a problem document.
#[derive(Debug)]
pub struct Refusal(Box<Response>);

impl From<Response> for Refusal {
    fn from(response: Response) -> Refusal {
        Refusal(Box::new(response))
    }
}

impl IntoResponse for Refusal {
    fn into_response(self) -> Response {
        *self.0
    }
}

/// What an interface shows and enables.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Affordances {
    /// In the order of the charter.
    pub all: Vec<Hint>,
    /// Whom a token names.
    pub subject: Option<String>,
    /// The position that they are of.
    pub position: Option<String>,
}

impl Affordances {
    /// Whether one is shown.
    pub fn shows(&self, key: &str) -> bool {
        self.all.iter().any(|hint| hint.key == key && hint.visible)
    }

    /// Whether one may be used.
    pub fn enables(&self, key: &str) -> bool {
        self.all.iter().any(|hint| hint.key == key && hint.enabled)
    }
}

impl Caller {
    /// Who a request says it is from.
    ///
    /// # Errors
    /// If it says so in a way that does not count.
    pub fn of(guard: &Guard, headers: &HeaderMap, uri: &Uri) -> Result<Caller, Refusal> {
        let bearer = bearer(headers, uri).map_err(refusal::sign_in)?;
        let trace = headers.get("traceparent").and_then(|value| value.to_str().ok()).map(str::to_owned);
        Ok(Caller { guard: guard.clone(), bearer, trace })
    }

    /// The bearer of a token that an application keeps for them; without one, nobody.
    pub fn bearing(guard: &Guard, token: Option<&str>) -> Caller {
        let bearer = token.map_or(Bearer::Nobody, |token| Bearer::Token(token.to_owned()));
        Caller { guard: guard.clone(), bearer, trace: None }
    }

    /// Whether a token stands for them; whether it counts is another question.
    pub fn is_signed_in(&self) -> bool {
        self.bearer != Bearer::Nobody
    }

    /// Them as the subject of a question that the application asks itself.
    pub fn entity(&self) -> Entity {
        match &self.bearer {
            Bearer::Nobody => Entity { kind: "anonymous".to_owned(), ..Entity::default() },
            Bearer::Token(token) => {
                Entity { kind: "token".to_owned(), id: Some(token.clone()), properties: None }
            }
        }
    }

    /// Whether they may do something, `type:action`, with the resource of an id, or a new one; `says` is what the
    /// application says of it: its attributes, and `within`.
    ///
    /// # Errors
    /// If they may not, their token does not count, or there is no answer.
    pub async fn may(
        &self,
        permission: &str,
        id: Option<&str>,
        says: Map<String, Value>,
    ) -> Result<Permit, Refusal> {
        let kind = permission.split_once(':').map_or(permission, |(kind, _)| kind).to_owned();
        let properties = (!says.is_empty()).then_some(Object(says));
        let resource = Entity { kind, id: id.map(str::to_owned), properties };
        let item = EvaluationItem {
            action: Some(Action { name: permission.to_owned() }),
            resource: Some(resource),
            ..EvaluationItem::default()
        };
        match self.guard.decides(self, vec![item]).await {
            Told::Allowed(subject, reasons) => Ok(Permit { subject, reasons, caller: self.clone() }),
            Told::Refused(response) | Told::Unanswered(response) => Err(response.into()),
        }
    }

    /// What the application's interface shows and enables for them; on a resource, `type:id`, or in general.
    ///
    /// # Errors
    /// If their token does not count, or there is no answer: show nothing then.
    pub async fn affordances(&self, resource: Option<&str>) -> Result<Affordances, Refusal> {
        let resource = match resource.map(|name| (name, name.split_once(':'))) {
            None => None,
            Some((_, Some((kind, id)))) => {
                Some(Entity { kind: kind.to_owned(), id: Some(id.to_owned()), properties: None })
            }
            // In general is another question.
            Some((name, None)) => {
                tracing::error!(name, "no resource: write type:id");
                return Err(Unanswered::Strange.refusal());
            }
        };
        let asked = AffordancesRequest { subject: self.entity(), resource, ..AffordancesRequest::default() };
        let answered =
            self.guard.asks(self.trace.as_deref(), async |client| client.affordances(&asked).await);
        let answered = answered.await.map_err(Unanswered::refusal)?;
        let context = answered.answer.context;
        if self.is_signed_in() && context.subject.is_none() {
            return Err(refusal::sign_in(true).into());
        }
        let all = answered.answer.affordances;
        Ok(Affordances { all, subject: context.subject, position: answered.position })
    }

    /// On which rows of a table they have a permission, `type:action`.
    ///
    /// # Errors
    /// If their token does not count, or there is no answer: show nothing then.
    pub async fn row_filter(&self, permission: &str, columns: &Columns) -> Result<RowFilter, Refusal> {
        let (kind, action) = permission.split_once(':').unwrap_or((permission, ""));
        let asked = RowsRequest {
            subject: self.entity(),
            action: Action { name: action.to_owned() },
            resource: Entity { kind: kind.to_owned(), ..Entity::default() },
            context: None,
            columns: Some(columns.clone()),
        };
        let asked = &asked;
        let ask = |client: Client| async move { client.row_filter(asked).await };
        let answered = self.guard.asks(self.trace.as_deref(), ask).await.map_err(Unanswered::refusal)?;
        let filter = RowFilter::read(answered).map_err(|error| {
            tracing::warn!(%error, "no row filter");
            Unanswered::Strange.refusal()
        })?;
        if self.is_signed_in() && filter.subject.is_none() {
            return Err(refusal::sign_in(true).into());
        }
        Ok(filter)
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

impl Bearer {
    /// When a token ends by what it says itself, in seconds since 1970. Whether it holds is said by the answer
    /// that it was given; what cannot be read has ended.
    pub(super) fn until(&self) -> u64 {
        use base64::Engine as _;
        use base64::engine::general_purpose::URL_SAFE_NO_PAD;
        let Bearer::Token(token) = self else { return u64::MAX };
        let claims = token.split('.').nth(1).and_then(|part| URL_SAFE_NO_PAD.decode(part).ok());
        let claims: Option<serde_json::Value> = claims.and_then(|part| serde_json::from_slice(&part).ok());
        let until = claims.as_ref().and_then(|claims| claims.get("exp"));
        // An unsafe fraction is cut off.
        until
            .and_then(|until| until.as_u64().or_else(|| until.as_f64().map(|until| until as u64)))
            .unwrap_or(0)
    }
}
