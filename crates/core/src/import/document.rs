//! An OpenAPI document as a list of operations. References are followed within the document only.

use super::{MAX_DOCUMENT_BYTES, MAX_OPERATIONS, words};
use crate::json;
use serde::de::DeserializeSeed as _;
use serde_json::{Map, Value};
use std::collections::{BTreeMap, BTreeSet};

/// The methods a path may have, as OpenAPI writes them.
const METHODS: [&str; 8] = ["get", "put", "post", "delete", "options", "head", "patch", "trace"];
/// Longest chain of references.
const MAX_REFERENCES: usize = 16;
/// Deepest nesting of a document: schemas of the trade go deeper than a question's JSON may.
const MAX_DEPTH: usize = 100;

/// Most ways in which the security of one operation may be met.
const MAX_WAYS: usize = 100;

/// What is read of a document.
#[derive(Debug, Default)]
pub struct Document {
    pub title: String,
    /// Where its paths begin, if that can be known.
    pub base: Base,
    pub operations: Vec<Operation>,
    /// What could not be read.
    pub left: Vec<Left>,
    /// Names of vendor extensions met, which say nothing here.
    pub extensions: BTreeSet<String>,
}

/// Where paths begin.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Base {
    /// At the root, as far as the document says.
    #[default]
    Unsaid,
    /// Behind this, which begins with a slash and does not end in one, or is empty.
    Known(String),
    /// It cannot be told.
    Unknown(String),
}

/// One method of one path.
#[derive(Clone, Debug)]
pub struct Operation {
    /// Its path, with parameters in braces, behind the base.
    pub path: String,
    /// In capitals.
    pub method: String,
    /// Its `operationId`.
    pub id: Option<String>,
    /// Its summary, or nothing.
    pub summary: String,
    /// Its first tag.
    pub tag: Option<String>,
    /// Who may call it, as the document says.
    pub security: Security,
    /// Parameters of its path that are the same nowhere else: UUIDs.
    pub unique: BTreeSet<String>,
}

impl Operation {
    /// Whether it is said to change nothing.
    pub fn reads(&self) -> bool {
        matches!(self.method.as_str(), "GET" | "HEAD" | "OPTIONS")
    }

    /// Its method and path.
    pub fn place(&self) -> String {
        format!("{} {}", self.method, self.path)
    }
}

/// A scope of a scheme.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Scope {
    pub scheme: String,
    pub name: String,
}

/// Who may call an operation, as the document says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Security {
    /// Anybody: it asks for nothing.
    Open {
        /// Whether it says so itself, and not the document for all.
        own: bool,
    },
    /// Anybody, but with a sign-in it may answer otherwise.
    Optional,
    /// Who is signed in.
    SignedIn,
    /// Who has all the scopes of one of these.
    Scoped(Vec<BTreeSet<Scope>>),
}

/// What becomes no route that lets anybody in, and why.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Left {
    /// Which.
    pub what: String,
    /// Why.
    pub why: String,
    /// Whether it is told apart from others by what a route does not look at: query, header or body.
    pub elsewhere: bool,
}

impl Left {
    pub fn new(what: impl Into<String>, why: impl Into<String>) -> Left {
        Left { what: what.into(), why: why.into(), elsewhere: false }
    }
}

impl std::fmt::Display for Left {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(out, "{}: {}", self.what, self.why)
    }
}

/// Why no draft can be made of a text.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NotImported {
    /// It is too large to be read.
    #[error("a document has at most {MAX_DOCUMENT_BYTES} bytes")]
    TooLarge,
    /// It is not of the form that it begins with.
    #[error("broken {form}: {why}")]
    Broken {
        /// JSON or YAML.
        form: &'static str,
        /// What is wrong.
        why: String,
    },
    /// It is something else.
    #[error("this is no OpenAPI document: it has no openapi = \"3.…\"")]
    NoOpenApi,
    /// It is of a version that is not known.
    #[error("this reads OpenAPI 3.0 and 3.1, not {0:?}")]
    Version(String),
    /// A part of it is of another kind than OpenAPI says.
    #[error("{what} is no {wanted}")]
    IsNo {
        /// Which part.
        what: String,
        /// What it would have to be.
        wanted: &'static str,
    },
    /// More operations than are mapped.
    #[error("a document has at most {MAX_OPERATIONS} operations, and this has more: split it")]
    TooMany,
    /// The base is no beginning of a path.
    #[error("the base {0:?} is no beginning of a path: write /v1")]
    Base(String),
    /// What is there already cannot be read, or is not to be added to.
    #[error("{0}")]
    Beside(String),
}

