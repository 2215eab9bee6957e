//! Issuers of tokens on this node: their documents are fetched here, from the very address that was looked at.

use axum::http::{Request, Response as Answer};
use futures_util::StreamExt as _;
use ostrog_store::issuer::Issuer as Kept;
use ostrog_tokens::discovery::is_loopback;
use ostrog_tokens::issuers::{Config, Fetch, KeySource, Later, Reach, Unfetched};
use reqwest::redirect::Policy;
use reqwest::{Client, Response};
use std::net::{IpAddr, Ipv6Addr, SocketAddr};
use std::time::Duration;
use url::Url;

/// Longest a fetch may take.
const PATIENCE: Duration = Duration::from_secs(5);

/// An issuer as it was set up.
pub fn config(kept: &Kept) -> Config {
    Config {
        key: kept.key.clone(),
        iss: kept.iss.clone(),
        audiences: kept.audiences.clone(),
        source: kept.keys.clone().map_or(KeySource::Discovered, KeySource::File),
        private: kept.private,
        id_tokens: kept.id_tokens,
    }
}

/// Fetches over the network: no redirects, no proxy, and only from an address that may be asked.
#[derive(Clone, Copy, Debug, Default)]
pub struct Network;

impl Fetch for Network {
    fn get<'f>(&'f self, url: &'f Url, reach: Reach, most: usize) -> Later<'f, Result<Vec<u8>, Unfetched>> {
        Box::pin(async move {
            let fetched = tokio::time::timeout(PATIENCE, get(url, reach, most)).await;
            fetched.unwrap_or(Err(Unfetched::TooSlow(PATIENCE.as_secs())))
        })
    }
}

async fn get(url: &Url, reach: Reach, most: usize) -> Result<Vec<u8>, Unfetched> {
    let asked = client(url, reach).await?.get(url.clone()).header("accept", "application/json");
    let response = asked.send().await.map_err(|_| Unfetched::Unreachable)?;
    if response.status().as_u16() != 200 {
        return Err(Unfetched::Status(response.status().as_u16()));
    }
    body(response, most).await
}

/// Sends a request to an issuer, as guarded as fetching from it is; its answer may have any status.
///
/// # Errors
/// If it may not be asked, does not answer in time, or says too much.
pub async fn send(
    request: Request<Vec<u8>>,
    reach: Reach,
    most: usize,
) -> Result<Answer<Vec<u8>>, Unfetched> {
    let (parts, sent) = request.into_parts();
    let url = Url::parse(&parts.uri.to_string()).map_err(|_| Unfetched::Unreachable)?;
    if url.scheme() != "https" && !(reach.loopback && is_loopback(&url)) {
        return Err(Unfetched::Forbidden("plain http"));
    }
    let asked = async {
        let asked =
            client(&url, reach).await?.request(parts.method, url.clone()).headers(parts.headers).body(sent);
        let response = asked.send().await.map_err(|_| Unfetched::Unreachable)?;
        let (status, headers) = (response.status(), response.headers().clone());
        let mut answer = Answer::new(body(response, most).await?);
        (*answer.status_mut(), *answer.headers_mut()) = (status, headers);
        Ok(answer)
    };
    tokio::time::timeout(PATIENCE, asked).await.unwrap_or(Err(Unfetched::TooSlow(PATIENCE.as_secs())))
}

/// A client that connects to the very addresses that were looked at.
async fn client(url: &Url, reach: Reach) -> Result<Client, Unfetched> {
    let addresses = addresses(url).await?;
    for address in &addresses {
        may_be_asked(address.ip(), reach).map_err(Unfetched::Forbidden)?;
    }
    let host = url.host_str().unwrap_or_default();
    Client::builder()
        .redirect(Policy::none())
        .no_proxy()
        .timeout(PATIENCE)
        // What was looked at is what is connected to, whatever a name leads to by then.
        .resolve_to_addrs(host, &addresses)
        .build()
        .map_err(|_| Unfetched::Unreachable)
}

