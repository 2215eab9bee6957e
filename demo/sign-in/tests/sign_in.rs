//! The stand-in by its network, as applications of the port use it; its tokens held against its keys by the verifier
//! that the service has.

use axum::Router;
use jiff::Timestamp;
use ostrog_sign_in::SignIn;
use ostrog_sign_in::keys::b64;
use ostrog_sign_in::known::Known;
use ostrog_tokens::jws::Jws;
use ostrog_tokens::keys::KeySet;
use ostrog_tokens::verify::{Terms, verify};
use reqwest::redirect::Policy;
use reqwest::{Client, Response};
use rstest::rstest;
use serde_json::{Map, Value, json};
use sha2::{Digest as _, Sha256};
use std::collections::{BTreeMap, BTreeSet};
use url::Url;

const VERIFIER: &str = "a-verifier-of-at-least-forty-three-characters-long";
const BACK: &str = "http://127.0.0.1:4711/signed-in";
const DEVICE: &str = "urn:ietf:params:oauth:grant-type:device_code";

struct Port {
    url: String,
    http: Client,
}

impl Port {
    async fn open() -> Port {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let url = format!("http://{}", listener.local_addr().expect("an address"));
        let router: Router = SignIn::at(&url).router();
        tokio::spawn(async move { axum::serve(listener, router).await });
        let http = Client::builder().redirect(Policy::none()).build().expect("a client");
        Port { url, http }
    }

    fn asked(&self) -> BTreeMap<String, String> {
        let challenge = b64(Sha256::digest(VERIFIER));
        [
            ("response_type", "code"),
            ("client_id", "customs-desk"),
            ("redirect_uri", BACK),
            ("scope", "openid"),
            ("state", "s t"),
            ("nonce", "n-1"),
            ("code_challenge", &challenge),
            ("code_challenge_method", "S256"),
        ]
        .map(|(name, value)| (name.to_owned(), value.to_owned()))
        .into()
    }

    async fn form(&self, path: &str, form: &BTreeMap<String, String>) -> Response {
        self.http.post(format!("{}{path}", self.url)).form(form).send().await.expect("an answer")
    }

    /// Picks somebody, and gives what the address back says.
    async fn picked(&self, person: &str, asked: &BTreeMap<String, String>) -> BTreeMap<String, String> {
        let mut form = asked.clone();
        form.insert("person".to_owned(), person.to_owned());
        let answer = self.form("/authorize", &form).await;
        assert_eq!(answer.status(), 303);
        let back = Url::parse(answer.headers()["location"].to_str().expect("text")).expect("an address");
        assert_eq!((back.path(), back.port()), ("/signed-in", Some(4711)));
        back.query_pairs().into_owned().collect()
    }

    async fn token(&self, form: &[(&str, &str)]) -> (u16, Value) {
        let form = form.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect();
        let answer = self.form("/token", &form).await;
        (answer.status().as_u16(), answer.json().await.expect("JSON"))
    }

    async fn of(&self, person: &str) -> Value {
        let back = self.picked(person, &self.asked()).await;
        let (status, answer) = self
            .token(&[
                ("grant_type", "authorization_code"),
                ("client_id", "customs-desk"),
                ("code", &back["code"]),
                ("redirect_uri", BACK),
                ("code_verifier", VERIFIER),
            ])
            .await;
        assert_eq!(status, 200, "{answer}");
        answer
    }

    async fn get(&self, path: &str) -> Value {
        self.http
            .get(format!("{}{path}", self.url))
            .send()
            .await
            .expect("an answer")
            .json()
            .await
            .expect("JSON")
    }

    /// The claims of a token that holds under the keys that are published now.
    async fn verified(&self, token: &str) -> Map<String, Value> {
        let keys = KeySet::read(self.get("/keys").await.to_string().as_bytes()).expect("a key set");
        let jws = Jws::read(token).expect("a token");
        let claims = ostrog_tokens::read(token).1.expect("claims");
        let terms = Terms { iss: &self.url, id_tokens: true };
        verify(&jws, claims, "port-id", terms, &keys, Timestamp::now()).expect("it holds").claims
    }
}

