//! What an operator asks: explained, with a blank, at another moment, under another text, supposed.

use crate::{Client, Result};
use ostrog_core::decide::hints::Hint;
use ostrog_core::decide::told::{ActionTold, HolderTold, Listed, ResourceTold, RowsTold};
use ostrog_core::routes::RouteTold;
use ostrog_wire::questions::{AskAnswer, BlankAnswer, QuestionRequest, RouteQuestion};

impl Client {
    /// Tries a question, with why, and of a denial what it would take.
    ///
    /// # Errors
    /// If there is no answer.
    pub async fn ask(&self, question: &QuestionRequest) -> Result<AskAnswer> {
        self.post(&["ask"], question).await
    }

    /// What a subject may do with a resource.
    ///
    /// # Errors
    /// If there is no answer.
    pub async fn actions(&self, question: &QuestionRequest) -> Result<BlankAnswer<Listed<ActionTold>>> {
        self.post(&["actions"], question).await
    }

    /// Which registered resources a subject may act on: one page. If it is not whole, `next` goes into the
    /// question's `beside.after`.
    ///
    /// # Errors
    /// If there is no answer.
    pub async fn reach(&self, question: &QuestionRequest) -> Result<BlankAnswer<Listed<ResourceTold>>> {
        self.post(&["reach"], question).await
    }

    /// Who may do something.
    ///
    /// # Errors
    /// If there is no answer.
    pub async fn holders(&self, question: &QuestionRequest) -> Result<BlankAnswer<Listed<HolderTold>>> {
        self.post(&["holders"], question).await
    }

    /// A question as a condition on an application's own rows.
    ///
    /// # Errors
    /// If there is no answer.
    pub async fn rows(&self, question: &QuestionRequest) -> Result<BlankAnswer<RowsTold>> {
        self.post(&["rows"], question).await
    }

    /// What a request behind a proxy comes to.
    ///
    /// # Errors
    /// If there is no answer.
    pub async fn check_route(&self, question: &RouteQuestion) -> Result<RouteTold> {
        self.post(&["routes", "check"], question).await
    }

    /// What an application's interface shows and enables.
    ///
    /// # Errors
    /// If there is no answer.
    pub async fn hints(&self, question: &QuestionRequest) -> Result<BlankAnswer<Listed<Hint>>> {
        self.post(&["hints"], question).await
    }
}
