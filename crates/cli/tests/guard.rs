//! An Axum application that is guarded by the client's layer, beside a real service, beside one that does not answer,
//! and beside servers that answer anything but a decision.

mod support;

use axum::Router;
use axum::extract::{Path, State};
use ostrog_client::guard::{Columns, Counts, Guard, Needs, Permit, Refusal, Routes, may, open, rows};
use ostrog_client::{Client, RowFilter};
use ostrog_tokens::Issuers;
use ostrog_tokens::issuers::{Config, Fetch, KeySource, Later, Reach, Unfetched};
use rstest::rstest;
use serde_json::{Value, json};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use support::{Service, folder, signal};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::TcpListener;

/// How often a handler was called that must not be.
type Reached = Arc<AtomicUsize>;

async fn show(State(reached): State<Reached>, permit: Permit, Path(manifest): Path<String>) -> String {
    reached.fetch_add(1, Ordering::Relaxed);
    format!("{manifest} for {}", permit.subject)
}

async fn done(State(reached): State<Reached>) -> &'static str {
    reached.fetch_add(1, Ordering::Relaxed);
    "done"
}

async fn list(State(reached): State<Reached>, filter: RowFilter) -> String {
    reached.fetch_add(1, Ordering::Relaxed);
    format!("{} where {}", filter.subject.unwrap_or_default(), filter.none)
}

async fn menu(
    State(reached): State<Reached>,
    permit: Permit,
    Path(manifest): Path<String>,
) -> Result<String, Refusal> {
    reached.fetch_add(1, Ordering::Relaxed);
    let shown = permit.caller.affordances(Some(&format!("manifest:{manifest}"))).await?;
    let reason = shown.all.iter().find_map(|hint| hint.reason.clone()).unwrap_or_default();
    Ok(format!("{} {} {reason}", shown.shows("release-button"), shown.enables("release-button")))
}

fn columns() -> Columns {
    let columns =
        [("line", "m.line_code"), ("within", "m.voyage")].map(|(of, at)| (of.to_owned(), at.to_owned()));
    Columns { table: "manifests m".to_owned(), id: "m.number".to_owned(), columns: columns.into() }
}

/// The customs desk in a few lines.
fn desk(guard: &Guard, reached: &Reached) -> Router {
    let routes: Routes<Reached> = guard.routes();
    let release =
        may("manifest:view").on("manifest:{manifest}").and(may("manifest:release").on("manifest:{manifest}"));
    let router = routes
        .get("/manifests/{manifest}", show, may("manifest:view").on("manifest:{manifest}"))
        .post("/manifests/{manifest}/release", done, release)
        .post("/voyages/{voyage}/manifests", done, may("manifest:file").on_new_within("voyage:{voyage}"))
        .get("/manifests", list, rows("manifest:view", &columns()))
        .get("/manifests/{manifest}/menu", menu, may("manifest:view").on("manifest:{manifest}"))
        .get("/none", done, may("manifest:fly").on_new())
        .get("/health", done, open());
    router.build().expect("is right").with_state(reached.clone())
}

/// Serves a router on loopback.
async fn serve(router: Router) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let address = format!("http://{}", listener.local_addr().expect("an address"));
    tokio::spawn(async move { axum::serve(listener, router).await.expect("serves") });
    address
}

