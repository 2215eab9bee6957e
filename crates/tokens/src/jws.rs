//! A token's three parts (RFC 7515, 7.1), read strictly: what is read twice cannot be read two ways.

use crate::verify::Refused;
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jsonwebtoken::Algorithm;
use ostrog_core::json;
use serde_json::{Map, Value};

/// A JSON object.
pub type Object = Map<String, Value>;

/// Longest token, in bytes.
pub const MAX_BYTES: usize = 16 << 10;

/// The algorithms a signature may have, by name. Never `none`, never one with a shared secret.
pub const ALGORITHMS: [(&str, Algorithm); 9] = [
    ("RS256", Algorithm::RS256),
    ("RS384", Algorithm::RS384),
    ("RS512", Algorithm::RS512),
    ("PS256", Algorithm::PS256),
    ("PS384", Algorithm::PS384),
    ("PS512", Algorithm::PS512),
    ("ES256", Algorithm::ES256),
    ("ES384", Algorithm::ES384),
    ("EdDSA", Algorithm::EdDSA),
];

/// A token as it is written, not verified.
#[derive(Clone, Debug)]
pub struct Jws<'t> {
    /// How it says it is signed.
    pub algorithm: Algorithm,
    /// Which key it says it is signed with.
    pub kid: Option<String>,
    /// Its header.
    pub header: Map<String, Value>,
    /// What is signed: header and payload, as they are written.
    pub signed: &'t str,
    /// What it carries, decoded.
    pub payload: Vec<u8>,
    /// The signature, as it is written.
    pub signature: &'t str,
}

impl<'t> Jws<'t> {
    /// Reads one.
    ///
    /// # Errors
    /// If it is none, or its header holds what no token here may have.
    pub fn read(token: &'t str) -> Result<Jws<'t>, Refused> {
        if token.len() > MAX_BYTES {
            return Err(Refused::TooLong);
        }
        let parts: Vec<&str> = token.split('.').collect();
        let [header, payload, signature] = parts[..] else {
            return Err(if parts.len() == 5 { Refused::Encrypted } else { Refused::NoToken });
        };
        let signed = &token[..header.len() + 1 + payload.len()];
        let header = object(&decoded(header)?)?;
        let payload = decoded(payload)?;
        decoded(signature)?;
        if header.contains_key("crit") {
            return Err(Refused::Critical);
        }
        if header.contains_key("enc") || header.contains_key("zip") {
            return Err(Refused::Encrypted);
        }
        let text = |key: &str| match header.get(key) {
            None => Ok(None),
            Some(Value::String(text)) => Ok(Some(text.as_str())),
            Some(_) => Err(Refused::Header),
        };
        let kind = text("typ")?;
        if kind.is_some_and(|kind| !["jwt", "at+jwt"].contains(&kind.to_ascii_lowercase().as_str())) {
            return Err(Refused::Type);
        }
        let name = text("alg")?.ok_or(Refused::Header)?;
        let algorithm = ALGORITHMS.iter().find(|(known, _)| *known == name);
        let algorithm = algorithm.map(|(_, algorithm)| *algorithm).ok_or(Refused::Algorithm)?;
        let kid = text("kid")?.map(str::to_owned);
        Ok(Jws { algorithm, kid, signed, payload, signature, header })
    }

    /// What it claims.
    ///
    /// # Errors
    /// If it carries no JSON object, or one with a member twice.
    pub fn claims(&self) -> Result<Map<String, Value>, Refused> {
        object(&self.payload)
    }
}

/// A token's header and claims, as far as they can be read, whatever is wrong with it.
pub(crate) fn parts(token: &str) -> (Option<Object>, Option<Object>) {
    if token.len() > MAX_BYTES {
        return (None, None);
    }
    let mut parts = token.split('.').map(|part| decoded(part).and_then(|text| object(&text)).ok());
    (parts.next().flatten(), parts.next().flatten())
}

fn decoded(part: &str) -> Result<Vec<u8>, Refused> {
    URL_SAFE_NO_PAD.decode(part).map_err(|_| Refused::NoToken)
}

fn object(text: &[u8]) -> Result<Map<String, Value>, Refused> {
    match json::parse(text) {
        Ok(Value::Object(object)) => Ok(object),
        _ => Err(Refused::NoObject),
    }
}
