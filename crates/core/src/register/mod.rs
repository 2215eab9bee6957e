//! The register: users, services, groups, tenants, resources, and who was granted what, where.
//!
//! - [`line`](mod@line) and [`fact`] are the two ways a change is written;
//! - [`change`] applies changes, all of a batch or none, and says what is wrong with them;
//! - [`journal`] is what is recorded of that, and how it becomes the register again;
//! - [`sight`] says whose facts somebody sees, [`wrong`] why something cannot be;
//! - [`against`] holds a charter against what is registered;
//! - `keep` writes them, `grants`, `active` and `values` are how they lie in memory: by the million, in
//!   pieces that copies of a register share;
//! - this file says what the facts are, and reads them.
//!
//! What holds here:
//! - a value is kept as it was written; its type is a matter of the charter that reads it;
//! - an id stands for one entity for ever; an entity made again under a deleted one's name gets
//!   a new id, and no fact of the old one is left;
//! - containment and group nesting have no loops and a bounded depth, so every walk ends.

mod active;
pub mod against;
pub mod change;
pub mod fact;
mod grants;
pub mod holdings;
pub mod journal;
mod keep;
pub mod line;
pub mod sight;
mod values;
pub mod wrong;

pub use grants::{Grant, GrantId, Terms};

use crate::charter::model::Stated;
use crate::interner::Interner;
use crate::names::folded;
use crate::pieces::{Index, List, Lists, ROWS, Table, Texts, items};
use active::Activations;
use foldhash::fast::RandomState;
use grants::{Grants, OwnGrant};
use hashbrown::HashSet;
use imbl::OrdMap;
use jiff::{SignedDuration, Timestamp};
use std::hash::BuildHasher as _;
use values::{ValueId, Values};

/// Most steps from a resource to the end of containment.
pub const MAX_CONTAINMENT: usize = 32;
/// Most groups on the way from a group to a subject.
pub const MAX_NESTING: usize = 16;

/// An entity of a register.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Default)]
pub struct EntityId(pub u32);

impl EntityId {
    fn index(self) -> usize {
        self.0 as usize
    }
}

/// A name the register uses: a type, attribute, relation, role or value.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Default)]
pub struct Sym(pub u32);

/// The types every register knows, in the order they are interned.
impl Sym {
    /// `user`
    pub const USER: Sym = Sym(0);
    /// `service`
    pub const SERVICE: Sym = Sym(1);
    /// `group`
    pub const GROUP: Sym = Sym(2);
    /// `tenant`
    pub const TENANT: Sym = Sym(3);
}

/// The state of an entity.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum State {
    /// In use.
    #[default]
    Active,
    /// A user or service that is denied everything.
    Suspended,
    /// Gone; its name is remembered.
    Deleted,
}

impl State {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            State::Active => "active",
            State::Suspended => "suspended",
            State::Deleted => "deleted",
        }
    }
}

/// All that is said of one entity, on its own: as it is written, not as it is kept.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Record {
    /// Its state.
    pub state: State,
    /// What it lies within.
    pub within: Option<EntityId>,
    /// Whether roles that arrive outside do not arrive here.
    pub detached: bool,
    /// The tenant of a group.
    pub tenant: Option<EntityId>,
    /// The tenants a user or service is a member of.
    pub tenants: Vec<EntityId>,
    /// The members of a group.
    pub members: Vec<EntityId>,
    /// Attributes by name.
    pub attributes: Vec<(Sym, Stated)>,
    /// Relations by name; one stated empty is not missing.
    pub relations: Vec<(Sym, Vec<EntityId>)>,
}

impl Record {
    /// What is stated of a relation.
    pub fn relation(&self, name: Sym) -> Option<&[EntityId]> {
        self.relations.iter().find(|(known, _)| *known == name).map(|(_, to)| to.as_slice())
    }
}

