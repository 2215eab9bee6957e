//! What goes live for whom, and what goes back: worked out here, and put before the database in one write.

use super::view::{InUse, Live, View};
use super::write::Author;
use super::{Node, write};
use crate::lanes::Ticket;
use crate::operators;
use crate::problem::{Problem, part};
use jiff::Timestamp;
use ostrog_core::charter::syntax::GivenTo;
use ostrog_core::decide::in_force::{InForce, declared, torn};
use ostrog_core::names::Near;
use ostrog_core::prelude::{Policy, Register, Sources};
use ostrog_core::register::against;
use ostrog_core::release::accept::{First, Item, not_accepted, of_shift};
use ostrog_core::release::history;
use ostrog_core::release::settings::{is_whole, read};
use ostrog_core::shift::{Only, Shift, between};
use ostrog_core::source::{Digest, SourceFile};
use ostrog_store::release::{Placed, Release, Step};
use ostrog_store::revision::{RevisionInfo, Standing};
use ostrog_store::settings::Put;
use ostrog_store::workspace::Write;
use ostrog_store::{By, Error};
use serde_json::{Map, Value, json};
use sha2::{Digest as _, Sha256};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, PoisonError};
use std::time::Duration;

/// Longest time that working out who gains and who loses by a rollout may take.
const FOR_A_SHIFT: Duration = Duration::from_secs(600);
/// Most facts that are told of those which do not fit.
const MAX_UNFIT: usize = 100;

/// For whom something is put live, or goes back.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum For {
    /// All applications: those that the revision declares, and those for which something is live.
    All,
    /// These.
    These(BTreeSet<String>),
}

/// What is put live, for whom, and what whoever does it says about it.
#[derive(Clone, Debug)]
pub struct Rolling {
    /// A revision, by its number; or a draft that becomes one.
    pub what: What,
    /// For whom.
    pub r#for: For,
    /// Facts that do not fit give nothing, which is accepted.
    pub accept_unfit: bool,
    /// What is live now, where that is not what the revision was approved on.
    pub over: Option<i64>,
    /// Why.
    pub note: Option<String>,
}

/// What is put live.
#[derive(Clone, Debug)]
pub enum What {
    /// A revision.
    Revision(i64),
    /// A draft.
    Draft {
        /// Its number.
        number: i64,
        /// The digest of its text, as it was seen.
        digest: String,
        /// Without approval.
        urgent: bool,
    },
    /// A text, in the name of whoever started the program.
    Text {
        /// Its files.
        sources: Sources,
        /// What it is about.
        title: String,
    },
}

/// What a rollout or a rollback came to.
#[derive(Clone, Debug)]
pub struct Released {
    /// The revision; of a rollback, the one of the first application.
    pub revision: RevisionInfo,
    /// By application, what is live for it now.
    pub moves: BTreeMap<String, Option<i64>>,
    /// Where that stands.
    pub position: String,
    /// Who gains and who loses against what was live.
    pub shift: Shift,
    /// Facts that do not fit, and give nothing.
    pub unfit: Vec<String>,
}

/// Settings as they are meant.
pub(super) fn in_use(put: Option<Put>) -> Result<InUse, Error> {
    let Some(put) = put else { return Ok(InUse::default()) };
    let file = SourceFile { path: "settings.toml".to_owned(), text: put.text };
    let (settings, findings) = read(&file, &operators::roles());
    if !is_whole(&findings) {
        return Err(Error::Unreadable(format!("settings S-{} have errors", put.number)));
    }
    Ok(InUse { settings, number: Some(put.number), text: file.text })
}

/// Something worked out about what goes live, at one position.
struct Worked {
    at: i64,
    shift: Shift,
    items: Vec<Item>,
    unfit: Vec<String>,
}

