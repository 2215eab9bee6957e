//! Two worlds: registers that differ only in what a caller may not read. Whatever the caller asks or
//! writes, both answer the same to the byte, but for moments and positions, and look as often.
//!
//! What a decision about one's own rests on is told with it, so it is the same in both: attributes of
//! those who may be asked about. Names of users, services and tenants are known to everybody, and names
//! that are taken are taken in the whole workspace: so a caller writes only names that nobody else has.

use crate::support::{Answer, Server, Service};
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// Pairs of worlds, unless `OSTROG_WORLDS` says otherwise, and requests that each is asked.
const WORLDS: u64 = 4;
const REQUESTS: usize = 400;

/// A generator of our own, so that a pair of worlds is one number.
struct Dice(u64);

impl Dice {
    fn below(&mut self, bound: usize) -> usize {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut mixed = self.0;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        usize::try_from((mixed ^ (mixed >> 31)) >> 33).unwrap_or(0) % bound
    }

    fn one<'t, T: ?Sized>(&mut self, of: &[&'t T]) -> &'t T {
        of[self.below(of.len())]
    }

    fn often(&mut self) -> bool {
        self.below(3) > 0
    }

    fn seldom(&mut self) -> bool {
        self.below(4) == 0
    }
}

/// What both worlds have.
fn common(dice: &mut Dice) -> Vec<Value> {
    let mut lines = vec![
        json!({ "entity": "tenant:northline", "attributes": { "plan": "full" } }),
        json!({ "entity": "tenant:hallfjord" }),
        json!({ "entity": "user:free" }),
        json!({ "entity": "service:feed" }),
    ];
    for at in 0..4 {
        let clearance = dice.below(4);
        lines.push(json!({ "entity": format!("user:n{at}"), "tenants": ["northline"], "attributes": { "clearance": clearance } }));
    }
    lines
        .push(json!({ "entity": "group:n-watch", "tenant": "northline", "members": ["user:n0", "user:n1"] }));
    lines.push(
        json!({ "entity": "group:n-crew", "tenant": "northline", "members": ["user:n2", "group:n-watch"] }),
    );
    for at in 0..4 {
        let (length, master) = (dice.below(300), dice.below(4));
        lines.push(json!({
            "entity": format!("vessel:n{at}"), "within": "tenant:northline", "attributes": { "length": length },
            "relations": { "master": format!("user:n{master}"), "crew": ["group:n-crew", "user:n3"] },
        }));
        lines.push(json!({ "entity": format!("hold:n{at}"), "within": format!("vessel:n{at}") }));
        lines.push(json!({ "entity": format!("declaration:n{at}"), "within": "tenant:northline" }));
    }
    let places = ["tenant:northline", "vessel:n0", "vessel:n1"];
    for at in 0..6 {
        let to = format!("user:n{}", dice.below(4));
        let role = dice.one(&["hand", "master", "broker", "pilot"]);
        let until = format!("2040-01-01T00:00:{at:02}Z");
        lines.push(json!({ "grant": { "id": format!("n-{at}"), "role": role, "to": to, "at": dice.one(&places), "until": until } }));
    }
    lines.push(
        json!({ "grant": { "id": "n-group", "role": "master", "to": "group:n-watch", "at": "vessel:n2" } }),
    );
    lines.push(json!({ "tenant-role": { "tenant": "tenant:northline", "key": "lookout", "permissions": ["vessel:view"] } }));
    lines
}

