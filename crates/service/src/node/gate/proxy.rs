//! Reverse proxies: who they are, and for whose routes they ask.

use super::{Looks, Scope};
use crate::App;
use crate::node::view::{Holder, View};
use crate::problem::Problem;
use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use jiff::Timestamp;
use ostrog_store::key::{KeyKind, Proxied};
use std::sync::Arc;

/// The header in which a proxy says who it is. `Authorization` is its caller's.
const KEY: &str = "ostrog-proxy-key";

/// A proxy that is known, before it is said for which application it asks.
#[derive(Debug)]
pub struct Proxy {
    view: Arc<View>,
    holder: Arc<Holder>,
    proxied: Proxied,
    looks: Looks,
}

impl Proxy {
    /// How it tells a request, and whose those are.
    pub fn proxied(&self) -> &Proxied {
        &self.proxied
    }

    /// The scope of its questions about a request for a host. None: none of its applications is there.
    pub fn asking(&self, app: &App, host: Option<&str>) -> Option<Scope> {
        let application = application(&self.proxied, host)?;
        let (view, holder) = (Arc::clone(&self.view), Arc::clone(&self.holder));
        Some(Scope::asking(&app.node, view, holder, Some(application.into()), self.looks.clone()))
    }
}

/// Whose routes are looked at for a host: names are compared without case, and without the port where only a
/// name was set. One that was set with this very port comes first.
fn application<'p>(proxied: &'p Proxied, host: Option<&str>) -> Option<&'p str> {
    let at = |host: &str| {
        let is = |set: &String| set.eq_ignore_ascii_case(host);
        proxied.applications.iter().find(|one| one.host.as_ref().is_some_and(is))
    };
    let anywhere = || proxied.applications.iter().find(|one| one.host.is_none());
    let found = host.and_then(|host| at(host).or_else(|| at(name(host)))).or_else(anywhere);
    found.map(|one| one.application.as_str())
}

/// A host without its port.
fn name(host: &str) -> &str {
    match host.rsplit_once(':') {
        Some((name, port)) if !name.is_empty() && port.bytes().all(|byte| byte.is_ascii_digit()) => name,
        _ => host,
    }
}

impl FromRequestParts<App> for Proxy {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Problem> {
        let looks = parts.extensions.get::<Looks>().cloned().unwrap_or_default();
        let mut sent = parts.headers.get_all(KEY).iter();
        let text = match (sent.next(), sent.next()) {
            (Some(text), None) => text.to_str().unwrap_or_default(),
            _ => return Err(Problem::proxy_unknown("A proxy sends its key once, as Ostrog-Proxy-Key.")),
        };
        let view = app.node.view();
        let holder = view.keys.find(text, Timestamp::now()).map(|known| Arc::clone(&known.holder));
        let (holder, proxied) = match holder {
            Some(holder) => match &holder.kind {
                KeyKind::Proxy(proxied) => (Arc::clone(&holder), proxied.clone()),
                _ => return Err(Problem::proxy_unknown("The key is not one of a reverse proxy.")),
            },
            None => return Err(Problem::proxy_unknown("The proxy's key is not known, or has ended.")),
        };
        app.node.note_use(&holder.id);
        Ok(Proxy { view, holder, proxied, looks })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ostrog_store::key::HeaderPair;
    use ostrog_wire::keys::ProxiedApplication;
    use rstest::rstest;

    #[rstest]
    #[case(Some("customs.port.example"), Some("customs"))]
    #[case(Some("CUSTOMS.port.example:8443"), Some("customs"))]
    #[case(Some("quay.port.example:81"), Some("quay"))]
    #[case(Some("customs.port.example:82"), Some("agents"))]
    #[case(Some("customs.port.example:83"), Some("customs"))]
    #[case(Some("quay.port.example"), None)]
    #[case(Some("quay.port.example:82"), None)]
    #[case(Some("customs.port.example."), None)]
    #[case(Some("customs.port.example:x"), None)]
    #[case(Some("evil.example"), None)]
    #[case(None, None)]
    fn a_host_is_of_one_application(#[case] host: Option<&str>, #[case] of: Option<&str>) {
        let at = |application: &str, host: &str| ProxiedApplication {
            application: application.to_owned(),
            host: Some(host.to_owned()),
        };
        let proxied = Proxied {
            applications: vec![
                at("customs", "customs.port.example"),
                at("quay", "quay.port.example:81"),
                at("agents", "customs.port.example:82"),
            ],
            headers: HeaderPair::Original,
            trusted_hops: 0,
            strip: None,
            address_as: None,
        };
        assert_eq!(application(&proxied, host), of);
    }
}
