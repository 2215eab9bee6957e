//! `ostrog routes list | check`: which request needs what.

use super::question::moment;
use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, NO, YES};
use crate::files;
use crate::shell::Shell;
use crate::table::{self, Column};
use jiff::Timestamp;
use ostrog_core::charter::model::{Model, Needs, Route};
use ostrog_core::decide::bearer::{Bearer, Token};
use ostrog_core::decide::in_force::Under;
use ostrog_core::import;
use ostrog_core::prelude::{Policy, Request, SourceFile, Sources, World, charter};
use ostrog_core::routes::{RouteTold, route_of, told};
use ostrog_wire::issuers::TokenText;
use ostrog_wire::questions::RouteQuestion;
use std::path::{Path as FilePath, PathBuf};
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
    /// Where the document's paths begin, such as /v1; without it, what the document says counts
    #[arg(long, value_name = "PATH", requires = "document")]
    base: Option<String>,
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
    /// A file with the token of who asks; offline it is taken as verified
    #[arg(long, value_name = "FILE")]
    token: Option<PathBuf>,
    /// Offline: whose token it is, if the charter has several issuers
    #[arg(long, value_name = "KEY", requires_all = ["token", "charter"])]
    issuer: Option<String>,
    /// Offline: the charter; without it, what is live
    #[arg(long, value_name = "DIR")]
    charter: Option<PathBuf>,
    /// Offline: the facts
    #[arg(long, value_name = "FILE", requires = "charter")]
    register: Option<PathBuf>,
    /// Offline: another moment than the present one
    #[arg(long, value_name = "T", requires = "charter")]
    now: Option<String>,
}

pub async fn run(command: Command, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    match command {
        Command::List(args) => list(args, global, shell).await,
        Command::Check(args) => check(&args, global, shell).await,
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
    let operations = import::operations(&text, args.base.as_deref()).map_err(|why| failed(&why))?;
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
    let text = global.client().await?.revision("live").await?;
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

async fn check(args: &CheckArgs, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let told = match &args.charter {
        Some(charter) => offline(args, charter, shell)?,
        None => {
            let policy = live(global, shell).await?;
            let question = RouteQuestion {
                application: application(policy.model(), args.application.as_deref())?,
                method: args.method.clone(),
                path: args.path.clone(),
                subject: args.subject.clone(),
                token: args
                    .token
                    .as_ref()
                    .map(|file| super::token::token(Some(file)).map(TokenText))
                    .transpose()?,
            };
            global.client().await?.check_route(&question).await?
        }
    };
    if shell.format == OutputFormat::Text {
        print(&told, shell);
    } else {
        shell.answer(&serde_json::to_string(&told).unwrap_or_default());
    }
    Ok(if told.allowed { YES } else { NO })
}

fn print(told: &RouteTold, shell: &Shell) {
    if let Some(route) = &told.route {
        let who = told.subject.as_deref().unwrap_or("anonymous");
        shell.answer(&format!("    {who} takes {route}"));
    }
    for one in &told.needs {
        let mark = if one.allowed { "| | allowed" } else { "|#| denied " };
        let why = one.message.as_ref().unwrap_or(&one.reason);
        shell.answer(&format!("{mark}  {} of {}  {why}", one.permission, one.about));
    }
    if told.needs.is_empty() {
        let mark = if told.allowed { "| |" } else { "|#|" };
        shell.answer(&format!("{mark} {}  {}", told.code, told.words));
    }
}

fn offline(args: &CheckArgs, charter: &FilePath, shell: &Shell) -> Result<RouteTold, Failure> {
    let world = files::world(charter, args.register.as_deref(), shell)?;
    shell.notice(&format!("offline, {}", charter.display()));
    let application = application(world.policy().model(), args.application.as_deref())?;
    let now = args.now.as_deref().map_or_else(|| Ok(Timestamp::now()), moment)?;
    let bearer = args.token.as_ref().map(|file| bearer(&world, args, file)).transpose()?;
    let asked_of = bearer.as_ref().map_or(&world, |bearer| bearer.world(&world));
    let subject = args.subject.clone().unwrap_or_else(|| "anonymous".to_owned());
    let name = bearer.as_ref().map_or_else(|| subject.clone(), |bearer| bearer.name.clone());
    let who = Request { subject, bearer: bearer.clone().map(Ok), ..Request::default() };
    let request = (args.method.as_str(), args.path.as_str());
    let under = |_: &str| Under::one(asked_of.engine(), &who);
    let found = told(world.policy().model(), &application, request, (&who, &under), now, &mut || true);
    Ok(RouteTold { subject: Some(name), ..found.map_err(Failure::input)? })
}

fn bearer(world: &World, args: &CheckArgs, file: &PathBuf) -> Result<Arc<Bearer>, Failure> {
    let issuer = super::token::issuer(world, args.issuer.as_ref())?;
    let token = super::token::token(Some(file))?;
    let (_, claims) = ostrog_tokens::read(&token);
    let claims = claims.ok_or_else(|| Failure::input("the token's claims cannot be read"))?;
    let bearer = Bearer::of(world, &Token { issuer, claims }, args.application.as_deref());
    bearer.map(Arc::new).map_err(|why| Failure::input(format!("the token is refused: {why}")))
}
