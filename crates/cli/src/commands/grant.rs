//! `ostrog grant give | list | end`.

use super::{Global, register};
use crate::exit::{Code, Failure, YES};
use crate::pages;
use crate::shell::Shell;
use crate::table::{self, Column};
use ostrog_wire::register::{Grant, GrantLine, GrantQuery};
use serde_json::Value;
use std::collections::BTreeMap;

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
    let client = global.client().await?;
    match command {
        Command::Give { role, to, at, values, from, until } => {
            let values = self::values(&values)?;
            let grant = Grant { id: None, role, to, at, from, until, values };
            register::tell(&client.give_grant(&grant).await?, shell);
        }
        Command::List { to, at, role } => {
            let query = GrantQuery { to, at, role, ..GrantQuery::default() };
            let lines: Vec<GrantLine> = pages::grants(&client, query).await?;
            let grants: Vec<Grant> = lines.into_iter().map(|line| line.grant).collect();
            let columns: &[Column<Grant>] = &[
                ("id", |grant| table::text(grant.id.as_deref())),
                ("role", |grant| grant.role.clone()),
                ("to", |grant| grant.to.clone()),
                ("at", |grant| grant.at.clone()),
                ("from", |grant| table::text(grant.from.as_deref())),
                ("until", |grant| table::text(grant.until.as_deref())),
                ("values", told_values),
            ];
            table::print(shell, &grants, columns);
        }
        Command::End { id, note } => {
            register::tell(&client.end_grant(&id, Some(&note)).await?, shell);
        }
    }
    Ok(YES)
}

fn told_values(grant: &Grant) -> String {
    if grant.values.is_empty() {
        return String::new();
    }
    serde_json::to_string(&grant.values).unwrap_or_default()
}

fn values(pairs: &[String]) -> Result<BTreeMap<String, Vec<Value>>, Failure> {
    let mut all = BTreeMap::new();
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
