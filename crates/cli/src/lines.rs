//! Questions from a file, one a line: in the AuthZEN request shape, plus `now` and `session`.

use crate::exit::Failure;
use jiff::Timestamp;
use ostrog_core::json;
use ostrog_core::prelude::Request;
use ostrog_core::value::parse_time;
use ostrog_wire::access::EvaluationRequest;
use ostrog_wire::strict::{Object, from_value};
use serde::Deserialize;
use std::io::Read as _;
use std::path::Path;

/// A question of a file.
#[derive(Debug)]
pub struct Line {
    /// What is asked.
    pub request: Request,
    /// At which moment, if it says one.
    pub now: Option<Timestamp>,
    /// What it was answered with, if it says so: a line of a record.
    pub decision: Option<bool>,
}

/// A question, and at which moment if it says one.
pub type Asked = (Request, Option<Timestamp>);

/// What a line says beside the question.
#[derive(Deserialize)]
struct Beside {
    now: Option<String>,
    session: Option<String>,
    decision: Option<bool>,
}

/// The text of a file, or of standard input.
///
/// # Errors
/// If it cannot be read, or is not UTF-8: with the line.
pub fn read(file: &Path) -> Result<String, Failure> {
    let mut bytes = Vec::new();
    let read = match file == Path::new("-") {
        true => std::io::stdin().read_to_end(&mut bytes),
        false => std::fs::File::open(file).and_then(|mut open| open.read_to_end(&mut bytes)),
    };
    read.map_err(|error| Failure::input(format!("{}: {error}", file.display())))?;
    String::from_utf8(bytes).map_err(|error| {
        let at = error.utf8_error().valid_up_to();
        let before = &error.as_bytes()[..at];
        let line = before.iter().filter(|byte| **byte == b'\n').count() + 1;
        Failure::input(format!(
            "{}:{line}  the byte {:#04x} is not UTF-8",
            file.display(),
            error.as_bytes()[at]
        ))
    })
}

/// The lines that say something, with their numbers from 1.
pub fn numbered(text: &str) -> impl Iterator<Item = (usize, &str)> {
    text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty()).map(|(at, line)| (at + 1, line))
}

/// The questions of a file.
///
/// # Errors
/// The first line that is none.
pub fn questions(file: &Path) -> Result<Vec<Asked>, Failure> {
    Ok(lines(file)?.into_iter().map(|(_, line)| (line.request, line.now)).collect())
}

/// The questions of a record, and what each was answered with.
///
/// # Errors
/// The first line that is none, or does not say what it was answered with.
pub fn recorded(file: &Path) -> Result<(Vec<Asked>, Vec<bool>), Failure> {
    let answered = |(at, line): (usize, Line)| match line.decision {
        Some(decision) => Ok(((line.request, line.now), decision)),
        None => Err(Failure::input(format!(
            "{}:{at}  it does not say what it was answered with: add \"decision\": true or false",
            file.display()
        ))),
    };
    let all: Vec<_> = lines(file)?.into_iter().map(answered).collect::<Result<_, _>>()?;
    Ok(all.into_iter().unzip())
}

fn lines(file: &Path) -> Result<Vec<(usize, Line)>, Failure> {
    let read_one = |(at, line): (usize, &str)| match Line::read(line) {
        Ok(line) => Ok((at, line)),
        Err(message) => Err(Failure::input(format!("{}:{at}  {message}", file.display()))),
    };
    numbered(&read(file)?).map(read_one).collect()
}

impl Line {
    /// Reads a question.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn read(line: &str) -> Result<Line, String> {
        let value = json::parse(line.as_bytes())?;
        let wrong = |error: serde_json::Error| error.to_string();
        let beside: Beside = from_value(value.clone()).map_err(wrong)?;
        let asked: EvaluationRequest = from_value(value).map_err(wrong)?;
        let now = match beside.now {
            None => None,
            Some(text) => Some(parse_time(&text).ok_or_else(|| format!("now is no moment: {text:?}"))?),
        };
        let members = |object: Option<Object>| object.unwrap_or_default().0;
        let (subject, resource, action) = (asked.subject, asked.resource, asked.action.name);
        let kind = resource.kind;
        let mut context = members(asked.context);
        context.extend(beside.session.map(|session| ("session".to_owned(), session.into())));
        let request = Request {
            subject: match (subject.kind.as_str(), subject.id) {
                ("anonymous", _) => "anonymous".to_owned(),
                (kind, Some(id)) => format!("{kind}:{id}"),
                (_, None) => return Err("the subject has no id".to_owned()),
            },
            permission: if action.contains(':') { action } else { format!("{kind}:{action}") },
            resource: resource.id.map(|id| format!("{kind}:{id}")),
            of_subject: members(subject.properties),
            of_resource: members(resource.properties),
            context,
            ..Request::default()
        };
        Ok(Line { request, now, decision: beside.decision })
    }
}
