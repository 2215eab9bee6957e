//! Charters that are live side by side: which of them must declare a fact, and which may ignore it.

use super::*;
use std::collections::BTreeMap;

/// Whose word counts for what is said of a type, where several charters are live: by the type's key, the place
/// of a charter among them.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Owners(BTreeMap<Box<str>, usize>);

/// Of one charter, or of none.
static FIRST: Owners = Owners(BTreeMap::new());

impl Owners {
    /// Where there is one charter, or none: its word counts for everything.
    pub fn of_one() -> &'static Owners {
        &FIRST
    }

    /// The charter that must declare what is said of a type.
    pub fn of(&self, kind: &str) -> Option<usize> {
        self.0.get(kind).copied()
    }

    /// All types that have an owner, with the charter that it is.
    pub fn all(&self) -> impl Iterator<Item = (&str, usize)> {
        self.0.iter().map(|(kind, at)| (&**kind, *at))
    }
}

impl FromIterator<(Box<str>, usize)> for Owners {
    fn from_iter<I: IntoIterator<Item = (Box<str>, usize)>>(all: I) -> Owners {
        Owners(all.into_iter().collect())
    }
}

/// Something that was said and that one of the live charters does not declare: it counts under the others.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ignored {
    /// The place of the charter among those that are live.
    pub policy: usize,
    /// What it does not declare.
    pub why: Wrong,
    /// The first change that says it, from 0.
    pub change: usize,
}

/// Most that is told of what is ignored.
const MAX_IGNORED: usize = 100;

impl<'p> Batch<'_, 'p> {
    /// What the charters say of something that they declare; the one whose word counts comes first. It must be
    /// declared by the one that owns the type, or by any where nobody does (users and groups, roles). One that
    /// does not declare it ignores it, which is noted.
    pub(super) fn declared<T>(
        &mut self,
        kind: &str,
        find: impl Fn(&'p Policy) -> Result<T, Wrong>,
    ) -> Result<Vec<(&'p Policy, T)>, Wrong> {
        let Checks { policies, owners, .. } = self.checks;
        let is_resource = |policy: &&Policy| policy.kind(kind).is_some_and(KindId::is_resource);
        let owner = match policies {
            [] | [_] => Some(0),
            // Declared somewhere and nobody's to ask about: what is said of it would count for others only.
            _ if policies.iter().any(is_resource) => match owners.of(kind) {
                Some(owner) => Some(owner),
                None => return Err(Wrong::UnknownType { kind: kind.into(), near: Near::default() }),
            },
            _ => None,
        };
        let mut found = Vec::with_capacity(policies.len());
        let mut missing = None;
        for (at, policy) in policies.iter().enumerate() {
            match find(policy) {
                Ok(declared) if owner == Some(at) => found.insert(0, (*policy, declared)),
                Ok(declared) => found.push((*policy, declared)),
                Err(why) if owner == Some(at) => return Err(why),
                Err(why) => {
                    // Of a type that is not declared nothing else is told.
                    if policy.kind(kind).is_some() || matches!(why, Wrong::UnknownType { .. }) {
                        self.ignored_by(at, &why);
                    }
                    missing = missing.or(Some(why));
                }
            }
        }
        match missing {
            Some(why) if found.is_empty() => Err(why),
            _ => Ok(found),
        }
    }

    fn ignored_by(&mut self, policy: usize, why: &Wrong) {
        let same = |known: &Ignored| known.policy == policy && known.why == *why;
        if self.ignored.len() < MAX_IGNORED && !self.ignored.iter().any(same) {
            self.ignored.push(Ignored { policy, why: why.clone(), change: self.at });
        }
    }
}
