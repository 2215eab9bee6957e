//! `cargo xtask bench`.

use crate::{run, setup};
use anyhow::Result;

/// Runs the benchmarks; each prints its own table.
pub fn run() -> Result<()> {
    run::cargo(&["bench", "--package", "ostrog-core", "--bench", "decision"])?;
    run::cargo(&["bench", "--package", "ostrog-store", "--bench", "recursive"])?;
    run::cargo(&["bench", "--package", "ostrog-service", "--bench", "http"])?;
    run::cargo(&["bench", "--package", "ostrog-service", "--bench", "latency"])?;
    run::cargo(&["bench", "--package", "ostrog-service", "--bench", "release"])?;
    setup::packages(&[setup::NGINX, setup::CADDY])?;
    run::cargo(&["bench", "--package", "ostrog-cli", "--bench", "proxies"])
}
