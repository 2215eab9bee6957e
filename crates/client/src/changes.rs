//! What happened, and what happens.

use crate::{Client, Error, Result, response, unreachable};
use eventsource_stream::{EventStream, EventStreamError, Eventsource as _};
use futures_util::StreamExt as _;
use futures_util::stream::BoxStream;
use ostrog_wire::changes::{ChangeQuery, ChangeShown};
use ostrog_wire::register::Page;
use reqwest::Method;
use std::fmt;
use std::time::Duration;

/// A stream of changes has no end of its own.
const FOR_EVER: Duration = Duration::from_secs(365 * 24 * 3_600);

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
pub struct Changes(EventStream<BoxStream<'static, reqwest::Result<Vec<u8>>>>);

impl fmt::Debug for Changes {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Changes(…)")
    }
}

impl Client {
    /// What happened, newest first: one page.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn changes(&self, query: &ChangeQuery) -> Result<Page<ChangeShown>> {
        self.get(&["changes"], query).await
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
        let response = response(request.header("accept", "text/event-stream").timeout(FOR_EVER)).await?;
        let bytes = response.bytes_stream().map(|bytes| bytes.map(|bytes| bytes.to_vec()));
        Ok(Changes(bytes.boxed().eventsource()))
    }
}

impl Changes {
    /// The next change; none once the service has ended the stream.
    ///
    /// # Errors
    /// If the stream breaks off, or holds what is no change.
    pub async fn next(&mut self) -> Result<Option<Told>> {
        let Some(event) = self.0.next().await else { return Ok(None) };
        let event = event.map_err(|error| match error {
            EventStreamError::Transport(error) => unreachable(&error),
            error => Error::Unreadable(error.to_string()),
        })?;
        let change =
            serde_json::from_str(&event.data).map_err(|error| Error::Unreadable(error.to_string()))?;
        Ok(Some(Told { id: event.id, change }))
    }
}
