//! Issuers of tokens, and reading a token.

use crate::{Client, Result};
use ostrog_wire::issuers::{Attempted, IssuerAsked, IssuerShown, TokenAsked, TokenRead};

impl Client {
    /// All issuers, with how they stand on the node that answers.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn issuers(&self) -> Result<Vec<IssuerShown>> {
        self.get(&["issuers"], &()).await
    }

    /// Sets one up.
    ///
    /// # Errors
    /// If its key or its address is taken, or may not be asked.
    pub async fn add_issuer(&self, asked: &IssuerAsked) -> Result<IssuerShown> {
        self.post(&["issuers"], asked).await
    }

    /// Ends one, at once.
    ///
    /// # Errors
    /// If there is none of this key.
    pub async fn end_issuer(&self, key: &str) -> Result<IssuerShown> {
        self.delete(&["issuers", key], &()).await
    }

    /// Finds its keys step by step, from the node that answers.
    ///
    /// # Errors
    /// If there is none of this key.
    pub async fn try_issuer(&self, key: &str) -> Result<Attempted> {
        self.post(&["issuers", key, "attempt"], &()).await
    }

    /// Tells what a token says and what it means.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn read_token(&self, asked: &TokenAsked) -> Result<TokenRead> {
        self.post(&["tokens", "reading"], asked).await
    }
}
