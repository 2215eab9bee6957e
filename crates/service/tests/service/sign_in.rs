//! Operators who sign in with an issuer, and whoever would like to be one. The issuer here is the test's own: it keeps
//! to the standard but where a test spoils what it sends.

use crate::support::{Answer, Service, request};
use aws_lc_rs::hmac;
use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, KeyPair as _};
use axum::body::Body;
use axum::extract::{Form, State};
use axum::http::{Request, StatusCode};
use axum::response::{IntoResponse as _, Response};
use axum::routing::{get, post};
use axum::{Json, Router};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jiff::Timestamp;
use ostrog_store::issuer::Issuer;
use ostrog_wire::keys::{LoopbackBegun, Renewed, SessionOutcome, SignInWith, SignedIn};
use ostrog_wire::register::Page;
use ostrog_wire::release::{SettingsChange, Waiting};
use rstest::rstest;
use serde_json::{Value, json};
use sha2::{Digest as _, Sha256};
use sqlx::Row as _;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use url::Url;

const CLIENT: &str = "ostrog-console";
const SETTINGS: &str = r#"
[release]
approvals = 1
require-rehearsal = false
[operators]
groups."Platform security" = ["reader"]
[operators.people.vera]
name = "Vera"
sign-ins = ["port-id/vera"]
roles = ["owner"]
[operators.people.wim]
name = "Wim"
sign-ins = ["port-id/wim"]
roles = ["approver"]
"#;

/// What the issuer does other than it should.
#[derive(Clone, Debug, Default)]
struct Spoilt {
    /// Claims in the place of the right ones; null: taken out.
    claims: Vec<(&'static str, Value)>,
    /// How the ID token is signed.
    signed: Signed,
    /// It sends none.
    no_token: bool,
    /// It lets a code count again, and for whoever has it.
    careless: bool,
}

#[derive(Clone, Copy, Debug, Default, PartialEq)]
enum Signed {
    #[default]
    AsItShould,
    ByAnotherKey,
    NotAtAll,
    ByTheClientsName,
}

/// A code that the issuer gave.
#[derive(Clone, Debug)]
struct Code {
    redirect: String,
    challenge: String,
    nonce: String,
    person: String,
}

#[derive(Clone)]
struct Port(Arc<Inner>);

struct Inner {
    url: String,
    key: EcdsaKeyPair,
    other: EcdsaKeyPair,
    spoilt: Mutex<Spoilt>,
    codes: Mutex<HashMap<String, Code>>,
    groups: Mutex<Vec<&'static str>>,
    /// When everybody showed who they are, seconds before now.
    shown: Mutex<i64>,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

fn b64(bytes: impl AsRef<[u8]>) -> String {
    URL_SAFE_NO_PAD.encode(bytes)
}

impl Port {
    async fn open() -> Port {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let key = || EcdsaKeyPair::generate(&ECDSA_P256_SHA256_FIXED_SIGNING).expect("a key");
        let port = Port(Arc::new(Inner {
            url: format!("http://{}", listener.local_addr().expect("an address")),
            key: key(),
            other: key(),
            spoilt: Mutex::default(),
            codes: Mutex::default(),
            groups: Mutex::default(),
            shown: Mutex::default(),
        }));
        let router = Router::new()
            .route("/.well-known/openid-configuration", get(said))
            .route("/keys", get(keys))
            .route("/token", post(tokens))
            .with_state(port.clone());
        tokio::spawn(async move { axum::serve(listener, router).await });
        port
    }

    /// Somebody says who they are, where they were sent: gives what the browser goes back with.
    fn says(&self, sent_to: &str, person: &str) -> HashMap<String, String> {
        let url = Url::parse(sent_to).expect("an address");
        assert!(sent_to.starts_with(&format!("{}/authorize?", self.0.url)), "{sent_to}");
        let asked: HashMap<String, String> = url.query_pairs().into_owned().collect();
        assert_eq!(asked["response_type"], "code");
        assert_eq!(asked["client_id"], CLIENT);
        assert_eq!(asked["code_challenge_method"], "S256");
        assert!(asked["scope"].split(' ').any(|scope| scope == "openid"));
        assert!(asked.contains_key("max_age"));
        let code = format!("code-{}", lock(&self.0.codes).len());
        let known = Code {
            redirect: asked["redirect_uri"].clone(),
            challenge: asked["code_challenge"].clone(),
            nonce: asked["nonce"].clone(),
            person: person.to_owned(),
        };
        lock(&self.0.codes).insert(code.clone(), known);
        let back = [("code", code), ("state", asked["state"].clone()), ("iss", self.0.url.clone())];
        back.into_iter().map(|(name, value)| (name.to_owned(), value)).collect()
    }