#[tokio::test]
async fn somebody_is_picked_and_comes_back_with_tokens_that_hold() {
    let port = Port::open().await;
    let found = port.get("/.well-known/openid-configuration").await;
    assert_eq!(found["issuer"], port.url);
    assert_eq!(found["jwks_uri"], format!("{}/keys", port.url));
    let page =
        port.http.get(format!("{}/authorize", port.url)).query(&port.asked()).send().await.expect("a page");
    assert_eq!(page.status(), 200);
    assert!(
        page.headers()["content-security-policy"].to_str().expect("text").contains("frame-ancestors 'none'")
    );
    let page = page.text().await.expect("text");
    assert!(page.contains("asks for no password") && page.contains("value=\"noor\""), "{page}");

    let back = port.picked("rui", &port.asked()).await;
    assert_eq!((&*back["state"], &*back["iss"]), ("s t", &*port.url));
    let answer = port.of("rui").await;
    let access = port.verified(answer["access_token"].as_str().expect("text")).await;
    let told = |name: &str| access[name].clone();
    assert_eq!(told("aud"), "https://customs.sorrel-bay.example");
    assert_eq!(
        [told("sub"), told("org"), told("kind"), told("client_id"), told("groups")],
        [json!("rui"), json!("authority"), json!("person"), json!("customs-desk"), json!(["Customs Night"])]
    );
    let id = port.verified(answer["id_token"].as_str().expect("text")).await;
    assert_eq!((&id["aud"], &id["nonce"]), (&json!("customs-desk"), &json!("n-1")));
    let user = port.http.get(format!("{}/userinfo", port.url));
    let user =
        user.bearer_auth(answer["access_token"].as_str().expect("text")).send().await.expect("an answer");
    assert_eq!(user.json::<Value>().await.expect("JSON")["sub"], "rui");
    assert_eq!(
        port.verified(port.of("petra").await["access_token"].as_str().expect("text")).await["groups"]
            .as_array()
            .expect("a list")
            .len(),
        300
    );
}

#[tokio::test]
async fn each_kind_of_key_signs_in_turn_and_older_ones_stay_published() {
    let port = Port::open().await;
    let mut kinds = BTreeSet::new();
    let first = port.of("ines").await["access_token"].as_str().expect("text").to_owned();
    for _ in 0..3 {
        let token = port.of("ines").await["access_token"].as_str().expect("text").to_owned();
        let (header, _) = ostrog_tokens::read(&token);
        kinds.insert(header.expect("a header")["alg"].as_str().expect("text").to_owned());
        let _ = port.verified(&token).await;
        let rotated = port.form("/rotate", &BTreeMap::new()).await;
        assert!(rotated.json::<Value>().await.expect("JSON")["kid"].is_string());
    }
    assert_eq!(kinds.into_iter().collect::<Vec<_>>(), ["ES256", "EdDSA", "RS256"]);
    let _ = port.verified(&first).await;
    assert_eq!(port.get("/keys").await["keys"].as_array().expect("a list").len(), 6);
}

#[rstest]
#[case(&[("client_id", "nobody")], 400)]
#[case(&[("redirect_uri", "https://evil.example/signed-in")], 400)]
#[case(&[("redirect_uri", "http://127.0.0.1:4711/elsewhere")], 400)]
#[case(&[("redirect_uri", "http://127.0.0.1:4711/signed-in#x")], 400)]
#[case(&[("redirect_uri", "http://localhost:4711/signed-in")], 400)]
#[case(&[("response_type", "token")], 303)]
#[case(&[("code_challenge_method", "plain")], 303)]
#[case(&[("code_challenge", "")], 303)]
#[case(&[("person", "nobody")], 303)]
#[tokio::test]
async fn a_wrong_request_gets_no_code(#[case] other: &[(&str, &str)], #[case] status: u16) {
    let port = Port::open().await;
    let mut form = port.asked();
    form.insert("person".to_owned(), "ines".to_owned());
    form.extend(other.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())));
    let answer = port.form("/authorize", &form).await;
    assert_eq!(answer.status().as_u16(), status);
    if let Some(back) = answer.headers().get("location") {
        let back = back.to_str().expect("text");
        assert!(back.starts_with(BACK) && back.contains("error=") && !back.contains("code="), "{back}");
    }
}

