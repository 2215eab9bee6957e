//! Who is signed in. The database has every session; what was looked up is remembered here, for what goes on without
//! asking again, and for when the database is away. What its holder may do is worked out of the settings in force,
//! at each call.

use super::Node;
use super::view::{Holder, InUse, View};
use crate::operators::{Rights, rights_of};
use crate::problem::Problem;
use jiff::{SignedDuration, Timestamp};
use ostrog_core::release::settings::Settings;
use ostrog_store::issuer::Issuer;
use ostrog_store::key::{Detail, KeyKind};
use ostrog_store::session::{Carried, Claimed, Hash, Session, SessionText, Whose};
use ostrog_store::workspace::Write;
use std::collections::{HashMap, HashSet};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// How long a session lasts that nobody uses, and how long at most.
const IDLE: SignedDuration = SignedDuration::from_hours(1);
const LONGEST: SignedDuration = SignedDuration::from_hours(12);
/// How long what an issuer said of somebody counts.
const CLAIMS: SignedDuration = SignedDuration::from_hours(1);
/// How long ago somebody may have shown who they are, for what weighs most.
const LATELY: SignedDuration = SignedDuration::from_mins(15);
/// Most sessions that are remembered.
const REMEMBERED: usize = 10_000;
/// How long a call waits for the database to tell of its session, before what is remembered counts.
const PATIENCE: Duration = Duration::from_secs(1);

/// Why a session counts no more.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Over {
    /// It is not known.
    #[error("it is not known here")]
    Unknown,
    /// It was ended.
    #[error("it was ended")]
    Ended,
    /// Nobody used it.
    #[error("nobody used it for an hour")]
    Idle,
    /// It lasts no longer.
    #[error("a session lasts twelve hours at most")]
    Long,
    /// What was claimed is old.
    #[error("what the issuer said is more than an hour old")]
    Claims,
    /// The key has ended.
    #[error("the key it was begun with has ended")]
    Key,
    /// Operators do not sign in with this issuer.
    #[error("operators do not sign in with its issuer any more")]
    Issuer,
    /// Nothing is theirs.
    #[error("the settings give its holder nothing")]
    Rights,
}

/// The session somebody calls by.
#[derive(Clone, Copy, Debug)]
pub struct Signed {
    /// By what it is kept.
    pub hash: Hash,
    /// When its holder last showed an issuer who they are; none: never, or it was begun with a key.
    pub at: Option<Timestamp>,
    /// Whether it was begun with an issuer.
    pub by_issuer: bool,
    /// Until when it lasts if it is used: at most, and before its claims are had anew.
    pub until: Timestamp,
}

/// Sessions that were looked up.
#[derive(Debug, Default)]
pub struct Sessions {
    known: Mutex<HashMap<Hash, Known>>,
    used: Mutex<HashSet<Hash>>,
}

#[derive(Clone, Debug)]
struct Known {
    session: Session,
    /// What its holder was worked out of, and who that is.
    holder: Option<(Arc<InUse>, Arc<Holder>)>,
}

impl Sessions {
    fn known(&self) -> MutexGuard<'_, HashMap<Hash, Known>> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// How many are remembered.
    pub(super) fn count(&self) -> usize {
        self.known().len()
    }

    /// Remembers one as the database has it; when it was used may be known better here.
    fn remember(&self, mut session: Session) {
        let mut known = self.known();
        let before = known.get_mut(&session.hash);
        if let Some(before) = before {
            session.used_at = session.used_at.max(before.session.used_at);
            if before.session.whose != session.whose {
                before.holder = None;
            }
            before.session = session;
            return;
        }
        if known.len() >= REMEMBERED {
            let oldest =
                known.values().min_by_key(|known| known.session.used_at).map(|known| known.session.hash);
            oldest.and_then(|hash| known.remove(&hash));
        }
        known.insert(session.hash, Known { session, holder: None });
    }

    /// Who calls by one that is remembered.
    fn holder(&self, view: &View, hash: &Hash, now: Timestamp) -> Result<(Signed, Arc<Holder>), Over> {
        let mut known = self.known();
        let one = known.get_mut(hash).ok_or(Over::Unknown)?;
        in_time(&one.session, now)?;
        let holder = match &one.session.whose {
            Whose::Key(key) => Arc::clone(&view.keys.counting(key, now).ok_or(Over::Key)?.holder),
            Whose::Claimed(claimed) => {
                is_for_operators(&view.issuers, &claimed.issuer)?;
                match &one.holder {
                    Some((of, holder)) if Arc::ptr_eq(of, &view.settings) => Arc::clone(holder),
                    _ => {
                        let holder = Arc::new(holder(&view.settings.settings, claimed)?);
                        one.holder = Some((Arc::clone(&view.settings), Arc::clone(&holder)));
                        holder
                    }
                }
            }
        };
        Ok((signed(&one.session), holder))
    }

