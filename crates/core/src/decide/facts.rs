//! What a question meets, fact by fact: for holding another description of a charter against what
//! decisions read. Decisions themselves do not come by here.

use super::evaluate::{Lack, Reached, Read, Thing, Whole};
use super::question::{Question, Resource};
use super::site::{Holders, Site};
use super::walk::Walk;
use super::{Engine, Named, Scratch, Tenant};
use crate::charter::model::{GroupId, KindId, PermId, RoleId, Root, Step};
use crate::register::{EntityId, PlaceOf};
use crate::value::{Truth, Value};

/// Something that is there, and how it was come to.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Met<'e> {
    thing: Thing<'e>,
    reached: Reached<'e>,
}

impl PartialEq for Met<'_> {
    fn eq(&self, other: &Self) -> bool {
        self.thing == other.thing
    }
}

/// What a path gives.
#[derive(Clone, Debug)]
pub(crate) enum Reading<'e> {
    /// A value.
    Value(Value<'e>),
    /// A thing.
    Thing(Met<'e>),
}

/// A list as it is read: what is in it, and what is lacking, if anything is.
pub(crate) type Listed<'e> = (Vec<Reading<'e>>, Option<Lack>);

/// The facts of one question.
pub(crate) struct Facts<'e> {
    walk: Walk<'e>,
}

/// Runs with the facts of a question at hand.
pub(crate) fn with_facts<T>(engine: Engine<'_>, question: &Question, run: impl FnOnce(&Facts<'_>) -> T) -> T {
    let mut scratch = Scratch::default();
    run(&Facts { walk: Walk::new(engine, question, &mut scratch) })
}