    fn id_token(&self, person: &str, nonce: Option<&str>) -> String {
        let spoilt = lock(&self.0.spoilt).clone();
        let now = Timestamp::now().as_second();
        let mut claims = json!({
            "iss": self.0.url, "sub": person, "aud": CLIENT, "iat": now, "exp": now + 300,
            "auth_time": now - *lock(&self.0.shown), "name": person, "groups": *lock(&self.0.groups),
        });
        if let Some(nonce) = nonce {
            claims["nonce"] = json!(nonce);
        }
        for (name, value) in spoilt.claims {
            match value {
                Value::Null => drop(claims.as_object_mut().expect("an object").remove(name)),
                value => claims[name] = value,
            }
        }
        let algorithm = match spoilt.signed {
            Signed::AsItShould | Signed::ByAnotherKey => "ES256",
            Signed::NotAtAll => "none",
            Signed::ByTheClientsName => "HS256",
        };
        let header = json!({ "alg": algorithm, "kid": "one", "typ": "JWT" });
        let signed = format!("{}.{}", b64(header.to_string()), b64(claims.to_string()));
        let by = |key: &EcdsaKeyPair| {
            b64(key.sign(&SystemRandom::new(), signed.as_bytes()).expect("signs").as_ref())
        };
        let signature = match spoilt.signed {
            Signed::AsItShould => by(&self.0.key),
            Signed::ByAnotherKey => by(&self.0.other),
            Signed::NotAtAll => String::new(),
            Signed::ByTheClientsName => {
                let key = hmac::Key::new(hmac::HMAC_SHA256, CLIENT.as_bytes());
                b64(hmac::sign(&key, signed.as_bytes()).as_ref())
            }
        };
        format!("{signed}.{signature}")
    }
}

async fn said(State(port): State<Port>) -> Json<Value> {
    let url = &port.0.url;
    Json(json!({
        "issuer": url, "authorization_endpoint": format!("{url}/authorize"),
        "token_endpoint": format!("{url}/token"), "jwks_uri": format!("{url}/keys"),
        "response_types_supported": ["code"], "subject_types_supported": ["public"],
        // It would take anything; here only what a key of its own signed counts.
        "id_token_signing_alg_values_supported": ["ES256", "HS256", "none"],
        "scopes_supported": ["openid", "offline_access"],
        "authorization_response_iss_parameter_supported": true,
    }))
}

async fn keys(State(port): State<Port>) -> Json<Value> {
    let (x, y) = port.0.key.public_key().as_ref()[1..].split_at(32);
    Json(
        json!({ "keys": [{ "kty": "EC", "crv": "P-256", "kid": "one", "use": "sig", "x": b64(x), "y": b64(y) }] }),
    )
}

async fn tokens(State(port): State<Port>, Form(form): Form<HashMap<String, String>>) -> Response {
    let refused = || (StatusCode::BAD_REQUEST, Json(json!({ "error": "invalid_grant" }))).into_response();
    let spoilt = lock(&port.0.spoilt).clone();
    let (person, nonce) = match form["grant_type"].as_str() {
        "refresh_token" => match form["refresh_token"].split_once("renews ") {
            Some((_, person)) => (person.to_owned(), None),
            None => return refused(),
        },
        _ => {
            let code = match spoilt.careless {
                true => lock(&port.0.codes).get(&form["code"]).cloned(),
                false => lock(&port.0.codes).remove(&form["code"]),
            };
            let Some(code) = code else { return refused() };
            let proof = b64(Sha256::digest(&form["code_verifier"]));
            if (proof != code.challenge || form["redirect_uri"] != code.redirect) && !spoilt.careless {
                return refused();
            }
            (code.person, Some(code.nonce))
        }
    };
    let mut answer = json!({
        "access_token": "never looked at", "token_type": "Bearer", "expires_in": 300,
        "id_token": port.id_token(&person, nonce.as_deref()), "refresh_token": format!("renews {person}"),
    });
    if spoilt.no_token {
        answer["id_token"] = Value::Null;
    }
    Json(answer).into_response()
}

/// A browser: what it keeps, and sends.
#[derive(Clone, Debug, Default)]
struct Browser(HashMap<String, String>);

impl Browser {
    async fn send(
        &mut self,
        service: &Service,
        call: &str,
        body: Option<&Value>,
        more: &[(&str, &str)],
    ) -> Answer {
        let mut request: Request<Body> = request("", call, body);
        let cookies: Vec<String> = self.0.iter().map(|(name, value)| format!("{name}={value}")).collect();
        if !cookies.is_empty() {
            request.headers_mut().insert("cookie", cookies.join("; ").parse().expect("a header"));
        }
        for (name, value) in more {
            let name: axum::http::HeaderName = name.parse().expect("a name");
            request.headers_mut().insert(name, value.parse().expect("a value"));
        }
        let answer = service.send(request).await;
        for set in answer.headers.get_all("set-cookie") {
            let set = set.to_str().expect("text");
            let (cookie, attributes) = set.split_once(';').expect("attributes");
            assert!(attributes.contains("HttpOnly") && attributes.contains("Path=/"), "{set}");
            let (name, value) = cookie.split_once('=').expect("name=value");
            let strict = if name == "ostrog-sign-in" { "SameSite=Lax" } else { "SameSite=Strict" };
            assert!(attributes.contains(strict), "{set}");
            match attributes.contains("Max-Age=0") {
                true => drop(self.0.remove(name)),
                false => drop(self.0.insert(name.to_owned(), value.to_owned())),
            }
        }
        answer
    }

