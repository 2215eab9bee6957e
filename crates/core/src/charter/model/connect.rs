//! How applications meet the charter: routes, affordances, and what tokens mean.

use super::{KindId, Model, NameId, PermId};
use crate::charter::syntax::Unregistered;
use crate::source::Span;
use std::cmp::Ordering;

/// An endpoint of an application, and what it needs.
#[derive(Clone, Debug)]
pub struct Route {
    /// The application: an index.
    pub application: usize,
    /// The method, in capitals.
    pub method: String,
    /// The path's segments; a path that ends in `/` has an empty last one.
    pub segments: Vec<Segment>,
    /// What it needs.
    pub needs: Needs,
    /// Whether what it names may be unregistered.
    pub unregistered: bool,
    /// Its place.
    pub span: Span,
}

impl Route {
    /// Its path as it is written: `/manifests/{manifest}`.
    pub fn path(&self) -> String {
        let segments: Vec<String> = self.segments.iter().map(ToString::to_string).collect();
        format!("/{}", segments.join("/"))
    }

    /// Which of two that match one path decides: the one with more literal bytes where they first differ.
    pub fn precedence(&self, other: &Route) -> Ordering {
        let pairs = self.segments.iter().zip(&other.segments);
        let mut by_segment = pairs.map(|(a, b)| b.literal().cmp(&a.literal()));
        by_segment.find(|order| order.is_ne()).unwrap_or(Ordering::Equal)
    }

    /// Whether some path matches both.
    pub fn meets(&self, other: &Route) -> bool {
        self.segments.len() == other.segments.len()
            && self.segments.iter().zip(&other.segments).all(|(a, b)| a.meets(b))
    }
}

/// One segment of a route's path.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Segment {
    /// Matches itself.
    Literal(String),
    /// Matches any one segment that begins and ends so.
    Parameter(Parameter),
}

/// A parameter with the text around it.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Parameter {
    /// What stands before it.
    pub before: String,
    /// Its name.
    pub name: String,
    /// What stands behind it.
    pub after: String,
}

impl Parameter {
    /// Its value in a segment, which is not empty; none if the segment is another one.
    pub fn value<'t>(&self, segment: &'t str) -> Option<&'t str> {
        let inner = segment.strip_prefix(self.before.as_str())?.strip_suffix(self.after.as_str())?;
        (!inner.is_empty()).then_some(inner)
    }
}

impl Segment {
    /// How much of it is literal: a whole segment is more than any part of one.
    fn literal(&self) -> usize {
        match self {
            Segment::Literal(_) => usize::MAX,
            Segment::Parameter(parameter) => parameter.before.len() + parameter.after.len(),
        }
    }

    /// Whether some text matches both.
    pub fn meets(&self, other: &Segment) -> bool {
        let alike = |a: &str, b: &str| a.starts_with(b) || b.starts_with(a);
        let ends = |a: &str, b: &str| a.ends_with(b) || b.ends_with(a);
        match (self, other) {
            (Segment::Literal(a), Segment::Literal(b)) => a == b,
            (Segment::Literal(text), Segment::Parameter(of))
            | (Segment::Parameter(of), Segment::Literal(text)) => of.value(text).is_some(),
            (Segment::Parameter(a), Segment::Parameter(b)) => {
                alike(&a.before, &b.before) && ends(&a.after, &b.after)
            }
        }
    }

    /// Whether every text that matches it matches the other too.
    pub fn lies_in(&self, other: &Segment) -> bool {
        match (self, other) {
            (Segment::Parameter(a), Segment::Parameter(b)) => {
                a.before.starts_with(&b.before) && a.after.ends_with(&b.after)
            }
            (Segment::Literal(_), _) => self.meets(other),
            (Segment::Parameter(_), Segment::Literal(_)) => false,
        }
    }

    /// The same but for what its parameter is called.
    pub fn shape(&self) -> (Option<&str>, &str, &str) {
        match self {
            Segment::Literal(text) => (Some(text), "", ""),
            Segment::Parameter(of) => (None, &of.before, &of.after),
        }
    }
}

