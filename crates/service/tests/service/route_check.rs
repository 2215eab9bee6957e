//! What a reverse proxy asks about each request.

use crate::support::{Answer, Service, request};
use crate::tokens::port_with;
use axum::body::Body;
use axum::http::Request;
use ostrog_core::routes::RouteTold;
use ostrog_wire::keys::{KeyMade, KeyShown};
use ostrog_wire::questions::AskedLately;
use ostrog_wire::release::{DifferenceGroup, ShadowShown};
use serde_json::{Value, json};

const ROUTES: &str = r#"
[context]
client = "address"
[role.guest]
permissions = ["vessel:view"]
given-to = "anyone"
when = "context.client in [address('10.0.0.0/8')]"
[[rule]]
key = "storm"
effect = "deny"
permissions = ["hold:open"]
when = "resource.within.length > 85"
message = "Nobody opens a hold of a long ship today."

[[route]]
application = "quay"
method = "GET"
path = "/vessels/{vessel}"
needs = ["vessel:view"]
resource = "vessel:{vessel}"
[[route]]
application = "quay"
method = "POST"
path = "/vessels/{vessel}:moor"
needs = ["vessel:moor"]
resource = "vessel:{vessel}"
[[route]]
application = "quay"
method = "GET"
path = "/vessels"
needs = ["vessel:moor"]
resource = { any = "vessel" }
[[route]]
application = "quay"
method = "PUT"
path = "/vessels/{vessel}/holds"
needs = ["hold:open"]
resource = { new = "hold", within = "vessel:{vessel}" }
[[route]]
application = "quay"
method = "GET"
path = "/tides"
open = true
[[route]]
application = "quay"
method = "GET"
path = "/vessels/all"
refuse = true
[[route]]
application = "customs"
method = "GET"
path = "/tides"
refuse = true
"#;

/// A key of a proxy.
async fn proxy(service: &Service, owner: &str, of: Value) -> String {
    let made = service.post(owner, "/api/v1/keys", &json!({ "name": "a proxy", "proxy": of })).await;
    assert_eq!(made.status, 200, "{made}");
    made.read::<KeyMade>().text
}

fn for_quay() -> Value {
    json!({ "applications": [{ "application": "quay" }], "headers": "original" })
}

async fn ask(service: &Service, key: &str, headers: &[(&str, &str)]) -> Answer {
    let call = Request::builder().uri("/route-check").header("host", "ostrog.example");
    let call = headers
        .iter()
        .fold(call.header("ostrog-proxy-key", key), |call, (name, value)| call.header(*name, *value));
    service.send(call.body(Body::empty()).expect("a request")).await
}

async fn check(service: &Service, key: &str, what: &str, token: Option<&str>) -> Answer {
    let (method, path) = what.split_once(' ').expect("METHOD /path");
    let mut headers = vec![("x-original-method", method), ("x-original-uri", path)];
    let bearer = token.map(|token| format!("Bearer {token}"));
    headers.extend(bearer.as_deref().map(|bearer| ("authorization", bearer)));
    ask(service, key, &headers).await
}

