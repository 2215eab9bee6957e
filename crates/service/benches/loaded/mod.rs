//! A node over a database of its own that holds the seeded port.

#[allow(dead_code, reason = "one of the benchmarks asks nothing")]
pub mod asking;

use crate::port::{self, CHARTER, Facts};
use ostrog_core::prelude::{Sources, line};
use ostrog_service::node::Node;
use ostrog_store::Store;
use ostrog_store::cluster::Cluster;
use ostrog_store::key::{KeyKind, Making};
use std::os::unix::fs::PermissionsExt as _;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// The node, what it holds, and how long it took to load that.
pub struct Loaded {
    pub node: Arc<Node>,
    pub store: Store,
    pub facts: Facts,
    pub users: usize,
    pub took: Duration,
    #[allow(dead_code, reason = "one of the benchmarks opens nodes of its own")]
    pub url: String,
    cluster: Cluster,
    _folder: tempfile::TempDir,
}

impl Loaded {
    /// With so many users, unless `OSTROG_BENCH_USERS` says otherwise.
    pub async fn new(usual: usize) -> Loaded {
        let folder = tempfile::tempdir().expect("a folder");
        std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755))
            .expect("can be opened");
        let cluster = Cluster::start(&folder.path().join("data")).expect("starts");
        let url = cluster.database("bench").await.expect("a database");
        let store = Store::open(&url).await.expect("opens");
        let node = Arc::new(Node::open(store.clone(), Duration::from_secs(3_600)).await.expect("opens"));
        node.put_live(Sources::single("bench.toml", CHARTER), "bench", "bench").await.expect("goes live");
        let users = std::env::var("OSTROG_BENCH_USERS").ok().and_then(|text| text.parse().ok());
        let users = users.unwrap_or(usual);
        let facts = port::facts(users);
        let start = Instant::now();
        let (grants, mut entities): (Vec<_>, Vec<_>) =
            facts.lines.iter().partition(|text| text.contains("\"grant\""));
        // What is named comes before what names it.
        entities.sort_by_key(|text| !text.contains("{\"entity\":\"user:"));
        for chunk in entities.chunks(10_000).chain(grants.chunks(10_000)) {
            let changes = chunk.iter().map(|text| line::parse(text).expect("a line")).collect();
            node.load_of_host(changes, "bench").await.expect("is valid");
        }
        let took = start.elapsed();
        Loaded { node, store, facts, users, took, url, cluster, _folder: folder }
    }

    /// The text of an application's key.
    pub async fn application(&self) -> String {
        let making = Making::whole(KeyKind::Application("quay".to_owned()), "bench");
        self.node.new_key_of_host(making, "bench").await.expect("a key").reveal().to_owned()
    }

    /// Ends the database.
    pub async fn end(self) {
        self.store.close().await;
        self.cluster.stop().expect("stops");
    }
}
