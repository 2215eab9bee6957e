//! What a reverse proxy says of a request, in headers: of the pair that was set for it, and of no other, since
//! proxies pass on what a client sends.

use crate::problem::Problem;
use axum::http::{HeaderMap, header};
use ostrog_store::key::{HeaderPair, Proxied};
use std::net::IpAddr;

/// Headers by which a client can ask an application for another method than the one it is asked with.
const OVERRIDES: [&str; 3] = ["x-http-method-override", "x-http-method", "x-method-override"];

/// A request, as a proxy tells it.
#[derive(Debug)]
pub struct Forwarded<'h> {
    headers: &'h HeaderMap,
    /// The method.
    pub method: &'h str,
    /// The target: path and query.
    pub target: &'h str,
}

/// Who makes a request, as far as its headers say.
#[derive(Debug, PartialEq, Eq)]
pub enum Caller<'h> {
    /// Nobody says who they are.
    Nobody,
    /// The bearer of a token.
    Bearer(&'h str),
    /// By another scheme than Bearer.
    OtherScheme,
    /// By several headers, or one that cannot be read.
    Unclear,
}

impl<'h> Forwarded<'h> {
    /// Reads method and target.
    ///
    /// # Errors
    /// If one of the two headers is missing, or there several times.
    pub fn read(headers: &'h HeaderMap, pair: HeaderPair) -> Result<Forwarded<'h>, Problem> {
        let (method, target) = match pair {
            HeaderPair::Original => ("x-original-method", "x-original-uri"),
            HeaderPair::Forwarded => ("x-forwarded-method", "x-forwarded-uri"),
        };
        Ok(Forwarded { headers, method: one(headers, method)?, target: one(headers, target)? })
    }

    /// The host that was asked for, if the proxy's key tells applications apart by it.
    ///
    /// # Errors
    /// If its header is missing, or there several times.
    pub fn host(&self, proxied: &Proxied) -> Result<Option<&'h str>, Problem> {
        if proxied.applications.iter().all(|one| one.host.is_none()) {
            return Ok(None);
        }
        let name = match proxied.headers {
            HeaderPair::Original => "x-original-host",
            HeaderPair::Forwarded => "x-forwarded-host",
        };
        one(self.headers, name).map(Some)
    }

    /// Whether the client asks for another method beside the request's.
    pub fn overrides(&self) -> bool {
        OVERRIDES.iter().any(|name| self.headers.contains_key(*name))
    }

    /// Who makes the request.
    pub fn caller(&self) -> Caller<'h> {
        let mut sent = self.headers.get_all(header::AUTHORIZATION).iter();
        let text = match (sent.next(), sent.next()) {
            (None, _) => return Caller::Nobody,
            (Some(one), None) => one.to_str(),
            (Some(_), Some(_)) => return Caller::Unclear,
        };
        // RFC 9110, 11.4: a scheme, one space or more, and what it takes.
        let Some((scheme, token)) = text.unwrap_or_default().trim().split_once(' ') else {
            return Caller::Unclear;
        };
        let token = token.trim_start();
        match scheme.eq_ignore_ascii_case("bearer") {
            false => Caller::OtherScheme,
            // Two headers that a proxy joined are two tokens.
            true if token.is_empty() || token.contains([' ', ',']) => Caller::Unclear,
            true => Caller::Bearer(token),
        }
    }

    /// The client's address, through so many trusted hops, each of which wrote down whom it was asked by; none if
    /// there are fewer, or what stands there is no address.
    pub fn address(&self, hops: u8) -> Option<IpAddr> {
        let hops = usize::from(hops).checked_sub(1)?;
        let lines = self.headers.get_all("x-forwarded-for").iter();
        let lines: Vec<&str> = lines.map(|line| line.to_str().unwrap_or_default()).collect();
        let all: Vec<&str> = lines.iter().flat_map(|line| line.split(',')).map(str::trim).collect();
        all.iter().rev().nth(hops)?.parse().ok()
    }
}

