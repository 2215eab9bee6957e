//! Builds, tests, benchmarks and the demo.
#[path = "../../demo/generate.rs"]
mod generate;
fn main() -> anyhow::Result<()> {
    std::fs::write("demo/register.ndjson", generate::register())?;
    Ok(())
}
