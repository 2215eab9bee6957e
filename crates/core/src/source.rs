//! Charter files as text, places in them, and what is found wrong there.
//!
//! A [`Finding`] knows its place as a [`Span`] and its words without one; only
//! [`Sources::render`] draws the two together, so that every message of every stage looks alike.

use crate::names::nearest;
use sha2::{Digest as _, Sha256};
use std::fmt::Write as _;

/// Largest charter file read, in bytes. A page of policy is a few kilobytes.
pub const MAX_FILE_BYTES: usize = 1 << 20;
/// Largest charter, all files together, in bytes.
pub const MAX_CHARTER_BYTES: usize = 8 << 20;
/// Most files in one charter.
pub const MAX_FILES: usize = 1_000;

/// A stretch of bytes in one of the files of a [`Sources`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Span {
    /// Index of the file in its [`Sources`].
    pub file: u32,
    /// First byte.
    pub start: u32,
    /// One past the last byte.
    pub end: u32,
}

impl Span {
    /// A span from byte offsets within `file`.
    pub fn new(file: u32, range: std::ops::Range<usize>) -> Self {
        let clamp = |at: usize| u32::try_from(at).unwrap_or(u32::MAX);
        Span { file, start: clamp(range.start), end: clamp(range.end) }
    }

    /// The smallest span that covers both; both lie in one file.
    pub fn to(self, other: Span) -> Span {
        Span { file: self.file, start: self.start.min(other.start), end: self.end.max(other.end) }
    }
}

/// A value and where it stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct At<T> {
    /// The value.
    pub value: T,
    /// Its place.
    pub span: Span,
}

impl<T> At<T> {
    /// Pairs a value with its place.
    pub fn new(value: T, span: Span) -> Self {
        At { value, span }
    }
}

/// How bad a finding is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Severity {
    /// The charter cannot be used.
    Error,
    /// The charter can be used, but probably does not say what its author means.
    Warning,
}

/// One mistake, or one doubt, about a text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// Error or warning.
    pub severity: Severity,
    /// Stable name of the kind of finding, e.g. `unknown-role`.
    pub code: &'static str,
    /// Where.
    pub span: Span,
    /// What is wrong, without its place.
    pub message: String,
    /// What to do about it.
    pub help: Option<String>,
    /// A second place that matters, and what it is.
    pub second: Option<(Span, &'static str)>,
    /// The name that is not known, and the known one that was likely meant.
    pub meant: Option<Meant>,
}

/// A name that is not known, and the known one that was likely meant.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Meant {
    /// As written.
    pub written: String,
    /// As it is known.
    pub known: String,
}

impl Finding {
    /// An error.
    pub fn error(code: &'static str, span: Span, message: impl Into<String>) -> Self {
        let message = message.into();
        Finding { severity: Severity::Error, code, span, message, help: None, second: None, meant: None }
    }

    /// A warning.
    pub fn warning(code: &'static str, span: Span, message: impl Into<String>) -> Self {
        Finding { severity: Severity::Warning, ..Finding::error(code, span, message) }
    }

    /// Adds what to do.
    #[must_use]
    pub fn help(mut self, help: impl Into<String>) -> Self {
        self.help = Some(help.into());
        self
    }

    /// Adds the known name that was likely meant by one that is not known, if one is near enough.
    #[must_use]
    pub fn meant<'k>(self, written: &str, known: impl IntoIterator<Item = &'k str>) -> Self {
        /// Of so many all are named, where none is near.
        const FEW: usize = 8;
        let mut known: Vec<&str> = known.into_iter().collect();
        known.sort_unstable();
        known.dedup();
        match nearest(written, known.iter().copied()) {
            Some(known) => self.meant_surely(written, known),
            None if self.help.is_none() && (1..=FEW).contains(&known.len()) => {
                let all: Vec<String> = known.iter().map(|name| format!("{name:?}")).collect();
                self.help(format!("there is {}", all.join(", ")))
            }
            None => self,
        }
    }

    /// Adds the known name that was meant.
    #[must_use]
    pub fn meant_surely(mut self, written: &str, known: &str) -> Self {
        self.message = format!("{}; did you mean {known:?}?", self.message);
        self.meant = Some(Meant { written: written.to_owned(), known: known.to_owned() });
        self
    }

    /// Adds the second place.
    #[must_use]
    pub fn beside(mut self, span: Span, what: &'static str) -> Self {
        self.second = Some((span, what));
        self
    }
}

/// One file of a charter.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SourceFile {
    /// Its path as the user named it, e.g. `harbour/roles.toml`.
    pub path: String,
    /// Its text.
    pub text: String,
}

/// What is wrong with the path of a charter's file, if anything: it is written into folders, so it
/// leads down and nowhere else.
pub fn wrong_path(path: &str) -> Option<&'static str> {
    let ending = || (!path.ends_with(".toml")).then_some("a charter's files end with .toml");
    wrong_place(path).or_else(ending)
}

