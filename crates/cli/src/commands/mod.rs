//! The commands, one file each: arguments, and a `run` that calls an operation.

mod actions;
mod ask;
mod charter;
mod completions;
mod demo;
mod draft;
mod grant;
mod hints;
mod holders;
mod issuer;
mod key;
mod log;
mod login;
mod question;
mod reach;
mod register;
mod rehearse;
mod review;
mod rollout;
mod routes;
mod rows;
pub mod serve;
mod settings;
mod shadow;
mod shift;
mod standby;
mod status;
mod tenant_role;
mod token;

use crate::exit::{Code, Failure};
use crate::sessions::{self, Kept};
use crate::shell::Shell;
use clap::{Args, Parser, Subcommand, ValueEnum};
use ostrog_client::Client;
use std::path::PathBuf;

/// How long before its end a session is renewed.
const SOON: jiff::SignedDuration = jiff::SignedDuration::from_mins(30);

/// Central authorization policy: model it, ask it, rehearse it, serve it.
#[derive(Debug, Parser)]
#[command(name = "ostrog", version, max_term_width = 100)]
pub struct Cli {
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    command: Command,
}

/// Options of every command.
#[derive(Debug, Args)]
pub struct Global {
    /// The service to ask
    #[arg(long, env = "OSTROG_URL", global = true, value_name = "URL")]
    pub server: Option<String>,
    /// The file that holds the key (or set OSTROG_KEY)
    #[arg(long, global = true, value_name = "FILE")]
    pub key_file: Option<PathBuf>,
    /// The form of answers
    #[arg(long, global = true, value_enum, default_value_t = OutputFormat::Text)]
    pub output: OutputFormat,
    /// Say nothing; the exit code is the answer
    #[arg(long, short, global = true)]
    pub quiet: bool,
}

/// The form of answers.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum OutputFormat {
    /// For people
    Text,
    /// One JSON document
    Json,
    /// One JSON document a line
    Ndjson,
    /// Comma-separated, for lists
    Csv,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Serve decisions, management and console
    Serve(serve::Args),
    /// Serve the demo, the port of Sorrel Bay, on loopback
    Demo(demo::Args),
    /// Check and show charters
    #[command(subcommand)]
    Charter(charter::Command),
    /// Ask whether a subject may do something
    Ask(ask::Args),
    /// List who may do something: classes first, then individuals
    Holders(holders::Args),
    /// List the registered resources a subject may act on
    Reach(reach::Args),
    /// List what a subject may do with a resource
    Actions(actions::Args),
    /// Turn a question into a condition on an application's own rows
    Rows(rows::Args),
    /// Tell what an application's interface shows and enables
    Hints(hints::Args),
    /// Run a rehearsal against a charter: cases, guarantees, who gains and who loses
    Rehearse(rehearse::Args),
    /// Who gains and who loses under another text
    Shift(shift::Args),
    /// Read and change the register
    #[command(subcommand)]
    Register(register::Command),
    /// Give, list and end grants
    #[command(subcommand)]
    Grant(grant::Command),
    /// Activate grants on standby, and see what is active
    #[command(subcommand)]
    Standby(standby::Command),
    /// The roles that tenants made
    #[command(subcommand)]
    TenantRole(tenant_role::Command),
    /// Save, list and discard drafts
    #[command(subcommand)]
    Draft(draft::Command),
    /// Approve what others wrote
    Approve(review::Args),
    /// Return what others wrote, with a note
    Return(review::ReturnArgs),
    /// Answer live questions once more under a revision that is not live, and see what differs
    Shadow(shadow::Args),
    /// Put a revision live, for all applications or for some
    Rollout(rollout::Args),
    /// Go back to what was live before
    Rollback(rollout::BackArgs),
    /// List revisions, and shut one for good
    #[command(subcommand)]
    Revision(rollout::RevisionCommand),
    /// Settings of the workspace
    #[command(subcommand)]
    Settings(settings::Command),
    /// Make, list, replace and end keys
    #[command(subcommand)]
    Key(key::Command),
    /// Issuers of tokens: set up, list, try and end them
    #[command(subcommand)]
    Issuer(issuer::Command),
    /// Which request needs what
    #[command(subcommand)]
    Routes(routes::Command),
    /// Read a token
    #[command(subcommand)]
    Token(token::Command),
    /// What happened
    #[command(subcommand)]
    Log(log::Command),
    /// Sign in with an issuer, as yourself
    Login(login::Args),
    /// End the session that login began
    Logout,
    /// How the service stands
    Status,
    /// Print completions for a shell
    Completions(completions::Args),
}

