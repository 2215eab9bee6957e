//! `ostrog standby list | activate | end`.

use super::question::pair_of;
use super::{Global, print_rows, register};
use crate::exit::{Code, Failure, YES};
use crate::shell::Shell;
use jiff::{SignedDuration, Timestamp};
use ostrog_client::Page;
use serde_json::json;

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
    let client = global.client()?;
    match command {
        Command::List { subject } => {
            let query: Vec<(&str, &str)> =
                subject.iter().map(|subject| ("subject", subject.as_str())).collect();
            let page: Page = client.get("/api/v1/activations", &query).await?;
            let rows: Vec<_> = page.items.into_iter().map(|mut line| line["activation"].take()).collect();
            print_rows(shell, &rows, &["id", "grant", "subject", "session", "until", "reason"]);
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
            let mut asked = json!({
                "grant": grant, "subject": subject, "from": now.to_string(), "until": until.to_string(),
            });
            for (key, value) in [("reason", reason), ("session", session)] {
                if let Some(value) = value {
                    asked[key] = value.into();
                }
            }
            for pair in &context {
                let (key, value) = pair_of(pair, "--context")?;
                asked["context"][key] = value;
            }
            register::tell(&client.post("/api/v1/activations", &asked).await?, shell);
        }
        Command::End { id } => {
            register::tell(&client.delete(&["api", "v1", "activations", &id], &[]).await?, shell);
        }
    }
    Ok(YES)
}

/// Who holds a grant.
async fn holder(client: &ostrog_client::Client, grant: &str) -> Result<String, Failure> {
    let page: Page = client.get("/api/v1/grants", &[("id", grant)]).await?;
    let found = page.items.first().and_then(|line| line["grant"]["to"].as_str());
    let found = found.ok_or_else(|| Failure::input(format!("no grant is called {grant:?}")))?;
    if found.starts_with("group:") {
        return Err(Failure::misused(format!("{grant} is held by {found}: say for whom, --to user:id")));
    }
    Ok(found.to_owned())
}
