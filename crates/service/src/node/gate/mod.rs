//! The gate: who calls, what they may, and the only way to facts, texts, keys and the journal.
//!
//! A call gets a [`Scope`] before anything is looked up. What it opens are small types, each of which
//! can be had only with the permission it needs:
//!
//! - [`Decisions`]: questions, for applications and operators;
//! - [`Facts`]: the register, as far as an operator may read it;
//! - [`Texts`], [`Drafting`]: charters, drafts, cases and rehearsals;
//! - [`release`]: reviews, rollouts, settings;
//! - [`ahead`]: revisions that are asked though they are not live;
//! - [`KeyRing`], [`KeyKeeping`]: keys;
//! - [`IssuerList`], [`IssuerKeeping`]: issuers of tokens;
//! - [`Journal`]: what happened.
//!
//! What is not there and what is not the caller's are one path: facts are looked for among those in
//! sight, and what is out of sight is not found.

mod activate;
pub mod ahead;
mod facts;
mod issuers;
mod journal;
mod keys;
mod moves;
pub mod permission;
pub mod proxy;
pub mod release;
pub mod session;
mod texts;
pub(super) mod touched;

pub use facts::{Facts, Seen};
pub use issuers::{IssuerKeeping, IssuerList};
pub use journal::Followed;
pub use keys::KeyKeeping;
pub use moves::Moves;
pub use texts::{Drafting, Rehearsing, Saving, Texts};

use super::Node;
use super::session::{Over, Signed, ended, is_lately};
use super::view::{Holder, Live, Running, View};
use super::write::{Author, Condition, Conditions, Who, nothing_live};
use crate::App;
use crate::body::Caller;
use crate::node::names::Names;
use crate::operators::Rights;
use crate::problem::Problem;
use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use jiff::Timestamp;
use ostrog_core::decide::bearer::Token;
use ostrog_core::decide::in_force::Asking;
use ostrog_core::prelude::{Change, Engine, InForce, Policy, Sight, World};
use ostrog_core::register::journal::Entry;
use ostrog_store::key::{Detail, KeyKind};
use ostrog_store::revision::RevisionInfo;
use ostrog_store::session::Carried;
use permission::Permission;
use std::collections::BTreeMap;
use std::ops::Deref;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, LazyLock};

/// Sees everything.
static EVERYTHING: LazyLock<Arc<Sight>> = LazyLock::new(|| Arc::new(Sight::Everything));

/// How often something was looked up for a call: in the register, the texts, the keys or the journal.
/// Of two calls that may see the same, both must have looked as often, or their time would tell.
#[derive(Clone, Debug, Default)]
pub struct Looks(Arc<AtomicU64>);

impl Looks {
    fn up(&self) {
        self.0.fetch_add(1, Ordering::Relaxed);
    }

    /// How often.
    pub fn count(&self) -> u64 {
        self.0.load(Ordering::Relaxed)
    }
}

/// Who calls, and what they may reach: at one position, until the key ends.
#[derive(Clone, Debug)]
pub struct Scope {
    node: Arc<Node>,
    view: Arc<View>,
    holder: Arc<Holder>,
    /// The session they call by; none: they show a key.
    session: Option<Signed>,
    /// The application that is asked for; none: it is an operator.
    application: Option<Arc<str>>,
    sight: Arc<Sight>,
    looks: Looks,
    /// What is asked ahead, in the place of what is live.
    tried: Option<Arc<Running>>,
}

/// A scope of an operator.
#[derive(Clone, Debug)]
pub struct Operator(Scope);

impl Deref for Operator {
    type Target = Scope;
    fn deref(&self) -> &Scope {
        &self.0
    }
}

impl Scope {
    /// Of an operator's or an application's key. A proxy's is for requests, each of some application.
    fn new(node: &Arc<Node>, view: Arc<View>, holder: Arc<Holder>, looks: Looks) -> Result<Scope, Problem> {
        let application = match &holder.kind {
            KeyKind::Operator => None,
            KeyKind::Application(application) => Some(application.as_str().into()),
            KeyKind::Proxy(_) => {
                return Err(Problem::forbidden("This key is a reverse proxy's: it asks /route-check alone."));
            }
        };
        Ok(Scope::asking(node, view, holder, application, looks))
    }

