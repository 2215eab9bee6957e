//! Charters: revisions, drafts, texts on the way, and what they declare.

use ostrog_core::charter::edit::Edit;
use ostrog_core::charter::grid::Grid;
use ostrog_core::decide::explain::Word;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;

/// How things stand.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct Status {
    /// The program's version.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub version: Word,
    /// Since when this node runs.
    pub started: String,
    /// Changes when the database was restored.
    pub epoch: String,
    /// The position of the register.
    pub position: i64,
    /// The digest of the journal there, in hexadecimal.
    pub digest: String,
    /// What was put live last.
    pub revision: Option<RevisionShown>,
    /// By application, the revision that is live for it.
    pub live: BTreeMap<String, i64>,
    /// The charter's name.
    pub charter: Option<String>,
    /// How many entities are registered, for those who may read all of them.
    pub entities: Option<usize>,
    /// How many grants there are, for the same.
    pub grants: Option<usize>,
    /// Whether the database answers.
    pub database: bool,
    /// For how many seconds this node has not been known to be in step with it.
    pub stale: u64,
    /// What the register takes in memory, in bytes, for the same.
    pub memory: Option<usize>,
}

/// A revision.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct RevisionShown {
    /// 1, 2, 3 …
    pub number: i64,
    /// SHA-256 of its files, in hexadecimal.
    pub digest: String,
    /// What its author said of it.
    pub title: String,
    /// Who made it.
    pub author: String,
    /// When.
    pub created_at: String,
    /// Whether it may go live: it was approved, or nobody had to approve.
    #[serde(default)]
    pub approved: bool,
    /// Whether it was put live without an approval.
    #[serde(default)]
    pub urgent: bool,
    /// Why it never goes live again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub barred: Option<String>,
}

/// One file of a charter.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct File {
    /// Its path, with `/` between folders.
    pub path: String,
    /// Its text.
    pub text: String,
}

/// A revision with its text.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RevisionText {
    /// What it is.
    pub revision: RevisionShown,
    /// Its files, by path.
    pub files: Vec<File>,
}

/// A draft.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct DraftShown {
    /// `D-1`, `D-2` …
    pub id: String,
    /// What it is about.
    pub title: String,
    /// The revision it began from.
    pub base: Option<i64>,
    /// Everybody who saved it, by the ids of their keys.
    pub authors: Vec<String>,
    /// SHA-256 of its files, in hexadecimal.
    pub digest: String,
    /// When it was begun.
    pub created_at: String,
    /// When it was last saved.
    pub saved_at: String,
    /// When it was discarded, if it was; for thirty days after it can be taken back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub discarded_at: Option<String>,
}

/// A draft with its text, and what is to be said of it.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DraftText {
    /// What it is.
    pub draft: DraftShown,
    /// Its files, by path.
    pub files: Vec<File>,
    /// What is to be said of it.
    pub standing: Standing,
}

/// How a draft stands beside what is live.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct Standing {
    /// Errors and warnings of its text.
    pub findings: Vec<FindingShown>,
    /// Whether it began from what is live now.
    pub fits: bool,
    /// What it changes, in words; nothing if it has errors or nothing is live.
    pub changes: Vec<ChangeOfText>,
    /// Facts of the register that it does not permit, the first hundred.
    pub unfit: Vec<String>,
}

/// An error or a warning.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FindingShown {
    /// `file:line:column`.
    pub at: String,
    /// `error` or `warning`.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub severity: Word,
    /// The stable name of the kind of finding.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub code: Word,
    /// What is wrong.
    pub message: String,
    /// What to do.
    pub help: Option<String>,
    /// What could stand there instead, if one thing is likely meant.
    pub fix: Option<String>,
    #[serde(flatten)]
    pub range: Range,
}

/// One difference in meaning.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ChangeOfText {
    /// What it is about: `role`, `rule`, `type` …
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub about: Word,
    /// Its key.
    pub key: String,
    /// What is different, in words.
    pub words: String,
    /// Whether more may be done than before (`wider`), less (`narrower`), or neither surely (`other`).
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub effect: Word,
}

/// A text to save.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Saved {
    /// What it is about.
    pub title: String,
    /// Its files.
    pub files: Vec<File>,
    /// The draft that this is the new text of; none: a new draft, from what is live now.
    #[serde(default)]
    pub draft: Option<String>,
    /// The digest of the text that this one was made from: refused if somebody saved another since.
    #[serde(default)]
    pub from: Option<String>,
    /// The text holds what is live now, with the draft's changes: it begins from there.
    #[serde(default)]
    pub onto_live: bool,
}

