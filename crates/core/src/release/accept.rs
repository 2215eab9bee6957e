//! What approvers of a change must each accept, with a note: who gains and who loses, guarantees that do not hold,
//! and whatever weakens the checks.

use crate::rehearse::Weaker;
use crate::shift::Shift;
use serde::{Deserialize, Serialize};
use sha2::{Digest as _, Sha256};
use std::collections::{BTreeMap, BTreeSet};

/// What kind of thing is accepted, in the order in which they are told.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Kind {
    /// Somebody may do more.
    Gain,
    /// Somebody may do less.
    Loss,
    /// A guarantee is refuted, undecided or says nothing.
    Guarantee,
    /// A case or a guarantee was taken out or changed, or something is assumed.
    Check,
}

/// Something that must be accepted.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(as = ToAccept))]
pub struct Item {
    /// What it is accepted by; another change has another one.
    pub id: String,
    /// What it is.
    pub kind: Kind,
    /// In words.
    pub words: String,
    /// Why it stands on top: it is a gain of an editor, of a service, or of everybody.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first: Option<String>,
    /// Of a gain or a loss, the permission.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub permission: Option<String>,
    /// Of a gain or a loss, everybody.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub subjects: Vec<String>,
    /// Of a loss that concerns somebody with further words, or a guarantee: the rest.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub told: Vec<String>,
}

fn id(parts: &[&str]) -> String {
    let mut digest = Sha256::new();
    for part in parts {
        digest.update(part.len().to_be_bytes());
        digest.update(part);
    }
    let digest = crate::source::Digest(digest.finalize().into()).to_string();
    digest[..12].to_owned()
}

/// Who is told of first: what an item says about them.
#[derive(Clone, Copy)]
pub struct First<'a> {
    /// Users who are editors of the change, or operators.
    pub people: &'a BTreeSet<String>,
    /// Whether a reason is a role or a rule that everybody, or everybody who is signed in, has.
    pub for_all: &'a dyn Fn(&str) -> bool,
}

impl std::fmt::Debug for First<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("First").field("people", &self.people).finish_non_exhaustive()
    }
}

/// What a shift asks to be accepted: gains first, and of these what is told first.
pub fn of_shift(shift: &Shift, first: First<'_>) -> Vec<Item> {
    let mut items: Vec<Item> = shift
        .lines
        .iter()
        .map(|line| {
            let (kind, verb) = if line.lost { (Kind::Loss, "lose") } else { (Kind::Gain, "gain") };
            let why = if line.lost {
                format!("{} before, {} now", line.before, line.after)
            } else {
                line.after.clone()
            };
            let who = match line.everyone.as_slice() {
                [one] => format!("{one} {verb}s"),
                all => format!("{} {}s {verb}", all.len(), line.kind),
            };
            let people = line.everyone.iter().find(|one| first.people.contains(*one));
            let told_first = if line.lost {
                None
            } else if line.kind == "anonymous" || (first.for_all)(&line.after) {
                Some("everybody".to_owned())
            } else if line.kind == "service" {
                Some("a service".to_owned())
            } else {
                people.map(|one| format!("{one} operates or edits"))
            };
            let mut parts = vec![
                if line.lost { "loss" } else { "gain" },
                line.permission.as_str(),
                line.before.as_str(),
                line.after.as_str(),
            ];
            parts.extend(line.everyone.iter().map(String::as_str));
            let resources = match line.resources {
                1 => "1 resource".to_owned(),
                count => format!("{count} resources"),
            };
            Item {
                id: id(&parts),
                kind,
                words: format!("{who} {} on {resources} ({why})", line.permission),
                first: told_first,
                permission: Some(line.permission.clone()),
                subjects: line.everyone.clone(),
                told: Vec::new(),
            }
        })
        .collect();
    items.sort_by_key(|item| (item.kind, item.first.is_none()));
    items
}

/// A guarantee that does not hold: its sentence, what became of it, and what else is told.
pub fn of_guarantee(name: &str, outcome: &str, told: Vec<String>) -> Item {
    Item {
        id: id(&["guarantee", name, outcome]),
        kind: Kind::Guarantee,
        words: format!("{name}: {outcome}"),
        first: None,
        permission: None,
        subjects: Vec::new(),
        told,
    }
}

/// What weakens the checks.
pub fn of_checks(weaker: &[Weaker]) -> Vec<Item> {
    let item = |one: &Weaker| Item {
        id: id(&["check", one.what, &one.name, &one.words, &one.mark]),
        kind: Kind::Check,
        words: format!("{} {:?}: {}", one.what, one.name, one.words),
        first: None,
        permission: None,
        subjects: Vec::new(),
        told: Vec::new(),
    };
    weaker.iter().map(item).collect()
}

/// Gains and losses of which no accepted item says so: by whom and for what, whatever the reason.
pub fn not_accepted(found: &[Item], accepted: &[Item]) -> Vec<Item> {
    let mut known: BTreeMap<(Kind, &str), BTreeSet<&str>> = BTreeMap::new();
    for item in accepted {
        if let Some(permission) = &item.permission {
            let subjects = item.subjects.iter().map(String::as_str);
            known.entry((item.kind, permission)).or_default().extend(subjects);
        }
    }
    let left = |item: &Item| {
        let permission = item.permission.as_deref()?;
        let known = known.get(&(item.kind, permission));
        let subjects: Vec<String> = item
            .subjects
            .iter()
            .filter(|subject| known.is_none_or(|known| !known.contains(subject.as_str())))
            .cloned()
            .collect();
        (!subjects.is_empty()).then(|| Item { subjects, ..item.clone() })
    };
    found.iter().filter_map(left).collect()
}