impl Document {
    /// Reads JSON or YAML; paths begin behind the base, or where the document says.
    pub fn read(text: &str, base: Option<&str>) -> Result<Document, NotImported> {
        if text.len() > MAX_DOCUMENT_BYTES {
            return Err(NotImported::TooLarge);
        }
        let root = value(text)?;
        version(&root)?;
        let no = |what: &str, wanted| NotImported::IsNo { what: what.to_owned(), wanted };
        let mut document = Document {
            title: root["info"]["title"].as_str().unwrap_or_default().to_owned(),
            base: match base {
                Some(base) => Base::Known(given(base)?),
                None => servers(root.get("servers")),
            },
            ..Document::default()
        };
        let empty = Map::new();
        let paths = match root.get("paths") {
            None => &empty,
            Some(paths) => paths.as_object().ok_or_else(|| no("paths", "object"))?,
        };
        let reader = Reader { root: &root, fixed: base.is_some() };
        for (path, item) in paths {
            if path.starts_with("x-") {
                document.extensions.insert(path.clone());
                continue;
            }
            match reader.resolved(item) {
                Ok(item) => reader.path(&mut document, path, item)?,
                Err(why) => document.left.push(Left::new(path, why)),
            }
        }
        for (key, what) in [("webhooks", "webhook"), ("components", "callback")] {
            let names = match key {
                "webhooks" => root[key].as_object(),
                _ => root[key]["callbacks"].as_object(),
            };
            for name in names.into_iter().flatten().map(|(name, _)| name) {
                let why = "it is a call the application makes, not one it answers";
                document.left.push(Left::new(format!("the {what} {name}"), why));
            }
        }
        Ok(document)
    }
}

/// A text as JSON or YAML, neither with a key twice.
fn value(text: &str) -> Result<Value, NotImported> {
    if text.trim_start().starts_with('{') {
        let mut reader = serde_json::Deserializer::from_str(text);
        let read = json::nested_to(MAX_DEPTH).deserialize(&mut reader).and_then(|value| {
            reader.end()?;
            Ok(value)
        });
        return read.map_err(|error| NotImported::Broken { form: "JSON", why: error.to_string() });
    }
    let broken = |why: String| {
        let why = why.lines().next().unwrap_or_default().to_owned();
        NotImported::Broken { form: "YAML", why }
    };
    // A tag may make anything of a value: `!!binary`, `!include`.
    if text.contains('!') {
        for event in granit_parser::Parser::new_from_str(text) {
            let (event, span) = event.map_err(|error| broken(error.to_string()))?;
            if let Some(tag) = event.tag() {
                let line = span.start.line();
                return Err(broken(format!(
                    "line {line}: the tag {} says nothing here; take it out",
                    tag.original()
                )));
            }
        }
    }
    let budget = serde_saphyr::budget! {
        max_depth: MAX_DEPTH,
        max_events: 16_000_000,
        max_nodes: 8_000_000,
        max_documents: 1,
    };
    let options = serde_saphyr::options! { budget: budget };
    serde_saphyr::with_deserializer_from_str_with_options(text, options, |reader| {
        json::nested_to(MAX_DEPTH).deserialize(reader)
    })
    .map_err(|error| broken(error.to_string()))
}

