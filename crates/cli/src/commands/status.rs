//! `ostrog status`.

use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, YES};
use crate::files::counted;
use crate::shell::Shell;

pub async fn run(global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let status = global.client().await?.status().await?;
    if shell.format != OutputFormat::Text {
        shell.answer(&serde_json::to_string(&status).unwrap_or_default());
        return Ok(YES);
    }
    match &status.revision {
        None => shell.answer("no charter is live"),
        Some(live) => {
            let charter = status.charter.as_deref().unwrap_or_default();
            shell.answer(&format!("live        {charter}, revision {}, \"{}\"", live.number, live.title));
            shell.answer(&format!("            since {}, by {}", live.created_at, live.author));
            shell.answer(&format!("            digest {}", live.digest));
        }
    }
    let counts = match (status.entities, status.grants) {
        (Some(1), Some(grants)) => format!(": 1 entity, {}", counted(grants, "grant")),
        (Some(many), Some(grants)) => format!(": {many} entities, {}", counted(grants, "grant")),
        _ => String::new(),
    };
    shell.answer(&format!("register    position {}.{}{counts}", status.epoch, status.position));
    shell.answer(&format!("            digest {}", status.digest));
    if let Some(memory) = status.memory {
        #[allow(clippy::cast_precision_loss, reason = "it is rounded for people")]
        let megabytes = memory as f64 / 1e6;
        shell.answer(&format!("            {megabytes:.1} MB in memory"));
    }
    let database = match status.database {
        true => "answers".to_owned(),
        false => format!("has not answered for {} s", status.stale),
    };
    shell.answer(&format!(
        "node        version {}, since {}; the database {database}",
        status.version, status.started
    ));
    Ok(YES)
}