/// Runs a command.
pub async fn run(cli: Cli, shell: &Shell) -> Result<Code, Failure> {
    let global = &cli.global;
    match cli.command {
        Command::Serve(args) => serve::run(args).await,
        Command::Demo(args) => demo::run(args, shell).await,
        Command::Charter(command) => charter::run(command, global, shell).await,
        Command::Ask(args) => ask::run(args, global, shell).await,
        Command::Holders(args) => holders::run(&args, global, shell).await,
        Command::Reach(args) => reach::run(&args, global, shell).await,
        Command::Actions(args) => actions::run(&args, global, shell).await,
        Command::Rows(args) => rows::run(&args, global, shell).await,
        Command::Hints(args) => hints::run(&args, global, shell).await,
        Command::Rehearse(args) => rehearse::run(args, global, shell).await,
        Command::Shift(args) => shift::run(args, global, shell).await,
        Command::Register(command) => register::run(command, global, shell).await,
        Command::Grant(command) => grant::run(command, global, shell).await,
        Command::Standby(command) => standby::run(command, global, shell).await,
        Command::TenantRole(command) => tenant_role::run(command, global, shell).await,
        Command::Draft(command) => draft::run(command, global, shell).await,
        Command::Approve(args) => review::approve(args, global, shell).await,
        Command::Return(args) => review::give_back(args, global, shell).await,
        Command::Shadow(args) => shadow::run(args, global, shell).await,
        Command::Rollout(args) => rollout::run(args, global, shell).await,
        Command::Rollback(args) => rollout::back(args, global, shell).await,
        Command::Revision(command) => rollout::revision(command, global, shell).await,
        Command::Settings(command) => settings::run(command, global, shell).await,
        Command::Key(command) => key::run(command, global, shell).await,
        Command::Issuer(command) => issuer::run(command, global, shell).await,
        Command::Routes(command) => routes::run(command, global, shell).await,
        Command::Token(command) => token::run(command, global, shell).await,
        Command::Log(command) => log::run(command, global, shell).await,
        Command::Login(args) => login::run(args, global, shell).await,
        Command::Logout => login::out(global, shell).await,
        Command::Status => status::run(global, shell).await,
        Command::Completions(args) => completions::run(&args),
    }
}

impl Global {
    /// The service's address.
    fn server(&self) -> Result<&str, Failure> {
        self.server.as_deref().ok_or_else(|| {
            Failure::misused(
                "which service? give --server URL or set OSTROG_URL, or work offline with --charter DIR",
            )
        })
    }

    /// A client for the service, with the key from a file or the environment, or else as who signed in.
    pub async fn client(&self) -> Result<Client, Failure> {
        let server = self.server()?;
        let key = match &self.key_file {
            Some(path) => Some(
                std::fs::read_to_string(path)
                    .map_err(|error| Failure::misused(format!("{}: {error}", path.display())))?,
            ),
            None => std::env::var("OSTROG_KEY").ok(),
        };
        if let Some(key) = key {
            return Ok(Client::new(server, &key)?);
        }
        let kept = sessions::of(server)?.ok_or_else(|| {
            Failure::misused("nobody is signed in: ostrog login, or set OSTROG_KEY, or give --key-file FILE")
        })?;
        let client = Client::new(server, &kept.session)?;
        let soon = jiff::Timestamp::now().checked_add(SOON).unwrap_or(jiff::Timestamp::MAX);
        if let Some(renewal) = kept.renewal.as_ref().filter(|_| kept.ends_by(soon)) {
            // If it cannot be renewed it may still last a while, or the call itself says that it does not.
            if let Ok(renewed) = client.renew_session(renewal).await {
                let (renewal, until) = (renewed.renewal, renewed.who.until);
                sessions::keep(server, Some(Kept { session: kept.session, renewal, until }))?;
            }
        }
        Ok(client)
    }
}

/// A stretch of time, such as `15m` or `20s`.
fn time(text: &str) -> Result<std::time::Duration, String> {
    let parsed: Option<jiff::SignedDuration> = text.parse().ok();
    let time = parsed.and_then(|time| std::time::Duration::try_from(time).ok());
    time.ok_or_else(|| format!("{text:?} is no time such as 15m or 20s"))
}
