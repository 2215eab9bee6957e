//! Reviews, rollouts and settings: each with the permission it needs.

use super::permission::Permission;
use super::{Scope, Texts};
use crate::node::release::{For, Released, Rolling, What};
use crate::node::review::{Approved, Reviewed, Saying, settings_of};
use crate::node::view::InUse;
use crate::node::write::Author;
use crate::operators::{Rights, moved, rights_of};
use crate::problem::Problem;
use ostrog_core::release::accept::Item;
use ostrog_core::release::history;
use ostrog_core::release::settings::{Settings, weighty};
use ostrog_store::nodes::NodeSeen;
use ostrog_store::release::Step;
use ostrog_store::revision::RevisionInfo;
use ostrog_store::settings::Put;
use std::collections::BTreeMap;
use std::sync::Arc;

/// Most settings that are told of those that were put.
const MAX_PUT: i64 = 100;

/// Approving and returning.
#[derive(Clone, Copy, Debug)]
pub struct Reviewing<'s>(&'s Scope);

/// Putting live, and going back.
#[derive(Clone, Copy, Debug)]
pub struct Releasing<'s>(&'s Scope);

/// Reading settings.
#[derive(Clone, Copy, Debug)]
pub struct SettingsRead<'s>(&'s Scope);

/// Changing settings.
#[derive(Clone, Copy, Debug)]
pub struct SettingsKeeping<'s>(&'s Scope);

/// What is live for an application, since when, and what it would go back to.
#[derive(Clone, Debug)]
pub struct LiveFor {
    /// The step by which it went live.
    pub step: Step,
    /// The revision.
    pub revision: RevisionInfo,
    /// What a rollback goes to.
    pub back: Option<i64>,
}

impl Scope {
    /// Approving and returning.
    ///
    /// # Errors
    /// If the caller may not.
    pub fn reviewing(&self) -> Result<Reviewing<'_>, Problem> {
        self.need(Permission::CharterApprove).map(|()| Reviewing(self))
    }

    /// Putting live, and going back.
    ///
    /// # Errors
    /// If the caller may not.
    pub fn releasing(&self) -> Result<Releasing<'_>, Problem> {
        self.need(Permission::CharterRelease).map(|()| Releasing(self))
    }

    /// Reading settings, and who operates.
    ///
    /// # Errors
    /// If the caller may not.
    pub fn settings(&self) -> Result<SettingsRead<'_>, Problem> {
        self.need(Permission::SettingsRead).map(|()| SettingsRead(self))
    }

    /// Changing settings.
    ///
    /// # Errors
    /// If the caller may not.
    pub fn settings_keeping(&self) -> Result<SettingsKeeping<'_>, Problem> {
        self.need(Permission::SettingsKeep).map(|()| SettingsKeeping(self))
    }

    /// Which nodes there are, and how far they answer.
    ///
    /// # Errors
    /// If the caller may not know, or the database cannot be reached.
    pub async fn nodes(&self) -> Result<Vec<NodeSeen>, Problem> {
        self.need(Permission::CharterRead)?;
        self.looks.up();
        Ok(self.node.store.nodes().await?)
    }

    fn author(&self, note: Option<String>) -> Author {
        Author { note, who: self.who(), ..Author::host("") }
    }
}