#[tokio::test]
async fn a_code_counts_once_for_who_asked_with_the_proof() {
    let port = Port::open().await;
    for (name, value) in [
        ("code_verifier", "another-verifier-of-forty-three-characters-long"),
        ("redirect_uri", "http://127.0.0.1:1/signed-in"),
        ("client_id", "agents-portal"),
        ("code", "none"),
    ] {
        let back = port.picked("ines", &port.asked()).await;
        let mut form = BTreeMap::from([
            ("grant_type", "authorization_code"),
            ("client_id", "customs-desk"),
            ("code", &back["code"]),
            ("redirect_uri", BACK),
            ("code_verifier", VERIFIER),
        ]);
        let right: Vec<_> = form.clone().into_iter().collect();
        form.insert(name, value);
        let (status, answer) = port.token(&form.into_iter().collect::<Vec<_>>()).await;
        assert_eq!((status, &answer["error"]), (400, &json!("invalid_grant")), "{name}");
        // Whoever tried it has used it up.
        let (status, _) = port.token(&right).await;
        assert_eq!(status, if name == "code" { 200 } else { 400 }, "{name}");
    }
}

#[tokio::test]
async fn services_show_their_secret_and_devices_wait_for_somebody() {
    let port = Port::open().await;
    let form = |secret: &'static str| {
        [("grant_type", "client_credentials"), ("client_id", "crane-feed"), ("client_secret", secret)]
    };
    let (status, answer) = port.token(&form("made-up-crane-feed")).await;
    assert_eq!(status, 200, "{answer}");
    let claims = port.verified(answer["access_token"].as_str().expect("text")).await;
    assert_eq!(
        [&claims["sub"], &claims["client_id"], &claims["kind"]],
        [&json!("crane-feed"), &json!("crane-feed"), &json!("machine")]
    );
    let basic =
        port.http.post(format!("{}/token", port.url)).basic_auth("crane-feed", Some("made-up-crane-feed"));
    let basic = basic.form(&[("grant_type", "client_credentials")]).send().await.expect("an answer");
    assert_eq!(basic.status(), 200);
    assert_eq!(port.token(&form("wrong")).await.0, 401);
    for (client, status, error) in
        [("customs-desk", 400, "unauthorized_client"), ("nobody", 401, "invalid_client")]
    {
        let (found, answer) =
            port.token(&[("grant_type", "client_credentials"), ("client_id", client)]).await;
        assert_eq!((found, &answer["error"]), (status, &json!(error)), "{client}");
    }

    let begun =
        port.form("/device", &BTreeMap::from([("client_id".to_owned(), "quay-terminal".to_owned())])).await;
    let begun: Value = begun.json().await.expect("JSON");
    let (secret, short) =
        (begun["device_code"].as_str().expect("text"), begun["user_code"].as_str().expect("text"));
    let waits = [("grant_type", DEVICE), ("client_id", "quay-terminal"), ("device_code", secret)];
    assert_eq!(port.token(&waits).await.1["error"], "authorization_pending");
    let page = port.http.get(begun["verification_uri_complete"].as_str().expect("text")).send().await;
    assert!(page.expect("a page").text().await.expect("text").contains(short));
    let confirm = |code: &str| {
        BTreeMap::from([("user_code".to_owned(), code.to_owned()), ("person".to_owned(), "lio".to_owned())])
    };
    assert_eq!(port.form("/device/confirm", &confirm(short)).await.status(), 404, "lio is not known here");
    let mut picked = confirm(short);
    picked.insert("person".to_owned(), "sena".to_owned());
    assert_eq!(port.form("/device/confirm", &picked).await.status(), 200);
    let (status, answer) = port.token(&waits).await;
    assert_eq!(status, 200, "{answer}");
    assert_eq!(port.verified(answer["access_token"].as_str().expect("text")).await["sub"], "sena");
    assert_eq!(port.token(&waits).await.1["error"], "expired_token");
}

