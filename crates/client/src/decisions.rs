//! What an application asks: decisions and searches, in the AuthZEN Authorization API 1.0.

use crate::events::Events;
use crate::{Answered, Client, Error, Result, answer, answered};
use ostrog_wire::access::{
    Action, AffordancesRequest, AffordancesResponse, BatchAnswer, Entity, Evaluation, EvaluationRequest,
    EvaluationsRequest, Reached, RowsRequest, RowsResponse, SearchRequest, SearchResponse,
};
use reqwest::Method;
use serde::Serialize;
use serde::de::DeserializeOwned;

/// The position that answers are of, as it moves.
#[derive(Debug)]
pub struct Positions(Events);

impl Positions {
    /// Where answers are by now; none once the stream has ended, or is silent for too long.
    ///
    /// # Errors
    /// If the stream breaks off, or tells something else.
    pub async fn next(&mut self) -> Result<Option<Reached>> {
        let Some(event) = self.0.next().await? else { return Ok(None) };
        serde_json::from_str(&event.data).map(Some).map_err(|error| Error::Unreadable(error.to_string()))
    }
}

impl Client {
    async fn access<T: DeserializeOwned>(&self, path: &[&str], body: &impl Serialize) -> Result<T> {
        answer(self.request(Method::POST, &[&["access", "v1"], path].concat())?.json(body)).await
    }

    async fn access_of<T: DeserializeOwned>(
        &self,
        path: &[&str],
        body: &impl Serialize,
    ) -> Result<Answered<T>> {
        answered(self.request(Method::POST, &[&["access", "v1"], path].concat())?.json(body)).await
    }

    /// Asks whether a subject may do something. Names are `type:id`, the permission `type:action`; without
    /// a resource, whether they may do it with a new one.
    ///
    /// # Errors
    /// If there is no decision; treat that as a denial.
    pub async fn evaluate(
        &self,
        subject: &str,
        permission: &str,
        resource: Option<&str>,
    ) -> Result<Evaluation> {
        let (kind, action) = permission
            .split_once(':')
            .ok_or_else(|| Error::Unusable(format!("{permission:?} is no permission: write type:action")))?;
        let request = EvaluationRequest {
            subject: entity(subject),
            action: Action { name: action.to_owned() },
            resource: resource.map_or_else(|| entity(kind), entity),
            context: None,
        };
        self.evaluation(&request).await
    }

    /// Asks one question.
    ///
    /// # Errors
    /// If there is no decision; treat that as a denial.
    pub async fn evaluation(&self, request: &EvaluationRequest) -> Result<Evaluation> {
        self.access(&["evaluation"], request).await
    }

    /// Asks several questions at one position and one moment.
    ///
    /// # Errors
    /// If there are no decisions; treat that as denials.
    pub async fn evaluations(&self, request: &EvaluationsRequest) -> Result<BatchAnswer> {
        self.access(&["evaluations"], request).await
    }

    /// The same, with what the answer is of.
    ///
    /// # Errors
    /// If there are no decisions; treat that as denials.
    pub async fn evaluations_of(&self, request: &EvaluationsRequest) -> Result<Answered<BatchAnswer>> {
        self.access_of(&["evaluations"], request).await
    }

    /// Asks on which rows of an application's own table: good for the position that the answer is of.
    ///
    /// # Errors
    /// If there is no answer; show nothing then.
    pub async fn row_filter(&self, request: &RowsRequest) -> Result<Answered<RowsResponse>> {
        self.access_of(&["rows"], request).await
    }

    /// Asks what an application's interface shows and enables.
    ///
    /// # Errors
    /// If there is no answer; show nothing then.
    pub async fn affordances(&self, request: &AffordancesRequest) -> Result<Answered<AffordancesResponse>> {
        self.access_of(&["affordances"], request).await
    }

    /// Follows the position that answers are of.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn positions(&self) -> Result<Positions> {
        let request = self.request(Method::GET, &["access", "v1", "position"])?;
        Ok(Positions(Events::of(request).await?))
    }

    /// Asks who may, a page at a time.
    ///
    /// # Errors
    /// If there is no answer.
    pub async fn search_subjects(&self, request: &SearchRequest) -> Result<SearchResponse> {
        self.access(&["search", "subject"], request).await
    }

    /// Asks with what, a page at a time.
    ///
    /// # Errors
    /// If there is no answer.
    pub async fn search_resources(&self, request: &SearchRequest) -> Result<SearchResponse> {
        self.access(&["search", "resource"], request).await
    }

    /// Asks what, a page at a time.
    ///
    /// # Errors
    /// If there is no answer.
    pub async fn search_actions(&self, request: &SearchRequest) -> Result<SearchResponse> {
        self.access(&["search", "action"], request).await
    }
}

/// `type:id`, or a type alone.
fn entity(name: &str) -> Entity {
    match name.split_once(':') {
        Some((kind, id)) => Entity { kind: kind.to_owned(), id: Some(id.to_owned()), properties: None },
        None => Entity { kind: name.to_owned(), id: None, properties: None },
    }
}
