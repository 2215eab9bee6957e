//! Charters and what belongs to them: revisions, drafts, cases, rehearsals.

use super::Scope;
use super::permission::Permission;
use crate::node::Node;
use crate::node::release::files_digest;
use crate::node::view::Live;
use crate::problem::Problem;
use ostrog_core::charter;
use ostrog_core::prelude::{InForce, Policy, Register, Sources};
use ostrog_core::source::Digest;
use ostrog_store::By;
use ostrog_store::case::Case;
use ostrog_store::draft::{Draft, DraftInfo, Onto};
use ostrog_store::presence::Present;
use ostrog_store::rehearsal::{Found, Of, Ran, Text};
use ostrog_store::revision::{Revision, RevisionInfo};
use ostrog_store::workspace::Write;
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// Most revisions that are listed.
const MAX_REVISIONS: i64 = 1_000;
/// Most cases that are kept.
const MAX_CASES: usize = 10_000;

/// Reading texts.
#[derive(Clone, Copy, Debug)]
pub struct Texts<'s>(&'s Scope);

/// Saving and discarding drafts, keeping cases, rehearsing.
#[derive(Clone, Copy, Debug)]
pub struct Drafting<'s>(&'s Scope);

/// What a draft is to be saved as.
#[derive(Debug)]
pub struct Saving {
    /// The draft that this is the new text of; none: a new one.
    pub draft: Option<i64>,
    /// What it was made from, where that counts.
    pub onto: Onto,
    /// The digest of the text before: refused if somebody saved another since.
    pub from: Option<String>,
    /// What it is about.
    pub title: String,
    /// The text.
    pub sources: Sources,
}

/// What a rehearsal needs.
#[derive(Debug)]
pub struct Rehearsing {
    /// The rehearsal's files, if any were saved.
    pub files: Option<Text>,
    /// Cases that were kept from trying.
    pub cases: Vec<Value>,
    /// What is live, and its number.
    pub live: InForce,
    /// By application, what is live.
    pub placed: BTreeMap<String, i64>,
    /// What was put live last.
    pub policy: Arc<Policy>,
    /// Everybody who operates or edits, as users of the register.
    pub people: BTreeSet<String>,
    /// The facts: a copy that shares with others all that is the same.
    pub facts: Register,
}

impl Scope {
    /// Reading texts.
    ///
    /// # Errors
    /// If the caller may not.
    pub fn texts(&self) -> Result<Texts<'_>, Problem> {
        self.need(Permission::CharterRead).map(|()| Texts(self))
    }

    /// Saving and discarding drafts.
    ///
    /// # Errors
    /// If the caller may not.
    pub fn drafting(&self) -> Result<Drafting<'_>, Problem> {
        self.need(Permission::CharterDraft).map(|()| Drafting(self))
    }
}

impl<'s> Texts<'s> {
    pub(super) fn scope(&self) -> &'s Scope {
        self.0
    }

    /// What is live, if anything is.
    pub fn live(&self) -> Option<(&'s RevisionInfo, &'s Arc<Policy>)> {
        self.0.view.live.as_ref().map(|live| (&**live.revision(), live.world().policy()))
    }

    /// The facts that a text is held against: whoever may read texts everywhere is told what of the
    /// register a text does not permit only if they may read that too.
    pub fn facts(&self) -> Option<&'s Register> {
        let live = self.0.view.live.as_ref()?;
        self.0.may(Permission::RegisterRead).then(|| live.world().register())
    }

    /// All revisions, newest first.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn revisions(&self) -> Result<Vec<RevisionInfo>, Problem> {
        self.0.looks.up();
        Ok(self.0.node.store.revisions(MAX_REVISIONS).await?)
    }

    /// One revision with its text.
    ///
    /// # Errors
    /// If there is none.
    pub async fn revision(&self, number: i64) -> Result<Revision, Problem> {
        self.0.looks.up();
        let missing = || Problem::not_found(format!("There is no revision {number}."));
        self.0.node.store.revision(number).await?.ok_or_else(missing)
    }

    /// All drafts that have not ended, newest first.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn drafts(&self) -> Result<Vec<DraftInfo>, Problem> {
        self.0.looks.up();
        Ok(self.0.node.store.drafts().await?)
    }

    /// Drafts that were discarded and can be taken back.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn discarded_drafts(&self) -> Result<Vec<DraftInfo>, Problem> {
        self.0.looks.up();
        Ok(self.0.node.store.discarded_drafts().await?)
    }

    /// A draft, `D-1`, that has not ended.
    ///
    /// # Errors
    /// If there is none.
    pub async fn draft(&self, id: &str) -> Result<Draft, Problem> {
        self.0.looks.up();
        let missing = || Problem::not_found(format!("There is no draft {id}, or it has ended."));
        let number = id.strip_prefix("D-").unwrap_or(id).parse().map_err(|_| missing())?;
        self.0.node.store.draft(number).await?.ok_or_else(missing)
    }

    /// The revision that a draft, `D-1`, became when the last approval of it was given.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn became(&self, id: &str) -> Result<Option<i64>, Problem> {
        self.0.looks.up();
        let number: Option<i64> = id.strip_prefix("D-").unwrap_or(id).parse().ok();
        let all = self.0.node.store.revisions(i64::MAX).await?;
        let became = |revision: &&RevisionInfo| number.is_some() && revision.standing.draft == number;
        Ok(all.iter().find(became).map(|revision| revision.number))
    }

    /// A text, compiled now or before.
    ///
    /// # Errors
    /// The charter's errors.
    pub async fn compiled(&self, sources: Sources) -> Result<Arc<Policy>, Problem> {
        let node = &self.0.node;
        node.compiled.get(&node.lanes.questions, self.0.key_id(), sources).await
    }

    /// Cases, oldest first.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn cases(&self) -> Result<Vec<Case>, Problem> {
        self.0.looks.up();
        Ok(self.0.node.store.cases().await?)
    }

    /// The rehearsal's files, if any were saved.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn rehearsal(&self) -> Result<Option<Text>, Problem> {
        self.0.looks.up();
        Ok(self.0.node.store.rehearsal().await?)
    }

    /// The last runs, newest first.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn runs(&self) -> Result<Vec<Ran>, Problem> {
        self.0.looks.up();
        Ok(self.0.node.store.rehearsals().await?)
    }

    /// What a run found.
    ///
    /// # Errors
    /// If there is none that came to an end.
    pub async fn found(&self, number: &str) -> Result<Found, Problem> {
        self.0.looks.up();
        let missing = || Problem::not_found(format!("There is no rehearsal {number} that came to an end."));
        let number: i64 = number.parse().map_err(|_| missing())?;
        self.0.node.store.rehearsed(number).await?.ok_or_else(missing)
    }
}

