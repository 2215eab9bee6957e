//! All issuers of a node: their keys, asked for ahead and in the background; and what was verified lately.

use crate::discovery::{self, Undiscovered, is_loopback};
use crate::jws::Jws;
use crate::keys::{KeySet, KeyTold, MAX_BYTES, NoKeys};
use crate::verify::{Refused, Terms, Verified, is_for, verify};
use heck::ToKebabCase as _;
use jiff::{SignedDuration, Timestamp};
use lru::LruCache;
use serde_json::Value;
use sha2::{Digest as _, Sha256};
use std::collections::{BTreeMap, HashMap};
use std::future::Future;
use std::num::NonZeroUsize;
use std::pin::Pin;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, RwLock};
use std::time::Duration;
use tokio::sync::Semaphore;
use url::Url;

/// How often an unknown key may make an issuer be asked again.
const AGAIN: SignedDuration = SignedDuration::from_secs(30);
/// How long the last good keys count when no others can be had.
const OUTAGE: SignedDuration = SignedDuration::from_hours(24);
/// How old keys may be before they are asked for in the background.
pub const FRESH: SignedDuration = SignedDuration::from_mins(5);
/// How many tokens wait for one issuer's keys at most, and how long.
const WAITING: usize = 64;
const PATIENCE: Duration = Duration::from_secs(2);
/// How many verified tokens are remembered.
const REMEMBERED: usize = 20_000;

/// An answer that comes later.
pub type Later<'f, T> = Pin<Box<dyn Future<Output = T> + Send + 'f>>;

/// Where a fetch may lead.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Reach {
    /// To this machine.
    pub loopback: bool,
    /// To private and link-local addresses.
    pub private: bool,
}

/// Fetches documents: without redirects, from the address that was looked at, within its time.
pub trait Fetch: Send + Sync {
    /// The body of what stands there, of at most so many bytes.
    fn get<'f>(&'f self, url: &'f Url, reach: Reach, most: usize) -> Later<'f, Result<Vec<u8>, Unfetched>>;
}

/// Why something could not be fetched.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Unfetched {
    /// No connection.
    #[error("nobody answers there")]
    Unreachable,
    /// An address that may not be asked.
    #[error("it leads to an address that may not be asked ({0})")]
    Forbidden(&'static str),
    /// Another status than 200, redirects among them.
    #[error("it answered with status {0}")]
    Status(u16),
    /// Too large.
    #[error("it is larger than {0} bytes")]
    TooLarge(usize),
    /// Too slow.
    #[error("it took more than {0} s")]
    TooSlow(u64),
}

/// Where an issuer's keys are.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum KeySource {
    /// Where it says.
    Discovered,
    /// In a file, which is kept with it.
    File(Vec<u8>),
}

/// An issuer as an operator set it up.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Config {
    /// Its key in charters.
    pub key: String,
    /// Its `iss`.
    pub iss: String,
    /// By application, the audiences its tokens may name.
    pub audiences: BTreeMap<String, Vec<String>>,
    /// Where its keys are.
    pub source: KeySource,
    /// Whether private and link-local addresses may be asked.
    pub private: bool,
    /// Whether its ID tokens count.
    pub id_tokens: bool,
}

/// An issuer with its keys.
#[derive(Debug)]
pub struct Issuer {
    /// As it was set up.
    pub config: Config,
    state: Mutex<State>,
    /// One asks for the keys, others wait for it.
    asking: tokio::sync::Mutex<()>,
    waiting: Semaphore,
}

#[derive(Clone, Debug, Default)]
struct State {
    keys: Option<Arc<KeySet>>,
    /// When these came.
    came: Option<Timestamp>,
    /// When they were last asked for.
    asked: Option<Timestamp>,
    failed: Option<String>,
    /// The last refusal of a token, and when.
    refused: Option<(Timestamp, Refused)>,
    /// How many tokens were refused, and why.
    refusals: HashMap<Refused, u64>,
}

/// How an issuer stands.
#[derive(Clone, Debug)]
pub struct Standing {
    /// Its keys.
    pub keys: Vec<KeyTold>,
    /// When they came.
    pub came: Option<Timestamp>,
    /// Why the last attempt to have them failed.
    pub failed: Option<String>,
    /// Why a token was last refused, and when.
    pub refused: Option<(Timestamp, String)>,
}

