//! What is live for whom, how it came there, and what is on its way: rollouts, reviews, settings, nodes.

use crate::charter::RevisionShown;
use ostrog_core::release::accept::Item;
use ostrog_core::shift::Shift;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// What is live for an application.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct LiveShown {
    /// The application.
    pub application: String,
    /// The revision.
    pub revision: i64,
    /// What its author said of it.
    pub title: String,
    /// Since when.
    pub since: String,
    /// Who put it live.
    pub by: String,
    /// Whether it was put live without an approval, and has none yet.
    pub urgent: bool,
    /// What a rollback goes to, if there is a way back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub back: Option<i64>,
}

/// One step of what was live for an application.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct StepShown {
    /// Its position.
    pub position: i64,
    /// The application.
    pub application: String,
    /// What went live; none: the application is not part of what is live any more.
    pub revision: Option<i64>,
    /// What was live until then.
    pub before: Option<i64>,
    /// Whether it went back.
    pub back: bool,
    /// When.
    pub at: String,
    /// Who.
    pub actor: String,
    /// Why.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// Who gained and who lost by it, in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shift: Option<String>,
}

/// What is to go live.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct RolloutAsked {
    /// A revision, `3`; or a draft, `D-1`, where nobody has to approve, or urgently.
    pub what: String,
    /// For which applications: `all`, or their keys with commas between.
    pub r#for: String,
    /// Why; kept with the change.
    #[serde(default)]
    pub note: Option<String>,
    /// Go live even if facts of the register do not fit: they will give nothing.
    #[serde(default)]
    pub accept_unfit: bool,
    /// A draft goes live without the approvals it needs; by an owner, with a note.
    #[serde(default)]
    pub urgent: bool,
    /// What is live there now, where it is not what the revision was approved on.
    #[serde(default)]
    pub over: Option<i64>,
    /// Only says what would be refused, and who would gain and lose.
    #[serde(default)]
    pub check: bool,
}

/// What is to go back.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct RollbackAsked {
    /// For which applications: `all`, or their keys with commas between.
    pub r#for: String,
    /// To which revision; without it, to the one before the present one.
    #[serde(default)]
    pub to: Option<i64>,
    /// Why; kept with the change.
    #[serde(default)]
    pub note: Option<String>,
}

/// What went live.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct ReleasedShown {
    /// The revision; of a rollback for several applications, the newest that it went back to.
    pub revision: RevisionShown,
    /// By application, what is live for it now; nothing where it is not part of it any more.
    pub live: BTreeMap<String, Option<i64>>,
    /// Where that stands, `<epoch>.<n>`.
    pub position: String,
    /// Who gains and who loses, in words.
    pub words: String,
    /// The same line by line.
    pub shift: Shift,
    /// Facts that do not fit, and give nothing.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unfit: Vec<String>,
}

/// A reason, kept with what it is for.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NoteAsked {
    /// Why.
    pub note: String,
}

/// An approval.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct ApprovalAsked {
    /// The digest of the text that was read: refused if another was saved since.
    pub digest: Option<String>,
    /// The number of the report that was read: refused if it was rehearsed again since.
    pub report: Option<i64>,
    /// What is accepted, by the ids of its items, each with its note; `all` stands for every item.
    pub accepts: BTreeMap<String, String>,
    /// Of a revision, `R-3`: that it goes live over another one than it was approved on.
    pub over: Option<i64>,
    /// Why.
    pub note: Option<String>,
}

/// What an approval came to.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ApprovalShown {
    /// How many approvals there are now.
    pub approvals: usize,
    /// How many are needed.
    pub needed: usize,
    /// The revision it became.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub revision: Option<i64>,
}

/// An approval or a return.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct ReviewLine {
    /// `approve` or `return`.
    pub verdict: String,
    /// Who.
    pub by: String,
    /// When.
    pub at: String,
    /// Why.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// Whether it is an approval that counts.
    pub counts: bool,
    /// Why it counts no more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub voided: Option<String>,
}

/// A remark.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct CommentShown {
    /// On which file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// On which line of it, from 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub line: Option<i32>,
    /// What it says.
    pub text: String,
    /// Who says so.
    pub by: String,
    /// When.
    pub at: String,
}

/// A remark to make.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct CommentAsked {
    /// On which file, if on a line.
    #[serde(default)]
    pub path: Option<String>,
    /// On which line of it, from 1.
    #[serde(default)]
    pub line: Option<i32>,
    /// What it says.
    pub text: String,
}

/// How a draft stands on its way to be a revision.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct ReviewShown {
    /// `D-1`.
    pub draft: String,
    /// What it is about.
    pub title: String,
    /// The digest of its text.
    pub digest: String,
    /// By application, what was live when it began.
    pub bases: BTreeMap<String, i64>,
    /// Everybody who counts as its editor.
    pub editors: Vec<String>,
    /// How many approvals it needs.
    pub needed: usize,
    /// How many count.
    pub approvals: usize,
    /// What was said of it, oldest first.
    pub reviews: Vec<ReviewLine>,
    /// Remarks on it, oldest first.
    pub comments: Vec<CommentShown>,
    /// The number of the report that an approval binds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub report: Option<i64>,
    /// What that found, in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub found: Option<String>,
    /// What every approver must accept with a note, what is told first on top.
    pub to_accept: Vec<Item>,
    /// Why nobody can approve it yet.
    pub blocked: Vec<String>,
    /// Why the caller may not approve it; none: they may.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub not_you: Option<String>,
}