/// What most decisions read of an entity, dense and apart from the rest: two to a line of memory.
#[derive(Clone, Copy, Debug)]
struct Head {
    kind: Sym,
    within: u32,
    tenant: u32,
    state: State,
    detached: bool,
    /// The groups it is a direct member of.
    groups: List,
    /// The grants to it.
    held: List,
}

impl Default for Head {
    fn default() -> Self {
        Head::new(Sym::default())
    }
}

impl Head {
    /// Stands for no entity.
    const NONE: u32 = u32::MAX;

    fn new(kind: Sym) -> Head {
        Head {
            kind,
            within: Self::NONE,
            tenant: Self::NONE,
            state: State::Active,
            detached: false,
            groups: List::default(),
            held: List::default(),
        }
    }
}

/// Where the grants to an entity stand.
#[derive(Clone, Copy, Debug)]
pub(crate) struct HeldList(List);

/// What most steps of a decision read of one entity.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Glance<'r> {
    head: &'r Head,
}

impl<'r> Glance<'r> {
    /// Its type.
    pub fn kind(self) -> Sym {
        self.head.kind
    }

    /// What it lies within.
    pub fn within(self) -> Option<EntityId> {
        (self.head.within != Head::NONE).then_some(EntityId(self.head.within))
    }

    /// Whether roles that arrive outside do not arrive here.
    pub fn is_detached(self) -> bool {
        self.head.detached
    }

    /// The tenant of a group.
    pub fn group_tenant(self) -> Option<EntityId> {
        (self.head.tenant != Head::NONE).then_some(EntityId(self.head.tenant))
    }

    /// Where the grants to it stand.
    pub fn held(self) -> HeldList {
        HeldList(self.head.held)
    }
}

/// The rest of what is kept of an entity.
#[derive(Clone, Copy, Debug, Default)]
struct Rest {
    /// The members of a group, or the tenants of a user or service.
    members: List,
    attributes: List,
    relations: List,
    /// What lies directly within it.
    contents: List,
    /// Whose record names it by relation, tenancy or as a group's tenant.
    named_by: List,
    /// The grants at it.
    placed: List,
}

/// A grant to a holder, in short: a decision looks at the whole of it only if role and place fit.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Held {
    /// The role's key.
    pub role: Sym,
    at: u32,
    /// The grant's place in the register, and whether it has terms.
    grant: u32,
}

impl Held {
    /// Marks a grant that has no terms: more of it need not be read.
    const PLAIN: u32 = 1 << 31;

    fn new(role: Sym, at: PlaceOf, grant: u32, terms: &Terms) -> Held {
        let plain = if terms.is_plain() { Self::PLAIN } else { 0 };
        Held { role, at: at.pack(), grant: grant | plain }
    }

    /// Where.
    pub fn at(&self) -> PlaceOf {
        PlaceOf::unpack(self.at)
    }

    /// The grant's place in the register.
    pub fn grant(&self) -> u32 {
        self.grant & !Self::PLAIN
    }
}

/// Where a grant counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum PlaceOf {
    /// Everywhere.
    Everywhere,
    /// A tenant or resource, and what lies within.
    At(EntityId),
}

impl PlaceOf {
    fn pack(self) -> u32 {
        match self {
            PlaceOf::Everywhere => Head::NONE,
            PlaceOf::At(id) => id.0,
        }
    }

    fn unpack(at: u32) -> PlaceOf {
        if at == Head::NONE { PlaceOf::Everywhere } else { PlaceOf::At(EntityId(at)) }
    }
}

/// That a grant on standby counts for one subject, for a while.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Activation {
    /// Its id.
    pub id: Box<str>,
    /// The grant's place in the register.
    pub grant: u32,
    /// For whom.
    pub subject: EntityId,
    /// In which session only.
    pub session: Option<Box<str>>,
    /// First moment it counts. Where none is recorded it is as early as the role lets one
    /// activation last.
    pub from: Option<Timestamp>,
    /// First moment it counts no more; only samples and suppositions have none.
    pub until: Option<Timestamp>,
    /// Why, in words.
    pub reason: Box<str>,
}

