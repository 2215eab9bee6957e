//! The description of the API against the service: every call is made many times with what the
//! description allows and with what it does not, and only what it announces may come back.

mod support;

use serde_json::{Map, Value, json};
use std::collections::BTreeSet;
use support::{Service, folder};

struct Dice(u64);

impl Dice {
    fn below(&mut self, bound: usize) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        usize::try_from(self.0 >> 33).expect("64 bits") % bound
    }

    fn text(&mut self) -> String {
        const SOME: [&str; 16] = [
            "",
            "user:ines",
            "manifest:m-204",
            "manifest:release",
            "tenant:northline",
            "g-1",
            "D-1",
            "live",
            "customs",
            "a=b",
            "user:ines.clearance = 5",
            "2026-11-23T09:00:00Z",
            "\u{0}",
            "é💧",
            "../..",
            "-1",
        ];
        let at = self.below(SOME.len() + 1);
        SOME.get(at).map_or_else(|| "x".repeat(self.below(5_000)), |text| (*text).to_owned())
    }

    fn any(&mut self, depth: usize) -> Value {
        match self.below(if depth == 0 { 5 } else { 7 }) {
            0 => Value::Null,
            1 => json!(self.below(2) == 0),
            2 => json!(self.below(100) as i64 - 50),
            3 | 4 => json!(self.text()),
            5 => (0..self.below(4)).map(|_| self.any(depth - 1)).collect(),
            _ => Value::Object((0..self.below(4)).map(|_| (self.text(), self.any(depth - 1))).collect()),
        }
    }
}

struct Api {
    document: Value,
}

impl Api {
    fn resolve<'a>(&'a self, schema: &'a Value) -> &'a Value {
        match schema["$ref"].as_str() {
            Some(path) => self.document.pointer(path.trim_start_matches('#')).expect("is described"),
            None => schema,
        }
    }

