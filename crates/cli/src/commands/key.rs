//! `ostrog key new | list | replace | end`.

use super::{Global, OutputFormat, print_rows};
use crate::exit::{Code, Failure, YES};
use crate::shell::Shell;
use jiff::SignedDuration;
use serde_json::{Value, json};

#[derive(Debug, clap::Subcommand)]
pub enum Command {
    /// Make a key; its text is printed once, alone, on standard output
    New {
        /// The application it asks for; without one, an operator's key
        #[arg(long, value_name = "KEY")]
        application: Option<String>,
        /// What to call it
        #[arg(long)]
        name: Option<String>,
        /// Until when it counts
        #[arg(long, value_name = "T")]
        until: Option<String>,
        /// How much its answers tell: none, reason, full
        #[arg(long, value_name = "LEVEL", default_value = "reason")]
        detail: String,
        /// Keep it to an endpoint: evaluation, evaluations, search
        #[arg(long = "endpoint", value_name = "NAME")]
        endpoints: Vec<String>,
        /// A type of another application that it may ask about
        #[arg(long = "type", value_name = "TYPE")]
        types: Vec<String>,
        /// What an operator may do: reader, grant-editor@tenant:north
        #[arg(long = "right", value_name = "ROLE[@PLACE]", conflicts_with = "application")]
        rights: Vec<String>,
    },
    /// List keys
    List,
    /// Make a key in place of another, which goes on counting for a while
    Replace {
        /// The key's id
        id: String,
        /// For how long the old one goes on counting: 24h
        #[arg(long, value_name = "TIME", default_value = "24h")]
        overlap: String,
    },
    /// End a key, at once
    End {
        /// The key's id
        id: String,
    },
}

pub async fn run(command: Command, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let client = global.client()?;
    match command {
        Command::New { application, name, until, detail, endpoints, types, rights } => {
            let name = name.unwrap_or_else(|| application.clone().unwrap_or_else(|| "operator".to_owned()));
            let right = |text: &String| {
                let (role, at) = text.split_once('@').unwrap_or((text, "everywhere"));
                json!({ "role": role, "at": at })
            };
            let asked = json!({
                "application": application, "name": name, "until": until, "detail": detail,
                "endpoints": endpoints, "types": types, "rights": rights.iter().map(right).collect::<Vec<_>>(),
            });
            reveal(&client.post("/api/v1/keys", &asked).await?, shell);
        }
        Command::List => {
            let mut rows: Vec<Value> = client.get("/api/v1/keys", &[]).await?;
            if shell.format == OutputFormat::Text {
                rows.iter_mut().for_each(readable);
            }
            print_rows(shell, &rows, &["id", "whose", "name", "detail", "until", "last-used-at"]);
        }
        Command::Replace { id, overlap } => {
            let time: SignedDuration = overlap
                .parse()
                .map_err(|_| Failure::misused(format!("--overlap {overlap:?} is no time such as 24h")))?;
            let seconds = time.as_secs().to_string();
            let path = ["api", "v1", "keys", &id, "replacement"];
            reveal(&client.post_to(&path, &[("overlap", &seconds)], &json!({})).await?, shell);
        }
        Command::End { id } => {
            let ended: Value = client.delete(&["api", "v1", "keys", &id], &[]).await?;
            shell.notice(&format!("{} has ended", ended["id"].as_str().unwrap_or(&id)));
        }
    }
    Ok(YES)
}

/// The secret alone on standard output; what it is, beside.
fn reveal(made: &Value, shell: &Shell) {
    let key = &made["key"];
    shell.notice(&format!("key {}; its text is shown this once:", key["id"].as_str().unwrap_or_default()));
    shell.reveal(made["text"].as_str().unwrap_or_default());
}

fn readable(row: &mut Value) {
    let rights = row["rights"].as_array().into_iter().flatten().map(|right| {
        let text = |key: &str| right[key].as_str().unwrap_or_default();
        match text("at") {
            "everywhere" => text("role").to_owned(),
            at => format!("{}@{at}", text("role")),
        }
    });
    let rights: Vec<String> = rights.collect();
    row["whose"] = match row["application"].as_str() {
        Some(application) => application.into(),
        None => format!("operator: {}", rights.join(", ")).into(),
    };
}