/// Status, challenge, and the answer as JSON or text.
async fn ask(
    http: &reqwest::Client,
    method: &str,
    address: &str,
    token: Option<&str>,
) -> (u16, String, Value) {
    let method = reqwest::Method::from_bytes(method.as_bytes()).expect("a method");
    let mut request = http.request(method, address);
    if let Some(token) = token {
        request = request.header("authorization", format!("Bearer {token}"));
    }
    let response = request.send().await.expect("an answer");
    let status = response.status().as_u16();
    let challenge =
        response.headers().get("www-authenticate").map(|value| value.to_str().expect("text").to_owned());
    let text = response.text().await.expect("text");
    let body = serde_json::from_str(&text).unwrap_or(Value::String(text));
    (status, challenge.unwrap_or_default(), body)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_few_lines_guard_an_application() {
    let folder = folder();
    let service = Service::port(folder.path());
    let (ines, tomas) = (service.token_of("ines").await, service.token_of("tomas").await);
    let guard = Guard::new(Client::new(&service.url, &service.customs).expect("an address"));
    let reached = Reached::default();
    let desk = serve(desk(&guard, &reached)).await;
    let http = reqwest::Client::new();
    let at = |path: &str| format!("{desk}{path}");
    for (method, path, token, status, words) in [
        ("GET", "/health", None, 200, "done"),
        ("GET", "/manifests/m-204", Some(&ines), 200, "m-204 for user:ines"),
        ("HEAD", "/manifests/m-204", Some(&ines), 200, ""),
        ("GET", "/manifests/m-204", None, 401, "Sign in first"),
        ("POST", "/manifests/m-204/release", Some(&ines), 403, "condition"),
        ("GET", "/manifests/m-204/menu", Some(&ines), 200, "true false condition"),
        ("GET", "/manifests", Some(&ines), 200, "user:ines where false"),
        ("GET", "/manifests", None, 401, "Sign in first"),
        ("GET", "/manifests/none-such", Some(&ines), 403, "You may not"),
        ("GET", "/manifests/m-204?Access_Token=x", Some(&ines), 401, "does not count"),
        ("GET", "/manifests/m%2D204", Some(&ines), 403, "path-refused"),
        ("GET", "/manifests/m%2F204", Some(&ines), 403, "path-refused"),
        ("GET", "/none", Some(&ines), 403, "unknown-permission"),
        ("GET", "/elsewhere", Some(&ines), 404, ""),
        ("DELETE", "/manifests/m-204", Some(&ines), 405, ""),
        ("POST", "/voyages/kestrel-0412/manifests", Some(&ines), 403, "You may not"),
    ] {
        let before = reached.load(Ordering::Relaxed);
        let answer = ask(&http, method, &at(path), token.map(String::as_str)).await;
        assert!(answer.0 == status && answer.2.to_string().contains(words), "{method} {path}: {answer:?}");
        let called = reached.load(Ordering::Relaxed) - before;
        assert_eq!(called, usize::from(status == 200), "{method} {path}");
    }
    let spoilt = format!("{ines}x");
    for path in ["/manifests/m-204", "/manifests"] {
        let refused = ask(&http, "GET", &at(path), Some(&spoilt)).await;
        assert_eq!((refused.0, refused.1.as_str()), (401, "Bearer error=\"invalid_token\""), "{refused:?}");
    }
    for headers in [vec![format!("Basic {ines}")], vec![format!("Bearer {ines}"), format!("Bearer {tomas}")]]
    {
        let mut request = http.get(at("/manifests/m-204"));
        for header in &headers {
            request = request.header("authorization", header);
        }
        assert_eq!(request.send().await.expect("an answer").status(), 401, "{headers:?}");
    }

    // One fact changed: let in, without a restart; the guard demands an answer that has it.
    let fact = json!({ "set": ["user:ines.clearance = 5"] });
    let (_, written) = service.post(&service.operator, "/api/v1/facts", &fact).await;
    guard.after(written["position"].as_str().expect("a position"), None);
    let released = ask(&http, "POST", &at("/manifests/m-204/release"), Some(&ines)).await;
    assert_eq!(released.0, 200, "{released:?}");

    // While the service hangs nobody is let in, and nobody waits for long; then it goes on.
    signal(service.pid(), "STOP");
    let began = Instant::now();
    for _ in 0..7 {
        let hung = ask(&http, "GET", &at("/manifests/m-204"), Some(&ines)).await;
        assert_eq!(hung.0, 503, "{hung:?}");
        assert_eq!(ask(&http, "GET", &at("/health"), None).await.0, 200, "what is open goes on");
    }
    assert!(
        began.elapsed() < Duration::from_secs(7),
        "after five it is not asked each time: {:?}",
        began.elapsed()
    );
    signal(service.pid(), "CONT");
    let mut back = 503;
    for _ in 0..200 {
        back = ask(&http, "GET", &at("/manifests/m-204"), Some(&ines)).await.0;
        if back == 200 {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert_eq!(back, 200);
    let counts = guard.counts();
    assert!(counts.allowed >= 4 && counts.denied >= 9 && counts.unanswered >= 8, "{counts:?}");

    // Another history than the one of its own write.
    guard.after("another.9", None);
    assert_eq!(ask(&http, "GET", &at("/manifests/m-204"), Some(&ines)).await.0, 503);
}

/// A server that gives every caller the same bytes, and tells how often it was called.
async fn gives(bytes: Vec<u8>, hold: bool) -> (String, Reached) {
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let address = format!("http://{}", listener.local_addr().expect("an address"));
    let calls = Reached::default();
    let counted = calls.clone();
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let bytes = bytes.clone();
            counted.fetch_add(1, Ordering::Relaxed);
            tokio::spawn(async move {
                let mut asked = vec![0; 65_536];
                let _ = stream.read(&mut asked).await;
                let _ = stream.write_all(&bytes).await;
                if hold {
                    tokio::time::sleep(Duration::from_secs(30)).await;
                }
            });
        }
    });
    (address, calls)
}

