//! Under a revision that is not live: ahead, for keys that are marked for it; and beside, where live questions are
//! answered once more in its shadow. Neither changes anything for anybody.

use super::permission::Permission;
use super::{Scope, Texts};
use crate::node::Node;
use crate::node::release::For;
use crate::node::view::{Running, View};
use crate::problem::Problem;
use jiff::Timestamp;
use ostrog_core::decide::in_force::declared;
use ostrog_store::By;
use ostrog_store::shadow::{Counts, Difference, Shadow};
use std::sync::Arc;

/// Most shadows at a time.
const MAX_RUNNING: usize = 4;
/// Most that are told.
const MAX_TOLD: i64 = 20;

/// Beginning and ending shadows.
#[derive(Clone, Copy, Debug)]
pub struct Shadowing<'s>(&'s Scope);

/// What a shadow is to be.
#[derive(Clone, Debug)]
pub struct ShadowAsked {
    /// Under which revision.
    pub revision: i64,
    /// Whose questions.
    pub r#for: For,
    /// Until when.
    pub until: Option<Timestamp>,
    /// One in this many.
    pub one_in: i32,
    /// Of one processor's time, per mille.
    pub share: i32,
}

impl Scope {
    /// The revision that answers, where it is not what is live.
    pub fn tried(&self) -> Option<i64> {
        self.tried.as_ref().map(|tried| tried.revision.number)
    }

    /// As a call names it in `Ostrog-Try-Revision`: a key that is marked for trying ahead is answered under that
    /// revision, always; another key never is.
    ///
    /// # Errors
    /// If the key is not for that, or the revision may not be tried.
    pub(super) async fn trying(self, wanted: Option<&str>) -> Result<Scope, Problem> {
        let wanted = match (self.holder.staging, wanted) {
            (false, None) => return Ok(self),
            (false, Some(_)) => {
                return Err(Problem::forbidden(
                    "Ostrog-Try-Revision is for keys that were made for trying ahead.",
                ));
            }
            (true, None) => {
                return Err(Problem::forbidden(
                    "This key is for trying ahead: each call names a revision in Ostrog-Try-Revision.",
                ));
            }
            (true, Some(wanted)) => wanted,
        };
        let missing = || Problem::not_found(format!("There is no revision {wanted}."));
        let number: i64 = wanted.parse().map_err(|_| missing())?;
        let revision = self.node.store.revision(number).await?.ok_or_else(missing)?;
        let standing = &revision.info.standing;
        if !standing.approved || standing.barred.is_some() {
            return Err(Problem::forbidden(format!("Revision {number} is not approved, or shut for good.")));
        }
        let (lane, key) = (&self.node.lanes.questions, self.key_id().to_owned());
        let policy = self.node.compiled.get(lane, &key, revision.sources).await?;
        Ok(self.ahead(Arc::new(Running { shadow: None, revision: Arc::new(revision.info), policy })))
    }

    /// The same caller at the same position, answered under a revision that is not live.
    pub(super) fn ahead(self, tried: Arc<Running>) -> Scope {
        let view = Arc::new(self.view.under(&tried));
        Scope { view, tried: Some(tried), ..self }
    }

    /// The shadow in which a question of this application's types is to be answered once more.
    pub fn shadow_of(&self, application: &str, now: Timestamp) -> Option<&Arc<Running>> {
        self.view.shadows.iter().find(|running| {
            let shadow = running.shadow.as_ref();
            self.tried.is_none()
                && shadow.is_some_and(|shadow| {
                    shadow.until.is_none_or(|until| now < until)
                        && shadow.applications.iter().any(|known| known == application)
                })
        })
    }

    /// Whether any shadow runs.
    pub fn has_shadows(&self) -> bool {
        !self.view.shadows.is_empty()
    }

    /// The same caller at the same position, answered under a shadow's revision. `last` is the view that was made
    /// for the question before: most often it is the same one.
    pub fn in_shadow(&self, running: &Running, last: &mut Option<(Arc<View>, i64, Arc<View>)>) -> Scope {
        let number = running.revision.number;
        let view = match last {
            Some((of, revision, made)) if Arc::ptr_eq(of, &self.view) && *revision == number => {
                Arc::clone(made)
            }
            _ => {
                let made = Arc::new(self.view.under(running));
                *last = Some((Arc::clone(&self.view), number, Arc::clone(&made)));
                made
            }
        };
        Scope { view, ..self.clone() }
    }

    /// Beginning and ending shadows.
    ///
    /// # Errors
    /// If the caller may not.
    pub fn shadowing(&self) -> Result<Shadowing<'_>, Problem> {
        self.need(Permission::CharterShadow).map(|()| Shadowing(self))
    }
}

impl View {
    /// The same with one revision live for all of its applications.
    fn under(&self, running: &Running) -> View {
        let placed = ostrog_store::release::Placed {
            of: declared(&running.policy)
                .map(|application| (application.to_owned(), running.revision.number))
                .collect(),
            last: Some(running.revision.number),
        };
        let all = vec![(Arc::clone(&running.revision), Arc::clone(&running.policy))];
        let live =
            self.live.as_ref().map(|live| crate::node::view::Live::new(placed, all, live.world().register()));
        View { live, ..self.clone() }
    }
}

