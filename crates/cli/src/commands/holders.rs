//! `ostrog holders`: who may do something?

use super::question::{Where, With};
use super::{OutputFormat, print_rows};
use crate::exit::{Code, Failure, NO, YES};
use crate::shell::Shell;
use jiff::Timestamp;
use ostrog_core::charter::syntax::GivenTo;
use ostrog_core::decide::holders::{Class, holders};
use ostrog_core::prelude::{Request, explain, with_scratch};
use serde_json::{Value, json};

/// The command's arguments.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// type:action
    permission: String,
    /// type:id; without one, a new resource
    resource: Option<String>,
    /// Tell of each how they come to it
    #[arg(long)]
    through: bool,
    #[command(flatten)]
    at: Where,
    #[command(flatten)]
    with: With,
}

pub fn run(args: &Args, shell: &Shell) -> Result<Code, Failure> {
    let world = args.at.world(&args.with, shell)?;
    let now = args.with.moment()?.unwrap_or_else(Timestamp::now);
    let request = args.with.request("anonymous", &args.permission, args.resource.as_deref())?;
    let engine = world.engine();
    let found = holders(engine, &request, now, &mut || true).map_err(Failure::input)?;
    let how = |subject: &str| -> Result<Value, Failure> {
        let request = Request { subject: subject.to_owned(), ..request.clone() };
        let asked = request.resolve(engine, now).map_err(Failure::input)?;
        Ok(with_scratch(|scratch| explain(engine, &asked, scratch)).1.sentence.into())
    };
    let mut rows: Vec<Value> = Vec::new();
    if found.anonymous {
        rows.push(json!({ "who": "anyone", "reason": "", "through": how("anonymous")? }));
    }
    for class in &found.classes {
        let role = &engine.policy.model().roles[class.role.index()].key;
        rows.push(json!({
            "who": class_words(class, args.resource.as_deref()),
            "reason": format!("role:{role}"),
            "through": format!("{role} given to {}, {} now", class.given_to.text(), class.count),
        }));
    }
    for (subject, reason) in &found.subjects {
        let name = world.register().name(*subject);
        let through = if args.through { how(name)? } else { Value::Null };
        rows.push(json!({ "who": name, "reason": reason.code(engine), "through": through }));
    }
    let columns: &[&str] = if args.through { &["who", "reason", "through"] } else { &["who", "reason"] };
    print_rows(shell, &rows, columns);
    if rows.is_empty() && shell.format == OutputFormat::Text {
        shell.notice("nobody");
    }
    Ok(if rows.is_empty() { NO } else { YES })
}

fn class_words(class: &Class, resource: Option<&str>) -> String {
    let whom = match (class.users, class.services) {
        (true, true) => "every user and service",
        (false, true) => "every service",
        _ => "every user",
    };
    match (class.given_to, resource) {
        (GivenTo::Members, Some(resource)) => format!("{whom} of the tenant of {resource}"),
        (GivenTo::Members, None) => format!("{whom} of its tenant"),
        _ => format!("{whom} signed in"),
    }
}
