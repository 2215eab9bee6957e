//! `ostrog standby list | activate | end`.

use super::question::pair_of;
use super::{Global, register};
use crate::exit::{Code, Failure, YES};
use crate::pages;
use crate::shell::Shell;
use crate::table::{self, Column};
use jiff::{SignedDuration, Timestamp};
use ostrog_client::Client;
use ostrog_wire::register::{Activation, ActivationQuery, ActivationRequest, GrantQuery};
use serde_json::Map;

#[derive(Debug, clap::Subcommand)]
pub enum Command {
    /// List what is active, soonest end first
    List {
        /// Only for this subject
        subject: Option<String>,
    },
    /// Activate a grant on standby
    Activate {
        /// The grant's id
        grant: String,
        /// For whom; without it, the grant's own holder
        #[arg(long)]
        to: Option<String>,
        /// For how long: 45m
        #[arg(long = "for", value_name = "TIME")]
        time: String,
        /// Why; kept on record
        #[arg(long)]
        reason: Option<String>,
        /// Only in this session
        #[arg(long, value_name = "ID")]
        session: Option<String>,
        /// A context key its role's condition reads: zone=quay
        #[arg(long, value_name = "K=V")]
        context: Vec<String>,
    },
    /// End an activation
    End {
        /// The activation's id
        id: String,
    },
}

pub async fn run(command: Command, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let client = global.client().await?;
    match command {
        Command::List { subject } => {
            let query = ActivationQuery { subject, ..ActivationQuery::default() };
            let lines = pages::activations(&client, query).await?;
            let active: Vec<Activation> = lines.into_iter().map(|line| line.activation).collect();
            let columns: &[Column<Activation>] = &[
                ("id", |one| table::text(one.id.as_deref())),
                ("grant", |one| one.grant.clone()),
                ("subject", |one| one.subject.clone()),
                ("session", |one| table::text(one.session.as_deref())),
                ("until", |one| table::text(one.until.as_deref())),
                ("reason", |one| table::text(one.reason.as_deref())),
            ];
            table::print(shell, &active, columns);
        }
        Command::Activate { grant, to, time, reason, session, context } => {
            let lasts: SignedDuration = time
                .parse()
                .map_err(|_| Failure::misused(format!("--for {time:?} is no time such as 45m")))?;
            let now = Timestamp::now();
            let until = now.checked_add(lasts).map_err(Failure::misused)?;
            let subject = match to {
                Some(subject) => subject,
                None => holder(&client, &grant).await?,
            };
            let mut said = Map::new();
            for pair in &context {
                let (key, value) = pair_of(pair, "--context")?;
                said.insert(key.to_owned(), value);
            }
            let asked = ActivationRequest {
                id: None,
                grant,
                subject,
                session,
                from: Some(now.to_string()),
                until: Some(until.to_string()),
                reason,
                context: said,
            };
            register::tell(&client.activate(&asked).await?, shell);
        }
        Command::End { id } => {
            register::tell(&client.deactivate(&id, None).await?, shell);
        }
    }
    Ok(YES)
}

/// Who holds a grant.
async fn holder(client: &Client, grant: &str) -> Result<String, Failure> {
    let query = GrantQuery { id: Some(grant.to_owned()), ..GrantQuery::default() };
    let found = client.grants(&query).await?.items.pop().map(|line| line.grant.to);
    let found = found.ok_or_else(|| Failure::input(format!("no grant is called {grant:?}")))?;
    if found.starts_with("group:") {
        return Err(Failure::misused(format!("{grant} is held by {found}: say for whom, --to user:id")));
    }
    Ok(found)
}
