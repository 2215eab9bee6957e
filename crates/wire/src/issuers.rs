//! Issuers of tokens, and what a token says.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::collections::BTreeMap;

/// An issuer to set up.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct IssuerAsked {
    /// Its key in charters: `[issuer.KEY]`.
    pub key: String,
    /// Its address: the `iss` of its tokens, letter by letter.
    pub url: String,
    /// By application, the audiences (`aud`) its tokens may name.
    #[serde(default)]
    pub audiences: BTreeMap<String, Vec<String>>,
    /// A JWK set or PEM; without it the keys are had from where the issuer says they are.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub keys: Option<String>,
    /// Whether private and link-local addresses may be asked.
    #[serde(default)]
    pub private: bool,
    /// Whether its ID tokens count.
    #[serde(default)]
    pub id_tokens: bool,
    /// Whether operators sign in with it.
    #[serde(default)]
    pub operators: bool,
    /// As which client: one that serves no application.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub client: Option<String>,
}

/// An issuer, and how it stands on this node.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct IssuerShown {
    /// Its key in charters.
    pub key: String,
    /// Its address.
    pub url: String,
    /// By application, the audiences its tokens may name.
    pub audiences: BTreeMap<String, Vec<String>>,
    /// Whether its keys were given as a file.
    pub from_file: bool,
    /// Whether private and link-local addresses may be asked.
    pub private: bool,
    /// Whether its ID tokens count.
    pub id_tokens: bool,
    /// Whether operators sign in with it.
    pub operators: bool,
    /// As which client.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub client: Option<String>,
    /// Whether another has to approve that first.
    pub waits: bool,
    /// Since when.
    pub created_at: String,
    /// Who set it up.
    pub author: String,
    /// Whether the live charter has a block for it.
    pub in_charter: bool,
    /// Its keys, each taken or skipped.
    pub keys: Vec<KeyFound>,
    /// When these came.
    pub keys_since: Option<String>,
    /// Why the last attempt to have them failed.
    pub failed: Option<String>,
    /// Why a token was last refused, and when.
    pub refused: Option<Refusal>,
}

/// A key of an issuer's set.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct KeyFound {
    /// Its place in the set, from 1.
    pub place: usize,
    /// What it is called.
    pub kid: Option<String>,
    /// What it verifies; nothing if it was skipped.
    pub algorithms: Vec<String>,
    /// Why it was skipped.
    pub skipped: Option<String>,
}

/// A token that was refused.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct Refusal {
    /// When.
    pub at: String,
    /// Why.
    pub why: String,
}

/// What finding an issuer's keys comes to, step by step.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct Attempted {
    /// Steps, up to the first that fails.
    pub steps: Vec<AttemptStep>,
    /// The keys, each taken or skipped.
    pub keys: Vec<KeyFound>,
}

/// One step.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct AttemptStep {
    /// What was done.
    pub what: String,
    /// Whether it went well.
    pub ok: bool,
    /// What came of it.
    pub words: String,
}

/// A token as it came. `Debug` does not show it.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(transparent)]
pub struct TokenText(pub String);

impl std::fmt::Debug for TokenText {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("TokenText(…)")
    }
}

/// A token to read, or claims to be read as if a token of an issuer had them. Neither is kept or logged.
#[derive(Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct TokenAsked {
    /// The token.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>))]
    pub token: Option<TokenText>,
    /// In its place: the key of an issuer in the charter, for claims.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub issuer: Option<String>,
    /// And the claims, taken as verified.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Object>))]
    pub claims: Option<Map<String, Value>>,
}

impl std::fmt::Debug for TokenAsked {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("TokenAsked(…)")
    }
}

/// What a token says, and what it means here.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct TokenRead {
    /// Its header, as far as it can be read.
    #[cfg_attr(feature = "schema", schema(value_type = Object))]
    pub header: Map<String, Value>,
    /// Its claims, as far as they can be read.
    #[cfg_attr(feature = "schema", schema(value_type = Object))]
    pub claims: Map<String, Value>,
    /// Whether it holds; none if there was nothing to hold it against.
    pub verified: Option<bool>,
    /// Why it does not, or with what.
    pub words: String,
    /// Whom it names here.
    pub subject: Option<String>,
    /// Why it names nobody.
    pub nobody: Option<String>,
    /// What became of each claim that the charter reads.
    pub read: Vec<ClaimRead>,
    /// What its bearer may do that the register alone would not give: permission and resource.
    pub gains: Vec<Gain>,
    /// What the register alone would give, and the token does not.
    pub losses: Vec<Gain>,
}

/// One claim, and what became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct ClaimRead {
    /// Its name, as the charter has it.
    pub claim: String,
    /// What it is about: `subject.post`, `group:night`.
    pub about: String,
    /// `counted`, `ignored`, `undetermined` or `missing`.
    pub outcome: String,
    /// What is to be said of it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub words: String,
    /// What the register says of the same, where that is something else.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub register: Option<String>,
}

/// Something that may be done.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct Gain {
    /// `type:action`
    pub permission: String,
    /// By what: the reason code.
    pub reason: String,
    /// On how many registered resources.
    pub resources: usize,
    /// The first of them.
    pub first: Vec<String>,
}
