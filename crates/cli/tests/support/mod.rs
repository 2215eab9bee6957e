//! The built program, running: the demo or an empty service, each on a database and a port of its
//! own.
#![allow(dead_code, reason = "each test file uses what it needs")]

pub mod proxy;

use ostrog_client::Client;
use serde_json::{Value, json};
use std::io::{BufRead as _, BufReader};
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// The workspace's folder.
pub fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).ancestors().nth(2).expect("the workspace").to_owned()
}

/// The built program, in the workspace's folder, with no settings but the test's.
pub fn ostrog() -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_ostrog"));
    command.current_dir(root()).env_remove("OSTROG_URL").env_remove("OSTROG_KEY").env("NO_COLOR", "1");
    command
}

/// A folder that the database's account can enter, gone at the end.
pub fn folder() -> tempfile::TempDir {
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).expect("can be opened");
    folder
}

/// A running service.
pub struct Service {
    child: Option<Child>,
    pub url: String,
    pub operator: String,
    pub customs: String,
    /// The key of whoever approves in the port; none where nobody has to.
    pub approver: String,
    http: reqwest::Client,
}

impl Service {
    /// The demo, but for what it has under way.
    pub fn demo(folder: &Path) -> Service {
        Service::demo_with(folder, &["--live-only", "--bare"])
    }

    /// The demo with its sign-in, but for what it has under way.
    pub fn port(folder: &Path) -> Service {
        Service::demo_with(folder, &["--live-only", "--without-apps"])
    }

    /// The demo, with a draft and what was rehearsed.
    pub fn whole_demo(folder: &Path) -> Service {
        Service::demo_with(folder, &["--without-apps"])
    }

    fn demo_with(folder: &Path, more: &[&str]) -> Service {
        let data = folder.join("data");
        let mut child = ostrog()
            .args(["demo", "--port", "0", "--keep"])
            .arg(&data)
            .args(more)
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("starts");
        let mut keys = Vec::new();
        let (mut url, mut approver) = (String::new(), String::new());
        for line in BufReader::new(child.stdout.take().expect("a pipe")).lines().map_while(Result::ok) {
            if let Some((_, address)) = line.split_once("is open at ") {
                url = address.to_owned();
            }
            if let Some((_, key)) = line.split_once("WIM=") {
                approver = key.trim().to_owned();
            }
            keys.extend(
                line.split([' ', '\'', '=']).filter(|word| word.starts_with("ostrog.k-")).map(str::to_owned),
            );
            if line.starts_with("Ctrl-C") {
                break;
            }
        }
        let (operator, customs) = (keys.first().cloned(), keys.last().cloned());
        let mut service = Service::new(child, url, operator.expect("a key"), customs.expect("a key"));
        service.approver = approver;
        service
    }

    /// The service on a data folder, with the demo's charter if nothing is live there. The first
    /// start makes the operator's key; later ones are given it.
    pub fn serve(data: &Path, operator: Option<&str>) -> Service {
        Service::start(&["--data", data.to_str().expect("UTF-8")], operator)
    }

    /// The same on a database that somebody else looks after.
    pub fn on(database: &str, operator: Option<&str>) -> Service {
        Service::start(&["--database", database], operator)
    }

    /// The same with other arguments.
    pub fn with(arguments: &[&str], operator: Option<&str>) -> Service {
        Service::start(arguments, operator)
    }

    /// The service on a data folder with a charter of its own.
    pub fn of_charter(data: &Path, charter: &str) -> Service {
        Service::begin(&["--charter", charter, "--data", data.to_str().expect("UTF-8")], None)
    }

    /// The service on a data folder, with nothing live.
    pub fn empty(data: &Path) -> Service {
        Service::begin(&["--data", data.to_str().expect("UTF-8")], None)
    }

    fn start(arguments: &[&str], operator: Option<&str>) -> Service {
        Service::begin(&[&["--charter", "demo/harbour"], arguments].concat(), operator)
    }

    fn begin(arguments: &[&str], operator: Option<&str>) -> Service {
        let mut child = ostrog()
            .args(["serve", "--listen", "127.0.0.1:0"])
            .args(arguments)
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .expect("starts");
        let mut log = BufReader::new(child.stderr.take().expect("a pipe"));
        let mut url = String::new();
        let mut said = String::new();
        while url.is_empty() {
            let mut line = String::new();
            assert!(log.read_line(&mut line).expect("readable") > 0, "it ended: {said}");
            if line.contains("\"serving\"") {
                url = serde_json::from_str::<Value>(&line).expect("JSON")["public_url"]
                    .as_str()
                    .expect("an address")
                    .to_owned();
            }
            said.push_str(&line);
        }
        std::thread::spawn(move || std::io::copy(&mut log, &mut std::io::sink()));
        let operator = operator.map(str::to_owned).unwrap_or_else(|| {
            let mut line = String::new();
            BufReader::new(child.stdout.take().expect("a pipe")).read_line(&mut line).expect("readable");
            line.trim().to_owned()
        });
        Service::new(child, url, operator, String::new())
    }

