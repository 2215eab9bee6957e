//! Reviews: what stands between a draft, or settings, and their being in force. Everything that an approval
//! depends on is looked at again while nobody else writes.

use super::Node;
use super::release::{For, digest_of, files_digest, for_all};
use super::write::Who;
use crate::api::kept_file;
use crate::lanes::Ticket;
use crate::operators;
use crate::problem::{Problem, part};
use jiff::Timestamp;
use ostrog_core::decide::InForce;
use ostrog_core::rehearse::{Rehearsal, read as read_rehearsal, weaker};
use ostrog_core::release::accept::{First, Item, of_checks, of_shift};
use ostrog_core::release::in_common;
use ostrog_core::release::settings::{Settings, is_whole, read, weighty};
use ostrog_core::shift::{Only, between};
use ostrog_core::source::{Digest, SourceFile, Sources};
use ostrog_store::By;
use ostrog_store::draft::DraftInfo;
use ostrog_store::rehearsal::Report;
use ostrog_store::review::{Bound, Comment, Review, Verdict};
use ostrog_store::revision::{RevisionInfo, Standing};
use ostrog_store::settings::Put;
use ostrog_store::workspace::Write;
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::Duration;

/// Longest time that working out what must be accepted may take.
const FOR_ITEMS: Duration = Duration::from_secs(600);

/// How a draft stands on its way to be a revision.
#[derive(Debug)]
pub struct Reviewed {
    /// The draft.
    pub draft: DraftInfo,
    /// Everybody who counts as its editor.
    pub editors: Vec<String>,
    /// How many approvals it needs.
    pub needed: usize,
    /// What was said of it, oldest first.
    pub reviews: Vec<Review>,
    /// Which of these count.
    pub counting: Vec<i64>,
    /// Remarks on it.
    pub comments: Vec<Comment>,
    /// The report that an approval binds.
    pub report: Option<Report>,
    /// What every approver must accept.
    pub items: Vec<Item>,
    /// Why it cannot be approved by anybody yet.
    pub blocked: Vec<String>,
    /// What an approval binds.
    pub bound: Bound,
}

/// What an approver says.
#[derive(Clone, Debug, Default)]
pub struct Saying {
    /// The digest of the text that was seen.
    pub digest: Option<String>,
    /// The number of the report that was seen.
    pub report: Option<i64>,
    /// What is accepted, each with its note.
    pub accepts: BTreeMap<String, String>,
    /// Of a revision: over which other one it is to go live.
    pub over: Option<i64>,
    /// Why.
    pub note: Option<String>,
}

/// What an approval came to.
#[derive(Debug)]
pub struct Approved {
    /// How many approvals there are now.
    pub approvals: usize,
    /// How many are needed.
    pub needed: usize,
    /// The revision that a draft became.
    pub revision: Option<i64>,
}

/// The person that somebody acts as, if they are on record.
fn on_record<'s>(settings: &'s Settings, counts_as: &[String]) -> Option<&'s str> {
    let people = settings.operators.people.keys();
    people.map(String::as_str).find(|person| counts_as.contains(&format!("person:{person}")))
}

/// Refuses who may not approve what some people wrote.
pub(super) fn may_approve(settings: &Settings, editors: &[String], who: &Who) -> Result<(), Problem> {
    if on_record(settings, &who.counts_as).is_none() {
        return Err(Problem::forbidden(
            "Approving is for operators on record: this key is a program's, or of nobody whom the settings name ([operators.people]); nor does being in a group put anybody on record.",
        ));
    }
    if let Some(common) = in_common(editors, &who.counts_as) {
        return Err(Problem::forbidden(format!(
            "You count among its editors ({}), and an editor does not approve.",
            called(common)
        )));
    }
    Ok(())
}

/// `person:ines`, as people read it.
fn called(identity: &str) -> String {
    match identity.split_once(':') {
        Some(("person", person)) => person.to_owned(),
        Some(("key", key)) => format!("the key {key}"),
        Some((_, rest)) => format!("the sign-in {rest}"),
        None => identity.to_owned(),
    }
}

