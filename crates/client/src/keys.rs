//! Keys: which there are, making, replacing and ending them.

use crate::{Client, Result, answer};
use ostrog_wire::keys::{KeyAsked, KeyMade, KeyShown, Overlap};
use reqwest::Method;

impl Client {
    /// All keys that have not ended.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn keys(&self) -> Result<Vec<KeyShown>> {
        self.get(&["keys"], &()).await
    }

    /// Makes a key. Its text is told this once.
    ///
    /// # Errors
    /// If it would give what its maker has not.
    pub async fn make_key(&self, asked: &KeyAsked) -> Result<KeyMade> {
        self.post(&["keys"], asked).await
    }

    /// Makes a key in place of another, which goes on counting for a while.
    ///
    /// # Errors
    /// If there is none of this id.
    pub async fn replace_key(&self, id: &str, overlap: &Overlap) -> Result<KeyMade> {
        answer(self.managing(Method::POST, &["keys", id, "replacement"])?.query(overlap)).await
    }

    /// Ends a key, at once.
    ///
    /// # Errors
    /// If there is none of this id, or it is the last owner's.
    pub async fn end_key(&self, id: &str) -> Result<KeyShown> {
        self.delete(&["keys", id], &()).await
    }
}