    fn new(child: Child, url: String, operator: String, customs: String) -> Service {
        Service {
            child: Some(child),
            url,
            operator,
            customs,
            approver: String::new(),
            http: reqwest::Client::new(),
        }
    }

    /// The command line, pointed at this service.
    pub fn ostrog(&self) -> Command {
        let mut command = ostrog();
        command.env("OSTROG_URL", &self.url).env("OSTROG_KEY", &self.operator);
        command
    }

    /// A typed client with the operator's key.
    pub fn client(&self) -> Client {
        Client::new(&self.url, &self.operator).expect("an address")
    }

    /// A load of register lines.
    pub fn loading(&self, lines: &str) -> reqwest::RequestBuilder {
        let request = self.http.post(format!("{}/api/v1/register", self.url));
        let request = request.header("content-type", "application/x-ndjson");
        request.bearer_auth(&self.operator).body(lines.to_owned())
    }

    pub async fn get(&self, path: &str) -> (u16, Value) {
        self.send(self.http.get(format!("{}{path}", self.url)).bearer_auth(&self.operator)).await
    }

    pub async fn delete(&self, path: &str) -> (u16, Value) {
        self.send(self.http.delete(format!("{}{path}", self.url)).bearer_auth(&self.operator)).await
    }

    pub async fn post(&self, key: &str, path: &str, body: &Value) -> (u16, Value) {
        self.send(self.http.post(format!("{}{path}", self.url)).bearer_auth(key).json(body)).await
    }

    /// Any request; a body that is no JSON comes back as text.
    pub async fn send(&self, request: reqwest::RequestBuilder) -> (u16, Value) {
        let response = request.send().await.expect("an answer");
        let status = response.status().as_u16();
        let text = response.text().await.expect("a body");
        (status, serde_json::from_str(&text).unwrap_or_else(|_| json!(text)))
    }

    pub fn http(&self) -> &reqwest::Client {
        &self.http
    }

    /// Asks as an application does.
    pub async fn evaluate(&self, key: &str, subject: &str, action: &str, resource: &str) -> Value {
        let entity = |name: &str| {
            let (kind, id) = name.split_once(':').expect("type:id");
            json!({ "type": kind, "id": id })
        };
        let question =
            json!({ "subject": entity(subject), "action": { "name": action }, "resource": entity(resource) });
        let (status, answer) = self.post(key, "/access/v1/evaluation", &question).await;
        assert_eq!(status, 200, "{answer}");
        answer
    }

    /// The token of somebody of the port, from its sign-in: a service that was started with one.
    pub async fn token_of(&self, person: &str) -> String {
        let (_, issuers) = self.get("/api/v1/issuers").await;
        let sign_in = issuers[0]["url"].as_str().expect("the stand-in is set up");
        let asked = self.http.post(format!("{sign_in}/try"));
        let asked = asked.header("content-type", "application/x-www-form-urlencoded");
        let page = asked.body(format!("person={person}")).send().await.expect("a page");
        let page = page.text().await.expect("text");
        let from = page.find("eyJ").expect("a token");
        page[from..].split('<').next().expect("an end").to_owned()
    }

    pub fn pid(&self) -> u32 {
        self.child.as_ref().expect("runs").id()
    }

    /// No farewell: as in a crash.
    pub fn kill(mut self) {
        let mut child = self.child.take().expect("runs");
        child.kill().expect("can be killed");
        child.wait().expect("has ended");
    }
}

pub fn signal(pid: u32, name: &str) {
    let done = Command::new("kill").arg(format!("-{name}")).arg(pid.to_string()).status();
    assert!(done.expect("kill runs").success());
}

impl Drop for Service {
    /// SIGTERM, so that the database of this test is stopped as well.
    fn drop(&mut self) {
        let Some(mut child) = self.child.take() else { return };
        signal(child.id(), "TERM");
        let start = Instant::now();
        while start.elapsed() < Duration::from_secs(20) {
            if child.try_wait().is_ok_and(|status| status.is_some()) {
                return;
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        let _ = child.kill();
        let _ = child.wait();
    }
}
