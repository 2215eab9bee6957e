//! An OpenAPI document as a list of operations. References are followed within the document only.

use super::{MAX_DOCUMENT_BYTES, MAX_OPERATIONS};
use crate::source::MAX_FILE_BYTES;
use serde_json::{Map, Value};

/// The methods a path may have, as OpenAPI writes them.
const METHODS: [&str; 8] = ["get", "put", "post", "delete", "options", "head", "patch", "trace"];
/// Longest chain of references.
const MAX_REFERENCES: usize = 16;

/// What is read of a document.
#[derive(Debug, Default)]
pub struct Document {
    pub title: String,
    pub operations: Vec<Operation>,
    /// What could not be read, and why.
    pub unread: Vec<String>,
    /// Names of vendor extensions met, which say nothing here.
    pub extensions: Vec<String>,
}

/// One method of one path.
#[derive(Clone, Debug)]
pub struct Operation {
    /// Its path, with parameters in braces.
    pub path: String,
    /// In capitals.
    pub method: String,
    /// Its `operationId`.
    pub id: Option<String>,
    /// Its summary, or nothing.
    pub summary: String,
    /// Whether the document says that nobody needs to be signed in.
    pub open: bool,
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
    /// So many operations make no one file.
    #[error(
        "a draft of {operations} operations is larger than a charter's file may be ({MAX_FILE_BYTES} bytes): \
         split the document"
    )]
    TooMany {
        /// How many it has.
        operations: usize,
    },
}

impl Document {
    /// Reads JSON or YAML.
    pub fn read(text: &str) -> Result<Document, NotImported> {
        if text.len() > MAX_DOCUMENT_BYTES {
            return Err(NotImported::TooLarge);
        }
        let root: Value = if text.trim_start().starts_with('{') {
            serde_json::from_str(text)
                .map_err(|error| NotImported::Broken { form: "JSON", why: error.to_string() })?
        } else {
            serde_saphyr::from_str(text).map_err(|error| {
                let told = error.to_string();
                NotImported::Broken { form: "YAML", why: told.lines().next().unwrap_or_default().to_owned() }
            })?
        };
        let version = root["openapi"].as_str().unwrap_or_default();
        if !version.starts_with("3.0") && !version.starts_with("3.1") {
            return Err(match version {
                "" => NotImported::NoOpenApi,
                other => NotImported::Version(other.to_owned()),
            });
        }
        let mut document = Document {
            title: root["info"]["title"].as_str().unwrap_or_default().to_owned(),
            ..Document::default()
        };
        let empty = Map::new();
        let paths = root["paths"].as_object().unwrap_or(&empty);
        let signed_in = root["security"].as_array().is_none_or(|all| !all.is_empty());
        for (path, item) in paths {
            if path.starts_with("x-") {
                document.extension(path);
                continue;
            }
            match resolved(&root, item) {
                Ok(item) => document.path(path, item, signed_in),
                Err(why) => document.unread.push(format!("{path}: {why}")),
            }
        }
        for (key, what) in [("webhooks", "webhook"), ("components", "callback")] {
            let names = match key {
                "webhooks" => root[key].as_object(),
                _ => root[key]["callbacks"].as_object(),
            };
            for name in names.into_iter().flatten().map(|(name, _)| name) {
                let why = "it is a call the application makes, not one it answers";
                document.unread.push(format!("the {what} {name}: {why}"));
            }
        }
        Ok(document)
    }

    fn extension(&mut self, name: &str) {
        if !self.extensions.iter().any(|known| known == name) {
            self.extensions.push(name.to_owned());
        }
    }

    fn path(&mut self, path: &str, item: &Value, signed_in: bool) {
        let Some(item) = item.as_object() else {
            self.unread.push(format!("{path}: it is no path item"));
            return;
        };
        for (key, operation) in item {
            if key.starts_with("x-") {
                self.extension(key);
            } else if METHODS.contains(&key.as_str()) {
                self.operation(path, key, operation, signed_in);
            } else if !matches!(key.as_str(), "$ref" | "summary" | "description" | "servers" | "parameters") {
                self.unread.push(format!("{path}: {key:?} is no method"));
            }
        }
    }

    fn operation(&mut self, path: &str, method: &str, operation: &Value, signed_in: bool) {
        let method = method.to_uppercase();
        let Some(object) = operation.as_object() else {
            self.unread.push(format!("{method} {path}: it is no operation"));
            return;
        };
        if self.operations.len() >= MAX_OPERATIONS {
            self.unread.push(format!("{method} {path}: there are more than {MAX_OPERATIONS} operations"));
            return;
        }
        object.keys().filter(|key| key.starts_with("x-")).for_each(|key| self.extension(key));
        let text = |key: &str| object.get(key).and_then(Value::as_str);
        let security = object.get("security").and_then(Value::as_array);
        self.operations.push(Operation {
            path: path.to_owned(),
            method,
            id: text("operationId").map(str::to_owned),
            summary: text("summary").or_else(|| text("description")).unwrap_or_default().to_owned(),
            // An empty requirement among several makes signing in optional.
            open: security.map_or(!signed_in, |all| {
                all.is_empty() || all.iter().any(|one| one.as_object().is_some_and(Map::is_empty))
            }),
        });
    }
}

/// What a value stands for, references followed.
fn resolved<'v>(root: &'v Value, value: &'v Value) -> Result<&'v Value, String> {
    let mut at = value;
    for _ in 0..MAX_REFERENCES {
        let Some(reference) = at.get("$ref").and_then(Value::as_str) else { return Ok(at) };
        let Some(pointer) = reference.strip_prefix('#') else {
            return Err(format!("{reference:?} leads out of the document"));
        };
        at = root.pointer(pointer).ok_or_else(|| format!("{reference:?} leads nowhere"))?;
    }
    Err(format!("more than {MAX_REFERENCES} references lead to it, or in a circle"))
}
