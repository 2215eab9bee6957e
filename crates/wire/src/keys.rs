//! Keys, and signing in with one.

use serde::{Deserialize, Serialize};
use std::fmt;

/// What an application's key can be kept to.
pub const ENDPOINTS: [&str; 7] =
    ["evaluation", "evaluations", "search", "rows", "affordances", "position", "activation"];

/// How much an answer tells the holder of a key.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Detail {
    /// The decision alone.
    None,
    /// The reason code, a rule's message and advice.
    #[default]
    Reason,
    /// The explanation too, where it is asked for.
    Full,
}

/// What a reverse proxy's key is for.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Proxied {
    /// For whose routes it asks: one application, or several by host.
    pub applications: Vec<ProxiedApplication>,
    /// In which pair of headers the request is told; the other is never looked at.
    pub headers: HeaderPair,
    /// How many proxies, this one included, write down in `X-Forwarded-For` whom they were asked by.
    #[serde(default)]
    pub trusted_hops: u8,
    /// What paths begin with that the application's routes do not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub strip: Option<String>,
    /// The field of the context that the client's address fills.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address_as: Option<String>,
}

/// An application behind a proxy.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ProxiedApplication {
    /// Its key.
    pub application: String,
    /// The host that is asked for, with a port if only that one is meant; none: every one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub host: Option<String>,
}

/// Which headers tell what was requested.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum HeaderPair {
    /// `X-Original-Method`, `X-Original-URI`, `X-Original-Host`.
    Original,
    /// `X-Forwarded-Method`, `X-Forwarded-Uri`, `X-Forwarded-Host`.
    Forwarded,
}

/// A role that an operator holds at a place.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Right {
    /// The role's key.
    pub role: String,
    /// `everywhere`, or a tenant.
    pub at: String,
}

/// A key, without its secret.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct KeyShown {
    /// What it is called in logs and changes.
    pub id: String,
    /// The application it asks for; none for an operator's.
    pub application: Option<String>,
    /// What its maker called it.
    pub name: String,
    /// Since when.
    pub created_at: String,
    /// Until when, if it ends by itself.
    pub until: Option<String>,
    /// When it was last used, to the minute.
    pub last_used_at: Option<String>,
    /// How much its answers tell: `none`, `reason`, `full`.
    pub detail: Detail,
    /// The endpoints it is kept to; none: all.
    pub endpoints: Vec<String>,
    /// Types of other applications it may ask about.
    pub types: Vec<String>,
    /// What an operator may do.
    pub rights: Vec<Right>,
    /// What a reverse proxy's key is for; none: it is no proxy's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proxy: Option<Proxied>,
    /// Whose an operator's key is; none: a program's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub person: Option<String>,
    /// Whether it is for trying ahead alone.
    #[serde(default)]
    pub staging: bool,
}

/// A key to make.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct KeyAsked {
    /// What to call it.
    pub name: String,
    /// The application it is to ask for; none: an operator's key.
    #[serde(default)]
    pub application: Option<String>,
    /// Until when.
    #[serde(default)]
    pub until: Option<String>,
    /// How much its answers tell: `none`, `reason` (unless stated), `full`.
    #[serde(default)]
    pub detail: Detail,
    /// The endpoints it is kept to: `evaluation`, `evaluations`, `search`, `rows`, `affordances`, `position`, `activation`;
    /// none: all that its maker may give.
    #[serde(default)]
    pub endpoints: Vec<String>,
    /// Types of other applications it may ask about.
    #[serde(default)]
    pub types: Vec<String>,
    /// What an operator may do: roles at `everywhere` or `tenant:id`.
    #[serde(default)]
    pub rights: Vec<Right>,
    /// What a reverse proxy's key is for: it asks the route check, and nothing else.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proxy: Option<Proxied>,
    /// Whose an operator's key is: an operator on record. None: a program's, which approves nothing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub person: Option<String>,
    /// An application's key for trying ahead: each of its questions names the revision it is asked under.
    #[serde(default)]
    pub staging: bool,
}

