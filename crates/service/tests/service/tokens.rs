//! Tokens that stand for a subject, over the network, from an issuer on loopback.

use crate::support::{Answer, Server, Service};
use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, KeyPair as _};
use axum::routing::get;
use axum::{Json, Router};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jiff::Timestamp;
use ostrog_core::prelude::Sources;
use ostrog_wire::access::{Evaluation, EvaluationContext, Evaluations, SearchResponse};
use ostrog_wire::issuers::{Attempted, IssuerShown, TokenRead};
use ostrog_wire::register::Page;
use rstest::rstest;
use serde_json::{Value, json};
use sqlx::Row as _;
use std::sync::{Arc, LazyLock, Mutex, PoisonError};

const ISSUER: &str = r#"
[issuer.port-id]
applications = ["quay"]
services = { claim = "kind", is = "machine" }
tenants = { claim = "org" }
unregistered = "signed-in"
[[issuer.port-id.groups]]
claim = "groups"
map = { "Watch" = "watch" }
"#;

/// The port's sign-in: an issuer that says where its key is.
pub struct SignIn {
    url: String,
    key: EcdsaKeyPair,
}

impl SignIn {
    async fn start() -> SignIn {
        let key = EcdsaKeyPair::generate(&ECDSA_P256_SHA256_FIXED_SIGNING).expect("a key");
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let url = format!("http://{}", listener.local_addr().expect("an address"));
        let document = json!({ "issuer": url, "jwks_uri": format!("{url}/keys") });
        let (x, y) = key.public_key().as_ref()[1..].split_at(32);
        let keys = json!({ "keys": [
            { "kty": "EC", "crv": "P-256", "kid": "one", "x": b64(x), "y": b64(y) },
            { "kty": "oct", "k": "AA", "kid": "odd" },
        ] });
        let router = Router::new()
            .route("/.well-known/openid-configuration", get(async move || Json(document)))
            .route("/keys", get(async move || Json(keys)));
        tokio::spawn(async move { axum::serve(listener, router).await });
        SignIn { url, key }
    }

    pub fn token(&self, other: &Value) -> String {
        let now = Timestamp::now().as_second();
        let mut claims = json!({ "iss": self.url, "aud": "q", "sub": "ines", "exp": now + 300 });
        for (key, value) in other.as_object().expect("an object") {
            claims[key] = value.clone();
        }
        let header = json!({ "alg": "ES256", "kid": "one", "typ": "at+jwt" });
        let signed = format!("{}.{}", b64(header.to_string()), b64(claims.to_string()));
        let signature = self.key.sign(&SystemRandom::new(), signed.as_bytes()).expect("signs");
        format!("{signed}.{}", b64(signature.as_ref()))
    }
}

fn b64(bytes: impl AsRef<[u8]>) -> String {
    URL_SAFE_NO_PAD.encode(bytes)
}

/// What is logged while a test runs, so that it can be looked for what must not stand there.
#[derive(Clone, Default)]
struct Logged(Arc<Mutex<Vec<u8>>>);

impl Logged {
    fn text(&self) -> String {
        String::from_utf8_lossy(&self.0.lock().unwrap_or_else(PoisonError::into_inner)).into_owned()
    }
}

impl std::io::Write for Logged {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).extend_from_slice(bytes);
        Ok(bytes.len())
    }
    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

/// What the whole process logs, whichever thread it is on.
static LOGGED: LazyLock<Logged> = LazyLock::new(|| {
    let logged = Logged::default();
    let writer = logged.clone();
    let subscriber = tracing_subscriber::fmt().with_max_level(tracing::Level::DEBUG);
    subscriber.with_writer(move || writer.clone()).init();
    logged
});

async fn port() -> (Service, SignIn, String, String) {
    port_on(&Server::start().await, "").await
}

/// A node on which `more` stands in the charter beside what it says of tokens.
pub async fn port_with(more: &str) -> (Service, SignIn, String, String) {
    port_on(&Server::start().await, more).await
}

