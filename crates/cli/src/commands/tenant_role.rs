//! `ostrog tenant-role list | put | remove`: the roles that tenants made.

use super::{Global, register};
use crate::exit::{Code, Failure, YES};
use crate::shell::Shell;
use crate::table;
use ostrog_wire::register::{TenantQuery, TenantRole};
use ostrog_wire::strict;
use serde::Deserialize;
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

/// A role as a file says it; whose it is is said beside.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Written {
    key: String,
    #[serde(default)]
    name: Option<String>,
    permissions: Vec<String>,
}

pub async fn run(command: Command, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let client = global.client().await?;
    match command {
        Command::List { tenant } => {
            let page = client.tenant_roles(&TenantQuery { tenant }).await?;
            let roles: Vec<TenantRole> = page.items.into_iter().map(|line| line.tenant_role).collect();
            table::print(
                shell,
                &roles,
                &[
                    ("tenant", |role| role.tenant.clone()),
                    ("key", |role| role.key.clone()),
                    ("name", |role| table::text(role.name.as_deref())),
                    ("permissions", |role| role.permissions.join(", ")),
                ],
            );
        }
        Command::Put { file, tenant } => {
            let wrong = |what: String| Failure::input(format!("{}: {what}", file.display()));
            let bytes = std::fs::read(&file).map_err(|error| wrong(error.to_string()))?;
            let Written { key, name, permissions } = strict::from_slice(&bytes).map_err(wrong)?;
            let role = TenantRole { tenant, key, name, permissions };
            register::tell(&client.put_tenant_role(&role).await?, shell);
        }
        Command::Remove { key, tenant } => {
            register::tell(&client.end_tenant_role(&tenant, &key, None).await?, shell);
        }
    }
    Ok(YES)
}
