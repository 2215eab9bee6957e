//! `ostrog approve`, `ostrog return`: what stands between a draft and its being a revision.

use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, YES};
use crate::shell::Shell;
use ostrog_wire::release::{ApprovalAsked, ReviewShown};
use std::collections::BTreeMap;

/// The arguments of `approve`.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// A draft (D-1), settings (S-1), an issuer that operators are to sign in with (I-port-id), or a revision that went
    /// live urgently
    what: String,
    /// Why; kept with it, and with all that is accepted without a note of its own
    #[arg(long)]
    note: Option<String>,
    /// Accept something that must be, by its id, with a note of its own or the one above; all: everything
    #[arg(long = "accept", value_name = "ID[=NOTE]|all")]
    accepts: Vec<String>,
    /// The digest of the text that was read
    #[arg(long, value_name = "DIGEST")]
    digest: Option<String>,
    /// Of a revision: that it goes live over this one, which it was not approved on
    #[arg(long, value_name = "REVISION", conflicts_with = "check")]
    over: Option<i64>,
    /// Only tell how it stands, and what must be accepted
    #[arg(long)]
    check: bool,
}

/// The arguments of `return`.
#[derive(Debug, clap::Args)]
pub struct ReturnArgs {
    /// A draft (D-1) or settings (S-1)
    what: String,
    /// What is to be mended
    #[arg(long)]
    note: String,
}

pub async fn approve(args: Args, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let client = global.client().await?;
    if args.check {
        tell(&client.review(&args.what).await?, shell);
        return Ok(YES);
    }
    let mut accepts = BTreeMap::new();
    for accept in &args.accepts {
        let (id, note) = match accept.split_once('=') {
            Some((id, note)) => (id, Some(note.to_owned())),
            None => (accept.as_str(), args.note.clone()),
        };
        let note = note.ok_or_else(|| Failure::misused("what is accepted has a note: --note, or ID=NOTE"))?;
        accepts.insert(id.to_owned(), note);
    }
    let asked =
        ApprovalAsked { digest: args.digest, report: None, accepts, over: args.over, note: args.note };
    let approved = client.approve(&args.what, &asked).await?;
    if shell.format != OutputFormat::Text {
        shell.answer(&serde_json::to_string(&approved).unwrap_or_default());
        return Ok(YES);
    }
    match approved.revision {
        Some(revision) if args.over.is_some() => {
            let (approvals, needed) = (approved.approvals, approved.needed);
            shell.answer(&format!("revision {revision} has {approvals} of {needed} approvals for that"));
        }
        Some(revision) => shell.answer(&format!("{} is revision {revision}", args.what)),
        None if approved.approvals >= approved.needed => {
            shell.answer(&format!("{} is in force", args.what));
        }
        None => shell
            .answer(&format!("{} has {} of {} approvals", args.what, approved.approvals, approved.needed)),
    }
    Ok(YES)
}

pub async fn give_back(args: ReturnArgs, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    global.client().await?.give_back(&args.what, &args.note).await?;
    shell.notice(&format!("{} is returned", args.what));
    Ok(YES)
}

/// How a draft stands on its way to be a revision.
pub fn tell(review: &ReviewShown, shell: &Shell) {
    if shell.format != OutputFormat::Text {
        shell.answer(&serde_json::to_string(review).unwrap_or_default());
        return;
    }
    shell.answer(&format!("{}  {}, edited by {}", review.draft, review.title, review.editors.join(", ")));
    if review.needed == 0 {
        shell.answer("nobody has to approve: roll it out");
    } else {
        shell.answer(&format!("{} of {} approvals", review.approvals, review.needed));
    }
    for line in &review.reviews {
        let verb = if line.verdict == "approve" { "approved" } else { "returned" };
        let note = line.note.as_deref().map_or_else(String::new, |note| format!(": {note}"));
        let void = line.voided.as_deref().map_or_else(String::new, |why| format!(" (void: {why})"));
        shell.answer(&format!("    {verb} by {}, {}{note}{void}", line.by, line.at));
    }
    for comment in &review.comments {
        let at = comment.path.as_deref().zip(comment.line);
        let at = at.map_or_else(String::new, |(path, line)| format!("{path}:{line}  "));
        shell.answer(&format!("    {at}{}: {}", comment.by, comment.text));
    }
    if let (Some(report), Some(found)) = (review.report, &review.found) {
        shell.answer(&format!("rehearsal {report}: {found}"));
    }
    for why in &review.blocked {
        shell.answer(&format!("not yet: {why}"));
    }
    if !review.to_accept.is_empty() {
        shell.answer("to be accepted by each approver, with a note:");
    }
    for item in &review.to_accept {
        let first = item.first.as_deref().map_or_else(String::new, |why| format!("  [{why}]"));
        shell.answer(&format!("    {}  {}{first}", item.id, item.words));
    }
    if let Some(why) = &review.not_you {
        shell.notice(why);
    }
}
