//! `ostrog token read`: what a token says, whether it holds, what it means. It is neither kept nor logged.

use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, NO, YES};
use crate::files;
use crate::shell::Shell;
use crate::table::{self, Column};
use jiff::Timestamp;
use ostrog_core::decide::bearer::{Bearer, Token};
use ostrog_core::decide::gains::{Gain as Found, gains};
use ostrog_core::prelude::{Sight, World};
use ostrog_tokens::jws::Jws;
use ostrog_tokens::keys::KeySet;
use ostrog_tokens::verify::{Terms, verify};
use ostrog_tokens::{Refused, read};
use ostrog_wire::issuers::{ClaimRead, Gain, TokenAsked, TokenRead, TokenText};
use serde_json::Value;
use std::io::Read as _;
use std::path::PathBuf;
use std::sync::Arc;

/// Longest text that is read: a token, and what stands around it.
const MAX_BYTES: u64 = 64 << 10;
/// How many resources of each permission are named.
const NAMED: usize = 5;

#[derive(Debug, clap::Subcommand)]
pub enum Command {
    /// Tell what a token says, whether it holds, and what it means here
    Read(Args),
}

#[derive(Debug, clap::Args)]
pub struct Args {
    /// A file with the token; without one, standard input
    file: Option<PathBuf>,
    /// Offline: the charter that says what it means
    #[arg(long, value_name = "DIR")]
    charter: Option<PathBuf>,
    /// Offline: the facts
    #[arg(long, value_name = "FILE", requires = "charter")]
    register: Option<PathBuf>,
    /// Offline: the issuer's public keys, as a JWK set or PEM; without it nothing is verified
    #[arg(long, value_name = "FILE", requires = "charter")]
    jwks: Option<PathBuf>,
    /// Offline: whose token it is, if the charter has several issuers
    #[arg(long, value_name = "KEY", requires = "charter")]
    issuer: Option<String>,
}

pub async fn run(command: Command, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let Command::Read(args) = command;
    let token = token(args.file.as_ref())?;
    let told = match &args.charter {
        Some(charter) => {
            let world = files::world(charter, args.register.as_deref(), shell)?;
            shell.notice(&format!("offline, {}", charter.display()));
            offline(&world, &args, &token)?
        }
        None => {
            global
                .client()
                .await?
                .read_token(&TokenAsked { token: Some(TokenText(token)), ..TokenAsked::default() })
                .await?
        }
    };
    let code = if told.verified == Some(false) || told.subject.is_none() { NO } else { YES };
    if shell.format == OutputFormat::Text {
        tell(&told, shell);
    } else {
        shell.answer(&serde_json::to_string(&told).unwrap_or_default());
    }
    Ok(code)
}

/// The token in a file or on standard input, without what stands before it in a header.
pub fn token(file: Option<&PathBuf>) -> Result<String, Failure> {
    let mut text = String::new();
    let read = match file {
        Some(path) => {
            let opened = std::fs::File::open(path);
            let opened = opened.map_err(|error| Failure::misused(format!("{}: {error}", path.display())))?;
            opened.take(MAX_BYTES).read_to_string(&mut text)
        }
        None => std::io::stdin().lock().take(MAX_BYTES).read_to_string(&mut text),
    };
    read.map_err(|error| Failure::input(format!("the token cannot be read: {error}")))?;
    let text = text.trim();
    let text = text.strip_prefix("Authorization:").unwrap_or(text).trim();
    Ok(text.strip_prefix("Bearer ").unwrap_or(text).trim().to_owned())
}

/// The issuer that is meant: the charter's only one, if none is given.
///
/// # Errors
/// If there is none, or several.
pub fn issuer(world: &World, given: Option<&String>) -> Result<String, Failure> {
    let keys: Vec<&str> = world.policy().model().issuers.iter().map(|issuer| issuer.key.as_str()).collect();
    match (given, &keys[..]) {
        (Some(key), _) => Ok(key.clone()),
        (None, [only]) => Ok((*only).to_owned()),
        (None, []) => Err(Failure::input("the charter has no [issuer]: it says not what a token means")),
        (None, all) => {
            Err(Failure::misused(format!("whose token is it? give --issuer, one of {}", all.join(", "))))
        }
    }
}