async fn port_on(server: &Arc<Server>, more: &str) -> (Service, SignIn, String, String) {
    let sign_in = SignIn::start().await;
    let service = Service::on(server, "service", &lines()).await;
    let text = format!("{}{ISSUER}{more}", crate::support::CHARTER);
    let put = service.node.put_live(Sources::single("charter.toml", &text), "with tokens", "test").await;
    put.unwrap_or_else(|why| panic!("{}", why.detail()));
    let (owner, quay) = (service.operator("owner", "everywhere").await, service.application("quay").await);
    let issuer =
        json!({ "key": "port-id", "url": sign_in.url, "audiences": { "quay": ["q"], "customs": ["c"] } });
    let made = service.post(&owner, "/api/v1/issuers", &issuer).await;
    assert_eq!(made.status, 200, "{made}");
    assert!(made.read::<IssuerShown>().in_charter);
    (service, sign_in, owner, quay)
}

fn lines() -> Vec<Value> {
    vec![
        json!({ "entity": "tenant:northline" }),
        json!({ "entity": "user:ines", "tenants": ["northline"], "attributes": { "clearance": 3 } }),
        json!({ "entity": "user:rui" }),
        json!({ "entity": "user:gone", "state": "suspended" }),
        json!({ "entity": "group:watch" }),
        json!({ "entity": "vessel:tern", "within": "tenant:northline", "attributes": { "length": 90 }, "relations": { "crew": [] } }),
        json!({ "entity": "vessel:skua", "within": "tenant:northline", "attributes": { "length": 80 }, "relations": { "crew": [] } }),
        json!({ "grant": { "id": "g-1", "role": "master", "to": "user:ines", "at": "vessel:tern" } }),
        json!({ "grant": { "id": "g-2", "role": "hand", "to": "group:watch", "at": "tenant:northline" } }),
        json!({ "grant": { "id": "g-3", "role": "pilot", "to": "group:watch", "at": "tenant:northline" } }),
    ]
}

fn question(token: &str, action: &str, vessel: &str) -> Value {
    json!({ "subject": { "type": "token", "id": token }, "action": { "name": action },
            "resource": { "type": "vessel", "id": vessel }, "context": { "explain": true } })
}

