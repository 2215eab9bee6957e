//! A node with a charter and facts, and calls of it.

use axum::Router;
use axum::body::Body;
use axum::http::{HeaderMap, Request, StatusCode};
use http_body_util::BodyExt as _;
use ostrog_core::prelude::{Sources, line};
use ostrog_service::node::Node;
use ostrog_service::node::gate::Looks;
use ostrog_service::{App, router};
use ostrog_store::Store;
use ostrog_store::cluster::Cluster;
use ostrog_store::key::{KeyKind, Making, Right};
use ostrog_wire::problem::Problem;
use serde::de::DeserializeOwned;
use serde_json::Value;
use std::os::unix::fs::PermissionsExt as _;
use std::sync::Arc;
use std::time::Duration;
use tempfile::TempDir;
use tower::ServiceExt as _;

/// Two shipping lines and what is between them.
pub const CHARTER: &str = r#"
[charter]
name = "Two lines"
format = 1
[application.quay]
[application.customs]
[resource.vessel]
application = "quay"
within = "tenant"
actions = { view = "See it", moor = "Moor it" }
[resource.vessel.attributes]
length = "integer"
[resource.vessel.relations]
master = "user"
crew = { to = ["user", "group"], many = true }
tug = { to = "vessel", across-tenants = true }
[resource.hold]
application = "quay"
within = "vessel"
actions = { open = "Open it" }
[resource.declaration]
application = "customs"
within = "tenant"
actions = { release = "Release it" }
[subject.user.attributes]
clearance = "integer"
[tenant.attributes]
plan = "text"
[role.hand]
permissions = ["vessel:view", "hold:open"]
[role.master]
includes = ["hand"]
permissions = ["vessel:moor"]
when = "subject.clearance >= 2"
[role.broker]
permissions = ["declaration:release"]
[role.pilot]
permissions = ["vessel:moor"]
standby = { longest = "2h", reason = true, self = true }
[[resource.vessel.confer]]
role = "hand"
to = { relation = "crew" }
[[rule]]
key = "long-ones"
effect = "deny"
permissions = ["vessel:moor"]
when = "resource.length > 200"
[[tenant-roles.clause]]
permissions = ["vessel:view"]
[[affordance]]
application = "quay"
key = "vessels"
name = "The vessels"
visible = "vessel:view"
enabled = "vessel:moor"
[[affordance]]
application = "quay"
key = "papers"
name = "Another application's, in this one's page"
visible = "vessel:view"
enabled = "declaration:release"
"#;

/// A database server of its own.
pub struct Server {
    pub cluster: Cluster,
    _folder: TempDir,
}

impl Server {
    pub async fn start() -> Arc<Server> {
        let folder = tempfile::tempdir().expect("a folder");
        std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755))
            .expect("can be opened");
        let data = folder.path().join("data");
        let cluster = tokio::task::spawn_blocking(move || Cluster::start(&data)).await.expect("ran");
        Arc::new(Server { cluster: cluster.expect("starts"), _folder: folder })
    }
}

/// A node over a database of its own.
pub struct Service {
    pub app: App,
    pub node: Arc<Node>,
    pub store: Store,
    url: String,
    _server: Arc<Server>,
    router: Router,
    following: tokio::task::JoinHandle<()>,
}

/// What a call came to.
#[derive(Debug)]
pub struct Answer {
    pub status: StatusCode,
    pub headers: HeaderMap,
    pub body: Vec<u8>,
    /// How often something was looked up for it.
    pub looks: u64,
}

impl Answer {
    pub fn read<T: DeserializeOwned>(&self) -> T {
        serde_json::from_slice(&self.body).unwrap_or_else(|error| panic!("{error}: {self}"))
    }

    /// The problem, with its media type.
    pub fn problem(&self) -> Problem {
        assert_eq!(self.headers["content-type"], "application/problem+json", "{self}");
        let problem: Problem = self.read();
        assert_eq!(problem.status, self.status.as_u16(), "{self}");
        problem
    }

    /// What an AuthZEN call decided.
    pub fn decision(&self) -> bool {
        assert_eq!(self.status, 200, "{self}");
        self.read::<ostrog_wire::access::Evaluation>().decision
    }
}

impl std::fmt::Display for Answer {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} {}", self.status, String::from_utf8_lossy(&self.body))
    }
}

impl Service {
    pub async fn start(lines: &[Value]) -> Service {
        Service::on(&Server::start().await, "service", lines).await
    }

