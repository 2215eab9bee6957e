//! `ostrog grant give | list | end`.

use super::{Global, print_rows, register};
use crate::exit::{Code, Failure, YES};
use crate::shell::Shell;
use ostrog_client::Page;
use serde_json::{Map, Value, json};

#[derive(Debug, clap::Subcommand)]
pub enum Command {
    /// Give a role
    Give {
        /// The role's key
        role: String,
        /// User, service or group
        #[arg(long)]
        to: String,
        /// everywhere, a tenant or a resource
        #[arg(long)]
        at: String,
        /// A value of the grant: line=NL,HF
        #[arg(long = "value", value_name = "K=V")]
        values: Vec<String>,
        /// The first moment it counts
        #[arg(long)]
        from: Option<String>,
        /// The first moment it counts no more
        #[arg(long)]
        until: Option<String>,
    },
    /// List grants
    List {
        /// Only those to this holder
        #[arg(long)]
        to: Option<String>,
        /// Only those at this place
        #[arg(long)]
        at: Option<String>,
        /// Only those of this role
        #[arg(long)]
        role: Option<String>,
    },
    /// End a grant
    End {
        /// The grant's id
        id: String,
        /// Why; kept with the change
        #[arg(long)]
        note: String,
    },
}

pub async fn run(command: Command, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let client = global.client()?;
    match command {
        Command::Give { role, to, at, values, from, until } => {
            let mut grant = json!({ "role": role, "to": to, "at": at });
            for (key, moment) in [("from", from), ("until", until)] {
                if let Some(moment) = moment {
                    grant[key] = moment.into();
                }
            }
            if !values.is_empty() {
                grant["values"] = self::values(&values)?.into();
            }
            register::tell(&client.post("/api/v1/grants", &grant).await?, shell);
        }
        Command::List { to, at, role } => {
            let mut rows = Vec::new();
            let mut after = String::new();
            loop {
                let mut query = vec![("limit", "1000"), ("after", after.as_str())];
                for (key, value) in [("to", &to), ("at", &at), ("role", &role)] {
                    query.extend(value.as_deref().map(|value| (key, value)));
                }
                let page: Page = client.get("/api/v1/grants", &query).await?;
                rows.extend(page.items.into_iter().map(|mut line| line["grant"].take()));
                match page.next {
                    Some(next) => after = next,
                    None => break,
                }
            }
            print_rows(shell, &rows, &["id", "role", "to", "at", "from", "until", "values"]);
        }
        Command::End { id, note } => {
            register::tell(&client.end_grant(&id, &note).await?, shell);
        }
    }
    Ok(YES)
}

fn values(pairs: &[String]) -> Result<Map<String, Value>, Failure> {
    let mut all = Map::new();
    for pair in pairs {
        let (key, list) = pair
            .split_once('=')
            .ok_or_else(|| Failure::misused(format!("--value takes key=a,b, not {pair:?}")))?;
        let items = list.split(',').map(|item| {
            serde_json::from_str::<Value>(item).ok().filter(Value::is_number).unwrap_or_else(|| item.into())
        });
        all.insert(key.to_owned(), items.collect());
    }
    Ok(all)
}
