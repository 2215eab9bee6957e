//! `ostrog serve`: the service, on a given database or on its own.

use crate::exit::{Code, Failure, YES};
use crate::files;
use crate::settings::Settings;
use ostrog_service::App;
use ostrog_service::node::Node;
use ostrog_service::problem::Problem;
use ostrog_service::serving::{Limits, serve};
use ostrog_store::Store;
use ostrog_store::cluster::Cluster;
use ostrog_store::key::{KeyKind, Making};
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

/// The command's arguments.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The database; without one, a private PostgreSQL on loopback is started
    #[arg(long, env = "OSTROG_DATABASE", value_name = "URL", hide_env_values = true)]
    database: Option<String>,
    /// The address to listen on [default: 127.0.0.1:7423]
    #[arg(long, env = "OSTROG_LISTEN", value_name = "ADDR")]
    listen: Option<String>,
    /// How callers reach this service
    #[arg(long, env = "OSTROG_PUBLIC_URL", value_name = "URL")]
    public_url: Option<String>,
    /// Where the private database lives
    #[arg(long, env = "OSTROG_DATA", value_name = "DIR", conflicts_with = "database")]
    data: Option<PathBuf>,
    /// How long to answer from memory while the database is out of reach [default: 15m]
    #[arg(long, env = "OSTROG_MAX_STALE", value_name = "TIME")]
    max_stale: Option<String>,
    /// Make a new owner's key and print it: the way back in when all owners' keys are lost
    #[arg(long)]
    new_owner: bool,
    /// Whose that key is: an operator on record; without one it is a program's, which approves nothing
    #[arg(long, value_name = "PERSON", requires = "new_owner")]
    person: Option<String>,
    /// Tell what is measured at this address too: without a key on loopback
    #[arg(long, env = "OSTROG_METRICS_LISTEN", value_name = "ADDR")]
    metrics_listen: Option<String>,
    /// The secret by which an issuer that operators sign in with knows this service, in a file: port-id=FILE
    #[arg(long = "sign-in-secret", value_name = "ISSUER=FILE")]
    secrets: Vec<String>,
    /// If nothing is live yet, put this charter live first
    #[arg(long, value_name = "DIR")]
    charter: Option<PathBuf>,
}

/// How often it is looked whether the private database runs.
const WATCH: Duration = Duration::from_secs(1);

/// How long a node answers from memory unless anything says another.
pub const MAX_STALE: Duration = Duration::from_secs(15 * 60);

/// The address unless anything says another.
pub const DEFAULT_LISTEN: &str = "127.0.0.1:7423";

pub async fn run(args: Args) -> Result<Code, Failure> {
    log_to_stderr();
    let file = Settings::here()?;
    // A flag that asks for a private database goes before a file that names another.
    let database = args.database.or(file.database.filter(|_| args.data.is_none()));
    let listen = args.listen.or(file.listen).unwrap_or_else(|| DEFAULT_LISTEN.to_owned());
    let public_url = args.public_url.or(file.public_url);
    let max_stale = match args.max_stale.or(file.max_stale) {
        None => MAX_STALE,
        Some(text) => super::time(&text).map_err(|why| Failure::misused(format!("max-stale: {why}")))?,
    };
    let secrets = secrets(&args.secrets)?;
    let (url, cluster) = match database {
        Some(url) => (url, None),
        None => {
            let folder = args.data.or(file.data).unwrap_or_else(data_folder);
            let cluster = tokio::task::spawn_blocking(move || Cluster::start(&folder))
                .await
                .map_err(Failure::unreachable)??;
            (cluster.database("ostrog").await?, Some(Arc::new(cluster)))
        }
    };
    let guard = cluster.clone().map(|cluster| tokio::spawn(keep_running(cluster)));
    let serving = Serving {
        listen,
        public_url,
        charter: args.charter,
        max_stale,
        owner: args.new_owner.then_some(args.person),
        secrets,
        metrics_listen: args.metrics_listen.or(file.metrics_listen),
    };
    let done = serving.on(&url).await;
    if let (Some(cluster), Some(guard)) = (cluster, guard) {
        guard.abort();
        cluster.stop()?;
    }
    done.map(|()| YES)
}

/// Starts the private database again whenever it is gone.
pub async fn keep_running(cluster: Arc<Cluster>) {
    loop {
        tokio::time::sleep(WATCH).await;
        if cluster.is_running() {
            continue;
        }
        tracing::warn!("the private database is gone; starting it again");
        let gone = Arc::clone(&cluster);
        match tokio::task::spawn_blocking(move || gone.revive()).await {
            Ok(Ok(())) => tracing::info!("the private database runs again"),
            Ok(Err(error)) => tracing::error!(%error, "the private database does not start"),
            Err(error) => tracing::error!(%error, "the private database was not started"),
        }
    }
}

