//! Signing in as an operator: what a command line needs for it.

use crate::{Client, Result, answer, response};
use ostrog_wire::keys::{
    DeviceShown, LoopbackAsked, LoopbackBegun, RenewalAsked, Renewed, SessionAsked, SessionOutcome,
    SignInWith, SignedIn,
};
use reqwest::Method;

impl Client {
    /// Which issuers operators sign in with. No key is needed to ask.
    ///
    /// # Errors
    /// If the service cannot be reached.
    pub async fn sign_in_with(&self) -> Result<Vec<SignInWith>> {
        self.get(&["sign-in"], &()).await
    }

    /// Begins with a device code (RFC 8628).
    ///
    /// # Errors
    /// If the issuer has none.
    pub async fn begin_device(&self, issuer: &str) -> Result<DeviceShown> {
        answer(self.managing(Method::POST, &["sign-in", issuer, "device"])?).await
    }

    /// Begins in a browser on this machine (RFC 8252, 7.3), which comes back to where its caller listens.
    ///
    /// # Errors
    /// If that is not on loopback.
    pub async fn begin_loopback(&self, issuer: &str, asked: &LoopbackAsked) -> Result<LoopbackBegun> {
        self.post(&["sign-in", issuer, "loopback"], asked).await
    }

    /// Asks for the session.
    ///
    /// # Errors
    /// If the issuer refused, or nothing here is theirs.
    pub async fn begin_session(&self, issuer: &str, asked: &SessionAsked) -> Result<SessionOutcome> {
        self.post(&["sign-in", issuer, "session"], asked).await
    }

    /// Has the claims of the session anew.
    ///
    /// # Errors
    /// If it has ended, or the issuer refused.
    pub async fn renew_session(&self, renewal: &str) -> Result<Renewed> {
        self.post(&["session", "renewal"], &RenewalAsked { renewal: Some(renewal.to_owned()) }).await
    }

    /// Who calls.
    ///
    /// # Errors
    /// If the key or the session has ended.
    pub async fn signed_in(&self) -> Result<SignedIn> {
        self.get(&["session"], &()).await
    }

    /// Ends the session.
    ///
    /// # Errors
    /// If the service cannot be reached.
    pub async fn sign_out(&self) -> Result<()> {
        response(self.managing(Method::DELETE, &["session"])?).await.map(drop)
    }
}
