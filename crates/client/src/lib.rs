//! A typed client for an Ostrog service.
//!
//! ```no_run
//! # async fn example() -> Result<(), ostrog_client::Error> {
//! let client = ostrog_client::Client::new("http://127.0.0.1:7423", "the application's key")?;
//! let answer = client.evaluate("user:ines", "manifest:release", Some("manifest:m-204")).await?;
//! if answer.decision { /* release it */ }
//! # Ok(()) }
//! ```
//!
//! Every call fails closed: an [`Error`] is never an allow. Dropping a call's future gives it up;
//! a write that was sent may have been made all the same.

#![forbid(unsafe_code)]

use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::fmt;
use std::time::Duration;

/// How long a call may take unless the client is told otherwise.
const PATIENCE: Duration = Duration::from_secs(60);

/// A stream of changes has no end of its own.
const FOR_EVER: Duration = Duration::from_secs(365 * 24 * 3_600);

/// A service and the key it is asked with.
#[derive(Clone)]
pub struct Client {
    http: reqwest::Client,
    base: String,
    key: String,
    min_position: Option<String>,
}

impl fmt::Debug for Client {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Client").field("base", &self.base).finish_non_exhaustive()
    }
}

/// Why there is no answer.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The service cannot be reached, or broke off.
    #[error("the service cannot be reached: {0}")]
    Unreachable(String),
    /// The service refused, and says why.
    #[error("{}", .0.detail)]
    Refused(Problem),
    /// What came back is not an answer of this service.
    #[error("the answer cannot be read: {0}")]
    Unreadable(String),
    /// The address or the key cannot be used.
    #[error("{0}")]
    Unusable(String),
}

/// An RFC 9457 problem document.
#[derive(Clone, Debug, Deserialize)]
pub struct Problem {
    /// The stable name of the kind of problem.
    #[serde(rename = "type")]
    pub kind: String,
    /// The HTTP status.
    pub status: u16,
    /// What is wrong.
    pub detail: String,
    /// Where there are several things.
    #[serde(default)]
    pub errors: Vec<ProblemPart>,
}

/// One of several things wrong.
#[derive(Clone, Debug, Deserialize)]
pub struct ProblemPart {
    /// Where.
    pub at: String,
    /// What.
    pub detail: String,
}

/// A decision.
#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct Answer {
    /// Allowed or denied.
    pub decision: bool,
    /// Reason, message, advice, explanation: as far as the key may see.
    #[serde(default)]
    pub context: Map<String, Value>,
}

/// A page of register lines.
#[derive(Clone, Debug, Deserialize)]
pub struct Page {
    /// The lines.
    pub items: Vec<Value>,
    /// Where the next page begins.
    pub next: Option<String>,
}

/// What a write came to.
#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct Written {
    /// `<epoch>.<n>`: an answer at this position includes the write.
    pub position: String,
    /// What changed; empty if it was so already.
    pub changed: Vec<Value>,
}

impl Client {
    /// A client for the service at an address, with a key.
    ///
    /// # Errors
    /// If the address is none.
    pub fn new(base: &str, key: &str) -> Result<Client, Error> {
        if !base.starts_with("http://") && !base.starts_with("https://") {
            return Err(Error::Unusable(format!(
                "{base:?} is no address: write such as http://127.0.0.1:7423"
            )));
        }
        let http = reqwest::Client::builder().timeout(PATIENCE).build();
        let http = http.map_err(|error| Error::Unusable(error.to_string()))?;
        Ok(Client {
            http,
            base: base.trim_end_matches('/').to_owned(),
            key: key.trim().to_owned(),
            min_position: None,
        })
    }

    /// The same client, for answers that include a position only: `<epoch>.<n>` as a write gave it.
    /// A service that is behind waits a little and then refuses.
    #[must_use]
    pub fn at_least(mut self, position: &str) -> Client {
        self.min_position = Some(position.to_owned());
        self
    }

