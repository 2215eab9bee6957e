//! Connections: how many, for how long, and how a request that cannot be read is told.
//!
//! A connection that says nothing is the first to go where there is no room for another. One that sends a
//! request may take its time with it only within limits, so that nobody needs a key to be kept out, and
//! nobody without one can keep others out.

use crate::problem::Problem;
use crate::{App, router};
use axum::Router;
use axum::extract::Request;
use axum::response::{IntoResponse as _, Response};
use http_body_util::BodyExt as _;
use hyper::body::Incoming;
use hyper::service::service_fn;
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use hyper_util::server::conn::auto;
use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
use std::collections::HashMap;
use std::convert::Infallible;
use std::io;
use std::pin::Pin;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::task::{Context, Poll, ready};
use std::time::{Duration, Instant};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Notify;
use tower::ServiceExt as _;

/// Most connections at a time; fewer where the system does not let the program have as many files.
const MAX_CONNECTIONS: usize = 4_096;
/// Files that are not connections: the database's, the program's own.
const OTHER_FILES: usize = 128;
/// How often it is looked for connections that have been idle too long, as a part of how long they may be.
const SWEEPS: u32 = 12;
/// Largest header, in bytes.
const MAX_HEADER: usize = 32 << 10;
/// Longest address, in bytes.
const MAX_ADDRESS: usize = 16 << 10;
/// Most requests of one connection at a time, where it may have several (HTTP/2).
const MAX_AT_A_TIME: u32 = 64;
/// How long open requests are waited for at the end.
const FAREWELL: Duration = Duration::from_secs(10);

/// What connections may take.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// How many there may be at a time.
    pub connections: usize,
    /// How long the header of a request may take.
    pub header: Duration,
    /// How long one may be idle.
    pub idle: Duration,
}

impl Default for Limits {
    /// As many connections as the system lets the program have files, and not more than 4096.
    fn default() -> Limits {
        Limits { connections: room(), header: Duration::from_secs(30), idle: Duration::from_secs(60) }
    }
}

/// Serves until `stop` resolves, then answers what is open and returns.
///
/// # Errors
/// If the listener fails.
pub async fn serve(
    listener: TcpListener,
    app: App,
    limits: Limits,
    stop: impl Future<Output = ()> + Send + 'static,
) -> io::Result<()> {
    let connections = Arc::new(Connections::new(limits));
    let (node, jobs) = (Arc::clone(&app.node), Arc::clone(&app.jobs));
    let router = router(app);
    let mut stop = std::pin::pin!(stop);
    let mut sweep = tokio::time::interval(limits.idle / SWEEPS);
    loop {
        let stream = tokio::select! {
            _ = sweep.tick() => {
                connections.sweep();
                continue;
            }
            accepted = listener.accept() => match accepted {
                Ok((stream, _)) => stream,
                Err(error) => {
                    // Too many files are open, or the other side went away: neither ends the service.
                    tracing::warn!(%error, "a connection was not accepted");
                    connections.make_room();
                    tokio::time::sleep(Duration::from_millis(20)).await;
                    continue;
                }
            },
            () = &mut stop => break,
        };
        let _ = stream.set_nodelay(true);
        let Some(connection) = connections.add() else {
            // Nobody is idle: whoever comes now is told, and not kept waiting.
            drop(stream);
            continue;
        };
        tokio::spawn(serve_one(stream, connection, router.clone()));
    }
    drop(listener);
    node.stop();
    jobs.stop();
    if tokio::time::timeout(FAREWELL, connections.end()).await.is_err() {
        tracing::warn!("some requests were still open at the end");
    }
    Ok(())
}

/// How many connections there is room for. The program takes as many files as it is let.
fn room() -> usize {
    let limit = getrlimit(Resource::Nofile);
    if let Err(error) = setrlimit(Resource::Nofile, Rlimit { current: limit.maximum, ..limit }) {
        tracing::debug!(%error, "the number of open files stays as it is");
    }
    let files = getrlimit(Resource::Nofile).current.and_then(|files| usize::try_from(files).ok());
    files.map_or(MAX_CONNECTIONS, |files| MAX_CONNECTIONS.min(files.saturating_sub(OTHER_FILES)).max(16))
}

