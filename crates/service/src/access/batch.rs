//! Batches: what items share is read once, and each item is answered by itself.

use super::ask::{Asker, Surroundings, What, Who};
use super::read;
use crate::problem::Problem;
use ostrog_wire::access::{
    Action, BatchAnswer, Entity, Evaluation, EvaluationContext, EvaluationItem, Evaluations,
    EvaluationsRequest, ItemError, LooseEvaluationsRequest, Semantic,
};
use ostrog_wire::strict::{Object, from_value};
use serde::de::DeserializeOwned;
use serde_json::Value;

/// Most questions of one batch.
pub const MAX_BATCH: usize = 1_000;

/// A part of a request, or why it cannot be read.
type Part<T> = Result<T, Problem>;

/// A batch as it came: parts that cannot be read are the fault of those items that need them.
struct Batch {
    subject: Option<Part<Entity>>,
    action: Option<Part<Action>>,
    resource: Option<Part<Entity>>,
    context: Option<Part<Object>>,
    items: Vec<Part<EvaluationItem>>,
    semantic: Semantic,
}

/// Answers a batch; `go_on` is asked before each item, and if it says no there is no answer.
///
/// # Errors
/// If it is no batch, or too large.
pub fn answers(
    asker: &Asker<'_>,
    bytes: &[u8],
    go_on: &mut dyn FnMut() -> bool,
) -> Result<Option<BatchAnswer>, Problem> {
    let batch = Batch::read(bytes)?;
    if batch.items.len() > MAX_BATCH {
        return Err(Problem::malformed(format!("A batch has at most {MAX_BATCH} evaluations.")));
    }
    let kept = (0..=asker.decisions().in_force().worlds().len()).map(|_| Kept::default()).collect();
    let mut shared = Shared { asker, batch: &batch, kept };
    if batch.items.is_empty() {
        return shared.answer(&EvaluationItem::default()).map(|answer| Some(BatchAnswer::One(answer)));
    }
    let mut evaluations = Vec::with_capacity(batch.items.len());
    for item in &batch.items {
        if !go_on() {
            return Ok(None);
        }
        let answer = item.as_ref().map_err(Problem::clone).and_then(|item| shared.answer(item));
        let answer = answer.unwrap_or_else(in_error);
        let stop = match batch.semantic {
            Semantic::ExecuteAll => false,
            Semantic::DenyOnFirstDeny => !answer.decision,
            Semantic::PermitOnFirstPermit => answer.decision,
        };
        evaluations.push(answer);
        if stop {
            break;
        }
    }
    Ok(Some(BatchAnswer::Many(Evaluations { evaluations })))
}

/// An item that cannot be answered is denied, with its error.
fn in_error(problem: Problem) -> Evaluation {
    let error = ItemError { status: problem.status(), message: problem.detail().to_owned() };
    let context = EvaluationContext { error: Some(error), ..EvaluationContext::default() };
    Evaluation { decision: false, context }
}

impl Batch {
    fn read(bytes: &[u8]) -> Result<Batch, Problem> {
        if let Ok(whole) = serde_json::from_slice::<EvaluationsRequest>(bytes) {
            return Ok(Batch {
                subject: whole.subject.map(Ok),
                action: whole.action.map(Ok),
                resource: whole.resource.map(Ok),
                context: whole.context.map(Ok),
                items: whole.evaluations.into_iter().map(Ok).collect(),
                semantic: whole.options.evaluations_semantic,
            });
        }
        let loose: LooseEvaluationsRequest = read(bytes)?;
        Ok(Batch {
            subject: loose.subject.map(part),
            action: loose.action.map(part),
            resource: loose.resource.map(part),
            context: loose.context.map(part),
            items: loose.evaluations.into_iter().map(part).collect(),
            semantic: loose.options.evaluations_semantic,
        })
    }
}

fn part<T: DeserializeOwned>(value: Value) -> Part<T> {
    from_value(value).map_err(|error| Problem::malformed(format!("The question cannot be read: {error}.")))
}

/// What the items of a batch share, each read at most once: with what does not count, and without.
struct Shared<'b> {
    asker: &'b Asker<'b>,
    batch: &'b Batch,
    /// By charter that is live.
    kept: Vec<Kept>,
}

/// What was read under one charter.
#[derive(Default)]
struct Kept {
    surroundings: Option<Part<Surroundings>>,
    who: [Option<Part<Who>>; 2],
    what: [Option<Part<What>>; 2],
}

impl Shared<'_> {
    fn answer(&mut self, item: &EvaluationItem) -> Result<Evaluation, Problem> {
        let Shared { asker, batch, .. } = *self;
        let whole = batch.resource.as_ref().and_then(|resource| resource.as_ref().ok());
        // Each item under the charter that answers about its type.
        let asker = match item.resource.as_ref().or(whole) {
            Some(resource) => asker.about(&resource.kind),
            None => *asker,
        };
        let kept = &mut self.kept[asker.decisions().at()];
        let own;
        let surroundings = match &item.context {
            None => {
                let read = || asker.surroundings(batch.context.as_ref().map(part_of).transpose()?);
                once(&mut kept.surroundings, read)?
            }
            context => {
                own = asker.surroundings(context.as_ref())?;
                &own
            }
        };
        let tells = surroundings.explains;
        let own;
        let who = match &item.subject {
            Some(subject) => {
                own = asker.who(subject, tells)?;
                &own
            }
            None => once(&mut kept.who[usize::from(tells)], || {
                asker.who(default(batch.subject.as_ref(), "subject")?, tells)
            })?,
        };
        let own;
        let what = match &item.resource {
            Some(resource) => {
                own = asker.what(resource, tells)?;
                &own
            }
            None => once(&mut kept.what[usize::from(tells)], || {
                asker.what(default(batch.resource.as_ref(), "resource")?, tells)
            })?,
        };
        let action = match &item.action {
            Some(action) => action,
            None => default(batch.action.as_ref(), "action")?,
        };
        let mut answer = asker.answer(who, action, what, surroundings)?;
        let subject = match &item.subject {
            Some(subject) => subject,
            None => default(batch.subject.as_ref(), "subject")?,
        };
        let resource = match &item.resource {
            Some(resource) => resource,
            None => default(batch.resource.as_ref(), "resource")?,
        };
        let whole = batch.context.as_ref().and_then(|context| context.as_ref().ok());
        asker.beside((subject, action, resource, item.context.as_ref().or(whole)), &answer);
        let revision = asker.decisions().revision();
        // The header tells the one of the caller's own application.
        answer.context.revision = (revision != self.asker.decisions().revision()).then_some(revision);
        Ok(answer)
    }
}

/// What was read before, or is read now.
fn once<T>(kept: &mut Option<Part<T>>, read: impl FnOnce() -> Part<T>) -> Result<&T, Problem> {
    kept.get_or_insert_with(read).as_ref().map_err(Problem::clone)
}

fn part_of<T>(part: &Part<T>) -> Result<&T, Problem> {
    part.as_ref().map_err(Problem::clone)
}

fn default<'b, T>(part: Option<&'b Part<T>>, what: &str) -> Result<&'b T, Problem> {
    let missing = || Problem::malformed(format!("The question cannot be read: {what} is missing."));
    part_of(part.ok_or_else(missing)?)
}
