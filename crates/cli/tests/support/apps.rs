//! The port's own applications beside a real service, in the test's own process: so that the service can be stopped while
//! they go on.
#![allow(dead_code, reason = "each test file uses what it needs")]

use crate::support::proxy::{Kind, Proxy};
use crate::support::{Service, folder, root};
use ostrog_agents_portal::Portal;
use ostrog_client::Client;
use ostrog_customs_desk::Desk;
use ostrog_store::cluster::Cluster;
use serde_json::{Value, json};
use std::sync::Arc;
use tempfile::TempDir;
use tokio::net::TcpListener;

pub struct Apps {
    pub service: Service,
    pub customs: String,
    /// Behind its proxy.
    pub quay: Proxy,
    pub agents: String,
    /// The desk's tables.
    pub database: String,
    cluster: Arc<Cluster>,
    _folder: TempDir,
}

impl Drop for Apps {
    fn drop(&mut self) {
        let _ = self.cluster.stop();
    }
}

/// What the demo's register says.
pub fn register() -> String {
    std::fs::read_to_string(root().join("demo/register.ndjson")).expect("is there")
}

async fn listen() -> (TcpListener, String) {
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let address = format!("http://{}", listener.local_addr().expect("an address"));
    (listener, address)
}

impl Apps {
    pub async fn open() -> Apps {
        let folder = folder();
        let service = Service::port(folder.path());
        let (_, issuers) = service.get("/api/v1/issuers").await;
        let sign_in = issuers[0]["url"].as_str().expect("the stand-in is set up").to_owned();
        let tables = folder.path().join("tables");
        let cluster = tokio::task::spawn_blocking(move || Cluster::start(&tables)).await.expect("runs");
        let cluster = Arc::new(cluster.expect("starts"));
        let database = cluster.database("customs").await.expect("is made");

        let desk = desk(&service, &database, &service.url).await;
        let (listener, customs) = listen().await;
        tokio::spawn(desk.serve(listener, std::future::pending()));

        let (listener, behind) = listen().await;
        tokio::spawn(ostrog_quayside::serve(listener, std::future::pending()));
        let proxied =
            json!({ "applications": [{ "application": "quay" }], "headers": "original", "trusted-hops": 1 });
        let proxy_key = key(&service, json!({ "name": "nginx", "proxy": proxied })).await;
        let host = |address: &str| address.trim_start_matches("http://").to_owned();
        let quay = Proxy::start(Kind::Nginx, &host(&behind), &host(&service.url), &proxy_key);

        let key = key(&service, json!({ "name": "the portal", "application": "agents" })).await;
        let (listener, agents) = listen().await;
        let client = Client::new(&service.url, &key).expect("an address");
        let portal = Portal::open(&agents, client, &sign_in, &register()).expect("is right");
        tokio::spawn(portal.serve(listener, std::future::pending()));
        Apps { service, customs, quay, agents, database, cluster, _folder: folder }
    }

    /// A request to the customs desk: status and answer.
    pub async fn desk(&self, method: &str, path: &str, token: &str, body: Option<&Value>) -> (u16, Value) {
        let method = reqwest::Method::from_bytes(method.as_bytes()).expect("a method");
        let request = self.service.http().request(method, format!("{}{path}", self.customs));
        let request = if token.is_empty() { request } else { request.bearer_auth(token) };
        self.service.send(if let Some(body) = body { request.json(body) } else { request }).await
    }
}

/// The text of a new key.
pub async fn key(service: &Service, asked: Value) -> String {
    let (status, made) = service.post(&service.operator, "/api/v1/keys", &asked).await;
    assert_eq!(status, 200, "{made}");
    made["text"].as_str().expect("a key").to_owned()
}

/// A customs desk on some tables, which tells what it does to an address.
pub async fn desk(service: &Service, database: &str, tells: &str) -> Desk {
    let rights = json!([{ "role": "entity-editor", "at": "everywhere" }]);
    let telling = key(service, json!({ "name": "the desk", "rights": rights })).await;
    let guarded = Client::new(&service.url, &service.customs).expect("an address");
    let telling = Client::new(tells, &telling).expect("an address");
    Desk::open(database, guarded, telling, &register()).await.expect("opens")
}
