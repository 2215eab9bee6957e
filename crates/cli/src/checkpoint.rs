//! How far the changes were at a moment, signed, to be kept where neither the database nor its backup is.

use crate::exit::Failure;
use aws_lc_rs::signature::{ED25519, Ed25519KeyPair, KeyPair as _, UnparsedPublicKey};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::path::Path;

/// What stands before the 32 bytes of an Ed25519 public key (RFC 8410, 4).
const PUBLIC: [u8; 12] = [0x30, 0x2a, 0x30, 0x05, 0x06, 0x03, 0x2b, 0x65, 0x70, 0x03, 0x21, 0x00];

/// A checkpoint.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Checkpoint {
    /// The epoch.
    pub epoch: String,
    /// The position.
    pub position: i64,
    /// The digest of the changes there, hex.
    pub digest: String,
    /// When it was signed, to the microsecond.
    pub at: String,
    /// Ed25519 over all of it, base64.
    pub signature: String,
}

/// What checkpoints are signed with.
#[derive(Debug)]
pub struct SigningKey(Ed25519KeyPair);

/// The bytes of a PEM block of a kind (RFC 7468).
fn pem(path: &Path, kind: &str) -> Result<Vec<u8>, Failure> {
    let text = std::fs::read_to_string(path)
        .map_err(|error| Failure::misused(format!("{}: {error}", path.display())))?;
    let none =
        || Failure::misused(format!("{} holds no PEM block {kind:?} of an Ed25519 key", path.display()));
    let (begin, end) = (format!("-----BEGIN {kind}-----"), format!("-----END {kind}-----"));
    let inner = text.split_once(&begin).and_then(|(_, rest)| rest.split_once(&end)).map(|(inner, _)| inner);
    let inner: String = inner.ok_or_else(none)?.split_whitespace().collect();
    STANDARD.decode(inner).map_err(|_| none())
}

impl SigningKey {
    /// Of a PEM file (PKCS #8).
    pub fn read(path: &Path) -> Result<SigningKey, Failure> {
        let der = pem(path, "PRIVATE KEY")?;
        let key = Ed25519KeyPair::from_pkcs8_maybe_unchecked(&der);
        key.map(SigningKey).map_err(|_| Failure::misused(format!("{} is no Ed25519 key", path.display())))
    }
}

impl Checkpoint {
    /// Signs how far the changes are.
    pub fn sign(epoch: &str, position: i64, digest: &str, key: &SigningKey) -> Result<Checkpoint, Failure> {
        let now = Timestamp::from_microsecond(Timestamp::now().as_microsecond()).map_err(Failure::input)?;
        let mut made = Checkpoint {
            epoch: epoch.to_owned(),
            position,
            digest: digest.to_owned(),
            at: now.to_string(),
            signature: String::new(),
        };
        made.signature = STANDARD.encode(key.0.sign(&made.signed()?).as_ref());
        // A key that cannot verify what it signed is damaged.
        made.is_signed_for(key.0.public_key().as_ref())?;
        Ok(made)
    }

    /// Of a file, if it was signed for a public key in PEM.
    pub fn read(file: &Path, public_key: &Path) -> Result<Checkpoint, Failure> {
        let text =
            std::fs::read(file).map_err(|error| Failure::misused(format!("{}: {error}", file.display())))?;
        let read: Checkpoint = serde_json::from_slice(&text)
            .map_err(|error| Failure::input(format!("{} is no checkpoint: {error}", file.display())))?;
        let der = pem(public_key, "PUBLIC KEY")?;
        let key = der.strip_prefix(&PUBLIC).filter(|key| key.len() == 32);
        let none = || Failure::misused(format!("{} is no Ed25519 key", public_key.display()));
        read.is_signed_for(key.ok_or_else(none)?)?;
        Ok(read)
    }

    fn is_signed_for(&self, key: &[u8]) -> Result<(), Failure> {
        let wrong = || Failure::input("the checkpoint was not signed by this key, or was altered since");
        let signature = STANDARD.decode(&self.signature).map_err(|_| wrong())?;
        UnparsedPublicKey::new(&ED25519, key).verify(&self.signed()?, &signature).map_err(|_| wrong())
    }

    /// What is signed: `ostrog-checkpoint-1`, then each field with its length before it in eight bytes, big-endian:
    /// epoch, position (eight bytes), digest (32 bytes), moment (microseconds since 1970 in UTC, eight bytes).
    fn signed(&self) -> Result<Vec<u8>, Failure> {
        let wrong = || Failure::input("the checkpoint cannot be read");
        let at: Timestamp = self.at.parse().map_err(|_| wrong())?;
        let digest = hex::decode(&self.digest).ok().filter(|digest| digest.len() == 32).ok_or_else(wrong)?;
        let mut bytes = b"ostrog-checkpoint-1".to_vec();
        let fields: [&[u8]; 4] = [
            self.epoch.as_bytes(),
            &self.position.to_be_bytes(),
            &digest,
            &at.as_microsecond().to_be_bytes(),
        ];
        for field in fields {
            bytes.extend_from_slice(&u64::try_from(field.len()).unwrap_or(u64::MAX).to_be_bytes());
            bytes.extend_from_slice(field);
        }
        Ok(bytes)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn key() -> SigningKey {
        SigningKey(Ed25519KeyPair::generate().expect("a key"))
    }

    #[rstest]
    #[case(|kept: &mut Checkpoint| kept.epoch.push('x'))]
    #[case(|kept: &mut Checkpoint| kept.position += 1)]
    #[case(|kept: &mut Checkpoint| kept.digest.replace_range(0..1, "f"))]
    #[case(|kept: &mut Checkpoint| kept.at = "2026-01-01T00:00:00Z".to_owned())]
    #[case(|kept: &mut Checkpoint| kept.signature.replace_range(0..2, "AA"))]
    #[case(|kept: &mut Checkpoint| kept.signature.clear())]
    fn what_was_altered_is_not_what_was_signed(#[case] alter: fn(&mut Checkpoint)) {
        let (key, other) = (key(), key());
        let digest = "0".repeat(64);
        let kept = Checkpoint::sign("e", 7, &digest, &key).expect("is signed");
        let public = |key: &SigningKey| key.0.public_key().as_ref().to_vec();
        assert!(kept.is_signed_for(&public(&key)).is_ok());
        assert!(kept.is_signed_for(&public(&other)).is_err());
        let mut altered = kept;
        alter(&mut altered);
        assert!(altered.is_signed_for(&public(&key)).is_err());
    }
}