fn told(answer: &Answer) -> (bool, String, Option<String>) {
    assert_eq!(answer.status, 200, "{answer}");
    let Evaluation { decision, context: EvaluationContext { reason, subject, .. } } = answer.read();
    (decision, reason.unwrap_or_default(), subject)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_token_stands_for_whom_it_names_with_what_it_vouches_for() {
    let (service, sign_in, owner, quay) = port().await;
    let ask = async |token: &str, action: &str, vessel: &str| {
        service.post(&quay, "/access/v1/evaluation", &question(token, action, vessel)).await
    };
    let ines = sign_in.token(&json!({}));
    assert_eq!(
        told(&ask(&ines, "moor", "tern").await),
        (true, "role:master".to_owned(), Some("user:ines".to_owned()))
    );
    assert_eq!(told(&ask(&ines, "view", "skua").await).1, "no-role");
    // A group that the token vouches for; what is on standby is not had by it.
    let watch = sign_in.token(&json!({ "sub": "rui", "groups": ["Watch"] }));
    let answer = ask(&watch, "view", "skua").await;
    assert_eq!(told(&answer), (true, "role:hand".to_owned(), Some("user:rui".to_owned())));
    let why = answer.read::<Evaluation>().context.explanation.expect("asked for").sentence;
    assert_eq!(why, "hand at tenant:northline, through group:watch, vouched for by port-id");
    assert_eq!(told(&ask(&watch, "moor", "skua").await).1, "no-role");
    // Who is not registered counts as signed in; who is suspended stays so.
    let visitor = sign_in.token(&json!({ "sub": "nobody", "groups": ["Watch"] }));
    assert!(told(&ask(&visitor, "view", "tern").await).0);
    let gone = sign_in.token(&json!({ "sub": "gone", "groups": ["Watch"] }));
    assert_eq!(told(&ask(&gone, "view", "tern").await).1, "subject-suspended");
    let almost = sign_in.token(&json!({ "sub": "INES" }));
    assert_eq!(told(&ask(&almost, "view", "tern").await), (false, "token-refused".to_owned(), None));

    // A batch, each item by its own; a search; and a page of it, verified again.
    let items = json!({ "subject": { "type": "token", "id": watch }, "action": { "name": "view" },
        "evaluations": [
            { "resource": { "type": "vessel", "id": "tern" } },
            { "resource": { "type": "vessel", "id": "skua" }, "subject": { "type": "token", "id": ines } },
            { "resource": { "type": "vessel", "id": "skua" }, "subject": { "type": "token", "id": "a.b.c" } },
        ] });
    let all: Evaluations = service.post(&quay, "/access/v1/evaluations", &items).await.read();
    let reasons: Vec<_> =
        all.evaluations.iter().map(|one| one.context.reason.clone().unwrap_or_default()).collect();
    assert_eq!(reasons, ["role:hand", "no-role", "token-refused"]);
    let search = |token: &str, page: Value| {
        json!({ "subject": { "type": "token", "id": token }, "action": { "name": "view" },
                "resource": { "type": "vessel" }, "page": page })
    };
    let at = "/access/v1/search/resource";
    let first: SearchResponse = service.post(&quay, at, &search(&watch, json!({ "limit": 1 }))).await.read();
    assert_eq!((first.results.len(), first.context.subject.as_deref()), (1, Some("user:rui")));
    let next = json!({ "limit": 1, "token": first.page.next_token });
    let second: SearchResponse = service.post(&quay, at, &search(&watch, next.clone())).await.read();
    assert_eq!(second.results.len(), 1);
    let ended = service.call(&owner, "DELETE /api/v1/issuers/port-id", None).await;
    assert_eq!(ended.status, 200, "{ended}");
    let refused: SearchResponse = service.post(&quay, at, &search(&watch, next)).await.read();
    assert_eq!((refused.results.len(), refused.context.reason.as_deref()), (0, Some("token-refused")));
    assert_eq!(told(&ask(&ines, "moor", "tern").await).1, "token-refused", "remembered or not");
    let subjects = json!({ "subject": { "type": "token", "id": ines }, "action": { "name": "view" },
                           "resource": { "type": "vessel", "id": "tern" } });
    assert_eq!(service.post(&quay, "/access/v1/search/subject", &subjects).await.status, 400);
}

#[rstest]
#[case::for_another_audience(json!({ "aud": "elsewhere" }))]
#[case::for_another_application(json!({ "aud": "c" }))]
#[case::of_another_issuer(json!({ "iss": "https://elsewhere.example" }))]
#[case::ended(json!({ "exp": 1_000_000_000 }))]
#[case::without_a_subject(json!({ "sub": "" }))]
#[case::of_a_reserved_type(json!({ "sub": "group:watch" }))]
#[case::an_id_token(json!({ "nonce": "n" }))]
#[tokio::test(flavor = "multi_thread")]
async fn what_is_refused_leaves_nothing_of_the_token(#[case] other: Value) {
    LazyLock::force(&LOGGED);
    let server = Server::start().await;
    let (service, sign_in, owner, quay) = port_on(&server, "").await;
    let token = sign_in.token(&other);
    for key in [&quay, &owner] {
        let answer = service.post(key, "/access/v1/evaluation", &question(&token, "view", "tern")).await;
        let told = told(&answer);
        // An operator asks for any application its issuer is for.
        if key == &quay || other["aud"] != "c" {
            assert_eq!(told, (false, "token-refused".to_owned(), None), "{other}");
            assert!(answer.read::<Evaluation>().context.explanation.is_none(), "{answer}");
        }
        let text = String::from_utf8_lossy(&answer.body).into_owned();
        for part in token.split('.') {
            assert!(!text.contains(part), "{text}");
        }
    }
    let changes = service.get(&owner, "/api/v1/changes").await;
    let _: Page<Value> = changes.read();
    let url = server.cluster.database("service").await.expect("a database");
    let logged = LOGGED.text();
    assert!(logged.contains("a token was refused"), "{logged}");
    let kept = everything(&url).await + &String::from_utf8_lossy(&changes.body) + &logged;
    for part in token.split('.') {
        assert!(!kept.contains(part), "something of the token was kept");
    }
}

/// Every row of every table, as text.
async fn everything(url: &str) -> String {
    let pool = &sqlx::PgPool::connect(url).await.expect("a database");
    let tables = "select table_name from information_schema.tables where table_schema = 'public'";
    let mut all = String::new();
    for table in sqlx::query(tables).fetch_all(pool).await.expect("tables") {
        let table: String = table.get(0);
        let rows = format!("select coalesce(string_agg(t::text, ' '), '') from \"{table}\" t");
        let row = sqlx::query(sqlx::AssertSqlSafe(rows)).fetch_one(pool).await.expect("rows");
        all.push_str(&row.get::<String, _>(0));
    }
    all
}

#[tokio::test(flavor = "multi_thread")]
async fn an_issuer_is_set_up_tried_and_read_from() {
    let (service, sign_in, owner, _) = port().await;
    let tried: Attempted = service.post(&owner, "/api/v1/issuers/port-id/attempt", &Value::Null).await.read();
    assert!(tried.steps.iter().all(|step| step.ok), "{:?}", tried.steps);
    let skipped: Vec<_> = tried.keys.iter().map(|key| key.skipped.is_some()).collect();
    assert_eq!(skipped, [false, true]);

    let watch = sign_in.token(&json!({ "sub": "rui", "groups": ["Watch", "Day"], "org": "northline" }));
    let read: TokenRead =
        service.post(&owner, "/api/v1/tokens/reading", &json!({ "token": watch })).await.read();
    assert_eq!((read.verified, read.subject.as_deref()), (Some(true), Some("user:rui")));
    let told: Vec<_> = read.read.iter().map(|one| (one.about.as_str(), one.outcome.as_str())).collect();
    assert_eq!(
        told,
        [
            ("subject", "counted"),
            ("tenant:northline", "counted"),
            ("group:watch", "counted"),
            ("groups", "ignored")
        ]
    );
    assert_eq!(read.read[2].register.as_deref(), Some("not a member"));
    let gains: Vec<_> = read.gains.iter().map(|gain| (gain.permission.as_str(), gain.resources)).collect();
    assert_eq!(gains, [("vessel:view", 2)]);
    assert_eq!(read.losses, []);
    let broken: TokenRead =
        service.post(&owner, "/api/v1/tokens/reading", &json!({ "token": "a.b.c" })).await.read();
    assert_eq!((broken.verified, broken.words.as_str()), (Some(false), "it is no signed JWT"));

    // Why tokens are refused is told to who keeps the issuers.
    let late = sign_in.token(&json!({ "exp": 1_000_000_000 }));
    let _ = service.post(&owner, "/api/v1/tokens/reading", &json!({ "token": late })).await;
    let all: Vec<IssuerShown> = service.get(&owner, "/api/v1/issuers").await.read();
    assert_eq!(
        all[0].refused.as_ref().map(|refused| refused.why.as_str()),
        Some("it counts no longer (exp)")
    );
    assert_eq!(all[0].keys.len(), 2);

    for (wrong, status, why) in [
        (json!({ "url": "http://sign-in.example" }), 422, "plain http is for loopback only"),
        (json!({ "url": "https://a.example/?x=1" }), 422, "a query"),
        (json!({ "url": "nowhere" }), 422, "no address"),
        (json!({ "key": "Port Id" }), 422, "no key of an issuer"),
        (json!({ "audiences": {} }), 422, "needs an audience"),
        (json!({ "audiences": { "quey": ["q"] } }), 422, "did you mean \"quay\""),
        (json!({ "keys": "{}" }), 422, "cannot be read"),
        (json!({ "url": sign_in.url, "key": "other" }), 409, "already"),
        (json!({ "key": "port-id" }), 409, "already"),
    ] {
        let mut asked =
            json!({ "key": "town-id", "url": "https://town.example", "audiences": { "quay": ["q"] } });
        asked.as_object_mut().expect("an object").extend(wrong.as_object().expect("an object").clone());
        let answer = service.post(&owner, "/api/v1/issuers", &asked).await;
        assert_eq!(answer.status.as_u16(), status, "{answer}");
        assert!(answer.problem().detail.contains(why), "{answer}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_operators_questions_take_a_token_and_claims_are_read_as_if_one_had_them() {
    let (service, sign_in, owner, _) = port().await;
    let watch = sign_in.token(&json!({ "sub": "rui", "groups": ["Watch"], "org": "northline" }));
    let asks = async |call: &str, more: Value| {
        let mut asked = json!({ "token": watch, "permission": "vessel:view", "resource": "vessel:tern" });
        asked.as_object_mut().expect("an object").extend(more.as_object().expect("an object").clone());
        service.post(&owner, &format!("/api/v1/{call}"), &asked).await
    };
    let one: Value = asks("ask", json!({ "would-take": true })).await.read();
    assert_eq!(one["explanation"]["reason"], "role:hand", "{one}");
    assert!(
        one["explanation"]["sentence"].as_str().expect("text").contains("vouched for by port-id"),
        "{one}"
    );
    // It can be relied on as long as the token can.
    assert!(one["until"].as_str().expect("a moment") > one["now"].as_str().expect("a moment"), "{one}");
    let all: Value = asks("reach", json!({ "resource": null })).await.read();
    assert_eq!(all["items"].as_array().map(Vec::len), Some(2), "{all}");
    let rows: Value = asks("rows", json!({ "resource": null })).await.read();
    assert_eq!(rows["until"], one["until"], "{rows}");
    assert_ne!(rows["filter"]["rows"], "none", "{rows}");
    // Facts that are supposed are the register that the token is read beside.
    let gone: Value = asks("ask", json!({ "suppose": ["user:rui state suspended"] })).await.read();
    assert_eq!(gone["explanation"]["reason"], "subject-suspended", "{gone}");
    // Somebody who is in no register counts as signed in, and has what the group gives.
    let new = sign_in.token(&json!({ "sub": "noor", "groups": ["Watch"], "org": "northline" }));
    let new: Value = asks("ask", json!({ "token": new })).await.read();
    assert_eq!(new["explanation"]["reason"], "role:hand", "{new}");
    let nobody = sign_in.token(&json!({ "sub": "ines l" }));
    let nobody: Value = asks("ask", json!({ "token": nobody })).await.read();
    assert_eq!(nobody["explanation"]["reason"], "token-refused", "{nobody}");
    // Whatever moment is asked about, a token is held against the clock.
    let then = (Timestamp::now() - jiff::SignedDuration::from_hours(2)).to_string();
    let late = sign_in.token(&json!({ "sub": "rui", "exp": Timestamp::now().as_second() - 3_600 }));
    let later: Value = asks("ask", json!({ "now": "2100-01-01T00:00:00Z" })).await.read();
    assert_eq!(later["explanation"]["reason"], "role:hand", "{later}");
    for (call, more, status, why) in [
        ("ask", json!({ "token": late, "now": then }), 422, "it counts no longer"),
        ("ask", json!({ "token": "a.b.c" }), 422, "it is no signed JWT"),
        ("ask", json!({ "subject": "user:ines" }), 400, "not both"),
        ("holders", json!({}), 400, "one who asks"),
    ] {
        let answer = asks(call, more).await;
        assert_eq!(answer.status.as_u16(), status, "{answer}");
        assert!(answer.problem().detail.contains(why) && !answer.to_string().contains("a.b.c"), "{answer}");
    }

    let reads = async |asked: Value| service.post(&owner, "/api/v1/tokens/reading", &asked).await;
    let claims = json!({ "sub": "rui", "groups": ["Watch"], "org": "northline" });
    let supposed: TokenRead = reads(json!({ "issuer": "port-id", "claims": claims })).await.read();
    assert_eq!((supposed.verified, supposed.subject.as_deref()), (None, Some("user:rui")));
    assert_eq!(supposed.gains.len(), 1);
    let unknown: TokenRead = reads(json!({ "issuer": "prot-id", "claims": claims })).await.read();
    assert!(unknown.nobody.expect("nobody").contains("did you mean \"port-id\""));
    for odd in [json!({}), json!({ "issuer": "port-id" }), json!({ "token": watch, "claims": claims })] {
        assert_eq!(reads(odd.clone()).await.status, 422, "{odd}");
    }
}
