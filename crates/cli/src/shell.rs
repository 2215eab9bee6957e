//! All output goes through here: answers on stdout, notices on stderr, colour only on a terminal
//! and never as the only carrier.

use crate::commands::{Global, OutputFormat};
use std::io::{IsTerminal as _, Write as _};

/// Where a command writes.
#[derive(Debug)]
pub struct Shell {
    /// The form of answers.
    pub format: OutputFormat,
    quiet: bool,
    colour_out: bool,
    colour_err: bool,
}

/// What a piece of text is about, for its colour.
#[derive(Clone, Copy, Debug)]
pub enum Tone {
    /// Allowed, passed.
    Good,
    /// Denied, failed.
    Bad,
    /// Beside the point.
    Soft,
}

impl Shell {
    /// As the options and the terminal want it.
    pub fn new(global: &Global) -> Shell {
        let colour = std::env::var_os("NO_COLOR").is_none_or(|value| value.is_empty());
        Shell {
            format: global.output,
            quiet: global.quiet,
            colour_out: colour && std::io::stdout().is_terminal(),
            colour_err: colour && std::io::stderr().is_terminal(),
        }
    }

    /// An answer line on stdout.
    pub fn answer(&self, line: &str) {
        if !self.quiet {
            // A closed pipe means nobody reads on; there is nobody to tell.
            let _ = writeln!(std::io::stdout().lock(), "{line}");
        }
    }

    /// Something that is printed even when quiet, such as a new key.
    pub fn reveal(&self, line: &str) {
        let _ = writeln!(std::io::stdout().lock(), "{line}");
    }

    /// A notice on stderr.
    pub fn notice(&self, line: &str) {
        if !self.quiet {
            let _ = writeln!(std::io::stderr().lock(), "{}", paint(self.colour_err, Tone::Soft, line));
        }
    }

    /// An error on stderr, quiet or not.
    pub fn problem(&self, line: &str) {
        let _ = writeln!(std::io::stderr().lock(), "{line}");
    }

    /// Text in a tone, for an answer.
    pub fn tone(&self, tone: Tone, text: &str) -> String {
        paint(self.colour_out, tone, text)
    }

    /// The mark and word of an answer.
    pub fn verdict(&self, allowed: bool) -> String {
        if allowed { self.tone(Tone::Good, "| | allowed") } else { self.tone(Tone::Bad, "|#| denied ") }
    }

    /// Whether progress can be shown.
    pub fn shows_progress(&self) -> bool {
        !self.quiet && std::io::stderr().is_terminal()
    }
}

fn paint(colour: bool, tone: Tone, text: &str) -> String {
    let code = match tone {
        Tone::Good => "36",
        Tone::Bad => "31",
        Tone::Soft => "2",
    };
    if colour { format!("\x1b[{code}m{text}\x1b[0m") } else { text.to_owned() }
}