    /// Asks whether a subject may do something. Names are `type:id`, the permission `type:action`.
    ///
    /// # Errors
    /// If there is no decision; treat that as a denial.
    pub async fn evaluate(
        &self,
        subject: &str,
        permission: &str,
        resource: Option<&str>,
    ) -> Result<Answer, Error> {
        let entity = |name: &str| match name.split_once(':') {
            Some((kind, id)) => json!({ "type": kind, "id": id }),
            None => json!({ "type": name }),
        };
        let (kind, action) = permission.split_once(':').unwrap_or((permission, ""));
        let resource = resource.map_or_else(|| json!({ "type": kind }), entity);
        let question =
            json!({ "subject": entity(subject), "action": { "name": action }, "resource": resource });
        self.evaluate_json(&question).await
    }

    /// Asks one question in the AuthZEN request shape.
    ///
    /// # Errors
    /// If there is no decision; treat that as a denial.
    pub async fn evaluate_json(&self, question: &Value) -> Result<Answer, Error> {
        self.post("/access/v1/evaluation", question).await
    }

    /// Reads a path of the management API.
    ///
    /// # Errors
    /// If it cannot be reached or refuses.
    pub async fn get<T: DeserializeOwned>(&self, path: &str, query: &[(&str, &str)]) -> Result<T, Error> {
        let mut address = reqwest::Url::parse(&format!("{}{path}", self.base))
            .map_err(|error| Error::Unusable(error.to_string()))?;
        if !query.is_empty() {
            address.query_pairs_mut().extend_pairs(query);
        }
        self.send(self.http.get(address)).await
    }

    /// Sends JSON to a path.
    ///
    /// # Errors
    /// If it cannot be reached or refuses.
    pub async fn post<T: DeserializeOwned>(&self, path: &str, body: &Value) -> Result<T, Error> {
        self.send(self.http.post(format!("{}{path}", self.base)).json(body)).await
    }

    /// Loads register lines, all or none; with `check`, only says what would happen.
    ///
    /// # Errors
    /// What is wrong, line by line; or that the service cannot be reached.
    pub async fn load(&self, lines: String, check: bool) -> Result<Written, Error> {
        let path = format!("{}/api/v1/register?check={check}", self.base);
        self.send(self.http.post(path).header("content-type", "application/x-ndjson").body(lines)).await
    }

    /// Ends a grant, for a reason that is kept.
    ///
    /// # Errors
    /// If there is none of this id, or the service cannot be reached.
    pub async fn end_grant(&self, id: &str, note: &str) -> Result<Written, Error> {
        let mut address = self.path(&["api", "v1", "grants", id])?;
        address.query_pairs_mut().append_pair("note", note);
        self.send(self.http.delete(address)).await
    }

    /// All that is known of an entity.
    ///
    /// # Errors
    /// If it is not registered, or the service cannot be reached.
    pub async fn entity(&self, name: &str) -> Result<Value, Error> {
        self.send(self.http.get(self.path(&["api", "v1", "entities", name])?)).await
    }

    /// Sends JSON to a path that names what it is about, such as `["api", "v1", "keys", id]`.
    ///
    /// # Errors
    /// If it cannot be reached or refuses.
    pub async fn post_to<T: DeserializeOwned>(
        &self,
        segments: &[&str],
        query: &[(&str, &str)],
        body: &Value,
    ) -> Result<T, Error> {
        let address = self.with_query(segments, query)?;
        self.send(self.http.post(address).json(body)).await
    }

    /// Puts JSON at a path.
    ///
    /// # Errors
    /// If it cannot be reached or refuses.
    pub async fn put<T: DeserializeOwned>(&self, segments: &[&str], body: &Value) -> Result<T, Error> {
        self.send(self.http.put(self.path(segments)?).json(body)).await
    }

    /// Ends or deletes what a path names.
    ///
    /// # Errors
    /// If it is not there, or the service cannot be reached or refuses.
    pub async fn delete<T: DeserializeOwned>(
        &self,
        segments: &[&str],
        query: &[(&str, &str)],
    ) -> Result<T, Error> {
        self.send(self.http.delete(self.with_query(segments, query)?)).await
    }