impl Activation {
    /// Whether it counts at a moment, where one activation lasts at most `longest`.
    pub fn is_live(&self, now: Timestamp, longest: SignedDuration) -> bool {
        // Out of range is longer than anything can last.
        let begins = self.from.or_else(|| self.until?.checked_sub(longest).ok());
        let longest = self.from.and_then(|from| from.checked_add(longest).ok());
        let ends = self.until.into_iter().chain(longest).min();
        begins.is_none_or(|from| from <= now) && ends.is_none_or(|until| now < until)
    }

    fn is_same(&self, other: &Activation) -> bool {
        (self.grant, self.subject, &self.session, self.from, self.until)
            == (other.grant, other.subject, &other.session, other.from, other.until)
    }
}

/// A role that a tenant made from what the charter lets tenants put into one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MadeRole {
    /// Whose.
    pub tenant: EntityId,
    /// For people.
    pub name: Option<Box<str>>,
    /// Patterns of permissions, as written: they are expanded under each revision.
    pub permissions: Vec<Box<str>>,
}

/// The numbers of the next grant and activation that are not given an id. What has ended leaves its
/// number behind: a log that names it must not mean another.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct NextIds {
    /// `g-N`
    pub grant: u64,
    /// `a-N`
    pub activation: u64,
}

impl Default for NextIds {
    fn default() -> Self {
        NextIds { grant: 1, activation: 1 }
    }
}

/// The live facts, in memory. A copy is cheap, and shares what neither of the two has written since.
#[derive(Clone, Debug)]
pub struct Register {
    names: Interner,
    /// The names of entities; beside them, at the same places, what is kept of each.
    entities: Texts,
    heads: Table<Head, ROWS>,
    rests: Table<Rest, ROWS>,
    by_name: Index,
    /// Users and services whose name differs from its folded form, by that.
    by_folded: Index,
    hasher: RandomState,
    /// Groups, members, tenants, contents, and who names whom.
    ids: Lists<EntityId, { items(size_of::<EntityId>()) }>,
    attributes: Lists<(Sym, ValueId), { items(size_of::<(Sym, ValueId)>()) }>,
    relations: Lists<(Sym, List), { items(size_of::<(Sym, List)>()) }>,
    held: Lists<Held, { items(size_of::<Held>()) }>,
    placed: Lists<u32, { items(size_of::<u32>()) }>,
    values: Values,
    grants: Grants,
    active: Activations,
    next: NextIds,
    /// Roles made by tenants, by `tenant/key`.
    made: OrdMap<Sym, MadeRole>,
    live_entities: usize,
}

impl Default for Register {
    fn default() -> Self {
        let mut names = Interner::default();
        for kind in ["user", "service", "group", "tenant"] {
            names.intern(kind);
        }
        Register {
            names,
            entities: Texts::default(),
            heads: Table::default(),
            rests: Table::default(),
            by_name: Index::default(),
            by_folded: Index::default(),
            hasher: RandomState::default(),
            ids: Lists::default(),
            attributes: Lists::default(),
            relations: Lists::default(),
            held: Lists::default(),
            placed: Lists::default(),
            values: Values::default(),
            grants: Grants::default(),
            active: Activations::default(),
            next: NextIds::default(),
            made: OrdMap::new(),
            live_entities: 0,
        }
    }
}

impl Register {
    // -- reading -------------------------------------------------------------------------------

    /// The text of a name.
    pub fn text(&self, name: Sym) -> &str {
        self.names.text(name.0)
    }

    /// A name, if the register ever met it.
    pub fn sym(&self, text: &str) -> Option<Sym> {
        self.names.find(text).map(Sym)
    }

    /// The numbers that are next.
    pub fn next_ids(&self) -> NextIds {
        self.next
    }

    /// Leaves out the numbers before these, as they have been given before.
    pub fn skip_ids(&mut self, next: NextIds) {
        self.next.grant = self.next.grant.max(next.grant);
        self.next.activation = self.next.activation.max(next.activation);
    }

    /// How many names there are; all of them lie below.
    pub fn names(&self) -> usize {
        self.names.end()
    }

