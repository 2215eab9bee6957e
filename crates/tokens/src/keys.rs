//! The keys of an issuer (JWK sets, RFC 7517; or PEM), each taken or skipped by itself, and made ready once.

use crate::jws::{ALGORITHMS, Jws};
use crate::verify::Refused;
use aws_lc_rs::signature::{
    ECDSA_P256_SHA256_FIXED, ECDSA_P384_SHA384_FIXED, ED25519, ParsedPublicKey, VerificationAlgorithm,
};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jsonwebtoken::jwk::{AlgorithmParameters, Jwk};
use jsonwebtoken::{Algorithm, DecodingKey, crypto};
use ostrog_core::json;
use serde_json::{Map, Value};

/// Most keys of a set.
pub const MAX_KEYS: usize = 100;
/// Largest set, in bytes.
pub const MAX_BYTES: usize = 1 << 20;
/// Smallest and largest RSA modulus, in bits.
const RSA_BITS: std::ops::RangeInclusive<usize> = 2_048..=8_192;

/// A key, ready to verify with.
#[derive(Clone)]
struct Key {
    kid: Option<String>,
    /// What it verifies, and nothing else.
    algorithms: Vec<Algorithm>,
    key: DecodingKey,
}

impl std::fmt::Debug for Key {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Key")
            .field("kid", &self.kid)
            .field("algorithms", &self.algorithms)
            .finish_non_exhaustive()
    }
}

/// What became of one key of a set. Says nothing of the key itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KeyTold {
    /// Its place in the set, from 1.
    pub place: usize,
    /// What it is called, as far as that can be printed.
    pub kid: Option<String>,
    /// The algorithms it verifies; none if it was skipped.
    pub algorithms: Vec<String>,
    /// Why it was skipped.
    pub skipped: Option<String>,
}

/// Keys of an issuer.
#[derive(Clone, Debug, Default)]
pub struct KeySet {
    keys: Vec<Key>,
    /// What became of each.
    pub told: Vec<KeyTold>,
}

/// Why a text holds no keys.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NoKeys {
    /// It is too large.
    #[error("the key set has more than {MAX_BYTES} bytes")]
    TooLarge,
    /// It has too many.
    #[error("the key set has more than {MAX_KEYS} keys")]
    TooMany,
    /// It is neither a JWK set nor PEM.
    #[error("this is no JWK set (an object with \"keys\") and holds no PEM block")]
    NotASet,
    /// None can be used.
    #[error("none of its keys can be used here")]
    NoneUsable,
}

impl KeySet {
    /// Reads a JWK set or PEM blocks.
    ///
    /// # Errors
    /// If there is not one key to be used in it.
    pub fn read(text: &[u8]) -> Result<KeySet, NoKeys> {
        if text.len() > MAX_BYTES {
            return Err(NoKeys::TooLarge);
        }
        let set = if text.windows(11).any(|part| part == b"-----BEGIN ") { pem(text)? } else { jwks(text)? };
        if set.keys.is_empty() { Err(NoKeys::NoneUsable) } else { Ok(set) }
    }

    fn add(&mut self, place: usize, kid: Option<String>, key: Result<(DecodingKey, Vec<Algorithm>), String>) {
        let name = |algorithm: &Algorithm| {
            let known = ALGORITHMS.iter().find(|(_, other)| other == algorithm);
            known.map_or("", |(name, _)| name).to_owned()
        };
        let printed = kid.clone().filter(|kid| kid.len() <= 100 && kid.chars().all(|c| c.is_ascii_graphic()));
        let (algorithms, skipped) = match &key {
            Ok((_, algorithms)) => (algorithms.iter().map(name).collect(), None),
            Err(why) => (Vec::new(), Some(why.clone())),
        };
        self.told.push(KeyTold { place, kid: printed, algorithms, skipped });
        self.keys.extend(key.ok().map(|(key, algorithms)| Key { kid, algorithms, key }));
    }

    /// Whether there is a key of this name.
    pub fn knows(&self, kid: &str) -> bool {
        self.keys.iter().any(|key| key.kid.as_deref() == Some(kid))
    }

