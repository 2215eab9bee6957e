//! Running other programs, and saying what is run.

use anyhow::{Context as _, Result, bail};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// The workspace's folder.
pub fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().map(Path::to_owned).unwrap_or_default()
}

/// Says what comes next.
pub fn step(what: &str) {
    println!("\n== {what}");
}

/// Runs cargo in the workspace.
pub fn cargo(arguments: &[&str]) -> Result<()> {
    let cargo = std::env::var_os("CARGO").unwrap_or_else(|| "cargo".into());
    run(Command::new(cargo).args(arguments).current_dir(root()))
}

/// Runs npm in a folder of pages.
pub fn npm(folder: &str, arguments: &[&str]) -> Result<()> {
    run(Command::new("npm").args(arguments).current_dir(root().join(folder)))
}

/// Runs a command and fails if it does.
pub fn run(command: &mut Command) -> Result<()> {
    let shown = format!(
        "{} {}",
        command.get_program().to_string_lossy(),
        command.get_args().map(|a| a.to_string_lossy()).collect::<Vec<_>>().join(" ")
    );
    let status = command.status().with_context(|| format!("cannot run {shown}"))?;
    if !status.success() {
        bail!("failed: {shown}");
    }
    Ok(())
}

/// Becomes another program.
pub fn run_for_good(program: &Path, arguments: &[String]) -> Result<()> {
    use std::os::unix::process::CommandExt as _;
    Err(Command::new(program).args(arguments).exec())
        .with_context(|| format!("cannot run {}", program.display()))
}

/// Whether cargo-nextest is installed; plain `cargo test` does without it.
pub fn has_nextest() -> bool {
    let found = Command::new("cargo-nextest")
        .args(["nextest", "--version"])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .status();
    found.is_ok_and(|status| status.success())
}