fn http(status: &str, body: &str) -> Vec<u8> {
    let length = body.len();
    format!("HTTP/1.1 {status}\r\ncontent-type: application/json\r\nconnection: close\r\ncontent-length: {length}\r\n\r\n{body}")
        .into_bytes()
}

const YES: &str = r#"{"evaluations":[{"decision":true,"context":{"subject":"user:x"}},{"decision":true}]}"#;

#[rstest]
#[case::nothing(Vec::new(), false)]
#[case::silence(Vec::new(), true)]
#[case::garbage(b"\x00\x01 yes yes true\r\n\r\n".to_vec(), false)]
#[case::an_error_that_says_yes(http("500 Oops", YES), false)]
#[case::a_refusal(
    http(
        "401 No",
        r#"{"type":"urn:ostrog:problem:unauthenticated","title":"","status":401,"detail":"no key"}"#
    ),
    false
)]
#[case::elsewhere(b"HTTP/1.1 307 Go\r\nlocation: http://127.0.0.1:1/\r\ncontent-length: 0\r\n\r\n".to_vec(), false)]
#[case::no_content(b"HTTP/1.1 204 None\r\n\r\n".to_vec(), false)]
#[case::cut_off(http("200 OK", YES)[..150].to_vec(), false)]
#[case::slow_in_the_middle(http("200 OK", YES)[..150].to_vec(), true)]
#[case::a_page(http("200 OK", "<html>decision: true</html>"), false)]
#[case::no_decision(http("200 OK", r#"{"evaluations":[{"context":{}},{"context":{}}]}"#), false)]
#[case::a_text_for_a_decision(http("200 OK", &YES.replace("true", "\"true\"")), false)]
#[case::a_number_for_a_decision(http("200 OK", &YES.replace("true", "1")), false)]
#[case::one_answer_for_two(
    http("200 OK", r#"{"evaluations":[{"decision":true,"context":{"subject":"user:x"}}]}"#),
    false
)]
#[case::three_answers_for_two(
    http("200 OK", r#"{"evaluations":[{"decision":true},{"decision":true},{"decision":true}]}"#),
    false
)]
#[case::an_answer_to_one(http("200 OK", r#"{"decision":true,"context":{"subject":"user:x"}}"#), false)]
#[case::a_decision_twice(http("200 OK", &YES.replace("\"decision\":true}", "\"decision\":false,\"decision\":true}")), false)]
#[case::an_item_that_failed(http("200 OK", &YES.replace("\"subject\":\"user:x\"", "\"error\":{\"status\":400,\"message\":\"x\"}")), false)]
#[case::nobody_named(http("200 OK", &YES.replace("\"subject\":\"user:x\"", "")), false)]
#[tokio::test(flavor = "multi_thread")]
async fn nothing_but_an_answer_that_says_so_lets_in(#[case] bytes: Vec<u8>, #[case] hold: bool) {
    let (address, calls) = gives(bytes, hold).await;
    let guard =
        Guard::new(Client::new(&address, "key").expect("an address")).timeout(Duration::from_millis(300));
    let reached = Reached::default();
    let desk = serve(desk(&guard, &reached)).await;
    let by_routes = Guard::new(Client::new(&address, "key").expect("an address"));
    let by_routes = by_routes.timeout(Duration::from_millis(300));
    let counted = reached.clone();
    let all = Router::new().fallback(async move || counted.fetch_add(1, Ordering::Relaxed).to_string());
    let port = serve(by_routes.by_route_check(all)).await;
    let http = reqwest::Client::new();
    let began = Instant::now();
    for _ in 0..4 {
        for path in ["POST {desk}/manifests/m-1/release", "GET {desk}/manifests", "GET {port}/manifests/m-1"]
        {
            let (method, path) = path.split_once(' ').expect("both");
            let path = path.replace("{desk}", &desk).replace("{port}", &port);
            let answer = ask(&http, method, &path, Some("a.b.c")).await;
            assert_eq!(answer.0, 503, "{path}: {answer:?}");
            assert!(!answer.2.to_string().contains("a.b.c"), "{answer:?}");
        }
    }
    assert_eq!(reached.load(Ordering::Relaxed), 0, "no handler is called");
    assert_eq!(guard.counts(), Counts { unanswered: 8, ..Counts::default() });
    assert_eq!(by_routes.counts(), Counts { unanswered: 4, ..Counts::default() });
    assert!(began.elapsed() < Duration::from_secs(6), "{:?}", began.elapsed());
    assert!(calls.load(Ordering::Relaxed) >= 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_answer_that_says_so_lets_in() {
    let (address, _) = gives(http("200 OK", YES), false).await;
    let guard = Guard::new(Client::new(&address, "key").expect("an address"));
    let reached = Reached::default();
    let desk = serve(desk(&guard, &reached)).await;
    let answer =
        ask(&reqwest::Client::new(), "POST", &format!("{desk}/manifests/m-1/release"), Some("a.b.c")).await;
    assert_eq!((answer.0, reached.load(Ordering::Relaxed)), (200, 1), "{answer:?}");
}

#[rstest]
#[case("manifests/{m}", may("manifest:view").on("manifest:{m}"), "begins with /")]
#[case("/manifests/{*m}", may("manifest:view").on("manifest:{m}"), "no one segment")]
#[case("/manifests/x{m}", may("manifest:view").on("manifest:{m}"), "no segment")]
#[case("/manifests/:m", may("manifest:view").on("manifest:x"), "no segment")]
#[case("/a/{m}/b/{m}", may("manifest:view").on("manifest:{m}"), "stands twice")]
#[case("/manifests/{m}", may("manifest:view").on("manifest:{other}"), "the path has no {other}")]
#[case("/manifests/{m}", may("view").on("manifest:{m}"), "is no permission")]
#[case("/manifests/{m}", may("manifest:*").on("manifest:{m}"), "is no permission")]
#[case("/manifests/{m}", may("manifest:view").on("{m}"), "is no resource")]
#[case("/manifests/{m}", may("manifest:view").on("vessel:{m}"), "not for a vessel")]
#[case("/orgs/{o}/teams/{t}", may("team:view").on("team:{o}{t}"), "without a / between")]
#[case("/orgs/{o}/teams/{t}", may("team:view").on("team:{o}-{t}"), "without a / between")]
#[case("/kept/{n}", may("manifest:view").on("manifest:{n}"), "for the same requests")]
#[case("/kept/{m}", open(), "it stands twice")]
fn routes_that_make_no_sense_make_no_router(#[case] path: &str, #[case] needs: Needs, #[case] words: &str) {
    let guard = Guard::new(Client::new("http://127.0.0.1:1", "key").expect("an address"));
    let routes: Routes = guard.routes();
    let routes = routes.get("/kept/{m}", async || "", open()).get(path, async || "", needs);
    let error = routes.build().expect_err("is wrong").to_string();
    assert!(error.contains(words), "{error}");
}

/// An allow that is kept is kept for its question, and for as long as nothing moves.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_kept_ends_when_anything_moves() {
    let folder = folder();
    let service = Service::port(folder.path());
    let (ines, tomas) = (service.token_of("ines").await, service.token_of("tomas").await);
    let client = Client::new(&service.url, &service.customs).expect("an address");
    let guard = Guard::new(client).cache(Duration::from_secs(600));
    let reached = Reached::default();
    let desk = serve(desk(&guard, &reached)).await;
    let http = reqwest::Client::new();
    let set = async |fact: &str| {
        let fact = json!({ "set": [fact] });
        let (status, written) = service.post(&service.operator, "/api/v1/facts", &fact).await;
        assert_eq!(status, 200, "{written}");
    };
    let get = async |path: &str, token: &str| {
        let answer = ask(&http, "GET", &format!("{desk}/manifests/{path}"), Some(token)).await;
        (answer.0, guard.counts().cached)
    };
    assert_eq!(get("m-204", &ines).await, (200, 0));
    assert_eq!(get("m-204", &ines).await, (200, 1));
    assert_eq!(get("m-204", &tomas).await, (200, 1), "another's question");
    assert_eq!(get("m-205", &ines).await, (200, 1), "another question");
    assert_eq!(get("none", &ines).await, (403, 1));
    assert_eq!(get("none", &ines).await, (403, 1), "a denial is asked each time");
    assert_eq!(get("m-204", &format!("{ines}x")).await, (401, 1));

    // Without following, what an answer tells ends it.
    set("user:petra.clearance = 1").await;
    assert_eq!(get("m-204", &ines).await, (200, 2), "nobody told yet");
    assert_eq!(get("none", &ines).await, (403, 2), "this one tells");
    assert_eq!(get("m-204", &ines).await, (200, 2));
    // A stream tells, and a right that ended is gone for whoever had used it just before.
    tokio::spawn(guard.clone().follow());
    let mut moves = guard.reached();
    for (state, status) in [("suspended", 403), ("active", 200), ("suspended", 403)] {
        get("m-204", &ines).await;
        moves.mark_unchanged();
        set(&format!("user:ines state {state}")).await;
        tokio::time::timeout(Duration::from_secs(5), moves.changed())
            .await
            .expect("is told")
            .expect("goes on");
        assert_eq!(get("m-204", &ines).await.0, status, "{state}");
    }
}

/// Has no documents: the keys are given.
struct Nothing;

impl Fetch for Nothing {
    fn get<'f>(&'f self, _: &'f url::Url, _: Reach, _: usize) -> Later<'f, Result<Vec<u8>, Unfetched>> {
        Box::pin(async { Err(Unfetched::Unreachable) })
    }
}

/// What does not hold is refused before anything is asked; what holds is asked all the same.
#[tokio::test(flavor = "multi_thread")]
async fn a_token_that_does_not_hold_is_refused_without_asking() {
    let folder = folder();
    let service = Service::port(folder.path());
    let (ines, petra) = (service.token_of("ines").await, service.token_of("petra").await);
    let (_, issuers) = service.get("/api/v1/issuers").await;
    let iss = issuers[0]["url"].as_str().expect("an address").to_owned();
    let keys = service.http().get(format!("{iss}/keys")).send().await.expect("an answer");
    let keys = KeySource::File(keys.bytes().await.expect("keys").to_vec());
    let verifying = |application: &str, asks: &str| {
        let audience = (application.to_owned(), vec![format!("https://{application}.sorrel-bay.example")]);
        let config = Config {
            key: "port-id".to_owned(),
            iss: iss.clone(),
            audiences: [audience].into(),
            source: keys.clone(),
            private: false,
            id_tokens: false,
        };
        let issuers = Issuers::new(Arc::new(Nothing));
        issuers.set(vec![config], jiff::Timestamp::now());
        let guard = Guard::new(Client::new(asks, &service.customs).expect("an address"));
        guard.verifying(Arc::new(issuers), application)
    };
    let (deaf, calls) = gives(Vec::new(), false).await;
    let http = reqwest::Client::new();
    for (application, asks, token, status, asked) in [
        ("customs", &service.url, ines.clone(), 200, false),
        ("customs", &service.url, petra.clone(), 403, false),
        ("customs", &deaf, ines.clone(), 503, true),
        ("customs", &deaf, format!("{ines}x"), 401, false),
        ("customs", &deaf, "a.b.c".to_owned(), 401, false),
        ("quay", &deaf, ines.clone(), 401, false),
    ] {
        let reached = Reached::default();
        let desk = serve(desk(&verifying(application, asks), &reached)).await;
        let before = calls.load(Ordering::Relaxed);
        let path = format!("{desk}/manifests/m-206/menu");
        let answer = ask(&http, "GET", &path, Some(&token)).await;
        assert_eq!(answer.0, status, "{application} {asks}: {answer:?}");
        assert_eq!(reached.load(Ordering::Relaxed), usize::from(status == 200));
        assert_eq!(calls.load(Ordering::Relaxed) > before, asked, "{application} {token}");
    }
}

/// Routes of the charter guard a whole router.
#[tokio::test(flavor = "multi_thread")]
async fn a_router_is_guarded_by_the_charters_routes() {
    let folder = folder();
    let service = Service::port(folder.path());
    let proxy =
        json!({ "applications": [{ "application": "customs" }], "headers": "original", "trusted-hops": 0 });
    let asked = json!({ "name": "the desk", "proxy": proxy });
    let (status, made) = service.post(&service.operator, "/api/v1/keys", &asked).await;
    assert_eq!(status, 200, "{made}");
    let key = made["text"].as_str().expect("a key");
    let guard = Guard::new(Client::new(&service.url, key).expect("an address"));
    let tell = async |permit: Permit, uri: axum::http::Uri| format!("{uri} for {}", permit.subject);
    let desk = serve(guard.by_route_check(Router::new().fallback(tell))).await;
    let http = reqwest::Client::new();
    let ines = service.token_of("ines").await;
    for (method, path, token, status, words) in [
        ("GET", "/manifests/m-204", Some(&ines), 200, "/manifests/m-204 for user:ines"),
        ("GET", "/manifests/m-204", None, 401, "Sign in first"),
        ("POST", "/manifests/m-204/release", Some(&ines), 403, ""),
        ("GET", "/manifests/none", Some(&ines), 403, ""),
        ("GET", "/elsewhere", Some(&ines), 403, "unmapped"),
        ("GET", "/manifests/m%2D204", Some(&ines), 403, "path-refused"),
        ("GET", "/manifests/../manifests/m-204", Some(&ines), 403, ""),
        ("DELETE", "/manifests/m-204", Some(&ines), 403, "unmapped"),
    ] {
        if path.contains("..") {
            // The client would tidy it up.
            let mut stream =
                tokio::net::TcpStream::connect(desk.trim_start_matches("http://")).await.expect("connects");
            let request = format!(
                "{method} {path} HTTP/1.1\r\nhost: x\r\nauthorization: Bearer {ines}\r\nconnection: close\r\n\r\n"
            );
            stream.write_all(request.as_bytes()).await.expect("is sent");
            let mut answer = String::new();
            stream.read_to_string(&mut answer).await.expect("is read");
            assert!(answer.starts_with("HTTP/1.1 403"), "{answer}");
            continue;
        }
        let answer = ask(&http, method, &format!("{desk}{path}"), token.map(String::as_str)).await;
        assert!(answer.0 == status && answer.2.to_string().contains(words), "{method} {path}: {answer:?}");
    }
    let overridden = http.get(format!("{desk}/manifests/m-204")).bearer_auth(&ines);
    let overridden = overridden.header("X-HTTP-Method-Override", "DELETE").send().await.expect("an answer");
    assert_eq!(overridden.status(), 403);
}

/// A handler that wants to know whom it serves is not called where nobody asked.
#[tokio::test]
async fn a_permit_is_not_made_up() {
    let router = Router::new().route("/", axum::routing::get(async |permit: Permit| permit.subject));
    let address = serve(router).await;
    assert_eq!(ask(&reqwest::Client::new(), "GET", &address, None).await.0, 503);
}
