//! nginx and Caddy, set up as `docs/proxies.md` has it, in front of an application that tells what reached it.

use super::{Service, folder, root};
use axum::extract::Request;
use axum::response::IntoResponse as _;
use axum::{Json, Router};
use serde_json::{Value, json};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use tempfile::TempDir;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::{TcpListener, TcpStream};

pub const CUSTOMS: &str = "customs.sorrel-bay.example";
pub const QUAY: &str = "quay.sorrel-bay.example";

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    Nginx,
    Caddy,
}

/// An application that tells what reached it.
pub struct Application {
    pub address: String,
    pub reached: Arc<AtomicUsize>,
}

impl Application {
    pub async fn start() -> Application {
        let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let address = listener.local_addr().expect("an address").to_string();
        let reached = Arc::new(AtomicUsize::new(0));
        let counted = Arc::clone(&reached);
        let tell = async move |request: Request| {
            counted.fetch_add(1, Ordering::Relaxed);
            let (parts, body) = request.into_parts();
            let named = parts.headers.iter().filter(|(name, _)| name.as_str().starts_with("ostrog-"));
            let named = named.map(|(name, value)| (name.to_string(), json!(value.to_str().expect("text"))));
            let named: serde_json::Map<String, Value> = named.collect();
            let body = axum::body::to_bytes(body, 1 << 20).await.expect("a body");
            let body = String::from_utf8_lossy(&body).into_owned();
            let path = parts.uri.path().to_owned();
            Json(json!({ "method": parts.method.as_str(), "path": path, "ostrog": named, "body": body }))
                .into_response()
        };
        tokio::spawn(async move { axum::serve(listener, Router::new().fallback(tell)).await });
        Application { address, reached }
    }
}

/// A proxy that runs.
pub struct Proxy {
    child: Child,
    pub address: String,
    _folder: TempDir,
}

impl Drop for Proxy {
    fn drop(&mut self) {
        super::signal(self.child.id(), "TERM");
        let _ = self.child.wait();
    }
}

/// The configuration of a kind, as the documentation has it.
pub fn documented(kind: Kind) -> String {
    let text = std::fs::read_to_string(root().join("docs/proxies.md")).expect("is there");
    let fence = if kind == Kind::Nginx { "```nginx\n" } else { "```caddyfile\n" };
    let (_, rest) = text.split_once(fence).expect("a block");
    rest.split_once("```").expect("an end").0.to_owned()
}

impl Proxy {
    /// Starts one in front of an application, with Ostrog at an address.
    pub fn start(kind: Kind, application: &str, ostrog: &str, key: &str) -> Proxy {
        Proxy::with(kind, &documented(kind), application, ostrog, key)
    }

    /// The same with another configuration than the documented one.
    pub fn with(kind: Kind, text: &str, application: &str, ostrog: &str, key: &str) -> Proxy {
        let folder = folder();
        let free = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
        let port = free.local_addr().expect("an address").port();
        drop(free);
        for address in ["127.0.0.1:9000", "8080"] {
            assert!(text.contains(address), "{address} is not in the documentation");
        }
        let text = text
            .replace("127.0.0.1:7423", ostrog)
            .replace("127.0.0.1:9000", application)
            .replace("listen 8080", &format!("listen 127.0.0.1:{port}"))
            .replace(":8080", &format!(":{port}"));
        let mut command = match kind {
            Kind::Nginx => nginx(folder.path(), &text, key),
            Kind::Caddy => caddy(folder.path(), &text, key),
        };
        let log = std::fs::File::create(folder.path().join("log")).expect("a file");
        let child = command.stdout(Stdio::null()).stderr(log).spawn().expect("starts");
        let proxy = Proxy { child, address: format!("127.0.0.1:{port}"), _folder: folder };
        let until = Instant::now() + Duration::from_secs(20);
        while std::net::TcpStream::connect(&proxy.address).is_err() {
            let said = || std::fs::read_to_string(proxy._folder.path().join("log"));
            assert!(Instant::now() < until, "it does not listen: {said:?}", said = said());
            std::thread::sleep(Duration::from_millis(50));
        }
        proxy
    }

