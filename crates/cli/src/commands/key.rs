//! `ostrog key new | list | replace | end`.

use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, YES};
use crate::shell::Shell;
use crate::table::{self, Column};
use jiff::SignedDuration;
use ostrog_wire::keys::{
    Detail, HeaderPair, KeyAsked, KeyMade, KeyShown, Overlap, Proxied, ProxiedApplication, Right,
};

#[derive(Debug, clap::Subcommand)]
pub enum Command {
    /// Make a key; its text is printed once, alone, on standard output
    New {
        /// The application it asks for; without one, an operator's key
        #[arg(long, value_name = "KEY")]
        application: Option<String>,
        /// A reverse proxy's key, for the route check: the application whose routes it asks about, or several by
        /// host: customs=customs.example,quay=quay.example
        #[arg(long, value_name = "APP[=HOST],…", value_delimiter = ',', requires = "headers",
            conflicts_with_all = ["application", "endpoints", "types", "rights"])]
        proxy: Vec<String>,
        /// In which headers the proxy tells a request: X-Original-Method and -URI, or X-Forwarded-Method and -Uri
        #[arg(long, value_name = "PAIR", value_enum, requires = "proxy")]
        headers: Option<Pair>,
        /// How many proxies, this one included, write into X-Forwarded-For whom they were asked by
        #[arg(long, value_name = "N", default_value_t = 0, requires = "proxy")]
        trusted_hops: u8,
        /// What paths begin with that the application's routes do not
        #[arg(long, value_name = "/PREFIX", requires = "proxy")]
        strip: Option<String>,
        /// The field of the context that the client's address fills
        #[arg(long, value_name = "FIELD", requires = "proxy")]
        address_as: Option<String>,
        /// What to call it
        #[arg(long)]
        name: Option<String>,
        /// Until when it counts
        #[arg(long, value_name = "T")]
        until: Option<String>,
        /// How much its answers tell
        #[arg(long, value_name = "LEVEL", value_enum, default_value_t = Level::Reason)]
        detail: Level,
        /// Keep it to an endpoint: evaluation, evaluations, search, activation
        #[arg(long = "endpoint", value_name = "NAME")]
        endpoints: Vec<String>,
        /// A type of another application that it may ask about
        #[arg(long = "type", value_name = "TYPE")]
        types: Vec<String>,
        /// What an operator may do: reader, grant-editor@tenant:north
        #[arg(long = "right", value_name = "ROLE[@PLACE]", conflicts_with = "application")]
        rights: Vec<String>,
        /// Whose an operator's key is: somebody on record; without one it is a program's, which approves nothing
        #[arg(long, value_name = "PERSON", conflicts_with_all = ["application", "proxy"])]
        person: Option<String>,
        /// An application's key for trying ahead: each of its questions names the revision it is asked under
        #[arg(long, requires = "application")]
        staging: bool,
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

/// How much answers tell.
#[derive(Clone, Copy, Debug, clap::ValueEnum)]
pub enum Level {
    /// The decision alone
    None,
    /// The reason code, a rule's message and advice
    Reason,
    /// The explanation too, where it is asked for
    Full,
}

/// Which pair of headers.
#[derive(Clone, Copy, Debug, clap::ValueEnum)]
pub enum Pair {
    /// X-Original-Method, X-Original-URI (and X-Original-Host)
    Original,
    /// X-Forwarded-Method, X-Forwarded-Uri (and X-Forwarded-Host)
    Forwarded,
}

impl From<Pair> for HeaderPair {
    fn from(pair: Pair) -> HeaderPair {
        match pair {
            Pair::Original => HeaderPair::Original,
            Pair::Forwarded => HeaderPair::Forwarded,
        }
    }
}

impl From<Level> for Detail {
    fn from(level: Level) -> Detail {
        match level {
            Level::None => Detail::None,
            Level::Reason => Detail::Reason,
            Level::Full => Detail::Full,
        }
    }
}

pub async fn run(command: Command, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let client = global.client().await?;
    match command {
        Command::New {
            application,
            proxy,
            headers,
            trusted_hops,
            strip,
            address_as,
            name,
            until,
            detail,
            endpoints,
            types,
            rights,
            person,
            staging,
        } => {
            let proxied = headers.map(|headers| Proxied {
                applications: proxy.iter().map(|text| proxied(text)).collect(),
                headers: headers.into(),
                trusted_hops,
                strip,
                address_as,
            });
            let whose = match &proxied {
                Some(_) => "proxy",
                None => application.as_deref().unwrap_or("operator"),
            };
            let asked = KeyAsked {
                name: name.unwrap_or_else(|| whose.to_owned()),
                proxy: proxied,
                application,
                until,
                detail: detail.into(),
                endpoints,
                types,
                rights: rights.iter().map(|text| right(text)).collect(),
                person,
                staging,
            };
            reveal(&client.make_key(&asked).await?, shell);
        }
        Command::List => {
            let keys = client.keys().await?;
            let columns: &[Column<KeyShown>] = &[
                ("id", |key| key.id.clone()),
                ("whose", whose),
                ("name", |key| key.name.clone()),
                ("detail", |key| format!("{:?}", key.detail).to_lowercase()),
                ("until", |key| table::text(key.until.as_deref())),
                ("last-used-at", |key| table::text(key.last_used_at.as_deref())),
            ];
            table::print(shell, &keys, columns);
        }
        Command::Replace { id, overlap } => {
            let time: SignedDuration = overlap
                .parse()
                .map_err(|_| Failure::misused(format!("--overlap {overlap:?} is no time such as 24h")))?;
            let seconds = u32::try_from(time.as_secs())
                .map_err(|_| Failure::misused(format!("--overlap {overlap:?} is too long")))?;
            reveal(&client.replace_key(&id, &Overlap { overlap: Some(seconds) }).await?, shell);
        }
        Command::End { id } => {
            let ended = client.end_key(&id).await?;
            if shell.format == OutputFormat::Text {
                shell.notice(&format!("{} has ended", ended.id));
            } else {
                shell.answer(&serde_json::to_string(&ended).unwrap_or_default());
            }
        }
    }
    Ok(YES)
}

/// `grant-editor@tenant:north`
fn right(text: &str) -> Right {
    let (role, at) = text.split_once('@').unwrap_or((text, "everywhere"));
    Right { role: role.to_owned(), at: at.to_owned() }
}

/// `customs=customs.example`
fn proxied(text: &str) -> ProxiedApplication {
    match text.split_once('=') {
        None => ProxiedApplication { application: text.to_owned(), host: None },
        Some((application, host)) => {
            ProxiedApplication { application: application.to_owned(), host: Some(host.to_owned()) }
        }
    }
}

/// The secret alone on standard output; what it is, beside.
fn reveal(made: &KeyMade, shell: &Shell) {
    shell.notice(&format!("key {}; its text is shown this once:", made.key.id));
    shell.reveal(&made.text);
}

fn whose(key: &KeyShown) -> String {
    let right = |right: &Right| match right.at.as_str() {
        "everywhere" => right.role.clone(),
        at => format!("{}@{at}", right.role),
    };
    match (&key.proxy, &key.application) {
        (Some(proxied), _) => {
            let told = |one: &ProxiedApplication| match &one.host {
                None => one.application.clone(),
                Some(host) => format!("{} at {host}", one.application),
            };
            let all: Vec<String> = proxied.applications.iter().map(told).collect();
            format!("proxy: {}", all.join(", "))
        }
        (None, Some(application)) => application.clone(),
        (None, None) => format!("operator: {}", key.rights.iter().map(right).collect::<Vec<_>>().join(", ")),
    }
}