    /// Verifies the signature of a token. Without `kid` only if exactly one key fits.
    ///
    /// # Errors
    /// If no key fits or several do, or the signature is not by the one that does.
    pub fn verify(&self, jws: &Jws<'_>) -> Result<(), Refused> {
        let fits =
            |key: &&Key| key.algorithms.contains(&jws.algorithm) && (jws.kid.is_none() || key.kid == jws.kid);
        let mut fitting = self.keys.iter().filter(fits);
        let key = match (fitting.next(), fitting.next(), &jws.kid) {
            (Some(only), None, _) => only,
            (Some(_), Some(_), _) => return Err(Refused::SeveralKeys),
            (None, _, Some(kid)) if self.knows(kid) => return Err(Refused::OtherAlgorithm),
            (None, _, _) => return Err(Refused::UnknownKey),
        };
        match crypto::verify(jws.signature, jws.signed.as_bytes(), &key.key, jws.algorithm) {
            Ok(true) => Ok(()),
            _ => Err(Refused::Signature),
        }
    }
}

fn jwks(text: &[u8]) -> Result<KeySet, NoKeys> {
    let parsed = json::parse(text).map_err(|_| NoKeys::NotASet)?;
    let keys = parsed.get("keys").and_then(Value::as_array).ok_or(NoKeys::NotASet)?;
    if keys.len() > MAX_KEYS {
        return Err(NoKeys::TooMany);
    }
    let mut set = KeySet::default();
    for (at, key) in keys.iter().enumerate() {
        let kid = key.get("kid").and_then(Value::as_str).map(str::to_owned);
        set.add(at + 1, kid, key.as_object().ok_or_else(|| "it is no object".to_owned()).and_then(jwk));
    }
    Ok(set)
}

/// One key of a set: what it verifies follows from its kind, and from `alg` where it says that.
fn jwk(key: &Map<String, Value>) -> Result<(DecodingKey, Vec<Algorithm>), String> {
    let text = |name: &str| key.get(name).and_then(Value::as_str);
    if text("use").is_some_and(|of| of != "sig") || key.get("use").is_some_and(|of| !of.is_string()) {
        return Err("it is not for signatures (use)".to_owned());
    }
    if let Some(operations) = key.get("key_ops") {
        let verifies = operations.as_array().is_some_and(|all| all.iter().any(|one| one == "verify"));
        if !verifies {
            return Err("it does not verify (key_ops)".to_owned());
        }
    }
    let bytes = |name: &str| -> Result<Vec<u8>, String> {
        let text = text(name).ok_or_else(|| format!("{name} is missing"))?;
        URL_SAFE_NO_PAD.decode(text).map_err(|_| format!("{name} is not base64url"))
    };
    let (made, algorithms) = match (text("kty"), text("crv")) {
        (Some("RSA"), _) => (rsa(&bytes("n")?, &bytes("e")?)?, RSA.to_vec()),
        (Some("EC"), Some("P-256")) => ec(&[bytes("x")?, bytes("y")?], 32, Algorithm::ES256)?,
        (Some("EC"), Some("P-384")) => ec(&[bytes("x")?, bytes("y")?], 48, Algorithm::ES384)?,
        (Some("OKP"), Some("Ed25519")) => {
            let x = bytes("x")?;
            parses(&ED25519, &x)?;
            (DecodingKey::from_ed_der(&x), vec![Algorithm::EdDSA])
        }
        (Some("oct"), _) => return Err("it is a shared secret".to_owned()),
        _ => return Err("its kind (kty, crv) is none of RSA, EC P-256 or P-384, OKP Ed25519".to_owned()),
    };
    let Some(stated) = key.get("alg") else { return Ok((made, algorithms)) };
    let only = ALGORITHMS.iter().find(|(name, _)| stated == name).map(|(_, algorithm)| *algorithm);
    match only.filter(|only| algorithms.contains(only)) {
        Some(only) => Ok((made, vec![only])),
        None => Err("its alg is not one that its kind verifies here".to_owned()),
    }
}

const RSA: [Algorithm; 6] = [
    Algorithm::RS256,
    Algorithm::RS384,
    Algorithm::RS512,
    Algorithm::PS256,
    Algorithm::PS384,
    Algorithm::PS512,
];

