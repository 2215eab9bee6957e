//! `ostrog routes list | check`: which request needs what.

use super::Global;
use super::question::moment;
use crate::exit::{Code, Failure, NO, YES};
use crate::files;
use crate::shell::Shell;
use crate::table::{self, Column};
use jiff::Timestamp;
use ostrog_core::charter::model::{Model, Needs, Route};
use ostrog_core::decide::bearer::{Bearer, Token};
use ostrog_core::import;
use ostrog_core::prelude::{Policy, Request, SourceFile, Sources, World, charter};
use ostrog_core::routes::{Outcome, Path, route_of, taken};
use std::path::PathBuf;
use std::sync::Arc;

#[derive(Debug, clap::Subcommand)]
pub enum Command {
    /// List routes, with what they need
    List(ListArgs),
    /// Tell which route a request takes, and what it comes to for somebody
    Check(CheckArgs),
}

#[derive(Debug, clap::Args)]
pub struct ListArgs {
    /// Of one application
    application: Option<String>,
    /// An OpenAPI document: its operations, each with the route that takes it, or that none does
    #[arg(long, value_name = "FILE")]
    document: Option<PathBuf>,
    /// Offline: the charter; without it, what is live
    #[arg(long, value_name = "DIR")]
    charter: Option<PathBuf>,
}

#[derive(Debug, clap::Args)]
pub struct CheckArgs {
    /// GET, POST …
    method: String,
    /// The path, as the request has it
    path: String,
    /// The application, if the charter has several
    #[arg(long, value_name = "KEY")]
    application: Option<String>,
    /// Who asks: user:ines; without it nobody that is signed in
    #[arg(long = "as", value_name = "SUBJECT", conflicts_with = "token")]
    subject: Option<String>,
    /// A file with the token of who asks, taken as verified
    #[arg(long, value_name = "FILE")]
    token: Option<PathBuf>,
    /// Whose token it is, if the charter has several issuers
    #[arg(long, value_name = "KEY", requires = "token")]
    issuer: Option<String>,
    /// The charter
    #[arg(long, value_name = "DIR")]
    charter: PathBuf,
    /// The facts
    #[arg(long, value_name = "FILE")]
    register: Option<PathBuf>,
    /// Another moment than the present one
    #[arg(long, value_name = "T")]
    now: Option<String>,
}

pub async fn run(command: Command, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    match command {
        Command::List(args) => list(args, global, shell).await,
        Command::Check(args) => check(&args, shell),
    }
}

/// A row: a route, or an operation that no route takes.
#[derive(serde::Serialize)]
struct Row {
    application: String,
    method: String,
    path: String,
    /// The route, if it is written otherwise.
    route: String,
    needs: String,
    of: String,
}

async fn list(args: ListArgs, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let policy = match &args.charter {
        Some(charter) => files::policy(charter, shell)?,
        None => live(global, shell).await?,
    };
    let model = policy.model();
    let key = |route: &Route| model.applications[route.application].key.clone();
    let row = |route: &Route, path: String| {
        let (needs, of) = route.needs.told(model);
        Row {
            application: key(route),
            method: route.method.clone(),
            route: if path == route.path() { String::new() } else { route.path() },
            path,
            needs: match &route.needs {
                Needs::Open => "nothing: it is open".to_owned(),
                Needs::Refused => "it is refused".to_owned(),
                Needs::All(_) => needs.join(" and "),
            },
            of,
        }
    };
    let mut columns: Vec<Column<Row>> = vec![
        ("application", |row| row.application.clone()),
        ("method", |row| row.method.clone()),
        ("path", |row| row.path.clone()),
        ("needs", |row| row.needs.clone()),
        ("of", |row| row.of.clone()),
    ];
    let Some(document) = &args.document else {
        if let Some(application) = &args.application {
            known(model, application)?;
        }
        let of =
            |route: &&Route| args.application.as_ref().is_none_or(|application| key(route) == *application);
        let rows: Vec<Row> = model.routes.iter().filter(of).map(|route| row(route, route.path())).collect();
        table::print(shell, &rows, &columns);
        return Ok(YES);
    };
    let application = application(model, args.application.as_deref())?;
    let failed = |why: &dyn std::fmt::Display| Failure::input(format!("{}: {why}", document.display()));
    let text = std::fs::read_to_string(document).map_err(|error| failed(&error))?;
    let operations = import::operations(&text).map_err(|why| failed(&why))?;
    let rows: Vec<Row> = operations
        .into_iter()
        .map(|operation| match route_of(model, &application, &operation.method, &operation.path) {
            Some(route) => Row { method: operation.method, ..row(route, operation.path) },
            None => Row {
                application: application.clone(),
                method: operation.method,
                path: operation.path,
                route: String::new(),
                needs: "unmapped: every request is refused".to_owned(),
                of: String::new(),
            },
        })
        .collect();
    columns.insert(3, ("route", |row| row.route.clone()));
    table::print(shell, &rows, &columns);
    let unmapped = rows.iter().filter(|row| row.needs.starts_with("unmapped")).count();
    shell.notice(&format!("{}, {unmapped} unmapped", files::counted(rows.len(), "operation")));
    Ok(if unmapped == 0 { YES } else { NO })
}

