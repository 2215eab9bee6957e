//! Rehearsal files, as TOML.

use super::guarantee::{Claimed, Guarantee, Written};
use super::table;
use super::{Active, Case, Rehearsal, Sample, SampleGrant};
use crate::charter::syntax::{Field, Fields, TomlFile, condition_in, parse_file};
use crate::decide::bearer::Token;
use crate::decide::question::Request;
use crate::names::split_entity;
use crate::register::line::{EntityLine, grant};
use crate::source::{At, Finding, Sources, Span};
use crate::value::parse_time;
use jiff::Timestamp;
use serde_json::{Map, Value};
use std::collections::HashMap;

/// Reads the files of a rehearsal; they share their samples.
pub fn read(sources: &Sources, findings: &mut Vec<Finding>) -> Rehearsal {
    let mut reader = Reader { findings, made: Rehearsal::default(), first: HashMap::new() };
    for (index, file) in sources.files().iter().enumerate() {
        let number = u32::try_from(index).unwrap_or(u32::MAX);
        if file.path.ends_with(".csv") {
            reader.made.cases.extend(table::cases(number, &file.text, reader.findings));
            continue;
        }
        let toml = parse_file(number, file, reader.findings);
        reader.file(&toml);
    }
    reader.made
}

struct Reader<'f> {
    findings: &'f mut Vec<Finding>,
    made: Rehearsal,
    first: HashMap<String, Span>,
}