/// Reviews that count: approvals of exactly this, by people of whom no two are one.
fn counting<'r>(
    reviews: &'r [Review],
    bound: &Bound,
    settings: &Settings,
    editors: &[String],
) -> Vec<&'r Review> {
    let mut all: Vec<&Review> = Vec::new();
    for review in reviews {
        let counts = review.verdict == Verdict::Approve
            && review.voided.is_none()
            && review.bound.as_ref() == Some(bound)
            && on_record(settings, &review.persons).is_some()
            && in_common(editors, &review.persons).is_none()
            && all.iter().all(|known| in_common(&known.persons, &review.persons).is_none());
        if counts {
            all.push(review);
        }
    }
    all
}

/// Items that nobody accepted yet who says this, each with its note.
fn accepting(items: &[Item], saying: &Saying) -> Result<Value, Problem> {
    let mut accepted = Vec::new();
    let mut missing = Vec::new();
    for item in items {
        let note = saying.accepts.get(&item.id).or_else(|| saying.accepts.get("all"));
        match note.filter(|note| !note.trim().is_empty()) {
            Some(note) => accepted.push(json!({ "item": item, "note": note })),
            None => missing.push(part(item.id.clone(), &item.words)),
        }
    }
    if let Some(first) = missing.first() {
        let more =
            if missing.len() > 1 { format!(", and {} more", missing.len() - 1) } else { String::new() };
        return Err(Problem::conflict(format!(
            "This must be accepted, each with a note: {}{more}.",
            first.detail
        ))
        .with(missing));
    }
    Ok(json!(accepted))
}

/// What somebody is asked to approve: whatever it is, approvals of it are counted alike.
struct Asked<'a> {
    /// `D-1`, `S-1`, `I-port-id`, `R-1`.
    subject: String,
    /// What an approval of it binds.
    bound: Bound,
    /// Who wrote it, as whom they count.
    editors: &'a [String],
    /// What is to be accepted of it.
    items: &'a [Item],
}

/// That a revision goes live over another one.
fn over_asked(info: &RevisionInfo, over: i64) -> Asked<'_> {
    Asked {
        subject: format!("R-{}-over-{over}", info.number),
        bound: Bound { digest: info.digest, files: digest_of(&over.to_string()), report: None },
        editors: &info.standing.editors,
        items: &[],
    }
}

impl Asked<'_> {
    /// One approval more; how many that makes, and what was accepted.
    async fn approved(
        &self,
        write: &mut Write,
        settings: &Settings,
        saying: &Saying,
        by: &By,
        who: &Who,
    ) -> Result<(usize, Value), Problem> {
        may_approve(settings, self.editors, who)?;
        let reviews = write.reviews(&self.subject).await?;
        let already = counting(&reviews, &self.bound, settings, self.editors);
        if already.iter().any(|review| in_common(&review.persons, &who.counts_as).is_some()) {
            return Err(Problem::conflict(format!("You have approved {} already.", self.subject)));
        }
        let accepted = accepting(self.items, saying)?;
        write.approve(&self.subject, &self.bound, &accepted, saying.note.as_deref(), by).await?;
        Ok((already.len() + 1, accepted))
    }
}