    fn asking(
        node: &Arc<Node>,
        view: Arc<View>,
        holder: Arc<Holder>,
        application: Option<Arc<str>>,
        looks: Looks,
    ) -> Scope {
        let sight = sight(&view, &holder);
        Scope { node: Arc::clone(node), view, holder, session: None, application, sight, looks, tried: None }
    }

    /// The scope that a key's text opens, if it counts.
    ///
    /// # Errors
    /// If it does not.
    pub fn of_key(node: &Arc<Node>, text: &str) -> Result<Scope, Problem> {
        let view = node.view();
        let known = view.keys.find(text, Timestamp::now()).ok_or_else(unknown)?;
        let holder = Arc::clone(&known.holder);
        node.note_use(&holder.id);
        Scope::new(node, view, holder, Looks::default())
    }

    /// The same caller now, if their key or session still counts.
    ///
    /// # Errors
    /// If it has ended.
    pub fn again(&self) -> Result<Scope, Problem> {
        let view = self.node.view();
        let (holder, session) = self.still(&view)?;
        let (application, looks) = (self.application.clone(), self.looks.clone());
        let scope = Scope::asking(&self.node, view, holder, application, looks);
        let scope = Scope { session, ..scope };
        Ok(match &self.tried {
            None => scope,
            Some(tried) => scope.ahead(Arc::clone(tried)),
        })
    }

    /// Whether the caller's key or session still counts: asked at every step of what takes long.
    pub fn counts(&self) -> bool {
        self.still(&self.node.view()).is_ok()
    }

    fn still(&self, view: &View) -> Result<(Arc<Holder>, Option<Signed>), Problem> {
        match &self.session {
            None => {
                let known = view.keys.counting(&self.holder.id, Timestamp::now());
                known.map(|known| (Arc::clone(&known.holder), None)).ok_or_else(unknown)
            }
            Some(signed) => {
                let known = self.node.known_session(view, &signed.hash);
                known.map(|(signed, holder)| (holder, Some(signed))).map_err(over)
            }
        }
    }

    /// The session that the caller calls by, if they show no key.
    pub fn session(&self) -> Option<&Signed> {
        self.session.as_ref()
    }

    /// Refuses who signed in with an issuer, and not lately: what weighs most is done by whoever just showed who
    /// they are (RFC 9470).
    ///
    /// # Errors
    /// If they did not.
    pub fn need_lately(&self) -> Result<(), Problem> {
        match &self.session {
            Some(signed) if signed.by_issuer && !is_lately(signed.at, Timestamp::now()) => {
                Err(Problem::sign_in_again(
                    "This needs a sign-in of less than fifteen minutes ago: sign in again, then repeat it.",
                ))
            }
            _ => Ok(()),
        }
    }

    /// Who calls.
    pub fn holder(&self) -> &Holder {
        &self.holder
    }

    /// By what the caller is recorded: the id of a key, a person, a sign-in.
    pub fn key_id(&self) -> &str {
        &self.holder.id
    }

    /// Who that is, and as whom they count.
    pub fn who(&self) -> Who {
        Who { actor: self.key_id().to_owned(), counts_as: self.holder.counts_as.clone() }
    }

    /// What the caller is called, or their key by its maker.
    pub fn key_name(&self) -> &str {
        &self.holder.name
    }

    /// The application that the caller asks for; none: it is an operator.
    pub fn application(&self) -> Option<&str> {
        self.application.as_deref()
    }

    /// Types of other applications that the caller may ask about.
    pub fn types(&self) -> &[String] {
        &self.holder.types
    }

    /// How much answers tell the caller.
    pub fn detail(&self) -> Detail {
        self.holder.detail
    }

    /// `<epoch>.<n>` of what this scope reaches.
    pub fn position(&self) -> String {
        self.view.token()
    }

    /// The number of the position.
    pub fn position_number(&self) -> i64 {
        self.view.position
    }

    /// The epoch.
    pub fn epoch(&self) -> &str {
        &self.view.epoch
    }

    /// The digest of the journal at the position.
    pub fn digest(&self) -> String {
        self.view.digest.to_string()
    }