impl Texts<'_> {
    /// What is live for each application, and since when.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn live_for(&self) -> Result<Vec<LiveFor>, Problem> {
        let (scope, store) = (self.scope(), &self.scope().node.store);
        scope.looks.up();
        let Some(live) = &scope.view.live else { return Ok(Vec::new()) };
        let mut all = Vec::new();
        let mut standings: BTreeMap<i64, RevisionInfo> = BTreeMap::new();
        for info in store.revisions(i64::MAX).await? {
            standings.insert(info.number, info);
        }
        for (application, number) in &live.placed.of {
            let steps = store.releases(Some(application), i64::MAX).await?;
            let told =
                steps.iter().rev().map(|step| history::Step { revision: step.revision, back: step.back });
            let line = history::line(told);
            let may = |revision: i64| match standings.get(&revision) {
                Some(info) if info.standing.approved && info.standing.barred.is_none() => Ok(()),
                _ => Err(String::new()),
            };
            let back = history::back(&line, None, may).ok();
            let step = steps.into_iter().find(|step| step.revision == Some(*number));
            if let (Some(step), Some(revision)) = (step, standings.get(number)) {
                all.push(LiveFor { step, revision: revision.clone(), back });
            }
        }
        Ok(all)
    }

    /// What was live, newest first.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn releases(&self, application: Option<&str>, limit: i64) -> Result<Vec<Step>, Problem> {
        self.scope().looks.up();
        Ok(self.scope().node.store.releases(application, limit).await?)
    }

    /// How a draft, `D-1`, stands on its way to be a revision.
    ///
    /// # Errors
    /// If there is none.
    pub async fn review(&self, id: &str) -> Result<Reviewed, Problem> {
        self.scope().looks.up();
        self.scope().node.reviewed(number_of(id, "D")?).await
    }

    /// What approving a revision asks to be accepted, for some applications, against what is live for them.
    ///
    /// # Errors
    /// If there is none.
    pub async fn items_of(&self, number: i64, r#for: For) -> Result<(RevisionInfo, Vec<Item>), Problem> {
        self.scope().looks.up();
        let scope = self.scope();
        scope.node.items_of(number, r#for, &scope.who()).await
    }

    /// Why the caller may not approve what some people wrote; none: they may.
    pub fn not_yours(&self, editors: &[String]) -> Option<String> {
        let scope = self.scope();
        if !scope.may(Permission::CharterApprove) {
            return Some("You do not hold charter:approve.".to_owned());
        }
        let settings = &scope.view.settings.settings;
        let refused = crate::node::review::may_approve(settings, editors, &scope.who()).err();
        refused.map(|problem| problem.detail().to_owned())
    }

    /// What people are called: keys and persons by the ids that are recorded.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn names(&self) -> Result<BTreeMap<String, String>, Problem> {
        let scope = self.scope();
        scope.looks.up();
        let people = &scope.view.settings.settings.operators.people;
        let mut names: BTreeMap<String, String> = BTreeMap::new();
        for (key, person) in people {
            names.insert(format!("person:{key}"), person.name.clone());
        }
        for known in scope.view.keys.all() {
            let making = &known.key.making;
            let person = making.person.as_ref().and_then(|person| people.get(person));
            let name = person.map_or_else(|| making.name.clone(), |person| person.name.clone());
            if !name.is_empty() {
                names.insert(known.key.id.clone(), name.clone());
                names.insert(format!("key:{}", known.key.id), name);
            }
        }
        Ok(names)
    }
}

impl Reviewing<'_> {
    /// Approves a draft `D-1`, settings `S-1`, an issuer `I-port-id` that operators are to sign in with, or a revision
    /// `R-1` that went live urgently.
    ///
    /// # Errors
    /// If it is not the caller's to approve, they did not sign in lately, or not everything is accepted.
    pub async fn approve(&self, id: &str, saying: Saying) -> Result<Approved, Problem> {
        self.0.need_lately()?;
        let (node, who) = (&self.0.node, self.0.who());
        match id.split_once('-') {
            Some(("S", _)) => node.approve_settings(number_of(id, "S")?, saying, who).await,
            Some(("I", key)) => node.approve_issuer(key.to_owned(), saying, who).await,
            Some(("R", _)) => match saying.over {
                Some(over) => node.approve_over(number_of(id, "R")?, over, saying, who).await,
                None => node.approve_revision(number_of(id, "R")?, saying, who).await,
            },
            _ => node.approve_draft(number_of(id, "D")?, saying, who).await,
        }
    }

    /// Returns a draft or settings.
    ///
    /// # Errors
    /// If it has ended.
    pub async fn give_back(&self, id: &str, note: String) -> Result<(), Problem> {
        self.0.node.give_back(id.to_owned(), note, self.0.who()).await
    }

    /// Shuts a revision for good.
    ///
    /// # Errors
    /// If there is none, or it is live.
    pub async fn bar(&self, number: i64, note: String) -> Result<(), Problem> {
        let (node, who) = (Arc::clone(&self.0.node), self.0.who());
        let record = self.0.node.record(move |write, now| {
            Box::pin(async move {
                let missing = || Problem::not_found(format!("There is no revision {number}."));
                node.store.revision(number).await?.ok_or_else(missing)?;
                let live = write.live().await?.applications(number);
                if !live.is_empty() {
                    return Err(Problem::conflict(format!(
                        "Revision {number} is live for {}: go back first.",
                        live.into_iter().collect::<Vec<_>>().join(", ")
                    )));
                }
                match write.bar(number, &note, &who.actor, now).await? {
                    true => Ok(()),
                    false => Err(Problem::conflict(format!("Revision {number} is shut already."))),
                }
            })
        });
        record.await
    }
}

impl Scope {
    /// Remarks on a draft, on a line of it or as a whole: by whoever may write or approve drafts.
    ///
    /// # Errors
    /// If they may not, or it has ended.
    pub async fn remark(&self, draft: i64, at: Option<(String, i32)>, text: String) -> Result<(), Problem> {
        if !self.may(Permission::CharterApprove) {
            self.need(Permission::CharterDraft)?;
        }
        let who = self.who();
        let record = self.node.record(move |write, now| {
            Box::pin(async move {
                let at = at.as_ref().map(|(path, line)| (path.as_str(), *line));
                write.comment(draft, at, &text, &who.by(now)).await?;
                Ok(())
            })
        });
        record.await
    }
}

