//! What an application asks: decisions and searches, in the AuthZEN Authorization API 1.0.

use crate::{Client, Error, Result, answer};
use ostrog_wire::access::{
    Action, BatchAnswer, Entity, Evaluation, EvaluationRequest, EvaluationsRequest, SearchRequest,
    SearchResponse,
};
use reqwest::Method;
use serde::Serialize;
use serde::de::DeserializeOwned;

impl Client {
    async fn access<T: DeserializeOwned>(&self, path: &[&str], body: &impl Serialize) -> Result<T> {
        answer(self.request(Method::POST, &[&["access", "v1"], path].concat())?.json(body)).await
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