    /// A request as it is written, so that nothing tidies it up; status, header and body.
    pub async fn raw(&self, request: &str) -> (u16, String, String) {
        let mut stream = TcpStream::connect(&self.address).await.expect("connects");
        stream.write_all(request.as_bytes()).await.expect("is sent");
        let mut answer = Vec::new();
        let read = tokio::time::timeout(Duration::from_secs(20), stream.read_to_end(&mut answer)).await;
        let _ = read.expect("an answer in time");
        let answer = String::from_utf8_lossy(&answer).into_owned();
        let (header, body) = answer.split_once("\r\n\r\n").unwrap_or((&answer, ""));
        let status = header.split(' ').nth(1).and_then(|status| status.parse().ok()).unwrap_or(0);
        (status, header.to_lowercase(), body.to_owned())
    }

    pub async fn ask(
        &self,
        host: &str,
        what: &str,
        headers: &[(&str, &str)],
        body: &str,
    ) -> (u16, String, String) {
        let mut request = format!("{what} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n");
        for (name, value) in headers {
            request.push_str(&format!("{name}: {value}\r\n"));
        }
        if !body.is_empty() {
            request.push_str(&format!("Content-Length: {}\r\n", body.len()));
        }
        self.raw(&format!("{request}\r\n{body}")).await
    }
}

fn nginx(folder: &Path, text: &str, key: &str) -> Command {
    let site = folder.join("site.conf");
    std::fs::write(&site, text).expect("written");
    std::fs::write(folder.join("ostrog.key"), format!("proxy_set_header Ostrog-Proxy-Key \"{key}\";\n"))
        .expect("written");
    let at = folder.display();
    let whole = format!(
        "daemon off;\nworker_processes 1;\npid {at}/pid;\nerror_log {at}/error.log;\nevents {{}}\nhttp {{\n\
         access_log off;\nclient_body_temp_path {at}/body;\nproxy_temp_path {at}/proxy;\n\
         fastcgi_temp_path {at}/fastcgi;\nuwsgi_temp_path {at}/uwsgi;\nscgi_temp_path {at}/scgi;\n\
         include {at}/site.conf;\n}}\n"
    );
    std::fs::write(folder.join("nginx.conf"), whole).expect("written");
    let mut command = Command::new("/usr/sbin/nginx");
    command
        .arg("-c")
        .arg(folder.join("nginx.conf"))
        .arg("-p")
        .arg(folder)
        .arg("-e")
        .arg(folder.join("error.log"));
    command
}

fn caddy(folder: &Path, text: &str, key: &str) -> Command {
    let file = folder.join("Caddyfile");
    std::fs::write(&file, format!("{{\n    admin off\n    auto_https off\n}}\n{text}")).expect("written");
    let mut command = Command::new("/usr/bin/caddy");
    command.args(["run", "--adapter", "caddyfile", "--config"]).arg(file);
    command.env("OSTROG_PROXY_KEY", key).env("HOME", folder).env("XDG_DATA_HOME", folder);
    command.env("XDG_CONFIG_HOME", folder);
    command
}

/// The port with its sign-in, and a proxy in front of an application of it.
pub struct Port {
    pub service: Service,
    pub application: Application,
    pub proxy: Proxy,
    _folder: TempDir,
}

impl Port {
    pub async fn open(kind: Kind) -> Port {
        let folder = folder();
        let service = Service::port(folder.path());
        let application = Application::start().await;
        let key = service.proxy_key(kind == Kind::Nginx).await;
        let ostrog = service.url.strip_prefix("http://").expect("an address").to_owned();
        let proxy = Proxy::start(kind, &application.address, &ostrog, &key);
        Port { service, application, proxy, _folder: folder }
    }

    /// The token of somebody of the port, as a request carries it.
    pub async fn token(&self, person: &str) -> String {
        format!("Bearer {}", self.service.token_of(person).await)
    }

    pub fn reached(&self) -> usize {
        self.application.reached.load(Ordering::Relaxed)
    }
}

impl Service {
    pub async fn proxy_key(&self, original: bool) -> String {
        let headers = if original { "original" } else { "forwarded" };
        let of = [("customs", CUSTOMS), ("quay", QUAY)];
        let of = of.map(|(application, host)| json!({ "application": application, "host": host }));
        let proxy = json!({ "applications": of, "headers": headers, "trusted-hops": 1 });
        let asked = json!({ "name": "the proxy", "proxy": proxy });
        let (status, made) = self.post(&self.operator, "/api/v1/keys", &asked).await;
        assert_eq!(status, 200, "{made}");
        made["text"].as_str().expect("a key").to_owned()
    }
}