impl std::fmt::Display for Segment {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Segment::Literal(text) => out.write_str(text),
            Segment::Parameter(of) => write!(out, "{}{{{}}}{}", of.before, of.name, of.after),
        }
    }
}

/// What a route needs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Needs {
    /// Nothing: it is public.
    Open,
    /// It is refused, whoever asks.
    Refused,
    /// All of these.
    All(Vec<Need>),
}

impl Needs {
    /// The permissions, and what these are about, in words.
    pub fn told(&self, model: &Model) -> (Vec<String>, String) {
        match self {
            Needs::Open => (Vec::new(), "everybody".to_owned()),
            Needs::Refused => (Vec::new(), "nobody".to_owned()),
            Needs::All(all) => {
                let text = |id: &PermId| model.permissions[id.index()].text.clone();
                let permissions = all.iter().flat_map(|need| need.permissions.iter().map(text)).collect();
                let about: Vec<String> = all.iter().map(|need| need.target.text(model)).collect();
                (permissions, about.join("; "))
            }
        }
    }
}

/// Permissions that are needed of one thing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Need {
    /// All of them.
    pub permissions: Vec<PermId>,
    /// What they are about.
    pub target: RouteTarget,
}

/// What a route's permissions are about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RouteTarget {
    /// The resource a template names.
    Named(Template),
    /// A new resource, and what it lies within.
    New(Option<Template>),
    /// At least one registered resource, perhaps within something.
    Any(Option<Template>),
}

impl RouteTarget {
    /// In words.
    pub fn text(&self, model: &Model) -> String {
        let within = |outer: &Option<Template>| {
            outer.as_ref().map_or_else(String::new, |outer| format!(" within {}", outer.text(model)))
        };
        match self {
            RouteTarget::Named(template) => template.text(model),
            RouteTarget::New(outer) => format!("a new one{}", within(outer)),
            RouteTarget::Any(outer) => format!("any one{}", within(outer)),
        }
    }

    /// What it names of the path.
    pub fn template(&self) -> Option<&Template> {
        match self {
            RouteTarget::Named(template) => Some(template),
            RouteTarget::New(outer) | RouteTarget::Any(outer) => outer.as_ref(),
        }
    }
}

/// An entity's name with parameters in it: `manifest:{manifest}`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Template {
    /// Its type.
    pub kind: KindId,
    /// Its id, in pieces.
    pub pieces: Vec<Piece>,
}

/// A piece of a template's id.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Piece {
    /// Text as it is.
    Text(String),
    /// What a parameter of the path is.
    Parameter(String),
}

impl Template {
    /// As it is written.
    pub fn text(&self, model: &Model) -> String {
        let piece = |piece: &Piece| match piece {
            Piece::Text(text) => text.clone(),
            Piece::Parameter(name) => format!("{{{name}}}"),
        };
        let pieces: String = self.pieces.iter().map(piece).collect();
        format!("{}:{pieces}", model.kinds[self.kind.index()].key)
    }

    /// The entity it names where its parameters are these.
    pub fn named(&self, model: &Model, values: &[(&str, &str)]) -> String {
        let piece = |piece: &Piece| match piece {
            Piece::Text(text) => text.clone(),
            Piece::Parameter(name) => {
                let value = values.iter().find(|(known, _)| known == name);
                value.map_or_else(String::new, |(_, value)| (*value).to_owned())
            }
        };
        let id: String = self.pieces.iter().map(piece).collect();
        format!("{}:{id}", model.kinds[self.kind.index()].key)
    }
}

/// What an application's interface shows and enables.
#[derive(Clone, Debug)]
pub struct Affordance {
    /// The application: an index.
    pub application: usize,
    /// Its key.
    pub key: String,
    /// For people; the key where nothing better was given.
    pub name: String,
    /// The permission that shows it.
    pub visible: PermId,
    /// The permission that enables it.
    pub enabled: PermId,
    /// The affordance it is hidden with: an index into the model's.
    pub under: Option<usize>,
    /// Its place.
    pub span: Span,
}

