//! Charters: how things stand, revisions, drafts.

use crate::{Client, Error, Result, response};
use ostrog_wire::charter::{DraftShown, DraftText, RevisionShown, RevisionText, Saved, Status};
use ostrog_wire::rehearsals::{RehearsalAsked, RehearsalSaved, RehearsalText, RunShown};
use reqwest::Method;

impl Client {
    /// How things stand.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn status(&self) -> Result<Status> {
        self.get(&["status"], &()).await
    }

    /// All revisions, newest first.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn revisions(&self) -> Result<Vec<RevisionShown>> {
        self.get(&["revisions"], &()).await
    }

    /// One revision with its text: a number, or `live`.
    ///
    /// # Errors
    /// If there is none.
    pub async fn revision(&self, number: &str) -> Result<RevisionText> {
        self.get(&["revisions", number], &()).await
    }

    /// All drafts that have not ended, newest first.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn drafts(&self) -> Result<Vec<DraftShown>> {
        self.get(&["drafts"], &()).await
    }

    /// One draft, and how it stands beside what is live: `D-1`.
    ///
    /// # Errors
    /// If there is none.
    pub async fn draft(&self, id: &str) -> Result<DraftText> {
        self.get(&["drafts", id], &()).await
    }

    /// Saves a draft.
    ///
    /// # Errors
    /// If it has ended, or somebody saved another text since.
    pub async fn save_draft(&self, saved: &Saved) -> Result<DraftText> {
        self.post(&["drafts"], saved).await
    }

    /// Drafts that were discarded in the last thirty days, the last one first.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn discarded_drafts(&self) -> Result<Vec<DraftShown>> {
        self.get(&["discarded-drafts"], &()).await
    }

    /// Takes a discarded draft back, as it was.
    ///
    /// # Errors
    /// If none was discarded in the last thirty days.
    pub async fn restore_draft(&self, id: &str) -> Result<DraftText> {
        self.post(&["discarded-drafts", id, "restoration"], &serde_json::json!({})).await
    }

    /// Discards a draft.
    ///
    /// # Errors
    /// If there is none.
    pub async fn discard_draft(&self, id: &str) -> Result<DraftShown> {
        self.delete(&["drafts", id], &()).await
    }

    /// Begins to rehearse a draft against what is live, or what is live by itself.
    ///
    /// # Errors
    /// If one is running on that node, or the draft has errors.
    pub async fn rehearse(&self, asked: &RehearsalAsked) -> Result<RunShown> {
        self.post(&["rehearsals"], asked).await
    }

    /// The rehearsal's files, as the service has them.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn rehearsal(&self) -> Result<RehearsalText> {
        self.get(&["rehearsal"], &()).await
    }

    /// Saves the rehearsal's files.
    ///
    /// # Errors
    /// If somebody saved others since.
    pub async fn save_rehearsal(&self, saved: &RehearsalSaved) -> Result<RehearsalText> {
        self.put(&["rehearsal"], saved).await
    }

    /// What a rehearsal found, as JUnit XML.
    ///
    /// # Errors
    /// If there is none, or it found nothing.
    pub async fn rehearsal_junit(&self, number: i64) -> Result<String> {
        let found =
            response(self.managing(Method::GET, &["rehearsals", &number.to_string(), "junit"])?).await?;
        found.text().await.map_err(|error| Error::Unreachable(error.to_string()))
    }

    /// Rehearsals that were run, or run, the newest first.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn rehearsals(&self) -> Result<Vec<RunShown>> {
        self.get(&["rehearsals"], &()).await
    }
}