impl Node {
    /// Shadows that run, each with its charter.
    pub(in crate::node) async fn running(
        &self,
        known: &[Arc<Running>],
    ) -> Result<Vec<Arc<Running>>, ostrog_store::Error> {
        let mut all = Vec::new();
        for shadow in self.store.running_shadows().await? {
            let same = |running: &&Arc<Running>| running.shadow.as_ref() == Some(&shadow);
            if let Some(running) = known.iter().find(same) {
                all.push(Arc::clone(running));
                continue;
            }
            let Some(revision) = self.store.revision(shadow.revision).await? else { continue };
            match self.compiled(revision.sources).await {
                Ok(policy) => all.push(Arc::new(Running {
                    shadow: Some(shadow),
                    revision: Arc::new(revision.info),
                    policy: Arc::new(policy),
                })),
                Err(problem) => {
                    tracing::error!(shadow = shadow.number, why = problem.detail(), "a shadow cannot run");
                }
            }
        }
        Ok(all)
    }

    /// Whether a shadow runs here.
    pub fn has_shadow(&self, number: i64) -> bool {
        let shadows = &self.view().shadows;
        shadows.iter().any(|running| running.shadow.as_ref().is_some_and(|shadow| shadow.number == number))
    }

    /// Adds to what this node counted of a shadow.
    pub(crate) async fn count_shadow(
        &self,
        number: i64,
        counts: Counts,
        differences: &[(Vec<u8>, Difference)],
    ) -> Result<(), ostrog_store::Error> {
        self.store.count_shadow(number, &self.id, counts, differences).await
    }

    /// Ends a shadow that cannot go on, and says why.
    pub(crate) async fn end_shadow(self: &Arc<Self>, number: i64, why: &str) -> Result<bool, Problem> {
        let why = why.to_owned();
        self.record(move |write, now| {
            Box::pin(async move { Ok(write.end_shadow(number, &why, &By::host("the node", now)).await?) })
        })
        .await
    }
}

impl Shadowing<'_> {
    /// Begins one; gives its number.
    ///
    /// # Errors
    /// If there are too many, or the revision may not be asked.
    pub async fn begin(&self, asked: ShadowAsked) -> Result<i64, Problem> {
        let (node, who) = (Arc::clone(&self.0.node), self.0.who());
        let number = asked.revision;
        let missing = || Problem::not_found(format!("There is no revision {number}."));
        let revision = node.store.revision(number).await?.ok_or_else(missing)?;
        if revision.info.standing.barred.is_some() {
            return Err(Problem::conflict(format!("Revision {number} is shut for good.")));
        }
        let policy = node.compiled(revision.sources).await?;
        let applications = match asked.r#for {
            For::All => declared(&policy).map(str::to_owned).collect(),
            For::These(these) => {
                for application in &these {
                    if !declared(&policy).any(|known| known == application) {
                        return Err(Problem::invalid(format!(
                            "Revision {number} declares no application {application:?}."
                        )));
                    }
                }
                these.into_iter().collect()
            }
        };
        let record = self.0.node.record(move |write, now| {
            Box::pin(async move {
                let running = node.store.running_shadows().await?;
                if running.len() >= MAX_RUNNING {
                    return Err(Problem::conflict(format!("At most {MAX_RUNNING} shadows run at a time.")));
                }
                let shadow = Shadow {
                    number: 0,
                    revision: number,
                    applications,
                    one_in: asked.one_in,
                    share: asked.share,
                    author: who.actor.clone(),
                    started_at: now,
                    until: asked.until,
                    ended: None,
                };
                Ok(write.begin_shadow(&shadow, &who.by(now)).await?)
            })
        });
        record.await
    }

    /// Ends one.
    ///
    /// # Errors
    /// If it has ended.
    pub async fn end(&self, number: i64) -> Result<(), Problem> {
        let who = self.0.who();
        let record = self.0.node.record(move |write, now| {
            Box::pin(async move { Ok(write.end_shadow(number, "it was stopped", &who.by(now)).await?) })
        });
        match record.await? {
            true => Ok(()),
            false => Err(Problem::not_found(format!("No shadow {number} runs."))),
        }
    }
}

impl Texts<'_> {
    /// The last shadows, newest first, each with what was counted.
    ///
    /// # Errors
    /// If the database cannot be reached.
    pub async fn shadows(&self) -> Result<Vec<(Shadow, Counts)>, Problem> {
        self.scope().looks.up();
        Ok(self.scope().node.store.shadows(MAX_TOLD).await?)
    }

    /// How answers differ in a shadow: for those who may read all facts.
    ///
    /// # Errors
    /// If they may not, or the database cannot be reached.
    pub async fn differences(&self, number: i64) -> Result<Vec<Difference>, Problem> {
        self.scope().need(Permission::RegisterRead)?;
        self.scope().looks.up();
        Ok(self.scope().node.store.shadow_differences(number).await?)
    }
}