/// What a verified token of an issuer means.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Issuer {
    /// Its key.
    pub key: String,
    /// For people; the key where nothing better was given.
    pub name: String,
    /// Whose questions its tokens may accompany: indices.
    pub applications: Vec<usize>,
    /// The claim that names a user.
    pub subject: String,
    /// What stands before it in a user's id.
    pub prefix: String,
    /// Whether other issuers with the same prefix name the same people.
    pub same_people: bool,
    /// Whether what names a user is written small.
    pub lower_case: bool,
    /// Which tokens are services': the claim and the values that say so. Without it, those whose `sub`
    /// is their `client_id`.
    pub services: Option<(String, Vec<String>)>,
    /// The claim of the session.
    pub session: Option<String>,
    /// What becomes of a bearer who is not registered.
    pub unregistered: Unregistered,
    /// The claim of memberships in tenants.
    pub tenants: Option<TenantClaim>,
    /// Attributes of subjects, and the claims that vouch for them.
    pub attributes: Vec<(NameId, String)>,
    /// Fields of the context, by their index, and the claims that vouch for them.
    pub context: Vec<(usize, String)>,
    /// The claims of memberships in groups.
    pub groups: Vec<GroupClaim>,
    /// Where its key stands.
    pub span: Span,
}

/// A claim that is read: its name, what it vouches for, and that in words.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ClaimMeant {
    /// Its name.
    pub claim: String,
    /// `subject`, `service`, `session`, `tenants`, `groups`, `subject.post`, `context.amr`.
    pub about: String,
    /// For people.
    pub words: String,
}

impl Issuer {
    /// What its tokens mean, claim by claim.
    pub fn meant(&self, model: &Model) -> Vec<ClaimMeant> {
        let meant =
            |claim: &str, about: String, words: String| ClaimMeant { claim: claim.to_owned(), about, words };
        let case = if self.lower_case { ", written small" } else { "" };
        let names = format!("names user:{}…{case}", self.prefix);
        let mut all = vec![meant(&self.subject, "subject".to_owned(), names)];
        match &self.services {
            Some((claim, values)) => {
                let words =
                    format!("{}: the token is a service's, which client_id names", values.join(" or "));
                all.push(meant(claim, "service".to_owned(), words));
            }
            None => all.push(meant(
                "client_id",
                "service".to_owned(),
                "the same as sub: the token is a service's, which client_id names".to_owned(),
            )),
        }
        if let Some(claim) = &self.session {
            all.push(meant(claim, "session".to_owned(), format!("the session is {}/…", self.key)));
        }
        if let Some(tenants) = &self.tenants {
            let words = tenants.only.as_ref().map_or("every tenant".to_owned(), |only| only.join(", "));
            all.push(meant(&tenants.claim, "tenants".to_owned(), words));
        }
        for (name, claim) in &self.attributes {
            let about = format!("subject.{}", model.names.text(name.0));
            all.push(meant(claim, about, "the attribute's value".to_owned()));
        }
        for (field, claim) in &self.context {
            let about = format!("context.{}", model.names.text(model.context[*field].name.0));
            all.push(meant(claim, about, "the field's value".to_owned()));
        }
        for groups in &self.groups {
            let mut words: Vec<String> =
                groups.map.iter().map(|(value, group)| format!("{value:?} is {group}")).collect();
            words.extend(groups.by_name.then(|| "a group's bare id stands for it".to_owned()));
            all.push(meant(&groups.claim, "groups".to_owned(), words.join(", ")));
        }
        all
    }
}

/// The claim of memberships in tenants.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TenantClaim {
    /// The claim.
    pub claim: String,
    /// The tenants it may name, `tenant:id`; and those of which the groups it vouches for may be.
    pub only: Option<Vec<String>>,
}

/// A claim of memberships in groups.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct GroupClaim {
    /// The claim.
    pub claim: String,
    /// A value, and the group it stands for: `group:id`.
    pub map: Vec<(String, String)>,
    /// Whether a group's bare id stands for it.
    pub by_name: bool,
    /// Whether groups that a directory feeds count too.
    pub stale_ok: bool,
    /// Its place.
    pub span: Span,
}
