//! Register lines without end: read as they come, in force chunk by chunk, a result for each.

use crate::App;
use crate::caller::Operator;
use crate::node::{By, Wanted};
use crate::problem::{Problem, Refused};
use axum::body::{Body, BodyDataStream, Bytes};
use axum::extract::{Request, State};
use axum::http::header;
use axum::response::{IntoResponse as _, Response};
use futures_util::{StreamExt as _, stream};
use jiff::Timestamp;
use ostrog_core::prelude::{Change, line};
use serde_json::{Value, json};
use std::convert::Infallible;

/// Lines that are made one write, where all of them are valid.
const CHUNK: usize = 1_000;
/// Longest line, in bytes.
const MAX_LINE: usize = line::MAX_LINE_BYTES;

/// Loads register lines (NDJSON) of any number, as they come, and answers each with a line:
/// `{"line":1,"position":"…"}`, or `{"line":2,"error":"…"}` for one that is refused. Lines that are
/// valid stay in force whatever becomes of others.
///
/// A thousand lines at a time are one write. If one of them is refused, each is tried by itself. A line
/// may name only what is registered by then, or within its thousand.
#[utoipa::path(post, path = "/api/v1/register/stream", tag = "register",
    request_body(content = String, content_type = "application/x-ndjson"),
    responses(
        (status = 200, description = "A result for each line, as NDJSON", body = String, content_type = "application/x-ndjson"),
        Refused,
    ), security(("key" = [])))]
pub async fn stream(State(app): State<App>, operator: Operator, request: Request) -> Response {
    let writer = Writer { app, operator };
    let body = request.into_body().into_data_stream();
    let reading = Reading { writer, body, rest: Vec::new(), line: 0, ended: false };
    let results = stream::unfold(reading, async |mut reading| {
        let results = reading.chunk().await?;
        Some((Ok::<_, Infallible>(Bytes::from(results)), reading))
    });
    ([(header::CONTENT_TYPE, "application/x-ndjson")], Body::from_stream(results)).into_response()
}

struct Reading {
    writer: Writer,
    body: BodyDataStream,
    /// What was read and is not yet a line.
    rest: Vec<u8>,
    line: usize,
    ended: bool,
}

impl Reading {
    /// The results of the next lines; none at the end.
    async fn chunk(&mut self) -> Option<String> {
        let mut lines: Vec<(usize, Result<Change, String>)> = Vec::new();
        let mut broken = None;
        while lines.len() < CHUNK && broken.is_none() {
            match self.next_line().await {
                Ok(Some(text)) if text.trim().is_empty() => {}
                Ok(Some(text)) => lines.push((self.line, line::parse(&text))),
                Ok(None) => break,
                Err(why) => broken = Some(why),
            }
        }
        if lines.is_empty() && broken.is_none() {
            return None;
        }
        let mut told = self.writer.written(lines).await;
        if let Some(why) = broken {
            // Nothing after it can be told apart from it.
            self.ended = true;
            told.push(json!({ "line": self.line, "error": why }));
        }
        Some(told.iter().map(|line| format!("{line}\n")).collect())
    }

    async fn next_line(&mut self) -> Result<Option<String>, String> {
        loop {
            if let Some(end) = self.rest.iter().position(|byte| *byte == b'\n') {
                let line: Vec<u8> = self.rest.drain(..=end).collect();
                self.line += 1;
                return String::from_utf8(line).map(Some).map_err(|_| "it is not UTF-8".to_owned());
            }
            if self.ended {
                let last = std::mem::take(&mut self.rest);
                self.line += usize::from(!last.is_empty());
                let text = String::from_utf8(last).map_err(|_| "it is not UTF-8".to_owned())?;
                return Ok((!text.is_empty()).then_some(text));
            }
            if self.rest.len() > MAX_LINE {
                self.line += 1;
                self.rest.clear();
                return Err(format!("a line has at most {MAX_LINE} bytes; nothing after it was read"));
            }
            match self.body.next().await {
                Some(Ok(bytes)) => self.rest.extend_from_slice(&bytes),
                Some(Err(_)) | None => self.ended = true,
            }
        }
    }
}

struct Writer {
    app: App,
    operator: Operator,
}

impl Writer {
    /// Writes what can be written.
    async fn written(&self, lines: Vec<(usize, Result<Change, String>)>) -> Vec<Value> {
        let valid: Option<Vec<Change>> =
            lines.iter().map(|(_, change)| change.as_ref().ok().cloned()).collect();
        if let Some(changes) = valid
            && let Ok(position) = self.write(changes).await
        {
            return lines.iter().map(|(at, _)| json!({ "line": at, "position": position })).collect();
        }
        let mut told = Vec::with_capacity(lines.len());
        for (at, change) in lines {
            let done = match change {
                Ok(change) => self.write(vec![change]).await.map_err(|problem| problem.detail),
                Err(why) => Err(why),
            };
            told.push(match done {
                Ok(position) => json!({ "line": at, "position": position }),
                Err(why) => json!({ "line": at, "error": why }),
            });
        }
        told
    }

    async fn write(&self, changes: Vec<Change>) -> Result<String, Problem> {
        // A stream may last: the key must still count.
        let known = self.app.node.key_by_id(&self.operator.key.id);
        if !known.is_some_and(|key| key.counts(Timestamp::now())) {
            return Err(Problem::unauthenticated("The key has ended."));
        }
        let by = By::operator(self.operator.again(), None);
        let written = self.app.node.change(changes, by, Wanted::default()).await?;
        Ok(format!("{}.{}", self.app.node.state().epoch, written.position))
    }
}
