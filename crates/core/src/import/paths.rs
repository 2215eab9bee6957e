//! A document's path as a route can write it: decoded, one parameter in a segment, none of them twice.

use super::document::Left;
use crate::charter::check::{MAX_SEGMENTS, pattern};
use crate::charter::model::Segment;

/// A path as a route writes it.
#[derive(Clone, Debug)]
pub struct Written {
    /// Its text.
    pub text: String,
    /// The same in parts.
    pub segments: Vec<Segment>,
    /// What its parameters are called in the document.
    pub called: Vec<(String, String)>,
}

impl Written {
    /// A path of these parts; each parameter with what the document calls it.
    pub fn of(segments: Vec<Segment>, called: Vec<(String, String)>) -> Written {
        let text: Vec<String> = segments.iter().map(ToString::to_string).collect();
        Written { text: format!("/{}", text.join("/")), segments, called }
    }

    /// The same for all paths that the same requests fit.
    pub fn shape(&self) -> String {
        shape(&self.segments)
    }

    /// What the document calls a parameter.
    pub fn original<'w>(&'w self, parameter: &'w str) -> &'w str {
        self.called.iter().find(|(own, _)| own == parameter).map_or(parameter, |(_, called)| called)
    }
}

/// The same for all patterns that the same requests fit.
pub fn shape(segments: &[Segment]) -> String {
    let parts = segments.iter().map(|segment| match segment {
        Segment::Literal(text) => text.clone(),
        Segment::Parameter(of) => format!("{}{{}}{}", of.before, of.after),
    });
    parts.collect::<Vec<_>>().join("/")
}

/// What became of a path.
pub enum Read {
    /// It can be a route.
    Whole(Written),
    /// It cannot: why, and the pattern that the requests fit whom it is about, as far as one can be written.
    Left(Left, Option<Written>),
}

/// Reads a path.
pub fn read(place: &str, path: &str) -> Read {
    let outside = outside_braces(path);
    if let Some(at) = outside.find(['?', '#']) {
        let rest = path.get(..at).and_then(|path| Reading::of(path).ok());
        let why = "it is told from others by what stands behind the path, which no route looks at";
        return Read::Left(
            Left { elsewhere: true, ..Left::new(place, why) },
            rest.and_then(Reading::written),
        );
    }
    match Reading::of(path) {
        Ok(reading) if reading.greedy => {
            let why = "its last parameter stands for several segments, a route's for one";
            Read::Left(Left::new(place, why), reading.written())
        }
        Ok(reading) => match reading.written() {
            Some(written) => Read::Whole(written),
            None => Read::Left(Left::new(place, "it is no path of a route"), None),
        },
        Err(why) => Read::Left(Left::new(place, why), None),
    }
}

/// A path in which everything within braces is blotted out, byte by byte.
fn outside_braces(path: &str) -> String {
    let mut deep = 0_usize;
    let blotted = path.bytes().map(|byte| match byte {
        b'{' => {
            deep += 1;
            '{'
        }
        b'}' => {
            deep = deep.saturating_sub(1);
            '}'
        }
        _ if deep > 0 || !byte.is_ascii() => '_',
        byte => char::from(byte),
    });
    blotted.collect()
}

#[derive(Default)]
struct Reading {
    segments: Vec<String>,
    /// A parameter of the route, and what the document calls it.
    called: Vec<(String, String)>,
    /// Whether a parameter stands for several segments.
    greedy: bool,
}

impl Reading {
    fn of(path: &str) -> Result<Reading, String> {
        let rest = path.strip_prefix('/').ok_or("the path does not begin with /")?;
        if path.chars().any(char::is_control) {
            return Err("the path holds a control character".to_owned());
        }
        let mut reading = Reading::default();
        let outside = outside_braces(rest);
        let mut begin = 0;
        for end in outside.match_indices('/').map(|(at, _)| at).chain([rest.len()]) {
            let last = end == rest.len();
            let part = &rest[begin..end];
            if part.is_empty() && !last {
                return Err("it has an empty segment".to_owned());
            }
            reading.part(part)?;
            begin = end + 1;
        }
        if reading.segments.len() > MAX_SEGMENTS {
            return Err(format!("it has more than {MAX_SEGMENTS} segments"));
        }
        Ok(reading)
    }

