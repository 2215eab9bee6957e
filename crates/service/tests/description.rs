//! The document that the service publishes: the console's types are made from it, and it is whole.

use serde_json::{Map, Value};
use std::collections::BTreeSet;
use std::path::Path;

#[test]
fn the_console_is_built_against_what_the_service_publishes() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console/openapi.json");
    let mut now = ostrog_service::description().to_pretty_json().expect("can be written");
    now.push('\n');
    if std::env::var_os("OSTROG_RENEW").is_some() {
        std::fs::write(&path, &now).expect("can be written");
    }
    let kept = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(
        kept == now,
        "console/openapi.json is not what the service publishes; renew it with \
         OSTROG_RENEW=1 cargo test -p ostrog-service --test description, and then npm run types"
    );
}

fn description() -> Value {
    serde_json::from_str(&ostrog_service::description().to_json().expect("can be written")).expect("JSON")
}

fn operations(description: &Value) -> Vec<(String, &Value)> {
    let paths = description["paths"].as_object().expect("paths");
    let all = paths.iter().flat_map(|(path, item)| {
        let methods = item.as_object().expect("methods").iter();
        methods.map(move |(method, operation)| (format!("{method} {path}"), operation))
    });
    all.collect()
}

/// What is wrong with a schema, and with those inside it.
fn flaws(at: &str, schema: &Value, known: &Map<String, Value>, wrong: &mut Vec<String>) {
    match schema {
        Value::Object(members) => {
            if let Some(of) = members.get("$ref").and_then(Value::as_str) {
                let name = of.trim_start_matches("#/components/schemas/");
                if !known.contains_key(name) {
                    wrong.push(format!("{at}: {of} is not described"));
                }
            }
            if members.get("items").is_some_and(Value::is_boolean) {
                wrong.push(format!("{at}: items is no schema"));
            }
            for (name, inner) in members {
                flaws(&format!("{at}/{name}"), inner, known, wrong);
            }
        }
        Value::Array(items) => {
            for (number, inner) in items.iter().enumerate() {
                flaws(&format!("{at}/{number}"), inner, known, wrong);
            }
        }
        _ => {}
    }
}

#[test]
fn the_description_is_whole_and_says_each_thing_once() {
    let description = description();
    let known = description["components"]["schemas"].as_object().expect("schemas");
    let mut wrong = Vec::new();
    flaws("#", &description, known, &mut wrong);
    for (name, schema) in known {
        let properties = schema["properties"].as_object();
        for (property, of) in properties.into_iter().flatten() {
            let is_said = |of: &Value| of["description"].as_str().is_some_and(|text| !text.is_empty());
            let parts = of["oneOf"].as_array();
            if of.get("$ref").is_none() && !is_said(of) && !parts.into_iter().flatten().any(is_said) {
                wrong.push(format!("{name}.{property} has no description"));
            }
        }
    }
    let mut ids = BTreeSet::new();
    for (name, operation) in operations(&description) {
        let responses = operation["responses"].as_object().expect("responses");
        if !ids.insert(operation["operationId"].as_str().unwrap_or_default()) {
            wrong.push(format!("{name}: its id is another's too, or none"));
        }
        if operation["summary"].as_str().or(operation["description"].as_str()).is_none_or(str::is_empty) {
            wrong.push(format!("{name} is not described"));
        }
        if !responses.keys().any(|status| status.starts_with('2')) {
            wrong.push(format!("{name} never answers"));
        }
        for status in ["400", "405", "408", "413", "429", "500", "503"] {
            let content = &responses.get(status).unwrap_or(&Value::Null)["content"];
            if content.get("application/problem+json").is_none() {
                wrong.push(format!("{name}: {status} is no problem"));
            }
        }
        let parameters = operation["parameters"].as_array();
        let declared: BTreeSet<&str> = parameters
            .into_iter()
            .flatten()
            .filter(|parameter| parameter["in"] == "path")
            .filter_map(|parameter| parameter["name"].as_str())
            .collect();
        let path = name.split(' ').nth(1).unwrap_or_default();
        let parts: BTreeSet<&str> =
            path.split('/').filter_map(|part| part.strip_prefix('{')?.strip_suffix('}')).collect();
        if declared != parts {
            wrong.push(format!("{name} declares {declared:?}, and has {parts:?}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    let changes = &description["paths"]["/api/v1/changes"]["get"]["responses"]["200"]["content"];
    assert!(changes.get("text/event-stream").is_some() && changes.get("application/json").is_some());
    let headers = &description["paths"]["/access/v1/evaluation"]["post"]["responses"]["200"]["headers"];
    for header in ["Ostrog-Revision", "Ostrog-Position", "Ostrog-Position-Digest"] {
        assert!(headers.get(header).is_some(), "{header} is not described");
    }
}
