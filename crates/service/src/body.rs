//! What a call carries: bodies of a bounded size, read in a bounded time and memory, as strict JSON;
//! parameters and parts of the path.

use crate::App;
use crate::problem::Problem;
use axum::extract::{FromRequest, FromRequestParts, Path, Query, Request};
use axum::http::HeaderMap;
use axum::http::header::CONTENT_TYPE;
use axum::http::request::Parts;
use http_body_util::BodyExt as _;
use mime::Mime;
use ostrog_wire::strict;
use serde::de::DeserializeOwned;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use tokio::time::Instant;

/// Largest body of an ordinary call, in bytes.
pub const SMALL: usize = 1 << 20;
/// Largest body of a call that takes whole files, in bytes.
pub const LARGE: usize = 32 << 20;
/// How much of all bodies together is kept while they are read and worked on, and of one key's.
const MAX_HELD: usize = 256 << 20;
const MAX_HELD_OF_ONE: usize = 64 << 20;
/// A body of many small values takes several times its size once it is read.
const READ: usize = 8;
/// Bodies of so many bytes are read at once; larger ones beside the threads that answer decisions.
pub const FEW: usize = 16 << 10;
/// How long a body may say nothing, and how long it may take.
const SILENCE: Duration = Duration::from_secs(5);
const PATIENCE: Duration = Duration::from_secs(20);

/// Whose call it is, for whoever reads what it carries.
#[derive(Clone, Debug)]
pub struct Caller(pub Arc<str>);

/// Room for bodies.
#[derive(Clone, Debug, Default)]
pub struct Room(Arc<Mutex<Holding>>);

#[derive(Debug, Default)]
struct Holding {
    all: usize,
    by_key: HashMap<Arc<str>, usize>,
}

/// Room that is taken for as long as this is kept.
#[derive(Debug)]
pub struct Held {
    room: Room,
    key: Arc<str>,
    bytes: usize,
}

impl Room {
    fn holding(&self) -> MutexGuard<'_, Holding> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Begins to take room for a key.
    fn of(&self, key: &Arc<str>) -> Held {
        Held { room: self.clone(), key: Arc::clone(key), bytes: 0 }
    }
}

impl Held {
    /// Takes more.
    fn grow(&mut self, bytes: usize) -> Result<(), Problem> {
        let mut holding = self.room.holding();
        if holding.all + bytes > MAX_HELD {
            return Err(Problem::unavailable(
                "The node holds as many bodies as it can; come again, or ask another.",
            ));
        }
        let of_key = holding.by_key.entry(Arc::clone(&self.key)).or_default();
        if *of_key + bytes > MAX_HELD_OF_ONE {
            return Err(Problem::too_many(
                "Too much of this key is being read already; send less at a time.",
            ));
        }
        *of_key += bytes;
        holding.all += bytes;
        self.bytes += bytes;
        Ok(())
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        if self.bytes == 0 {
            return;
        }
        let mut holding = self.room.holding();
        holding.all -= self.bytes;
        if let Some(of_key) = holding.by_key.get_mut(&self.key) {
            *of_key -= self.bytes;
            if *of_key == 0 {
                holding.by_key.remove(&self.key);
            }
        }
    }
}

/// A JSON body of a type, of at most `LIMIT` bytes. Duplicate keys, lists in the place of objects, too
/// deep a nesting and unknown shapes are refused.
#[derive(Debug)]
pub struct StrictJson<T, const LIMIT: usize = SMALL>(pub T, pub Held);

impl<T: DeserializeOwned + Send + 'static, const LIMIT: usize> FromRequest<App> for StrictJson<T, LIMIT> {
    type Rejection = Problem;

    async fn from_request(request: Request, app: &App) -> Result<Self, Problem> {
        is_of(request.headers(), &mime::APPLICATION_JSON)?;
        let (bytes, held) = body(request, LIMIT, app).await?;
        if bytes.len() <= FEW {
            return read(&bytes).map(|value| StrictJson(value, held));
        }
        let key = Arc::clone(&held.key);
        let lane = &app.node.lanes.batches;
        lane.run(&key, PATIENCE, move |_| read(&bytes).map(|value| StrictJson(value, held))).await
    }
}

/// Reads JSON strictly.
///
/// # Errors
/// If it is none, holds a key twice, nests too deep, or does not fit.
pub fn read<T: DeserializeOwned>(bytes: &[u8]) -> Result<T, Problem> {
    strict::from_slice(bytes).map_err(|why| Problem::malformed(format!("The body cannot be read: {why}.")))
}

