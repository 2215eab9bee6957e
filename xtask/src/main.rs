//! `cargo xtask demo | test | bench | renew`: everything a fresh machine needs, in order.

#![forbid(unsafe_code)]

mod bench;
#[path = "../../demo/generate.rs"]
mod generate;
mod mutate;
mod run;
mod setup;

use anyhow::{Result, bail};
use run::cargo;

const USAGE: &str = "cargo xtask TASK

  demo [ARGS]   install what is missing, build, and serve the demo on loopback
  test          install what is missing, and pass every check and test
  soak [N]      ask the independent evaluator N charters' worth of questions (100,000), and fold the
                journals of ten times as many histories
  mutate [TEXT] switch off each guard against a wrong allow or proof; a test must fail
  fuzz [SECS]   feed mangled texts to every reader, so long each (60)
  bench         measure decisions against a check written by hand
  renew         make the generated files anew: demo/register.ndjson";

fn main() -> Result<()> {
    let mut arguments = std::env::args().skip(1);
    let task = arguments.next().unwrap_or_default();
    let rest: Vec<String> = arguments.collect();
    match task.as_str() {
        "demo" => demo(&rest),
        "test" => test(),
        "soak" => soak(rest.first().map_or("100000", String::as_str)),
        "mutate" => mutate::run(rest.first().map(String::as_str)),
        "fuzz" => fuzz(rest.first().map_or("60", String::as_str)),
        "bench" => bench::run(),
        "renew" => {
            std::fs::write(run::root().join(REGISTER), generate::register())?;
            println!("{REGISTER} is new");
            Ok(())
        }
        "" | "help" | "--help" | "-h" => {
            println!("{USAGE}");
            Ok(())
        }
        other => bail!("there is no task {other:?}\n\n{USAGE}"),
    }
}

const REGISTER: &str = "demo/register.ndjson";

fn demo(arguments: &[String]) -> Result<()> {
    setup::packages(&[setup::POSTGRESQL, setup::NGINX])?;
    setup::pages()?;
    cargo(&["build", "--package", "ostrog-cli"])?;
    println!();
    let program = run::root().join("target/debug/ostrog");
    run::run_for_good(&program, &[&["demo".to_owned()], arguments].concat())
}

fn test() -> Result<()> {
    setup::packages(&[
        setup::POSTGRESQL,
        setup::CHROMIUM,
        setup::CHROMEDRIVER,
        setup::XMLLINT,
        setup::PROMETHEUS,
        setup::GIT,
        setup::NGINX,
        setup::CADDY,
    ])?;
    run::step("formatting");
    cargo(&["fmt", "--all", "--check"])?;
    setup::pages()?;
    for pages in setup::PAGES {
        run::step(&format!("{pages}: types"));
        run::npm(pages, &["run", "lint"])?;
        run::npm(pages, &["run", "check"])?;
        run::step(&format!("{pages}: unit tests"));
        run::npm(pages, &["test"])?;
    }
    run::step("clippy");
    cargo(&["clippy", "--workspace", "--all-targets", "--all-features", "--", "--deny", "warnings"])?;
    run::step("tests");
    if run::has_nextest() {
        cargo(&["nextest", "run", "--workspace", "--no-fail-fast"])?;
        run::step("examples in the documentation");
        cargo(&["test", "--workspace", "--all-features", "--doc"])?;
    } else {
        cargo(&["test", "--workspace", "--no-fail-fast"])?;
    }
    println!("\nEverything passed.");
    Ok(())
}

/// Both evaluators, and registers beside the folds of their journals, for as long as it takes.
fn soak(charters: &str) -> Result<()> {
    let histories = charters.parse::<u64>()?.saturating_mul(10);
    let mut command = std::process::Command::new(std::env::var_os("CARGO").unwrap_or_else(|| "cargo".into()));
    command.args(["test", "--release", "--package", "ostrog-core", "--test", "oracle", "--test", "journal"]);
    command.args(["--", "--nocapture"]);
    command.env("OSTROG_ORACLE_CASES", charters).env("OSTROG_HISTORIES", histories.to_string());
    run::run(command.current_dir(run::root()))
}

/// Mangled texts, for so many seconds each reader.
fn fuzz(seconds: &str) -> Result<()> {
    let mut command = std::process::Command::new(std::env::var_os("CARGO").unwrap_or_else(|| "cargo".into()));
    command.args(["test", "--release", "--package", "ostrog-core", "--test", "mangled", "--", "--nocapture"]);
    run::run(command.env("OSTROG_FUZZ_SECONDS", seconds).current_dir(run::root()))
}

#[cfg(test)]
mod tests {
    #[test]
    fn the_demos_register_is_what_its_generator_makes() {
        let file =
            std::fs::read_to_string(super::run::root().join(super::REGISTER)).expect("the register is there");
        assert!(file == super::generate::register(), "run `cargo xtask renew`");
    }
}
