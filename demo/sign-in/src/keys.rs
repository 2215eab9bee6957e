//! Keys that sign: one of each kind, of which one signs in turn; a rotation makes the next.

use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::rsa::{KeyPair as RsaKeys, KeySize};
use aws_lc_rs::signature::{
    ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, Ed25519KeyPair, KeyPair as _, RSA_PKCS1_SHA256,
};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use serde_json::{Value, json};

/// How many keys are published: tokens that older ones signed have ended by the time they go.
const PUBLISHED: usize = 6;

#[derive(Debug)]
enum Pair {
    Rsa(RsaKeys),
    Ec(EcdsaKeyPair),
    Ed(Ed25519KeyPair),
}

#[derive(Debug)]
struct Key {
    id: String,
    pair: Pair,
}

/// All keys, oldest first. The last one signs.
#[derive(Debug)]
pub struct Keys {
    all: Vec<Key>,
    made: usize,
}

impl Keys {
    /// One of each kind.
    pub fn of_each_kind() -> Keys {
        let mut keys = Keys { all: Vec::new(), made: 0 };
        for _ in 0..3 {
            keys.rotate();
        }
        keys
    }

    /// Makes the key that signs from now on, and tells what it is called. The kinds take turns.
    pub fn rotate(&mut self) -> String {
        let pair = match self.made % 3 {
            0 => Pair::Ed(Ed25519KeyPair::generate().expect("the system has random numbers")),
            1 => Pair::Rsa(RsaKeys::generate(KeySize::Rsa2048).expect("the system has random numbers")),
            _ => Pair::Ec(
                EcdsaKeyPair::generate(&ECDSA_P256_SHA256_FIXED_SIGNING)
                    .expect("the system has random numbers"),
            ),
        };
        self.made += 1;
        let id = format!("port-{}", self.made);
        self.all.push(Key { id: id.clone(), pair });
        let old = self.all.len().saturating_sub(PUBLISHED);
        self.all.drain(..old);
        id
    }

    /// The public ones (RFC 7517).
    pub fn published(&self) -> Value {
        json!({ "keys": self.all.iter().map(Key::public).collect::<Vec<_>>() })
    }

    /// Claims as a signed token (RFC 7515).
    pub fn sign(&self, kind: &str, claims: &Value) -> String {
        let key = self.all.last().expect("there is always one");
        let header = json!({ "typ": kind, "alg": key.algorithm(), "kid": key.id });
        let signed = format!("{}.{}", b64(header.to_string()), b64(claims.to_string()));
        let signature = key.sign(signed.as_bytes());
        format!("{signed}.{}", b64(signature))
    }
}

impl Key {
    fn algorithm(&self) -> &'static str {
        match &self.pair {
            Pair::Rsa(_) => "RS256",
            Pair::Ec(_) => "ES256",
            Pair::Ed(_) => "EdDSA",
        }
    }

    fn public(&self) -> Value {
        let mut key = match &self.pair {
            Pair::Rsa(pair) => {
                let public = pair.public_key();
                let (n, e) = (public.modulus(), public.exponent());
                json!({ "kty": "RSA", "n": b64(n.big_endian_without_leading_zero()),
                        "e": b64(e.big_endian_without_leading_zero()) })
            }
            Pair::Ec(pair) => {
                let (x, y) = pair.public_key().as_ref()[1..].split_at(32);
                json!({ "kty": "EC", "crv": "P-256", "x": b64(x), "y": b64(y) })
            }
            Pair::Ed(pair) => json!({ "kty": "OKP", "crv": "Ed25519", "x": b64(pair.public_key()) }),
        };
        key["kid"] = json!(self.id);
        key["use"] = json!("sig");
        key["alg"] = json!(self.algorithm());
        key
    }

    fn sign(&self, text: &[u8]) -> Vec<u8> {
        let random = SystemRandom::new();
        match &self.pair {
            Pair::Rsa(pair) => {
                let mut signature = vec![0; pair.public_modulus_len()];
                pair.sign(&RSA_PKCS1_SHA256, &random, text, &mut signature).expect("it fits");
                signature
            }
            Pair::Ec(pair) => {
                pair.sign(&random, text).expect("the system has random numbers").as_ref().to_vec()
            }
            Pair::Ed(pair) => pair.sign(text).as_ref().to_vec(),
        }
    }
}

/// As tokens write bytes.
pub fn b64(bytes: impl AsRef<[u8]>) -> String {
    URL_SAFE_NO_PAD.encode(bytes)
}