async fn body(response: Response, most: usize) -> Result<Vec<u8>, Unfetched> {
    let mut body = Vec::new();
    let mut parts = response.bytes_stream();
    while let Some(part) = parts.next().await {
        let part = part.map_err(|_| Unfetched::Unreachable)?;
        if body.len() + part.len() > most {
            return Err(Unfetched::TooLarge(most));
        }
        body.extend_from_slice(&part);
    }
    Ok(body)
}

async fn addresses(url: &Url) -> Result<Vec<SocketAddr>, Unfetched> {
    let port = url.port_or_known_default().ok_or(Unfetched::Unreachable)?;
    match url.host() {
        Some(url::Host::Ipv4(address)) => Ok(vec![(address, port).into()]),
        Some(url::Host::Ipv6(address)) => Ok(vec![(address, port).into()]),
        Some(url::Host::Domain(name)) => {
            let found = tokio::net::lookup_host((name, port)).await.map_err(|_| Unfetched::Unreachable)?;
            let found: Vec<SocketAddr> = found.collect();
            if found.is_empty() { Err(Unfetched::Unreachable) } else { Ok(found) }
        }
        None => Err(Unfetched::Unreachable),
    }
}

/// Whether an address may be connected to.
fn may_be_asked(address: IpAddr, reach: Reach) -> Result<(), &'static str> {
    match address {
        IpAddr::V4(address) => {
            let [a, b, c, _] = address.octets();
            match (a, b) {
                (127, _) if !reach.loopback => Err("loopback"),
                (10, _) | (192, 168) | (172, 16..=31) | (100, 64..=127) if !reach.private => Err("private"),
                (169, 254) if !reach.private => Err("link-local"),
                (0 | 224.., _) | (198, 18 | 19) => Err("special"),
                (192, 0) if c == 0 => Err("special"),
                _ => Ok(()),
            }
        }
        IpAddr::V6(address) => six(address, reach),
    }
}

fn six(address: Ipv6Addr, reach: Reach) -> Result<(), &'static str> {
    if let Some(mapped) = address.to_ipv4_mapped() {
        return may_be_asked(mapped.into(), reach);
    }
    let first = address.segments()[0];
    if address.is_loopback() {
        return if reach.loopback { Ok(()) } else { Err("loopback") };
    }
    match first {
        // Translated and tunnelled ones lead to addresses that were not looked at.
        0 | 0x64 | 0x100 | 0x2002 => Err("special"),
        0x2001 if address.segments()[1] == 0 => Err("special"),
        0xfe80..=0xfebf if !reach.private => Err("link-local"),
        0xfc00..=0xfdff if !reach.private => Err("private"),
        0xff00.. => Err("special"),
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("127.0.0.1", true, false, false)]
    #[case("::1", true, false, false)]
    #[case("::ffff:127.0.0.1", true, false, false)]
    #[case("10.1.2.3", false, true, false)]
    #[case("172.31.0.1", false, true, false)]
    #[case("192.168.7.7", false, true, false)]
    #[case("100.64.0.1", false, true, false)]
    #[case("169.254.169.254", false, true, false)]
    #[case("fd00::1", false, true, false)]
    #[case("fe80::1", false, true, false)]
    #[case("0.0.0.0", false, false, false)]
    #[case("224.0.0.1", false, false, false)]
    #[case("255.255.255.255", false, false, false)]
    #[case("64:ff9b::7f00:1", false, false, false)]
    #[case("2002:7f00:1::", false, false, false)]
    #[case("ff02::1", false, false, false)]
    #[case("172.32.0.1", true, true, true)]
    #[case("203.0.113.9", true, true, true)]
    #[case("2a00::1", true, true, true)]
    fn addresses_that_may_be_asked(
        #[case] address: &str,
        #[case] by_loopback: bool,
        #[case] by_private: bool,
        #[case] by_all: bool,
    ) {
        let may = |loopback, private| {
            may_be_asked(address.parse().expect("an address"), Reach { loopback, private }).is_ok()
        };
        assert_eq!(
            (may(true, false), may(false, true), may(false, false)),
            (by_loopback, by_private, by_all)
        );
        assert_eq!(may(true, true), by_loopback || by_private || by_all);
    }
}
