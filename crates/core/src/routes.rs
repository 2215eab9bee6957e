//! Which route a request takes, and what that comes to for who makes it.
//!
//! A path is read in one way only: what two programs behind each other could read differently is refused.

use crate::charter::check::pattern;
use crate::charter::model::{Model, Need, Needs, Route, RouteTarget, Segment};
use crate::decide::question::{Malformed, Request};
use crate::decide::reach::{Reaching, reach};
use crate::decide::{Engine, decide, with_scratch};
use jiff::Timestamp;
use unicode_normalization::is_nfc;

pub use crate::charter::check::MAX_SEGMENTS;

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

/// A route that a request takes, with what its parameters are.
#[derive(Clone, Debug)]
pub struct Taken<'m> {
    /// The route.
    pub route: &'m Route,
    values: Vec<(&'m str, String)>,
}

/// The route of an application that a request takes. HEAD takes one of HEAD's and GET's together.
pub fn taken<'m>(model: &'m Model, application: &str, method: &str, path: &Path) -> Option<Taken<'m>> {
    let application = model.applications.iter().position(|one| one.key == application)?;
    let fits = |route: &&Route| {
        route.application == application
            && (route.method == method || (method == "HEAD" && route.method == "GET"))
            && values(route, path).is_some()
    };
    let all = model.routes.iter().filter(fits);
    let route = all.min_by(|a, b| {
        let own = |route: &Route| route.method != method;
        a.precedence(b).then_with(|| own(a).cmp(&own(b)))
    })?;
    let values = values(route, path)?;
    Some(Taken { route, values })
}

/// The route into which every request to an operation falls, if no route that is more literal takes it: of the
/// application, for a method and a path with parameters in braces.
pub fn route_of<'m>(model: &'m Model, application: &str, method: &str, path: &str) -> Option<&'m Route> {
    let application = model.applications.iter().position(|one| one.key == application)?;
    let segments = pattern(path)?;
    let covers = |route: &&Route| {
        let mut pairs = segments.iter().zip(&route.segments);
        route.application == application
            && (route.method == method || (method == "HEAD" && route.method == "GET"))
            && route.segments.len() == segments.len()
            && pairs.all(|(asked, segment)| asked.lies_in(segment))
    };
    let all = model.routes.iter().filter(covers);
    all.min_by(|a, b| a.precedence(b).then_with(|| (a.method != method).cmp(&(b.method != method))))
}

/// What a route's parameters are for a path, if it matches.
fn values<'m>(route: &'m Route, path: &Path) -> Option<Vec<(&'m str, String)>> {
    if route.segments.len() != path.segments.len() {
        return None;
    }
    let mut all = Vec::new();
    for (segment, text) in route.segments.iter().zip(&path.segments) {
        match segment {
            Segment::Literal(literal) if literal == text => {}
            Segment::Literal(_) => return None,
            Segment::Parameter(parameter) => {
                all.push((parameter.name.as_str(), parameter.value(text)?.to_owned()));
            }
        }
    }
    Some(all)
}

/// What a request comes to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// It needs nothing.
    Open,
    /// Whoever asks is refused.
    Refused,
    /// All that is needed is allowed.
    Allowed,
    /// Something that is needed is denied: by this reason code, or because what it names is not registered
    /// (`not-registered`), or because looking for any took too long (`over-budget`).
    Denied(String),
}

/// One thing that was asked for a request.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Asked {
    /// The permission.
    pub permission: String,
    /// What it is about, in words.
    pub about: String,
    /// Whether it is allowed.
    pub allowed: bool,
    /// The reason code.
    pub reason: String,
}

