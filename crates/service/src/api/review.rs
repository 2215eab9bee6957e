//! Reviews: what stands between a draft and its being a revision, and what waits for whom.

use crate::body::{InPath, StrictJson};
use crate::node::gate::Operator;
use crate::node::review::{Reviewed, Saying};
use crate::problem::{Problem, Refused};
use axum::Json;
use ostrog_store::review::Verdict;
use ostrog_wire::release::{
    ApprovalAsked, ApprovalShown, CommentAsked, CommentShown, NoteAsked, ReviewLine, ReviewShown, Waiting,
};
use std::collections::BTreeMap;

/// Longest note and remark.
const MAX_NOTE: usize = 10_000;

type Names = BTreeMap<String, String>;

fn called(names: &Names, who: &str) -> String {
    let known = names.get(who).cloned();
    known.unwrap_or_else(|| who.split_once(':').map_or(who, |(_, rest)| rest).to_owned())
}

fn review_shown(reviewed: &Reviewed, names: &Names, not_you: Option<String>) -> ReviewShown {
    let line = |review: &ostrog_store::review::Review| {
        let counts = reviewed.counting.contains(&review.number);
        let approves = review.verdict == Verdict::Approve;
        let voided = review.voided.as_ref().map(|(_, why)| why.clone());
        let stale = || match &review.bound {
            Some(bound) if bound.report != reviewed.bound.report => "it was rehearsed anew",
            Some(bound) if bound.files != reviewed.bound.files => "the rehearsal's files are others now",
            _ => "whoever gave it counts among its editors, or is not on record any more",
        };
        ReviewLine {
            verdict: if approves { "approve" } else { "return" }.to_owned(),
            by: called(names, &review.actor),
            at: review.created_at.to_string(),
            note: review.note.clone(),
            counts,
            voided: voided.or_else(|| (approves && !counts).then(|| stale().to_owned())),
        }
    };
    let mut editors: Vec<String> = reviewed
        .editors
        .iter()
        .map(|editor| called(names, editor))
        .collect::<std::collections::BTreeSet<_>>()
        .into_iter()
        .collect();
    editors.sort();
    ReviewShown {
        draft: format!("D-{}", reviewed.draft.number),
        title: reviewed.draft.title.clone(),
        digest: reviewed.draft.digest.to_string(),
        bases: reviewed.draft.bases.clone(),
        editors,
        needed: reviewed.needed,
        approvals: reviewed.counting.len(),
        reviews: reviewed.reviews.iter().map(line).collect(),
        comments: reviewed
            .comments
            .iter()
            .map(|comment| CommentShown {
                path: comment.at.as_ref().map(|(path, _)| path.clone()),
                line: comment.at.as_ref().map(|(_, line)| *line),
                text: comment.text.clone(),
                by: called(names, &comment.author),
                at: comment.created_at.to_string(),
            })
            .collect(),
        report: reviewed.bound.report,
        found: reviewed.report.as_ref().map(|report| report.found.words.clone()),
        to_accept: reviewed.items.clone(),
        blocked: reviewed.blocked.clone(),
        not_you,
    }
}

/// How a draft stands on its way to be a revision: its editors, what was said of it, what must be accepted.
#[utoipa::path(get, path = "/api/v1/drafts/{id}/review", tag = "reviews",
    params(("id" = String, Path, description = "D-1")),
    responses((status = 200, description = "How it stands", body = ReviewShown), Refused),
    security(("key" = [])))]
pub async fn review(operator: Operator, InPath(id): InPath<String>) -> Result<Json<ReviewShown>, Problem> {
    let texts = operator.texts()?;
    let reviewed = texts.review(&id).await?;
    let not_you = texts.not_yours(&reviewed.editors);
    Ok(Json(review_shown(&reviewed, &texts.names().await?, not_you)))
}

fn saying(asked: ApprovalAsked) -> Result<Saying, Problem> {
    let notes = asked.accepts.values().chain(&asked.note);
    if notes.map(String::len).sum::<usize>() > MAX_NOTE {
        return Err(Problem::malformed(format!("Notes have at most {MAX_NOTE} bytes in all.")));
    }
    Ok(Saying {
        digest: asked.digest,
        report: asked.report,
        accepts: asked.accepts,
        over: asked.over,
        note: asked.note,
    })
}

/// Approves a draft `D-1`, settings `S-1`, an issuer `I-port-id` that operators are to sign in with, or a revision `R-1`
/// that went live urgently.
///
/// Of a revision with `over` it is that it goes live over another one than it was approved on, with what that moves.
/// It binds the text, the rehearsal's files, the report and what is accepted: a change of any of these voids it. With
/// the last approval that is needed a draft becomes a revision, and settings are in force.
#[utoipa::path(post, path = "/api/v1/reviews/{id}/approval", tag = "reviews", request_body = ApprovalAsked,
    params(("id" = String, Path, description = "D-1, S-1, I-port-id or R-1")),
    responses((status = 200, description = "It counts", body = ApprovalShown), Refused),
    security(("key" = [])))]