    /// Somebody used one.
    fn is_used(&self, hash: &Hash, now: Timestamp) {
        if let Some(known) = self.known().get_mut(hash) {
            known.session.used_at = known.session.used_at.max(now);
        }
        self.used.lock().unwrap_or_else(PoisonError::into_inner).insert(*hash);
    }
}

/// Whether a session has not ended by itself.
fn in_time(session: &Session, now: Timestamp) -> Result<(), Over> {
    let for_longer = |since: Timestamp, than: SignedDuration| now.duration_since(since) >= than;
    if session.ended_at.is_some() {
        return Err(Over::Ended);
    }
    if for_longer(session.created_at, LONGEST) {
        return Err(Over::Long);
    }
    if for_longer(session.used_at, IDLE) {
        return Err(Over::Idle);
    }
    if matches!(session.whose, Whose::Claimed(_)) && for_longer(session.claimed_at, CLAIMS) {
        return Err(Over::Claims);
    }
    Ok(())
}

fn signed(session: &Session) -> Signed {
    let longest = session.created_at.checked_add(LONGEST).unwrap_or(session.created_at);
    let claims = session.claimed_at.checked_add(CLAIMS).unwrap_or(session.claimed_at);
    let (at, by_issuer) = match &session.whose {
        Whose::Key(_) => (None, false),
        Whose::Claimed(claimed) => (claimed.signed_in_at, true),
    };
    let until = if by_issuer { longest.min(claims) } else { longest };
    Signed { hash: session.hash, at, by_issuer, until }
}

fn is_for_operators(issuers: &[Issuer], key: &str) -> Result<(), Over> {
    let known = issuers.iter().find(|issuer| issuer.key == key);
    known.and_then(Issuer::for_operators).map(drop).ok_or(Over::Issuer)
}

/// Who somebody is whom an issuer names: the person on record whose sign-in it is, with that person's roles and those
/// of the groups that the issuer says they are in.
fn holder(settings: &Settings, claimed: &Claimed) -> Result<Holder, Over> {
    let sign_in = format!("{}/{}", claimed.issuer, claimed.sub);
    let person = settings.operators.people.iter().find(|(_, person)| person.sign_ins.contains(&sign_in));
    let of_groups = claimed.groups.iter().filter_map(|group| settings.operators.groups.get(group));
    let all = person.iter().flat_map(|(_, person)| &person.rights).chain(of_groups.flatten());
    let rights = rights_of(all);
    if rights == Rights::default() {
        return Err(Over::Rights);
    }
    let as_themselves = format!("sign-in:{sign_in}");
    let as_person = person.map(|(key, _)| format!("person:{key}"));
    Ok(Holder {
        id: as_person.clone().unwrap_or_else(|| as_themselves.clone()),
        name: person.map_or_else(|| claimed.name.clone(), |(_, person)| person.name.clone()),
        kind: KeyKind::Operator,
        detail: Detail::Full,
        types: Vec::new(),
        staging: false,
        counts_as: as_person.into_iter().chain([as_themselves]).collect(),
        rights,
    })
}

impl Node {
    /// Issuers that operators sign in with.
    pub fn issuers_for_operators(&self) -> Vec<Issuer> {
        let view = self.view();
        view.issuers.iter().filter(|issuer| issuer.for_operators().is_some()).cloned().collect()
    }

    /// Begins a session; gives what its holder sends from now on, and who that is.
    ///
    /// # Errors
    /// If nothing is theirs, something was begun with the same already, or the database cannot be reached.
    pub async fn begin_session(
        &self,
        carried: Carried,
        whose: Whose,
        begun_with: Option<Hash>,
    ) -> Result<(SessionText, Signed, Arc<Holder>), Problem> {
        let now = Timestamp::now();
        let (session, text) = Session::new(carried, whose, begun_with, now);
        let (sessions, view) = (Sessions::default(), self.view());
        sessions.remember(session.clone());
        // Before anything is kept: whoever is nobody here leaves nothing.
        let (signed, holder) =
            sessions.holder(&view, &session.hash, now).map_err(|over| not_theirs(over, &session))?;
        if !self.store.begin_session(&session).await? {
            return Err(Problem::unauthenticated("This sign-in was used already; begin another."));
        }
        self.sessions.remember(session);
        tracing::info!(who = holder.id, "signed in");
        Ok((text, signed, holder))
    }