/// Secrets, by issuer: each is the content of a file, without what ends its line.
fn secrets(pairs: &[String]) -> Result<BTreeMap<String, String>, Failure> {
    let read = |pair: &String| {
        let (issuer, path) = pair.split_once('=').ok_or_else(|| {
            Failure::misused(format!(
                "--sign-in-secret takes ISSUER=FILE, such as port-id=/etc/ostrog/secret, not {pair:?}"
            ))
        })?;
        let text =
            std::fs::read_to_string(path).map_err(|error| Failure::misused(format!("{path}: {error}")))?;
        Ok((issuer.to_owned(), text.trim_end().to_owned()))
    };
    pairs.iter().map(read).collect()
}

/// How the service is served.
struct Serving {
    listen: String,
    public_url: Option<String>,
    charter: Option<PathBuf>,
    max_stale: Duration,
    /// Whether a new owner's key is made, and whose.
    owner: Option<Option<String>>,
    secrets: BTreeMap<String, String>,
    /// Where else what is measured is told.
    metrics_listen: Option<String>,
}

impl Serving {
    async fn on(self, url: &str) -> Result<(), Failure> {
        let Serving { listen, public_url, charter, max_stale, owner, secrets, metrics_listen } = self;
        let store = Store::open(url).await?;
        let node = Arc::new(Node::open(store.clone(), max_stale).await?);
        let said = |problem: Problem| Failure::unreachable(told(problem));
        if owner.is_some() || !node.has_keys() {
            let (name, actor) = if node.has_keys() {
                ("new owner", "whoever started the service")
            } else {
                ("first owner", "the first start")
            };
            let making = Making { person: owner.flatten(), ..Making::whole(KeyKind::Operator, name) };
            let key = node.new_key_of_host(making, actor).await.map_err(said)?;
            // Shown once, alone, on stdout; everything else goes to stderr.
            println!("{}", key.reveal());
        }
        if let Some(folder) = charter.as_deref()
            && node.live_revision().is_none()
        {
            let title = format!("First charter, from {}", folder.display());
            let put = node.put_live(files::sources(folder)?, &title, "the first start").await;
            put.map_err(|problem| Failure::input(told(problem)))?;
        }
        let listener = tokio::net::TcpListener::bind(&listen)
            .await
            .map_err(|error| Failure::unreachable(format!("cannot listen on {listen}: {error}")))?;
        let address = listener.local_addr().map_err(Failure::unreachable)?;
        let public_url = public_url.unwrap_or_else(|| format!("http://{address}"));
        tracing::info!(%address, public_url, live = ?node.live_revision(), "serving");
        node.listens_at(&address.to_string());
        tokio::spawn(Arc::clone(&node).follow());
        let app = App::with_secrets(node, &public_url, secrets);
        if let Some(listen) = metrics_listen {
            let listener = tokio::net::TcpListener::bind(&listen)
                .await
                .map_err(|error| Failure::unreachable(format!("cannot listen on {listen}: {error}")))?;
            let address = listener.local_addr().map_err(Failure::unreachable)?;
            tracing::info!(%address, "telling what is measured");
            let router = ostrog_service::measures::alone(app.clone(), address.ip().is_loopback());
            tokio::spawn(async move { axum::serve(listener, router).await });
        }
        serve(listener, app, Limits::default(), stop_signal()).await.map_err(Failure::unreachable)?;
        tracing::info!("stopped");
        store.close().await;
        Ok(())
    }
}

/// A problem with its parts, for a person.
pub fn told(problem: Problem) -> String {
    let problem = problem.into_document();
    let mut text = problem.detail;
    for part in &problem.errors {
        text.push_str(&format!("\n  {}  {}", part.at, part.detail));
    }
    text
}

/// Structured logs, without secrets: nothing that holds one says it in its `Debug`.
pub fn log_to_stderr() {
    let level = std::env::var("OSTROG_LOG").unwrap_or_else(|_| "info".to_owned());
    let filter = tracing_subscriber::EnvFilter::try_new(level)
        .unwrap_or_else(|_| tracing_subscriber::EnvFilter::new("info"));
    let log =
        tracing_subscriber::fmt().with_writer(std::io::stderr).with_env_filter(filter).with_target(false);
    if std::io::IsTerminal::is_terminal(&std::io::stderr()) {
        let _ = log.with_ansi(false).try_init();
    } else {
        let _ = log.json().flatten_event(true).try_init();
    }
}

/// Where a private database lives unless told otherwise. Root's home is closed to the account the
/// database runs under, so root's lies with the system's data.
fn data_folder() -> PathBuf {
    let home = std::env::var_os("HOME").map(PathBuf::from);
    match home {
        Some(home) if home != std::path::Path::new("/root") => home.join(".local/share/ostrog"),
        _ => PathBuf::from("/var/lib/ostrog"),
    }
}

/// Resolves on SIGTERM or Ctrl-C.
pub async fn stop_signal() {
    use tokio::signal::unix::{SignalKind, signal};
    let Ok(mut terminate) = signal(SignalKind::terminate()) else { return std::future::pending().await };
    tokio::select! {
        _ = terminate.recv() => {}
        _ = tokio::signal::ctrl_c() => {}
    }
}
