//! `ostrog status`.

use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, YES};
use crate::files::counted;
use crate::shell::Shell;
use serde_json::Value;

pub async fn run(global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let status: Value = global.client()?.get("/api/v1/status", &[]).await?;
    if shell.format != OutputFormat::Text {
        shell.answer(&status.to_string());
        return Ok(YES);
    }
    let text = |value: &Value| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
    match &status["revision"] {
        Value::Null => shell.answer("no charter is live"),
        live => {
            shell.answer(&format!(
                "live        {}, revision {}, \"{}\"",
                text(&status["charter"]),
                live["number"],
                text(&live["title"])
            ));
            shell.answer(&format!(
                "            since {}, by {}",
                text(&live["created-at"]),
                text(&live["author"])
            ));
            shell.answer(&format!("            digest {}", text(&live["digest"])));
        }
    }
    let count = |key: &str| usize::try_from(status[key].as_u64().unwrap_or(0)).unwrap_or(0);
    let entities = match count("entities") {
        1 => "1 entity".to_owned(),
        many => format!("{many} entities"),
    };
    shell.answer(&format!(
        "register    position {}.{}: {entities}, {}",
        text(&status["epoch"]),
        status["position"],
        counted(count("grants"), "grant")
    ));
    let memory = status["memory"].as_f64().unwrap_or(0.0) / 1e6;
    shell.answer(&format!("            {memory:.1} MB in memory"));
    let database = match (status["database"] == true, count("stale")) {
        (true, _) => "answers".to_owned(),
        (false, seconds) => format!("has not answered for {}", counted(seconds, "second")),
    };
    shell.answer(&format!(
        "node        version {}, since {}; the database {database}",
        text(&status["version"]),
        text(&status["started"])
    ));
    Ok(YES)
}