fn reading(read: Read<'_>) -> Reading<'_> {
    match read {
        Read::Value(value) => Reading::Value(value),
        Read::Thing(thing, reached) => Reading::Thing(Met { thing, reached }),
    }
}

impl<'e> Facts<'e> {
    /// The subject, unless it is anonymous.
    pub fn subject(&self) -> Option<Met<'e>> {
        self.start(Root::Subject)
    }

    /// The resource.
    pub fn resource(&self) -> Option<Met<'e>> {
        self.start(Root::Resource)
    }

    fn start(&self, root: Root) -> Option<Met<'e>> {
        match self.walk.root(root) {
            Ok(Read::Thing(thing, reached)) => Some(Met { thing, reached }),
            _ => None,
        }
    }

    /// What is called so, if it is registered.
    pub fn named(&self, name: &str) -> Option<Met<'e>> {
        let thing = Thing::Registered(self.walk.engine.register.registered(name)?);
        Some(Met { thing, reached: Reached::from(thing) })
    }

    /// Whether the resource is called so.
    pub fn is_called(&self, name: &str) -> bool {
        self.walk.own_name() == Some(name)
    }

    /// Whether it is in the register.
    pub fn is_registered(&self, met: Met<'e>) -> bool {
        matches!(met.thing, Thing::Registered(_))
    }

    /// Its type, if the charter declares it.
    pub fn kind(&self, met: Met<'e>) -> Option<KindId> {
        match met.thing {
            Thing::Registered(id) => self.walk.engine.kind(id),
            Thing::Own => Some(self.walk.own_kind()),
            Thing::Named(_) => None,
        }
    }

    /// Whether the resource has an id.
    pub fn has_id(&self) -> bool {
        self.walk.own_name().is_some()
    }

    /// What it lies within, whether or not a step there counts.
    pub fn outer(&self, met: Met<'e>) -> Option<Met<'e>> {
        let outer = match (met.thing, &self.walk.question.resource) {
            (Thing::Registered(id), _) => self.walk.engine.register.within(id),
            (Thing::Own, Resource::Stated { within, .. }) => *within,
            _ => None,
        };
        outer.map(|id| Self::around(met, id))
    }

    /// Its tenant, if it has one that is known.
    pub fn tenant(&self, met: Met<'e>) -> Option<Met<'e>> {
        match self.walk.tenant_of(met.thing) {
            Tenant::Is(id) => Some(Self::around(met, id)),
            _ => None,
        }
    }

    fn around(inner: Met<'e>, id: EntityId) -> Met<'e> {
        Met { thing: Thing::Registered(id), reached: Reached::from(inner.thing) }
    }

    /// One step.
    pub fn step(&self, met: Met<'e>, step: Step) -> Result<Reading<'e>, Lack> {
        self.walk.step(met.thing, step).map(reading)
    }

    /// Steps of which one leads to many.
    pub fn list(&self, met: Met<'e>, steps: &[Step]) -> Listed<'e> {
        let (mut found, mut lack) = (Vec::new(), None);
        let start = Read::Thing(met.thing, met.reached);
        let whole = self.walk.each_along(start, steps, &mut |item| {
            match item {
                Ok(read) => found.push(reading(read)),
                // What is ill outweighs what is missing.
                Err(why) => lack = lack.filter(|known| *known == Lack::IllTyped).or(Some(why)),
            }
            true
        });
        let whole = if let Whole::No(why) = whole { Some(why) } else { None };
        (found, lack.or(whole))
    }

    /// A key of the context.
    pub fn context(&self, index: usize) -> Result<Value<'e>, Lack> {
        self.walk.context(index)
    }

    /// Whether the subject is a member of a declared group, as it counts at a place.
    pub fn is_member(&self, group: GroupId, at: Met<'e>) -> bool {
        let group = self.walk.engine.link.groups[group.index()];
        group.is_some_and(|group| self.holders(self.walk.tenant_of(at.thing)).standing(group) == Truth::True)
    }

    /// Whether the subject is a member of a tenant.
    pub fn is_of_tenant(&self, tenant: Met<'e>) -> bool {
        matches!(tenant.thing, Thing::Registered(tenant) if self.walk.is_member_of(tenant))
    }

    /// Whether a group stands for the subject where it was come to.
    pub fn stands_for_subject(&self, group: Met<'e>) -> bool {
        let (Some(subject), Thing::Registered(id)) = (self.walk.subject, group.thing) else { return false };
        self.walk.stands_for(id, subject, group.reached) == Truth::True
    }

    /// Whether a grant of the role to the subject, or to a group that stands for it there, lies at
    /// just this place and counts.
    pub fn is_granted_at(&self, role: RoleId, at: Met<'e>) -> bool {
        let Thing::Registered(id) = at.thing else { return false };
        let site = self.site(at);
        let holders = self.holders(site.tenant);
        let here = Walk { site: &site, holders: &holders, ..self.walk };
        here.is_granted(role, &|held| held.at() == PlaceOf::At(id))
    }

    /// Whether one everywhere counts in a tenant, or where there is none.
    pub fn is_granted_everywhere(&self, role: RoleId, tenant: Option<Met<'e>>) -> bool {
        let tenant = match tenant.map(|met| met.thing) {
            Some(Thing::Registered(id)) => Tenant::Is(id),
            _ => Tenant::None,
        };
        let holders = self.holders(tenant);
        let here = Walk { holders: &holders, ..self.walk };
        here.is_granted(role, &|held| held.at() == PlaceOf::Everywhere)
    }

    /// Whether a role that a tenant made, with the permission in it, arrives at the resource.
    pub fn is_made(&self, permission: PermId) -> bool {
        let (walk, link) = (&self.walk, self.walk.engine.link);
        walk.held().any(|(holder, held)| {
            let Some(Named::Made(at)) = link.roles[held.role.0 as usize] else { return false };
            let made = &link.made[at as usize];
            holder.stands() == Truth::True
                && made.permissions.binary_search(&permission).is_ok()
                && walk.made_counts(held, made)
        })
    }

    fn site(&self, met: Met<'e>) -> Site {
        match met.thing {
            Thing::Registered(id) => Site::of(self.walk.engine, id),
            _ => self.walk.site.clone(),
        }
    }

    fn holders(&self, tenant: Tenant) -> Holders {
        let mut holders = Holders::default();
        holders.find(self.walk.engine.register, self.walk.subject, self.walk.vouched(), tenant);
        holders
    }
}
