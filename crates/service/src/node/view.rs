//! What is answered from: everything as it was at one position. It is never changed; the next position has a
//! view of its own, which shares with this one all that is the same.

use crate::operators::Rights;
use jiff::Timestamp;
use ostrog_core::decide::in_force::Part;
use ostrog_core::prelude::{InForce, Policy, Register, World};
use ostrog_core::release::settings::Settings;
use ostrog_store::issuer::Issuer;
use ostrog_store::journal::Chain;
use ostrog_store::key::{Detail, Key, KeyKind};
use ostrog_store::release::Placed;
use ostrog_store::revision::RevisionInfo;
use ostrog_store::shadow::Shadow;
use std::collections::HashMap;
use std::sync::Arc;

/// Charters in force, with the register they are asked about.
#[derive(Clone, Debug)]
pub struct Live {
    /// Charters and register.
    pub in_force: InForce,
    /// Which revision is live for which application.
    pub placed: Arc<Placed>,
    /// The revisions, in the order of the charters: the one that was put live last comes first.
    revisions: Vec<Arc<RevisionInfo>>,
}

impl Live {
    /// Revisions side by side, with their charters, as they are placed.
    pub fn new(placed: Placed, all: Vec<(Arc<RevisionInfo>, Arc<Policy>)>, register: &Register) -> Live {
        let (mut revisions, mut parts) = (Vec::new(), Vec::new());
        for (revision, policy) in all {
            let applications = placed.applications(revision.number);
            parts.push(Part { policy, applications });
            revisions.push(revision);
        }
        Live { in_force: InForce::new(parts, register), placed: Arc::new(placed), revisions }
    }

    /// The same over another register.
    #[must_use]
    pub fn over(&self, register: &Register) -> Live {
        Live { in_force: self.in_force.over(register), ..self.clone() }
    }

    /// The charter that was put live last, and the register.
    pub fn world(&self) -> &World {
        self.in_force.last()
    }

    /// The revision that was put live last.
    pub fn revision(&self) -> &Arc<RevisionInfo> {
        self.revision_at(0)
    }

    /// The revision at a place of the charters.
    pub fn revision_at(&self, at: usize) -> &Arc<RevisionInfo> {
        self.revisions.get(at).unwrap_or(&self.revisions[0])
    }

    /// A revision that is live for some application, with its charter.
    pub fn known(&self, number: i64) -> Option<(&Arc<RevisionInfo>, &Arc<Policy>)> {
        let at = self.revisions.iter().position(|known| known.number == number)?;
        Some((&self.revisions[at], self.in_force.worlds()[at].policy()))
    }

    /// The applications that an ignored fact's charter is live for, and its revision, in words.
    pub fn called(&self, at: usize) -> String {
        let revision = self.revision_at(at).number;
        let applications = self.placed.applications(revision).into_iter().collect::<Vec<_>>().join(", ");
        format!("revision {revision} ({applications})")
    }
}

/// Everything at one position: facts, texts and keys. A position is told to nobody before all of it is here.
#[derive(Clone, Debug)]
pub struct View {
    /// Changes when the database was restored.
    pub(super) epoch: Arc<str>,
    /// The position.
    pub(super) position: i64,
    /// The digest of the journal there.
    pub(super) digest: Chain,
    /// How often everything had been read anew: numbers of entities mean something within one reading only.
    pub(super) reading: u64,
    /// What questions are asked of; none until a charter is live.
    pub(super) live: Option<Live>,
    /// Who may call.
    pub(super) keys: Arc<Keys>,
    /// Whose tokens count.
    pub(super) issuers: Arc<Vec<Issuer>>,
    /// Settings of the workspace.
    pub(super) settings: Arc<InUse>,
    /// Revisions that live questions are answered under beside.
    pub(super) shadows: Arc<Vec<Arc<Running>>>,
}

/// A revision that is asked though it is not live: beside, or ahead.
#[derive(Debug)]
pub struct Running {
    /// The shadow; none: it is tried ahead.
    pub shadow: Option<Shadow>,
    /// The revision.
    pub revision: Arc<RevisionInfo>,
    /// Its charter.
    pub policy: Arc<Policy>,
}

/// The settings in force: as they are meant, and which they are.
#[derive(Clone, Debug, Default)]
pub struct InUse {
    /// As they are meant.
    pub settings: Settings,
    /// Their number; none were put yet.
    pub number: Option<i64>,
    /// Their text.
    pub text: String,
}

impl View {
    /// `<epoch>.<n>`
    pub(super) fn token(&self) -> String {
        format!("{}.{}", self.epoch, self.position)
    }
}

/// Who calls, whichever way they said so: by a key, or by a session.
#[derive(Debug)]
pub struct Holder {
    /// What is recorded: the id of a key, `person:ines`, `sign-in:port-id/ines`.
    pub id: String,
    /// What people call it.
    pub name: String,
    /// For whom it asks.
    pub kind: KeyKind,
    /// How much answers tell.
    pub detail: Detail,
    /// Types of other applications it may ask about.
    pub types: Vec<String>,
    /// For trying ahead alone.
    pub staging: bool,
    /// Everybody that they count as.
    pub counts_as: Vec<String>,
    /// What they may do.
    pub rights: Rights,
}

/// A key that has not been ended, and who calls by it.
#[derive(Debug)]
pub struct KnownKey {
    /// The key.
    pub key: Key,
    /// Who calls by it.
    pub holder: Arc<Holder>,
}

/// All keys that have not been ended, by id.
#[derive(Debug, Default)]
pub struct Keys(HashMap<String, Arc<KnownKey>>);

impl Keys {
    /// Keys as they come from the database; what each may do is worked out once.
    pub(super) fn new(keys: Vec<Key>) -> Keys {
        let known = |key: Key| {
            let rights = match key.making.kind {
                KeyKind::Operator => Rights::of(&key.making.rights),
                KeyKind::Application(_) => Rights::of_application(&key.making.endpoints),
                KeyKind::Proxy(_) => Rights::of_proxy(),
            };
            let holder = Arc::new(Holder {
                id: key.id.clone(),
                name: key.making.name.clone(),
                kind: key.making.kind.clone(),
                detail: key.making.detail,
                types: key.making.types.clone(),
                staging: key.making.staging,
                counts_as: key.counts_as(),
                rights,
            });
            (key.id.clone(), Arc::new(KnownKey { key, holder }))
        };
        Keys(keys.into_iter().map(known).collect())
    }

    /// The key a text is of, if it counts at a moment.
    pub(super) fn find(&self, text: &str, now: Timestamp) -> Option<&Arc<KnownKey>> {
        self.0.get(Key::claimed_id(text)?).filter(|known| known.key.is(text, now))
    }

    /// A key by its id, if it counts at a moment, whether or not anybody has shown its text.
    pub(super) fn counting(&self, id: &str, now: Timestamp) -> Option<&Arc<KnownKey>> {
        self.0.get(id).filter(|known| known.key.counts(now))
    }

    /// All of them.
    pub(super) fn all(&self) -> impl Iterator<Item = &Arc<KnownKey>> {
        self.0.values()
    }

    /// Whether there is none.
    pub(super) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}