    async fn get(&mut self, service: &Service, path: &str) -> Answer {
        self.send(service, &format!("GET {path}"), None, &[]).await
    }

    /// As the console's own pages write.
    async fn write(&mut self, service: &Service, call: &str, body: &Value) -> Answer {
        self.send(service, call, Some(body), &[("sec-fetch-site", "same-origin")]).await
    }

    /// Begins a sign-in; gives where the browser is sent.
    async fn begin(&mut self, service: &Service, more: &str) -> String {
        let sent = self.get(service, &format!("/sign-in/port-id{more}")).await;
        assert_eq!(sent.status, 303, "{sent}");
        sent.headers["location"].to_str().expect("an address").to_owned()
    }

    async fn comes_back(&mut self, service: &Service, with: &HashMap<String, String>) -> Answer {
        let query = url::form_urlencoded::Serializer::new(String::new()).extend_pairs(with).finish();
        self.get(service, &format!("/sign-in/port-id/back?{query}")).await
    }

    async fn sign_in(&mut self, service: &Service, port: &Port, person: &str) -> Answer {
        let sent = self.begin(service, "?to=/rollout").await;
        let back = port.says(&sent, person);
        self.comes_back(service, &back).await
    }

    fn session(&self) -> Option<&String> {
        self.0.get("ostrog-session")
    }

