//! `ostrog demo`: the port of Sorrel Bay on loopback, from files built into the program.

mod apps;

use super::serve::{MAX_STALE, keep_running, log_to_stderr, stop_signal, told};
use crate::exit::{Code, Failure, YES};
use crate::shell::Shell;
use apps::{Apps, Port};
use jiff::Timestamp;
use ostrog_client::Client;
use ostrog_core::prelude::{Change, SourceFile, Sources, line};
use ostrog_service::App;
use ostrog_service::node::Node;
use ostrog_service::problem::Problem;
use ostrog_service::serving::{Limits, serve};
use ostrog_store::Store;
use ostrog_store::cluster::Cluster;
use ostrog_store::issuer::Issuer;
use ostrog_store::key::{KeyKind, KeyText, Making, Right};
use ostrog_wire::charter::{File, Saved};
use ostrog_wire::rehearsals::{RehearsalAsked, RehearsalFile};
use std::os::unix::fs::PermissionsExt as _;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpListener;

/// Who did what the demo begins with.
const DEMO: &str = "the demo";

const CHARTER: [(&str, &str); 9] = [
    ("agents.toml", include_str!("../../../../../demo/harbour/agents.toml")),
    ("charter.toml", include_str!("../../../../../demo/harbour/charter.toml")),
    ("connect.toml", include_str!("../../../../../demo/harbour/connect.toml")),
    ("customs.toml", include_str!("../../../../../demo/harbour/customs.toml")),
    ("issuers.toml", include_str!("../../../../../demo/harbour/issuers.toml")),
    ("people.toml", include_str!("../../../../../demo/harbour/people.toml")),
    ("quay.toml", include_str!("../../../../../demo/harbour/quay.toml")),
    ("roles.toml", include_str!("../../../../../demo/harbour/roles.toml")),
    ("rules.toml", include_str!("../../../../../demo/harbour/rules.toml")),
];
const REHEARSAL: [(&str, &str); 3] = [
    ("cases.toml", include_str!("../../../../../demo/rehearsal/cases.toml")),
    ("guarantees.toml", include_str!("../../../../../demo/rehearsal/guarantees.toml")),
    ("samples.toml", include_str!("../../../../../demo/rehearsal/samples.toml")),
];
/// What a draft written in haste changes.
const HASTE: [(&str, &str); 2] = [
    ("roles.toml", include_str!("../../../../../demo/drafts/careless/roles.toml")),
    ("rules.toml", include_str!("../../../../../demo/drafts/careless/rules.toml")),
];
/// What the same draft changes, written with more care.
const CARE: [(&str, &str); 2] = [
    ("roles.toml", include_str!("../../../../../demo/drafts/mended/roles.toml")),
    ("rules.toml", include_str!("../../../../../demo/drafts/mended/rules.toml")),
];
/// How the port releases changes.
const SETTINGS: &str = include_str!("../../../../../demo/settings.toml");
const REGISTER: &str = include_str!("../../../../../demo/register.ndjson");

/// The command's arguments.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The port; 0 takes a free one
    #[arg(long, default_value_t = 7423)]
    port: u16,
    /// Keep the demo's database in this folder, and find it again at the next start
    #[arg(long, value_name = "DIR", num_args = 0..=1, default_missing_value = "ostrog-data/demo")]
    keep: Option<PathBuf>,
    /// Begin with what is live alone: no draft, and nothing rehearsed
    #[arg(long)]
    live_only: bool,
    /// Ostrog alone: without the port's sign-in, a stand-in that the demo's tokens come from
    #[arg(long)]
    bare: bool,
    /// Ostrog and the port's sign-in, without the port's own applications
    #[arg(long, conflicts_with = "bare")]
    without_apps: bool,
}

pub async fn run(args: Args, shell: &Shell) -> Result<Code, Failure> {
    log_to_stderr();
    // The account the database runs under must be able to enter it; what is inside is its own.
    let open = std::fs::Permissions::from_mode(0o755);
    let temporary = tempfile::Builder::new().prefix("ostrog-demo-").permissions(open).tempdir();
    let temporary =
        temporary.map_err(|error| Failure::unreachable(format!("no temporary folder: {error}")))?;
    let folder = args.keep.unwrap_or_else(|| temporary.path().to_owned());
    let start = folder.clone();
    let cluster =
        tokio::task::spawn_blocking(move || Cluster::start(&start)).await.map_err(Failure::unreachable)??;
    let cluster = Arc::new(cluster);
    let guard = tokio::spawn(keep_running(Arc::clone(&cluster)));
    let begun = Beginning {
        port: args.port,
        live_only: args.live_only,
        bare: args.bare,
        apps: (!args.bare && !args.without_apps).then(|| folder.join("apps")),
    };
    let done = serve_demo(&cluster, begun, shell).await;
    guard.abort();
    cluster.stop()?;
    done.map(|()| YES)
}