/// Who has a draft open, and whether its text is still the one that was read.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PresenceShown {
    /// Who else has it open just now, by the names of their keys.
    pub others: Vec<String>,
    /// SHA-256 of its files as they are saved now.
    pub digest: String,
}

/// A charter's files.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Files {
    /// All of them.
    pub files: Vec<File>,
    /// Tell the roles grid of this type too.
    #[serde(default)]
    pub grid: Option<String>,
}

/// What is to be said of a text.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Checked {
    /// Errors, warnings, changes against what is live.
    pub standing: Standing,
    /// Everything that is defined.
    pub outline: Vec<DefinedShown>,
    /// What it declares, if it has no errors.
    pub model: Option<Model>,
    /// The roles grid that was asked for.
    pub grid: Option<Grid>,
}

/// A definition.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DefinedShown {
    /// `type`, `permission`, `role`, `attribute` …
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub kind: Word,
    /// As conditions and lists write it.
    pub name: String,
    /// What it is.
    pub words: String,
    /// Where.
    #[serde(flatten)]
    pub range: Range,
}

/// A stretch of a file, in UTF-16 units as editors count.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Range {
    /// The file.
    pub path: String,
    /// The first unit.
    pub start: usize,
    /// The one after the last.
    pub end: usize,
}

/// Changes of a text by its parts.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Edits {
    /// All files.
    pub files: Vec<File>,
    /// One after the other: `{"path": ["role", "deckhand", "permissions"], "value": […]}`.
    #[cfg_attr(feature = "schema", schema(value_type = Vec<Object>))]
    pub edits: Vec<Edit>,
}

/// A text.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Edited {
    /// Its files, by path.
    pub files: Vec<File>,
}

/// What a charter declares, for lists and pages.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct Model {
    /// Applications.
    pub applications: Vec<Named>,
    /// Resource types.
    pub types: Vec<TypeShown>,
    /// What users, services and tenants have, and what the context may carry.
    pub others: Vec<OtherShown>,
    /// Roles.
    pub roles: Vec<RoleShown>,
    /// Rules, by key.
    pub rules: Vec<RuleShown>,
    /// What relationships confer.
    pub confers: Vec<ConferShown>,
    /// Roles that nobody may hold two of.
    pub separations: Vec<SeparationShown>,
    /// What tenants may put into roles of their own.
    pub tenant_clauses: Vec<ClauseShown>,
    /// Keys of the groups that conditions name.
    pub groups: Vec<String>,
    /// Conditions with names, in the order they are written.
    pub conditions: Vec<NamedShown>,
    /// Routes, in the order they are written.
    pub routes: Vec<RouteShown>,
    /// Affordances, in the order they are written.
    pub affordances: Vec<AffordanceShown>,
    /// What tokens mean, by issuer.
    pub issuers: Vec<IssuerMeant>,
}

/// What the tokens of an issuer mean.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct IssuerMeant {
    /// Its key.
    pub key: String,
    /// For people.
    pub name: String,
    /// Whose questions its tokens may accompany.
    pub applications: Vec<String>,
    /// Each claim that is read, with what it vouches for.
    pub claims: Vec<ClaimMeant>,
    /// Whether a bearer who is not registered counts as signed in.
    pub signed_in: bool,
}

/// A claim, and what it vouches for.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ClaimMeant {
    /// Its name.
    pub claim: String,
    /// What about: `subject`, `service`, `session`, `tenants`, `groups`, `subject.post`, `context.amr`.
    pub about: String,
    /// The same, in words.
    pub words: String,
}

/// A condition with a name.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NamedShown {
    /// Its key.
    pub key: String,
    /// The condition.
    pub when: String,
}

/// An endpoint of an application, and what it needs.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RouteShown {
    /// Routes that are more literal and take some of its requests: `GET /manifests/new`.
    pub gives_way_to: Vec<String>,
    /// The application's key.
    pub application: String,
    /// `GET`, `POST` …
    pub method: String,
    /// `/manifests/{manifest}`
    pub path: String,
    /// The permissions; none: it is open.
    pub needs: Vec<String>,
    /// What these are about, in words.
    pub of: String,
    /// Whether it refuses what matches, whoever asks.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub refused: bool,
}

/// What an application's interface shows and enables.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AffordanceShown {
    /// The application's key.
    pub application: String,
    /// Its key.
    pub key: String,
    /// Its name.
    pub name: String,
    /// The permission that shows it.
    pub visible: String,
    /// The permission that enables it.
    pub enabled: String,
    /// The key of the affordance it is hidden with.
    pub under: Option<String>,
}

