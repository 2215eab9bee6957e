//! What happened, and what happens.

use crate::events::Events;
use crate::{Client, Error, Result, answer};
use ostrog_wire::changes::{ChangeQuery, ChangeShown, Verification, VerificationQuery};
use ostrog_wire::register::Page;
use reqwest::Method;
use std::time::Duration;

/// Longest that verifying all changes may take.
const FOR_ALL: Duration = Duration::from_secs(3_600);

/// From where on changes are followed.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum From {
    /// From now on.
    #[default]
    Now,
    /// From after a position of the present epoch.
    After(i64),
    /// From after an event that was told before: [`Told::id`].
    Event(String),
}

/// A change that was told.
#[derive(Clone, Debug)]
pub struct Told {
    /// `<epoch>.<position>`: where to take up a stream that broke.
    pub id: String,
    /// The change.
    pub change: ChangeShown,
}

/// What happens, as it happens.
#[derive(Debug)]
pub struct Changes(Events);

impl Client {
    /// What happened, newest first: one page.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn changes(&self, query: &ChangeQuery) -> Result<Page<ChangeShown>> {
        self.get(&["changes"], query).await
    }

    /// Whether the changes are what was written, and the tables what they come to. It takes as long as it takes.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn verify_changes(&self, query: &VerificationQuery) -> Result<Verification> {
        let request = self.managing(Method::GET, &["verification"])?.query(query);
        answer(request.timeout(FOR_ALL)).await
    }

    /// Follows what happens.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses: an event of another epoch among it.
    pub async fn follow(&self, from: &From) -> Result<Changes> {
        let mut request = self.managing(Method::GET, &["changes"])?;
        match from {
            From::Now => {}
            From::After(position) => request = request.query(&[("after", position)]),
            From::Event(id) => request = request.header("last-event-id", id),
        }
        Ok(Changes(Events::of(request).await?))
    }
}

impl Changes {
    /// The next change; none once the stream has ended, or is silent for too long.
    ///
    /// # Errors
    /// If the stream breaks off, or holds what is no change.
    pub async fn next(&mut self) -> Result<Option<Told>> {
        let Some(event) = self.0.next().await? else { return Ok(None) };
        let change =
            serde_json::from_str(&event.data).map_err(|error| Error::Unreadable(error.to_string()))?;
        Ok(Some(Told { id: event.id, change }))
    }
}
