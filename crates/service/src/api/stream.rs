//! Register lines without end: read as they come, in force chunk by chunk, a result for each.

use super::PATIENCE;
use super::streams::Open;
use crate::App;
use crate::body::is_lines;
use crate::lanes::Ticket;
use crate::node::gate::Operator;
use crate::node::write::Conditions;
use crate::problem::{Problem, Refused};
use axum::body::{Body, Bytes};
use axum::extract::{Request, State};
use axum::http::header::CONTENT_TYPE;
use axum::response::{IntoResponse as _, Response};
use futures_util::{StreamExt as _, TryStreamExt as _, stream};
use ostrog_core::prelude::{Change, line};
use ostrog_wire::register::LineResult;
use std::convert::Infallible;
use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::time::Duration;
use tokio::io::AsyncRead;
use tokio_util::codec::{FramedRead, LinesCodec, LinesCodecError};
use tokio_util::io::StreamReader;

/// Lines that are made one write, where all of them are valid, and bytes of them.
const CHUNK: usize = 1_000;
const CHUNK_BYTES: usize = 2 << 20;
/// How long a stream may say nothing.
const SILENCE: Duration = Duration::from_secs(300);
/// How long lines are gathered for one write.
const GATHERING: Duration = Duration::from_millis(20);

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
pub async fn load_stream(
    State(app): State<App>,
    operator: Operator,
    request: Request,
) -> Result<Response, Problem> {
    operator.need_to_write()?;
    is_lines(request.headers())?;
    let open = app.streams.open(operator.key_id())?;
    let body = request.into_body().into_data_stream().map_err(io::Error::other);
    let reader: Pin<Box<dyn AsyncRead + Send>> = Box::pin(StreamReader::new(body));
    let lines = FramedRead::new(reader, LinesCodec::new_with_max_length(line::MAX_LINE_BYTES));
    let reading = Reading { writer: Writer { app, operator }, lines, line: 0, ended: false, _open: open };
    let results = stream::unfold(reading, async |mut reading| {
        let results = reading.chunk().await?;
        Some((Ok::<_, Infallible>(Bytes::from(results)), reading))
    });
    Ok(([(CONTENT_TYPE, "application/x-ndjson")], Body::from_stream(results)).into_response())
}

struct Reading {
    writer: Writer,
    lines: FramedRead<Pin<Box<dyn AsyncRead + Send>>, LinesCodec>,
    line: usize,
    ended: bool,
    _open: Open,
}

/// A line with its number.
type Numbered = (usize, String);
/// What it says, or what is wrong with it.
type Read = (usize, Result<Change, String>);

impl Reading {
    /// The results of the next lines; none at the end.
    async fn chunk(&mut self) -> Option<String> {
        let (lines, broken) = self.gather().await;
        if lines.is_empty() && broken.is_none() {
            return None;
        }
        let mut told = self.writer.written(self.writer.read(lines).await).await;
        if let Some(why) = broken {
            told.push(refused(self.line, why));
        }
        let line = |result: &LineResult| serde_json::to_string(result).unwrap_or_default() + "\n";
        Some(told.iter().map(line).collect())
    }

    /// The next lines: what there is at once, or the first that comes; and what it was broken off by.
    async fn gather(&mut self) -> (Vec<Numbered>, Option<String>) {
        let mut lines: Vec<Numbered> = Vec::new();
        let mut bytes = 0;
        while lines.len() < CHUNK && bytes < CHUNK_BYTES && !self.ended {
            let patience = if lines.is_empty() { SILENCE } else { GATHERING };
            match tokio::time::timeout(patience, self.lines.next()).await {
                Err(_) if lines.is_empty() => {
                    self.ended = true;
                    let why = format!("nothing came for {} seconds; nothing more is read", SILENCE.as_secs());
                    return (lines, Some(why));
                }
                Err(_) => break,
                Ok(Some(Ok(text))) => {
                    self.line += 1;
                    bytes += text.len();
                    if !text.trim().is_empty() {
                        lines.push((self.line, text));
                    } else if self.line.is_multiple_of(1024) {
                        // Blank lines without end are no reason to keep others waiting.
                        tokio::task::yield_now().await;
                    }
                }
                Ok(Some(Err(why))) => {
                    // Nothing after it can be told apart from it.
                    self.ended = true;
                    self.line += 1;
                    return (lines, Some(broken(&why)));
                }
                Ok(None) => self.ended = true,
            }
        }
        (lines, None)
    }
}

struct Writer {
    app: App,
    operator: Operator,
}

impl Writer {
    /// Reads lines beside the threads that answer; waits while its key has too much under way.
    async fn read(&self, lines: Vec<Numbered>) -> Vec<Read> {
        let lines = Arc::new(lines);
        loop {
            let all = Arc::clone(&lines);
            let read = |(at, text): &Numbered| (*at, line::parse(text).map_err(|wrong| wrong.to_string()));
            let work = move |_: &Ticket| Ok(all.iter().map(read).collect());
            match self.app.node.lanes.batches.run(self.operator.key_id(), PATIENCE, work).await {
                Err(problem) if problem.status() == 429 => tokio::time::sleep(GATHERING).await,
                Err(problem) => {
                    return lines.iter().map(|(at, _)| (*at, Err(problem.detail().to_owned()))).collect();
                }
                Ok(read) => return read,
            }
        }
    }

    /// Writes what can be written.
    async fn written(&self, lines: Vec<Read>) -> Vec<LineResult> {
        let valid: Option<Vec<Change>> =
            lines.iter().map(|(_, change)| change.as_ref().ok().cloned()).collect();
        if let Some(changes) = valid
            && let Ok(position) = self.write(changes).await
        {
            return lines.iter().map(|(at, _)| in_force(*at, position.clone())).collect();
        }
        let mut told = Vec::with_capacity(lines.len());
        for (at, change) in lines {
            let done = match change {
                Ok(change) => self.write(vec![change]).await.map_err(|problem| problem.detail().to_owned()),
                Err(why) => Err(why),
            };
            told.push(match done {
                Ok(position) => in_force(at, position),
                Err(why) => refused(at, why),
            });
        }
        told
    }

    async fn write(&self, changes: Vec<Change>) -> Result<String, Problem> {
        // A stream may last: the key must still count, and may see something else by now.
        let scope = self.operator.again()?;
        Ok(scope.change(changes, None, Conditions::default()).await?.position)
    }
}

fn in_force(line: usize, position: String) -> LineResult {
    LineResult { line, position: Some(position), error: None }
}

fn refused(line: usize, why: String) -> LineResult {
    LineResult { line, position: None, error: Some(why) }
}

fn broken(why: &LinesCodecError) -> String {
    match why {
        LinesCodecError::MaxLineLengthExceeded => {
            format!("a line has at most {} bytes; nothing after it was read", line::MAX_LINE_BYTES)
        }
        LinesCodecError::Io(error) if error.kind() == io::ErrorKind::InvalidData => {
            "it is not UTF-8".to_owned()
        }
        LinesCodecError::Io(_) => "the body could not be read to its end".to_owned(),
    }
}