impl Reader<'_> {
    fn error(&mut self, code: &'static str, span: Span, message: impl Into<String>) {
        self.findings.push(Finding::error(code, span, message));
    }

    fn file(&mut self, file: &TomlFile<'_>) {
        let root = Fields::root(file);
        root.only(&["rehearsal", "sample", "case", "guarantee"], self.findings);
        for (key, field) in root.entries() {
            match key.value.as_str() {
                "rehearsal" => self.head(&key, &field),
                "sample" => self.samples(&field),
                "case" => {
                    for fields in field.tables("[[case]]", self.findings) {
                        self.case(&fields);
                    }
                }
                "guarantee" => {
                    for fields in field.tables("[[guarantee]]", self.findings) {
                        self.guarantee(&fields);
                    }
                }
                _ => {}
            }
        }
    }

    /// Notes a name's place, and complains if it has one already.
    fn define(&mut self, what: &str, span: Span) {
        match self.first.get(what) {
            Some(first) => {
                let finding = Finding::error("defined-twice", span, format!("{what} is defined twice"));
                self.findings.push(finding.beside(*first, "first defined here"));
            }
            None => {
                self.first.insert(what.to_owned(), span);
            }
        }
    }

    fn head(&mut self, key: &At<String>, field: &Field<'_, '_>) {
        self.define("[rehearsal]", key.span);
        let Some(fields) = field.table("[rehearsal]", self.findings) else { return };
        fields.only(&["stand-alone", "now"], self.findings);
        let alone = fields.get("stand-alone").and_then(|alone| alone.boolean(self.findings));
        self.made.over = alone == Some(false);
        self.made.now = self.moment(&fields, "now");
    }

    fn moment(&mut self, fields: &Fields<'_, '_>, key: &str) -> Option<Timestamp> {
        let field = fields.get(key)?;
        let value = field.json(self.findings)?;
        let moment = value.as_str().and_then(parse_time);
        if moment.is_none() {
            self.error(
                "wrong-shape",
                field.span(),
                format!("{key} is a moment such as 2026-11-23T09:00:00Z"),
            );
        }
        moment
    }

    fn samples(&mut self, field: &Field<'_, '_>) {
        let Some(fields) = field.table("[sample]", self.findings) else { return };
        for (name, inner) in fields.entries() {
            self.define(&format!("the sample {}", name.value), name.span);
            if let Err(message) = split_entity(&name.value) {
                self.error("not-an-entity", name.span, message);
                continue;
            }
            if let Some(sample) = inner.table(&format!("[sample.{:?}]", name.value), self.findings) {
                self.sample(&name, &sample);
            }
        }
    }

    fn sample(&mut self, name: &At<String>, fields: &Fields<'_, '_>) {
        let known = [&EntityLine::KEYS[..], &["groups", "grants"]].concat();
        fields.only(&known, self.findings);
        let said: Map<String, Value> = fields
            .entries()
            .filter(|(key, _)| key.value != "groups" && key.value != "grants")
            .filter_map(|(key, field)| Some((key.value, field.json(self.findings)?)))
            .collect();
        let mut line = EntityLine { name: name.value.clone(), ..EntityLine::default() };
        if let Err(message) = line.fill(&said) {
            self.error("sample", name.span, message.to_string());
        }
        let groups = fields.get("groups").map(|field| field.list(self.findings)).unwrap_or_default();
        let groups =
            groups.iter().filter_map(|item| item.text(self.findings)).map(|text| text.value).collect();
        let mut grants = Vec::new();
        for item in fields.get("grants").map(|field| field.list(self.findings)).unwrap_or_default() {
            let Some(mut value) = item.json(self.findings) else { continue };
            let active = value.as_object_mut().and_then(|object| object.remove("active"));
            let active = active.and_then(|active| self.active(name, &active, item.span()));
            if let Some(object) = value.as_object_mut() {
                object.insert("to".to_owned(), name.value.as_str().into());
            }
            match grant(&value) {
                Ok(line) => grants.push(At::new(SampleGrant { line, active }, item.span())),
                Err(message) => self.error("sample", item.span(), message.to_string()),
            }
        }
        self.made.samples.push(Sample { line, groups, grants, span: name.span });
    }

    /// `active = true`, or `active = { session = "…" }`.
    fn active(&mut self, name: &At<String>, value: &Value, span: Span) -> Option<Active> {
        if name.value.starts_with("group:") {
            let message = "a group's grant is activated for one member at a time; give it to a user";
            self.error("sample", span, message);
            return None;
        }
        let session = value.as_object().filter(|object| object.len() == 1);
        match (value, session.and_then(|object| object.get("session")).and_then(Value::as_str)) {
            (Value::Bool(true), _) => Some(Active::Always),
            (Value::Bool(false), _) => None,
            (_, Some(session)) => Some(Active::In(session.to_owned())),
            _ => {
                self.error("sample", span, "active is true, or { session = \"ID\" }");
                None
            }
        }
    }

    fn case(&mut self, fields: &Fields<'_, '_>) {
        const KEYS: [&str; 11] = [
            "name",
            "as",
            "token",
            "on",
            "may",
            "may-not",
            "context",
            "now",
            "session",
            "properties",
            "because",
        ];
        fields.only(&KEYS, self.findings);
        let text =
            |reader: &mut Self, key: &str| fields.get(key).and_then(|field| field.text(reader.findings));
        let (name, subject, resource) = (text(self, "name"), text(self, "as"), text(self, "on"));
        let token = fields.get("token").and_then(|field| self.token(&field));
        for (key, missing) in
            [("name", name.is_none()), ("as, or token", subject.is_none() && fields.get("token").is_none())]
        {
            if missing {
                self.error("missing-key", fields.span, format!("a case needs {key}"));
            }
        }
        if let (Some(subject), Some(_)) = (&subject, &token) {
            self.error("wrong-shape", subject.span, "the token says who asks: write as, or token");
        }
        let subject = subject.or_else(|| token.as_ref().map(|token| At::new(String::new(), token.span)));
        let (Some(name), Some(subject)) = (name, subject) else { return };
        let list = |reader: &mut Self, key: &str| {
            fields.get(key).map(|field| field.texts(reader.findings)).unwrap_or_default()
        };
        let (may, may_not) = (list(self, "may"), list(self, "may-not"));
        if may.is_empty() && may_not.is_empty() {
            self.error("missing-key", fields.span, "a case says what its subject may or may-not");
        }
        let because = text(self, "because");
        if let Some(because) = &because {
            self.reason(because);
        }
        let mut context = self.object(fields.get("context"));
        if let Some(session) = text(self, "session") {
            context.insert("session".to_owned(), session.value.into());
        }
        let (of_subject, of_resource) = self.properties(fields.get("properties"));
        let request = Request {
            subject: subject.value,
            permission: String::new(),
            resource: resource.as_ref().map(|resource| resource.value.clone()),
            of_subject,
            of_resource,
            context,
            ..Request::default()
        };
        let case = Case {
            token,
            now: self.moment(fields, "now"),
            name: name.value,
            request,
            may,
            may_not,
            because,
            subject_span: subject.span,
            resource_span: resource.map_or(fields.span, |resource| resource.span),
            span: name.span,
        };
        self.made.cases.push(case);
    }

    /// `token = { issuer = "KEY", claims = { … } }`, taken as verified.
    fn token(&mut self, field: &Field<'_, '_>) -> Option<At<Token>> {
        let fields = field.table("token", self.findings)?;
        fields.only(&["issuer", "claims"], self.findings);
        let Some(issuer) = fields.get("issuer").and_then(|field| field.text(self.findings)) else {
            self.error(
                "missing-key",
                fields.span,
                "a token needs an issuer: token = { issuer = \"KEY\", claims = { … } }",
            );
            return None;
        };
        let claims = self.object(fields.get("claims"));
        Some(At::new(Token { issuer: issuer.value, claims }, issuer.span))
    }

    fn guarantee(&mut self, fields: &Fields<'_, '_>) {
        fields.only(&["name", "never", "always", "alike", "when", "assume"], self.findings);
        let Some(name) = fields.get("name").and_then(|field| field.text(self.findings)) else {
            self.error("missing-key", fields.span, "a guarantee needs a name");
            return;
        };
        let mut one = |key: &str| fields.get(key).and_then(|field| field.text(self.findings));
        let (never, always) = (one("never"), one("always"));
        let alike = fields.get("alike").map(|field| (field.span(), field.texts(self.findings)));
        let mut claims: Vec<Claimed> =
            never.map(Claimed::Never).into_iter().chain(always.map(Claimed::Always)).collect();
        if let Some((span, texts)) = alike {
            match <[At<String>; 2]>::try_from(texts) {
                Ok([a, b]) => claims.push(Claimed::Alike(a, b)),
                Err(_) => self.error("wrong-shape", span, "alike names two permissions of one type"),
            }
        }
        let [claim] = &claims[..] else {
            if claims.len() > 1 || !["never", "always", "alike"].iter().any(|key| fields.get(key).is_some()) {
                let message = "a guarantee says one of never, always and alike";
                self.error("missing-key", fields.span, message);
            }
            return;
        };
        let mut condition = |key: &str| {
            let field = fields.get(key)?;
            let text = field.text(&mut Vec::new())?.value;
            Some(At::new(Written { expr: condition_in(&field, self.findings)?, text }, field.span()))
        };
        let (when, assume) = (condition("when"), condition("assume"));
        let guarantee = Guarantee { name: name.value, claim: claim.clone(), when, assume, span: name.span };
        self.made.guarantees.push(guarantee);
    }

    fn reason(&mut self, because: &At<String>) {
        const CODES: [&str; 10] = [
            "unknown-type",
            "unknown-permission",
            "subject-suspended",
            "subject-deleted",
            "resource-deleted",
            "separated",
            "undetermined",
            "condition",
            "standby",
            "no-role",
        ];
        let code = because.value.as_str();
        if !CODES.contains(&code) && !code.starts_with("rule:") && !code.starts_with("role:") {
            let finding = Finding::error("unknown-word", because.span, format!("unknown reason {code:?}"));
            let help = format!("write rule:KEY, role:KEY, or one of: {}", CODES.join(", "));
            self.findings.push(finding.meant(code, CODES).help(help));
        }
    }

    fn object(&mut self, field: Option<Field<'_, '_>>) -> Map<String, Value> {
        match field.and_then(|field| field.json(self.findings).map(|value| (field.span(), value))) {
            Some((_, Value::Object(object))) => object,
            Some((span, _)) => {
                self.error("wrong-shape", span, "this must be a table");
                Map::new()
            }
            None => Map::new(),
        }
    }

    fn properties(&mut self, field: Option<Field<'_, '_>>) -> (Map<String, Value>, Map<String, Value>) {
        let Some(fields) = field.and_then(|field| field.table("properties", self.findings)) else {
            return Default::default();
        };
        fields.only(&["subject", "resource"], self.findings);
        (self.object(fields.get("subject")), self.object(fields.get("resource")))
    }
}