/// What a person would note of an answer: the status, then who and where, or the challenge, or the kind of problem.
fn told(answer: &Answer) -> String {
    let text = |name: &str| answer.headers[name].to_str().expect("text").to_owned();
    assert_eq!(answer.headers["cache-control"], "no-store", "{answer}");
    match answer.status.as_u16() {
        200 => {
            assert!(answer.headers["ostrog-decision"].to_str().expect("text").starts_with("d-"), "{answer}");
            format!("200 {} {}", text("ostrog-subject"), text("ostrog-path"))
        }
        401 => format!("401 {}", text("www-authenticate")),
        status => format!("{status} {}", answer.problem().name()),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_request_comes_to_what_its_route_needs() {
    let (service, sign_in, owner, _) = port_with(ROUTES).await;
    let key = proxy(&service, &owner, for_quay()).await;
    let ines = sign_in.token(&json!({}));
    let rui = sign_in.token(&json!({ "sub": "rui" }));
    let odd = sign_in.token(&json!({ "sub": "ines l" }));
    let late = sign_in.token(&json!({ "exp": 1_000_000_000 }));
    let for_customs = sign_in.token(&json!({ "aud": "c" }));
    let gone = sign_in.token(&json!({ "sub": "gone" }));
    let (nobody, invalid) = ("401 Bearer", "401 Bearer error=\"invalid_token\"");
    for (what, token, comes_to) in [
        ("GET /vessels/tern", Some(&ines), "200 user:ines /vessels/tern"),
        ("GET /vessels/tern?a=1&method=x", Some(&ines), "200 user:ines /vessels/tern"),
        ("HEAD /vessels/tern", Some(&ines), "200 user:ines /vessels/tern"),
        ("GET /vessels/tern", Some(&rui), "403 denied"),
        ("GET /vessels/skua", Some(&ines), "403 denied"),
        ("GET /vessels/none", Some(&ines), "403 denied"),
        ("GET /vessels/tern", Some(&gone), "403 denied"),
        ("GET /vessels/tern", None, nobody),
        ("POST /vessels/tern:moor", Some(&ines), "200 user:ines /vessels/tern:moor"),
        ("POST /vessels/tern:sink", Some(&ines), "403 unmapped"),
        ("GET /vessels", Some(&ines), "200 user:ines /vessels"),
        ("GET /vessels", Some(&rui), "403 denied"),
        ("GET /vessels", None, nobody),
        // No token is anonymous; a token that is invalid is 401 even on open routes.
        ("GET /tides", None, "200 anonymous /tides"),
        ("GET /tides", Some(&rui), "200 user:rui /tides"),
        ("GET /tides", Some(&gone), "200 user:gone /tides"),
        ("GET /tides", Some(&odd), invalid),
        ("GET /tides", Some(&late), invalid),
        // Audiences are checked for the route's application.
        ("GET /tides", Some(&for_customs), invalid),
        ("GET /tides?access_token=x", None, invalid),
        ("GET /tides?a;acc%65ss_token=x", Some(&ines), invalid),
        ("GET /vessels/all", Some(&ines), "403 route-refused"),
        ("GET /vessels/all", None, "403 route-refused"),
        ("GET /vessels/", Some(&ines), "403 unmapped"),
        ("GET /Tides", None, "403 unmapped"),
        ("DELETE /tides", None, "403 unmapped"),
        ("GET /tides/", None, "403 unmapped"),
        ("GET /tides?_method=PUT", None, "403 path-refused"),
        ("get /tides", None, "403 path-refused"),
        ("TRACE /tides", None, "403 path-refused"),
        ("CONNECT /tides", None, "403 path-refused"),
        ("GET http://quay.example/tides", None, "403 path-refused"),
        ("GET //tides", None, "403 path-refused"),
        ("GET /tides/../vessels/tern", Some(&ines), "403 path-refused"),
        ("GET /vessels%2ftern", Some(&ines), "403 path-refused"),
        ("GET /vessels/ter%6e", Some(&ines), "403 path-refused"),
        ("POST /vessels/tern%3Amoor", Some(&ines), "403 path-refused"),
        ("GET /vessels/cafe%CC%81", Some(&ines), "403 path-refused"),
    ] {
        let answer = check(&service, &key, what, token.map(String::as_str)).await;
        assert_eq!(told(&answer), comes_to, "{what}: {answer}");
    }
    // What is not registered and what is not theirs are one answer, but for the name of the call.
    let theirs = check(&service, &key, "GET /vessels/skua", Some(&ines)).await;
    let nowhere = check(&service, &key, "GET /vessels/none", Some(&ines)).await;
    assert_eq!(theirs.problem(), nowhere.problem());
    assert_eq!(theirs.problem().errors[0].code.as_deref(), Some("undetermined"));
    // A rule's message is told.
    let stormy = check(&service, &key, "PUT /vessels/tern/holds", Some(&ines)).await;
    assert_eq!(stormy.problem().detail, "Nobody opens a hold of a long ship today.");
    let silent = json!({ "name": "p", "proxy": for_quay(), "detail": "none" });
    let silent = service.post(&owner, "/api/v1/keys", &silent).await.read::<KeyMade>().text;
    let answer = check(&service, &silent, "PUT /vessels/tern/holds", Some(&ines)).await;
    assert_eq!(answer.problem().detail, "The request is denied.");
    assert_eq!(answer.problem().errors, []);
}

#[tokio::test(flavor = "multi_thread")]
async fn only_the_pair_that_was_set_is_looked_at_and_only_once() {
    let (service, _, owner, _) = port_with(ROUTES).await;
    let original = proxy(&service, &owner, for_quay()).await;
    let forwarded =
        json!({ "applications": [{ "application": "quay" }], "headers": "forwarded", "strip": "/port" });
    let forwarded = proxy(&service, &owner, forwarded).await;
    let open = [("x-original-method", "GET"), ("x-original-uri", "/tides")];
    let closed = [("x-forwarded-method", "GET"), ("x-forwarded-uri", "/port/vessels/all")];
    let both = [open, closed].concat();
    assert_eq!(told(&ask(&service, &original, &both).await), "200 anonymous /tides");
    assert_eq!(told(&ask(&service, &forwarded, &both).await), "403 route-refused");
    assert_eq!(told(&ask(&service, &original, &closed).await), "400 malformed");
    assert_eq!(told(&ask(&service, &original, &[]).await), "400 malformed");
    for twice in open {
        let all = [&open[..], &[twice]].concat();
        assert_eq!(told(&ask(&service, &original, &all).await), "400 malformed", "{twice:?}");
    }
    for name in ["x-http-method-override", "x-http-method", "x-method-override"] {
        let all = [&open[..], &[(name, "DELETE")]].concat();
        assert_eq!(told(&ask(&service, &original, &all).await), "403 path-refused", "{name}");
    }
    // A prefix is taken off at a segment's end, and has to be there.
    for (path, comes_to) in [
        ("/port/tides", "200 anonymous /tides"),
        ("/tides", "403 unmapped"),
        ("/porttides", "403 unmapped"),
        ("/port", "403 unmapped"),
        ("/port/", "403 unmapped"),
        ("/port/port/tides", "403 unmapped"),
        ("/port/../tides", "403 path-refused"),
    ] {
        let all = [("x-forwarded-method", "GET"), ("x-forwarded-uri", path)];
        assert_eq!(told(&ask(&service, &forwarded, &all).await), comes_to, "{path}");
    }
    // Several tokens, however they come, and other schemes.
    for (sent, challenge) in [
        (&["Bearer a", "Bearer b"][..], "401 Bearer error=\"invalid_token\""),
        (&["Bearer a, Bearer b"], "401 Bearer error=\"invalid_token\""),
        (&["Bearer"], "401 Bearer error=\"invalid_token\""),
        (&["Basic aW5lczp4"], "401 Bearer"),
    ] {
        let tokens = sent.iter().map(|text| ("authorization", *text));
        let all: Vec<_> = open.into_iter().chain(tokens).collect();
        assert_eq!(told(&ask(&service, &original, &all).await), challenge, "{sent:?}");
    }
    // A body is not read, and nothing follows it on its connection.
    let call = request("", "POST /route-check", Some(&json!({ "x": "y" })));
    let (mut parts, body) = call.into_parts();
    for (name, value) in
        [("ostrog-proxy-key", original.as_str()), ("content-length", "9")].iter().chain(&open)
    {
        parts.headers.insert(*name, value.parse().expect("a value"));
    }
    let answer = service.send(Request::from_parts(parts, body)).await;
    assert_eq!(told(&answer), "200 anonymous /tides");
    assert_eq!(answer.headers["connection"], "close");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_host_is_of_one_application_and_an_address_counts_through_trusted_hops() {
    let (service, _, owner, _) = port_with(ROUTES).await;
    let key = json!({
        "applications": [
            { "application": "quay", "host": "Quay.port.example" },
            { "application": "customs", "host": "customs.port.example:8443" },
        ],
        "headers": "forwarded", "trusted-hops": 1, "address-as": "client",
    });
    let key = proxy(&service, &owner, key).await;
    let asks = async |path: &str, host: &str, from: &str| {
        let all = [
            ("x-forwarded-method", "GET"),
            ("x-forwarded-uri", path),
            ("x-forwarded-host", host),
            ("x-original-host", "quay.port.example"),
            ("x-forwarded-for", from),
        ];
        told(&ask(&service, &key, &all).await)
    };
    assert_eq!(asks("/tides", "quay.port.example:80", "").await, "200 anonymous /tides");
    assert_eq!(asks("/tides", "customs.port.example:8443", "").await, "403 route-refused");
    assert_eq!(asks("/tides", "customs.port.example", "").await, "403 unmapped");
    assert_eq!(asks("/tides", "quay.port.example.evil.example", "").await, "403 unmapped");
    let two = [("x-forwarded-method", "GET"), ("x-forwarded-uri", "/tides")];
    assert_eq!(told(&ask(&service, &key, &two).await), "400 malformed");
    for (from, comes_to) in [
        ("10.1.2.3", "200 anonymous /vessels/tern"),
        ("203.0.113.7, 10.1.2.3", "200 anonymous /vessels/tern"),
        // What the client itself wrote is further away than the hops that are trusted.
        ("10.1.2.3, 203.0.113.7", "401 Bearer"),
        ("10.1.2.3, unknown", "401 Bearer"),
        ("", "401 Bearer"),
    ] {
        assert_eq!(asks("/vessels/tern", "quay.port.example", from).await, comes_to, "{from}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_proxys_key_asks_this_alone_and_no_other_key_does() {
    let (service, _, owner, quay) = port_with(ROUTES).await;
    let key = proxy(&service, &owner, for_quay()).await;
    for other in [&owner, &quay, &"ostrog.k-1.x".to_owned()] {
        assert_eq!(told(&check(&service, other, "GET /tides", None).await), "403 proxy-unknown");
    }
    for (call, body) in [
        ("POST /access/v1/evaluation", json!({})),
        ("POST /access/v1/search/resource", json!({})),
        ("GET /api/v1/keys", Value::Null),
        ("GET /api/v1/entities", Value::Null),
        ("POST /api/v1/session", json!({ "key": key })),
    ] {
        let caller = if call.ends_with("session") { "" } else { &key };
        let answer = service.call(caller, call, (!body.is_null()).then_some(&body)).await;
        assert_eq!(told(&answer), "403 forbidden", "{call}");
    }
    let all: Vec<KeyShown> = service.get(&owner, "/api/v1/keys").await.read();
    let known = all.iter().find(|known| known.proxy.is_some()).expect("is listed");
    assert_eq!(
        known.proxy.as_ref().map(|proxy| json!(proxy)),
        Some(json!({
            "applications": [{ "application": "quay" }], "headers": "original", "trusted-hops": 0,
        }))
    );
    // It can be replaced, and ended: from then on it is nobody's.
    let new = service.post(&owner, &format!("/api/v1/keys/{}/replacement", known.id), &Value::Null).await;
    let new = new.read::<KeyMade>().text;
    assert_eq!(told(&check(&service, &new, "GET /tides", None).await), "200 anonymous /tides");
    assert_eq!(service.call(&owner, &format!("DELETE /api/v1/keys/{}", known.id), None).await.status, 200);
    assert_eq!(told(&check(&service, &key, "GET /tides", None).await), "403 proxy-unknown");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_proxys_key_that_makes_no_sense_is_not_made() {
    let (service, _, owner, _) = port_with(ROUTES).await;
    let two = |first: Value, second: Value| json!({ "applications": [first, second] });
    let at = |application: &str, host: &str| json!({ "application": application, "host": host });
    let quay = json!({ "application": "quay" });
    for (other, why) in [
        (json!({ "applications": [] }), "1 to 100"),
        (json!({ "applications": [{ "application": "quey" }] }), "did you mean \"quay\""),
        (two(quay.clone(), at("customs", "c")), "each says its host"),
        (two(at("quay", "c"), at("customs", "C")), "A host is of one"),
        (json!({ "applications": [at("quay", "http://c/")] }), "no host"),
        (json!({ "applications": [at("quay", "c.")] }), "no host"),
        (json!({ "strip": "port" }), "no prefix"),
        (json!({ "strip": "/port/" }), "without a / at its end"),
        (json!({ "strip": "/a/../b" }), "no prefix"),
        (json!({ "address-as": "client" }), "Without trusted hops"),
        (json!({ "address-as": "cleint", "trusted-hops": 1 }), "did you mean \"client\""),
    ] {
        let mut of = for_quay();
        of.as_object_mut().expect("an object").extend(other.as_object().expect("an object").clone());
        let asked = json!({ "name": "a proxy", "proxy": of });
        let problem = service.post(&owner, "/api/v1/keys", &asked).await.problem();
        assert_eq!(problem.status, 422, "{other}");
        assert!(problem.detail.contains(why), "{other}: {}", problem.detail);
    }
    for (more, why) in [
        (json!({ "application": "quay" }), "not both"),
        (json!({ "rights": [{ "role": "reader", "at": "everywhere" }] }), "alone"),
        (json!({ "endpoints": ["search"] }), "alone"),
    ] {
        let mut asked = json!({ "name": "a proxy", "proxy": for_quay() });
        asked.as_object_mut().expect("an object").extend(more.as_object().expect("an object").clone());
        let problem = service.post(&owner, "/api/v1/keys", &asked).await.problem();
        assert!(problem.detail.contains(why), "{more}: {}", problem.detail);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_no_route_takes_is_counted_without_its_ids() {
    let (service, _, owner, _) = port_with(ROUTES).await;
    let key = proxy(&service, &owner, for_quay()).await;
    for path in
        ["/vessels/tern/print", "/vessels/skua/print", "/logs/2026-11", "/logs/2026-12", "/logs/x%20y"]
    {
        assert_eq!(told(&check(&service, &key, &format!("GET {path}"), None).await), "403 unmapped");
    }
    let _ = check(&service, &key, "GET /tides", None).await;
    let lately: AskedLately = service.get(&owner, "/api/v1/asked").await.read();
    let counted: Vec<_> = lately.unmapped.iter().map(|one| (one.pattern.as_str(), one.count)).collect();
    assert_eq!(counted, [("/logs/{id}", 3), ("/vessels/{vessel}/print", 2)]);
    // However many there are, a thousand are told apart.
    for round in 0..1_100_u32 {
        let word: String = round.to_string().bytes().map(|digit| char::from(digit + 50)).collect();
        let _ = check(&service, &key, &format!("GET /{word}"), None).await;
    }
    let lately: AskedLately = service.get(&owner, "/api/v1/asked").await.read();
    assert_eq!(lately.unmapped.len(), 1_000);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_operator_is_told_what_a_request_would_come_to() {
    let (service, sign_in, owner, _) = port_with(ROUTES).await;
    let asks = async |other: Value| {
        let mut asked = json!({ "application": "quay", "method": "GET", "path": "/vessels/tern" });
        asked.as_object_mut().expect("an object").extend(other.as_object().expect("an object").clone());
        service.post(&owner, "/api/v1/routes/check", &asked).await
    };
    let rui = sign_in.token(&json!({ "sub": "rui", "groups": ["Watch"], "org": "northline" }));
    for (other, allowed, code, subject) in [
        (json!({ "subject": "user:ines" }), true, "allowed", Some("user:ines")),
        (json!({}), false, "denied", Some("anonymous")),
        (json!({ "token": rui }), true, "allowed", Some("user:rui")),
        (json!({ "token": "a.b.c" }), false, "token-refused", None),
        (json!({ "path": "/tides" }), true, "open", Some("anonymous")),
        (json!({ "path": "/vessels/all" }), false, "route-refused", Some("anonymous")),
        (json!({ "path": "/holds" }), false, "unmapped", Some("anonymous")),
        (json!({ "path": "/vessels/.." }), false, "path-refused", Some("anonymous")),
        (json!({ "application": "customs", "path": "/tides" }), false, "route-refused", Some("anonymous")),
    ] {
        let told: RouteTold = asks(other.clone()).await.read();
        let found = (told.allowed, &*told.code, told.subject.as_deref());
        assert_eq!(found, (allowed, code, subject), "{other}");
    }
    let told: RouteTold = asks(json!({ "path": "/vessels/none", "subject": "user:ines" })).await.read();
    assert_eq!(told.needs[0].reason, "not-registered");
    for (other, why) in [
        (json!({ "subject": "ines" }), "ines"),
        (json!({ "subject": "user:ines", "token": "a.b.c" }), "not by both"),
        (json!({ "application": "quey" }), "did you mean"),
    ] {
        let problem = asks(other).await.problem();
        assert!(problem.detail.contains(why), "{}", problem.detail);
    }
    // It is no question of the application's.
    let lately: AskedLately = service.get(&owner, "/api/v1/asked").await.read();
    assert_eq!(lately.unmapped.len(), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_request_needs_is_answered_once_more_in_the_shadow() {
    let (service, sign_in, owner, _) = port_with(ROUTES).await;
    let key = proxy(&service, &owner, for_quay()).await;
    // Revision 1 knows no issuer: who bears a token is nobody there.
    let begun = service.post(&owner, "/api/v1/shadows", &json!({ "revision": 1, "for": "quay" })).await;
    let number = begun.read::<ShadowShown>().number;
    let token = sign_in.token(&json!({}));
    for _ in 0..3 {
        assert_eq!(check(&service, &key, "GET /vessels/tern", Some(&token)).await.status, 200);
    }
    for what in ["GET /tides", "GET /vessels/all"] {
        check(&service, &key, what, Some(&token)).await;
    }
    let path = format!("/api/v1/shadows/{number}/differences");
    for _ in 0..200 {
        let groups: Vec<DifferenceGroup> = service.get(&owner, &path).await.read();
        if groups.first().is_some_and(|group| group.times == 3) {
            assert_eq!(groups.len(), 1, "{groups:?}");
            assert_eq!((groups[0].permission.as_str(), groups[0].newly_denied), ("vessel:view", true));
            assert!(!format!("{groups:?}").contains(&token), "no token is kept");
            let all: Vec<ShadowShown> = service.get(&owner, "/api/v1/shadows").await.read();
            assert_eq!(all[0].asked, 3, "what needs nothing is no question");
            return;
        }
        tokio::time::sleep(std::time::Duration::from_millis(25)).await;
    }
    panic!("the shadow never tells it");
}
