//! `ostrog tenant-role list | put | remove`: the roles that tenants made.

use super::{Global, print_rows, register};
use crate::exit::{Code, Failure, YES};
use crate::shell::Shell;
use ostrog_client::Page;
use serde_json::Value;
use std::path::PathBuf;

#[derive(Debug, clap::Subcommand)]
pub enum Command {
    /// List a tenant's own roles
    List {
        /// The tenant's id
        #[arg(long)]
        tenant: Option<String>,
    },
    /// Make a tenant's own role, or make it anew
    Put {
        /// A JSON file: {"key": …, "name": …, "permissions": […]}
        file: PathBuf,
        /// The tenant's id
        #[arg(long)]
        tenant: String,
    },
    /// End a tenant's own role, and the grants of it
    Remove {
        /// The role's key
        key: String,
        /// The tenant's id
        #[arg(long)]
        tenant: String,
    },
}

pub async fn run(command: Command, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let client = global.client()?;
    match command {
        Command::List { tenant } => {
            let query: Vec<(&str, &str)> = tenant.iter().map(|tenant| ("tenant", tenant.as_str())).collect();
            let page: Page = client.get("/api/v1/tenant-roles", &query).await?;
            let rows: Vec<Value> =
                page.items.into_iter().map(|mut line| line["tenant-role"].take()).collect();
            print_rows(shell, &rows, &["tenant", "key", "name", "permissions"]);
        }
        Command::Put { file, tenant } => {
            let wrong = |what: String| Failure::input(format!("{}: {what}", file.display()));
            let bytes = std::fs::read(&file).map_err(|error| wrong(error.to_string()))?;
            let mut role = ostrog_core::json::parse(&bytes).map_err(wrong)?;
            if !role.is_object() {
                return Err(wrong("it holds one object".to_owned()));
            }
            role["tenant"] = tenant.into();
            register::tell(&client.put(&["api", "v1", "tenant-roles"], &role).await?, shell);
        }
        Command::Remove { key, tenant } => {
            let path = ["api", "v1", "tenant-roles", &tenant, &key];
            register::tell(&client.delete(&path, &[]).await?, shell);
        }
    }
    Ok(YES)
}