    // -- what they may -------------------------------------------------------------------------

    fn rights(&self) -> &Rights {
        &self.holder.rights
    }

    /// Refuses unless something may be done: by an operator everywhere, by an application's key at all.
    ///
    /// # Errors
    /// With what is missing.
    pub fn need(&self, permission: Permission) -> Result<(), Problem> {
        match self.application() {
            None if self.rights().may(permission, None) => Ok(()),
            None => Err(lacks(permission, None)),
            Some(_) if self.rights().may(permission, None) => Ok(()),
            Some(_) if Permission::OF_APPLICATIONS.contains(&permission) => {
                Err(Problem::forbidden(format!("This key is not for {permission}.")))
            }
            Some(_) => Err(Problem::forbidden("This needs an operator's key.")),
        }
    }

    /// Whether something may be done everywhere.
    pub fn may(&self, permission: Permission) -> bool {
        self.rights().may(permission, None)
    }

    /// Refuses unless something may be done somewhere: at which places is looked at where it is done.
    ///
    /// # Errors
    /// With what is missing.
    pub fn need_somewhere(&self, permission: Permission) -> Result<(), Problem> {
        if self.application().is_none() && self.rights().may_somewhere(permission) {
            return Ok(());
        }
        self.need(permission)
    }

    /// Refuses whoever may write nothing at all.
    ///
    /// # Errors
    /// If the caller may not.
    pub fn need_to_write(&self) -> Result<(), Problem> {
        use Permission::{RegisterActivate, RegisterEntities, RegisterGrants, RegisterRoles};
        let all = [RegisterEntities, RegisterGrants, RegisterActivate, RegisterRoles];
        if self.application().is_none() && all.iter().any(|one| self.rights().may_somewhere(*one)) {
            return Ok(());
        }
        Err(lacks(RegisterEntities, None))
    }

    // -- what they reach -----------------------------------------------------------------------

    fn live(&self) -> Result<&Live, Problem> {
        self.view.live.as_ref().ok_or_else(nothing_live)
    }

    /// Questions: for an operator about what they may read.
    ///
    /// # Errors
    /// If the caller may not ask, the node may be too old to answer, or nothing is live.
    pub fn decisions(&self, permission: Permission) -> Result<Decisions<'_>, Problem> {
        match self.application() {
            None => self.need_somewhere(permission.for_operators())?,
            Some(_) => self.need(permission)?,
        }
        self.node.fresh()?;
        let live = self.live()?;
        let own = self.application().and_then(|application| live.in_force.of_application(application));
        Ok(Decisions { live, at: own.unwrap_or(0), sight: &self.sight })
    }

    /// Facts, as far as the caller may read them.
    ///
    /// # Errors
    /// If they may read none, or nothing is live.
    pub fn facts(&self) -> Result<Facts<'_>, Problem> {
        self.need_somewhere(Permission::RegisterRead)?;
        Ok(Facts::new(&self.live()?.in_force, &self.sight, &self.looks))
    }

    /// Names in their order, for those who may read all of them: of a few tenants all that may be read is looked
    /// at, and nothing else.
    pub fn names(&self) -> Option<Arc<Names>> {
        if self.sight.is_everything() { self.node.names(&self.view) } else { None }
    }

    /// All facts, for those who may read all of them.
    ///
    /// # Errors
    /// If the caller may not, or nothing is live.
    pub fn all_facts(&self) -> Result<Facts<'_>, Problem> {
        self.need(Permission::RegisterRead)?;
        self.facts()
    }

    /// Changes the register, all of a batch or nothing. What may be written is asked of each change.
    ///
    /// # Errors
    /// What is wrong with it, or that the caller may not.
    pub async fn change(
        &self,
        changes: Vec<Change>,
        note: Option<String>,
        conditions: Conditions,
    ) -> Result<Changed, Problem> {
        let author = Author {
            who: self.who(),
            note,
            rights: match self.application() {
                None => Some(self.rights().clone()),
                // What an application may activate is looked at by whoever lets it.
                Some(_) => None,
            },
            sight: Sight::clone(&self.sight),
        };
        if self.tried.is_some() {
            return Err(Problem::forbidden("Nothing is written while trying ahead."));
        }
        let done = self.node.change(changes, author, conditions).await?;
        Ok(Changed {
            entries: touched::readable(&done, &self.sight),
            position: done.view.token(),
            digest: done.view.digest.to_string(),
            ignored: done.ignored,
        })
    }

    /// What must be so of the facts that the caller may read, asked while nobody else writes.
    pub fn condition(
        &self,
        holds: impl Fn(Facts<'_>) -> Result<(), Problem> + Send + Sync + 'static,
    ) -> Condition {
        let scope = self.clone();
        Box::new(move |in_force| holds(Facts::new(in_force, &scope.sight, &scope.looks)))
    }

    /// How things stand.
    pub async fn standing(&self) -> Standing<'_> {
        let database = self.node.store.ping().await.is_ok();
        Standing {
            live: self.view.live.as_ref(),
            started: self.node.started(),
            stale: self.node.age().as_secs(),
            sees_everything: self.may(Permission::RegisterRead),
            database,
        }
    }
}