impl Drafting<'_> {
    /// Saves a draft; gives its number.
    ///
    /// # Errors
    /// If it has ended, or somebody saved another text since.
    pub async fn save(&self, saving: Saving) -> Result<i64, Problem> {
        let (node, who) = (Arc::clone(&self.0.node), self.0.who());
        let record = self.0.node.record(move |write, now| {
            Box::pin(async move {
                let by = who.by(now);
                let gone = || Problem::conflict("The draft has ended meanwhile.");
                // Compared while nobody else writes: of two who save onto the same text one succeeds.
                if let (Some(number), Some(from)) = (saving.draft, &saving.from) {
                    let kept = node.store.draft(number).await?.ok_or_else(gone)?.info;
                    if kept.digest.to_string() != *from {
                        let title = kept.title;
                        return Err(Problem::changed(format!(
                            "{title} was saved anew since; read it again."
                        )));
                    }
                }
                let draft = saving.draft.map(|number| (number, saving.onto));
                let digest = charter::digest(&saving.sources);
                if let Some(number) = saving.draft {
                    let kept = node.store.draft(number).await?.ok_or_else(gone)?.info;
                    let why = if kept.digest != digest {
                        Some("the text was saved anew")
                    } else if saving.onto == Onto::Live && kept.bases != write.live().await?.of {
                        Some("it was put onto what is live now")
                    } else {
                        None
                    };
                    if let Some(why) = why {
                        write.void(&format!("D-{number}"), why, &by).await?;
                    }
                }
                let saved = write.save_draft(draft, &saving.sources, &saving.title, &by).await?;
                saved.ok_or_else(gone)
            })
        });
        record.await
    }

    /// Tells that a draft is open here, and who else has it open.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn be_present(&self, draft: &Draft) -> Result<Vec<Present>, Problem> {
        Ok(self.0.node.store.be_present(draft.info.number, self.0.key_id()).await?)
    }

    /// Discards a draft.
    ///
    /// # Errors
    /// If it has ended.
    pub async fn discard(&self, draft: &Draft) -> Result<(), Problem> {
        let (number, actor) = (draft.info.number, self.0.key_id().to_owned());
        let record = self.0.node.record(move |write, now| {
            Box::pin(async move { Ok(write.end_draft(number, None, &actor, now).await?) })
        });
        match record.await? {
            true => Ok(()),
            false => Err(Problem::conflict("The draft has ended meanwhile.")),
        }
    }

    /// Takes a discarded draft, `D-1`, back.
    ///
    /// # Errors
    /// If there is none that was discarded in the last thirty days.
    pub async fn restore(&self, id: &str) -> Result<(), Problem> {
        let missing = || Problem::not_found(format!("No draft {id} was discarded in the last thirty days."));
        let number: i64 = id.strip_prefix("D-").unwrap_or(id).parse().map_err(|_| missing())?;
        let actor = self.0.key_id().to_owned();
        let record = self.0.node.record(move |write, now| {
            Box::pin(async move { Ok(write.restore_draft(number, &actor, now).await?) })
        });
        if record.await? { Ok(()) } else { Err(missing()) }
    }

    /// Keeps a case; gives it as it is kept.
    ///
    /// # Errors
    /// If there are too many, or one of that name.
    pub async fn keep_case(&self, body: Value) -> Result<Case, Problem> {
        let (node, who) = (Arc::clone(&self.0.node), self.0.who());
        let record = self.0.node.record(move |write, now| {
            Box::pin(async move {
                let all = node.store.cases().await?;
                if all.len() >= MAX_CASES {
                    return Err(Problem::conflict(format!("At most {MAX_CASES} cases are kept.")));
                }
                if all.iter().any(|case| case.body["name"] == body["name"]) {
                    return Err(Problem::conflict("There is a case of that name; give this one another."));
                }
                let by = who.by(now);
                let number = write.keep_case(&body, &by).await?;
                void_all(&node, write, "a case was kept", &by).await?;
                Ok(Case { number, body, author: by.actor, created_at: now })
            })
        });
        record.await
    }

    /// Takes a case away.
    ///
    /// # Errors
    /// If there is none.
    pub async fn take_case_away(&self, number: &str) -> Result<(), Problem> {
        let missing = || Problem::not_found(format!("There is no case {number}."));
        let at: i64 = number.parse().map_err(|_| missing())?;
        let (node, who) = (Arc::clone(&self.0.node), self.0.who());
        let record = self.0.node.record(move |write, now| {
            Box::pin(async move {
                let by = who.by(now);
                let ended = write.end_case(at, &by).await?;
                if ended {
                    void_all(&node, write, "a case was taken away", &by).await?;
                }
                Ok(ended)
            })
        });
        if record.await? { Ok(()) } else { Err(missing()) }
    }

    /// Saves the rehearsal's files.
    ///
    /// # Errors
    /// If somebody saved others since.
    pub async fn save_rehearsal(&self, files: Value, from: i64) -> Result<(), Problem> {
        let (node, who) = (Arc::clone(&self.0.node), self.0.who());
        let record = self.0.node.record(move |write, now| {
            Box::pin(async move {
                if node.store.rehearsal().await?.map_or(0, |text| text.number) != from {
                    return Err(Problem::conflict(
                        "Somebody saved other files since; read them, and save again.",
                    ));
                }
                let by = who.by(now);
                write.save_rehearsal(&files, &by).await?;
                void_all(&node, write, "the rehearsal's files were saved anew", &by).await
            })
        });
        record.await
    }

    /// What a rehearsal needs, at one position.
    ///
    /// # Errors
    /// If nothing is live, or the caller may not read all facts: what it finds is about all of them.
    pub async fn rehearsing(&self) -> Result<Rehearsing, Problem> {
        self.0.need(Permission::RegisterRead)?;
        self.0.looks.up();
        let live: &Live = self.0.live()?;
        let cases = self.0.node.store.cases().await?;
        Ok(Rehearsing {
            files: self.0.node.store.rehearsal().await?,
            cases: cases.into_iter().map(|case| case.body).collect(),
            live: live.in_force.clone(),
            placed: live.placed.of.clone(),
            policy: Arc::clone(live.world().policy()),
            people: self.0.node.people(&self.0.who().counts_as),
            facts: live.world().register().clone(),
        })
    }

    /// Notes that a rehearsal begins; gives its number.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn begin_rehearsal(&self, of: Of) -> Result<i64, Problem> {
        let actor = self.0.key_id().to_owned();
        let record = self.0.node.record(move |write, now| {
            Box::pin(async move { Ok(write.begin_rehearsal(&of, &actor, now).await?) })
        });
        record.await
    }

    /// Notes how a rehearsal ended.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn end_rehearsal(&self, number: i64, found: Result<Found, String>) -> Result<(), Problem> {
        let actor = self.0.key_id().to_owned();
        let record = self.0.node.record(move |write, now| {
            Box::pin(async move {
                let found = found.as_ref().map_err(String::as_str);
                Ok(write.end_rehearsal(number, found, &actor, now).await?)
            })
        });
        record.await
    }
}

impl Rehearsing {
    /// The digest of all that a text is rehearsed with.
    pub fn files_digest(&self) -> Digest {
        files_digest(self.files.as_ref().map(|text| &text.files), &self.cases)
    }
}

/// What approvals were given with is not so any more.
async fn void_all(node: &Node, write: &mut Write, why: &str, by: &By) -> Result<(), Problem> {
    for draft in node.store.drafts().await? {
        write.void(&format!("D-{}", draft.number), why, by).await?;
    }
    Ok(())
}