impl Node {
    /// What is live where something is placed: charters that are live already are not read again.
    pub(super) async fn placed(&self, live: Option<&Live>, placed: Placed) -> Result<Live, Problem> {
        let mut all = Vec::new();
        for number in placed.revisions() {
            if let Some((revision, policy)) = live.and_then(|live| live.known(number)) {
                all.push((Arc::clone(revision), Arc::clone(policy)));
                continue;
            }
            // What was live lately is what is most often gone back to: it is not fetched from a database far away.
            let lately = self.was_live.lock().unwrap_or_else(PoisonError::into_inner).get(&number).cloned();
            if let Some(lately) = lately {
                all.push(lately);
                continue;
            }
            let missing = || Problem::not_found(format!("There is no revision {number}."));
            let revision = self.store.revision(number).await?.ok_or_else(missing)?;
            let policy = self.compiled(revision.sources).await?;
            all.push((Arc::new(revision.info), Arc::new(policy)));
        }
        {
            let mut lately = self.was_live.lock().unwrap_or_else(PoisonError::into_inner);
            let before = live.iter().flat_map(|live| live.placed.revisions());
            let before = before.filter_map(|number| live?.known(number));
            for (info, policy) in before.chain(all.iter().map(|(info, policy)| (info, policy))) {
                lately.put(info.number, (Arc::clone(info), Arc::clone(policy)));
            }
        }
        let empty = Register::default();
        Ok(Live::new(placed, all, live.map_or(&empty, |live| live.world().register())))
    }

    /// Puts something live.
    pub(super) async fn roll_out(
        self: &Arc<Self>,
        rolling: Rolling,
        author: Author,
    ) -> Result<Released, Problem> {
        let node = Arc::clone(self);
        write::finished(tokio::spawn(async move { node.roll_out_now(rolling, &author).await }).await)
    }

