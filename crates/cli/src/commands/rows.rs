//! `ostrog rows`: the row filter, as JSON or as SQL.

use super::question::{Where, With};
use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, NO, YES};
use crate::shell::Shell;
use ostrog_core::decide::rows::Columns;
use ostrog_core::decide::told::{Beside, Blank};
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

pub async fn run(args: &Args, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let request = args.with.request(&args.subject, &args.permission, None)?;
    let kind = args.permission.split(':').next().unwrap_or_default();
    let columns = args.columns.as_deref().map(|path| columns(path, kind)).transpose()?;
    let beside = Beside { columns, ..Beside::default() };
    let told = args.at.told(Blank::Rows, &request, &beside, &args.with, global, shell).await?;
    let sql = &told["sql"];
    if !args.sql {
        shell.answer(&told["filter"].to_string());
    } else if shell.format == OutputFormat::Text {
        shell.answer(sql["statement"].as_str().unwrap_or_default());
        for (at, parameter) in sql["parameters"].as_array().into_iter().flatten().enumerate() {
            let kind = parameter["kind"].as_str().unwrap_or_default();
            shell.answer(&format!("-- ${}  {kind}  {}", at + 1, parameter["value"]));
        }
    } else {
        shell.answer(&sql.to_string());
    }
    Ok(if told["none"] == true { NO } else { YES })
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
    let text = std::fs::read_to_string(path)
        .map_err(|error| Failure::input(format!("{}: {error}", path.display())))?;
    let mut tables: BTreeMap<String, Columns> = toml::from_str(&text)
        .map_err(|error| Failure::input(format!("{}: {}", path.display(), error.to_string().trim_end())))?;
    tables
        .remove(kind)
        .ok_or_else(|| Failure::input(format!("{}: there is no [{kind}] in it", path.display())))
}
