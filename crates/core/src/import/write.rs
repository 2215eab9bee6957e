//! The draft as text, each guess with its reason beside it.

use super::Draft;
use super::document::Document;
use super::guess::{Guessed, Target, Type};
use std::collections::BTreeSet;
use std::fmt::Write as _;

/// Writes the file.
pub fn write(document: &Document, guessed: &Guessed, application: &str) -> Draft {
    let mut unmapped: Vec<String> = document.unread.clone();
    unmapped.extend(guessed.unmapped.iter().cloned());
    let mut out = String::new();
    let title = if document.title.is_empty() { application } else { &document.title };
    let _ = writeln!(
        out,
        "# A draft made from an OpenAPI document: {}.\n# Read every line before you rely on it. What was guessed says why.",
        one_line(title)
    );
    if !guessed.prefix.is_empty() {
        let _ = writeln!(out, "# Every path begins with /{}, which names nothing.", guessed.prefix.join("/"));
    }
    if !document.extensions.is_empty() {
        let names: Vec<String> = document.extensions.iter().take(20).map(|name| one_line(name)).collect();
        let _ = writeln!(out, "# Vendor extensions say nothing here: {}.", names.join(", "));
    }
    if !unmapped.is_empty() {
        let _ = writeln!(out, "#\n# Not mapped, and so refused by every route check:");
        for line in &unmapped {
            let _ = writeln!(out, "#   {}", one_line(line));
        }
    }
    let _ =
        writeln!(out, "\n[application.{application}]\nname = {}\n\n# -- what is protected --", quoted(title));
    for (key, of) in &guessed.types {
        kind(&mut out, application, key, of, guessed);
    }
    roles(&mut out, application, guessed);
    let _ = writeln!(out, "\n# -- which request needs what --");
    for route in &guessed.routes {
        let _ = writeln!(
            out,
            "\n# {}\n[[route]]\napplication = {}\nmethod = {}\npath = {}",
            one_line(&route.why),
            quoted(application),
            quoted(&route.method),
            exact(&route.path)
        );
        let Some((kind, action)) = &route.needs else {
            let _ = writeln!(out, "open = true");
            continue;
        };
        let _ = writeln!(out, "needs = [{}]", quoted(&format!("{kind}:{action}")));
        let resource = match &route.target {
            Target::Open => continue,
            Target::Named(parameter) => exact(&format!("{kind}:{{{parameter}}}")),
            Target::New(Some((outer, parameter))) if outer != kind => format!(
                "{{ new = {}, within = {} }}",
                quoted(kind),
                exact(&format!("{outer}:{{{parameter}}}"))
            ),
            Target::New(_) => format!("{{ new = {} }}", quoted(kind)),
            Target::Any => format!("{{ any = {} }}", quoted(kind)),
        };
        let _ = writeln!(out, "resource = {resource}");
    }
    Draft { text: out, operations: document.operations.len(), routes: guessed.routes.len(), unmapped }
}

fn kind(out: &mut String, application: &str, key: &str, of: &Type, guessed: &Guessed) {
    let _ = writeln!(out, "\n# from /{}", one_line(&of.segment));
    let _ = writeln!(out, "[resource.{key}]\napplication = {}", quoted(application));
    // What lies within itself in a circle of types cannot be told from paths.
    let outers: Vec<(&String, &String)> = of
        .within
        .iter()
        .filter(|(outer, _)| !guessed.types.get(*outer).is_some_and(|other| other.within.contains_key(key)))
        .collect();
    match outers.as_slice() {
        [] => {
            let path = of.root.as_deref().unwrap_or_default();
            let _ = writeln!(
                out,
                "within = \"tenant\"  # a guess: {} names nothing around it; take it out if it belongs to no tenant",
                one_line(path)
            );
        }
        [(outer, path)] => {
            let _ = writeln!(out, "within = {}  # a guess from {}", quoted(outer), one_line(path));
        }
        many => {
            let names: Vec<String> = many.iter().map(|(outer, _)| quoted(outer)).collect();
            let _ = writeln!(out, "within = [{}]  # a guess from several paths", names.join(", "));
        }
    }
    if of.actions.is_empty() {
        return;
    }
    let _ = writeln!(out, "\n[resource.{key}.actions]");
    for (action, guess) in &of.actions {
        let _ = writeln!(out, "{action} = {}  # {}", quoted(&guess.description), one_line(&guess.from));
    }
}

fn roles(out: &mut String, application: &str, guessed: &Guessed) {
    let mut reading: BTreeSet<String> = BTreeSet::new();
    let mut changing: BTreeSet<String> = BTreeSet::new();
    let mut all: BTreeSet<String> = BTreeSet::new();
    for (kind, of) in &guessed.types {
        for (action, guess) in &of.actions {
            let permission = format!("{kind}:{action}");
            match (guess.reads, action.starts_with("remove")) {
                (true, _) => reading.insert(permission),
                (false, false) => changing.insert(permission),
                (false, true) => all.insert(permission),
            };
        }
    }
    let _ = writeln!(out, "\n# -- roles to start from --");
    let mut before: Option<String> = None;
    for (suffix, name, why, permissions) in [
        ("read", "Reads", "what GET and HEAD ask for", reading),
        ("change", "Reads and changes", "the rest, but for what removes", changing),
        ("all", "Does everything", "what removes, too", all),
    ] {
        if permissions.is_empty() {
            continue;
        }
        let key = format!("{application}-{suffix}");
        let _ = writeln!(out, "\n# a guess: {why}\n[role.{key}]\nname = {}", quoted(name));
        if let Some(before) = &before {
            let _ = writeln!(out, "includes = [{}]", quoted(before));
        }
        let _ = writeln!(out, "permissions = [");
        for permission in permissions {
            let _ = writeln!(out, "    {},", quoted(&permission));
        }
        let _ = writeln!(out, "]");
        before = Some(key);
    }
}

/// What must stand as it is, as a TOML text.
fn exact(text: &str) -> String {
    toml::Value::from(text).to_string()
}

/// What people read, as a TOML text: on one line, and not without end.
fn quoted(text: &str) -> String {
    exact(&one_line(text))
}

/// Without line breaks or anything a comment could not hold.
fn one_line(text: &str) -> String {
    text.chars().map(|c| if c.is_control() { ' ' } else { c }).take(300).collect::<String>().trim().to_owned()
}