impl Node {
    /// How a draft stands on its way to be a revision.
    pub(super) async fn reviewed(&self, number: i64) -> Result<Reviewed, Problem> {
        let missing = || Problem::not_found(format!("There is no draft D-{number}, or it has ended."));
        let draft = self.store.draft(number).await?.ok_or_else(missing)?.info;
        let settings = Arc::clone(&self.view().settings);
        let needed = settings.settings.release.approvals;
        let reviews = self.store.reviews(&format!("D-{number}")).await?;
        let comments = self.store.comments(number).await?;
        let since = match draft.base {
            Some(base) => self.store.revision(base).await?.map(|base| base.info.created_at),
            None => None,
        };
        let since = since.unwrap_or(Timestamp::UNIX_EPOCH);
        let mut editors: BTreeSet<String> = draft.editors.iter().cloned().collect();
        editors.extend(self.store.rehearsal_editors(since).await?);
        let editors: Vec<String> = editors.into_iter().collect();
        let cases: Vec<Value> = self.store.cases().await?.into_iter().map(|case| case.body).collect();
        let files = self.store.rehearsal().await?;
        let digest = files_digest(files.as_ref().map(|text| &text.files), &cases);
        let report = self.store.report_of(draft.digest, digest).await?;
        let mut blocked = Vec::new();
        let mut items = Vec::new();
        match &report {
            None => blocked.push(
                "no rehearsal of exactly this text with exactly these files has come to an end: rehearse it"
                    .to_owned(),
            ),
            Some(report) => {
                let cases = report.found.report["cases"].as_array().map_or(&[][..], Vec::as_slice);
                let failed = cases.iter().filter(|case| case["passed"] == false).count();
                if failed > 0 {
                    blocked.push(format!(
                        "{failed} of {} cases fail in rehearsal {}",
                        cases.len(),
                        report.number
                    ));
                }
                if cases.is_empty() && settings.settings.release.require_rehearsal {
                    blocked.push("a rehearsal is required, and there is no case".to_owned());
                }
                let live = self.view().live.as_ref().map(|live| live.placed.of.clone()).unwrap_or_default();
                if report.of.against != live {
                    blocked.push(format!(
                        "rehearsal {} was held against what was live then: rehearse it again",
                        report.number
                    ));
                }
                if draft.bases != live {
                    blocked
                        .push("something else went live since it began: put it onto what is live".to_owned());
                }
                items.extend(
                    serde_json::from_value::<Vec<Item>>(report.found.moved.clone()).unwrap_or_default(),
                );
            }
        }
        items.extend(of_checks(
            &self.weaker_since(since, files.as_ref().map(|text| &text.files), &cases).await?,
        ));
        items.sort_by_key(|item| (item.kind, item.first.is_none()));
        if let Some(back) = reviews.iter().rev().find(|review| review.verdict == Verdict::Return)
            && back.created_at > draft.saved_at
        {
            let note = back.note.clone().unwrap_or_default();
            blocked.push(format!("it was returned to its editors: {note}"));
        }
        let bound = Bound {
            digest: draft.digest,
            files: digest,
            report: report.as_ref().map(|report| report.number),
        };
        let count = counting(&reviews, &bound, &settings.settings, &editors);
        let counting = count.iter().map(|review| review.number).collect();
        Ok(Reviewed { draft, editors, needed, reviews, counting, comments, report, items, blocked, bound })
    }

    /// What was taken out of the checks, or changed, since the base of a draft.
    async fn weaker_since(
        &self,
        since: Timestamp,
        files: Option<&Value>,
        cases: &[Value],
    ) -> Result<Vec<ostrog_core::rehearse::Weaker>, Problem> {
        let (before, kept) = self.store.checks_at(since).await?;
        let rehearsal = |files: Option<&Value>, cases: &[Value]| -> Rehearsal {
            let mut findings = Vec::new();
            let mut whole = read_rehearsal(&sources_of(files), &mut findings);
            let kept = Sources::single("kept.toml", &kept_file(cases));
            whole.cases.extend(read_rehearsal(&kept, &mut findings).cases);
            whole
        };
        Ok(weaker(&rehearsal(before.as_ref(), &kept), &rehearsal(files, cases)))
    }

    /// Approves a draft; the last approval that it needs makes it a revision.
    pub(super) async fn approve_draft(
        self: &Arc<Self>,
        number: i64,
        saying: Saying,
        who: Who,
    ) -> Result<Approved, Problem> {
        let node = Arc::clone(self);
        self.record(move |write, now| {
            Box::pin(async move { node.approve_draft_now(write, number, &saying, &who.by(now), &who).await })
        })
        .await
    }

    async fn approve_draft_now(
        &self,
        write: &mut Write,
        number: i64,
        saying: &Saying,
        by: &By,
        who: &Who,
    ) -> Result<Approved, Problem> {
        let reviewed = self.reviewed(number).await?;
        let settings = Arc::clone(&self.view().settings);
        if reviewed.needed == 0 {
            return Err(Problem::conflict("Nobody has to approve here (approvals = 0): roll it out."));
        }
        if saying.digest.as_ref().is_some_and(|digest| *digest != reviewed.draft.digest.to_string()) {
            return Err(Problem::changed(format!("D-{number} was saved anew since; read it again.")));
        }
        if saying.report.is_some() && saying.report != reviewed.bound.report {
            return Err(Problem::changed(format!("D-{number} was rehearsed anew since; read it again.")));
        }
        may_approve(&settings.settings, &reviewed.editors, who)?;
        if let Some(why) = reviewed.blocked.first() {
            return Err(Problem::conflict(format!(
                "D-{number} cannot be approved: {}.",
                reviewed.blocked.join("; ")
            ))
            .with(vec![part("", why)]));
        }
        let needed = reviewed.needed;
        let asked = Asked {
            subject: format!("D-{number}"),
            bound: reviewed.bound,
            editors: &reviewed.editors,
            items: &reviewed.items,
        };
        let (approvals, accepted) = asked.approved(write, &settings.settings, saying, by, who).await?;
        if approvals < needed {
            return Ok(Approved { approvals, needed, revision: None });
        }
        let gone = || Problem::conflict("The draft has ended, or was saved anew meanwhile.");
        let draft = self.store.draft(number).await?.ok_or_else(gone)?;
        // The text is what a charter has to be: a revision is never one that cannot be read.
        self.compiled(draft.sources.clone()).await?;
        let standing = Standing {
            approved: true,
            editors: reviewed.editors,
            bases: draft.info.bases.clone(),
            draft: Some(number),
            accepted,
            rehearsal: self.store.rehearsal().await?.map(|text| text.number),
            ..Standing::default()
        };
        let revision = write.add_revision(&draft.sources, &draft.info.title, &standing, by).await?;
        if !write.end_draft(number, Some(revision), &by.actor, by.at).await? {
            return Err(gone());
        }
        write.numbered(number, revision, by).await?;
        Ok(Approved { approvals, needed, revision: Some(revision) })
    }