/// What is wrong with the path of a rehearsal's file, if anything.
pub fn wrong_rehearsal_path(path: &str) -> Option<&'static str> {
    let known = path.ends_with(".toml") || path.ends_with(".csv");
    wrong_place(path).or_else(|| (!known).then_some("a file of a rehearsal ends in .toml or .csv"))
}

fn wrong_place(path: &str) -> Option<&'static str> {
    let odd = |part: &str| part.is_empty() || part == "." || part == "..";
    if path.len() > 200 || path.split('/').any(odd) {
        return Some("a file's path leads down, in at most 200 bytes");
    }
    let odd = |c: char| c == '\\' || c == ':' || c.is_control();
    path.chars().any(odd).then_some("a file's path has no backslash, colon or control character")
}

/// The files a charter or rehearsal is made of, in name order.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Sources {
    files: Vec<SourceFile>,
    /// What stands before every path when a finding is shown; not part of the digest.
    shown_under: String,
}

impl Sources {
    /// Takes files in any order and sorts them by path.
    pub fn new(mut files: Vec<SourceFile>) -> Self {
        files.sort_by(|a, b| a.path.cmp(&b.path));
        Sources { files, shown_under: String::new() }
    }

    /// A single text under a name, for tests and for one-file rehearsals.
    pub fn single(path: &str, text: &str) -> Self {
        Sources::new(vec![SourceFile { path: path.to_owned(), text: text.to_owned() }])
    }

    /// Says which folder findings are shown under.
    #[must_use]
    pub fn shown_under(mut self, folder: &str) -> Self {
        self.shown_under = folder.to_owned();
        self
    }

    /// The files, in name order.
    pub fn files(&self) -> &[SourceFile] {
        &self.files
    }

    /// The text a span covers; empty if the span is of another set of sources.
    pub fn text(&self, span: Span) -> &str {
        self.files
            .get(span.file as usize)
            .and_then(|file| file.text.get(span.start as usize..span.end as usize))
            .unwrap_or("")
    }

    /// Path, line and column (both from 1, columns in characters) of a span's start.
    pub fn place(&self, span: Span) -> Place {
        let Some(file) = self.files.get(span.file as usize) else {
            return Place { path: String::new(), line: 0, column: 0 };
        };
        let before = file.text.get(..span.start as usize).unwrap_or(&file.text);
        let line_start = before.rfind('\n').map_or(0, |at| at + 1);
        Place {
            path: format!("{}{}", self.shown_under, file.path),
            line: before.bytes().filter(|byte| *byte == b'\n').count() + 1,
            column: before[line_start..].chars().count() + 1,
        }
    }

    /// A finding as a person reads it: `path:line:column  message`, the line it is about with the
    /// place marked, and what to do.
    pub fn render(&self, finding: &Finding) -> String {
        let mut out = String::new();
        let place = self.place(finding.span);
        let doubt = if finding.severity == Severity::Warning { "warning: " } else { "" };
        let _ = write!(out, "{place}  {doubt}{}", finding.message);
        self.draw(&mut out, finding.span);
        if let Some(help) = &finding.help {
            let _ = write!(out, "\n    {help}");
        }
        if let Some((span, what)) = finding.second {
            let _ = write!(out, "\n    {what}: {}", self.place(span));
        }
        out
    }

    fn draw(&self, out: &mut String, span: Span) {
        let Some(file) = self.files.get(span.file as usize) else { return };
        let start = (span.start as usize).min(file.text.len());
        let line_start = file.text[..start].rfind('\n').map_or(0, |at| at + 1);
        let line_end = file.text[start..].find('\n').map_or(file.text.len(), |at| start + at);
        let line = &file.text[line_start..line_end];
        // A line longer than a screen says less than its place alone.
        if line.trim().is_empty() || line.chars().count() > 160 {
            return;
        }
        let end = (span.end as usize).clamp(start, line_end);
        let pad = file.text[line_start..start].chars().count();
        let width = file.text[start..end].chars().count().max(1);
        let _ = write!(out, "\n  | {line}\n  | {}{}", " ".repeat(pad), "^".repeat(width));
    }

    /// SHA-256 over the sorted files' paths, lengths and bytes and the format's number.
    pub fn digest(&self, format: u64) -> Digest {
        let mut hash = Sha256::new();
        hash.update(format.to_le_bytes());
        for file in &self.files {
            for part in [file.path.as_bytes(), file.text.as_bytes()] {
                hash.update((part.len() as u64).to_le_bytes());
                hash.update(part);
            }
        }
        Digest(hash.finalize().into())
    }
}

/// Where something stands, for people.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Place {
    /// Path of the file.
    pub path: String,
    /// Line, from 1.
    pub line: usize,
    /// Column in characters, from 1.
    pub column: usize,
}

impl std::fmt::Display for Place {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}:{}:{}", self.path, self.line, self.column)
    }
}

/// The SHA-256 of a charter's files.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct Digest(pub [u8; 32]);

impl std::fmt::Display for Digest {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.0.iter().try_for_each(|byte| write!(f, "{byte:02x}"))
    }
}

impl std::fmt::Debug for Digest {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Digest({self})")
    }
}