    /// Follows what happens, from after a position on, or from now on.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn follow(&self, after: Option<i64>) -> Result<Changes, Error> {
        let after = after.map(|after| after.to_string());
        let query: Vec<(&str, &str)> = after.iter().map(|after| ("after", after.as_str())).collect();
        let address = self.with_query(&["api", "v1", "changes"], &query)?;
        let request = self.http.get(address).header("accept", "text/event-stream").timeout(FOR_EVER);
        let response = request.bearer_auth(&self.key).send().await;
        let response = response.map_err(|error| Error::Unreachable(chain(&error)))?;
        if !response.status().is_success() {
            let status = response.status();
            let bytes = response.bytes().await.map_err(|error| Error::Unreachable(chain(&error)))?;
            return Err(refusal(status, &bytes));
        }
        Ok(Changes { response, buffer: Vec::new() })
    }

    fn with_query(&self, segments: &[&str], query: &[(&str, &str)]) -> Result<reqwest::Url, Error> {
        let mut address = self.path(segments)?;
        if !query.is_empty() {
            address.query_pairs_mut().extend_pairs(query);
        }
        Ok(address)
    }

    /// An address from its segments, each encoded.
    fn path(&self, segments: &[&str]) -> Result<reqwest::Url, Error> {
        let mut address =
            reqwest::Url::parse(&self.base).map_err(|error| Error::Unusable(error.to_string()))?;
        match address.path_segments_mut() {
            Ok(mut path) => path.pop_if_empty().extend(segments),
            Err(()) => return Err(Error::Unusable(format!("{} is no address", self.base))),
        };
        Ok(address)
    }

    async fn send<T: DeserializeOwned>(&self, request: reqwest::RequestBuilder) -> Result<T, Error> {
        let request = match &self.min_position {
            Some(position) => request.header("ostrog-min-position", position),
            None => request,
        };
        let response =
            request.bearer_auth(&self.key).send().await.map_err(|error| Error::Unreachable(chain(&error)))?;
        let status = response.status();
        let bytes = response.bytes().await.map_err(|error| Error::Unreachable(chain(&error)))?;
        if status.is_success() {
            return serde_json::from_slice(&bytes).map_err(|error| Error::Unreadable(error.to_string()));
        }
        Err(refusal(status, &bytes))
    }
}

fn refusal(status: reqwest::StatusCode, bytes: &[u8]) -> Error {
    match serde_json::from_slice(bytes) {
        Ok(problem) => Error::Refused(problem),
        Err(_) => Error::Unreadable(format!("HTTP {status} without a problem document")),
    }
}

/// What happens, as it happens: server-sent events.
#[derive(Debug)]
pub struct Changes {
    response: reqwest::Response,
    buffer: Vec<u8>,
}

impl Changes {
    /// The next change; none once the service has ended the stream.
    ///
    /// # Errors
    /// If the stream breaks off, or holds what is no change.
    pub async fn next(&mut self) -> Result<Option<Value>, Error> {
        loop {
            // An event ends with an empty line; one without data is a sign of life.
            while let Some(end) = self.buffer.windows(2).position(|pair| pair == b"\n\n") {
                let event: Vec<u8> = self.buffer.drain(..end + 2).collect();
                let text = String::from_utf8_lossy(&event);
                let data: String = text.lines().filter_map(|line| line.strip_prefix("data:")).collect();
                if !data.is_empty() {
                    let change = serde_json::from_str(data.trim());
                    return change.map(Some).map_err(|error| Error::Unreadable(error.to_string()));
                }
            }
            match self.response.chunk().await.map_err(|error| Error::Unreachable(chain(&error)))? {
                Some(bytes) => self.buffer.extend_from_slice(&bytes),
                None => return Ok(None),
            }
        }
    }
}

/// The innermost cause says most.
fn chain(error: &dyn std::error::Error) -> String {
    let mut cause = error;
    while let Some(inner) = cause.source() {
        cause = inner;
    }
    cause.to_string()
}
