//! The port's own applications beside the demo, each guarded in another way.

use super::{DEMO, listen};
use crate::commands::serve::{stop_signal, told as said};
use crate::exit::Failure;
use ostrog_agents_portal::Portal;
use ostrog_client::Client;
use ostrog_service::node::Node;
use ostrog_store::cluster::Cluster;
use ostrog_store::key::{HeaderPair, KeyKind, KeyText, Making, Proxied, Right};
use ostrog_wire::keys::ProxiedApplication;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;

/// Where Debian puts it.
const NGINX: &str = "/usr/sbin/nginx";
/// How a proxy in front of it is set up: as the documentation has it.
const PROXIES: &str = include_str!("../../../../../docs/proxies.md");

/// The applications that are open, by their addresses. They end with this.
#[derive(Debug)]
pub struct Apps {
    pub customs: String,
    /// None: nginx is not there.
    pub quay: Option<String>,
    pub agents: String,
    sign_in: String,
    _proxy: Option<Proxy>,
}

/// The service that they ask, and what they are opened in.
pub struct Port<'p> {
    pub cluster: &'p Cluster,
    pub node: &'p Arc<Node>,
    /// The service's address.
    pub service: &'p str,
    /// The sign-in's.
    pub sign_in: &'p str,
    /// A folder of their own.
    pub folder: &'p Path,
    /// The first of their ports; 0 takes free ones.
    pub first: u16,
}

impl Apps {
    /// What is printed at the start.
    pub fn told(&self) -> Vec<String> {
        let mut lines = vec![
            "The port's own applications, all asking one charter:".to_owned(),
            format!("    agents' portal {}   a page that shows what one may do", self.agents),
            format!("    customs desk   {}   guards itself, lists by row filter", self.customs),
        ];
        lines.push(match &self.quay {
            Some(quay) => {
                format!("    Quayside       {quay}   knows nothing of Ostrog; nginx in front of it asks")
            }
            None => "    Quayside       closed: nginx is not installed (apt-get install nginx)".to_owned(),
        });
        lines.push(String::new());
        lines.extend(self.stories());
        lines
    }

    /// Refused, why, one change, let in: in each of them, without a restart.
    fn stories(&self) -> Vec<String> {
        let Apps { customs, sign_in, .. } = self;
        let mut lines = vec![
            "1. In the portal sign in as Nils and open booking bk-410: a button out of use, and why. Then give him a role, in the".to_owned(),
            "   console under Give or here, and look at the page that stands open:".to_owned(),
            "    ostrog grant give line-agent --to user:nils --at tenant:hallfjord --value line=HF".to_owned(),
            format!("2. Take Ines's token at {sign_in}/try into ines.jwt. The desk lists what she may see and does not release m-204:"),
            format!("    curl '{customs}/manifests?size=5' -H \"Authorization: Bearer $(cat ines.jwt)\""),
            format!("    curl -X POST {customs}/manifests/m-204/release -H \"Authorization: Bearer $(cat ines.jwt)\""),
            "    ostrog register set 'user:ines.clearance = 5'     # and once more".to_owned(),
        ];
        if let Some(quay) = &self.quay {
            lines.extend([
                "3. The crane feed signs in as itself and writes to the log of its berth's crane; once its grant has ended, it does not:".to_owned(),
                format!("    FEED=$(curl -s {sign_in}/token -u crane-feed:made-up-crane-feed -d grant_type=client_credentials | sed 's/.*\"access_token\":\"\\([^\"]*\\).*/\\1/')"),
                format!("    curl -i {quay}/cranes/cr-1/log -H \"Authorization: Bearer $FEED\" -H 'Content-Type: application/json' -d '{{\"lifted\":\"c-77\"}}'"),
                "    ostrog grant end g-feed --note 'out for repair'   # and once more".to_owned(),
            ]);
        }
        lines.push(String::new());
        lines
    }
}