/// What the demo begins with.
struct Beginning {
    port: u16,
    live_only: bool,
    bare: bool,
    /// Where the port's applications keep what is theirs; none: they stay closed.
    apps: Option<PathBuf>,
}

async fn serve_demo(cluster: &Cluster, begun: Beginning, shell: &Shell) -> Result<(), Failure> {
    let store = Store::open(&cluster.database("demo").await?).await?;
    let node = Arc::new(Node::open(store.clone(), MAX_STALE).await?);
    let refused = |problem: Problem| Failure::input(told(problem));
    let is_new = node.live_revision().is_none();
    if is_new {
        let files = CHARTER
            .iter()
            .map(|(path, text)| SourceFile { path: (*path).to_owned(), text: (*text).to_owned() });
        let sources = Sources::new(files.collect());
        node.put_live(sources, "The port as it stands", DEMO).await.map_err(refused)?;
        let changes: Result<Vec<Change>, _> = REGISTER.lines().map(line::parse).collect();
        node.load_of_host(changes.map_err(Failure::input)?, DEMO).await.map_err(refused)?;
        let file =
            |(path, text): (&str, &str)| RehearsalFile { path: path.to_owned(), text: text.to_owned() };
        let files = REHEARSAL.map(file).to_vec();
        node.save_rehearsal_of_host(files, DEMO).await.map_err(refused)?;
        if !begun.bare {
            node.put_settings_of_host(SETTINGS, DEMO).await.map_err(refused)?;
        }
    }
    // Alone, one works alone; in the port one writes, and another approves.
    let operator = match begun.bare {
        true => Making::whole(KeyKind::Operator, "demo operator"),
        false => {
            let person = Some("vera".to_owned());
            Making { person, ..Making::whole(KeyKind::Operator, "Vera, who writes") }
        }
    };
    let operator = node.new_key_of_host(operator, DEMO).await.map_err(refused)?;
    let approver = match begun.bare {
        true => None,
        false => {
            let right = |role: &str| Right { role: role.to_owned(), at: "everywhere".to_owned() };
            let making = Making {
                person: Some("wim".to_owned()),
                rights: vec![right("approver"), right("releaser")],
                ..Making::whole(KeyKind::Operator, "Wim, who approves")
            };
            Some(node.new_key_of_host(making, DEMO).await.map_err(refused)?)
        }
    };
    let customs = Making::whole(KeyKind::Application("customs".to_owned()), "Customs desk");
    let customs = node.new_key_of_host(customs, DEMO).await.map_err(refused)?;
    let (listener, address) = listen(begun.port).await?;
    let sign_in = match begun.bare {
        true => None,
        // The port beside, so that its address is the same at the next start.
        false => Some(listen(if begun.port == 0 { 0 } else { begun.port.saturating_add(1) }).await?),
    };
    let sign_in_at = sign_in.as_ref().map(|(_, address)| address.clone());
    if let Some(address) = &sign_in_at {
        node.set_issuer_of_host(issuer(address)).await.map_err(refused)?;
    }
    if let Some((listener, _)) = sign_in {
        tokio::spawn(ostrog_sign_in::serve(listener, stop_signal()));
    }
    tokio::spawn(Arc::clone(&node).follow());
    let apps = match begun.apps.as_ref().zip(sign_in_at.as_deref()) {
        None => None,
        Some((folder, sign_in)) => {
            let first = if begun.port == 0 { 0 } else { begun.port.saturating_add(2) };
            let port = Port { cluster, node: &node, service: &address, sign_in, folder, first };
            Some(port.open(&customs, REGISTER).await?)
        }
    };
    for line in told_at_start(&address, sign_in_at.as_deref(), &operator, approver.as_ref(), &customs) {
        shell.reveal(&line);
    }
    for line in apps.iter().flat_map(Apps::told) {
        shell.answer(&line);
    }
    shell.answer("Ctrl-C ends it.");
    if is_new && !begun.live_only {
        let client = Client::new(&address, operator.reveal()).map_err(Failure::unreachable)?;
        let waits = approver.is_some();
        tokio::spawn(async move {
            if let Err(error) = rehearse(&client, waits).await {
                tracing::warn!(%error, "the demo's draft could not be rehearsed");
            }
        });
    }
    serve(listener, App::new(node, &address), Limits::default(), stop_signal())
        .await
        .map_err(Failure::unreachable)?;
    store.close().await;
    Ok(())
}

/// A port on loopback, and its address.
async fn listen(port: u16) -> Result<(TcpListener, String), Failure> {
    let listener = TcpListener::bind(("127.0.0.1", port)).await.map_err(|error| {
        Failure::unreachable(format!("cannot listen on port {port}: {error}; give --port 0 for free ones"))
    })?;
    let address = format!("http://{}", listener.local_addr().map_err(Failure::unreachable)?);
    Ok((listener, address))
}