/// The bytes of a JSON body.
#[derive(Debug)]
pub struct JsonBytes(pub Vec<u8>, pub Held);

impl FromRequest<App> for JsonBytes {
    type Rejection = Problem;

    async fn from_request(request: Request, app: &App) -> Result<Self, Problem> {
        is_of(request.headers(), &mime::APPLICATION_JSON)?;
        body(request, SMALL, app).await.map(|(bytes, held)| JsonBytes(bytes, held))
    }
}

/// A body of lines of JSON.
#[derive(Debug)]
pub struct Lines(pub String, pub Held);

impl FromRequest<App> for Lines {
    type Rejection = Problem;

    async fn from_request(request: Request, app: &App) -> Result<Self, Problem> {
        is_lines(request.headers())?;
        let (bytes, held) = body(request, LARGE, app).await?;
        let text = String::from_utf8(bytes).map_err(|_| Problem::malformed("The body is not UTF-8."))?;
        Ok(Lines(text, held))
    }
}

/// Refuses what is not sent as lines of JSON: a form of another page could be sent as text.
pub fn is_lines(headers: &HeaderMap) -> Result<(), Problem> {
    let lines: Mime = "application/x-ndjson".parse().unwrap_or(mime::APPLICATION_JSON);
    is_of(headers, &lines)
}

fn is_of(headers: &HeaderMap, wanted: &Mime) -> Result<(), Problem> {
    let sent = headers.get(CONTENT_TYPE).and_then(|value| value.to_str().ok()?.parse::<Mime>().ok());
    let utf_8 = |sent: &Mime| sent.get_param(mime::CHARSET).is_none_or(|charset| charset == mime::UTF_8);
    if sent.is_some_and(|sent| sent.essence_str() == wanted.essence_str() && utf_8(&sent)) {
        return Ok(());
    }
    Err(Problem::wrong_media_type(format!("Send Content-Type: {wanted}.")))
}

/// Query parameters of a type; unknown ones are refused.
#[derive(Debug)]
pub struct Params<T>(pub T);

impl<T: DeserializeOwned> FromRequestParts<App> for Params<T> {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Problem> {
        if parts.uri.query().is_some_and(|query| query.contains("%00")) {
            return Err(Problem::malformed("A parameter holds U+0000."));
        }
        let query = Query::<T>::from_request_parts(parts, app).await;
        query
            .map(|Query(params)| Params(params))
            .map_err(|rejection| Problem::malformed(rejection.body_text()))
    }
}

/// Parts of the path.
#[derive(Debug)]
pub struct InPath<T>(pub T);

impl<T: DeserializeOwned + Send> FromRequestParts<App> for InPath<T> {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Problem> {
        let path = Path::<T>::from_request_parts(parts, app).await;
        path.map(|Path(path)| InPath(path)).map_err(|rejection| Problem::malformed(rejection.body_text()))
    }
}

/// Reads a body of at most `limit` bytes, if there is room for it.
///
/// One that is longer is read to its end all the same, as far as that is reasonable: a client that
/// is still sending would otherwise see a broken connection instead of the refusal.
async fn body(request: Request, limit: usize, app: &App) -> Result<(Vec<u8>, Held), Problem> {
    let nobody = || Caller("".into());
    let Caller(key) = request.extensions().get::<Caller>().cloned().unwrap_or_else(nobody);
    let mut held = app.room.of(&key);
    let mut body = request.into_body();
    let mut bytes = Vec::new();
    let mut length = 0usize;
    let until = Instant::now() + PATIENCE;
    loop {
        let next = until.min(Instant::now() + SILENCE);
        let Ok(frame) = tokio::time::timeout_at(next, body.frame()).await else {
            let seconds = SILENCE.as_secs();
            return Err(Problem::too_slow(format!(
                "The body did not arrive: it may be silent for {seconds} seconds, and take {}.",
                PATIENCE.as_secs()
            )));
        };
        let Some(frame) = frame else { break };
        let frame = frame.map_err(|_| Problem::malformed("The body could not be read to its end."))?;
        let Ok(data) = frame.into_data() else { continue };
        length += data.len();
        if length <= limit {
            held.grow(if limit > SMALL { data.len() } else { READ * data.len() })?;
            bytes.extend_from_slice(&data);
        } else {
            bytes = Vec::new();
        }
        if length > limit + LARGE {
            break;
        }
    }
    if length > limit {
        return Err(Problem::too_large(format!(
            "The body is larger than the {limit} bytes this call takes."
        )));
    }
    Ok((bytes, held))
}