fn version(root: &Value) -> Result<(), NotImported> {
    let version = match &root["openapi"] {
        Value::Null => return Err(NotImported::NoOpenApi),
        Value::String(text) => text.clone(),
        other => other.to_string(),
    };
    let mut parts = version.splitn(3, '.');
    let minor = (parts.next(), parts.next());
    let patch = parts.next().unwrap_or_default();
    if matches!(minor, (Some("3"), Some("0" | "1")))
        && patch.starts_with(|first: char| first.is_ascii_digit())
    {
        return Ok(());
    }
    Err(NotImported::Version(version))
}

/// A base that somebody says.
fn given(base: &str) -> Result<String, NotImported> {
    let base = base.trim_end_matches('/');
    match base.is_empty() || crate::charter::check::pattern(base).is_some() && !base.contains('{') {
        true => Ok(base.to_owned()),
        false => Err(NotImported::Base(base.to_owned())),
    }
}

/// The base that a list of servers says.
fn servers(all: Option<&Value>) -> Base {
    let Some(Value::Array(all)) = all else { return Base::Unsaid };
    let mut bases: BTreeSet<Result<String, String>> = BTreeSet::new();
    for server in all {
        let url = server["url"].as_str().unwrap_or_default();
        let path = match url.split_once("://") {
            Some((_, rest)) => rest.find('/').map_or("", |at| &rest[at..]),
            None if url.starts_with('/') => url,
            None => {
                bases.insert(Err(format!("{url:?} does not say where paths begin")));
                continue;
            }
        };
        let path = path.split(['?', '#']).next().unwrap_or_default();
        bases.insert(given(path).map_err(|_| format!("{url:?} says it with what is not known here")));
    }
    let mut bases = bases.into_iter();
    match (bases.next(), bases.next()) {
        (None, _) => Base::Unsaid,
        (Some(Ok(base)), None) => Base::Known(base),
        (Some(Err(why)), None) => Base::Unknown(why),
        (Some(_), Some(_)) => Base::Unknown("its servers begin paths in several ways".to_owned()),
    }
}

/// What is the same for every operation of a document.
struct Reader<'d> {
    root: &'d Value,
    /// Whether the base was said by somebody, so that no server counts.
    fixed: bool,
}

