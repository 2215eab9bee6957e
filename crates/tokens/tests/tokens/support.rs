//! Keys that sign, tokens made with them, and a network of a few documents.

use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::rsa::KeySize;
use aws_lc_rs::signature::{
    ECDSA_P256_SHA256_FIXED_SIGNING, ECDSA_P384_SHA384_FIXED_SIGNING, EcdsaKeyPair, Ed25519KeyPair,
    KeyPair as _, RSA_PKCS1_SHA256, RSA_PSS_SHA512, RsaKeyPair,
};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jiff::Timestamp;
use ostrog_tokens::issuers::{Config, Fetch, KeySource, Later, Reach, Unfetched};
use serde_json::{Value, json};
use std::collections::{BTreeMap, HashMap};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{LazyLock, Mutex};
use std::time::Duration;
use url::Url;

pub const ISS: &str = "http://127.0.0.1:9";
pub const AUD: &str = "https://customs.sorrel-bay.example";

pub fn b64(bytes: impl AsRef<[u8]>) -> String {
    URL_SAFE_NO_PAD.encode(bytes)
}

pub fn now() -> Timestamp {
    "2026-11-23T09:00:00Z".parse().expect("a moment")
}

/// A key that signs.
pub enum Signer {
    Rsa(RsaKeyPair),
    P256(EcdsaKeyPair),
    P384(EcdsaKeyPair),
    Ed(Ed25519KeyPair),
}

pub static RSA: LazyLock<Signer> =
    LazyLock::new(|| Signer::Rsa(RsaKeyPair::generate(KeySize::Rsa2048).expect("a key")));
pub static P256: LazyLock<Signer> =
    LazyLock::new(|| Signer::P256(EcdsaKeyPair::generate(&ECDSA_P256_SHA256_FIXED_SIGNING).expect("a key")));
pub static P384: LazyLock<Signer> =
    LazyLock::new(|| Signer::P384(EcdsaKeyPair::generate(&ECDSA_P384_SHA384_FIXED_SIGNING).expect("a key")));
pub static ED: LazyLock<Signer> = LazyLock::new(|| Signer::Ed(Ed25519KeyPair::generate().expect("a key")));

impl Signer {
    /// Its public key, called so.
    pub fn jwk(&self, kid: &str) -> Value {
        let mut jwk = match self {
            Signer::Rsa(key) => json!({
                "kty": "RSA",
                "n": b64(key.public_key().modulus().big_endian_without_leading_zero()),
                "e": b64(key.public_key().exponent().big_endian_without_leading_zero()),
            }),
            Signer::P256(key) => point("P-256", &key.public_key().as_ref()[1..]),
            Signer::P384(key) => point("P-384", &key.public_key().as_ref()[1..]),
            Signer::Ed(key) => json!({ "kty": "OKP", "crv": "Ed25519", "x": b64(key.public_key()) }),
        };
        jwk["kid"] = kid.into();
        jwk
    }

    pub fn algorithm(&self) -> &'static str {
        match self {
            Signer::Rsa(_) => "RS256",
            Signer::P256(_) => "ES256",
            Signer::P384(_) => "ES384",
            Signer::Ed(_) => "EdDSA",
        }
    }

    fn signed(&self, algorithm: &str, text: &str) -> Vec<u8> {
        let random = SystemRandom::new();
        match self {
            Signer::Rsa(key) => {
                let padding = if algorithm == "PS512" { &RSA_PSS_SHA512 } else { &RSA_PKCS1_SHA256 };
                let mut signature = vec![0; key.public_modulus_len()];
                key.sign(padding, &random, text.as_bytes(), &mut signature).expect("signs");
                signature
            }
            Signer::P256(key) | Signer::P384(key) => {
                key.sign(&random, text.as_bytes()).expect("signs").as_ref().to_vec()
            }
            Signer::Ed(key) => key.sign(text.as_bytes()).as_ref().to_vec(),
        }
    }

    /// A token with a header and a payload as they are written.
    pub fn written(&self, header: &str, payload: &str) -> String {
        let signed = format!("{}.{}", b64(header), b64(payload));
        let header: Value = serde_json::from_str(header).unwrap_or_default();
        let signature = self.signed(header["alg"].as_str().unwrap_or_default(), &signed);
        format!("{signed}.{}", b64(signature))
    }

    /// A token of these claims, by the key of this name.
    pub fn token(&self, kid: &str, claims: &Value) -> String {
        let header = json!({ "alg": self.algorithm(), "typ": "at+jwt", "kid": kid });
        self.written(&header.to_string(), &claims.to_string())
    }
}

fn point(curve: &str, point: &[u8]) -> Value {
    let (x, y) = point.split_at(point.len() / 2);
    json!({ "kty": "EC", "crv": curve, "x": b64(x), "y": b64(y) })
}

/// What a token of the port's sign-in claims, with some of it otherwise; `null` takes it out.
pub fn claims(other: &Value) -> Value {
    let mut claims = json!({
        "iss": ISS, "aud": [AUD, "other"], "sub": "ines", "client_id": "portal",
        "iat": now().as_second() - 10, "exp": now().as_second() + 300, "jti": "j-1",
    });
    for (key, value) in other.as_object().expect("an object") {
        match value {
            Value::Null => drop(claims.as_object_mut().expect("an object").shift_remove(key)),
            value => claims[key] = value.clone(),
        }
    }
    claims
}

pub fn config(source: KeySource) -> Config {
    Config {
        key: "port-id".to_owned(),
        iss: ISS.to_owned(),
        audiences: BTreeMap::from([("customs".to_owned(), vec![AUD.to_owned()])]),
        source,
        private: false,
        id_tokens: false,
    }
}

/// A few documents by address; others are not there.
#[derive(Default)]
pub struct Documents {
    pub all: Mutex<HashMap<String, Vec<u8>>>,
    pub asked: AtomicUsize,
    /// How long each takes.
    pub delay: Mutex<Duration>,
}

impl Documents {
    pub fn put(&self, path: &str, document: &Value) {
        let text = document.to_string().into_bytes();
        self.all.lock().expect("no panic").insert(format!("{ISS}{path}"), text);
    }

    /// An issuer that says where its keys are, with these.
    pub fn issuer(&self, keys: &[Value]) {
        self.put(
            "/.well-known/openid-configuration",
            &json!({ "issuer": ISS, "jwks_uri": format!("{ISS}/keys") }),
        );
        self.put("/keys", &json!({ "keys": keys }));
    }

    pub fn take_away(&self) {
        self.all.lock().expect("no panic").clear();
    }

    pub fn asked(&self) -> usize {
        self.asked.load(Ordering::SeqCst)
    }
}

impl Fetch for Documents {
    fn get<'f>(&'f self, url: &'f Url, _: Reach, most: usize) -> Later<'f, Result<Vec<u8>, Unfetched>> {
        self.asked.fetch_add(1, Ordering::SeqCst);
        let found = self.all.lock().expect("no panic").get(url.as_str().trim_end_matches('/')).cloned();
        let delay = *self.delay.lock().expect("no panic");
        Box::pin(async move {
            tokio::time::sleep(delay).await;
            match found {
                Some(text) if text.len() > most => Err(Unfetched::TooLarge(most)),
                Some(text) => Ok(text),
                None => Err(Unfetched::Status(404)),
            }
        })
    }
}