impl Taken<'_> {
    /// Asks for all that the route needs, as the request says who asks; `go_on` is asked while any resource is
    /// looked for.
    ///
    /// Costs a decision for each permission; of any one, those of a search until one is found.
    ///
    /// # Errors
    /// If the request makes no sense.
    pub fn ask(
        &self,
        engine: Engine<'_>,
        request: &Request,
        now: Timestamp,
        go_on: &mut dyn FnMut() -> bool,
    ) -> Result<(Outcome, Vec<Asked>), Malformed> {
        let needs = match &self.route.needs {
            Needs::Open => return Ok((Outcome::Open, Vec::new())),
            Needs::Refused => return Ok((Outcome::Refused, Vec::new())),
            Needs::All(needs) => needs,
        };
        let mut asked = Vec::new();
        for need in needs {
            self.need(engine, need, request, now, go_on, &mut asked)?;
            if let Some(denied) = asked.iter().find(|one: &&Asked| !one.allowed) {
                return Ok((Outcome::Denied(denied.reason.clone()), asked));
            }
        }
        Ok((Outcome::Allowed, asked))
    }

    fn need(
        &self,
        engine: Engine<'_>,
        need: &Need,
        request: &Request,
        now: Timestamp,
        go_on: &mut dyn FnMut() -> bool,
        asked: &mut Vec<Asked>,
    ) -> Result<(), Malformed> {
        let model = engine.policy.model();
        let values: Vec<(&str, &str)> =
            self.values.iter().map(|(name, value)| (*name, value.as_str())).collect();
        let named = need.target.template().map(|template| template.named(model, &values));
        let mut request = Request { resource: None, ..request.clone() };
        let texts = need.permissions.iter().map(|id| model.permissions[id.index()].text.clone());
        let mut tell = |permission: &str, about: &str, (allowed, reason): (bool, String)| {
            asked.push(Asked { permission: permission.to_owned(), about: about.to_owned(), allowed, reason });
        };
        match (&need.target, named) {
            (RouteTarget::Named(_), Some(name)) => {
                let is_registered = engine.register.registered(&name).is_some();
                if !is_registered && !self.route.unregistered {
                    let denied = (false, "not-registered".to_owned());
                    texts.for_each(|permission| tell(&permission, &name, denied.clone()));
                    return Ok(());
                }
                request.resource = Some(name.clone());
                for permission in texts {
                    request.permission = permission;
                    tell(&request.permission.clone(), &name, decided(engine, &request, now)?);
                }
            }
            (RouteTarget::Any(_), under) => {
                let all: Vec<String> = texts.collect();
                let about =
                    under.as_ref().map_or("any one".to_owned(), |name| format!("any one within {name}"));
                let found = any(engine, &all, under, &request, now, go_on)?;
                all.iter().for_each(|permission| tell(permission, &about, found.clone()));
            }
            (_, Some(outer)) if engine.register.registered(&outer).is_none() && !self.route.unregistered => {
                let about = format!("a new one within {outer}");
                texts.for_each(|permission| tell(&permission, &about, (false, "not-registered".to_owned())));
            }
            (_, outer) => {
                let about =
                    outer.as_ref().map_or("a new one".to_owned(), |name| format!("a new one within {name}"));
                request.of_resource.extend(outer.map(|name| ("within".to_owned(), name.into())));
                for permission in texts {
                    request.permission = permission;
                    tell(&request.permission.clone(), &about, decided(engine, &request, now)?);
                }
            }
        }
        Ok(())
    }
}

fn decided(engine: Engine<'_>, request: &Request, now: Timestamp) -> Result<(bool, String), Malformed> {
    let asked = request.resolve_quietly(engine, now)?;
    Ok(match &asked.question {
        Err(reason) => (false, reason.code(engine)),
        Ok(question) => {
            let decision = with_scratch(|scratch| decide(engine, question, scratch));
            (decision.allowed, decision.reason.code(engine))
        }
    })
}

/// Whether there is one registered resource for which all are allowed.
fn any(
    engine: Engine<'_>,
    permissions: &[String],
    under: Option<String>,
    request: &Request,
    now: Timestamp,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<(bool, String), Malformed> {
    let Some((first, rest)) = permissions.split_first() else { return Ok((false, "no-role".to_owned())) };
    if under.as_ref().is_some_and(|name| engine.register.registered(name).is_none()) {
        return Ok((false, "not-registered".to_owned()));
    }
    let request = Request { permission: first.clone(), ..request.clone() };
    // With one permission the first is enough; with more each that is found is asked for the others.
    let limit = rest.is_empty().then_some(1);
    let found = reach(engine, &request, now, &Reaching { under, after: None, limit }, go_on)?;
    for (id, reason) in &found.found {
        let mut all = true;
        for permission in rest {
            let resource = Some(engine.register.name(*id).to_owned());
            let other = Request { permission: permission.clone(), resource, ..request.clone() };
            all = all && decided(engine, &other, now)?.0;
        }
        if all {
            return Ok((true, reason.code(engine)));
        }
    }
    let left = found.next.is_some();
    Ok((false, if left { "over-budget" } else { "no-role" }.to_owned()))
}