    /// Who calls by a session. What a page asks by itself, with nobody at it, is no use of it.
    ///
    /// # Errors
    /// Why it does not count.
    pub(super) async fn session(
        &self,
        text: &str,
        carried: Carried,
        attended: bool,
    ) -> Result<(Signed, Arc<Holder>), Over> {
        let hash = Session::hash(text);
        if !*self.away.borrow()
            && let Ok(Ok(found)) = tokio::time::timeout(PATIENCE, self.store.sessions(&[hash])).await
        {
            match found.into_iter().next() {
                Some(session) => self.sessions.remember(session),
                None => drop(self.sessions.known().remove(&hash)),
            }
        }
        let is_carried_so = |known: &Known| known.session.carried == carried;
        if !self.sessions.known().get(&hash).is_some_and(is_carried_so) {
            return Err(Over::Unknown);
        }
        let now = Timestamp::now();
        let found = self.sessions.holder(&self.view(), &hash, now)?;
        if attended {
            self.sessions.is_used(&hash, now);
        }
        Ok(found)
    }

    /// Who calls by a session that was looked up before.
    pub(super) fn known_session(&self, view: &View, hash: &Hash) -> Result<(Signed, Arc<Holder>), Over> {
        self.sessions.holder(view, hash, Timestamp::now())
    }

    /// Whom a session is of, and since when what was claimed of them counts.
    pub(crate) fn claimed(&self, hash: &Hash) -> Option<(Claimed, Timestamp)> {
        let known = self.sessions.known();
        let session = &known.get(hash)?.session;
        match &session.whose {
            Whose::Claimed(claimed) => Some((claimed.clone(), session.claimed_at)),
            Whose::Key(_) => None,
        }
    }

    /// Takes over what an issuer says of a session's holder now.
    ///
    /// # Errors
    /// If the session has ended, or the issuer names somebody else.
    pub async fn claim_again(&self, hash: &Hash, claimed: &Claimed) -> Result<Signed, Problem> {
        if !self.store.claim_again(hash, claimed, Timestamp::now()).await? {
            return Err(Problem::unauthenticated("The session has ended; sign in again."));
        }
        for session in self.store.sessions(&[*hash]).await? {
            self.sessions.remember(session);
        }
        let known = self.known_session(&self.view(), hash);
        known.map(|(signed, _)| signed).map_err(|over| Problem::unauthenticated(ended(over)))
    }

    /// Ends a session, on every node.
    ///
    /// # Errors
    /// If the database cannot be reached: then it goes on elsewhere.
    pub async fn end_session(&self, text: &str) -> Result<(), Problem> {
        let hash = Session::hash(text);
        if let Some(known) = self.sessions.known().get_mut(&hash) {
            known.session.ended_at = Some(Timestamp::now());
        }
        Ok(self.store.end_session(&hash, "signed out", Timestamp::now()).await?)
    }

    /// Looks what became of sessions that go on here without asking, and notes which were used.
    pub(super) async fn keep_sessions(&self, note: bool) -> Result<(), ostrog_store::Error> {
        let hashes: Vec<Hash> = self.sessions.known().keys().copied().collect();
        if hashes.is_empty() {
            return Ok(());
        }
        if note {
            let used: Vec<Hash> = {
                let mut used = self.sessions.used.lock().unwrap_or_else(PoisonError::into_inner);
                used.drain().collect()
            };
            self.store.sessions_used(&used, Timestamp::now()).await?;
        }
        let found = self.store.sessions(&hashes).await?;
        let mut known = self.sessions.known();
        // What began since it was looked is not among what was found, and stays.
        let goes_on =
            |hash: &Hash| found.iter().any(|session| session.hash == *hash && session.ended_at.is_none());
        known.retain(|hash, _| !hashes.contains(hash) || goes_on(hash));
        drop(known);
        for session in found.into_iter().filter(|session| session.ended_at.is_none()) {
            self.sessions.remember(session);
        }
        Ok(())
    }

