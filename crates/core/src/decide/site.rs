//! What counts at a place: the places a grant may lie at to arrive there, its tenant, and the
//! subject with the groups that stand for it there.

use super::bearer::Vouched;
use super::question::{Question, Resource};
use super::{Engine, Tenant};
use crate::register::{EntityId, HeldList, Register};
use crate::value::Truth;
use foldhash::fast::RandomState;
use hashbrown::HashSet;

/// Where holding a role is asked about.
#[derive(Clone, Debug)]
pub(super) struct Site {
    /// The resource or tenant; none if it is the question's own, which the register does not know.
    pub thing: Option<EntityId>,
    /// It and, until something is detached, what it lies within, with its tenant if that is reached.
    pub places: Vec<EntityId>,
    /// Its tenant.
    pub tenant: Tenant,
    /// What it lies within, if roles that arrive there arrive here.
    pub outer: Option<EntityId>,
}

impl Default for Site {
    fn default() -> Self {
        Site { thing: None, places: Vec::new(), tenant: Tenant::None, outer: None }
    }
}

impl Site {
    /// Makes it the site of a question.
    pub fn find(&mut self, engine: Engine<'_>, question: &Question) {
        let (thing, start) = match question.resource {
            Resource::Registered(id) => (Some(id), Some(id)),
            Resource::Stated { within, .. } => (None, within),
        };
        let kind = engine.policy.model().permissions[question.permission.index()].kind;
        let lies_nowhere = engine.policy.model().kinds[kind.index()].within.is_empty();
        self.fill(engine, thing, start);
        if start.is_none() && lies_nowhere {
            self.tenant = Tenant::None;
        }
    }

    /// The site of an entity of the register.
    pub fn of(engine: Engine<'_>, id: EntityId) -> Site {
        let mut site = Site::default();
        site.fill(engine, Some(id), Some(id));
        site
    }

    fn fill(&mut self, engine: Engine<'_>, thing: Option<EntityId>, start: Option<EntityId>) {
        let register = engine.register;
        self.thing = thing;
        self.places.clear();
        self.outer = start.filter(|_| thing.is_none());
        let (mut next, mut arrives, mut end) = (start, true, None);
        while let Some(id) = next {
            let glance = register.glance(id);
            if arrives {
                self.places.push(id);
            }
            arrives &= !glance.is_detached();
            next = glance.within();
            if thing == Some(id) {
                self.outer = next.filter(|_| arrives);
            }
            end = Some((id, glance.kind()));
        }
        self.tenant = end.map_or(Tenant::Unknown, |(end, kind)| engine.tenant_at_end(end, kind));
    }
}

/// Who a role may be granted to so that the subject holds it.
#[derive(Clone, Copy, Debug)]
pub(super) struct Holder {
    /// The subject, or a group.
    pub id: EntityId,
    /// The place of the one it was reached from.
    pub from: u32,
    /// What was granted to it.
    pub held: HeldList,
    /// How it is known that it stands for the subject.
    pub link: Link,
}

/// How it is known that a group stands for a subject.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Link {
    /// Every membership on the way is in the register.
    Registered,
    /// A token vouches for the first of them.
    Vouched,
    /// A token may vouch for the first of them, and cannot be read.
    Perhaps,
}

impl Holder {
    /// Whether it stands for the subject.
    pub fn stands(&self) -> Truth {
        match self.link {
            Link::Registered | Link::Vouched => Truth::True,
            Link::Perhaps => Truth::Undetermined,
        }
    }
}

/// The subject and the groups that stand for it at a site.
#[derive(Clone, Debug, Default)]
pub(super) struct Holders {
    /// The subject first.
    pub list: Vec<Holder>,
    /// The same as a set, once there are too many to look through.
    many: HashSet<EntityId, RandomState>,
}

impl Holders {
    /// Too many holders to look through one by one.
    const MANY: usize = 64;

    /// Finds them: a group of another tenant stands for nobody there, nor does any group reached
    /// only through it. What the register says comes first, then what a token vouches for, then what it
    /// may vouch for.
    pub fn find(
        &mut self,
        register: &Register,
        subject: Option<EntityId>,
        vouched: Option<&Vouched>,
        tenant: Tenant,
    ) {
        self.list.clear();
        self.many.clear();
        let Some(subject) = subject else { return };
        let held = register.glance(subject).held();
        self.list.push(Holder { id: subject, from: 0, held, link: Link::Registered });
        let mut at = 0;
        self.follow(register, tenant, &mut at, Link::Registered);
        let Some(vouched) = vouched else { return };
        for (groups, link) in [(&vouched.groups, Link::Vouched), (&vouched.perhaps, Link::Perhaps)] {
            groups.iter().for_each(|group| self.take_in(register, *group, 0, tenant, link));
            self.follow(register, tenant, &mut at, link);
        }
    }

    /// Takes in the groups of those that were found from `at` on.
    fn follow(&mut self, register: &Register, tenant: Tenant, at: &mut usize, link: Link) {
        while *at < self.list.len() {
            let from = u32::try_from(*at).unwrap_or(u32::MAX);
            for group in register.groups(self.list[*at].id) {
                self.take_in(register, *group, from, tenant, link);
            }
            *at += 1;
        }
    }

    fn take_in(&mut self, register: &Register, group: EntityId, from: u32, tenant: Tenant, link: Link) {
        let glance = register.glance(group);
        let counts = match glance.group_tenant() {
            None => true,
            Some(of) => tenant == Tenant::Is(of),
        };
        if counts && !self.contains(group) {
            self.list.push(Holder { id: group, from, held: glance.held(), link });
            if self.list.len() == Self::MANY {
                self.many.extend(self.list.iter().map(|holder| holder.id));
            } else if self.list.len() > Self::MANY {
                self.many.insert(group);
            }
        }
    }

    /// Whether somebody surely is, or may be, among them.
    pub fn standing(&self, id: EntityId) -> Truth {
        if !self.contains(id) {
            return Truth::False;
        }
        // In their order: most often all of them are registered.
        if self.list.last().is_none_or(|last| last.link == Link::Registered) {
            return Truth::True;
        }
        self.list.iter().find(|holder| holder.id == id).map_or(Truth::True, Holder::stands)
    }

    /// Whether somebody is among them.
    pub fn contains(&self, id: EntityId) -> bool {
        if self.list.len() < Self::MANY {
            self.list.iter().any(|holder| holder.id == id)
        } else {
            self.many.contains(&id)
        }
    }
}