    /// Returns a draft to its editors, or settings to whoever put them.
    pub(super) async fn give_back(
        self: &Arc<Self>,
        subject: String,
        note: String,
        who: Who,
    ) -> Result<(), Problem> {
        let node = Arc::clone(self);
        self.record(move |write, now| {
            Box::pin(async move {
                let by = who.by(now);
                let missing = || Problem::not_found(format!("{subject} is not there, or has ended."));
                match subject.split_once('-').map(|(what, number)| (what, number.parse::<i64>())) {
                    Some(("D", Ok(number))) => {
                        node.store.draft(number).await?.ok_or_else(missing)?;
                        write.void(&subject, "it was returned", &by).await?;
                    }
                    Some(("S", Ok(number))) => {
                        if !write.end_settings(number, &format!("returned: {note}"), &by).await? {
                            return Err(missing());
                        }
                    }
                    _ => return Err(missing()),
                }
                write.give_back(&subject, &note, &by).await?;
                Ok(())
            })
        })
        .await
    }

    // -- revisions -----------------------------------------------------------------------------

    /// What approving a revision for some applications asks to be accepted, against what is live there.
    pub(super) async fn items_of(
        &self,
        number: i64,
        r#for: For,
        who: &Who,
    ) -> Result<(RevisionInfo, Vec<Item>), Problem> {
        let missing = || Problem::not_found(format!("There is no revision {number}."));
        let revision = self.store.revision(number).await?.ok_or_else(missing)?;
        let policy = Arc::new(self.compiled(revision.sources).await?);
        let view = self.view();
        let live = view.live.clone().ok_or_else(super::write::nothing_live)?;
        let people = self.people(&who.counts_as);
        let work = move |ticket: &Ticket| {
            let mut parts = live.in_force.parts();
            let new: BTreeSet<String> = match r#for {
                For::All => ostrog_core::decide::in_force::declared(&policy).map(str::to_owned).collect(),
                For::These(these) => these,
            };
            for part in &mut parts {
                part.applications.retain(|application| !new.contains(application));
            }
            parts.insert(0, ostrog_core::decide::in_force::Part { policy, applications: new });
            let after = InForce::new(parts, live.world().register());
            let now = Timestamp::now();
            let shift = between(&live.in_force, &after, now, &Only::default(), &mut |_| ticket.goes_on());
            if !shift.unexamined.is_empty() {
                return Err(Problem::timeout("Working out who gains and who loses takes too long."));
            }
            Ok(of_shift(&shift, First { people: &people, for_all: &|reason| for_all(&after, reason) }))
        };
        let items = self.lanes.questions.run("reviews", FOR_ITEMS, work).await?;
        Ok((revision.info, items))
    }

    /// Approves a revision that went live urgently: from then on it may go live elsewhere.
    pub(super) async fn approve_revision(
        self: &Arc<Self>,
        number: i64,
        saying: Saying,
        who: Who,
    ) -> Result<Approved, Problem> {
        let (_, items) = self.items_of(number, For::All, &who).await?;
        let node = Arc::clone(self);
        self.record(move |write, now| {
            Box::pin(async move {
                let by = who.by(now);
                let missing = || Problem::not_found(format!("There is no revision {number}."));
                let info = node.store.revision(number).await?.ok_or_else(missing)?.info;
                if info.standing.approved {
                    return Err(Problem::conflict(format!("Revision {number} is approved already.")));
                }
                let settings = Arc::clone(&node.view().settings);
                let asked = Asked {
                    subject: format!("R-{number}"),
                    bound: Bound { digest: info.digest, files: info.digest, report: None },
                    editors: &info.standing.editors,
                    items: &items,
                };
                let (approvals, accepted) =
                    asked.approved(write, &settings.settings, &saying, &by, &who).await?;
                let needed = settings.settings.release.approvals.max(1);
                if approvals >= needed {
                    write.approved_after_all(number, &accepted, &by).await?;
                }
                Ok(Approved { approvals, needed, revision: Some(number) })
            })
        })
        .await
    }

    /// Approves that a revision goes live over another one than it was approved on, where that is live.
    pub(super) async fn approve_over(
        self: &Arc<Self>,
        number: i64,
        over: i64,
        saying: Saying,
        who: Who,
    ) -> Result<Approved, Problem> {
        let live = self.view().live.as_ref().map(|live| live.placed.applications(over)).unwrap_or_default();
        let missing = || Problem::not_found(format!("There is no revision {number}."));
        let policy = self.compiled(self.store.revision(number).await?.ok_or_else(missing)?.sources).await?;
        let known = ostrog_core::decide::in_force::declared(&policy);
        let these: BTreeSet<String> = known.filter(|one| live.contains(*one)).map(str::to_owned).collect();
        if these.is_empty() {
            return Err(Problem::conflict(format!(
                "Revision {over} is live for nothing that {number} declares."
            )));
        }
        let (info, items) = self.items_of(number, For::These(these), &who).await?;
        let node = Arc::clone(self);
        self.record(move |write, now| {
            Box::pin(async move {
                let by = who.by(now);
                let settings = Arc::clone(&node.view().settings);
                let needed = settings.settings.release.approvals;
                if needed == 0 {
                    return Err(Problem::conflict(
                        "Nobody has to approve here (approvals = 0): roll it out.",
                    ));
                }
                let asked = Asked { items: &items, ..over_asked(&info, over) };
                let (approvals, _) = asked.approved(write, &settings.settings, &saying, &by, &who).await?;
                Ok(Approved { approvals, needed, revision: Some(number) })
            })
        })
        .await
    }

    /// What was accepted of a revision going live over another one; refused where too few approved that.
    pub(super) async fn accepted_over(
        &self,
        write: &mut Write,
        info: &RevisionInfo,
        over: i64,
    ) -> Result<Value, Problem> {
        let settings = Arc::clone(&self.view().settings);
        let asked = over_asked(info, over);
        let reviews = write.reviews(&asked.subject).await?;
        let all = counting(&reviews, &asked.bound, &settings.settings, asked.editors);
        if all.len() < settings.settings.release.approvals {
            let number = info.number;
            return Err(Problem::conflict(format!(
                "Revision {number} was not approved on revision {over}: somebody approves that it goes live over it (ostrog approve R-{number} --over {over})."
            )));
        }
        Ok(all.last().map_or(json!([]), |review| review.accepted.clone()))
    }

    // -- issuers that operators sign in with -----------------------------------------------------

    /// Whether what says who operates is approved by another than whoever makes it.
    pub(super) fn is_approved_by_another(&self, persons: &[String]) -> bool {
        needed(&self.view().settings.settings, persons) > 0
    }

    /// Approves that operators sign in with an issuer.
    pub(super) async fn approve_issuer(
        self: &Arc<Self>,
        key: String,
        saying: Saying,
        who: Who,
    ) -> Result<Approved, Problem> {
        let node = Arc::clone(self);
        self.record(move |write, now| {
            Box::pin(async move {
                let by = who.by(now);
                let waiting = write.issuers().await?.into_iter().find(|issuer| issuer.key == key);
                let missing = || Problem::not_found(format!("No issuer {key:?} waits for approval."));
                let issuer = waiting.filter(|issuer| issuer.waits).ok_or_else(missing)?;
                let in_use = Arc::clone(&node.view().settings);
                let digest = Digest(issuer.digest());
                let bound = Bound { digest, files: digest, report: None };
                let asked =
                    Asked { subject: format!("I-{key}"), bound, editors: &issuer.persons, items: &[] };
                let (approvals, _) = asked.approved(write, &in_use.settings, &saying, &by, &who).await?;
                let needed = needed(&in_use.settings, &issuer.persons);
                if approvals >= needed {
                    write.issuer_approved(&key, &by).await?;
                }
                Ok(Approved { approvals, needed, revision: None })
            })
        })
        .await
    }

    // -- settings ------------------------------------------------------------------------------

    /// Puts settings: in force at once, or waiting for approval where what they change is approved by another.
    /// Gives their number, and why they wait.
    pub(super) async fn put_settings(
        self: &Arc<Self>,
        text: String,
        from: Option<i64>,
        note: Option<String>,
        who: Who,
    ) -> Result<(i64, Vec<String>), Problem> {
        let settings = settings_of(&text)?;
        let node = Arc::clone(self);
        self.record(move |write, now| {
            Box::pin(async move {
                let by = who.by(now);
                let in_use = Arc::clone(&node.view().settings);
                if from.is_some_and(|from| from != in_use.number.unwrap_or(0)) {
                    return Err(Problem::changed(
                        "Somebody put other settings since; read them, and put again.",
                    ));
                }
                let weighs = weighty(&in_use.settings, &settings);
                let waits = !weighs.is_empty() && needed(&in_use.settings, &by.counts_as) > 0;
                let number = write.put_settings(&text, !waits, note.as_deref(), &by).await?;
                if !waits {
                    Node::sign_out_who_lost_all(write, &settings, now).await?;
                }
                Ok((number, if waits { weighs } else { Vec::new() }))
            })
        })
        .await
    }

    /// Approves settings that wait, under those that are in force.
    pub(super) async fn approve_settings(
        self: &Arc<Self>,
        number: i64,
        saying: Saying,
        who: Who,
    ) -> Result<Approved, Problem> {
        let node = Arc::clone(self);
        self.record(move |write, now| {
            Box::pin(async move {
                let by = who.by(now);
                let missing = || Problem::not_found(format!("No settings S-{number} wait for approval."));
                let put = write.settings_put(number).await?.filter(Put::waits).ok_or_else(missing)?;
                let in_use = Arc::clone(&node.view().settings);
                let digest = digest_of(&put.text);
                let bound = Bound { digest, files: digest, report: None };
                let asked =
                    Asked { subject: format!("S-{number}"), bound, editors: &put.persons, items: &[] };
                let (approvals, _) = asked.approved(write, &in_use.settings, &saying, &by, &who).await?;
                let needed = needed(&in_use.settings, &put.persons);
                if approvals >= needed {
                    let settings = settings_of(&put.text)?;
                    write.settings_in_force(number, &by).await?;
                    Node::sign_out_who_lost_all(write, &settings, now).await?;
                }
                Ok(Approved { approvals, needed, revision: None })
            })
        })
        .await
    }
}