/// Something that waits for somebody.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct Waiting {
    /// `D-1`, `S-1`, or `R-1` of a revision that went live urgently.
    pub id: String,
    /// What it is about.
    pub title: String,
    /// Who wrote it.
    pub by: String,
    /// Since when.
    pub since: String,
    /// How many approvals it has.
    pub approvals: usize,
    /// How many it needs.
    pub needed: usize,
    /// Why it cannot be approved yet, or not by the caller; none: the caller may approve it now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub not_yet: Option<String>,
}

/// Settings to put.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct SettingsAsked {
    /// The text, TOML.
    pub text: String,
    /// The number of those they were made from, 0 for none: refused if others were put since.
    #[serde(default)]
    pub from: Option<i64>,
    /// Why; kept with the change.
    #[serde(default)]
    pub note: Option<String>,
    /// Only says what they would change.
    #[serde(default)]
    pub check: bool,
}

/// Settings that were put.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct SettingsPut {
    /// `S-1`.
    pub id: String,
    /// The text.
    pub text: String,
    /// Who put them.
    pub by: String,
    /// When.
    pub at: String,
    /// Why.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// `in-force`, `waiting`, `before` or `ended`.
    pub state: String,
    /// Why they wait, or wait no more.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub why: Vec<String>,
}

/// Settings, and what was put.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct SettingsShown {
    /// The number of those in force; 0: nobody has put any.
    pub number: i64,
    /// Their text.
    pub text: String,
    /// How many must approve a change of policy.
    pub approvals: usize,
    /// Whether a rehearsal must have passed.
    pub require_rehearsal: bool,
    /// Operators on record.
    pub people: Vec<PersonShown>,
    /// What was put, newest first, at most a hundred.
    pub history: Vec<SettingsPut>,
}

/// An operator on record.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct PersonShown {
    /// Their key in the settings.
    pub key: String,
    /// For people.
    pub name: String,
    /// How they sign in.
    pub sign_ins: Vec<String>,
    /// What they may when they do, besides what their groups let them.
    pub roles: Vec<String>,
}

/// What settings change.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct SettingsChange {
    /// Their number, once they were put.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub id: Option<String>,
    /// Whether they are in force now, or would be.
    pub in_force: bool,
    /// What in them is approved by another.
    pub weighs: Vec<String>,
    /// Who would be let do what, and who no more.
    pub moved: Vec<OperatorMoved>,
}

/// What somebody who operates may do that they could not, or no more.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OperatorMoved {
    /// A person on record, or a group.
    pub who: String,
    /// Whether it is gained.
    pub gained: bool,
    /// `charter:approve at everywhere`.
    pub what: String,
}

/// A node.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct NodeShown {
    /// What it calls itself: new with every start.
    pub id: String,
    /// Where it listens.
    pub address: String,
    /// Since when it runs.
    pub started: String,
    /// How far it answers.
    pub position: i64,
    /// When it last said so.
    pub seen: String,
    /// Until when it may answer from what it knew then.
    pub until: String,
}

/// A shadow to begin.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ShadowAsked {
    /// Under which revision.
    pub revision: i64,
    /// Whose questions: `all`, or keys of applications with commas between.
    pub r#for: String,
    /// Until when; without it, until it is stopped.
    #[serde(default)]
    pub until: Option<String>,
    /// One in this many of them; all unless stated.
    #[serde(default)]
    pub one_in: Option<i32>,
    /// The share of one processor's time that a node may spend on it, in percent; 25 unless stated.
    #[serde(default)]
    pub share: Option<i32>,
}

/// A shadow.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct ShadowShown {
    /// 1, 2, 3 …
    pub number: i64,
    /// Under which revision.
    pub revision: i64,
    /// Whose questions.
    pub applications: Vec<String>,
    /// One in this many of them, as it was asked for.
    pub one_in: i32,
    /// One in this many now: there was more to answer than its share allows.
    pub sampled: i32,
    /// The share of one processor's time, in percent.
    pub share: i32,
    /// Who began it.
    pub by: String,
    /// When.
    pub started: String,
    /// Until when.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
    /// Why it has ended; none: it runs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended: Option<String>,
    /// Questions that were answered once more, on all nodes.
    pub asked: i64,
    /// Of these, those with another answer.
    pub differing: i64,
    /// Questions that there was no room for.
    pub dropped: i64,
}

/// Questions whose answers differ in the same way.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct DifferenceGroup {
    /// What was asked for.
    pub permission: String,
    /// Whether it is allowed live, and denied in the shadow; else the other way round.
    pub newly_denied: bool,
    /// Why it is as it is live.
    pub reason: String,
    /// Why it is as it is in the shadow.
    pub shadow_reason: String,
    /// How often it was asked.
    pub times: i64,
    /// Different questions, the most frequent first, at most 50.
    pub questions: Vec<DifferenceShown>,
}

/// A question whose answers differ.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct DifferenceShown {
    /// Who asked: an application, or `operator`.
    pub application: String,
    /// The subject.
    pub subject: String,
    /// The resource; none: a new one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub resource: Option<String>,
    /// What else was said, as a case has it.
    #[cfg_attr(feature = "schema", schema(value_type = Object))]
    pub said: serde_json::Value,
    /// How often.
    pub times: i64,
    /// First.
    pub first: String,
    /// Last.
    pub last: String,
}