impl Port<'_> {
    fn port(&self, at: u16) -> u16 {
        if self.first == 0 { 0 } else { self.first.saturating_add(at) }
    }

    async fn key(&self, making: Making) -> Result<KeyText, Failure> {
        self.node.new_key_of_host(making, DEMO).await.map_err(|problem| Failure::input(said(problem)))
    }

    fn client(&self, key: &KeyText) -> Result<Client, Failure> {
        Client::new(self.service, key.reveal()).map_err(Failure::unreachable)
    }

    /// Opens all of them.
    pub async fn open(&self, customs: &KeyText, register: &str) -> Result<Apps, Failure> {
        let customs = self.customs(customs, register).await?;
        let (quay, proxy) = self.quay().await?.unzip();
        let agents = self.agents(register).await?;
        Ok(Apps { customs, quay, agents, sign_in: self.sign_in.to_owned(), _proxy: proxy })
    }

    /// The agents' portal keeps its key behind its page.
    async fn agents(&self, register: &str) -> Result<String, Failure> {
        let key =
            self.key(Making::whole(KeyKind::Application("agents".to_owned()), "Agents' portal")).await?;
        let (listener, address) = listen(self.port(3)).await?;
        let portal = Portal::open(&address, self.client(&key)?, self.sign_in, register);
        let portal = portal.map_err(Failure::input)?;
        tokio::spawn(async move {
            if let Err(error) = portal.serve(listener, stop_signal()).await {
                tracing::error!(%error, "the agents' portal has ended");
            }
        });
        Ok(address)
    }

    /// The customs desk guards itself. What it tells, it tells with a key that may write entities and nothing else.
    async fn customs(&self, key: &KeyText, register: &str) -> Result<String, Failure> {
        let right = Right { role: "entity-editor".to_owned(), at: "everywhere".to_owned() };
        let telling = Making {
            rights: vec![right],
            ..Making::whole(KeyKind::Operator, "What the customs desk registers")
        };
        let telling = self.client(&self.key(telling).await?)?;
        let database = self.cluster.database("customs").await?;
        let desk = ostrog_customs_desk::Desk::open(&database, self.client(key)?, telling, register);
        let desk = desk.await.map_err(Failure::unreachable)?;
        let (listener, address) = listen(self.port(0)).await?;
        tokio::spawn(async move {
            if let Err(error) = desk.serve(listener, stop_signal()).await {
                tracing::error!(%error, "the customs desk has ended");
            }
        });
        Ok(address)
    }

    /// Quayside asks nothing; nginx in front of it does.
    async fn quay(&self) -> Result<Option<(String, Proxy)>, Failure> {
        if !Path::new(NGINX).exists() {
            tracing::warn!("{NGINX} is not there: Quayside stays closed. Debian's package is nginx");
            return Ok(None);
        }
        let proxied = Proxied {
            applications: vec![ProxiedApplication { application: "quay".to_owned(), host: None }],
            headers: HeaderPair::Original,
            trusted_hops: 1,
            strip: None,
            address_as: None,
        };
        let key = self.key(Making::whole(KeyKind::Proxy(proxied), "nginx before Quayside")).await?;
        let (listener, application) = listen(self.port(1)).await?;
        tokio::spawn(async move {
            if let Err(error) = ostrog_quayside::serve(listener, stop_signal()).await {
                tracing::error!(%error, "Quayside has ended");
            }
        });
        // Taken and given back: nginx takes it itself.
        let (free, address) = listen(self.port(2)).await?;
        drop(free);
        let proxy = Proxy::start(&self.folder.join("nginx"), &address, &application, self.service, &key)?;
        Ok(Some((address, proxy)))
    }
}

/// nginx, for as long as this is kept.
#[derive(Debug)]
struct Proxy(Child);

impl Drop for Proxy {
    fn drop(&mut self) {
        // Its master ends its workers on this signal alone.
        let _ = Command::new("kill").args(["-TERM", &self.0.id().to_string()]).status();
        let _ = self.0.wait();
    }
}

impl Proxy {
    fn start(
        folder: &Path,
        address: &str,
        application: &str,
        service: &str,
        key: &KeyText,
    ) -> Result<Proxy, Failure> {
        let failed = |error: std::io::Error| Failure::unreachable(format!("nginx: {error}"));
        let host = |address: &str| address.trim_start_matches("http://").to_owned();
        let (_, site) = PROXIES.split_once("```nginx\n").unwrap_or_default();
        let site = site.split("```").next().unwrap_or_default();
        let site = site
            .replace("127.0.0.1:7423", &host(service))
            .replace("127.0.0.1:9000", &host(application))
            .replace("listen 8080", &format!("listen {}", host(address)));
        let at = folder.display();
        let whole = format!(
            "daemon off;\nworker_processes 1;\npid {at}/pid;\nerror_log {at}/error.log;\nevents {{}}\nhttp {{\n    \
             access_log off;\n    client_body_temp_path {at}/body;\n    proxy_temp_path {at}/proxy;\n    \
             fastcgi_temp_path {at}/fastcgi;\n    uwsgi_temp_path {at}/uwsgi;\n    scgi_temp_path {at}/scgi;\n    \
             include {at}/site.conf;\n}}\n"
        );
        std::fs::create_dir_all(folder).map_err(failed)?;
        let keep = |name: &str, text: &str| -> std::io::Result<PathBuf> {
            let path = folder.join(name);
            // The key is nobody else's to read, from the first byte on.
            let _ = std::fs::remove_file(&path);
            std::fs::File::create_new(&path)?.set_permissions(std::fs::Permissions::from_mode(0o600))?;
            std::fs::write(&path, text)?;
            Ok(path)
        };
        keep("ostrog.key", &format!("proxy_set_header Ostrog-Proxy-Key \"{}\";\n", key.reveal()))
            .map_err(failed)?;
        keep("site.conf", &site).map_err(failed)?;
        let whole = keep("nginx.conf", &whole).map_err(failed)?;
        let mut nginx = Command::new(NGINX);
        nginx.arg("-c").arg(whole).arg("-p").arg(folder).arg("-e").arg(folder.join("error.log"));
        Ok(Proxy(nginx.stdout(Stdio::null()).stderr(Stdio::null()).spawn().map_err(failed)?))
    }
}