fn rsa(n: &[u8], e: &[u8]) -> Result<DecodingKey, String> {
    let start = n.iter().position(|byte| *byte != 0).ok_or("n is nothing")?;
    let bits = (n.len() - start) * 8 - n[start].leading_zeros() as usize;
    if !RSA_BITS.contains(&bits) {
        return Err(format!("its modulus has {bits} bits, not {} to {}", RSA_BITS.start(), RSA_BITS.end()));
    }
    let odd = |number: &[u8]| number.last().is_some_and(|byte| byte % 2 == 1);
    let small = e.iter().skip_while(|byte| **byte == 0).count() <= 1 && e.last().is_none_or(|byte| *byte < 3);
    if !odd(n) || !odd(e) || small || e.len() > 8 {
        return Err("its modulus or exponent can be no RSA key's".to_owned());
    }
    Ok(DecodingKey::from_rsa_raw_components(&n[start..], e))
}

fn ec(
    point: &[Vec<u8>; 2],
    length: usize,
    algorithm: Algorithm,
) -> Result<(DecodingKey, Vec<Algorithm>), String> {
    if point.iter().any(|part| part.len() != length) {
        return Err(format!("x and y have not {length} bytes"));
    }
    let whole = [&[4_u8][..], &point[0], &point[1]].concat();
    on_curve(&whole, algorithm)?;
    Ok((DecodingKey::from_ec_der(&whole), vec![algorithm]))
}

fn on_curve(point: &[u8], algorithm: Algorithm) -> Result<(), String> {
    match algorithm {
        Algorithm::ES256 => parses(&ECDSA_P256_SHA256_FIXED, point),
        _ => parses(&ECDSA_P384_SHA384_FIXED, point),
    }
}

fn parses(algorithm: &'static dyn VerificationAlgorithm, key: &[u8]) -> Result<(), String> {
    ParsedPublicKey::new(algorithm, key).map(drop).map_err(|_| "it is no point of its curve".to_owned())
}

/// Blocks of PEM, public keys all of them.
fn pem(text: &[u8]) -> Result<KeySet, NoKeys> {
    let text = std::str::from_utf8(text).map_err(|_| NoKeys::NotASet)?;
    let mut set = KeySet::default();
    for (at, rest) in text.split("-----BEGIN ").skip(1).enumerate() {
        if at >= MAX_KEYS {
            return Err(NoKeys::TooMany);
        }
        set.add(at + 1, None, pem_key(&format!("-----BEGIN {rest}")));
    }
    Ok(set)
}

fn pem_key(block: &str) -> Result<(DecodingKey, Vec<Algorithm>), String> {
    if block.starts_with("-----BEGIN ") && block.contains("PRIVATE KEY-----") {
        return Err("it is a private key: give its public one".to_owned());
    }
    let block = block.as_bytes();
    if let Ok(key) = DecodingKey::from_rsa_pem(block) {
        let parts = Jwk::from_decoding_key(&key, None).map_err(|_| "it is broken".to_owned())?;
        let AlgorithmParameters::RSA(parts) = parts.algorithm else { return Err("it is broken".to_owned()) };
        let bytes = |text: &str| URL_SAFE_NO_PAD.decode(text).map_err(|_| "it is broken".to_owned());
        return Ok((rsa(&bytes(&parts.n)?, &bytes(&parts.e)?)?, RSA.to_vec()));
    }
    if let Ok(key) = DecodingKey::from_ec_pem(block) {
        let point = key.try_get_as_bytes().map_err(|_| "it is broken".to_owned())?.to_vec();
        let algorithm = match point.len() {
            65 => Algorithm::ES256,
            97 => Algorithm::ES384,
            _ => return Err("its curve is neither P-256 nor P-384".to_owned()),
        };
        on_curve(&point, algorithm)?;
        return Ok((key, vec![algorithm]));
    }
    match DecodingKey::from_ed_pem(block) {
        Ok(key) => Ok((key, vec![Algorithm::EdDSA])),
        Err(_) => Err("it is no public key of a kind known here".to_owned()),
    }
}
