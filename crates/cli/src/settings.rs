//! `ostrog.toml`: what flags and the environment leave open.

use crate::exit::Failure;
use serde::Deserialize;
use std::path::{Path, PathBuf};

/// The file's name, in the folder the program is started in.
const FILE: &str = "ostrog.toml";

/// The settings of a file. Unknown keys are errors.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Settings {
    pub listen: Option<String>,
    pub public_url: Option<String>,
    pub database: Option<String>,
    pub data: Option<PathBuf>,
    pub max_stale: Option<String>,
    pub metrics_listen: Option<String>,
}

impl Settings {
    /// The settings of this folder; none if it has no file.
    pub fn here() -> Result<Settings, Failure> {
        match std::fs::read_to_string(FILE) {
            Ok(text) => Settings::read(Path::new(FILE), &text),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(Settings::default()),
            Err(error) => Err(Failure::input(format!("{FILE}: {error}"))),
        }
    }

    fn read(path: &Path, text: &str) -> Result<Settings, Failure> {
        toml::from_str(text).map_err(|error| Failure::input(format!("{}: {error}", path.display())))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_reference_file_states_every_setting() {
        let text = include_str!("../../../docs/ostrog.toml");
        let all: String = text
            .lines()
            .map(|line| line.strip_prefix("# ").filter(|line| line.contains(" = \"")).unwrap_or(line))
            .map(|line| format!("{line}\n"))
            .collect();
        let settings = Settings::read(Path::new("ostrog.toml"), &all).expect("the reference can be read");
        let Settings { listen, public_url, database, data, max_stale, metrics_listen } = settings;
        assert_eq!(listen.as_deref(), Some(crate::commands::serve::DEFAULT_LISTEN));
        assert!(public_url.is_some() && database.is_some() && data.is_some() && metrics_listen.is_some());
        assert_eq!(max_stale.as_deref(), Some("15m"));
    }

    #[test]
    fn unknown_settings_are_errors() {
        let error = Settings::read(Path::new("ostrog.toml"), "lisen = \"x\"").expect_err("is refused");
        assert!(error.message.contains("unknown field `lisen`"), "{}", error.message);
    }
}