/// What only one world has, of the other line and of nobody.
fn foreign(dice: &mut Dice) -> Vec<Value> {
    let mut lines = Vec::new();
    let vessels = dice.below(6);
    for at in 0..vessels {
        let length = dice.below(300);
        lines.push(json!({
            "entity": format!("vessel:h{at}"), "within": "tenant:hallfjord", "attributes": { "length": length },
            "relations": { "crew": ["user:free", "user:n0"], "tug": "vessel:n0" },
        }));
        if dice.often() {
            lines.push(json!({ "entity": format!("hold:h{at}"), "within": format!("vessel:h{at}") }));
        }
        lines.push(json!({ "entity": format!("declaration:h{at}"), "within": "tenant:hallfjord" }));
    }
    for at in 0..dice.below(4) {
        let members = if dice.often() { json!(["user:free", "user:n1"]) } else { json!([]) };
        lines.push(json!({ "entity": format!("group:h{at}"), "tenant": "hallfjord", "members": members }));
        lines.push(json!({ "grant": { "id": format!("hg-{at}"), "role": "hand", "to": format!("group:h{at}"), "at": "tenant:hallfjord" } }));
    }
    for at in 0..dice.below(4) {
        let role = dice.one(&["hand", "master", "pilot"]);
        let to = dice.one(&["user:n0", "user:n1", "user:free"]);
        let until = format!("2040-02-01T00:00:{at:02}Z");
        lines.push(json!({ "grant": { "id": format!("h-{at}"), "role": role, "to": to, "at": "tenant:hallfjord", "until": until } }));
    }
    if dice.often() {
        lines.push(json!({ "entity": "user:free", "tenants": ["hallfjord"] }));
    }
    if dice.often() {
        lines.push(json!({ "entity": "user:n3", "merge": true, "tenants": ["northline", "hallfjord"] }));
    }
    if dice.often() {
        lines.push(json!({ "tenant-role": { "tenant": "tenant:hallfjord", "key": "lookout", "permissions": ["vessel:view"] } }));
    }
    lines
}

/// What only one world has, of another application.
fn of_customs(dice: &mut Dice) -> Vec<Value> {
    let mut lines = Vec::new();
    for at in 0..dice.below(6) {
        lines.push(json!({ "entity": format!("declaration:c{at}"), "within": "tenant:northline" }));
        if dice.often() {
            lines.push(json!({ "grant": { "id": format!("c-{at}"), "role": "broker", "to": "user:n0", "at": format!("declaration:c{at}") } }));
        }
    }
    lines
}

/// Names: what both worlds have, what only one may have, and what nobody has.
const VESSELS: [&str; 8] =
    ["vessel:n0", "vessel:n1", "vessel:n2", "vessel:n3", "vessel:h0", "vessel:h1", "vessel:h4", "vessel:x"];
const OTHERS: [&str; 14] = [
    "hold:n0",
    "hold:h0",
    "hold:x",
    "declaration:n0",
    "declaration:h0",
    "declaration:c0",
    "declaration:c3",
    "declaration:x",
    "group:n-watch",
    "group:n-crew",
    "group:h0",
    "group:h1",
    "group:x",
    "tenant:northline",
];
const SUBJECTS: [&str; 9] = [
    "user:n0",
    "user:n1",
    "user:n2",
    "user:n3",
    "user:free",
    "service:feed",
    "group:n-crew",
    "group:h0",
    "user:x",
];
const PERMISSIONS: [&str; 5] =
    ["vessel:view", "vessel:moor", "hold:open", "declaration:release", "vessel:sink"];
const GRANTS: [&str; 8] = ["n-0", "n-1", "n-2", "n-group", "h-0", "h-1", "hg-0", "x-1"];