impl Releasing<'_> {
    /// Refuses whoever may not put live what nobody approved.
    ///
    /// # Errors
    /// If they may not, did not sign in lately, or do not say why.
    pub fn urgently(&self, note: Option<&str>) -> Result<(), Problem> {
        self.0.need(Permission::CharterUrgent)?;
        self.0.need_lately()?;
        if note.is_none_or(|note| note.trim().is_empty()) {
            return Err(Problem::malformed("An urgent rollout has a note that says why."));
        }
        Ok(())
    }

    /// Puts something live.
    ///
    /// # Errors
    /// If it cannot be, or is not what may go live there.
    pub async fn roll_out(&self, rolling: Rolling) -> Result<Released, Problem> {
        if let What::Draft { urgent: true, .. } = rolling.what {
            self.urgently(rolling.note.as_deref())?;
        }
        let author = self.0.author(rolling.note.clone());
        self.0.node.roll_out(rolling, author).await
    }

    /// What putting something live would move; nothing is changed.
    ///
    /// # Errors
    /// If it could not be.
    pub async fn check(&self, rolling: Rolling) -> Result<Released, Problem> {
        self.0.node.would_release(rolling, &self.0.author(None)).await
    }

    /// Goes back.
    ///
    /// # Errors
    /// If there is no way back.
    pub async fn roll_back(
        &self,
        r#for: For,
        to: Option<i64>,
        note: Option<String>,
    ) -> Result<Released, Problem> {
        self.0.node.roll_back(r#for, to, note.clone(), self.0.author(note)).await
    }
}

impl SettingsRead<'_> {
    /// Those in force.
    pub fn in_use(&self) -> &InUse {
        &self.0.view.settings
    }

    /// What was put, newest first.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn all(&self) -> Result<Vec<Put>, Problem> {
        self.0.looks.up();
        Ok(self.0.node.store.all_settings(MAX_PUT).await?)
    }

    /// Settings as they would be meant, what in them is approved by another, and who would be let do what.
    ///
    /// # Errors
    /// The text's errors.
    pub fn change(&self, text: &str) -> Result<(Vec<String>, Vec<OperatorMoved>), Problem> {
        let (now, then) = (&self.in_use().settings, settings_of(text)?);
        Ok((weighty(now, &then), operators_moved(now, &then)))
    }
}

/// Who, whether it is gained, and what.
pub type OperatorMoved = (String, bool, String);

/// Who operates and would be let do what they are not, or no more.
fn operators_moved(before: &Settings, after: &Settings) -> Vec<OperatorMoved> {
    let of = |settings: &Settings| -> BTreeMap<String, Rights> {
        let groups = settings.operators.groups.iter();
        let groups = groups.map(|(name, all)| (format!("group {name}"), rights_of(all)));
        let people = settings.operators.people.iter();
        groups.chain(people.map(|(key, person)| (key.clone(), rights_of(&person.rights)))).collect()
    };
    let (was, is) = (of(before), of(after));
    let nobody = Rights::default();
    let mut all = Vec::new();
    for who in was.keys().chain(is.keys().filter(|who| !was.contains_key(*who))) {
        let pair = [was.get(who).unwrap_or(&nobody), is.get(who).unwrap_or(&nobody)];
        all.extend(moved(pair[0], pair[1]).into_iter().map(|(gained, what)| (who.clone(), gained, what)));
    }
    all
}

impl SettingsKeeping<'_> {
    /// Puts settings; gives their number, and why they wait for approval.
    ///
    /// # Errors
    /// Their errors, or that others were put since.
    pub async fn put(
        &self,
        text: String,
        from: Option<i64>,
        note: Option<String>,
    ) -> Result<(i64, Vec<String>), Problem> {
        self.0.need_lately()?;
        self.0.node.put_settings(text, from, note, self.0.who()).await
    }
}

/// The number of `D-1`.
fn number_of(id: &str, what: &str) -> Result<i64, Problem> {
    let text = id.strip_prefix(what).and_then(|rest| rest.strip_prefix('-')).unwrap_or(id);
    text.parse().map_err(|_| Problem::not_found(format!("There is no {id}.")))
}

/// For whom, as it is written: `all`, or keys with commas between.
///
/// # Errors
/// If it names nobody.
pub fn for_whom(text: &str) -> Result<For, Problem> {
    if text == "all" {
        return Ok(For::All);
    }
    let these: std::collections::BTreeSet<String> =
        text.split(',').map(str::trim).filter(|one| !one.is_empty()).map(str::to_owned).collect();
    if these.is_empty() {
        return Err(Problem::malformed(
            "Say for which applications: all, or their keys with commas between.",
        ));
    }
    Ok(For::These(these))
}