/// What a write came to, as far as its caller may read it.
#[derive(Debug)]
pub struct Changed {
    /// What changed.
    pub entries: Vec<Entry>,
    /// An answer at this position includes it.
    pub position: String,
    /// The digest of the journal there.
    pub digest: String,
    /// What of it charters that are live ignore, in words.
    pub ignored: Vec<String>,
}

/// How things stand.
#[derive(Debug)]
pub struct Standing<'s> {
    live: Option<&'s Live>,
    /// Since when this node runs.
    pub started: Timestamp,
    /// For how many seconds it has not been known to be in step with the database.
    pub stale: u64,
    /// Whether its caller may know how much there is.
    pub sees_everything: bool,
    /// Whether the database answers.
    pub database: bool,
}

impl Standing<'_> {
    /// The revision that was put live last, and what its charter is called.
    pub fn revision(&self) -> Option<(&RevisionInfo, &str)> {
        self.live.map(|live| (&**live.revision(), live.world().policy().model().name.as_str()))
    }

    /// Which revision is live for which application.
    pub fn placed(&self) -> BTreeMap<String, i64> {
        self.live.map_or_else(BTreeMap::new, |live| live.placed.of.clone())
    }

    /// Entities, grants and bytes of the register, for those who may know.
    pub fn counts(&self) -> Option<(usize, usize, usize)> {
        let register = self.live.filter(|_| self.sees_everything)?.world().register();
        Some((register.entity_count(), register.grant_count(), register.size_bytes()))
    }
}

/// Questions, asked of one position: under the charter of the caller's own application, and about a type under
/// the one that is live for whoever owns it.
#[derive(Clone, Copy, Debug)]
pub struct Decisions<'s> {
    live: &'s Live,
    at: usize,
    sight: &'s Sight,
}

impl<'s> Decisions<'s> {
    /// The same about a type.
    #[must_use]
    pub fn about(&self, kind: &str) -> Decisions<'s> {
        Decisions { at: self.live.in_force.of_type(kind), ..*self }
    }

    /// The same for an application.
    #[must_use]
    pub fn of_application(&self, application: &str) -> Decisions<'s> {
        Decisions { at: self.live.in_force.of_application(application).unwrap_or(self.at), ..*self }
    }

    /// At which place of the charters it is asked.
    pub fn at(&self) -> usize {
        self.at
    }

    /// Charter and register.
    pub fn world(&self) -> &'s World {
        self.live.in_force.world(self.at)
    }

    /// All charters that are live, and which answers for what.
    pub fn in_force(&self) -> &'s InForce {
        &self.live.in_force
    }

    /// Whoever asks, with a token or without, under whichever charter answers.
    pub fn asking<'a>(&self, token: Option<Token>, application: Option<&'a str>) -> Asking<'a>
    where
        's: 'a,
    {
        Asking::new(&self.live.in_force, self.sight, token, application)
    }

    /// Ready to be asked.
    pub fn engine(&self) -> Engine<'s> {
        self.world().engine_in(self.sight)
    }

    /// The charter.
    pub fn policy(&self) -> &'s Arc<Policy> {
        self.world().policy()
    }

    /// Which revision that is.
    pub fn revision(&self) -> i64 {
        self.live.revision_at(self.at).number
    }

    /// What may be named.
    pub fn sight(&self) -> &'s Sight {
        self.sight
    }

    /// A copy to suppose facts in, that nobody else sees.
    pub fn apart(&self) -> World {
        self.world().clone()
    }
}