/// One request of an operator of the northern line.
fn of_operator(dice: &mut Dice, round: usize) -> (String, Option<Value>) {
    let any = |dice: &mut Dice| if dice.often() { dice.one(&VESSELS) } else { dice.one(&OTHERS) };
    let place = |dice: &mut Dice| {
        if dice.seldom() { dice.one(&["everywhere", "tenant:hallfjord"]) } else { any(dice) }
    };
    let page = |dice: &mut Dice| format!("limit={}", 1 + dice.below(5));
    match dice.below(26) {
        0 => (format!("GET /api/v1/entities/{}", any(dice)), None),
        1 => (format!("GET /api/v1/entities/{}", dice.one(&SUBJECTS)), None),
        2 => (format!("GET /api/v1/entities/{}/around", any(dice)), None),
        3 => (
            format!(
                "GET /api/v1/entities/{}/members{}",
                dice.one(&["group:n-crew", "group:h0", "group:x"]),
                dice.one(&["", "?containing=n", "?containing=h"]),
            ),
            None,
        ),
        4 => {
            let by = dice.one(&[
                "",
                "prefix=vessel:",
                "containing=n",
                "containing=h",
                "brief=true",
                "prefix=group:",
                "after=vessel:h2",
                "after=vessel:n1",
            ]);
            let within = if dice.often() { String::new() } else { format!("&within={}", any(dice)) };
            (format!("GET /api/v1/entities?{by}&{}{within}", page(dice)), None)
        }
        5 => {
            let by = [
                format!("to={}", dice.one(&SUBJECTS)),
                format!("at={}", place(dice)),
                "role=hand".to_owned(),
                String::new(),
            ];
            (format!("GET /api/v1/grants?{}&{}", by[dice.below(4)], page(dice)), None)
        }
        6 => ("GET /api/v1/tenant-roles".to_owned(), None),
        7 => ("GET /api/v1/activations".to_owned(), None),
        8 => {
            let by = [format!("at={}", place(dice)), format!("by={}", dice.one(&SUBJECTS))];
            (format!("GET /api/v1/holdings?{}", by[dice.below(2)]), None)
        }
        9..13 => {
            let mut question = json!({
                "subject": dice.one(&SUBJECTS), "permission": dice.one(&PERMISSIONS), "resource": any(dice),
                "now": "2030-01-01T00:00:00Z", "would-take": dice.often(),
            });
            if dice.seldom() {
                let fact = dice.one(&[
                    "vessel:h0.length = 1",
                    "vessel:n0.length = 1",
                    "user:free.clearance = 3",
                    "user:free in group:h0",
                    "user:n0 in group:n-watch",
                    "vessel:h0.crew has user:n0",
                ]);
                question[dice.one(&["suppose", "without"])] = json!([fact]);
            }
            ("POST /api/v1/ask".to_owned(), Some(question))
        }
        13 => (
            "POST /api/v1/actions".to_owned(),
            Some(json!({ "subject": dice.one(&SUBJECTS), "resource": any(dice) })),
        ),
        14 => {
            let limit = 1 + dice.below(4);
            let after = if dice.often() { Value::Null } else { json!(dice.one(&VESSELS)) };
            (
                "POST /api/v1/reach".to_owned(),
                Some(
                    json!({ "subject": dice.one(&SUBJECTS), "permission": dice.one(&PERMISSIONS), "beside": { "limit": limit, "after": after } }),
                ),
            )
        }
        15 => {
            let beside = match dice.below(3) {
                0 => json!({ "through": dice.often() }),
                1 => json!({ "count": true }),
                _ => json!({ "limit": 1 + dice.below(3), "after": any(dice) }),
            };
            (
                "POST /api/v1/holders".to_owned(),
                Some(
                    json!({ "permission": dice.one(&PERMISSIONS), "resource": any(dice), "beside": beside }),
                ),
            )
        }
        16 => (
            "POST /api/v1/hints".to_owned(),
            Some(json!({ "subject": dice.one(&SUBJECTS), "beside": { "application": "quay" } })),
        ),
        17 => {
            let fresh = format!("vessel:new{}", dice.below(6));
            let mut line = json!({ "entity": fresh, "within": dice.one(&["tenant:northline", "tenant:hallfjord", "tenant:x"]) });
            if dice.often() {
                let target = dice.one(&VESSELS);
                line["relations"]["tug"] = json!(target);
            }
            if dice.often() {
                line["relations"]["crew"] = json!([dice.one(&[
                    "user:n0",
                    "user:free",
                    "group:n-crew",
                    "group:h0",
                    "group:x",
                    "user:x"
                ])]);
            }
            (format!("PUT /api/v1/entities/{fresh}"), Some(line))
        }
        18 => {
            let grant = json!({ "id": format!("w-{round}"), "role": dice.one(&["hand", "master", "northline/lookout", "hallfjord/lookout", "x/lookout"]), "to": dice.one(&SUBJECTS), "at": place(dice) });
            ("POST /api/v1/grants".to_owned(), Some(grant))
        }
        19 => (format!("DELETE /api/v1/grants/{}", dice.one(&GRANTS)), None),
        20 => {
            let set = dice.one(&[
                "vessel:h0.length = 7",
                "vessel:n0.length = 7",
                "vessel:x.length = 7",
                "group:h0 has user:n0",
                "user:n0 in group:h0",
                "user:n0 in group:n-watch",
            ]);
            ("POST /api/v1/facts".to_owned(), Some(json!({ "set": [set] })))
        }
        21 => (
            format!(
                "DELETE /api/v1/entities/{}",
                dice.one(&["vessel:new1", "vessel:h0", "vessel:h4", "group:h0", "vessel:x", "group:x"])
            ),
            None,
        ),
        22 => {
            let activation = json!({ "id": format!("a-{round}"), "grant": dice.one(&GRANTS), "subject": dice.one(&SUBJECTS), "reason": "fog", "from": "2035-01-01T00:00:00Z", "until": "2035-01-01T01:00:00Z" });
            ("POST /api/v1/activations".to_owned(), Some(activation))
        }
        23 => ("GET /api/v1/status".to_owned(), None),
        24 => {
            let role = json!({ "tenant": dice.one(&["tenant:northline", "tenant:hallfjord", "tenant:x"]), "key": dice.one(&["lookout", "pilot-mate"]), "permissions": ["vessel:view"] });
            ("PUT /api/v1/tenant-roles".to_owned(), Some(role))
        }
        _ => authzen(dice, &PERMISSIONS, any),
    }
}