/// The value of a header that is there once.
fn one<'h>(headers: &'h HeaderMap, name: &str) -> Result<&'h str, Problem> {
    let mut sent = headers.get_all(name).iter();
    match (sent.next().map(|value| value.to_str()), sent.next()) {
        (Some(Ok(text)), None) => Ok(text),
        _ => Err(Problem::malformed(format!("The proxy tells the request in {name}, once, as text."))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn headers(all: &[(&'static str, &str)]) -> HeaderMap {
        let value = |text: &str| text.parse().expect("a value");
        all.iter().map(|(name, text)| (name.parse().expect("a name"), value(text))).collect()
    }

    #[rstest]
    #[case(&[], Caller::Nobody)]
    #[case(&["Bearer a.b.c"], Caller::Bearer("a.b.c"))]
    #[case(&["bearer  a.b.c "], Caller::Bearer("a.b.c"))]
    #[case(&["Basic aWxvdmU="], Caller::OtherScheme)]
    #[case(&["Bearer"], Caller::Unclear)]
    #[case(&["Bearer "], Caller::Unclear)]
    #[case(&["Bearer a b"], Caller::Unclear)]
    #[case(&["Bearer a, Bearer b"], Caller::Unclear)]
    #[case(&["Bearer a", "Bearer b"], Caller::Unclear)]
    #[case(&["Bearer a", "Basic b"], Caller::Unclear)]
    #[case(&[""], Caller::Unclear)]
    fn who_makes_a_request(#[case] sent: &[&str], #[case] who: Caller<'_>) {
        let pair = [("x-original-method", "GET"), ("x-original-uri", "/")];
        let mut all = headers(&pair);
        for text in sent {
            all.append("authorization", text.parse().expect("a value"));
        }
        assert_eq!(Forwarded::read(&all, HeaderPair::Original).expect("is read").caller(), who);
    }

    #[rstest]
    #[case(&["203.0.113.9"], 0, None)]
    #[case(&["203.0.113.9"], 1, Some("203.0.113.9"))]
    #[case(&["6.6.6.6, 203.0.113.9"], 1, Some("203.0.113.9"))]
    #[case(&["6.6.6.6", "203.0.113.9, 10.0.0.1"], 2, Some("203.0.113.9"))]
    #[case(&["203.0.113.9"], 2, None)]
    #[case(&["6.6.6.6, unknown"], 1, None)]
    #[case(&["2001:db8::7"], 1, Some("2001:db8::7"))]
    #[case(&[], 1, None)]
    fn an_address_counts_through_trusted_hops_only(
        #[case] sent: &[&str],
        #[case] hops: u8,
        #[case] address: Option<&str>,
    ) {
        let mut all = headers(&[("x-forwarded-method", "GET"), ("x-forwarded-uri", "/")]);
        for text in sent {
            all.append("x-forwarded-for", text.parse().expect("a value"));
        }
        let forwarded = Forwarded::read(&all, HeaderPair::Forwarded).expect("is read");
        assert_eq!(forwarded.address(hops).map(|address| address.to_string()).as_deref(), address);
    }

    #[test]
    fn the_other_pair_is_never_looked_at_and_a_pair_is_there_once() {
        let both = [
            ("x-original-method", "GET"),
            ("x-original-uri", "/a"),
            ("x-forwarded-method", "POST"),
            ("x-forwarded-uri", "/b"),
        ];
        let read = |all: &HeaderMap, pair| {
            let read = Forwarded::read(all, pair).ok()?;
            Some((read.method.to_owned(), read.target.to_owned()))
        };
        let all = headers(&both);
        let told = |method: &str, target: &str| Some((method.to_owned(), target.to_owned()));
        assert_eq!(read(&all, HeaderPair::Original), told("GET", "/a"));
        assert_eq!(read(&all, HeaderPair::Forwarded), told("POST", "/b"));
        for (missing, _) in &both[..2] {
            let mut all = all.clone();
            all.remove(*missing);
            assert_eq!(read(&all, HeaderPair::Original), None);
        }
        let mut twice = all;
        twice.append("x-original-uri", "/c".parse().expect("a value"));
        assert_eq!(read(&twice, HeaderPair::Original), None);
    }
}