/// The charter that is live.
async fn live(global: &Global, shell: &Shell) -> Result<Arc<Policy>, Failure> {
    let text = global.client()?.revision("live").await?;
    let files = text.files.into_iter().map(|file| SourceFile { path: file.path, text: file.text }).collect();
    let sources = Sources::new(files);
    let reading = charter::read(&sources);
    reading.policy.map(Arc::new).ok_or_else(|| {
        files::told(&sources, &reading.findings, shell);
        Failure::input("the live charter is not one that this program reads: is it of another version?")
    })
}

fn known(model: &Model, application: &str) -> Result<(), Failure> {
    let keys: Vec<&str> = model.applications.iter().map(|one| one.key.as_str()).collect();
    if keys.contains(&application) {
        return Ok(());
    }
    Err(Failure::misused(format!("the charter has no application {application}; it has {}", keys.join(", "))))
}

/// The application that is meant: the one that is named, or the only one.
fn application(model: &Model, named: Option<&str>) -> Result<String, Failure> {
    match (named, &model.applications[..]) {
        (Some(key), _) => known(model, key).map(|()| key.to_owned()),
        (None, [only]) => Ok(only.key.clone()),
        (None, all) => {
            let keys: Vec<&str> = all.iter().map(|one| one.key.as_str()).collect();
            Err(Failure::misused(format!("of which application? say one of {}", keys.join(", "))))
        }
    }
}

fn check(args: &CheckArgs, shell: &Shell) -> Result<Code, Failure> {
    let world = files::world(&args.charter, args.register.as_deref(), shell)?;
    shell.notice(&format!("offline, {}", args.charter.display()));
    let model = world.policy().model();
    let application = application(model, args.application.as_deref())?;
    let now = args.now.as_deref().map_or_else(|| Ok(Timestamp::now()), moment)?;
    let path = match Path::read(&args.path) {
        Ok(path) => path,
        Err(why) => {
            shell.answer(&format!("|#| path-refused  {why}"));
            return Ok(NO);
        }
    };
    let Some(route) = taken(model, &application, &args.method, &path) else {
        shell.answer(&format!(
            "|#| unmapped  {application} has no route for {} {}",
            args.method,
            path.canonical()
        ));
        return Ok(NO);
    };
    shell.answer(&format!("    takes {} {}", route.route.method, route.route.path()));
    let bearer = args.token.as_ref().map(|file| bearer(&world, args, file)).transpose()?;
    let asked_of = bearer.as_ref().map_or(&world, |bearer| bearer.world(&world));
    let request = Request {
        subject: args.subject.clone().unwrap_or_else(|| "anonymous".to_owned()),
        bearer: bearer.clone().map(Ok),
        ..Request::default()
    };
    let asked = route.ask(asked_of.engine(), &request, now, &mut || true);
    let (outcome, asked) = asked.map_err(Failure::input)?;
    for one in &asked {
        let mark = if one.allowed { "| | allowed" } else { "|#| denied " };
        shell.answer(&format!("{mark}  {} of {}  {}", one.permission, one.about, one.reason));
    }
    Ok(match outcome {
        Outcome::Open => {
            shell.answer("| | open  it needs nothing");
            YES
        }
        Outcome::Refused => {
            shell.answer("|#| route-refused  whoever asks");
            NO
        }
        Outcome::Allowed => YES,
        Outcome::Denied(_) => NO,
    })
}

fn bearer(world: &World, args: &CheckArgs, file: &PathBuf) -> Result<Arc<Bearer>, Failure> {
    let issuer = super::token::issuer(world, args.issuer.as_ref())?;
    let token = super::token::token(Some(file))?;
    let (_, claims) = ostrog_tokens::read(&token);
    let claims = claims.ok_or_else(|| Failure::input("the token's claims cannot be read"))?;
    let bearer = Bearer::of(world, &Token { issuer, claims }, args.application.as_deref());
    bearer.map(Arc::new).map_err(|why| Failure::input(format!("the token is refused: {why}")))
}