    /// Signs out, together with a write, whoever would have no right any more.
    pub(super) async fn sign_out_who_lost_all(
        write: &mut Write,
        settings: &Settings,
        now: Timestamp,
    ) -> Result<(), Problem> {
        let issuers = write.issuers().await?;
        let lost = |session: &Session| match &session.whose {
            Whose::Key(_) => false,
            Whose::Claimed(claimed) => {
                is_for_operators(&issuers, &claimed.issuer).is_err() || holder(settings, claimed).is_err()
            }
        };
        let all = write.claimed_sessions().await?;
        let hashes: Vec<Hash> =
            all.iter().filter(|session| lost(session)).map(|session| session.hash).collect();
        if !hashes.is_empty() {
            write.end_sessions(&hashes, "its holder's rights ended", now).await?;
        }
        Ok(())
    }
}

/// Whether somebody showed lately who they are.
pub fn is_lately(at: Option<Timestamp>, now: Timestamp) -> bool {
    at.is_some_and(|at| now.duration_since(at) < LATELY)
}

/// Why a session counts no more, for its holder.
pub fn ended(over: Over) -> String {
    format!("The session has ended: {over}; sign in again.")
}

fn not_theirs(over: Over, session: &Session) -> Problem {
    match (over, &session.whose) {
        (Over::Rights, Whose::Claimed(claimed)) => Problem::forbidden(format!(
            "You are signed in as {}/{}, and nothing here is yours: an owner names that sign-in, or a group of yours, in the settings.",
            claimed.issuer, claimed.sub
        )),
        (over, _) => Problem::unauthenticated(ended(over)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn session(whose: Whose) -> Session {
        Session::new(Carried::Console, whose, None, Timestamp::UNIX_EPOCH).0
    }

    fn claimed(sub: &str, groups: &[&str]) -> Claimed {
        Claimed {
            issuer: "port-id".to_owned(),
            sub: sub.to_owned(),
            name: format!("{sub}, as the issuer calls them"),
            groups: groups.iter().map(|group| (*group).to_owned()).collect(),
            signed_in_at: None,
        }
    }

    #[rstest]
    #[case(0, 0, 0, Ok(()))]
    #[case(59, 59, 59, Ok(()))]
    #[case(600, 590, 590, Ok(()))]
    #[case(60, 0, 59, Err(Over::Idle))]
    #[case(60, 59, 0, Err(Over::Claims))]
    #[case(720, 719, 719, Err(Over::Long))]
    fn a_session_ends_by_itself(
        #[case] now: i64,
        #[case] used: i64,
        #[case] claimed_at: i64,
        #[case] is: Result<(), Over>,
    ) {
        let at = |minutes: i64| Timestamp::from_second(minutes * 60).expect("a moment");
        let mut one = session(Whose::Claimed(claimed("ines", &[])));
        (one.used_at, one.claimed_at) = (at(used), at(claimed_at));
        assert_eq!(in_time(&one, at(now)), is);
        // Whoever signed in with a key claims nothing.
        let by_key = Session { whose: Whose::Key("k-1".to_owned()), ..one.clone() };
        let is = if is == Err(Over::Claims) { Ok(()) } else { is };
        assert_eq!(in_time(&by_key, at(now)), is);
        let ended = Session { ended_at: Some(at(0)), ..one };
        assert_eq!(in_time(&ended, at(now)), Err(Over::Ended));
    }

    #[test]
    fn who_somebody_is_and_what_they_may_comes_from_the_settings() {
        let text = "[operators]\ngroups.\"Platform security\" = [\"charter-author\"]\n\
                    [operators.people.ines]\nname = \"Ines\"\nsign-ins = [\"port-id/ines\"]\nroles = [\"approver\"]\n";
        let settings = super::super::review::settings_of(text).expect("they are settings");
        let of = |sub: &str, groups: &[&str]| holder(&settings, &claimed(sub, groups));
        let ines = of("ines", &["Customs Night"]).expect("is somebody");
        assert_eq!((ines.id.as_str(), ines.name.as_str()), ("person:ines", "Ines"));
        assert_eq!(ines.counts_as, ["person:ines", "sign-in:port-id/ines"]);
        let both = of("ines", &["Platform security"]).expect("is somebody");
        assert!(both.rights.cover(&ines.rights) && both.rights != ines.rights);
        let noor = of("noor", &["Platform security"]).expect("is somebody");
        assert_eq!(noor.id, "sign-in:port-id/noor");
        assert_eq!(noor.counts_as, ["sign-in:port-id/noor"]);
        for nobody in [of("noor", &[]), of("ines ", &[]), of("noor", &["platform security"])] {
            assert_eq!(nobody.expect_err("is nobody"), Over::Rights);
        }
    }
}
