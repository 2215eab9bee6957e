//! Where an issuer says that its keys are: `OpenID` Connect Discovery 1.0 (4), then RFC 8414 (3).

use crate::issuers::{Fetch, Reach, Unfetched};
use ostrog_core::json;
use serde_json::Value;
use url::{Host, Url};

/// Largest document, in bytes.
pub const MAX_BYTES: usize = 64 << 10;

/// Why it is not known where an issuer's keys are. Says nothing of what was fetched.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Undiscovered {
    /// The issuer's address.
    #[error("{0}")]
    Address(BadAddress),
    /// Neither document could be had.
    #[error("neither document could be had: {0}; {1}")]
    Unfetched(Unfetched, Unfetched),
    /// It is no JSON object.
    #[error("the document is no JSON object")]
    NoObject,
    /// It speaks of another issuer.
    #[error("the document's issuer is not the one that was asked for, letter by letter")]
    OtherIssuer,
    /// It says not where the keys are.
    #[error("the document has no jwks_uri")]
    NoKeys,
    /// Where it says they are is no address that may be asked.
    #[error("jwks_uri: {0}")]
    KeysAddress(BadAddress),
}

/// Why an address is not asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BadAddress {
    /// It is none.
    #[error("this is no address")]
    None,
    /// Plain `http` elsewhere.
    #[error("it is not https; plain http is for loopback only")]
    Plain,
    /// A user, a query or a fragment.
    #[error("it has a user, a query or a fragment")]
    Parts,
    /// Loopback, where the issuer is not.
    #[error("it is loopback, and the issuer is not")]
    Loopback,
}

/// An issuer's own address (`iss`).
///
/// # Errors
/// If it may not be asked.
pub fn issuer(iss: &str) -> Result<Url, BadAddress> {
    let url = Url::parse(iss).map_err(|_| BadAddress::None)?;
    if url.query().is_some()
        || url.fragment().is_some()
        || !url.username().is_empty()
        || url.password().is_some()
    {
        return Err(BadAddress::Parts);
    }
    may_be_asked(&url).map(|()| url)
}

fn may_be_asked(url: &Url) -> Result<(), BadAddress> {
    match url.scheme() {
        _ if url.host().is_none() => Err(BadAddress::None),
        "https" => Ok(()),
        "http" if is_loopback(url) => Ok(()),
        "http" => Err(BadAddress::Plain),
        _ => Err(BadAddress::None),
    }
}

/// Whether an address names this machine itself.
pub fn is_loopback(url: &Url) -> bool {
    match url.host() {
        Some(Host::Ipv4(address)) => address.is_loopback(),
        Some(Host::Ipv6(address)) => address.is_loopback(),
        Some(Host::Domain(name)) => name == "localhost" || name.ends_with(".localhost"),
        None => false,
    }
}

/// Both places of an issuer's document.
fn places(issuer: &Url) -> [Url; 2] {
    let path = issuer.path().trim_end_matches('/');
    let at = |path: String| {
        let mut url = issuer.clone();
        url.set_path(&path);
        url
    };
    [
        at(format!("{path}/.well-known/openid-configuration")),
        at(format!("/.well-known/oauth-authorization-server{path}")),
    ]
}

/// Finds out where the keys are.
///
/// # Errors
/// Why it is not known.
pub async fn discover(fetch: &dyn Fetch, iss: &str, private: bool) -> Result<Url, Undiscovered> {
    let issuer = self::issuer(iss).map_err(Undiscovered::Address)?;
    let reach = Reach { loopback: is_loopback(&issuer), private };
    let [first, second] = places(&issuer);
    let document = match fetch.get(&first, reach, MAX_BYTES).await {
        Ok(document) => document,
        Err(why) => match fetch.get(&second, reach, MAX_BYTES).await {
            Ok(document) => document,
            Err(other) => return Err(Undiscovered::Unfetched(why, other)),
        },
    };
    read(&document, iss, reach)
}

fn read(document: &[u8], iss: &str, reach: Reach) -> Result<Url, Undiscovered> {
    let Ok(Value::Object(document)) = json::parse(document) else { return Err(Undiscovered::NoObject) };
    if document.get("issuer").and_then(Value::as_str) != Some(iss) {
        return Err(Undiscovered::OtherIssuer);
    }
    let keys = document.get("jwks_uri").and_then(Value::as_str).ok_or(Undiscovered::NoKeys)?;
    let url = Url::parse(keys).map_err(|_| Undiscovered::KeysAddress(BadAddress::None))?;
    may_be_asked(&url).map_err(Undiscovered::KeysAddress)?;
    if is_loopback(&url) && !reach.loopback {
        return Err(Undiscovered::KeysAddress(BadAddress::Loopback));
    }
    Ok(url)
}
