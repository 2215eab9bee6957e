//! Streams of events (server-sent events, as the service sends them).

use crate::{Error, Result, response, unreachable};
use eventsource_stream::{Event, EventStream, EventStreamError, Eventsource as _};
use futures_util::StreamExt as _;
use futures_util::stream::{self, BoxStream};
use reqwest::RequestBuilder;
use std::fmt;
use std::time::Duration;

/// The service says every ten seconds that it is there: a stream that is silent for so long has broken.
const SILENCE: Duration = Duration::from_secs(30);
/// A stream has no end of its own.
const FOR_EVER: Duration = Duration::from_secs(365 * 24 * 3_600);

/// Events, as they come.
pub struct Events(EventStream<BoxStream<'static, reqwest::Result<Vec<u8>>>>);

impl fmt::Debug for Events {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Events(…)")
    }
}

impl Events {
    /// Asks for a stream.
    pub async fn of(request: RequestBuilder) -> Result<Events> {
        let response = response(request.header("accept", "text/event-stream").timeout(FOR_EVER)).await?;
        let bytes = stream::unfold(response.bytes_stream().boxed(), async |mut bytes| {
            let part = tokio::time::timeout(SILENCE, bytes.next()).await.ok()??;
            Some((part.map(|part| part.to_vec()), bytes))
        });
        Ok(Events(bytes.boxed().eventsource()))
    }

    /// The next one; none once the stream has ended, or is silent for too long.
    pub async fn next(&mut self) -> Result<Option<Event>> {
        let Some(event) = self.0.next().await else { return Ok(None) };
        event.map(Some).map_err(|error| match error {
            EventStreamError::Transport(error) => unreachable(&error),
            error => Error::Unreadable(error.to_string()),
        })
    }
}