    /// The newest entity of a name, deleted or not.
    pub fn find(&self, name: &str) -> Option<EntityId> {
        let hash = self.hasher.hash_one(name);
        self.by_name.find(hash, |id| self.entities.get(id) == name).map(EntityId)
    }

    /// A user or service, deleted ones included, that is called almost so: but for case or Unicode form.
    pub fn called_alike(&self, name: &str) -> Option<EntityId> {
        let folded = folded(name);
        let hash = self.hasher.hash_one(&*folded);
        let other =
            self.by_folded.find(hash, |id| self::folded(self.entities.get(id)) == folded).map(EntityId);
        other.or_else(|| self.find(&folded)).filter(|id| self.name(*id) != name)
    }

    /// The entity registered under a name now.
    pub fn registered(&self, name: &str) -> Option<EntityId> {
        self.find(name).filter(|id| self.state(*id) != State::Deleted)
    }

    /// `type:id`.
    pub fn name(&self, id: EntityId) -> &str {
        self.entities.get(id.0)
    }

    /// The text after the colon.
    pub fn id_text(&self, id: EntityId) -> &str {
        self.name(id).split_once(':').map_or("", |(_, id)| id)
    }

    /// Its type.
    pub fn kind(&self, id: EntityId) -> Sym {
        self.heads.get(id.index()).kind
    }

    /// Its state.
    pub fn state(&self, id: EntityId) -> State {
        self.heads.get(id.index()).state
    }