/// One request of the quay's application.
fn of_application(dice: &mut Dice, round: usize) -> (String, Option<Value>) {
    let any = |dice: &mut Dice| {
        if dice.often() {
            dice.one(&VESSELS[..4])
        } else {
            dice.one(&[
                "declaration:n0",
                "declaration:c0",
                "declaration:c1",
                "declaration:x",
                "hold:n0",
                "hold:x",
            ])
        }
    };
    if dice.below(12) == 0 {
        let activation = json!({ "id": format!("a-{round}"), "grant": dice.one(&["n-0", "n-1", "n-2", "c-0", "c-1", "x"]), "subject": dice.one(&["user:n0", "user:n1"]), "session": "s", "reason": "fog", "from": "2035-01-01T00:00:00Z", "until": "2035-01-01T01:00:00Z" });
        return ("POST /api/v1/activations".to_owned(), Some(activation));
    }
    authzen(dice, &PERMISSIONS, any)
}

/// A question in the standard's shape, by whomever.
fn authzen(
    dice: &mut Dice,
    permissions: &[&str],
    resource: impl Fn(&mut Dice) -> &'static str,
) -> (String, Option<Value>) {
    let entity = |name: &str| {
        let (kind, id) = name.split_once(':').unwrap_or((name, ""));
        json!({ "type": kind, "id": id })
    };
    let named = resource(dice);
    let subject = entity(dice.one(&SUBJECTS));
    let action = json!({ "name": dice.one(permissions).split_once(':').map_or("", |(_, action)| action) });
    let mut body = json!({ "subject": subject, "action": action, "resource": entity(named) });
    if dice.often() {
        body["context"] = json!({ "explain": true });
    }
    match dice.below(8) {
        4 => {
            body["resource"] = json!({ "type": dice.one(&["vessel", "hold", "declaration", "nothing"]) });
            if dice.often() {
                body["columns"] = json!({ "table": "t", "id": "t.id", "columns": { "within": "t.within" } });
            }
            ("POST /access/v1/rows".to_owned(), Some(body))
        }
        5 => {
            body["application"] = json!("quay");
            ("POST /access/v1/affordances".to_owned(), Some(body))
        }
        0 => {
            let items: Vec<Value> = (0..3).map(|_| json!({ "resource": entity(resource(dice)) })).collect();
            body["evaluations"] = json!(items);
            ("POST /access/v1/evaluations".to_owned(), Some(body))
        }
        1 => {
            body["subject"] = json!({ "type": "user" });
            body["page"] = json!({ "limit": 1 + dice.below(3) });
            ("POST /access/v1/search/subject".to_owned(), Some(body))
        }
        2 => {
            body["resource"] = json!({ "type": dice.one(&["vessel", "hold", "declaration"]) });
            body["page"] = json!({ "limit": 1 + dice.below(3) });
            ("POST /access/v1/search/resource".to_owned(), Some(body))
        }
        3 => {
            body.as_object_mut().expect("an object").remove("action");
            ("POST /access/v1/search/action".to_owned(), Some(body))
        }
        _ => ("POST /access/v1/evaluation".to_owned(), Some(body)),
    }
}

/// An answer without what may differ: positions, and moments that are the call's own.
fn told(answer: &Answer) -> (u16, BTreeMap<String, String>, Value) {
    let own = ["ostrog-position", "ostrog-position-digest", "x-request-id", "content-length"];
    let headers = answer.headers.iter().filter(|(name, _)| !own.contains(&name.as_str()));
    let headers = headers
        .map(|(name, value)| (name.to_string(), String::from_utf8_lossy(value.as_bytes()).into_owned()));
    let mut body: Value = serde_json::from_slice(&answer.body).unwrap_or(Value::Null);
    strip(&mut body);
    (answer.status.as_u16(), headers.collect(), body)
}

