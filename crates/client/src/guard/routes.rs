//! Routes that say what they need, and a router of them.

use super::ask::{Asks, What, check};
use super::{Guard, Kind, Need, Needs, Of};
use axum::Router;
use axum::handler::Handler;
use axum::middleware::from_fn_with_state;
use axum::routing::{MethodFilter, MethodRouter, on};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// Routes, each of which says what it needs; there is no way to add one that does not.
pub struct Routes<S = ()> {
    guard: Guard,
    all: Vec<Entry<S>>,
}

struct Entry<S> {
    path: String,
    method: &'static str,
    handler: MethodRouter<S>,
    needs: Needs,
}

/// Why routes make no router.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{method} {path}: {why}")]
pub struct NotBuilt {
    /// The route's method.
    pub method: &'static str,
    /// Its path.
    pub path: String,
    /// What is wrong.
    pub why: String,
}

impl<S> std::fmt::Debug for Routes<S> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let all = self.all.iter().map(|entry| format!("{} {}", entry.method, entry.path));
        f.debug_struct("Routes").field("all", &all.collect::<Vec<_>>()).finish_non_exhaustive()
    }
}

macro_rules! methods {
    ($($name:ident $filter:ident $words:literal;)*) => {$(
        #[doc = $words]
        #[must_use]
        pub fn $name<H, T>(self, path: &str, handler: H, needs: Needs) -> Routes<S>
        where
            H: Handler<T, S>,
            T: 'static,
        {
            self.route(path, (stringify!($filter), on(MethodFilter::$filter, handler)), needs)
        }
    )*};
}

impl<S: Clone + Send + Sync + 'static> Routes<S> {
    pub(super) fn new(guard: Guard) -> Routes<S> {
        Routes { guard, all: Vec::new() }
    }

    methods! {
        get GET "A route for GET, which answers HEAD too.";
        post POST "A route for POST.";
        put PUT "A route for PUT.";
        patch PATCH "A route for PATCH.";
        delete DELETE "A route for DELETE.";
    }

    fn route(
        mut self,
        path: &str,
        (method, handler): (&'static str, MethodRouter<S>),
        needs: Needs,
    ) -> Routes<S> {
        self.all.push(Entry { path: path.to_owned(), method, handler, needs });
        self
    }

    /// The router. What is wrong with any of its routes is told here, before it serves one request.
    ///
    /// # Errors
    /// If a path is none, a permission or template cannot be read or names what the path does not have, or two routes
    /// are for the same requests.
    pub fn build(self) -> Result<Router<S>, NotBuilt> {
        let mut router = Router::new();
        let mut shapes: BTreeMap<String, (String, BTreeSet<&'static str>)> = BTreeMap::new();
        for entry in self.all {
            let Entry { path, method, handler, needs } = entry;
            let wrong = |why: String| NotBuilt { method, path: path.clone(), why };
            let parameters = parameters(&path).map_err(wrong)?;
            let (known, methods) =
                shapes.entry(shape(&path)).or_insert_with(|| (path.clone(), BTreeSet::new()));
            if *known != path {
                return Err(wrong(format!("{known} is for the same requests: call its parameters alike")));
            }
            if !methods.insert(method) {
                return Err(wrong("it stands twice".to_owned()));
            }
            let handler = match needs.0 {
                Kind::Open => handler,
                Kind::All(needs) => {
                    let needs = needs.iter().map(|need| asks(need, &parameters)).collect::<Result<_, _>>();
                    guarded(&self.guard, handler, What::All(needs.map_err(wrong)?))
                }
                Kind::Handler => guarded(&self.guard, handler, What::Handler),
                Kind::Rows(permission, columns) => {
                    self::permission(&permission).map_err(wrong)?;
                    guarded(&self.guard, handler, What::Rows(permission, columns))
                }
            };
            router = router.route(&path, handler);
        }
        Ok(router)
    }
}

fn guarded<S: Clone + Send + Sync + 'static>(
    guard: &Guard,
    handler: MethodRouter<S>,
    needs: What,
) -> MethodRouter<S> {
    handler.route_layer(from_fn_with_state(Arc::new(Asks { guard: guard.clone(), needs }), check))
}