    pub async fn on(server: &Arc<Server>, database: &str, lines: &[Value]) -> Service {
        let url = server.cluster.database(database).await.expect("a database");
        let store = Store::open(&url).await.expect("opens");
        let node = Arc::new(Node::open(store.clone(), Duration::from_secs(3_600)).await.expect("opens"));
        let sources = Sources::single("charter.toml", CHARTER);
        node.put_live(sources, "first", "test").await.unwrap_or_else(|why| panic!("{}", why.detail()));
        let following = tokio::spawn(Arc::clone(&node).follow());
        let app = App::new(Arc::clone(&node), "http://ostrog.example");
        let router = router(app.clone());
        let service = Service { app, node, store, url, _server: Arc::clone(server), router, following };
        service.load(lines).await;
        service
    }

    /// Another node over the same database.
    pub async fn beside(&self) -> Service {
        let store = self.store.clone();
        let node = Arc::new(Node::open(store.clone(), Duration::from_secs(3_600)).await.expect("opens"));
        let following = tokio::spawn(Arc::clone(&node).follow());
        let app = App::new(Arc::clone(&node), "http://ostrog.example");
        let router = router(app.clone());
        let url = self.url.clone();
        Service { app, node, store, url, _server: Arc::clone(&self._server), router, following }
    }

    /// Another node over the same database, by another way.
    pub async fn by(&self, url: &str) -> Service {
        let store = Store::open(url).await.expect("opens");
        let node = Arc::new(Node::open(store.clone(), Duration::from_secs(3_600)).await.expect("opens"));
        let following = tokio::spawn(Arc::clone(&node).follow());
        let app = App::new(Arc::clone(&node), "http://ostrog.example");
        let router = router(app.clone());
        Service {
            app,
            node,
            store,
            url: url.to_owned(),
            _server: Arc::clone(&self._server),
            router,
            following,
        }
    }

    /// Where the database is.
    pub fn url(&self) -> &str {
        &self.url
    }

    /// The database itself, beside the service.
    pub async fn pool(&self) -> sqlx::PgPool {
        sqlx::PgPool::connect(&self.url).await.expect("a database")
    }

    /// Lets go of the database.
    pub async fn close(&self) {
        self.following.abort();
        self.store.close().await;
    }

    /// Loads lines, whoever may or may not.
    pub async fn load(&self, lines: &[Value]) {
        let changes = lines.iter().map(|line| line::from_json(line).expect("a line")).collect();
        let loaded = self.node.load_of_host(changes, "test").await;
        loaded.unwrap_or_else(|why| panic!("{}", why.detail()));
    }

    /// A key's text.
    pub async fn key(&self, making: Making) -> String {
        self.node.new_key_of_host(making, "test").await.expect("a key").reveal().to_owned()
    }

    /// An operator's.
    pub async fn operator(&self, role: &str, at: &str) -> String {
        let right = Right { role: role.to_owned(), at: at.to_owned() };
        self.key(Making { rights: vec![right], ..Making::whole(KeyKind::Operator, role) }).await
    }

    /// An application's.
    pub async fn application(&self, application: &str) -> String {
        self.key(Making::whole(KeyKind::Application(application.to_owned()), application)).await
    }

    /// A call as it would come over a connection.
    pub async fn send(&self, request: Request<Body>) -> Answer {
        let response = self.router.clone().oneshot(request).await.expect("infallible");
        let (parts, body) = response.into_parts();
        let body = body.collect().await.expect("is whole").to_bytes().to_vec();
        let looks = parts.extensions.get::<Looks>().map_or(0, Looks::count);
        Answer { status: parts.status, headers: parts.headers, body, looks }
    }

    /// The same, whose body is read by the test as it comes.
    pub async fn open(&self, request: Request<Body>) -> axum::response::Response {
        self.router.clone().oneshot(request).await.expect("infallible")
    }

    pub async fn call(&self, key: &str, call: &str, body: Option<&Value>) -> Answer {
        self.send(request(key, call, body)).await
    }

    pub async fn get(&self, key: &str, path: &str) -> Answer {
        self.call(key, &format!("GET {path}"), None).await
    }

    pub async fn post(&self, key: &str, path: &str, body: &Value) -> Answer {
        self.call(key, &format!("POST {path}"), Some(body)).await
    }
}

/// `METHOD /path` with a key, none if it is empty, and a JSON body.
pub fn request(key: &str, call: &str, body: Option<&Value>) -> Request<Body> {
    let (method, path) = call.split_once(' ').expect("METHOD /path");
    let mut request = Request::builder().method(method).uri(path).header("host", "ostrog.example");
    if !key.is_empty() {
        request = request.header("authorization", format!("Bearer {key}"));
    }
    let body = match body {
        // Lines go as they are.
        Some(Value::String(lines)) => {
            request = request.header("content-type", "application/x-ndjson");
            Body::from(lines.clone())
        }
        Some(value) => {
            request = request.header("content-type", "application/json");
            Body::from(value.to_string())
        }
        None => Body::empty(),
    };
    request.body(body).expect("a request")
}