/// Serves one connection to its end.
async fn serve_one(stream: TcpStream, connection: Connection, router: Router) {
    let header = connection.connections.limits.header;
    let mut builder = auto::Builder::new(TokioExecutor::new());
    builder.http1().timer(TokioTimer::new()).header_read_timeout(header).max_buf_size(MAX_HEADER);
    builder
        .http2()
        .timer(TokioTimer::new())
        .max_concurrent_streams(MAX_AT_A_TIME)
        .max_header_list_size(u32::try_from(MAX_HEADER).unwrap_or(u32::MAX))
        .keep_alive_interval(Some(header))
        .keep_alive_timeout(header);
    let state = Arc::clone(&connection.state);
    let service = service_fn(|request: hyper::Request<Incoming>| {
        let busy = Busy::new(&state);
        answer(request, router.clone(), busy)
    });
    let io = TokioIo::new(Explained::new(stream));
    let mut serving = std::pin::pin!(builder.serve_connection(io, service));
    tokio::select! {
        ended = serving.as_mut() => {
            if let Err(error) = ended {
                tracing::debug!(%error, "a connection broke off");
            }
            return;
        }
        () = connection.state.go.notified() => {}
    }
    // What is being answered is answered; then it ends.
    if connection.state.busy.load(Ordering::Relaxed) > 0 {
        serving.as_mut().graceful_shutdown();
        let _ = serving.await;
    }
}

/// Answers a request, and counts the connection as busy until the answer is sent.
async fn answer(
    request: hyper::Request<Incoming>,
    router: Router,
    busy: Busy,
) -> Result<Response, Infallible> {
    if request.uri().path_and_query().is_some_and(|address| address.as_str().len() > MAX_ADDRESS) {
        return Ok(Problem::too_long(format!("An address has at most {MAX_ADDRESS} bytes.")).into_response());
    }
    let request: Request = request.map(axum::body::Body::new);
    let response = router.oneshot(request).await?;
    Ok(response.map(|body| {
        let kept = body.map_frame(move |frame| {
            let _ = &busy;
            frame
        });
        axum::body::Body::new(kept)
    }))
}

// -- which connections there are -----------------------------------------------------------------

/// The connections that are open.
struct Connections {
    limits: Limits,
    open: Mutex<HashMap<u64, Arc<State>>>,
    next: AtomicU64,
    gone: Notify,
}

/// How one connection stands.
struct State {
    /// Requests that are being answered.
    busy: AtomicUsize,
    /// When it last began or ended one.
    since: Mutex<Instant>,
    /// Asks it to end.
    go: Notify,
}

impl State {
    fn since(&self) -> MutexGuard<'_, Instant> {
        self.since.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// One that is open for as long as this is kept.
struct Connection {
    connections: Arc<Connections>,
    number: u64,
    state: Arc<State>,
}

impl Connections {
    fn new(limits: Limits) -> Connections {
        Connections { limits, open: Mutex::default(), next: AtomicU64::new(0), gone: Notify::new() }
    }

    fn open(&self) -> MutexGuard<'_, HashMap<u64, Arc<State>>> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Adds one more, in place of the one that has been idle longest if there are too many; none if
    /// nobody is idle.
    fn add(self: &Arc<Self>) -> Option<Connection> {
        if self.open().len() >= self.limits.connections && !self.make_room() {
            return None;
        }
        let state = Arc::new(State {
            busy: AtomicUsize::new(0),
            since: Mutex::new(Instant::now()),
            go: Notify::new(),
        });
        let number = self.next.fetch_add(1, Ordering::Relaxed);
        self.open().insert(number, Arc::clone(&state));
        Some(Connection { connections: Arc::clone(self), number, state })
    }

    /// Asks the one that has been idle longest to go; false if nobody is idle.
    fn make_room(&self) -> bool {
        let mut open = self.open();
        let idle = open.iter().filter(|(_, state)| state.busy.load(Ordering::Relaxed) == 0);
        let oldest = idle.min_by_key(|(_, state)| *state.since());
        let Some(number) = oldest.map(|(number, _)| *number) else { return false };
        if let Some(state) = open.remove(&number) {
            state.go.notify_one();
        }
        true
    }

