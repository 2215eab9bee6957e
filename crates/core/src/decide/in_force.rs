//! Charters that are live side by side over one register, each for some applications.
//!
//! A question is read whole under the charter that is live for the application that owns its resource's type:
//! what it meets of other applications' types on its way, too.

use super::bearer::{Bearer, NotBorne, Token};
use super::question::Request;
use super::{Engine, World};
use crate::charter;
use crate::charter::model::KindId;
use crate::charter::policy::Policy;
use crate::register::Register;
use crate::register::change::Owners;
use crate::register::sight::Sight;
use crate::source::Sources;
use std::cell::OnceCell;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::sync::{Arc, LazyLock};

/// A charter that declares nothing.
static NOTHING: LazyLock<Arc<Policy>> = LazyLock::new(|| {
    let text = "[charter]\nname = \"Nothing\"\nformat = 1\n";
    let policy = charter::read(&Sources::single("nothing.toml", text)).policy;
    Arc::new(policy.expect("a charter may declare nothing"))
});

/// A charter, and the applications that it is live for.
#[derive(Clone, Debug)]
pub struct Part {
    /// The charter.
    pub policy: Arc<Policy>,
    /// Keys of applications.
    pub applications: BTreeSet<String>,
}

/// Charters that are live side by side, ready to be asked. Cheap to copy.
#[derive(Clone, Debug)]
pub struct InForce {
    worlds: Vec<World>,
    /// Where a charter speaks of types whose owner it is not live for: answers about those, with nothing in it.
    nothing: Option<World>,
    applications: BTreeMap<String, usize>,
    owners: Owners,
}

/// What a question about a type is asked under.
#[derive(Clone, Debug)]
pub struct Under<'a> {
    /// The charter, the register and what of it may be named.
    pub engine: Engine<'a>,
    /// Who bears the token that stands for the subject, as that charter reads it.
    pub bearer: Option<Result<Arc<Bearer>, NotBorne>>,
}

impl<'a> Under<'a> {
    /// One charter, whatever is asked about.
    pub fn one(engine: Engine<'a>, request: &Request) -> Under<'a> {
        Under { engine, bearer: request.bearer.clone() }
    }

    /// A request as it is asked here.
    pub(crate) fn asks(&self, request: &Request) -> Request {
        Request { bearer: self.bearer.clone(), ..request.clone() }
    }
}

/// What a question is asked under, by the type that it is about.
pub type ByType<'f, 'a> = &'f dyn Fn(&str) -> Under<'a>;

/// A type that would be owned by two applications, or by none although it is still spoken of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Torn {
    /// The type.
    pub kind: String,
    /// Which applications would own it.
    pub owners: BTreeSet<String>,
    /// Which applications must be changed together for it to be one's.
    pub together: BTreeSet<String>,
}

impl fmt::Display for Torn {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let list = |all: &BTreeSet<String>| all.iter().cloned().collect::<Vec<_>>().join(" and ");
        match self.owners.is_empty() {
            true => write!(f, "{} would be owned by no application", self.kind)?,
            false => write!(f, "{} would be owned by {}", self.kind, list(&self.owners))?,
        }
        write!(f, ": roll it out for {} together", list(&self.together))
    }
}

impl InForce {
    /// Charters side by side: at least one, the first being the one that was put live last; each application
    /// stands in one part.
    ///
    /// # Panics
    /// Without any part.
    pub fn new(parts: Vec<Part>, register: &Register) -> InForce {
        assert!(!parts.is_empty(), "something is in force");
        let applications = parts
            .iter()
            .enumerate()
            .flat_map(|(at, part)| part.applications.iter().map(move |application| (application.clone(), at)))
            .collect();
        let owned = owned(&parts).into_iter();
        let owners: Owners = owned
            .filter_map(|(kind, by)| {
                let (_, at) = by.into_iter().next()?;
                Some((kind.into_boxed_str(), at))
            })
            .collect();
        let ahead = parts.iter().flat_map(|part| self::owners(&part.policy));
        let nothing = ahead.into_iter().any(|(kind, _)| owners.of(kind).is_none());
        InForce {
            owners,
            nothing: nothing.then(|| World::new(Arc::clone(&NOTHING), register.clone())),
            worlds: parts.into_iter().map(|part| World::new(part.policy, register.clone())).collect(),
            applications,
        }
    }

    /// One charter for all of its applications.
    pub fn alone(policy: Arc<Policy>, register: &Register) -> InForce {
        let applications = declared(&policy).map(str::to_owned).collect();
        InForce::new(vec![Part { policy, applications }], register)
    }

    /// The charters, as they were given.
    pub fn worlds(&self) -> &[World] {
        &self.worlds
    }

    /// The charter that was put live last.
    pub fn last(&self) -> &World {
        &self.worlds[0]
    }

    /// The place of the charter that is live for an application.
    pub fn of_application(&self, application: &str) -> Option<usize> {
        self.applications.get(application).copied()
    }

    /// The applications, each with the place of its charter.
    pub fn applications(&self) -> &BTreeMap<String, usize> {
        &self.applications
    }

    /// The place of the charter that answers about a type. Of one that is nobody's, no charter says anything: not
    /// even one that declares it, since it is not live for who would own it.
    pub fn of_type(&self, kind: &str) -> usize {
        let nobodys = if self.nothing.is_some() { self.worlds.len() } else { 0 };
        self.owners.of(kind).unwrap_or(nobodys)
    }