/// A role.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct RoleShown {
    /// Its key.
    pub key: String,
    /// Its name.
    pub name: String,
    /// For people.
    pub description: String,
    /// Roles it includes.
    pub includes: Vec<String>,
    /// Who may hold it: `user`, `service`.
    #[cfg_attr(feature = "schema", schema(value_type = Vec<String>))]
    pub held_by: Vec<Word>,
    /// Where it may be granted; none stated: anywhere.
    pub held_at: Option<Vec<String>>,
    /// Whether it may be granted.
    pub grantable: bool,
    /// To whom it is given without a grant.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>))]
    pub given_to: Option<Word>,
    /// The values each grant names, and their types.
    pub values: Vec<ValueAsked>,
    /// What it gives by itself.
    pub permissions: Vec<String>,
    /// What it takes out of what it gives.
    pub except: Vec<String>,
    /// What guards all it gives.
    pub when: Option<String>,
    /// What it gives under conditions of their own, in the order they are written.
    pub clauses: Vec<ClauseShown>,
    /// On what terms its grants are activated.
    pub standby: Option<StandbyShown>,
}

/// Permissions under a condition.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ClauseShown {
    /// The permissions.
    pub permissions: Vec<String>,
    /// The condition; none: always.
    pub when: Option<String>,
}

/// A value that each grant of a role names.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ValueAsked {
    /// Its name.
    pub key: String,
    /// Its type.
    pub kind: String,
}

/// On what terms grants of a role are activated.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct StandbyShown {
    /// Longest time of one activation, in seconds.
    pub longest: i64,
    /// Whether it needs a reason.
    pub reason: bool,
    /// Whether its holder may activate it.
    pub by_self: bool,
    /// What must be so.
    pub when: Option<String>,
}

/// A rule.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct RuleShown {
    /// Its key.
    pub key: String,
    /// `allow` or `deny`.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub effect: Word,
    /// What it is about.
    pub permissions: Vec<String>,
    /// Its condition; none: always.
    pub when: Option<String>,
    /// For the person refused.
    pub message: Option<String>,
    /// Whether it reaches anyone, or only who is signed in.
    pub for_anyone: bool,
    /// Whether it reaches members of other tenants.
    pub across_tenants: bool,
}

/// What a relationship confers.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ConferShown {
    /// The type that confers.
    pub kind: String,
    /// The role.
    pub role: String,
    /// The relation, or path, from the resource.
    pub path: String,
    /// Whoever holds this role at its end; none: who stands there.
    pub holds: Option<String>,
    /// Its condition.
    pub when: Option<String>,
    /// All of it in one sentence.
    pub sentence: String,
}

/// Roles that nobody may hold two of.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SeparationShown {
    /// Its key.
    pub key: String,
    /// Its name.
    pub name: String,
    /// The roles.
    pub roles: Vec<String>,
}

/// Something with a key and a name.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Named {
    /// Its key.
    pub key: String,
    /// Its name.
    pub name: String,
    /// For people.
    pub description: String,
}

/// A resource type.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TypeShown {
    /// Its key.
    pub key: String,
    /// Its name.
    pub name: String,
    /// The application that owns it.
    pub application: String,
    /// What it may lie within.
    pub within: Vec<String>,
    /// Its actions.
    pub actions: Vec<Named>,
    /// Its attributes.
    pub attributes: Vec<Property>,
    /// Its relations.
    pub relations: Vec<Property>,
}

/// What something has that is no resource.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OtherShown {
    /// `user`, `service`, `tenant` or `context`.
    pub key: String,
    /// Its attributes; of the context, its keys.
    pub attributes: Vec<Property>,
    /// Its relations.
    pub relations: Vec<Property>,
}

/// An attribute or a relation.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct Property {
    /// Its name.
    pub key: String,
    /// The type of its value, or the types it leads to.
    pub kind: String,
    /// Whether there can be several.
    pub many: bool,
    /// Where it is read from: `register`, `request` or `either`.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub from: Word,
    /// The only values it may have.
    pub values: Option<Vec<Value>>,
    /// What it is where nothing states it.
    pub default: Option<Value>,
    /// Whether it may lead into another tenant.
    pub across_tenants: bool,
}

/// Under which text.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::IntoParams))]
#[cfg_attr(feature = "schema", into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub struct Under {
    /// A draft, `D-1`; none: what is live.
    pub draft: Option<String>,
}