impl<'d> Reader<'d> {
    /// What a value stands for, references followed.
    fn resolved(&self, value: &'d Value) -> Result<&'d Value, String> {
        let mut at = value;
        for _ in 0..MAX_REFERENCES {
            let Some(reference) = at.get("$ref").and_then(Value::as_str) else { return Ok(at) };
            let Some(pointer) = reference.strip_prefix('#') else {
                return Err(format!("{reference:?} leads out of the document"));
            };
            at = self.root.pointer(pointer).ok_or_else(|| format!("{reference:?} leads nowhere"))?;
        }
        Err(format!("more than {MAX_REFERENCES} references lead to it, or in a circle"))
    }

    fn path(&self, document: &mut Document, path: &str, item: &'d Value) -> Result<(), NotImported> {
        let Some(object) = item.as_object() else {
            document.left.push(Left::new(path, "it is no path item"));
            return Ok(());
        };
        let shared = self.unique(object);
        let base = self.base(&document.base, object);
        for (key, operation) in object {
            if key.starts_with("x-") {
                if !document.extensions.contains(key) {
                    document.extensions.insert(key.clone());
                }
            } else if METHODS.contains(&key.as_str()) {
                self.operation(document, (path, key), operation, &shared, &base)?;
            } else if !matches!(key.as_str(), "$ref" | "summary" | "description" | "servers" | "parameters") {
                document.left.push(Left::new(path, format!("{key:?} is no method")));
            }
        }
        Ok(())
    }

    /// The base of what may have servers of its own.
    fn base(&self, outer: &Base, object: &Map<String, Value>) -> Base {
        match object.get("servers") {
            Some(own) if !self.fixed => servers(Some(own)),
            _ => outer.clone(),
        }
    }

    fn operation(
        &self,
        document: &mut Document,
        (path, method): (&str, &str),
        operation: &'d Value,
        shared: &BTreeSet<String>,
        base: &Base,
    ) -> Result<(), NotImported> {
        let method = method.to_uppercase();
        let place = format!("{method} {path}");
        let Some(object) = operation.as_object() else {
            document.left.push(Left::new(place, "it is no operation"));
            return Ok(());
        };
        if document.operations.len() >= MAX_OPERATIONS {
            return Err(NotImported::TooMany);
        }
        for key in object.keys().filter(|key| key.starts_with("x-")) {
            if !document.extensions.contains(key) {
                document.extensions.insert(key.clone());
            }
        }
        let id = match object.get("operationId") {
            None => None,
            Some(Value::String(id)) => Some(id.clone()),
            Some(_) => {
                return Err(NotImported::IsNo {
                    what: format!("the operationId of {place}"),
                    wanted: "text",
                });
            }
        };
        let security = match security(object.get("security"), self.root.get("security")) {
            Ok(security) => security,
            Err(why) => {
                document.left.push(Left::new(place, why));
                return Ok(());
            }
        };
        let begins = match self.base(base, object) {
            Base::Known(base) => base,
            Base::Unsaid | Base::Unknown(_) => String::new(),
        };
        let text = |key: &str| object.get(key).and_then(Value::as_str).filter(|text| !text.trim().is_empty());
        let mut unique = shared.clone();
        unique.extend(self.unique(object));
        document.operations.push(Operation {
            path: format!("{begins}{path}"),
            method,
            id,
            summary: words::plain(text("summary").or_else(|| text("description")).unwrap_or_default()),
            tag: object.get("tags").and_then(|tags| tags.get(0)?.as_str()).map(str::to_owned),
            security,
            unique,
        });
        Ok(())
    }

    /// The path's parameters whose values are UUIDs.
    fn unique(&self, object: &'d Map<String, Value>) -> BTreeSet<String> {
        let all = object.get("parameters").and_then(Value::as_array);
        let resolved = all.into_iter().flatten().filter_map(|one| self.resolved(one).ok());
        let of_path = resolved.filter(|one| one["in"] == "path");
        of_path
            .filter(|one| self.resolved(&one["schema"]).is_ok_and(|schema| schema["format"] == "uuid"))
            .filter_map(|one| one["name"].as_str().map(str::to_owned))
            .collect()
    }
}

/// Who may call an operation: as it says itself, or as the document says for all.
fn security(own: Option<&Value>, of_all: Option<&Value>) -> Result<Security, String> {
    let Some(said) = own.or(of_all) else { return Ok(Security::SignedIn) };
    let all = said.as_array().ok_or("its security is no list")?;
    if all.is_empty() {
        return Ok(Security::Open { own: own.is_some() });
    }
    if all.len() > MAX_WAYS {
        return Err(format!("its security has more than {MAX_WAYS} ways"));
    }
    let mut ways: Vec<BTreeSet<Scope>> = Vec::new();
    for one in all {
        let schemes = one.as_object().ok_or("its security is no list of schemes")?;
        if schemes.is_empty() {
            return Ok(Security::Optional);
        }
        let mut scopes = BTreeSet::new();
        for (scheme, names) in schemes {
            for name in names.as_array().ok_or("its security has a scheme without a list")? {
                let name = name.as_str().ok_or("its security has a scope that is no text")?;
                scopes.insert(Scope { scheme: scheme.clone(), name: name.to_owned() });
            }
        }
        ways.push(scopes);
    }
    // One that needs no scope lets in whoever is signed in.
    if ways.iter().any(BTreeSet::is_empty) {
        return Ok(Security::SignedIn);
    }
    ways.sort();
    ways.dedup();
    let least: Vec<_> = ways
        .iter()
        .filter(|way| !ways.iter().any(|other| other != *way && other.is_subset(way)))
        .cloned()
        .collect();
    Ok(Security::Scoped(least))
}

/// How many operations stand behind each operation id that stands more than once.
pub fn twice(operations: &[Operation]) -> BTreeMap<&str, usize> {
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    for id in operations.iter().filter_map(|operation| operation.id.as_deref()) {
        *counts.entry(id).or_default() += 1;
    }
    counts.retain(|_, count| *count > 1);
    counts
}
