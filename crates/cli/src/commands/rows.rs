//! `ostrog rows`: the row filter, as JSON or as SQL.

use super::OutputFormat;
use super::question::{Where, With};
use crate::exit::{Code, Failure, NO, YES};
use crate::shell::Shell;
use jiff::Timestamp;
use ostrog_core::decide::rows::{self, Columns, Sql};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// The command's arguments.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// user:ines, service:crane-feed, anonymous
    subject: String,
    /// type:action
    permission: String,
    /// As a condition for PostgreSQL, with bound parameters
    #[arg(long, requires = "columns")]
    sql: bool,
    /// TOML that says which columns the application's table has
    #[arg(long, value_name = "FILE")]
    columns: Option<PathBuf>,
    #[command(flatten)]
    at: Where,
    #[command(flatten)]
    with: With,
}

pub fn run(args: &Args, shell: &Shell) -> Result<Code, Failure> {
    let world = args.at.world(&args.with, shell)?;
    let now = args.with.moment()?.unwrap_or_else(Timestamp::now);
    let request = args.with.request(&args.subject, &args.permission, None)?;
    let kind = args.permission.split(':').next().unwrap_or_default();
    let columns = args.columns.as_deref().map(|path| columns(path, kind)).transpose()?;
    let filter = rows::rows(world.engine(), &request, now, columns.as_ref(), &mut || true)
        .map_err(|why| Failure::input(format!("no row filter: {why}")))?;
    let none = filter == rows::Where::None;
    match columns.filter(|_| args.sql) {
        None => shell.answer(&filter.to_json().to_string()),
        Some(columns) => {
            let sql = Sql::new(&filter, &columns);
            if shell.format == OutputFormat::Text {
                shell.answer(&sql.statement);
                for (at, parameter) in sql.parameters.iter().enumerate() {
                    shell.answer(&format!("-- ${}  {}  {}", at + 1, parameter.kind, parameter.value));
                }
            } else {
                shell.answer(&serde_json::to_string(&sql).map_err(Failure::input)?);
            }
        }
    }
    Ok(if none { NO } else { YES })
}

/// The columns of one type from a file such as
///
/// ```toml
/// [manifest]
/// table = "manifests m"
/// id = "m.number"
/// [manifest.columns]
/// line = "m.line_code"
/// ```
fn columns(path: &Path, kind: &str) -> Result<Columns, Failure> {
    #[derive(serde::Deserialize)]
    #[serde(deny_unknown_fields)]
    struct Table {
        table: String,
        id: String,
        #[serde(default)]
        columns: BTreeMap<String, String>,
    }
    let text = std::fs::read_to_string(path)
        .map_err(|error| Failure::input(format!("{}: {error}", path.display())))?;
    let mut tables: BTreeMap<String, Table> = toml::from_str(&text)
        .map_err(|error| Failure::input(format!("{}: {}", path.display(), error.to_string().trim_end())))?;
    let table = tables
        .remove(kind)
        .ok_or_else(|| Failure::input(format!("{}: there is no [{kind}] in it", path.display())))?;
    Ok(Columns { table: table.table, id: table.id, columns: table.columns })
}
