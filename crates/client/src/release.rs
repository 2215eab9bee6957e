//! What is live for whom, and what is on its way: rollouts, reviews, settings.

use crate::{Client, Result};
use ostrog_wire::charter::RevisionShown;
use ostrog_wire::release::{
    ApprovalAsked, ApprovalShown, CommentAsked, DifferenceGroup, LiveShown, NodeShown, NoteAsked,
    ReleasedShown, ReviewShown, RollbackAsked, RolloutAsked, SettingsAsked, SettingsChange, SettingsShown,
    ShadowAsked, ShadowShown, StepShown, Waiting,
};

impl Client {
    /// What is live for each application.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn live(&self) -> Result<Vec<LiveShown>> {
        self.get(&["live"], &()).await
    }

    /// What was live, newest first: of one application or of all.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn rollouts(&self, application: Option<&str>) -> Result<Vec<StepShown>> {
        let which: Vec<(&str, &str)> =
            application.into_iter().map(|application| ("application", application)).collect();
        self.get(&["rollouts"], &which).await
    }

    /// Puts a revision live, or a draft where nobody has to approve it.
    ///
    /// # Errors
    /// If it cannot be.
    pub async fn roll_out(&self, asked: &RolloutAsked) -> Result<ReleasedShown> {
        self.post(&["rollouts"], asked).await
    }

    /// Goes back to what was live before.
    ///
    /// # Errors
    /// If there is no way back.
    pub async fn roll_back(&self, asked: &RollbackAsked) -> Result<ReleasedShown> {
        self.post(&["rollbacks"], asked).await
    }

    /// Shuts a revision for good.
    ///
    /// # Errors
    /// If there is none, or it is live.
    pub async fn bar(&self, revision: i64, note: &str) -> Result<RevisionShown> {
        let asked = NoteAsked { note: note.to_owned() };
        self.post(&["revisions", &revision.to_string(), "bar"], &asked).await
    }

    /// How a draft, `D-1`, stands on its way to be a revision.
    ///
    /// # Errors
    /// If there is none.
    pub async fn review(&self, draft: &str) -> Result<ReviewShown> {
        self.get(&["drafts", draft, "review"], &()).await
    }

    /// Approves a draft `D-1`, settings `S-1`, or a revision `R-1` that went live urgently.
    ///
    /// # Errors
    /// If it is not the caller's to approve, or not everything is accepted.
    pub async fn approve(&self, id: &str, asked: &ApprovalAsked) -> Result<ApprovalShown> {
        self.post(&["reviews", id, "approval"], asked).await
    }

    /// Returns a draft or settings.
    ///
    /// # Errors
    /// If it has ended.
    pub async fn give_back(&self, id: &str, note: &str) -> Result<()> {
        self.post_for_nothing(&["reviews", id, "return"], &NoteAsked { note: note.to_owned() }).await
    }

    /// Remarks on a draft.
    ///
    /// # Errors
    /// If it has ended, or has no such line.
    pub async fn comment(&self, draft: &str, asked: &CommentAsked) -> Result<()> {
        self.post_for_nothing(&["drafts", draft, "comments"], asked).await
    }

    /// What waits for approval.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn waiting(&self) -> Result<Vec<Waiting>> {
        self.get(&["waiting"], &()).await
    }

    /// Settings in force, and what was put.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn settings(&self) -> Result<SettingsShown> {
        self.get(&["settings"], &()).await
    }

    /// Puts settings.
    ///
    /// # Errors
    /// Their errors, or that others were put since.
    pub async fn put_settings(&self, asked: &SettingsAsked) -> Result<SettingsChange> {
        self.put(&["settings"], asked).await
    }

    /// Which nodes there are, and how far they answer.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn nodes(&self) -> Result<Vec<NodeShown>> {
        self.get(&["nodes"], &()).await
    }

    /// The last shadows, newest first.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn shadows(&self) -> Result<Vec<ShadowShown>> {
        self.get(&["shadows"], &()).await
    }

    /// Begins a shadow.
    ///
    /// # Errors
    /// If there are too many, or there is no such revision.
    pub async fn begin_shadow(&self, asked: &ShadowAsked) -> Result<ShadowShown> {
        self.post(&["shadows"], asked).await
    }

    /// How answers differ in a shadow.
    ///
    /// # Errors
    /// If there is none.
    pub async fn differences(&self, shadow: i64) -> Result<Vec<DifferenceGroup>> {
        self.get(&["shadows", &shadow.to_string(), "differences"], &()).await
    }

    /// Stops a shadow.
    ///
    /// # Errors
    /// If none of that number runs.
    pub async fn end_shadow(&self, shadow: i64) -> Result<ShadowShown> {
        self.delete(&["shadows", &shadow.to_string()], &()).await
    }
}
