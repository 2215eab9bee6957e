//! `ostrog issuer list | add | end | try`.

use super::Global;
use crate::exit::{Code, Failure, NO, YES};
use crate::shell::Shell;
use crate::table::{self, Column};
use ostrog_wire::issuers::{Attempted, IssuerAsked, IssuerShown, KeyFound};
use std::collections::BTreeMap;
use std::path::PathBuf;

#[derive(Debug, clap::Subcommand)]
pub enum Command {
    /// List issuers of tokens, and how they stand on the node that answers
    List,
    /// Set one up; what its tokens mean stands in the charter, under the same key
    Add {
        /// Its key in the charter: [issuer.KEY]
        key: String,
        /// Its address: the iss of its tokens, letter by letter
        #[arg(long, value_name = "URL")]
        url: String,
        /// An audience its tokens may name, by application: customs=https://customs.example
        #[arg(long = "audience", value_name = "APP=AUD", required_unless_present = "operators")]
        audiences: Vec<String>,
        /// Its public keys, as a JWK set or PEM; without it they are had from where it says they are
        #[arg(long, value_name = "FILE")]
        jwks: Option<PathBuf>,
        /// Let it be asked at private and link-local addresses
        #[arg(long)]
        private: bool,
        /// Let its ID tokens count
        #[arg(long)]
        id_tokens: bool,
        /// Let operators sign in with it, once another has approved that
        #[arg(long, requires = "client")]
        operators: bool,
        /// As which client of it: one that serves no application
        #[arg(long, value_name = "ID", requires = "operators")]
        client: Option<String>,
    },
    /// End one: its tokens count no more, at once
    End {
        /// Its key
        key: String,
    },
    /// Find its keys step by step, from the node that answers
    Try {
        /// Its key
        key: String,
    },
}

pub async fn run(command: Command, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let client = global.client().await?;
    match command {
        Command::List => {
            let columns: &[Column<IssuerShown>] = &[
                ("key", |one| one.key.clone()),
                ("url", |one| one.url.clone()),
                ("audiences", audiences_told),
                ("operators", operators_told),
                ("in-charter", |one| if one.in_charter { "yes" } else { "no" }.to_owned()),
                ("keys", keys_told),
                ("last-refused", |one| {
                    let told = one.refused.as_ref().map(|refused| format!("{}: {}", refused.at, refused.why));
                    told.unwrap_or_default()
                }),
            ];
            table::print(shell, &client.issuers().await?, columns);
        }
        Command::Add { key, url, audiences, jwks, private, id_tokens, operators, client: known_as } => {
            let keys = match &jwks {
                None => None,
                Some(path) => {
                    let text = std::fs::read_to_string(path);
                    Some(text.map_err(|error| Failure::misused(format!("{}: {error}", path.display())))?)
                }
            };
            let audiences = by_application(&audiences)?;
            let asked =
                IssuerAsked { key, url, audiences, keys, private, id_tokens, operators, client: known_as };
            let made = client.add_issuer(&asked).await?;
            shell.notice(&format!("{} is set up", made.key));
            if made.waits {
                shell.notice(&format!(
                    "operators sign in with it once another has approved it: ostrog approve I-{}",
                    made.key
                ));
            }
            if !made.in_charter && !made.audiences.is_empty() {
                shell.notice(&format!(
                    "the live charter has no [issuer.{}] yet: until it has, its tokens are refused",
                    made.key
                ));
            }
        }
        Command::End { key } => {
            let ended = client.end_issuer(&key).await?;
            shell.notice(&format!("{} has ended; its tokens count no more", ended.key));
        }
        Command::Try { key } => return Ok(tried(&client.try_issuer(&key).await?, shell)),
    }
    Ok(YES)
}

fn by_application(pairs: &[String]) -> Result<BTreeMap<String, Vec<String>>, Failure> {
    let mut all: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for pair in pairs {
        let (application, audience) = pair.split_once('=').ok_or_else(|| {
            Failure::misused(format!(
                "--audience takes APP=AUD, such as customs=https://customs.example, not {pair:?}"
            ))
        })?;
        all.entry(application.to_owned()).or_default().push(audience.to_owned());
    }
    Ok(all)
}

fn audiences_told(issuer: &IssuerShown) -> String {
    let pairs = issuer
        .audiences
        .iter()
        .flat_map(|(application, all)| all.iter().map(move |audience| format!("{application}={audience}")));
    pairs.collect::<Vec<_>>().join(", ")
}

/// As which client operators sign in with it.
fn operators_told(issuer: &IssuerShown) -> String {
    match &issuer.client {
        Some(client) if issuer.waits => format!("{client}, once approved"),
        Some(client) => client.clone(),
        None => String::new(),
    }
}

fn keys_told(issuer: &IssuerShown) -> String {
    let taken = issuer.keys.iter().filter(|key| key.skipped.is_none()).count();
    match (&issuer.failed, &issuer.keys_since) {
        (Some(why), None) => format!("none: {why}"),
        (Some(why), Some(since)) => format!("{taken}, since {since}; the last attempt failed: {why}"),
        (None, Some(since)) => format!("{taken}, since {since}"),
        (None, None) => "not had yet".to_owned(),
    }
}

/// Each step, then each key.
fn tried(attempted: &Attempted, shell: &Shell) -> Code {
    for step in &attempted.steps {
        shell.notice(&format!("{}: {}{}", step.what, if step.ok { "" } else { "no; " }, step.words));
    }
    let columns: &[Column<KeyFound>] = &[
        ("place", |key| key.place.to_string()),
        ("kid", |key| key.kid.clone().unwrap_or_default()),
        ("verifies", |key| key.algorithms.join(" ")),
        ("skipped", |key| key.skipped.clone().unwrap_or_default()),
    ];
    table::print(shell, &attempted.keys, columns);
    if attempted.steps.iter().all(|step| step.ok) { YES } else { NO }
}
