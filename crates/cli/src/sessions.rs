//! Sessions that `ostrog login` began, by the service they are with: in a file that nobody else may read.

use crate::exit::Failure;
use ostrog_wire::keys::SessionGiven;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::io::Write as _;
use std::path::PathBuf;

/// A session, as it is kept.
#[derive(Clone, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Kept {
    /// What is sent.
    pub session: String,
    /// What its claims are had anew with.
    pub renewal: Option<String>,
    /// Until when it lasts without that.
    pub until: Option<String>,
}

impl std::fmt::Debug for Kept {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Kept(…)")
    }
}

impl Kept {
    /// Of a session that was given.
    pub fn of(given: &SessionGiven) -> Kept {
        let (session, renewal) = (given.session.clone(), given.renewal.clone());
        Kept { session, renewal, until: given.who.until.clone() }
    }

    /// Whether it lasts no longer than to a moment.
    pub fn ends_by(&self, moment: jiff::Timestamp) -> bool {
        let until = self.until.as_ref().and_then(|until| until.parse::<jiff::Timestamp>().ok());
        until.is_some_and(|until| until <= moment)
    }
}

/// Where they are kept: with the user's state, as the desktop's base directories have it.
fn path() -> Result<PathBuf, Failure> {
    let set = |name: &str| std::env::var_os(name).filter(|value| !value.is_empty()).map(PathBuf::from);
    let state = set("XDG_STATE_HOME").or_else(|| set("HOME").map(|home| home.join(".local/state")));
    let state =
        state.ok_or_else(|| Failure::misused("no HOME and no XDG_STATE_HOME: nowhere to keep a session"))?;
    Ok(state.join("ostrog/sessions.json"))
}

fn all() -> Result<BTreeMap<String, Kept>, Failure> {
    let path = path()?;
    match std::fs::read(&path) {
        Ok(text) => serde_json::from_slice(&text).map_err(|error| {
            Failure::input(format!("{}: {error}; take it away, and sign in again", path.display()))
        }),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(BTreeMap::new()),
        Err(error) => Err(Failure::misused(format!("{}: {error}", path.display()))),
    }
}

/// The session with a service.
pub fn of(server: &str) -> Result<Option<Kept>, Failure> {
    Ok(all()?.remove(server.trim_end_matches('/')))
}

/// Keeps one with a service, or lets go of it.
pub fn keep(server: &str, kept: Option<Kept>) -> Result<(), Failure> {
    let mut sessions = all()?;
    let server = server.trim_end_matches('/').to_owned();
    match kept {
        Some(kept) => sessions.insert(server, kept),
        None => sessions.remove(&server),
    };
    let path = path()?;
    let wrong = |error: std::io::Error| Failure::misused(format!("{}: {error}", path.display()));
    let folder = path.parent().map(PathBuf::from).unwrap_or_default();
    std::fs::create_dir_all(&folder).map_err(wrong)?;
    // Whole or not at all, and for its owner alone: a temporary file is made so (0600).
    let mut file = tempfile::NamedTempFile::new_in(&folder).map_err(wrong)?;
    file.write_all(&serde_json::to_vec_pretty(&sessions).unwrap_or_default()).map_err(wrong)?;
    file.persist(&path).map_err(|error| wrong(error.error))?;
    Ok(())
}
