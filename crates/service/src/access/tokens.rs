//! Tokens that stand for a subject: `"subject": {"type": "token", "id": "<JWT>"}`. Each is verified before
//! anything is asked; one that is refused denies, and is never asked as anonymous.

use crate::node::gate::Scope;
use jiff::Timestamp;
use ostrog_core::decide::bearer::{Bearer, NotBorne, Token};
use ostrog_core::prelude::World;
use ostrog_tokens::{Refused, Verified};
use serde_json::Value;
use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::sync::Arc;

/// The type of such a subject.
pub const TOKEN: &str = "token";

/// The tokens of one call, each with what became of it.
#[derive(Clone, Debug, Default)]
pub struct Tokens(HashMap<String, Result<Arc<Verified>, Refused>>);

/// Why a token stands for nobody. It is told to no caller, and in the log without the token.
#[derive(Clone, Debug, thiserror::Error)]
pub enum Unborne {
    /// It does not hold.
    #[error("{0}")]
    Refused(#[from] Refused),
    /// It holds and names nobody.
    #[error("{0}")]
    NotBorne(#[from] NotBorne),
}

impl Tokens {
    /// Those of a body: of the call's own subject and of each item.
    pub async fn of_body(scope: &Scope, body: &[u8]) -> Arc<Tokens> {
        // Most calls have none, and are not read twice.
        if !body.windows(TOKEN.len()).any(|part| part == TOKEN.as_bytes()) {
            return Arc::default();
        }
        let Ok(body) = serde_json::from_slice::<Value>(body) else { return Arc::default() };
        let items = body.get("evaluations").and_then(Value::as_array).into_iter().flatten();
        let subjects = std::iter::once(&body).chain(items).filter_map(|part| part.get("subject"));
        let tokens = subjects.filter(|subject| subject.get("type").is_some_and(|kind| kind == TOKEN));
        let texts = tokens.filter_map(|subject| subject.get("id")?.as_str());
        Tokens::of(scope, texts.map(str::to_owned).collect()).await
    }

    /// Some tokens, each verified once.
    pub async fn of(scope: &Scope, texts: Vec<String>) -> Arc<Tokens> {
        let mut all = HashMap::new();
        let now = Timestamp::now();
        for text in texts {
            if let Entry::Vacant(place) = all.entry(text) {
                let verified = scope.verified(place.key(), now).await;
                place.insert(verified);
            }
        }
        Arc::new(Tokens(all))
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// When one of them ends, if it holds.
    pub fn until(&self, text: &str) -> Option<Timestamp> {
        Some(self.0.get(text)?.as_ref().ok()?.until)
    }

    /// Who bears one of them, under a charter that is live.
    ///
    /// # Errors
    /// Why it stands for nobody.
    pub fn bearer(&self, scope: &Scope, under: &World, text: &str) -> Result<Arc<Bearer>, Unborne> {
        let borne = match self.0.get(text) {
            Some(Ok(verified)) => scope.bearer(verified, under).map_err(Unborne::from),
            Some(Err(why)) => Err((*why).into()),
            // It was written so that nobody saw it: not verified is not verified.
            None => Err(Refused::NoToken.into()),
        };
        if let Err(why) = &borne {
            tracing::info!(key = scope.key_id(), %why, "a token was refused");
        }
        borne
    }

    /// What one of them claims, if it holds.
    pub fn claims(&self, text: &str) -> Option<Token> {
        let verified = self.0.get(text)?.as_ref().ok()?;
        Some(Token { issuer: verified.issuer.clone(), claims: verified.claims.clone() })
    }
}