    /// What is asked at a place that [`InForce::of_type`] gives.
    pub fn world(&self, at: usize) -> &World {
        self.worlds.get(at).or(self.nothing.as_ref()).unwrap_or(&self.worlds[0])
    }

    /// Which charter must declare what is said of a type.
    pub fn owners(&self) -> &Owners {
        &self.owners
    }

    /// The facts.
    pub fn register(&self) -> &Register {
        self.last().register()
    }

    /// The same charters over another register.
    #[must_use]
    pub fn over(&self, register: &Register) -> InForce {
        InForce {
            worlds: self.worlds.iter().map(|world| world.over(register.clone())).collect(),
            nothing: self.nothing.as_ref().map(|world| world.over(register.clone())),
            applications: self.applications.clone(),
            owners: self.owners.clone(),
        }
    }

    /// The charters and the applications they are live for, as [`InForce::new`] takes them.
    pub fn parts(&self) -> Vec<Part> {
        let part = |(at, world): (usize, &World)| Part {
            policy: Arc::clone(world.policy()),
            applications: self
                .applications
                .iter()
                .filter(|(_, known)| **known == at)
                .map(|(application, _)| application.clone())
                .collect(),
        };
        self.worlds.iter().enumerate().map(part).collect()
    }
}

/// Which applications own a type, each in its own charter.
fn owned(parts: &[Part]) -> BTreeMap<String, Vec<(String, usize)>> {
    let mut owned: BTreeMap<String, Vec<(String, usize)>> = BTreeMap::new();
    for (at, part) in parts.iter().enumerate() {
        for (kind, application) in owners(&part.policy) {
            if part.applications.contains(application) {
                owned.entry(kind.to_owned()).or_default().push((application.to_owned(), at));
            }
        }
    }
    owned
}

/// The types of a charter, each with the application that it says owns it.
fn owners(policy: &Policy) -> impl Iterator<Item = (&str, &str)> {
    let model = policy.model();
    model.kinds.iter().filter_map(|kind| {
        let application = &model.applications[kind.application?];
        Some((kind.key.as_str(), application.key.as_str()))
    })
}

/// The applications that a charter declares.
pub fn declared(policy: &Policy) -> impl Iterator<Item = &str> {
    policy.model().applications.iter().map(|application| application.key.as_str())
}

/// Types that would be two applications', or nobody's although they are somebody's now and a charter still
/// speaks of them: what is said of those could be changed by nobody.
pub fn torn(before: &[Part], after: &[Part]) -> Vec<Torn> {
    let (was, is) = (owned(before), owned(after));
    let speaks = |part: &Part, kind: &str| part.policy.kind(kind).is_some_and(KindId::is_resource);
    let mut kinds: BTreeSet<&str> =
        is.iter().filter(|(_, by)| by.len() > 1).map(|(kind, _)| kind.as_str()).collect();
    let orphans = was.keys().filter(|kind| !is.contains_key(*kind));
    kinds.extend(orphans.map(String::as_str).filter(|kind| after.iter().any(|part| speaks(part, kind))));
    let told = |kind: &str| {
        let named = |by: Option<&Vec<(String, usize)>>| -> BTreeSet<String> {
            by.into_iter().flatten().map(|(application, _)| application.clone()).collect()
        };
        let owners_now = named(is.get(kind));
        // Whoever a charter says owns it, where that is not so yet, and those whose charter speaks of it still.
        let claimed = after.iter().flat_map(|part| {
            owners(&part.policy).filter(|(known, _)| *known == kind).map(|(_, by)| by.to_owned())
        });
        let mut together: BTreeSet<String> = owners_now.iter().cloned().chain(claimed).collect();
        together.extend(named(was.get(kind)));
        if owners_now.is_empty() {
            let speaking = after.iter().filter(|part| speaks(part, kind));
            together.extend(speaking.flat_map(|part| part.applications.iter().cloned()));
        }
        Torn { kind: kind.to_owned(), owners: owners_now, together }
    };
    kinds.into_iter().map(told).collect()
}

/// Who asks, under whichever charter answers: the bearer of a token is read under each as it is needed.
#[derive(Debug)]
pub struct Asking<'a> {
    in_force: &'a InForce,
    sight: &'a Sight,
    token: Option<Token>,
    application: Option<&'a str>,
    borne: Vec<OnceCell<Result<Arc<Bearer>, NotBorne>>>,
}

impl<'a> Asking<'a> {
    /// Who asks for an application, or an operator for none: with a verified token, or by name.
    pub fn new(
        in_force: &'a InForce,
        sight: &'a Sight,
        token: Option<Token>,
        application: Option<&'a str>,
    ) -> Asking<'a> {
        let borne = (0..=in_force.worlds.len()).map(|_| OnceCell::new()).collect();
        Asking { in_force, sight, token, application, borne }
    }

    /// What a question about a type is asked under.
    pub fn under(&self, kind: &str) -> Under<'_> {
        self.at(self.in_force.of_type(kind))
    }

    /// What is asked under one of the charters.
    pub fn at(&self, at: usize) -> Under<'_> {
        let live = self.in_force.world(at);
        let Some(token) = &self.token else {
            return Under { engine: live.engine_in(self.sight), bearer: None };
        };
        let borne = self.borne[at].get_or_init(|| Bearer::of(live, token, self.application).map(Arc::new));
        let world = borne.as_ref().map_or(live, |bearer| bearer.world(live));
        Under { engine: world.engine_in(self.sight), bearer: Some(borne.clone()) }
    }
}