pub async fn approve(
    operator: Operator,
    InPath(id): InPath<String>,
    StrictJson(asked, _held): StrictJson<ApprovalAsked>,
) -> Result<Json<ApprovalShown>, Problem> {
    let approved = operator.reviewing()?.approve(&id, saying(asked)?).await?;
    let (approvals, needed, revision) = (approved.approvals, approved.needed, approved.revision);
    Ok(Json(ApprovalShown { approvals, needed, revision }))
}

/// Returns a draft `D-1` to its editors, or settings `S-1` to whoever put them.
#[utoipa::path(post, path = "/api/v1/reviews/{id}/return", tag = "reviews", request_body = NoteAsked,
    params(("id" = String, Path, description = "D-1 or S-1")),
    responses((status = 204, description = "It was returned"), Refused),
    security(("key" = [])))]
pub async fn give_back(
    operator: Operator,
    InPath(id): InPath<String>,
    StrictJson(asked, _held): StrictJson<NoteAsked>,
) -> Result<axum::http::StatusCode, Problem> {
    let reviewing = operator.reviewing()?;
    if asked.note.trim().is_empty() || asked.note.len() > MAX_NOTE {
        return Err(Problem::malformed("Say what is to be mended: a note, of at most 10000 bytes."));
    }
    reviewing.give_back(&id, asked.note).await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

/// Remarks on a draft, as a whole or on a line of a file. A remark voids nothing.
#[utoipa::path(post, path = "/api/v1/drafts/{id}/comments", tag = "reviews", request_body = CommentAsked,
    params(("id" = String, Path, description = "D-1")),
    responses((status = 204, description = "It is kept"), Refused),
    security(("key" = [])))]
pub async fn comment(
    operator: Operator,
    InPath(id): InPath<String>,
    StrictJson(asked, _held): StrictJson<CommentAsked>,
) -> Result<axum::http::StatusCode, Problem> {
    let texts = operator.texts()?;
    let draft = texts.draft(&id).await?;
    if asked.text.trim().is_empty() || asked.text.len() > MAX_NOTE {
        return Err(Problem::malformed("A remark says something, in at most 10000 bytes."));
    }
    let at = match (asked.path, asked.line) {
        (None, None) => None,
        (Some(path), Some(line)) => {
            let file = draft.sources.files().iter().find(|file| file.path == path);
            let lines = file.map_or(0, |file| file.text.lines().count());
            if !usize::try_from(line).is_ok_and(|line| (1..=lines).contains(&line)) {
                return Err(Problem::invalid(format!("{path} has no line {line} in {id}.")));
            }
            Some((path, line))
        }
        _ => return Err(Problem::malformed("A remark on a line names the file and the line.")),
    };
    operator.remark(draft.info.number, at, asked.text).await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

/// What waits for approval, the caller's own to approve first.
#[utoipa::path(get, path = "/api/v1/waiting", tag = "reviews",
    responses((status = 200, description = "Drafts, settings, issuers for operators, revisions that went live urgently", body = Vec<Waiting>), Refused),
    security(("key" = [])))]
pub async fn waiting(operator: Operator) -> Result<Json<Vec<Waiting>>, Problem> {
    let texts = operator.texts()?;
    let settings = operator.settings()?;
    let needed = settings.in_use().settings.release.approvals;
    let names = texts.names().await?;
    let mut all = Vec::new();
    for draft in texts.drafts().await? {
        let reviewed = texts.review(&draft.number.to_string()).await?;
        if reviewed.needed == 0 {
            continue;
        }
        let not_yet = reviewed.blocked.first().cloned().or_else(|| texts.not_yours(&reviewed.editors));
        all.push(Waiting {
            id: format!("D-{}", draft.number),
            title: draft.title.clone(),
            by: draft.authors.last().map_or_else(String::new, |author| called(&names, author)),
            since: draft.saved_at.to_string(),
            approvals: reviewed.counting.len(),
            needed: reviewed.needed,
            not_yet,
        });
    }
    for put in settings.all().await?.into_iter().filter(ostrog_store::settings::Put::waits) {
        all.push(Waiting {
            id: format!("S-{}", put.number),
            title: put.note.clone().unwrap_or_else(|| "settings".to_owned()),
            by: called(&names, &put.author),
            since: put.created_at.to_string(),
            approvals: 0,
            needed,
            not_yet: texts.not_yours(&put.persons),
        });
    }
    for issuer in
        operator.issuers()?.all().into_iter().map(|(issuer, _)| issuer).filter(|issuer| issuer.waits)
    {
        all.push(Waiting {
            id: format!("I-{}", issuer.key),
            title: format!("operators sign in with {} ({})", issuer.key, issuer.iss),
            by: called(&names, &issuer.author),
            since: issuer.created_at.to_string(),
            approvals: 0,
            needed,
            not_yet: texts.not_yours(&issuer.persons),
        });
    }
    for revision in texts.revisions().await? {
        if revision.standing.urgent && !revision.standing.approved && revision.standing.barred.is_none() {
            all.push(Waiting {
                id: format!("R-{}", revision.number),
                title: revision.title.clone(),
                by: called(&names, &revision.author),
                since: revision.created_at.to_string(),
                approvals: 0,
                needed: needed.max(1),
                not_yet: texts.not_yours(&revision.standing.editors),
            });
        }
    }
    all.sort_by_key(|one| one.not_yet.is_some());
    Ok(Json(all))
}