    /// Asks those to go that have been idle for long.
    fn sweep(&self) {
        let is_idle = |state: &State| {
            state.busy.load(Ordering::Relaxed) == 0 && state.since().elapsed() > self.limits.idle
        };
        self.open().retain(|_, state| {
            let idle = is_idle(state);
            if idle {
                state.go.notify_one();
            }
            !idle
        });
    }

    /// Asks all to end, and waits until they have.
    async fn end(&self) {
        loop {
            let gone = self.gone.notified();
            {
                let open = self.open();
                if open.is_empty() {
                    return;
                }
                open.values().for_each(|state| state.go.notify_one());
            }
            gone.await;
        }
    }
}

impl Drop for Connection {
    fn drop(&mut self) {
        self.connections.open().remove(&self.number);
        self.connections.gone.notify_one();
    }
}

/// Marks a connection as busy for as long as this is kept.
struct Busy(Arc<State>);

impl Busy {
    fn new(state: &Arc<State>) -> Busy {
        state.busy.fetch_add(1, Ordering::Relaxed);
        Busy(Arc::clone(state))
    }
}

impl Drop for Busy {
    fn drop(&mut self) {
        *self.0.since() = Instant::now();
        self.0.busy.fetch_sub(1, Ordering::Relaxed);
    }
}

// -- requests that cannot be read ----------------------------------------------------------------

/// A connection on which a refusal of the HTTP library, which has no body, is told as every other is: the
/// library lets nobody say how it refuses what it cannot read.
struct Explained {
    stream: TcpStream,
    /// What is written in place of it, and how much of that is.
    instead: Vec<u8>,
    written: usize,
}

impl Explained {
    fn new(stream: TcpStream) -> Explained {
        Explained { stream, instead: Vec::new(), written: 0 }
    }

    /// Writes what stands in the place of what the library wrote.
    fn drain(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        while self.written < self.instead.len() {
            let rest = &self.instead[self.written..];
            let written = ready!(Pin::new(&mut self.stream).poll_write(context, rest))?;
            if written == 0 {
                return Poll::Ready(Err(io::ErrorKind::WriteZero.into()));
            }
            self.written += written;
        }
        Poll::Ready(Ok(()))
    }
}

/// What is told in place of a refusal without a body; none if this is no such thing.
fn told(head: &[u8]) -> Option<Vec<u8>> {
    if !head.starts_with(b"HTTP/1.1 4") || !head.ends_with(b"\r\n\r\n") || head.len() > 512 {
        return None;
    }
    let text = std::str::from_utf8(head).ok()?;
    let empty = text.lines().any(|line| line.eq_ignore_ascii_case("content-length: 0"));
    let problem = match text.get(9..12).filter(|_| empty)? {
        "414" => Problem::too_long(format!("An address has at most {MAX_ADDRESS} bytes.")),
        "431" => Problem::too_large_header(format!("A header has at most {MAX_HEADER} bytes.")),
        "400" => Problem::malformed("This is no HTTP request."),
        _ => return None,
    };
    let document = problem.into_document();
    let line = text.lines().next()?;
    let body = serde_json::to_string(&document).ok()?;
    let length = body.len();
    let head = format!(
        "{line}\r\ncontent-type: application/problem+json\r\ncache-control: no-store\r\nconnection: close\r\ncontent-length: {length}\r\n\r\n"
    );
    Some((head + &body).into_bytes())
}

impl AsyncRead for Explained {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_read(context, buffer)
    }
}

impl AsyncWrite for Explained {
    fn poll_write(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<io::Result<usize>> {
        if self.instead.is_empty() {
            match told(bytes) {
                None => return Pin::new(&mut self.stream).poll_write(context, bytes),
                Some(instead) => self.instead = instead,
            }
        }
        ready!(self.drain(context))?;
        self.instead = Vec::new();
        self.written = 0;
        Poll::Ready(Ok(bytes.len()))
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(context)
    }
}