fn unknown() -> Problem {
    Problem::unauthenticated("The key is not known, or has ended.")
}

fn lacks(permission: Permission, tenant: Option<&str>) -> Problem {
    let at = tenant.unwrap_or("everywhere");
    Problem::forbidden(format!("This needs {permission} at {at}, which you do not hold."))
}

/// Whose facts a key sees.
fn sight(view: &View, holder: &Holder) -> Arc<Sight> {
    let is_operator = holder.kind == KeyKind::Operator;
    match &view.live {
        Some(live) if is_operator && !holder.rights.may(Permission::RegisterRead, None) => {
            let register = live.world().register();
            let tenants = holder.rights.tenants(Permission::RegisterRead);
            Arc::new(Sight::Tenants(tenants.filter_map(|tenant| register.registered(tenant)).collect()))
        }
        _ => Arc::clone(&EVERYTHING),
    }
}

// -- extraction ----------------------------------------------------------------------------------

impl FromRequestParts<App> for Scope {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Problem> {
        let looks = parts.extensions.get::<Looks>().cloned().unwrap_or_default();
        let scope = authenticated(parts, app, looks).await?;
        parts.extensions.insert(Caller(scope.key_id().into()));
        let text = |name: &str| parts.headers.get(name).map(|value| value.to_str().unwrap_or_default());
        // Only now: whoever is nobody does not wait, and learns nothing of positions.
        let scope = match text("ostrog-min-position") {
            None => scope,
            Some(wanted) => {
                app.node.wait_for(wanted, text("ostrog-min-position-digest")).await?;
                scope.again()?
            }
        };
        scope.trying(text("ostrog-try-revision")).await
    }
}

impl FromRequestParts<App> for Operator {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Problem> {
        let scope = Scope::from_request_parts(parts, app).await?;
        if scope.application().is_some() {
            return Err(Problem::forbidden("This needs an operator's key."));
        }
        Ok(Operator(scope))
    }
}

impl Operator {
    /// The scope of it.
    pub fn scope(&self) -> &Scope {
        &self.0
    }

    /// The scope that a key's text opens, if it is an operator's and counts.
    ///
    /// # Errors
    /// If it is not.
    pub fn of_key(node: &Arc<Node>, text: &str) -> Result<Operator, Problem> {
        let scope = Scope::of_key(node, text)?;
        if scope.application().is_some() {
            return Err(Problem::forbidden(
                "The console needs an operator's key; this one is an application's.",
            ));
        }
        Ok(Operator(scope))
    }
}

async fn authenticated(parts: &Parts, app: &App, looks: Looks) -> Result<Scope, Problem> {
    let node = &app.node;
    let (text, carried) = match session::bearer(&parts.headers)? {
        Some(sent) => match sent.token().strip_prefix(session::COMMAND) {
            Some(text) => (text.to_owned(), Carried::Command),
            None => {
                let view = node.view();
                let known = view.keys.find(sent.token(), Timestamp::now()).ok_or_else(unknown)?;
                let holder = Arc::clone(&known.holder);
                node.note_use(&holder.id);
                return Scope::new(node, view, holder, looks);
            }
        },
        None => {
            let Some(text) = session::Kept::Session.of(&parts.headers, app.is_secure()) else {
                return Err(Problem::unauthenticated("Send a key as Authorization: Bearer KEY."));
            };
            session::is_own_page(parts)?;
            (text, Carried::Console)
        }
    };
    let (signed, holder) =
        node.session(&text, carried, session::is_attended(&parts.headers)).await.map_err(over)?;
    let scope = Scope::new(node, node.view(), holder, looks)?;
    Ok(Scope { session: Some(signed), ..scope })
}

fn over(over: Over) -> Problem {
    Problem::unauthenticated(ended(over))
}