fn strip(value: &mut Value) {
    match value {
        Value::Object(members) => {
            for own in ["position", "digest", "epoch", "started", "created-at", "now", "stale"] {
                members.remove(own);
            }
            // Of a place to go on at only the name: the rest is the position, and its seal.
            if let Some(Value::String(token)) = members.get_mut("next_token") {
                *token = token.split('.').nth(2).unwrap_or_default().to_owned();
            }
            members.values_mut().for_each(strip);
        }
        Value::Array(items) => items.iter_mut().for_each(strip),
        _ => {}
    }
}

/// The lines of a world: what is common in its order, and what is its own between.
fn world(dice: &mut Dice, common: &[Value], own: Vec<Value>) -> Vec<Value> {
    let (first, rest) = common.split_at(common.len() - 8);
    let mut lines = first.to_vec();
    let cut = dice.below(own.len() + 1);
    lines.extend_from_slice(&own[..cut]);
    lines.extend_from_slice(rest);
    lines.extend_from_slice(&own[cut..]);
    lines
}

fn worlds() -> std::ops::Range<u64> {
    0..std::env::var("OSTROG_WORLDS").ok().and_then(|text| text.parse().ok()).unwrap_or(WORLDS)
}

type Request = fn(&mut Dice, usize) -> (String, Option<Value>);

async fn compare(
    server: &std::sync::Arc<Server>,
    seed: u64,
    who: &str,
    requests: Request,
) -> BTreeMap<String, usize> {
    let mut dice = Dice(seed);
    let common = common(&mut dice);
    let mut pair = Vec::new();
    for side in 0..2 {
        let own = if who == "operator" { foreign(&mut dice) } else { of_customs(&mut dice) };
        let lines = world(&mut dice, &common, own);
        let service = Service::on(server, &format!("{who}{seed}-{side}"), &lines).await;
        let key = match who {
            "operator" => service.operator("register-editor", "tenant:northline").await,
            _ => service.application("quay").await,
        };
        pair.push((service, key));
    }
    let [(left, left_key), (right, right_key)] = &pair[..] else { panic!("two worlds") };
    let mut tally = BTreeMap::new();
    for round in 0..REQUESTS {
        let (call, body) = requests(&mut dice, round);
        let one = left.call(left_key, &call, body.as_ref()).await;
        let other = right.call(right_key, &call, body.as_ref()).await;
        let asked =
            || format!("seed {seed}, {round}: {call} {}\n{one}\n{other}", body.clone().unwrap_or_default());
        assert_eq!(told(&one), told(&other), "{}", asked());
        assert_eq!(one.looks, other.looks, "looked up: {}", asked());
        assert!(one.status != 500, "{}", asked());
        let path =
            call.split(['?']).next().unwrap_or_default().split('/').take(4).collect::<Vec<_>>().join("/");
        *tally.entry(format!("{path} {}", one.status.as_u16())).or_default() += 1;
    }
    left.close().await;
    right.close().await;
    tally
}

#[tokio::test(flavor = "multi_thread")]
async fn what_an_operator_may_not_read_makes_no_difference() {
    let server = Server::start().await;
    let mut met: BTreeMap<String, usize> = BTreeMap::new();
    for seed in worlds() {
        for (what, times) in compare(&server, seed, "operator", of_operator).await {
            *met.entry(what).or_default() += times;
        }
    }
    for what in [
        "GET /api/v1/entities 404",
        "GET /api/v1/entities 200",
        "POST /api/v1/ask 200",
        "POST /api/v1/ask 404",
        "PUT /api/v1/entities 200",
        "POST /api/v1/grants 200",
        "POST /api/v1/grants 422",
        "DELETE /api/v1/grants 200",
    ] {
        assert!(met.contains_key(what), "{what} never came up: {met:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_an_application_may_not_ask_about_makes_no_difference() {
    let server = Server::start().await;
    for seed in worlds() {
        let met = compare(&server, seed, "application", of_application).await;
        assert!(met.keys().any(|what| what.starts_with("POST /access/v1/search")), "{met:?}");
    }
}