/// The port's sign-in, whose tokens are for the port's applications.
fn issuer(url: &str) -> Issuer {
    let audience = |key: &str| (key.to_owned(), vec![format!("https://{key}.sorrel-bay.example")]);
    Issuer {
        key: "port-id".to_owned(),
        iss: url.to_owned(),
        audiences: ["agents", "customs", "quay"].map(audience).into(),
        keys: None,
        private: false,
        id_tokens: false,
        client: Some("ostrog-console".to_owned()),
        waits: false,
        persons: Vec::new(),
        created_at: Timestamp::now(),
        author: DEMO.to_owned(),
    }
}

/// What is printed at the start: where everything is, and what to try.
fn told_at_start(
    address: &str,
    sign_in: Option<&str>,
    operator: &KeyText,
    approver: Option<&KeyText>,
    customs: &KeyText,
) -> Vec<String> {
    let mut lines = vec![
        format!("The port of Sorrel Bay is open at {address}"),
        String::new(),
        match sign_in {
            Some(_) => "Sign in to the console with port-id, and be Vera; or with her key:".to_owned(),
            None => "Sign in to the console with the operator's key:".to_owned(),
        },
        format!("    {}", operator.reveal()),
        String::new(),
        "Ask on the command line:".to_owned(),
        format!("    export OSTROG_URL={address}"),
        format!("    export OSTROG_KEY={}", operator.reveal()),
        "    ostrog ask user:ines manifest:release manifest:m-204 --why".to_owned(),
        "    ostrog register set 'user:ines.clearance = 5'".to_owned(),
        "    ostrog ask user:ines manifest:release manifest:m-204".to_owned(),
        String::new(),
        "See who would gain and who would lose by D-1, a draft that was written in haste, here or in the console:"
            .to_owned(),
        "    ostrog shift D-1".to_owned(),
    ];
    if let Some(approver) = approver {
        lines.extend([
            String::new(),
            "That key is Vera's, who writes. D-2 is the same change with more care; Wim approves it, here or in the console:"
                .to_owned(),
            format!("    export WIM={}", approver.reveal()),
            "    OSTROG_KEY=$WIM ostrog approve D-2 --check".to_owned(),
            "    OSTROG_KEY=$WIM ostrog approve D-2 --accept all --note 'as we agreed'".to_owned(),
            "    ostrog rollout 2 --for customs".to_owned(),
            "    ostrog rollback --for customs --note 'that was a try'".to_owned(),
        ]);
    }
    lines.extend([
        String::new(),
        "Ask as the customs desk does:".to_owned(),
        format!("    curl {address}/access/v1/evaluation -H 'Authorization: Bearer {}' \\", customs.reveal()),
        "      -H 'Content-Type: application/json' \\".to_owned(),
        r#"      -d '{"subject":{"type":"user","id":"ines"},"action":{"name":"release"},"resource":{"type":"manifest","id":"m-205"}}'"#.to_owned(),
    ]);
    if let Some(sign_in) = sign_in {
        lines.extend([
            String::new(),
            format!(
                "Take a token of somebody of the port, at a stand-in that asks for no password: {sign_in}/try"
            ),
            "    ostrog token read FILE".to_owned(),
            "    ostrog routes check GET /manifests/m-204 --application customs --token FILE".to_owned(),
        ]);
    }
    lines.push(String::new());
    lines
}

/// Rehearses what is live, then a draft that is not as careful, so that there is something to look at; and where
/// somebody approves, one that waits for that.
async fn rehearse(client: &Client, waits: bool) -> Result<(), ostrog_client::Error> {
    let save = async |title: &str, over: &[(&str, &str)]| {
        let files = CHARTER.map(|(path, text)| {
            let other = over.iter().find(|(other, _)| *other == path);
            File { path: path.to_owned(), text: other.map_or(text, |(_, text)| text).to_owned() }
        });
        let files = files.to_vec();
        let saved = Saved { title: title.to_owned(), files, draft: None, from: None, onto_live: false };
        client.save_draft(&saved).await.map(|draft| draft.draft.id)
    };
    let hasty = save("Clerks move containers", &HASTE).await?;
    let mut drafts = vec![None];
    if waits {
        drafts.push(Some(save("Clerks move containers, with care", &CARE).await?));
    }
    // What there is most to look at comes last: the last run is what is shown first.
    drafts.push(Some(hasty));
    for draft in drafts {
        let begun = client.rehearse(&RehearsalAsked { draft, only: None }).await?;
        // One at a time runs on a node.
        while client
            .rehearsals()
            .await?
            .iter()
            .any(|run| run.number == begun.number && run.ended_at.is_none())
        {
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
    }
    Ok(())
}