    /// What most steps of a decision read of an entity, looked up once.
    pub(crate) fn glance(&self, id: EntityId) -> Glance<'_> {
        Glance { head: self.heads.get(id.index()) }
    }

    /// What it lies within.
    pub fn within(&self, id: EntityId) -> Option<EntityId> {
        let within = self.heads.get(id.index()).within;
        (within != Head::NONE).then_some(EntityId(within))
    }

    /// The tenant of a group.
    pub fn group_tenant(&self, id: EntityId) -> Option<EntityId> {
        let tenant = self.heads.get(id.index()).tenant;
        (tenant != Head::NONE).then_some(EntityId(tenant))
    }

    /// Whether roles that arrive outside do not arrive here.
    pub fn is_detached(&self, id: EntityId) -> bool {
        self.heads.get(id.index()).detached
    }

    /// All that is said of it.
    pub fn record(&self, id: EntityId) -> Record {
        let rest = self.rests.get(id.index());
        let members = self.ids.get(rest.members).to_vec();
        let of_group = self.kind(id) == Sym::GROUP;
        let (members, tenants) = if of_group { (members, Vec::new()) } else { (Vec::new(), members) };
        Record {
            state: self.state(id),
            within: self.within(id),
            detached: self.is_detached(id),
            tenant: self.group_tenant(id),
            tenants,
            members,
            attributes: self.attributes(id).map(|(name, value)| (name, value.clone())).collect(),
            relations: self.relations(id).map(|(name, to)| (name, to.to_vec())).collect(),
        }
    }

    /// The attributes stated of it, by name.
    pub fn attributes(&self, id: EntityId) -> impl Iterator<Item = (Sym, &Stated)> {
        let stated = self.attributes.get(self.rests.get(id.index()).attributes).iter();
        stated.filter_map(|(name, value)| Some((*name, self.values.get(*value)?)))
    }

    /// What is stated of an attribute.
    pub fn attribute(&self, id: EntityId, name: Sym) -> Option<&Stated> {
        let stated = self.attributes.get(self.rests.get(id.index()).attributes);
        let (_, value) = stated.iter().find(|(known, _)| *known == name)?;
        self.values.get(*value)
    }

    /// The relations stated of it, by name.
    pub fn relations(&self, id: EntityId) -> impl Iterator<Item = (Sym, &[EntityId])> {
        let stated = self.relations.get(self.rests.get(id.index()).relations).iter();
        stated.map(|(name, to)| (*name, self.ids.get(*to)))
    }

    /// What is stated of a relation.
    pub fn relation(&self, id: EntityId, name: Sym) -> Option<&[EntityId]> {
        let stated = self.relations.get(self.rests.get(id.index()).relations);
        let (_, to) = stated.iter().find(|(known, _)| *known == name)?;
        Some(self.ids.get(*to))
    }

    /// The members of a group, or the tenants a user or service is a member of.
    fn members_or_tenants(&self, id: EntityId) -> &[EntityId] {
        self.ids.get(self.rests.get(id.index()).members)
    }

    /// The members of a group.
    pub fn members(&self, id: EntityId) -> &[EntityId] {
        if self.kind(id) == Sym::GROUP { self.members_or_tenants(id) } else { &[] }
    }

    /// The tenants a user or service is a member of.
    pub fn tenants(&self, id: EntityId) -> &[EntityId] {
        if self.kind(id) == Sym::GROUP { &[] } else { self.members_or_tenants(id) }
    }

    /// The groups it is a direct member of.
    pub fn groups(&self, id: EntityId) -> &[EntityId] {
        self.ids.get(self.heads.get(id.index()).groups)
    }

    /// The grants to it, not to its groups.
    pub fn grants_to(&self, id: EntityId) -> impl Iterator<Item = (u32, Grant<'_>)> {
        self.held(id).iter().filter_map(|held| Some((held.grant(), self.grant(held.grant())?)))
    }

    /// The grants to it in short, not to its groups.
    pub fn held(&self, id: EntityId) -> &[Held] {
        self.held.get(self.heads.get(id.index()).held)
    }

    /// The grants of a list that [`Glance::held`] gave.
    pub(crate) fn held_in(&self, list: HeldList) -> &[Held] {
        self.held.get(list.0)
    }

    /// The terms of a grant in short.
    #[inline]
    pub(crate) fn terms_of(&self, held: &Held) -> Option<&Terms> {
        if held.grant & Held::PLAIN != 0 {
            return Some(&grants::NO_TERMS);
        }
        self.grant(held.grant()).map(|grant| grant.terms)
    }

    /// A grant by its place in the table.
    pub fn grant(&self, at: u32) -> Option<Grant<'_>> {
        self.grants.get(at)
    }

    /// A grant by its id.
    pub fn grant_by_id(&self, id: &str) -> Option<Grant<'_>> {
        self.grant(self.grants.find(id)?)
    }

    /// All grants.
    pub fn all_grants(&self) -> impl Iterator<Item = Grant<'_>> {
        self.grants.iter().map(|(_, grant)| grant)
    }

    /// The place of a grant in the table.
    pub fn grant_place(&self, id: &str) -> Option<u32> {
        self.grants.find(id)
    }

    /// The grants at a place, whoever holds them.
    pub fn grants_at(&self, place: EntityId) -> &[u32] {
        self.placed.get(self.rests.get(place.index()).placed)
    }

    /// The activations of a grant.
    pub fn activations_of(&self, grant: u32) -> impl Iterator<Item = &Activation> {
        self.active.of_grant(grant)
    }

    /// All activations.
    pub fn all_activations(&self) -> impl Iterator<Item = &Activation> {
        self.active.iter()
    }

    /// An activation by its id.
    pub fn activation_by_id(&self, id: &str) -> Option<&Activation> {
        self.active.get(self.active.find(id)?)
    }

    /// The role a tenant made under a name `tenant/key`.
    pub fn made_role(&self, key: Sym) -> Option<&MadeRole> {
        self.made.get(&key)
    }

    /// All roles made by tenants, with their names.
    pub fn made_roles(&self) -> impl Iterator<Item = (Sym, &MadeRole)> {
        self.made.iter().map(|(key, role)| (*key, role))
    }

    /// The users and services that a holder stands for: itself, or the members of a group, through
    /// groups too.
    pub fn subjects_of(&self, holder: EntityId) -> Vec<EntityId> {
        let mut seen: HashSet<EntityId> = HashSet::from([holder]);
        let mut waiting = vec![holder];
        let mut subjects = Vec::new();
        while let Some(next) = waiting.pop() {
            if self.kind(next) == Sym::GROUP {
                waiting.extend(self.members(next).iter().filter(|member| seen.insert(**member)));
            } else {
                subjects.push(next);
            }
        }
        subjects.sort_unstable();
        subjects
    }

    /// A subject and every group it is in, through groups too, whatever tenant they have.
    pub fn holders_of(&self, subject: EntityId) -> Vec<EntityId> {
        let mut holders = vec![subject];
        let mut seen: HashSet<EntityId> = HashSet::from([subject]);
        let mut at = 0;
        while at < holders.len() {
            let groups = self.groups(holders[at]);
            holders.extend(groups.iter().filter(|group| seen.insert(**group)));
            at += 1;
        }
        holders
    }

    /// All entities that are not deleted.
    pub fn all_entities(&self) -> impl Iterator<Item = EntityId> + '_ {
        self.every_entity().filter(|id| self.state(*id) != State::Deleted)
    }

    /// All entities there ever were, deleted ones among them.
    pub fn every_entity(&self) -> impl Iterator<Item = EntityId> + '_ {
        self.heads.numbers().map(|at| EntityId(u32::try_from(at).unwrap_or(u32::MAX)))
    }

    /// What each name stands for now, deleted ones among them; not what was deleted and made anew.
    pub fn every_name(&self) -> impl Iterator<Item = EntityId> + '_ {
        let is_former =
            |id: &EntityId| self.state(*id) == State::Deleted && self.find(self.name(*id)) != Some(*id);
        self.every_entity().filter(move |id| !is_former(id))
    }

    /// What lies directly within it.
    pub fn contents(&self, id: EntityId) -> &[EntityId] {
        self.ids.get(self.rests.get(id.index()).contents)
    }

    /// Whose record names it by relation, tenancy or as a group's tenant.
    pub fn named_by(&self, id: EntityId) -> &[EntityId] {
        self.ids.get(self.rests.get(id.index()).named_by)
    }

    /// Where the ids of entities end.
    pub fn entity_end(&self) -> u32 {
        u32::try_from(self.heads.end()).unwrap_or(u32::MAX)
    }

    /// How many entities are registered.
    pub fn entity_count(&self) -> usize {
        self.live_entities
    }

    /// How many grants there are.
    pub fn grant_count(&self) -> usize {
        self.grants.len()
    }

    /// How much memory it takes, in bytes: what is allocated, free room among it, without what the
    /// allocator adds.
    pub fn size_bytes(&self) -> usize {
        let made = |role: &MadeRole| {
            let texts: usize = role.permissions.iter().map(|text| text.len() + size_of::<Box<str>>()).sum();
            size_of::<(Sym, MadeRole)>() + texts + role.name.as_ref().map_or(0, |name| name.len())
        };
        size_of::<Register>()
            + self.names.size_bytes()
            + self.entities.size_bytes()
            + self.heads.size_bytes()
            + self.rests.size_bytes()
            + self.by_name.size_bytes()
            + self.by_folded.size_bytes()
            + self.ids.size_bytes()
            + self.attributes.size_bytes()
            + self.relations.size_bytes()
            + self.held.size_bytes()
            + self.placed.size_bytes()
            + self.values.size_bytes()
            + self.grants.size_bytes()
            + self.active.size_bytes()
            + self.made.values().map(made).sum::<usize>()
    }

    /// How many facts it holds: each entity, attribute value, relation target, membership, place and
    /// grant is one.
    pub fn fact_count(&self) -> usize {
        let of = |id: EntityId| {
            1 + usize::from(self.within(id).is_some())
                + self.members_or_tenants(id).len()
                + self.attributes(id).count()
                + self.relations(id).map(|(_, to)| to.len()).sum::<usize>()
        };
        let entities = self.all_entities().map(of).sum::<usize>();
        entities + self.grants.len() + self.active.len() + self.made.len()
    }
}
