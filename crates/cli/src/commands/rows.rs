//! `ostrog rows`: the row filter, as JSON or as SQL.

use super::question::{Asking, Where, With};
use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, NO, YES};
use crate::shell::Shell;
use ostrog_core::decide::rows::Columns;
use ostrog_core::decide::told;
use ostrog_wire::questions::BlankOptions;
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

/// From how many values in one list on a filter is called long.
const LONG: usize = 1_000;

pub async fn run(args: &Args, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let request = args.with.request(&args.subject, &args.permission, None)?;
    let kind = args.permission.split(':').next().unwrap_or_default();
    let columns = args.columns.as_deref().map(|path| columns(path, kind)).transpose()?;
    let told = match args.at.asking(&args.with, global, shell).await? {
        Asking::Offline(world, now) => {
            told::rows(world.engine(), &request, columns.as_ref(), now, &mut || true)
                .map_err(Failure::input)?
        }
        Asking::Live(client) => {
            let beside = BlankOptions { columns, ..BlankOptions::default() };
            args.at.told(client.rows(&args.at.question(&request, beside, &args.with)?).await?, shell)
        }
    };
    if told.longest > LONG {
        shell.notice(&format!(
            "the filter names {} by one: give a column for what tells them apart, or it grows with the register",
            told.longest
        ));
    }
    match &told.sql {
        Some(sql) if args.sql && shell.format == OutputFormat::Text => {
            shell.answer(&sql.statement);
            for (at, parameter) in sql.parameters.iter().enumerate() {
                shell.answer(&format!("-- ${}  {}  {}", at + 1, parameter.kind, parameter.value));
            }
        }
        Some(sql) if args.sql => shell.answer(&serde_json::to_string(sql).unwrap_or_default()),
        _ => shell.answer(&told.filter.to_string()),
    }
    Ok(if told.none { NO } else { YES })
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