fn offline(world: &World, args: &Args, token: &str) -> Result<TokenRead, Failure> {
    let issuer = issuer(world, args.issuer.as_ref())?;
    let (header, claims) = read(token);
    let mut told = TokenRead {
        header: header.unwrap_or_default(),
        claims: claims.clone().unwrap_or_default(),
        ..TokenRead::default()
    };
    let now = Timestamp::now();
    match &args.jwks {
        None => told.words = "not verified: no keys to hold it against (--jwks FILE)".to_owned(),
        Some(path) => {
            let text = std::fs::read(path);
            let text = text.map_err(|error| Failure::misused(format!("{}: {error}", path.display())))?;
            let set =
                KeySet::read(&text).map_err(|why| Failure::input(format!("{}: {why}", path.display())))?;
            match verified(token, &issuer, &set, now) {
                Ok(until) => (told.verified, told.words) = (Some(true), format!("until {until}")),
                Err(why) => {
                    (told.verified, told.words) = (Some(false), why.to_string());
                    return Ok(told);
                }
            }
        }
    }
    let Some(claims) = claims else {
        told.nobody = Some("its claims cannot be read".to_owned());
        return Ok(told);
    };
    let bearer = match Bearer::of(world, &Token { issuer, claims }, None) {
        Ok(bearer) => Arc::new(bearer),
        Err(why) => {
            told.nobody = Some(why.to_string());
            return Ok(told);
        }
    };
    told.subject = Some(bearer.name.clone());
    told.read = bearer
        .claims
        .iter()
        .map(|claim| ClaimRead {
            claim: claim.claim.clone(),
            about: claim.about.clone(),
            outcome: claim.outcome.to_string(),
            words: claim.words.clone(),
            register: bearer.beside(world, claim),
        })
        .collect();
    let found = gains(world, &Sight::Everything, &bearer, now, &mut || true);
    let found = found.map_err(|error| Failure::input(error.to_string()))?.unwrap_or_default();
    let shown = |found: Vec<Found>| found.iter().map(|found| gain(world, found)).collect();
    (told.gains, told.losses) = (shown(found.gained), shown(found.lost));
    Ok(told)
}

/// Its signature and times; whose it is and for whom is not known offline.
fn verified(token: &str, issuer: &str, keys: &KeySet, now: Timestamp) -> Result<Timestamp, Refused> {
    let jws = Jws::read(token)?;
    let claims = jws.claims()?;
    let iss = claims.get("iss").and_then(Value::as_str).unwrap_or_default().to_owned();
    let terms = Terms { iss: &iss, id_tokens: false };
    Ok(verify(&jws, claims, issuer, terms, keys, now)?.until)
}

fn gain(world: &World, found: &Found) -> Gain {
    let names = found.resources.iter().take(NAMED).map(|id| world.register().name(*id).to_owned());
    Gain {
        permission: world.policy().model().permissions[found.permission.index()].text.clone(),
        reason: found.reason.clone(),
        resources: found.resources.len(),
        first: names.chain(found.new.then(|| "a new one".to_owned())).collect(),
    }
}

fn tell(told: &TokenRead, shell: &Shell) {
    for (what, part) in [("header", &told.header), ("claims", &told.claims)] {
        for (key, value) in part {
            shell.answer(&format!("{what}  {key} = {value}{}", in_words(key, value)));
        }
    }
    let held = match told.verified {
        Some(true) => "it holds",
        Some(false) => "it is refused",
        None => "not known",
    };
    shell.answer(&format!("{held}: {}", told.words));
    match (&told.subject, &told.nobody) {
        (Some(subject), _) => shell.answer(&format!("it names {subject}")),
        (None, Some(why)) => shell.answer(&format!("it names nobody: {why}")),
        (None, None) => return,
    }
    let columns: &[Column<ClaimRead>] = &[
        ("claim", |one| one.claim.clone()),
        ("about", |one| one.about.clone()),
        ("outcome", |one| one.outcome.clone()),
        ("words", |one| one.words.clone()),
        ("register", |one| one.register.clone().unwrap_or_default()),
    ];
    table::print(shell, &told.read, columns);
    for (gains, words) in [(&told.gains, "may, by the token alone"), (&told.losses, "may, without it alone")]
    {
        for gain in gains {
            let on =
                if gain.first.is_empty() { String::new() } else { format!(" on {}", gain.first.join(", ")) };
            let named = gain.first.iter().filter(|name| *name != "a new one").count();
            let more = match gain.resources.saturating_sub(named) {
                0 => String::new(),
                more => format!(" and {more} more"),
            };
            shell.answer(&format!("{words}: {}{on}{more}  {}", gain.permission, gain.reason));
        }
    }
}

/// A time as people read it, beside the number.
fn in_words(key: &str, value: &Value) -> String {
    let is_time = matches!(key, "exp" | "nbf" | "iat" | "auth_time");
    let time = value.as_i64().filter(|_| is_time).and_then(|seconds| Timestamp::from_second(seconds).ok());
    time.map_or_else(String::new, |time| format!("  ({time})"))
}