/// One step of finding an issuer's keys.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Step {
    /// What was done.
    pub what: String,
    /// Whether it went well.
    pub ok: bool,
    /// What came of it, without anything that was fetched.
    pub words: String,
}

/// Why keys could not be had.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
enum Unkept {
    #[error("{0}")]
    Undiscovered(#[from] Undiscovered),
    #[error("the keys: {0}")]
    Unfetched(#[from] Unfetched),
    #[error("{0}")]
    NoKeys(#[from] NoKeys),
}

impl Issuer {
    /// Sets one up; keys that stand in a file are read at once.
    ///
    /// # Errors
    /// If that file holds none.
    pub fn new(config: Config, now: Timestamp) -> Result<Issuer, NoKeys> {
        let mut state = State::default();
        if let KeySource::File(text) = &config.source {
            state.keys = Some(Arc::new(KeySet::read(text)?));
            state.came = Some(now);
        }
        let state = Mutex::new(state);
        Ok(Issuer { config, state, asking: tokio::sync::Mutex::default(), waiting: Semaphore::new(WAITING) })
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn terms(&self) -> Terms<'_> {
        Terms { iss: &self.config.iss, id_tokens: self.config.id_tokens }
    }

    /// Its keys, unless they are too old to count.
    fn keys(&self, now: Timestamp) -> Result<Arc<KeySet>, Refused> {
        let state = self.state();
        let lasts = matches!(self.config.source, KeySource::File(_))
            || state.came.is_some_and(|came| now.duration_since(came) < OUTAGE);
        state.keys.clone().filter(|_| lasts).ok_or(Refused::NoKeys)
    }

    /// How it stands.
    pub fn standing(&self) -> Standing {
        let state = self.state().clone();
        Standing {
            keys: state.keys.map(|keys| keys.told.clone()).unwrap_or_default(),
            came: state.came,
            failed: state.failed,
            refused: state.refused.map(|(at, why)| (at, why.to_string())),
        }
    }

    /// How many of its tokens were refused, by why: `expired`, `unknown-key`.
    pub fn refusals(&self) -> Vec<(String, u64)> {
        let all = self.state().refusals.clone();
        all.into_iter().map(|(why, times)| (format!("{why:?}").to_kebab_case(), times)).collect()
    }

    /// Whether its keys are to be asked for ahead.
    fn is_due(&self, now: Timestamp) -> bool {
        let state = self.state();
        self.config.source == KeySource::Discovered
            && state.came.is_none_or(|came| now.duration_since(came) >= FRESH)
            && state.asked.is_none_or(|asked| now.duration_since(asked) >= AGAIN)
    }

    /// Asks for the keys, unless that was done lately. Whoever comes while they are asked for waits for them.
    async fn ask(&self, fetch: &dyn Fetch, now: Timestamp, kid: Option<&str>) -> Result<(), Refused> {
        if self.config.source != KeySource::Discovered {
            return Err(Refused::UnknownKey);
        }
        let _place = self.waiting.try_acquire().map_err(|_| Refused::Busy)?;
        let asked = async {
            let _one = self.asking.lock().await;
            let known =
                |state: &State| state.keys.as_ref().is_some_and(|keys| kid.is_none_or(|kid| keys.knows(kid)));
            let state = self.state().clone();
            if known(&state) && state.came.is_some_and(|came| now.duration_since(came) < OUTAGE) {
                return Ok(());
            }
            if state.asked.is_some_and(|asked| now.duration_since(asked) < AGAIN) {
                return Err(if state.keys.is_some() { Refused::UnknownKey } else { Refused::NoKeys });
            }
            self.fetch(fetch, now).await;
            if self.state().keys.is_some() { Ok(()) } else { Err(Refused::NoKeys) }
        };
        tokio::time::timeout(PATIENCE, asked).await.unwrap_or(Err(Refused::NoKeys))
    }

    async fn fetch(&self, fetch: &dyn Fetch, now: Timestamp) {
        self.state().asked = Some(now);
        let found = self.find(fetch).await;
        let mut state = self.state();
        match found {
            Ok(keys) => {
                (state.keys, state.came, state.failed) = (Some(Arc::new(keys)), Some(now), None);
            }
            Err(why) => {
                tracing::warn!(issuer = self.config.key, %why, "the keys of an issuer cannot be had");
                state.failed = Some(why.to_string());
            }
        }
    }

    async fn find(&self, fetch: &dyn Fetch) -> Result<KeySet, Unkept> {
        let (iss, private) = (&self.config.iss, self.config.private);
        let keys = discovery::discover(fetch, iss, private).await?;
        let loopback = discovery::issuer(iss).is_ok_and(|issuer| is_loopback(&issuer));
        let text = fetch.get(&keys, Reach { loopback, private }, MAX_BYTES).await?;
        Ok(KeySet::read(&text)?)
    }

    /// Tells step by step what is found, and keeps nothing of it.
    pub async fn attempt(&self, fetch: &dyn Fetch) -> (Vec<Step>, Vec<KeyTold>) {
        let mut steps = Vec::new();
        let mut step = |what: &str, done: Result<String, String>| {
            let (ok, words) = match done {
                Ok(words) => (true, words),
                Err(words) => (false, words),
            };
            steps.push(Step { what: what.to_owned(), ok, words });
            ok
        };
        let keys = match &self.config.source {
            KeySource::File(text) => KeySet::read(text).map_err(|why| why.to_string()),
            KeySource::Discovered => {
                let (iss, private) = (&self.config.iss, self.config.private);
                let found = discovery::discover(fetch, iss, private).await;
                let told = found.as_ref().map(|url| format!("its keys are at {}", place(url)));
                if !step("ask where its keys are", told.map_err(ToString::to_string)) {
                    return (steps, Vec::new());
                }
                let Ok(url) = found else { return (steps, Vec::new()) };
                let loopback = discovery::issuer(iss).is_ok_and(|issuer| is_loopback(&issuer));
                let text = fetch.get(&url, Reach { loopback, private }, MAX_BYTES).await;
                let told = text.as_ref().map(|text| format!("{} bytes", text.len()));
                if !step("fetch them", told.map_err(ToString::to_string)) {
                    return (steps, Vec::new());
                }
                KeySet::read(&text.unwrap_or_default()).map_err(|why| why.to_string())
            }
        };
        let told = keys.as_ref().map(|keys| {
            let taken = keys.told.iter().filter(|key| key.skipped.is_none()).count();
            format!("{taken} of {} can be used", keys.told.len())
        });
        step("read them", told.map_err(Clone::clone));
        let told = keys.map(|keys| keys.told).unwrap_or_default();
        (steps, told)
    }
}

/// An address as it is told: without what may be secret in it.
fn place(url: &Url) -> String {
    format!("{}{}", url.origin().ascii_serialization(), url.path())
}

type TokenDigest = [u8; 32];

/// Verified lately, and under which set of keys.
#[derive(Clone, Debug)]
struct Remembered {
    token: Arc<Verified>,
    keys: Arc<KeySet>,
    issuer: Arc<Issuer>,
}

/// All issuers of a node.
pub struct Issuers {
    fetch: Arc<dyn Fetch>,
    all: RwLock<Vec<Arc<Issuer>>>,
    verified: Mutex<LruCache<TokenDigest, Remembered>>,
}

impl std::fmt::Debug for Issuers {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Issuers").field("all", &self.all).finish_non_exhaustive()
    }
}

impl Issuers {
    /// None yet.
    pub fn new(fetch: Arc<dyn Fetch>) -> Issuers {
        let size = NonZeroUsize::new(REMEMBERED).unwrap_or(NonZeroUsize::MIN);
        Issuers { fetch, all: RwLock::default(), verified: Mutex::new(LruCache::new(size)) }
    }

    /// Takes over what operators set up: who is set up as before keeps their keys, and what was verified.
    pub fn set(&self, configs: Vec<Config>, now: Timestamp) {
        let before = self.all();
        let issuer = |config: Config| {
            let same = before.iter().find(|issuer| issuer.config == config);
            same.cloned().or_else(|| match Issuer::new(config, now) {
                Ok(issuer) => Some(Arc::new(issuer)),
                Err(why) => {
                    tracing::error!(%why, "an issuer's kept keys cannot be read");
                    None
                }
            })
        };
        let all = configs.into_iter().filter_map(issuer).collect();
        *self.all.write().unwrap_or_else(PoisonError::into_inner) = all;
    }

    /// All of them.
    pub fn all(&self) -> Vec<Arc<Issuer>> {
        self.all.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// One of them, by its key.
    pub fn find(&self, key: &str) -> Option<Arc<Issuer>> {
        self.all().into_iter().find(|issuer| issuer.config.key == key)
    }

    /// Verifies a token for a question of an application; without one, of any that the issuer is for. Its `iss` and `aud` are looked at first.
    ///
    /// Costs one signature, or a digest if it was verified lately. Where its key is not known its issuer is
    /// asked, at most every 30 s; that takes 2 s at most.
    ///
    /// # Errors
    /// Why it does not count.
    pub async fn verify(
        &self,
        token: &str,
        application: Option<&str>,
        now: Timestamp,
    ) -> Result<Arc<Verified>, Refused> {
        let digest: TokenDigest = Sha256::digest(token.as_bytes()).into();
        if let Some(known) = self.remembered(&digest, now) {
            let (token, issuer) = known;
            return match token.is_for(&audiences(&issuer, application)) {
                true => Ok(token),
                false => Err(self.refuse(&issuer, Refused::Audience, now)),
            };
        }
        let jws = Jws::read(token)?;
        let claims = jws.claims()?;
        let iss = claims.get("iss").and_then(Value::as_str);
        let issuer = self.all().into_iter().find(|issuer| iss == Some(&issuer.config.iss));
        let issuer = issuer.ok_or(Refused::UnknownIssuer)?;
        let refuse = |why| self.refuse(&issuer, why, now);
        if !is_for(&claims, &audiences(&issuer, application)) {
            return Err(refuse(Refused::Audience));
        }
        let check =
            |keys: &KeySet| verify(&jws, claims.clone(), &issuer.config.key, issuer.terms(), keys, now);
        let mut keys = issuer.keys(now);
        let mut found = keys.as_deref().map_err(|why| *why).and_then(check);
        if found.as_ref().is_err_and(|why| why.may_change()) {
            issuer.ask(&*self.fetch, now, jws.kid.as_deref()).await.map_err(refuse)?;
            keys = issuer.keys(now);
            found = keys.as_deref().map_err(|why| *why).and_then(check);
        }
        let token = Arc::new(found.map_err(refuse)?);
        if let Ok(keys) = keys {
            let remembered = Remembered { token: Arc::clone(&token), keys, issuer };
            self.verified().put(digest, remembered);
        }
        Ok(token)
    }

    fn verified(&self) -> MutexGuard<'_, LruCache<TokenDigest, Remembered>> {
        self.verified.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What was verified lately, if nothing has changed since and it has not ended.
    fn remembered(&self, digest: &TokenDigest, now: Timestamp) -> Option<(Arc<Verified>, Arc<Issuer>)> {
        let mut all = self.verified();
        let known = all.get(digest)?;
        let is_set_up = self.all().iter().any(|issuer| Arc::ptr_eq(issuer, &known.issuer));
        let same_keys = known.issuer.keys(now).is_ok_and(|keys| Arc::ptr_eq(&keys, &known.keys));
        if now < known.token.until && known.token.counts(now).is_ok() && is_set_up && same_keys {
            return Some((Arc::clone(&known.token), Arc::clone(&known.issuer)));
        }
        all.pop(digest);
        None
    }

    fn refuse(&self, issuer: &Issuer, why: Refused, now: Timestamp) -> Refused {
        let mut state = issuer.state();
        state.refused = Some((now, why));
        *state.refusals.entry(why).or_default() += 1;
        why
    }

    /// Asks for keys ahead, where they are not fresh: to be called now and then in the background.
    pub async fn freshen(&self, now: Timestamp) {
        for issuer in self.all() {
            if issuer.is_due(now) {
                let _one = issuer.asking.lock().await;
                issuer.fetch(&*self.fetch, now).await;
            }
        }
    }

    /// Tells step by step what is found of an issuer.
    pub async fn attempt(&self, issuer: &Issuer) -> (Vec<Step>, Vec<KeyTold>) {
        issuer.attempt(&*self.fetch).await
    }
}

fn audiences(issuer: &Issuer, application: Option<&str>) -> Vec<String> {
    let all = issuer.config.audiences.iter();
    let fits = all.filter(|(key, _)| application.is_none_or(|application| application == key.as_str()));
    fits.flat_map(|(_, audiences)| audiences.iter().cloned()).collect()
}
