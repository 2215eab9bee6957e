//! Cases written as a table: CSV with the columns subject, permission, resource and expected.

use super::Case;
use crate::decide::question::Request;
use crate::source::{At, Finding, Span};

const COLUMNS: [&str; 4] = ["subject", "permission", "resource", "expected"];

/// The cases of a table, one a line; `file` is its number among the sources.
pub fn cases(file: u32, text: &str, findings: &mut Vec<Finding>) -> Vec<Case> {
    let mut reader =
        csv::ReaderBuilder::new().trim(csv::Trim::All).comment(Some(b'#')).from_reader(text.as_bytes());
    let head = reader.headers().cloned().unwrap_or_default();
    if head.iter().ne(COLUMNS) {
        let message = format!("the first line of a table of cases is: {}", COLUMNS.join(","));
        findings.push(Finding::error(
            "wrong-shape",
            Span::new(file, 0..text.lines().next().map_or(0, str::len)),
            message,
        ));
        return Vec::new();
    }
    let mut found = Vec::new();
    for record in reader.records() {
        match record {
            Ok(record) => {
                let start = record.position().map_or(0, |at| usize::try_from(at.byte()).unwrap_or(0));
                let span = line_at(file, text, start);
                found.extend(case(&record, span, findings));
            }
            Err(error) => {
                let start = error.position().map_or(0, |at| usize::try_from(at.byte()).unwrap_or(0));
                let message = "this line does not have four columns: subject, permission, resource, expected";
                findings.push(Finding::error("wrong-shape", Span::new(file, start..start), message));
            }
        }
    }
    found
}

/// The first line from here on that is no remark and not empty.
fn line_at(file: u32, text: &str, mut start: usize) -> Span {
    for line in text.get(start..).unwrap_or_default().split_inclusive('\n') {
        let said = line.trim_end();
        if !said.is_empty() && !said.starts_with('#') {
            return Span::new(file, start..start + said.len());
        }
        start += line.len();
    }
    Span::new(file, start..start)
}

fn case(record: &csv::StringRecord, span: Span, findings: &mut Vec<Finding>) -> Option<Case> {
    let [subject, permission, resource, expected] = [0, 1, 2, 3].map(|at| record.get(at).unwrap_or_default());
    let may = match expected {
        "may" | "allowed" | "yes" => true,
        "may-not" | "denied" | "no" => false,
        _ => {
            let message = format!("expected is may or may-not, not {expected:?}");
            findings.push(Finding::error("unknown-word", span, message));
            return None;
        }
    };
    let on = if resource.is_empty() { String::new() } else { format!(" on {resource}") };
    let permission = At::new(permission.to_owned(), span);
    let (may, may_not) = if may { (vec![permission], vec![]) } else { (vec![], vec![permission]) };
    let word = if may.is_empty() { "may not" } else { "may" };
    let name = format!("{subject} {word} {}{on}", record.get(1).unwrap_or_default());
    let request = Request {
        subject: subject.to_owned(),
        resource: (!resource.is_empty()).then(|| resource.to_owned()),
        ..Request::default()
    };
    Some(Case {
        name,
        request,
        token: None,
        may,
        may_not,
        now: None,
        because: None,
        subject_span: span,
        resource_span: span,
        span,
    })
}