/// A new key. Its text is shown this once.
#[derive(Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct KeyMade {
    /// What the holder sends.
    pub text: String,
    /// What it is.
    pub key: KeyShown,
}

/// For how long the old key goes on counting.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::IntoParams))]
#[cfg_attr(feature = "schema", into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub struct Overlap {
    /// Seconds; a day unless stated, at most 30 days.
    pub overlap: Option<u32>,
}

/// A sign-in.
#[derive(Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct SignIn {
    /// An operator's key.
    pub key: String,
}

/// Who is signed in.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct SignedIn {
    /// By what they are recorded: a key's id, `person:ines`, `sign-in:port-id/ines`.
    pub key: String,
    /// What they are called, or the key by its maker.
    pub name: String,
    /// The issuer they signed in with; none: with a key.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub issuer: Option<String>,
    /// Until when that lasts at most, or before it is renewed; none: a key was sent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
    /// When they last showed the issuer who they are.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signed_in_at: Option<String>,
}

/// An issuer that operators sign in with.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SignInWith {
    /// Its key.
    pub issuer: String,
    /// Its address.
    pub url: String,
}

/// A device that waits to be confirmed (RFC 8628, 3.2).
#[derive(Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DeviceShown {
    /// What the session is asked for with.
    pub device_code: String,
    /// What whoever confirms it is shown.
    pub user_code: String,
    /// Where.
    pub verification_uri: String,
    /// Where, with the code in it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub verification_uri_complete: Option<String>,
    /// For how many seconds it counts.
    pub expires_in: u64,
    /// How many seconds lie between two questions.
    pub interval: u64,
}

/// A sign-in of a command line to begin (RFC 8252, 7.3).
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct LoopbackAsked {
    /// Where it listens: `http://127.0.0.1:PORT/signed-in`.
    pub back: String,
}

/// One that is begun: what whoever began it keeps until the browser comes back.
#[derive(Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LoopbackBegun {
    /// Where the browser is to be sent.
    pub address: String,
    /// What comes back with the code.
    pub state: String,
    /// What the ID token names.
    pub nonce: String,
    /// What the code is had with (RFC 7636).
    pub verifier: String,
}

/// A session to ask for: with a device's code, or with what a browser brought back.
#[derive(Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct SessionAsked {
    /// A device's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device_code: Option<String>,
    /// The code that came back …
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
    /// … from which issuer it said to be …
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub iss: Option<String>,
    /// … and what had been kept.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub back: Option<String>,
    /// What the ID token names.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub nonce: Option<String>,
    /// What the code is had with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub verifier: Option<String>,
}

/// What asking for a session comes to.
#[derive(Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct SessionOutcome {
    /// Nobody has confirmed the device yet: ask again.
    pub pending: bool,
    /// It was asked too soon: wait five seconds longer between two questions (RFC 8628, 3.5).
    pub slow_down: bool,
    /// The session.
    pub given: Option<SessionGiven>,
}

/// A session. Its text is told this once.
#[derive(Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct SessionGiven {
    /// What its holder sends: `Authorization: Bearer …`.
    pub session: String,
    /// What its claims are had anew with, once an hour.
    pub renewal: Option<String>,
    /// Whose it is.
    pub who: SignedIn,
}

/// Claims to have anew.
#[derive(Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct RenewalAsked {
    /// With what; none: with what the console's cookie holds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub renewal: Option<String>,
}

/// Claims that were had anew.
#[derive(Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Renewed {
    /// What they are had anew with the next time; none: the console's cookie holds it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub renewal: Option<String>,
    /// Whose the session is, and until when.
    pub who: SignedIn,
}

impl fmt::Debug for KeyMade {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("KeyMade").field("key", &self.key).finish_non_exhaustive()
    }
}

macro_rules! secret {
    ($($name:ident)*) => {$(
        impl fmt::Debug for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str(concat!(stringify!($name), "(…)"))
            }
        }
    )*};
}
secret!(DeviceShown LoopbackBegun SessionAsked SessionOutcome SessionGiven RenewalAsked Renewed);

impl fmt::Debug for SignIn {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("SignIn(…)")
    }
}