    async fn roll_out_now(&self, rolling: Rolling, author: &Author) -> Result<Released, Problem> {
        // Who gains and who loses takes long: it is worked out before anybody is kept from writing, and again if
        // what is live, or may be, moved meanwhile.
        let ahead = self.ahead(&rolling, author).await?;
        let _one = self.turn().await;
        let mut write = self.begin_write().await?;
        self.catch_up(&write).await?;
        let now = Timestamp::now();
        let view = self.view();
        let by = author.who.by(now);
        let (revision, policy) = match &rolling.what {
            What::Revision(number) => self.approved(*number, &view).await?,
            What::Draft { number, digest, urgent } => {
                self.numbered(&mut write, (*number, digest), *urgent, &by, &view).await?
            }
            What::Text { sources, title } => {
                let policy = self.compiled(sources.clone()).await?;
                let standing = Standing { approved: true, accepted: json!([]), ..Standing::default() };
                let number = write.add_revision(sources, title, &standing, &by).await?;
                let digest = policy.digest();
                let (title, author) = (title.clone(), by.actor.clone());
                (RevisionInfo { number, digest, title, author, created_at: now, standing }, policy.into())
            }
        };
        let moves = moves(&rolling.r#for, &revision, &policy, view.live.as_ref())?;
        may_move(&rolling, &revision, &moves, view.live.as_ref())?;
        let after = live_with(&view, &moves, (&revision, &policy));
        let before = view.live.as_ref();
        is_whole_after(before, &after)?;
        let worked = match ahead {
            // Written facts move who gains and loses a little; what else is live moves all of it.
            Some(worked) if worked.at == view.position => worked,
            _ => self.work_out(before.cloned(), after.clone(), view.position, author).await?,
        };
        if !rolling.accept_unfit && !worked.unfit.is_empty() {
            return Err(unfit(&worked.unfit, &revision));
        }
        let accepted = match rolling.over {
            Some(over) if is_elsewhere(&revision, over, &moves) && is_approved_by_others(&rolling, &view) => {
                self.accepted_over(&mut write, &revision, over).await?
            }
            _ => revision.standing.accepted.clone(),
        };
        self.is_accepted(&revision, &accepted, &worked.items, &view)?;
        let mut beside = Map::new();
        beside.insert("digest".to_owned(), policy.digest().to_string().into());
        beside.insert("shift".to_owned(), worked.shift.in_words().into());
        if revision.standing.urgent {
            beside.insert("urgent".to_owned(), true.into());
        }
        if !worked.unfit.is_empty() {
            beside.insert("unfit".to_owned(), json!(worked.unfit));
        }
        let release = Release {
            live: (*after.placed).clone(),
            moves: moves.clone(),
            back: false,
            note: rolling.note.as_deref(),
            beside,
        };
        let position = self.released(write, &view, after, &release, &by).await?;
        Ok(Released { revision, moves, position, shift: worked.shift, unfit: worked.unfit })
    }

    /// What putting something live would move; nothing is changed.
    pub(super) async fn would_release(&self, rolling: Rolling, author: &Author) -> Result<Released, Problem> {
        let view = self.view();
        let missing = || Problem::not_found("There is no such draft, or it was saved anew meanwhile.");
        let (revision, policy) = self.meant(&rolling.what, &view).await?.ok_or_else(missing)?;
        let moves = moves(&rolling.r#for, &revision, &policy, view.live.as_ref())?;
        may_move(&rolling, &revision, &moves, view.live.as_ref())?;
        let after = live_with(&view, &moves, (&revision, &policy));
        is_whole_after(view.live.as_ref(), &after)?;
        let worked = self.work_out(view.live.clone(), after, view.position, author).await?;
        let position = view.token();
        Ok(Released { revision, moves, position, shift: worked.shift, unfit: worked.unfit })
    }

    /// Commits what goes live, and answers from it.
    async fn released(
        &self,
        mut write: Write,
        view: &View,
        after: Live,
        release: &Release<'_>,
        by: &By,
    ) -> Result<String, Problem> {
        write.release(release, (&by.actor, by.at)).await?;
        let digest = write.digest();
        let position = self.commit(write).await?;
        let moves: Vec<String> = release.moves.keys().cloned().collect();
        tracing::info!(
            actor = by.actor,
            position,
            applications = moves.join(","),
            back = release.back,
            "live"
        );
        self.publish(View { position, digest, live: Some(after), ..view.clone() });
        Ok(self.view().token())
    }

    /// Who gains and who loses, before anybody is kept from writing; nothing where it cannot be known yet: the
    /// write tells why.
    async fn ahead(&self, rolling: &Rolling, author: &Author) -> Result<Option<Worked>, Problem> {
        let view = self.view();
        let Some((revision, policy)) = self.meant(&rolling.what, &view).await? else { return Ok(None) };
        let moves = moves(&rolling.r#for, &revision, &policy, view.live.as_ref())?;
        let after = live_with(&view, &moves, (&revision, &policy));
        let before = view.live.clone();
        is_whole_after(before.as_ref(), &after)?;
        self.work_out(before, after, view.position, author).await.map(Some)
    }

    /// What is meant to go live, as far as it is there already.
    async fn meant(&self, what: &What, view: &View) -> Result<Option<(RevisionInfo, Arc<Policy>)>, Problem> {
        match what {
            What::Revision(number) => self.approved(*number, view).await.map(Some),
            What::Draft { number, digest, .. } => {
                let draft = self.store.draft(*number).await?;
                let Some(draft) = draft.filter(|draft| draft.info.digest.to_string() == *digest) else {
                    return Ok(None);
                };
                let policy = self.compiled(draft.sources).await?;
                let info = RevisionInfo {
                    // It has no number yet: one that nothing has.
                    number: i64::MAX,
                    digest: draft.info.digest,
                    title: draft.info.title,
                    author: String::new(),
                    created_at: draft.info.saved_at,
                    standing: Standing {
                        bases: draft.info.bases,
                        draft: Some(*number),
                        ..Standing::default()
                    },
                };
                Ok(Some((info, Arc::new(policy))))
            }
            What::Text { .. } => Ok(None),
        }
    }

    /// Who gains and who loses, and which facts do not fit, beside the threads that answer.
    async fn work_out(
        &self,
        before: Option<Live>,
        after: Live,
        at: i64,
        author: &Author,
    ) -> Result<Worked, Problem> {
        let people = self.people(&author.who.counts_as);
        let work = move |ticket: &Ticket| {
            let mut go_on = || ticket.goes_on();
            let Some(before) = before else {
                return Ok(Worked { at, shift: Shift::default(), items: Vec::new(), unfit: Vec::new() });
            };
            let (before, after) = (&before.in_force, &after.in_force);
            let now = Timestamp::now();
            let shift = between(before, after, now, &Only::default(), &mut |_| go_on());
            if !shift.unexamined.is_empty() {
                return Err(Problem::timeout(
                    "Working out who gains and who loses takes too long; try again when there is less to do.",
                ));
            }
            let items =
                of_shift(&shift, First { people: &people, for_all: &|reason| for_all(after, reason) });
            Ok(Worked { at, items, unfit: unfit_of(before, after, &mut go_on), shift })
        };
        self.lanes.questions.run("rollouts", FOR_A_SHIFT, work).await
    }

    /// Users of the register that are called as operators are: `user:ines` where `ines` is on record.
    pub(super) fn people(&self, counts_as: &[String]) -> BTreeSet<String> {
        let settings = Arc::clone(&self.view().settings);
        let record = settings.settings.operators.people.keys().cloned();
        let own = counts_as.iter().filter_map(|one| one.strip_prefix("person:").map(str::to_owned));
        record.chain(own).map(|person| format!("user:{person}")).collect()
    }

    /// A revision that may go live.
    async fn approved(&self, number: i64, view: &View) -> Result<(RevisionInfo, Arc<Policy>), Problem> {
        let missing = || Problem::not_found(format!("There is no revision {number}."));
        let revision = self.store.revision(number).await?.ok_or_else(missing)?;
        if let Some((_, why)) = &revision.info.standing.barred {
            return Err(Problem::conflict(format!("Revision {number} is shut for good: {why}.")));
        }
        if !revision.info.standing.approved {
            return Err(Problem::conflict(format!(
                "Revision {number} went live urgently and nobody has approved it yet: until somebody does it goes live nowhere else."
            )));
        }
        let known = view.live.as_ref().and_then(|live| live.known(number));
        let policy = match known {
            Some((_, policy)) => Arc::clone(policy),
            None => Arc::new(self.compiled(revision.sources).await?),
        };
        Ok((revision.info, policy))
    }

    /// A draft as the next revision, where nobody has to approve it, or urgently.
    async fn numbered(
        &self,
        write: &mut Write,
        (number, digest): (i64, &str),
        urgent: bool,
        by: &By,
        view: &View,
    ) -> Result<(RevisionInfo, Arc<Policy>), Problem> {
        let gone = || Problem::conflict("The draft has ended, or was saved anew meanwhile.");
        let kept = self.store.draft(number).await?;
        let kept = kept.filter(|kept| kept.info.digest.to_string() == *digest).ok_or_else(gone)?;
        let needed = view.settings.settings.release.approvals;
        if needed > 0 && !urgent {
            return Err(Problem::conflict(format!(
                "D-{number} waits for approval: somebody who edited no part of it approves it, and it becomes a revision."
            )));
        }
        if !urgent && view.settings.settings.release.require_rehearsal {
            self.has_passed(&kept.info.digest).await?;
        }
        let policy = self.compiled(kept.sources.clone()).await?;
        let mut editors: BTreeSet<String> = kept.info.editors.iter().cloned().collect();
        editors.extend(by.counts_as.iter().cloned());
        let standing = Standing {
            approved: needed == 0,
            urgent: urgent && needed > 0,
            barred: None,
            editors: editors.into_iter().collect(),
            bases: kept.info.bases.clone(),
            draft: Some(number),
            accepted: json!([]),
            rehearsal: self.store.rehearsal().await?.map(|text| text.number),
        };
        let revision = write.add_revision(&kept.sources, &kept.info.title, &standing, by).await?;
        if !write.end_draft(number, Some(revision), &by.actor, by.at).await? {
            return Err(gone());
        }
        let info = RevisionInfo {
            number: revision,
            digest: policy.digest(),
            title: kept.info.title,
            author: by.actor.clone(),
            created_at: by.at,
            standing,
        };
        Ok((info, Arc::new(policy)))
    }

    /// Refuses a draft that no rehearsal of exactly this text, with exactly these files, has passed.
    async fn has_passed(&self, digest: &Digest) -> Result<(), Problem> {
        let cases: Vec<Value> = self.store.cases().await?.into_iter().map(|case| case.body).collect();
        let files = self.store.rehearsal().await?.map(|text| text.files);
        let report = self.store.report_of(*digest, files_digest(files.as_ref(), &cases)).await?;
        match report {
            Some(report) if report.found.holds => Ok(()),
            Some(report) => Err(Problem::conflict(format!(
                "Rehearsal {} of it did not hold: {}.",
                report.number, report.found.words
            ))),
            None => Err(Problem::conflict(
                "A rehearsal is required, and none of exactly this text with exactly these files has come to an end.",
            )),
        }
    }

    /// Refuses what gains and losses nobody accepted. Where nobody has to approve, whoever puts it live does.
    fn is_accepted(
        &self,
        revision: &RevisionInfo,
        accepted: &Value,
        items: &[Item],
        view: &View,
    ) -> Result<(), Problem> {
        // Of what was urgent and is approved since, it counts what was accepted then.
        let is_urgent = revision.standing.urgent && !revision.standing.approved;
        if view.settings.settings.release.approvals == 0 || is_urgent {
            return Ok(());
        }
        let accepted = accepted_items(accepted);
        let left = not_accepted(items, &accepted);
        let Some(first) = left.first() else { return Ok(()) };
        let number = revision.number;
        let more = if left.len() > 1 { format!(", and {} more", left.len() - 1) } else { String::new() };
        let parts = left.iter().take(MAX_UNFIT).map(|item| part(item.id.clone(), &item.words)).collect();
        Err(Problem::conflict(format!(
            "Nobody accepted this when revision {number} was approved: {}{more}. The register has moved since; save it as a draft, rehearse it and have it approved.",
            first.words
        ))
        .with(parts))
    }

    /// Goes back to what was live before, for some applications.
    pub(super) async fn roll_back(
        self: &Arc<Self>,
        r#for: For,
        to: Option<i64>,
        note: Option<String>,
        author: Author,
    ) -> Result<Released, Problem> {
        let node = Arc::clone(self);
        let work = async move { node.roll_back_now(r#for, to, note, &author).await };
        write::finished(tokio::spawn(work).await)
    }

    async fn roll_back_now(
        &self,
        r#for: For,
        to: Option<i64>,
        note: Option<String>,
        author: &Author,
    ) -> Result<Released, Problem> {
        // Whoever waits to write here lets it pass.
        let _first = self.overtake();
        let _one = self.writing.lock().await;
        let mut write = self.begin_write().await?;
        self.catch_up(&write).await?;
        let view = self.view();
        let live = view.live.as_ref().ok_or_else(write::nothing_live)?;
        let by = author.who.by(Timestamp::now());
        let (moves, last) = self.ways_back(&mut write, r#for, to, live).await?;
        let mut placed = Placed { last: Some(last), ..(*live.placed).clone() };
        for (application, revision) in &moves {
            placed.of.extend(revision.map(|revision| (application.clone(), revision)));
        }
        let after = self.placed(Some(live), placed).await?;
        is_whole_after(Some(live), &after)?;
        let release = Release {
            live: (*after.placed).clone(),
            moves: moves.clone(),
            back: true,
            note: note.as_deref(),
            beside: Map::new(),
        };
        let revision = (**after.revision()).clone();
        let position = self.released(write, &view, after.clone(), &release, &by).await?;
        // What it moves is told, not asked: going back waits for nothing.
        let worked = self.work_out(view.live.clone(), after, view.position, author).await.ok();
        let (shift, unfit) = worked.map(|worked| (worked.shift, worked.unfit)).unwrap_or_default();
        Ok(Released { revision, moves, position, shift, unfit })
    }

    /// To what each of some applications goes back, and which of these revisions is the newest.
    async fn ways_back(
        &self,
        write: &mut Write,
        r#for: For,
        to: Option<i64>,
        live: &Live,
    ) -> Result<(BTreeMap<String, Option<i64>>, i64), Problem> {
        let applications = match r#for {
            For::All => live.placed.of.keys().cloned().collect(),
            For::These(these) => these,
        };
        let all = self.store.revisions(i64::MAX).await?;
        let standings: BTreeMap<i64, Standing> =
            all.into_iter().map(|info| (info.number, info.standing)).collect();
        let mut moves = BTreeMap::new();
        let mut refused = Vec::new();
        for application in applications {
            are_live(&application, live)?;
            let steps: Vec<Step> = write.releases(&application).await?;
            let steps =
                steps.iter().rev().map(|step| history::Step { revision: step.revision, back: step.back });
            let line = history::line(steps);
            let may = |revision: i64| match standings.get(&revision) {
                Some(Standing { barred: Some((_, why)), .. }) => Err(format!("is shut for good: {why}")),
                Some(Standing { approved: false, .. }) => Err("was never approved".to_owned()),
                _ => Ok(()),
            };
            match history::back(&line, to, may) {
                Ok(revision) => {
                    moves.insert(application, Some(revision));
                }
                Err(why) => refused.push(format!("{application}: {why}")),
            }
        }
        match moves.values().flatten().max() {
            Some(last) if refused.is_empty() => Ok((moves.clone(), *last)),
            _ => Err(Problem::conflict(format!("There is no way back. {}.", refused.join("; ")))),
        }
    }
}

/// The applications something is put live for, each with what then is: nothing where the revision does not know
/// an application and it is put live for all.
fn moves(
    r#for: &For,
    revision: &RevisionInfo,
    policy: &Policy,
    live: Option<&Live>,
) -> Result<BTreeMap<String, Option<i64>>, Problem> {
    let known: BTreeSet<&str> = declared(policy).collect();
    let number = revision.number;
    match r#for {
        For::All => {
            let live = live.into_iter().flat_map(|live| live.placed.of.keys());
            let gone = live.filter(|application| !known.contains(application.as_str()));
            let gone = gone.map(|application| (application.clone(), None));
            let all = known.iter().map(|application| ((*application).to_owned(), Some(number)));
            Ok(gone.chain(all).collect())
        }
        For::These(these) => {
            for application in these {
                if !known.contains(application.as_str()) {
                    let near = Near::of(application, known.iter().copied());
                    return Err(Problem::invalid(format!(
                        "The charter declares no application {application:?}{near}."
                    )));
                }
            }
            Ok(these.iter().map(|application| (application.clone(), Some(number))).collect())
        }
    }
}

fn are_live(application: &str, live: &Live) -> Result<(), Problem> {
    if live.placed.of.contains_key(application) {
        return Ok(());
    }
    let near = Near::of(application, live.placed.of.keys().map(String::as_str));
    Err(Problem::invalid(format!("Nothing is live for an application {application:?}{near}.")))
}

/// Refuses where what is live is not what the revision was approved on.
fn may_move(
    rolling: &Rolling,
    revision: &RevisionInfo,
    moves: &BTreeMap<String, Option<i64>>,
    live: Option<&Live>,
) -> Result<(), Problem> {
    let number = revision.number;
    let now = |application: &str| live.and_then(|live| live.placed.of.get(application)).copied();
    if let Some(over) = rolling.over {
        for application in moves.keys() {
            if now(application) != Some(over) {
                let is = now(application).map_or_else(|| "nothing".to_owned(), |is| format!("revision {is}"));
                return Err(Problem::conflict(format!(
                    "{is} is live for {application}, not revision {over}."
                )));
            }
        }
    }
    let mut there = true;
    for application in moves.keys() {
        let is = now(application);
        if is == Some(number) {
            continue;
        }
        there = false;
        let base = revision.standing.bases.get(application).copied();
        if matches!(rolling.what, What::Text { .. }) || is == base || rolling.over.is_some() {
            continue;
        }
        let called = |revision: Option<i64>| {
            revision.map_or_else(|| "nothing".to_owned(), |number| format!("revision {number}"))
        };
        let what = match &rolling.what {
            What::Draft { number, .. } => format!("D-{number} began from"),
            _ => format!("revision {number} was approved on"),
        };
        return Err(Problem::conflict(format!(
            "For {application}, {what} {}, and {} is live: bring that into it, save it onto what is live, and have it approved.",
            called(base),
            called(is)
        )));
    }
    if there {
        return Err(Problem::conflict(format!("Revision {number} is live there already.")));
    }
    Ok(())
}

/// Whether a revision was approved on something else than it is to go live over.
fn is_elsewhere(revision: &RevisionInfo, over: i64, moves: &BTreeMap<String, Option<i64>>) -> bool {
    moves.keys().any(|application| revision.standing.bases.get(application) != Some(&over))
}

/// Whether others approve what is put live: not of what is urgent, which is marked instead.
fn is_approved_by_others(rolling: &Rolling, view: &View) -> bool {
    view.settings.settings.release.approvals > 0 && matches!(rolling.what, What::Revision(_))
}

/// What is live with some moves.
fn live_with(
    view: &View,
    moves: &BTreeMap<String, Option<i64>>,
    (revision, policy): (&RevisionInfo, &Arc<Policy>),
) -> Live {
    let live = view.live.as_ref();
    let mut placed = live.map_or_else(Placed::default, |live| (*live.placed).clone());
    for (application, to) in moves {
        match to {
            Some(number) => placed.of.insert(application.clone(), *number),
            None => placed.of.remove(application),
        };
    }
    placed.last = Some(revision.number);
    let known = |number: i64| {
        if number == revision.number {
            return Some((Arc::new(revision.clone()), Arc::clone(policy)));
        }
        let (revision, policy) = live?.known(number)?;
        Some((Arc::clone(revision), Arc::clone(policy)))
    };
    let all = placed.revisions().into_iter().filter_map(known).collect();
    let empty = Register::default();
    Live::new(placed, all, live.map_or(&empty, |live| live.world().register()))
}

/// Refuses what would tear a type from its application.
fn is_whole_after(before: Option<&Live>, after: &Live) -> Result<(), Problem> {
    let before = before.map_or_else(Vec::new, |live| live.in_force.parts());
    let all: Vec<String> = torn(&before, &after.in_force.parts()).iter().map(ToString::to_string).collect();
    if all.is_empty() {
        return Ok(());
    }
    Err(Problem::conflict(format!("{}.", all.join("; "))))
}

/// Facts that do not fit a charter that is new, of types and roles that it answers for.
fn unfit_of(before: &InForce, after: &InForce, go_on: &mut dyn FnMut() -> bool) -> Vec<String> {
    let known: BTreeSet<String> =
        before.worlds().iter().map(|world| world.policy().digest().to_string()).collect();
    let mut all = Vec::new();
    for (at, world) in after.worlds().iter().enumerate() {
        let policy = world.policy();
        if !known.contains(&world.policy().digest().to_string()) {
            let owns = |kind: &str| after.owners().of(kind).is_none_or(|owner| owner == at);
            let others: Vec<&Policy> = after
                .worlds()
                .iter()
                .map(|other| &**other.policy())
                .filter(|other| other.digest() != policy.digest())
                .collect();
            all.extend(against::unfit_beside((policy, &owns), &others, after.register(), MAX_UNFIT, go_on));
        }
    }
    all.truncate(MAX_UNFIT);
    all
}

fn unfit(all: &[String], revision: &RevisionInfo) -> Problem {
    let first = all.first().map_or("", String::as_str);
    let more = if all.len() > 1 { format!(", and {} more", all.len() - 1) } else { String::new() };
    let what = match revision.standing.draft {
        Some(draft) => format!("D-{draft}"),
        None => format!("revision {}", revision.number),
    };
    let parts = all.iter().map(|one| part(String::new(), one)).collect();
    Problem::conflict(format!(
        "The register would not be valid under {what}: {first}{more}. Mend the facts or the draft, or accept that they give nothing (accept-unfit)."
    ))
    .with(parts)
}

/// Whether a reason is a role that everybody has, or everybody who is signed in.
pub fn for_all(after: &InForce, reason: &str) -> bool {
    let Some(key) = reason.strip_prefix("role:") else { return false };
    after.worlds().iter().any(|world| {
        let policy = world.policy();
        let given = policy.role(key).and_then(|role| policy.model().roles[role.index()].given_to.as_ref());
        matches!(given, Some(GivenTo::Anyone | GivenTo::SignedIn))
    })
}

/// What was accepted, as it is kept.
pub fn accepted_items(kept: &Value) -> Vec<Item> {
    let one = |value: &Value| serde_json::from_value(value["item"].clone()).ok();
    kept.as_array().into_iter().flatten().filter_map(one).collect()
}

/// SHA-256 of a text.
pub(super) fn digest_of(text: &str) -> Digest {
    Digest(Sha256::digest(text).into())
}

/// The digest of all that a text is rehearsed with: the files, and the cases that were kept.
pub(super) fn files_digest(files: Option<&Value>, cases: &[Value]) -> Digest {
    digest_of(&json!([files, cases]).to_string())
}