/// The parameters of a path, and which segment each is.
fn parameters(path: &str) -> Result<BTreeMap<String, usize>, String> {
    let rest = path.strip_prefix('/').ok_or("a path begins with /")?;
    let mut all = BTreeMap::new();
    for (at, segment) in rest.split('/').enumerate() {
        let inner = segment.strip_prefix('{').and_then(|rest| rest.strip_suffix('}'));
        match inner {
            None if segment.contains(['{', '}', '*']) || segment.starts_with(':') => {
                return Err(format!("{segment:?} is no segment: a text, or one {{parameter}} alone"));
            }
            None => {}
            Some(name) if name.is_empty() || name.contains(['{', '}', '*']) => {
                return Err(format!("{segment:?} stands for no one segment"));
            }
            Some(name) if all.insert(name.to_owned(), at).is_some() => {
                return Err(format!("{{{name}}} stands twice"));
            }
            Some(_) => {}
        }
    }
    Ok(all)
}

fn shape(path: &str) -> String {
    path.split('/').map(|part| if part.starts_with('{') { "{}" } else { part }).collect::<Vec<_>>().join("/")
}

/// A need with its templates read.
#[derive(Clone, Debug)]
pub struct Asked {
    pub kind: String,
    pub action: String,
    /// What is named; of a new one, what it lies within.
    pub template: Option<Template>,
    pub is_new: bool,
}

/// A resource's name with parameters in it.
#[derive(Clone, Debug)]
pub struct Template {
    pub kind: String,
    pub pieces: Vec<Piece>,
}

#[derive(Clone, Debug)]
pub enum Piece {
    Text(String),
    /// The segment of the path that fills it.
    Segment(usize),
}

/// `type:` and what follows.
fn named(text: &str) -> Option<(String, String)> {
    let (kind, rest) = text.split_once(':')?;
    (ostrog_core::names::is_key(kind) && !rest.is_empty()).then(|| (kind.to_owned(), rest.to_owned()))
}

fn permission(text: &str) -> Result<(String, String), String> {
    let permission = named(text).filter(|(_, action)| ostrog_core::names::is_key(action));
    permission.ok_or_else(|| format!("{text:?} is no permission: write type:action"))
}

fn asks(need: &Need, parameters: &BTreeMap<String, usize>) -> Result<Asked, String> {
    let (kind, action) = permission(&need.permission)?;
    let template = |text: &String| {
        let (kind, id) =
            named(text).ok_or_else(|| format!("{text:?} is no resource: write type:{{parameter}}"))?;
        Ok::<_, String>(Template { kind, pieces: pieces(&id, parameters)? })
    };
    let (template, is_new) = match &need.of {
        Of::Named(text) => (Some(template(text)?), false),
        Of::New(within) => (within.as_ref().map(template).transpose()?, true),
    };
    if let Some(template) = template.as_ref().filter(|template| !is_new && template.kind != kind) {
        return Err(format!("{} is a permission for a {kind}, not for a {}", need.permission, template.kind));
    }
    Ok(Asked { kind, action, template, is_new })
}

fn pieces(id: &str, parameters: &BTreeMap<String, usize>) -> Result<Vec<Piece>, String> {
    let mut pieces = Vec::new();
    let mut rest = id;
    while let Some((before, after)) = rest.split_once('{') {
        let (name, after) =
            after.split_once('}').ok_or_else(|| format!("{id:?} has braces that do not match"))?;
        let at = parameters.get(name).ok_or_else(|| format!("the path has no {{{name}}}"))?;
        // Without it two resources could be named alike.
        if !pieces.is_empty() && !before.contains('/') {
            return Err(format!("{id:?} has two parameters without a / between them"));
        }
        if !before.is_empty() {
            pieces.push(Piece::Text(before.to_owned()));
        }
        pieces.push(Piece::Segment(*at));
        rest = after;
    }
    if !rest.is_empty() {
        pieces.push(Piece::Text(rest.to_owned()));
    }
    Ok(pieces)
}