    async fn who(&mut self, service: &Service) -> Answer {
        self.get(service, "/api/v1/session").await
    }
}

fn issuer(url: &str) -> Issuer {
    Issuer {
        key: "port-id".to_owned(),
        iss: url.to_owned(),
        audiences: [("quay".to_owned(), vec!["q".to_owned()])].into(),
        keys: None,
        private: false,
        id_tokens: false,
        client: Some(CLIENT.to_owned()),
        waits: false,
        persons: Vec::new(),
        created_at: Timestamp::now(),
        author: "test".to_owned(),
    }
}

async fn port() -> (Service, Port) {
    let (service, port) = (Service::start(&[]).await, Port::open().await);
    let set = service.node.set_issuer_of_host(issuer(&port.0.url)).await;
    set.unwrap_or_else(|why| panic!("{}", why.detail()));
    let put = service.node.put_settings_of_host(SETTINGS, "test").await;
    put.unwrap_or_else(|why| panic!("{}", why.detail()));
    (service, port)
}

/// Nobody is signed in, whatever was sent.
fn nobody(browser: &Browser, answer: &Answer) {
    assert!(answer.status.is_client_error(), "{answer}");
    assert_eq!(browser.session(), None, "{answer}");
    is_closed(answer);
}

/// A page that nothing frames and that loads nothing.
fn is_closed(answer: &Answer) {
    let policy = answer.headers["content-security-policy"].to_str().expect("text");
    assert!(policy.contains("default-src 'none'") && policy.contains("frame-ancestors 'none'"), "{policy}");
    assert_eq!(answer.headers["cache-control"], "no-store");
    assert_eq!(answer.headers["referrer-policy"], "no-referrer");
}

#[tokio::test]
async fn a_person_signs_in_does_what_is_theirs_and_is_named_for_it() {
    let (service, port) = port().await;
    let with = service.get("", "/api/v1/sign-in").await.read::<Vec<SignInWith>>();
    assert_eq!(with, [SignInWith { issuer: "port-id".to_owned(), url: port.0.url.clone() }]);
    let mut browser = Browser::default();
    browser.0.insert("ostrog-session".to_owned(), "set by somebody else".to_owned());
    let done = browser.sign_in(&service, &port, "vera").await;
    assert_eq!(done.status, 200, "{done}");
    is_closed(&done);
    // A page that goes on by itself: a redirect would leave the strict cookie behind.
    assert!(done.to_string().contains("content=\"0; url=/rollout\""), "{done}");
    let session = browser.session().expect("is signed in").clone();
    assert_ne!(session, "set by somebody else");
    assert!(!browser.0.contains_key("ostrog-sign-in"), "it counts once");
    let who: SignedIn = browser.who(&service).await.read();
    assert_eq!((who.key.as_str(), who.name.as_str()), ("person:vera", "Vera"));
    assert_eq!(who.issuer.as_deref(), Some("port-id"));

    // Written in her name; a page elsewhere writes nothing.
    let (call, lines) = ("PUT /api/v1/entities/tenant:northline", json!({}));
    for (site, status) in [("cross-site", 403), ("same-site", 403), ("none", 403)] {
        let refused = browser.send(&service, call, Some(&lines), &[("sec-fetch-site", site)]).await;
        assert_eq!(refused.status, status, "{refused}");
    }
    let put = browser.write(&service, "PUT /api/v1/entities/tenant:northline", &json!({})).await;
    assert!(put.status.is_success(), "{put}");
    let changes = browser.get(&service, "/api/v1/changes").await.read::<Page<Value>>();
    assert!(changes.items.iter().any(|change| change["actor"] == "person:vera"), "{changes:?}");

    // What somebody may is what the settings say.
    let mut noor = Browser::default();
    let refused = noor.sign_in(&service, &port, "noor").await;
    nobody(&noor, &refused);
    assert!(refused.to_string().contains("port-id/noor, and nothing here is yours"), "{refused}");
    *lock(&port.0.groups) = vec!["Customs Night", "Platform security"];
    assert_eq!(noor.sign_in(&service, &port, "noor").await.status, 200);
    assert_eq!(noor.who(&service).await.read::<SignedIn>().key, "sign-in:port-id/noor");
    assert_eq!(noor.get(&service, "/api/v1/revisions").await.status, 200);
    assert_eq!(noor.write(&service, "PUT /api/v1/entities/tenant:skua", &json!({})).await.status, 403);

    // A second sign-in ends the first of the browser; signing out ends it on every node.
    let beside = service.beside().await;
    let before = browser.clone();
    assert_eq!(browser.sign_in(&service, &port, "wim").await.status, 200);
    assert_eq!(before.clone().who(&beside).await.status, 401);
    assert_eq!(browser.who(&beside).await.read::<SignedIn>().key, "person:wim");
    let stolen = browser.clone();
    assert_eq!(browser.write(&beside, "DELETE /api/v1/session", &json!({})).await.status, 204);
    assert_eq!((browser.session(), browser.0.get("ostrog-renewal")), (None, None));
    for node in [&service, &beside] {
        assert_eq!(stolen.clone().who(node).await.status, 401);
        // Nor by the header that command lines send theirs in, whether it has ended or not.
        for text in [stolen.session(), noor.session()].into_iter().flatten() {
            assert_eq!(node.get(&format!("ostrog-session.{text}"), "/api/v1/session").await.status, 401);
        }
    }

    // No secret is kept: not a session's text, nor what renews it, nor a code.
    let mut texts = Vec::new();
    for table in ["sessions", "issuers", "journal"] {
        let query = format!("select t::text as line from {table} t");
        let rows =
            sqlx::query(sqlx::AssertSqlSafe(query)).fetch_all(&service.pool().await).await.expect("rows");
        texts.extend(rows.iter().map(|row| row.get::<String, _>("line")));
    }
    let kept = texts.join("\n");
    for secret in [&session, noor.session().expect("is signed in"), "renews ", "code-", "never looked at"] {
        assert!(!kept.contains(secret), "{secret}");
    }
}

/// Everything that comes back with the browser is held against what it was sent with.
#[rstest]
#[case::state_of_another("state", "x")]
#[case::no_state("state", "")]
#[case::no_code("code", "")]
#[case::a_code_that_is_none("code", "code-99")]
#[case::of_another_issuer("iss", "https://evil.example")]
#[case::of_no_issuer("iss", "-")]
#[case::refused_by_the_issuer("error", "access_denied")]
#[tokio::test]
async fn what_comes_back_is_what_was_asked(#[case] what: &str, #[case] value: &str) {
    let (service, port) = port().await;
    let mut browser = Browser::default();
    let sent = browser.begin(&service, "").await;
    let mut back = port.says(&sent, "vera");
    match value {
        "-" => drop(back.remove(what)),
        value => drop(back.insert(what.to_owned(), value.to_owned())),
    }
    let refused = browser.comes_back(&service, &back).await;
    nobody(&browser, &refused);
    assert!(!browser.0.contains_key("ostrog-sign-in"), "it is used up");
}

/// An ID token holds, or nobody is signed in.
#[rstest]
#[case::nonce_of_another(&[("nonce", json!("x"))], Signed::AsItShould)]
#[case::no_nonce(&[("nonce", Value::Null)], Signed::AsItShould)]
#[case::for_another_client(&[("aud", json!("q"))], Signed::AsItShould)]
#[case::for_another_client_too(&[("aud", json!([CLIENT, "q"]))], Signed::AsItShould)]
#[case::for_nobody(&[("aud", Value::Null)], Signed::AsItShould)]
#[case::of_another_issuer(&[("iss", json!("https://evil.example"))], Signed::AsItShould)]
#[case::ended(&[("exp", json!(1_000_000_000))], Signed::AsItShould)]
#[case::without_an_end(&[("exp", Value::Null)], Signed::AsItShould)]
#[case::issued_long_ago(&[("iat", json!(1_000_000_000))], Signed::AsItShould)]
#[case::issued_in_the_future(&[("iat", json!(9_000_000_000_i64))], Signed::AsItShould)]
#[case::of_nobody(&[("sub", json!(""))], Signed::AsItShould)]
#[case::without_a_sub(&[("sub", Value::Null)], Signed::AsItShould)]
#[case::by_another_key(&[], Signed::ByAnotherKey)]
#[case::unsigned(&[], Signed::NotAtAll)]
#[case::by_what_everybody_knows(&[], Signed::ByTheClientsName)]
#[tokio::test]
async fn an_id_token_holds(#[case] claims: &[(&'static str, Value)], #[case] signed: Signed) {
    let (service, port) = port().await;
    *lock(&port.0.spoilt) = Spoilt { claims: claims.to_vec(), signed, ..Spoilt::default() };
    let mut browser = Browser::default();
    let refused = browser.sign_in(&service, &port, "vera").await;
    nobody(&browser, &refused);
    *lock(&port.0.spoilt) = Spoilt { no_token: true, ..Spoilt::default() };
    let refused = browser.sign_in(&service, &port, "vera").await;
    nobody(&browser, &refused);
    *lock(&port.0.spoilt) = Spoilt::default();
    assert_eq!(browser.sign_in(&service, &port, "vera").await.status, 200);
}

#[tokio::test]
async fn a_sign_in_counts_in_its_browser_once_and_soon() {
    let (service, port) = port().await;
    // Whoever has what came back, but not the browser it was begun in.
    let mut victim = Browser::default();
    let sent = victim.begin(&service, "").await;
    let back = port.says(&sent, "vera");
    let mut thief = Browser::default();
    let refused = thief.comes_back(&service, &back).await;
    nobody(&thief, &refused);
    thief.begin(&service, "").await;
    let refused = thief.comes_back(&service, &back).await;
    nobody(&thief, &refused);
    // A code of somebody else's flow, with one's own state: the issuer sees that the proof is another's (PKCE).
    let own = port.says(&thief.begin(&service, "").await, "noor");
    let mut mixed = own.clone();
    mixed.insert("code".to_owned(), back["code"].clone());
    let refused = thief.comes_back(&service, &mixed).await;
    nobody(&thief, &refused);

    // Once, even where the issuer would let it count again.
    lock(&port.0.spoilt).careless = true;
    let sent = victim.begin(&service, "").await;
    let kept = victim.clone();
    let back = port.says(&sent, "vera");
    assert_eq!(victim.comes_back(&service, &back).await.status, 200);
    let mut again = kept.clone();
    let refused = again.comes_back(&service, &back).await;
    nobody(&again, &refused);
    assert_eq!(victim.who(&service).await.status, 200);
    // And a careless issuer's code of another flow fails by its nonce.
    let other = port.says(&Browser::default().begin(&service, "").await, "wim");
    let mut browser = Browser::default();
    let mut mixed = port.says(&browser.begin(&service, "").await, "noor");
    mixed.insert("code".to_owned(), other["code"].clone());
    let refused = browser.comes_back(&service, &mixed).await;
    nobody(&browser, &refused);
    lock(&port.0.spoilt).careless = false;

    // Not after ten minutes, nor for another issuer's address.
    let mut late = Browser::default();
    let back = port.says(&late.begin(&service, "").await, "vera");
    let cookie = late.0.get_mut("ostrog-sign-in").expect("is begun");
    let mut begun: Value =
        serde_json::from_slice(&URL_SAFE_NO_PAD.decode(&*cookie).expect("text")).expect("JSON");
    begun["at"] = json!(begun["at"].as_i64().expect("seconds") - 601);
    *cookie = b64(begun.to_string());
    let refused = late.comes_back(&service, &back).await;
    nobody(&late, &refused);
    let mut mixed_up = Browser::default();
    let back = port.says(&mixed_up.begin(&service, "").await, "vera");
    let query = url::form_urlencoded::Serializer::new(String::new()).extend_pairs(&back).finish();
    let refused = mixed_up.get(&service, &format!("/sign-in/other-id/back?{query}")).await;
    nobody(&mixed_up, &refused);

    // It leads nowhere else.
    let mut browser = Browser::default();
    let sent = browser.begin(&service, "?to=//evil.example/").await;
    let redirect: HashMap<String, String> =
        Url::parse(&sent).expect("an address").query_pairs().into_owned().collect();
    assert_eq!(redirect["redirect_uri"], "http://ostrog.example/sign-in/port-id/back");
    let done = browser.comes_back(&service, &port.says(&sent, "vera")).await;
    assert!(done.to_string().contains("content=\"0; url=/\""), "{done}");
    let closed = browser.get(&service, "/sign-in/no-such").await;
    assert_eq!(closed.status, 404);
    is_closed(&closed);
}

#[tokio::test]
async fn what_weighs_most_needs_a_sign_in_of_lately() {
    let (service, port) = port().await;
    let text = format!("{SETTINGS}\n[decisions]\nkeep = \"90d\"\n");
    let mut browser = Browser::default();
    for shown in [901, i64::from(i32::MAX)] {
        *lock(&port.0.shown) = shown;
        assert_eq!(browser.sign_in(&service, &port, "vera").await.status, 200);
        let calls = [
            ("PUT /api/v1/settings", json!({ "text": text })),
            ("POST /api/v1/reviews/D-1/approval", json!({})),
            (
                "POST /api/v1/rollouts",
                json!({ "what": "D-1", "for": "all", "urgent": true, "note": "a gale" }),
            ),
            (
                "POST /api/v1/issuers",
                json!({ "key": "other-id", "url": "https://id.example", "operators": true, "client": "c" }),
            ),
        ];
        for (call, body) in &calls {
            let refused = browser.write(&service, call, body).await;
            assert_eq!(refused.status, 401, "{call} {refused}");
            assert!(refused.problem().kind.ends_with(":sign-in-again"), "{refused}");
            let challenge = refused.headers["www-authenticate"].to_str().expect("text");
            assert!(challenge.contains("insufficient_user_authentication"), "{challenge}");
        }
        // What only asks is answered.
        let asked =
            browser.write(&service, "PUT /api/v1/settings", &json!({ "text": text, "check": true })).await;
        assert_eq!(asked.status, 200, "{asked}");
    }
    // An issuer that does not say when counts as one that says long ago.
    *lock(&port.0.spoilt) = Spoilt { claims: vec![("auth_time", Value::Null)], ..Spoilt::default() };
    assert_eq!(browser.sign_in(&service, &port, "vera").await.status, 200);
    let put = json!({ "text": text });
    assert_eq!(browser.write(&service, "PUT /api/v1/settings", &put).await.status, 401);
    *lock(&port.0.spoilt) = Spoilt::default();
    *lock(&port.0.shown) = 890;
    let sent = browser.begin(&service, "?again=true").await;
    assert!(sent.contains("max_age=0") && sent.contains("prompt=login"), "{sent}");
    assert_eq!(browser.comes_back(&service, &port.says(&sent, "vera")).await.status, 200);
    let done = browser.write(&service, "PUT /api/v1/settings", &put).await;
    assert!(done.read::<SettingsChange>().in_force, "{done}");
}

#[tokio::test]
async fn sessions_end_by_themselves_and_with_their_rights() {
    let (service, port) = port().await;
    let beside = service.beside().await;
    let pool = &service.pool().await;
    let age = async |set: &str| {
        let update = format!("update sessions set {set}");
        sqlx::query(sqlx::AssertSqlSafe(update)).execute(pool).await.expect("is set");
    };
    // Idle, too long, with old claims: on a node that has not seen it used.
    for set in [
        "used_at = now() - interval '61 minutes', claimed_at = now() - interval '61 minutes'",
        "created_at = now() - interval '721 minutes'",
        "claimed_at = now() - interval '61 minutes'",
    ] {
        let mut browser = Browser::default();
        assert_eq!(browser.sign_in(&service, &port, "vera").await.status, 200);
        age(set).await;
        assert_eq!(browser.who(&beside).await.status, 401, "{set}");
    }
    // Claims are had anew, of the same person; what they are now counts at once.
    let mut browser = Browser::default();
    *lock(&port.0.groups) = vec!["Platform security"];
    assert_eq!(browser.sign_in(&service, &port, "noor").await.status, 200);
    age("claimed_at = now() - interval '59 minutes'").await;
    let renewal = "POST /api/v1/session/renewal";
    assert_eq!(browser.write(&service, renewal, &json!({})).await.status, 200);
    let claimed: i64 = sqlx::query_scalar(
        "select count(*) from sessions where sub = 'noor' and claimed_at > now() - interval '1 minute'",
    )
    .fetch_one(pool)
    .await
    .expect("a number");
    assert_eq!(claimed, 1);
    let refused = browser.write(&service, renewal, &json!({ "renewal": "renews vera" })).await;
    assert_eq!(refused.status, 401, "{refused}");
    assert_eq!(browser.write(&service, renewal, &json!({ "renewal": "made up" })).await.status, 401);
    lock(&port.0.groups).clear();
    let renewed = browser.write(&service, renewal, &json!({})).await;
    assert_eq!(renewed.status, 401, "{renewed}");
    assert_eq!(browser.who(&beside).await.status, 401);

    // Whoever is taken off the record is signed out everywhere, for good.
    let (mut wim, mut vera) = (Browser::default(), Browser::default());
    assert_eq!(wim.sign_in(&service, &port, "wim").await.status, 200);
    assert_eq!(vera.sign_in(&service, &port, "vera").await.status, 200);
    let without = SETTINGS.replace("sign-ins = [\"port-id/wim\"]", "");
    for text in [without.as_str(), SETTINGS] {
        let put = service.node.put_settings_of_host(text, "test").await;
        put.unwrap_or_else(|why| panic!("{}", why.detail()));
        for node in [&service, &beside] {
            assert_eq!(wim.who(node).await.status, 401);
            assert_eq!(vera.who(node).await.status, 200);
        }
    }
    assert_eq!(wim.sign_in(&service, &port, "wim").await.status, 200);
    // With the issuer everybody goes; an owner's key is the way back in.
    let owner = service.operator("owner", "everywhere").await;
    assert_eq!(service.call(&owner, "DELETE /api/v1/issuers/port-id", None).await.status, 200);
    for node in [&service, &beside] {
        assert_eq!(
            (wim.who(node).await.status, vera.who(node).await.status),
            (StatusCode::UNAUTHORIZED, StatusCode::UNAUTHORIZED)
        );
        node.node
            .wait_for(&service.node.live_revision().expect("is live").1.to_string(), None)
            .await
            .expect("follows");
        assert!(node.get("", "/api/v1/sign-in").await.read::<Vec<SignInWith>>().is_empty());
    }

    // Another issuer of the same key says who somebody is only once another has approved it.
    let asked = json!({ "key": "port-id", "url": port.0.url, "operators": true, "client": CLIENT });
    let refused = json!({ "key": "port-id", "url": port.0.url, "operators": true, "client": "q", "audiences": { "quay": ["q"] } });
    assert_eq!(service.post(&owner, "/api/v1/issuers", &refused).await.status, 422);
    assert_eq!(service.post(&owner, "/api/v1/issuers", &asked).await.status, 200);
    assert!(service.get("", "/api/v1/sign-in").await.read::<Vec<SignInWith>>().is_empty());
    assert_eq!(browser.get(&service, "/sign-in/port-id").await.status, 404);
    let waiting = service.get(&owner, "/api/v1/waiting").await.read::<Vec<Waiting>>();
    assert!(waiting.iter().any(|one| one.id == "I-port-id" && one.not_yet.is_some()), "{waiting:?}");
    let approval = "/api/v1/reviews/I-port-id/approval";
    assert_eq!(service.post(&owner, approval, &json!({})).await.status, 403);
    let person = crate::release::of_person(&service, "wim").await;
    let approved = service.post(&person, approval, &json!({ "note": "it is the port's" })).await;
    assert_eq!(approved.status, 200, "{approved}");
    assert_eq!(vera.who(&service).await.status, 401, "what had ended has");
    assert_eq!(vera.sign_in(&service, &port, "vera").await.status, 200);
}

#[tokio::test]
async fn a_command_line_signs_in_on_its_own_machine() {
    let (service, port) = port().await;
    let path = "/api/v1/sign-in/port-id";
    let loopback = format!("{path}/loopback");
    let elsewhere = service.post("", &loopback, &json!({ "back": "https://evil.example/signed-in" })).await;
    assert_eq!(elsewhere.status, 422, "{elsewhere}");
    let back = "http://127.0.0.1:4711/signed-in";
    let begun: LoopbackBegun = service.post("", &loopback, &json!({ "back": back })).await.read();
    let came = port.says(&begun.address, "vera");
    let mut asked = json!({
        "code": came["code"], "iss": came["iss"], "back": back, "nonce": begun.nonce, "verifier": begun.verifier,
    });
    let session = format!("{path}/session");
    for (name, value) in [
        ("iss", Value::Null),
        ("iss", json!("https://evil.example")),
        ("back", json!("http://127.0.0.1:1/x")),
    ] {
        let mut spoilt = asked.clone();
        spoilt[name] = value;
        let refused = service.post("", &session, &spoilt).await;
        assert!(refused.status.is_client_error(), "{refused}");
    }
    let outcome: SessionOutcome = service.post("", &session, &asked).await.read();
    let given = outcome.given.expect("a session");
    assert_eq!(given.who.key, "person:vera");
    let who: SignedIn = service.get(&given.session, "/api/v1/session").await.read();
    assert_eq!(who.name, "Vera");
    // A command line's session is none of the console's.
    let text = given.session.strip_prefix("ostrog-session.").expect("is one").to_owned();
    let mut browser = Browser([("ostrog-session".to_owned(), text)].into());
    assert_eq!(browser.who(&service).await.status, 401);
    // The verifier and the nonce of another begin nothing.
    for name in ["nonce", "verifier"] {
        let begun: LoopbackBegun = service.post("", &loopback, &json!({ "back": back })).await.read();
        asked["code"] = json!(port.says(&begun.address, "vera")["code"]);
        (asked["nonce"], asked["verifier"]) = (json!(begun.nonce), json!(begun.verifier));
        asked[name] = json!("another, of forty-three characters or more, as it must be");
        let refused = service.post("", &session, &asked).await;
        assert_eq!(refused.status, 401, "{refused}");
    }
    // Its issuer has no devices, and says so.
    assert_eq!(service.post("", &format!("{path}/device"), &json!({})).await.status, 409);
    let renewed =
        service.post(&given.session, "/api/v1/session/renewal", &json!({ "renewal": given.renewal })).await;
    assert_eq!(renewed.read::<Renewed>().who.key, "person:vera");
    assert_eq!(service.call(&given.session, "DELETE /api/v1/session", None).await.status, 204);
    assert_eq!(service.get(&given.session, "/api/v1/session").await.status, 401);
}
