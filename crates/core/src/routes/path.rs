//! A request's target in its one reading: what two programs behind each other could read differently is refused.

use super::MAX_SEGMENTS;
use crate::charter::check::METHODS;
use unicode_normalization::is_nfc;

/// Longest path, in bytes.
pub const MAX_PATH_BYTES: usize = 8 << 10;

/// Why a path is not looked up at all.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, thiserror::Error)]
pub enum PathRefused {
    /// It does not begin with `/`, as an absolute form does not.
    #[error("it does not begin with /")]
    NotFromTheRoot,
    /// It is too long, or has too many segments.
    #[error("it has more than {MAX_PATH_BYTES} bytes or {MAX_SEGMENTS} segments")]
    TooLong,
    /// A segment is empty, `.` or `..`.
    #[error("a segment is empty, . or ..")]
    Dots,
    /// A percent sign without two digits.
    #[error("a % is not followed by two hexadecimal digits")]
    BrokenEncoding,
    /// A character is encoded that need not be.
    #[error("a letter, digit, -, ., _, ~ or : is encoded")]
    NeedlessEncoding,
    /// A segment holds what separates elsewhere.
    #[error("a segment holds /, \\, ;, % or a control character")]
    Separator,
    /// It is no UTF-8 when decoded, or holds what must be encoded.
    #[error("it is no UTF-8, or holds what must be encoded")]
    NoText,
    /// A segment is not in Unicode's composed form.
    #[error("a segment is not in Unicode's composed form (NFC)")]
    Decomposed,
}

/// A path in its one reading.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Path {
    /// Its segments, decoded; of one that ends in `/` the last is empty.
    segments: Vec<String>,
}

impl Path {
    /// Reads a request's target as it came: what stands before `?`.
    ///
    /// # Errors
    /// If it could be read in more than one way.
    pub fn read(target: &str) -> Result<Path, PathRefused> {
        let raw = target.split('?').next().unwrap_or_default();
        if raw.len() > MAX_PATH_BYTES {
            return Err(PathRefused::TooLong);
        }
        let rest = raw.strip_prefix('/').ok_or(PathRefused::NotFromTheRoot)?;
        if raw.bytes().any(|byte| !(0x21..=0x7e).contains(&byte) || byte == b'#') {
            return Err(PathRefused::NoText);
        }
        let parts: Vec<&str> = rest.split('/').collect();
        if parts.len() > MAX_SEGMENTS {
            return Err(PathRefused::TooLong);
        }
        let last = parts.len() - 1;
        let mut segments = Vec::with_capacity(parts.len());
        for (at, part) in parts.iter().enumerate() {
            let segment = decoded(part)?;
            if matches!(segment.as_str(), "." | "..") || (segment.is_empty() && at < last) {
                return Err(PathRefused::Dots);
            }
            if segment.contains(['/', '\\', ';', '%']) || segment.chars().any(char::is_control) {
                return Err(PathRefused::Separator);
            }
            if !is_nfc(&segment) {
                return Err(PathRefused::Decomposed);
            }
            segments.push(segment);
        }
        Ok(Path { segments })
    }

    /// Its segments, decoded; of one that ends in `/` the last is empty.
    pub fn segments(&self) -> &[String] {
        &self.segments
    }

    /// What is left behind another path; none if it does not begin with that.
    #[must_use]
    pub fn behind(&self, prefix: &Path) -> Option<Path> {
        let rest = self.segments.strip_prefix(prefix.segments.as_slice())?;
        (!rest.is_empty()).then(|| Path { segments: rest.to_vec() })
    }

    /// As it is written in one way only: percent-encoded where it must be.
    pub fn canonical(&self) -> String {
        let mut out = String::new();
        for segment in &self.segments {
            out.push('/');
            for byte in segment.bytes() {
                match byte {
                    b if is_unreserved(b) || b"!$&'()*+,=:@".contains(&b) => out.push(char::from(b)),
                    b => out.push_str(&format!("%{b:02X}")),
                }
            }
        }
        out
    }
}

fn is_unreserved(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || b"-._~".contains(&byte)
}

/// A segment, decoded once.
fn decoded(part: &str) -> Result<String, PathRefused> {
    let mut bytes = Vec::with_capacity(part.len());
    let mut rest = part.as_bytes();
    while let Some((first, more)) = rest.split_first() {
        rest = more;
        if *first != b'%' {
            bytes.push(*first);
            continue;
        }
        let digit = |at: usize| more.get(at).and_then(|byte| char::from(*byte).to_digit(16));
        let (Some(high), Some(low)) = (digit(0), digit(1)) else { return Err(PathRefused::BrokenEncoding) };
        let byte = u8::try_from(high * 16 + low).map_err(|_| PathRefused::BrokenEncoding)?;
        if is_unreserved(byte) || byte == b':' {
            return Err(PathRefused::NeedlessEncoding);
        }
        bytes.push(byte);
        rest = &more[2..];
    }
    String::from_utf8(bytes).map_err(|_| PathRefused::NoText)
}

/// Why a request is not looked up, whatever its path is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, thiserror::Error)]
pub enum TargetRefused {
    /// Its method is one that no route has.
    #[error("the method is none that a route can have")]
    Method,
    /// Its query says another method.
    #[error("the query says another method (_method)")]
    OtherMethod,
    /// Its query carries a token (RFC 6750, 2.3 advises against it).
    #[error("a token stands in the query")]
    TokenInQuery,
    /// Its path.
    #[error("{0}")]
    Path(#[from] PathRefused),
}

/// What is requested: a method and a path. The query decides nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Target {
    /// In capitals.
    pub method: String,
    /// In its one reading.
    pub path: Path,
}

impl Target {
    /// Reads a request line's method and target.
    ///
    /// # Errors
    /// If it could be read in more than one way, or is none that a route can have.
    pub fn read(method: &str, target: &str) -> Result<Target, TargetRefused> {
        let query = target.split_once('?').map_or("", |(_, query)| query);
        // Some programs part a query at semicolons too.
        let query = query.replace(';', "&");
        let names = || form_urlencoded::parse(query.as_bytes()).map(|(name, _)| name);
        if names().any(|name| name == "access_token") {
            return Err(TargetRefused::TokenInQuery);
        }
        if names().any(|name| name == "_method") {
            return Err(TargetRefused::OtherMethod);
        }
        if !METHODS.contains(&method) {
            return Err(TargetRefused::Method);
        }
        Ok(Target { method: method.to_owned(), path: Path::read(target)? })
    }
}
