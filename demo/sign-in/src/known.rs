//! Whom and what the stand-in knows: people, and clients that ask for tokens.

use serde::Deserialize;
use url::Url;

/// People and clients.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Known {
    /// People, in the order they are shown.
    #[serde(rename = "person")]
    pub people: Vec<Person>,
    /// Clients.
    #[serde(rename = "client")]
    pub clients: Vec<Client>,
}

/// Somebody who can be picked.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Person {
    /// The `sub` of their tokens.
    pub id: String,
    /// What they are called on the page.
    pub name: String,
    /// Whom they work for.
    pub org: String,
    #[serde(default)]
    groups: Vec<String>,
    #[serde(default)]
    numbered_groups: usize,
}

impl Person {
    /// The groups the directory has them in.
    pub fn groups(&self) -> Vec<String> {
        let numbered = (1..=self.numbered_groups).map(|number| format!("List {number:03}"));
        self.groups.iter().cloned().chain(numbered).collect()
    }
}

/// A program that asks for tokens.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Client {
    /// Its id.
    pub id: String,
    /// Whom its tokens are for.
    pub audience: String,
    /// Where people are sent back to.
    #[serde(default)]
    redirect: Vec<Url>,
    /// What a service shows; none: it is a program in people's hands.
    pub secret: Option<String>,
}

impl Client {
    /// Whether people may be sent back to an address: letter by letter, but for the port on loopback.
    pub fn may_redirect(&self, to: &Url) -> bool {
        let plain = |url: &Url| {
            let mut url = url.clone();
            if url.host_str() == Some("127.0.0.1") && url.scheme() == "http" {
                let _ = url.set_port(None);
            }
            url
        };
        to.fragment().is_none() && self.redirect.iter().any(|known| plain(known) == plain(to))
    }

    /// Whether people may be sent to a page of it, whichever.
    pub fn is_at(&self, to: &Url) -> bool {
        let is = |known: &Url| {
            let is_loopback = known.host_str() == Some("127.0.0.1");
            known.scheme() == to.scheme()
                && known.host() == to.host()
                && (is_loopback || known.port() == to.port())
        };
        self.redirect.iter().any(is)
    }
}

impl Known {
    /// Those of the port of Sorrel Bay.
    pub fn of_the_port() -> Known {
        toml::from_str(include_str!("../people.toml")).expect("the file that was built in can be read")
    }

    /// A person by id.
    pub fn person(&self, id: &str) -> Option<&Person> {
        self.people.iter().find(|person| person.id == id)
    }

    /// A client by id.
    pub fn client(&self, id: &str) -> Option<&Client> {
        self.clients.iter().find(|client| client.id == id)
    }
}