    /// Something that fits a schema.
    fn fitting(&self, schema: &Value, dice: &mut Dice) -> Value {
        let schema = self.resolve(schema);
        if let Some(all) = schema["allOf"].as_array() {
            let parts = all.iter().filter_map(|part| self.fitting(part, dice).as_object().cloned());
            return Value::Object(parts.flatten().collect());
        }
        if let Some(one) = schema["oneOf"].as_array().or(schema["anyOf"].as_array()) {
            return self.fitting(&one[dice.below(one.len())], dice);
        }
        if let Some(values) = schema["enum"].as_array() {
            return values[dice.below(values.len())].clone();
        }
        let kind = match &schema["type"] {
            Value::Array(kinds) => kinds[dice.below(kinds.len())].as_str().unwrap_or("null"),
            kind => kind.as_str().unwrap_or("object"),
        };
        match kind {
            "null" => Value::Null,
            "boolean" => json!(dice.below(2) == 0),
            "integer" => json!(dice.below(2_000)),
            "number" => json!(dice.below(2_000) as f64 / 8.0),
            "string" => json!(dice.text()),
            "array" => (0..dice.below(4)).map(|_| self.fitting(&schema["items"], dice)).collect(),
            _ => {
                let required: BTreeSet<&str> =
                    schema["required"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
                let mut object = Map::new();
                for (name, property) in schema["properties"].as_object().into_iter().flatten() {
                    if required.contains(name.as_str()) || dice.below(2) == 0 {
                        object.insert(name.clone(), self.fitting(property, dice));
                    }
                }
                Value::Object(object)
            }
        }
    }

    /// A body that a schema surely does not allow, if the schema says anything.
    fn unfitting(&self, schema: &Value, dice: &mut Dice) -> Option<Value> {
        let resolved = self.resolve(schema);
        let properties = resolved["properties"].as_object()?;
        let mut body = self.fitting(schema, dice);
        let required = resolved["required"].as_array().cloned().unwrap_or_default();
        if let (0, Some(name)) = (dice.below(2), required.first().and_then(Value::as_str)) {
            body.as_object_mut()?.remove(name);
            return Some(body);
        }
        let texts = properties.iter().filter(|(_, property)| property["type"] == "string");
        let (name, _) = texts.into_iter().next()?;
        body[name] = json!([{ "not": "a text" }]);
        Some(body)
    }
}

/// What must be so of the document itself.
fn sound(api: &Api) {
    let document = &api.document;
    assert!(document["openapi"].as_str().is_some_and(|version| version.starts_with("3.1")));
    let mut names = BTreeSet::new();
    for (path, item) in document["paths"].as_object().expect("paths") {
        for (method, call) in item.as_object().expect("calls") {
            let name = call["operationId"].as_str().expect("a name");
            assert!(names.insert((path.clone(), name)), "{name} stands twice");
            let parameters = call["parameters"].as_array().cloned().unwrap_or_default();
            let declared: BTreeSet<&str> = parameters
                .iter()
                .filter(|parameter| parameter["in"] == "path")
                .filter_map(|parameter| parameter["name"].as_str())
                .collect();
            let used: BTreeSet<&str> =
                path.split('/').filter_map(|part| part.strip_prefix('{')?.strip_suffix('}')).collect();
            assert_eq!(declared, used, "{method} {path}");
            let responses = call["responses"].as_object().expect("responses");
            assert!(responses.keys().any(|status| status.starts_with('2')), "{method} {path}");
        }
    }
    let mut waiting = vec![document];
    while let Some(next) = waiting.pop() {
        if let Some(path) = next["$ref"].as_str() {
            assert!(document.pointer(path.trim_start_matches('#')).is_some(), "{path} leads nowhere");
        }
        match next {
            Value::Object(map) => waiting.extend(map.values()),
            Value::Array(items) => waiting.extend(items),
            _ => {}
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn only_what_is_described_comes_back() {
    const TIMES: usize = 60;
    let folder = folder();
    let service = Service::demo(folder.path());
    let api = Api { document: service.get("/api/v1/openapi.json").await.1 };
    sound(&api);
    let mut dice = Dice(3);
    let mut calls = 0;
    let mut accepted = 0;
    for (path, item) in api.document["paths"].as_object().expect("paths") {
        for (method, call) in item.as_object().expect("calls") {
            let described = call["responses"].as_object().expect("responses");
            let body = &call["requestBody"]["content"];
            let schema = &body["application/json"]["schema"];
            for at in 0..TIMES {
                // Half of the time what fits, else what does not, or anything at all.
                let (sent, wrong) = match at % 4 {
                    _ if body.is_null() => (None, false),
                    3 => (Some(dice.any(3)), false),
                    2 => match api.unfitting(schema, &mut dice) {
                        Some(body) => (Some(body), true),
                        None => (Some(dice.any(3)), false),
                    },
                    _ => (Some(api.fitting(schema, &mut dice)), false),
                };
                let mut address = reqwest::Url::parse(&service.url).expect("an address");
                {
                    let mut segments = address.path_segments_mut().expect("a path");
                    segments.clear();
                    for part in path.trim_start_matches('/').split('/') {
                        if part.starts_with('{') {
                            // An empty segment would be another path.
                            segments.push(
                                Some(dice.text()).filter(|text| !text.is_empty()).as_deref().unwrap_or("x"),
                            );
                        } else {
                            segments.push(part);
                        }
                    }
                }
                for parameter in call["parameters"].as_array().into_iter().flatten() {
                    if parameter["in"] == "query" && dice.below(3) == 0 {
                        let text = match api.fitting(&parameter["schema"], &mut dice) {
                            Value::String(text) => text,
                            other => other.to_string(),
                        };
                        address
                            .query_pairs_mut()
                            .append_pair(parameter["name"].as_str().expect("a name"), &text);
                    }
                }
                // The tests' own key and session stay.
                let method_of = method.to_uppercase().parse().expect("a method");
                let mut request =
                    service.http().request(method_of, address.clone()).bearer_auth(&service.operator);
                if let Some(sent) = &sent {
                    request = request.json(sent);
                }
                let response = request.send().await.expect("an answer");
                let status = response.status().as_u16();
                let media = response.headers().get("content-type").and_then(|media| media.to_str().ok());
                let media = media.unwrap_or_default().to_owned();
                let text = response.text().await.expect("a body");
                let shown = format!("{method} {address} {}: {status} {text}", sent.unwrap_or_default());
                let shown: String = shown.chars().take(1_500).collect();
                assert!(status < 500, "{shown}");
                assert!(described.contains_key(&status.to_string()), "not described: {shown}");
                assert!(!wrong || status >= 400, "accepted: {shown}");
                if status >= 400 {
                    assert_eq!(media, "application/problem+json", "{shown}");
                }
                calls += 1;
                accepted += usize::from(status < 300);
            }
        }
    }
    assert!(calls > 1_500 && accepted * 20 > calls, "{accepted} of {calls} were accepted");
    assert_eq!(service.get("/api/v1/status").await.0, 200, "it lives on");
}