/// How many must approve a change of settings. Where nobody else is on record who could, one person works alone:
/// else nothing could ever be changed.
fn needed(settings: &Settings, editors: &[String]) -> usize {
    let people = &settings.operators.people;
    // However many somebody counts as by keys they made for others, they are one.
    let others = people.len() - usize::from(on_record(settings, editors).is_some());
    settings.release.approvals.min(others)
}

/// Settings, as they are meant.
pub fn settings_of(text: &str) -> Result<Settings, Problem> {
    let file = SourceFile { path: "settings.toml".to_owned(), text: text.to_owned() };
    let (settings, findings) = read(&file, &operators::roles());
    if is_whole(&findings) {
        return Ok(settings);
    }
    let sources = Sources::new(vec![file]);
    let told = |finding: &ostrog_core::source::Finding| {
        let words = match &finding.help {
            Some(help) => format!("{}; {help}", finding.message),
            None => finding.message.clone(),
        };
        part(sources.place(finding.span).to_string(), &words)
    };
    let parts: Vec<_> = findings.iter().map(told).collect();
    let first = parts.first().map_or_else(String::new, |part| format!("{}  {}", part.at, part.detail));
    Err(Problem::invalid(format!("The settings have errors: {first}.")).with(parts))
}

/// Files of a rehearsal, as they are kept.
fn sources_of(files: Option<&Value>) -> Sources {
    let file = |file: &Value| {
        Some(SourceFile { path: file["path"].as_str()?.to_owned(), text: file["text"].as_str()?.to_owned() })
    };
    Sources::new(files.and_then(Value::as_array).into_iter().flatten().filter_map(file).collect())
}
