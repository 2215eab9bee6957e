//! One token held against its issuer and the clock (RFC 7519, 4.1; RFC 9068, 4).

use crate::jws::Jws;
use crate::keys::KeySet;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Map, Value};

/// How far clocks may differ.
pub const LEEWAY: SignedDuration = SignedDuration::from_secs(30);

/// Why a token does not count. None of these holds anything that stood in it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, thiserror::Error)]
pub enum Refused {
    /// More than [`crate::jws::MAX_BYTES`].
    #[error("it has more than 16 KiB")]
    TooLong,
    /// It is not three parts of base64url.
    #[error("it is no signed JWT")]
    NoToken,
    /// A part is no JSON object, or has a member twice.
    #[error("its header or its claims are no JSON object, or have a member twice")]
    NoObject,
    /// Its header has no `alg`, or a member of the wrong type.
    #[error("its header cannot be read")]
    Header,
    /// Encrypted or compressed.
    #[error("it is encrypted or compressed")]
    Encrypted,
    /// `crit`
    #[error("its header asks for what is not known here (crit)")]
    Critical,
    /// `typ`
    #[error("its typ is neither JWT nor at+jwt")]
    Type,
    /// `alg`
    #[error("its alg is none of RS256, RS384, RS512, PS256, PS384, PS512, ES256, ES384, EdDSA")]
    Algorithm,
    /// No issuer of this name is known.
    #[error("no issuer of this iss is known here")]
    UnknownIssuer,
    /// It is for somebody else.
    #[error("its aud is not one of this issuer's for the application")]
    Audience,
    /// Its key is bound to a client.
    #[error("it is bound to a key of its bearer (cnf)")]
    Bound,
    /// An ID token.
    #[error("it is an ID token, not an access token")]
    IdToken,
    /// No `exp`.
    #[error("it says not until when it counts (exp)")]
    NoEnd,
    /// `exp`
    #[error("it counts no longer (exp)")]
    Expired,
    /// `nbf`
    #[error("it does not count yet (nbf)")]
    NotYet,
    /// `iat`
    #[error("it was issued in the future (iat)")]
    FromTheFuture,
    /// A time that is no number.
    #[error("one of exp, nbf and iat is no number")]
    NoTime,
    /// No key of the set fits.
    #[error("its issuer has no such key")]
    UnknownKey,
    /// A key of this name is there, for another algorithm.
    #[error("its key is not for its alg")]
    OtherAlgorithm,
    /// Without `kid` or with one that stands twice.
    #[error("several keys of its issuer fit")]
    SeveralKeys,
    /// Not by this key.
    #[error("its signature is not by its issuer's key")]
    Signature,
    /// The issuer's keys could not be had.
    #[error("the keys of its issuer cannot be had now")]
    NoKeys,
    /// Too many wait for them.
    #[error("too many tokens wait for the keys of its issuer")]
    Busy,
}

impl Refused {
    /// Whether keys that are asked for anew may change it.
    pub fn may_change(self) -> bool {
        matches!(self, Refused::UnknownKey | Refused::NoKeys)
    }
}

/// What an issuer's tokens are held against.
#[derive(Clone, Copy, Debug)]
pub struct Terms<'t> {
    /// Its `iss`, bytewise.
    pub iss: &'t str,
    /// Whether its ID tokens count.
    pub id_tokens: bool,
}

/// A token that holds.
#[derive(Clone, Debug, PartialEq)]
pub struct Verified {
    /// The key of its issuer.
    pub issuer: String,
    /// What it claims.
    pub claims: Map<String, Value>,
    /// When it ends to count.
    pub until: Timestamp,
}

impl Verified {
    /// Whether it is for one of these.
    pub fn is_for(&self, audiences: &[String]) -> bool {
        is_for(&self.claims, audiences)
    }

    /// Whether it counts at a moment.
    ///
    /// # Errors
    /// If it has ended, or has not begun.
    pub fn counts(&self, now: Timestamp) -> Result<(), Refused> {
        in_time(&self.claims, now).map(drop)
    }
}

/// Whether `aud` names one of these: a text, or a list of texts.
pub fn is_for(claims: &Map<String, Value>, audiences: &[String]) -> bool {
    let is = |value: &Value| value.as_str().is_some_and(|text| audiences.iter().any(|one| one == text));
    match claims.get("aud") {
        Some(Value::Array(all)) => all.iter().any(is),
        Some(one) => is(one),
        None => false,
    }
}

/// Holds a token's claims against its issuer and the clock; its signature is looked at last.
///
/// Costs the verification of one signature.
///
/// # Errors
/// The first reason why it does not count.
pub fn verify(
    jws: &Jws<'_>,
    claims: Map<String, Value>,
    issuer: &str,
    terms: Terms<'_>,
    keys: &KeySet,
    now: Timestamp,
) -> Result<Verified, Refused> {
    if claims.get("iss").and_then(Value::as_str) != Some(terms.iss) {
        return Err(Refused::UnknownIssuer);
    }
    if claims.contains_key("cnf") {
        return Err(Refused::Bound);
    }
    if !terms.id_tokens && (claims.contains_key("nonce") || claims.contains_key("at_hash")) {
        return Err(Refused::IdToken);
    }
    let until = in_time(&claims, now)?;
    keys.verify(jws)?;
    Ok(Verified { issuer: issuer.to_owned(), claims, until })
}

/// When it ends, if it counts now.
fn in_time(claims: &Map<String, Value>, now: Timestamp) -> Result<Timestamp, Refused> {
    let until = moment(claims, "exp")?.ok_or(Refused::NoEnd)?;
    if now >= after(until, LEEWAY) {
        return Err(Refused::Expired);
    }
    let soon = after(now, LEEWAY);
    if moment(claims, "nbf")?.is_some_and(|from| from > soon) {
        return Err(Refused::NotYet);
    }
    if moment(claims, "iat")?.is_some_and(|issued| issued > soon) {
        return Err(Refused::FromTheFuture);
    }
    Ok(until)
}

fn after(moment: Timestamp, by: SignedDuration) -> Timestamp {
    moment.checked_add(by).unwrap_or(Timestamp::MAX)
}

/// A `NumericDate` (RFC 7519, 2), fractions and all.
fn moment(claims: &Map<String, Value>, name: &str) -> Result<Option<Timestamp>, Refused> {
    let Some(value) = claims.get(name) else { return Ok(None) };
    let Value::Number(number) = value else { return Err(Refused::NoTime) };
    if let Some(whole) = number.as_i64() {
        return Ok(Some(Timestamp::from_second(whole).unwrap_or(if whole < 0 {
            Timestamp::MIN
        } else {
            Timestamp::MAX
        })));
    }
    let seconds = number.as_f64().filter(|seconds| seconds.is_finite()).ok_or(Refused::NoTime)?;
    let bounded = seconds.clamp(-1e11, 1e11);
    let duration = SignedDuration::try_from_secs_f64(bounded).map_err(|_| Refused::NoTime)?;
    Ok(Some(Timestamp::from_duration(duration).unwrap_or(Timestamp::MAX)))
}