#[tokio::test]
async fn tokens_are_had_anew_once_each_by_their_client() {
    let port = Port::open().await;
    let mut asked = port.asked();
    asked.insert("scope".to_owned(), "openid offline_access".to_owned());
    let back = port.picked("ines", &asked).await;
    let form = [
        ("grant_type", "authorization_code"),
        ("client_id", "customs-desk"),
        ("code", &back["code"]),
        ("redirect_uri", BACK),
        ("code_verifier", VERIFIER),
    ];
    let (_, first) = port.token(&form).await;
    let anew = async |client: &str, token: &Value| {
        let token = token.as_str().expect("text");
        let form = [("grant_type", "refresh_token"), ("client_id", client), ("refresh_token", token)];
        port.token(&form).await
    };
    let (status, second) = anew("customs-desk", &first["refresh_token"]).await;
    assert_eq!(status, 200, "{second}");
    let claims = port.verified(second["id_token"].as_str().expect("text")).await;
    assert_eq!((&claims["sub"], &claims["aud"]), (&json!("ines"), &json!("customs-desk")));
    assert_eq!(anew("customs-desk", &first["refresh_token"]).await.0, 400, "it was used");
    assert_eq!(anew("agents-portal", &second["refresh_token"]).await.0, 400, "it is another client's");
}

#[tokio::test]
async fn who_signs_out_is_signed_out() {
    let port = Port::open().await;
    let jar = Client::builder().redirect(Policy::none()).build().expect("a client");
    let mut form = port.asked();
    form.insert("person".to_owned(), "ines".to_owned());
    let answer = jar.post(format!("{}/authorize", port.url)).form(&form).send().await.expect("an answer");
    let cookie = answer.headers()["set-cookie"].to_str().expect("text").to_owned();
    assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Lax"), "{cookie}");
    let back = Url::parse(answer.headers()["location"].to_str().expect("text")).expect("an address");
    let code = back.query_pairs().find(|(name, _)| name == "code").expect("a code").1.into_owned();
    let (_, tokens) = port
        .token(&[
            ("grant_type", "authorization_code"),
            ("client_id", "customs-desk"),
            ("code", &code),
            ("redirect_uri", BACK),
            ("code_verifier", VERIFIER),
        ])
        .await;
    let user = async || {
        let asked = port.http.get(format!("{}/userinfo", port.url));
        asked
            .bearer_auth(tokens["access_token"].as_str().expect("text"))
            .send()
            .await
            .expect("an answer")
            .status()
    };
    assert_eq!(user().await, 200);
    let secret = cookie.split(';').next().expect("a cookie");
    for (to, status) in [("https://evil.example/", 200), ("http://127.0.0.1:4711/bye", 303)] {
        let leave = jar.get(format!("{}/sign-out", port.url)).header("cookie", secret);
        let leave = leave.query(&[("client_id", "customs-desk"), ("post_logout_redirect_uri", to)]);
        assert_eq!(leave.send().await.expect("an answer").status(), status, "{to}");
    }
    assert_eq!(user().await, 401);
}

#[test]
fn all_but_one_are_in_the_demos_register_and_two_are_in_a_group_there_that_they_are_not_in() {
    let mut names = BTreeSet::new();
    for text in include_str!("../../register.ndjson").lines() {
        let line: Value = serde_json::from_str(text).expect("a line");
        names.extend(line["entity"].as_str().map(str::to_owned));
    }
    let known = Known::of_the_port();
    let missing: Vec<_> =
        known.people.iter().filter(|person| !names.contains(&format!("user:{}", person.id))).collect();
    assert_eq!(
        missing.iter().map(|person| person.id.as_str()).collect::<Vec<_>>(),
        ["noor", "wim"],
        "who came this morning, and who approves policy"
    );
    let night: Vec<_> =
        known.people.iter().filter(|person| person.groups().contains(&"Customs Night".to_owned())).collect();
    // In the register Ines alone is in group:night.
    assert_eq!(night.len(), 3);
}
