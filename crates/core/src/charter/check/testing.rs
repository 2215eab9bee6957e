//! How findings are tested: the expectation stands as a comment under the text it is about.

use crate::charter;
use crate::source::{Severity, Sources};

/// What every charter of these tests begins with: nothing can be said against it.
const START: &str = r#"
[charter]
name = "A quay"
format = 1
[application.quay]
[resource.vessel]
application = "quay"
within = "tenant"
actions = { view = "", moor = "" }
[resource.vessel.attributes]
flag = "text"
held = { type = "boolean", default = false }
state = { type = "text", values = ["in", "out"], default = "out" }
load = { type = "integer", from = "request" }
[resource.vessel.relations]
agent = "user"
[subject.user.attributes]
rank = "integer"
[context]
zone = "text"
[role.hand]
held-by = ["user", "service"]
permissions = ["vessel:view", "vessel:moor"]
[[role.hand.clause]]
permissions = ["vessel:view"]
when = "context.zone == 'quay'"
"#;

/// Checks a charter whose text marks what is found: under the line, carets below the place and
/// then how the message begins.
///
/// ```text
/// [role.idle]
/// #     ^^^^ the role "idle" gives nothing
/// ```
#[track_caller]
fn finds(code: &str, severity: Severity, text: &str) {
    let text = format!("{START}{text}");
    let sources = Sources::single("a.toml", &text);
    let reading = charter::read(&sources);
    let mut expected = Vec::new();
    let mut above = (0, "");
    for (at, line) in text.lines().enumerate() {
        let marked = line.strip_prefix('#').and_then(|rest| {
            let start = rest.find('^').filter(|start| rest[..*start].trim().is_empty())?;
            let carets = rest[start..].chars().take_while(|c| *c == '^').count();
            Some((start + 2, rest[start + carets..].trim().to_owned()))
        });
        match marked {
            Some((column, message)) => expected.push((above.0, column, message)),
            None => above = (at + 1, line),
        }
    }
    let all: Vec<String> = reading.findings.iter().map(|finding| sources.render(finding)).collect();
    let found: Vec<_> = reading.findings.iter().filter(|finding| finding.code == code).collect();
    assert_eq!(found.len(), expected.len(), "{}", all.join("\n"));
    for (finding, (line, column, message)) in found.iter().zip(expected) {
        let place = sources.place(finding.span);
        assert_eq!((place.line, place.column), (line, column), "{}", all.join("\n"));
        assert!(
            finding.message.starts_with(&message),
            "{message:?} is not how this begins: {}",
            finding.message
        );
        assert_eq!(finding.severity, severity);
    }
}

/// As [`finds`], for errors.
#[track_caller]
pub fn refuses(code: &str, text: &str) {
    finds(code, Severity::Error, text);
}

/// As [`finds`], for doubts.
#[track_caller]
pub fn doubts(code: &str, text: &str) {
    finds(code, Severity::Warning, text);
}

#[test]
fn nothing_is_said_against_the_start() {
    let reading = charter::read(&Sources::single("a.toml", START));
    assert_eq!(reading.findings, []);
}