    /// One segment; or several, in `{name=racks/*/shelves/*}`.
    fn part(&mut self, part: &str) -> Result<(), String> {
        let Some(open) = part.find('{') else {
            self.segments.push(decoded(part)?);
            return Ok(());
        };
        let close = part.rfind('}').filter(|close| *close > open);
        let close = close.ok_or_else(|| format!("the segment {part:?} has braces that do not match"))?;
        let (before, inner, after) = (&part[..open], &part[open + 1..close], &part[close + 1..]);
        if before.contains('}') || after.contains('{') || inner.is_empty() {
            return Err(format!("the segment {part:?} has braces that do not match"));
        }
        if let Some((name, pattern)) = inner.split_once('=').filter(|_| before.is_empty()) {
            for (at, piece) in pattern.split('/').enumerate() {
                let last = at + 1 == pattern.split('/').count();
                match piece {
                    "*" | "**" => {
                        let of = self.segments.last().filter(|text| !text.contains('{')).cloned();
                        self.greedy |= piece == "**";
                        let after = if last { after } else { "" };
                        self.parameter("", &of.unwrap_or_else(|| name.to_owned()), after)?;
                    }
                    "" => return Err(format!("the segment {part:?} has an empty one in its pattern")),
                    literal => self.segments.push(decoded(literal)?),
                }
            }
            return Ok(());
        }
        // Several parameters in one segment are read as one.
        let name = inner.replace(['{', '}'], "-");
        let (plain, pattern) = name.split_once(':').unwrap_or((&name, ""));
        let greedy = plain.starts_with(['+', '*']) || plain.ends_with(['+', '*']) || plain.ends_with("...");
        self.greedy |= greedy || [".*", ".+", "path"].contains(&pattern);
        self.parameter(before, plain, after)
    }

    fn parameter(&mut self, before: &str, called: &str, after: &str) -> Result<(), String> {
        let safe = |c: char| if c.is_ascii_alphanumeric() || c == '_' { c } else { '-' };
        let name: String = called.chars().map(safe).collect();
        let name = name.split('-').filter(|part| !part.is_empty()).collect::<Vec<_>>().join("-");
        if name.is_empty() {
            return Err(format!("{called:?} is no name for a parameter"));
        }
        let mut own = name.clone();
        let mut count = 1;
        while self.called.iter().any(|(known, _)| *known == own) {
            count += 1;
            own = format!("{name}-{count}");
        }
        self.segments.push(format!("{}{{{own}}}{}", decoded(before)?, decoded(after)?));
        self.called.push((own, called.to_owned()));
        Ok(())
    }

    fn written(self) -> Option<Written> {
        let text = format!("/{}", self.segments.join("/"));
        Some(Written { segments: pattern(&text)?, text, called: self.called })
    }
}

/// A text as it is once decoded, if a request may have it in a segment.
fn decoded(text: &str) -> Result<String, String> {
    let wrong = || format!("{text:?} cannot stand in a path that is decoded once");
    let plain = percent_encoding::percent_decode_str(text).decode_utf8().map_err(|_| wrong())?;
    let refused = |c: char| c.is_control() || "%/\\;{}?#".contains(c);
    if plain.contains(refused) || plain == "." || plain == ".." || !unicode_normalization::is_nfc(&plain) {
        return Err(wrong());
    }
    Ok(plain.into_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("/berths/{berth}", Some("/berths/{berth}"), "")]
    #[case("/berths/{berth}/berths/{berth}", Some("/berths/{berth}/berths/{berth-2}"), "")]
    #[case("/pens/{a}-{b}.{form}", Some("/pens/{a-b-form}"), "")]
    #[case("/tides/{tide.id}", Some("/tides/{tide-id}"), "")]
    #[case("/tides/{tide:[0-9/]+}/x", Some("/tides/{tide}/x"), "")]
    #[case("/v1/{name=racks/*/shelves/*}:move", Some("/v1/racks/{racks}/shelves/{shelves}:move"), "")]
    #[case("/quay%20side", Some("/quay side"), "")]
    #[case("/", Some("/"), "")]
    #[case("/berths/", Some("/berths/"), "")]
    #[case("/files/{path+}", Some("/files/{path}"), "several segments")]
    #[case("/berths?list=1", Some("/berths"), "behind the path")]
    #[case("/#move", Some("/"), "behind the path")]
    #[case("/a%2Fb", None, "cannot stand")]
    #[case("/a;b=1", None, "cannot stand")]
    #[case("/a//b", None, "empty segment")]
    #[case("/a/{", None, "do not match")]
    #[case("/a/{}", None, "do not match")]
    #[case("/a/}{", None, "do not match")]
    #[case("berths", None, "does not begin")]
    #[case("/a/../b", None, "cannot stand")]
    fn a_path_as_a_route_writes_it(#[case] path: &str, #[case] text: Option<&str>, #[case] why: &str) {
        let (written, left) = match read("GET", path) {
            Read::Whole(written) => (Some(written), None),
            Read::Left(left, written) => (written, Some(left)),
        };
        assert_eq!(written.map(|written| written.text).as_deref(), text);
        assert!(
            left.as_ref().map_or(why.is_empty(), |left| !why.is_empty() && left.why.contains(why)),
            "{left:?}"
        );
    }
}
