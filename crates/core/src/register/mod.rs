//! The register: users, services, groups, tenants, resources, and who was granted what, where.
//!
//! - [`line`](mod@line) and [`fact`] are the two ways a change is written;
//! - [`change`] applies changes, all of a batch or none, and says what is wrong with them;
//! - [`against`] holds a charter against what is registered;
//! - this file holds the facts and the indexes over them.
//!
//! What holds here:
//! - a value is kept as it was written; its type is a matter of the charter that reads it;
//! - an id stands for one entity for ever; an entity made again under a deleted one's name gets
//!   a new id, and no fact of the old one is left;
//! - containment and group nesting have no loops and a bounded depth, so every walk ends.

pub mod against;
pub mod change;
pub mod fact;
pub mod line;

use crate::charter::model::Stated;
use crate::interner::Interner;
use crate::value::Scalar;
use foldhash::fast::RandomState;
use hashbrown::{HashMap, HashSet, HashTable};
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;
use std::hash::BuildHasher as _;

/// Most steps from a resource to the end of containment.
pub const MAX_CONTAINMENT: usize = 32;
/// Most groups on the way from a group to a subject.
pub const MAX_NESTING: usize = 16;

/// An entity of a register.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct EntityId(pub u32);

impl EntityId {
    fn index(self) -> usize {
        self.0 as usize
    }
}

/// A name the register uses: a type, attribute, relation, role or value.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
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

/// All that is said of one entity.
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
    /// What is stated of an attribute.
    pub fn attribute(&self, name: Sym) -> Option<&Stated> {
        self.attributes.iter().find(|(known, _)| *known == name).map(|(_, value)| value)
    }

    /// What is stated of a relation.
    pub fn relation(&self, name: Sym) -> Option<&[EntityId]> {
        self.relations.iter().find(|(known, _)| *known == name).map(|(_, to)| to.as_slice())
    }
}

/// What most decisions read of an entity, dense and apart from the rest: a walk along containment
/// or groups touches a few lines of memory instead of a record each.
#[derive(Clone, Copy, Debug)]
struct Head {
    kind: Sym,
    within: u32,
    tenant: u32,
    state: State,
    detached: bool,
}

impl Head {
    /// Stands for no entity.
    const NONE: u32 = u32::MAX;

    fn new(kind: Sym, record: &Record) -> Head {
        let id = |entity: Option<EntityId>| entity.map_or(Self::NONE, |id| id.0);
        Head {
            kind,
            within: id(record.within),
            tenant: id(record.tenant),
            state: record.state,
            detached: record.detached,
        }
    }
}

#[derive(Clone, Debug)]
struct Entity {
    name: Box<str>,
    record: Record,
    /// The groups it is a direct member of.
    groups: Vec<EntityId>,
    /// The grants to it, with what most decisions need to pass one by.
    held: Vec<Held>,
}

/// A grant to a holder, in short: a decision looks at the whole of it only if role and place fit.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Held {
    /// The role's key.
    pub role: Sym,
    /// Where.
    pub at: PlaceOf,
    /// The grant's place in the register.
    pub grant: u32,
}

/// Where a grant counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum PlaceOf {
    /// Everywhere.
    Everywhere,
    /// A tenant or resource, and what lies within.
    At(EntityId),
}

/// A role given to a holder at a place.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Grant {
    /// Its id.
    pub id: Box<str>,
    /// The role's key.
    pub role: Sym,
    /// User, service or group.
    pub to: EntityId,
    /// Where.
    pub at: PlaceOf,
    /// First moment it counts.
    pub from: Option<Timestamp>,
    /// First moment it counts no more.
    pub until: Option<Timestamp>,
    /// Values, by name.
    pub values: Vec<(Sym, Vec<Scalar>)>,
}

impl Grant {
    /// Whether it counts at a moment.
    pub fn is_live(&self, now: Timestamp) -> bool {
        self.from.is_none_or(|from| from <= now) && self.until.is_none_or(|until| now < until)
    }

    /// Whether another grant says the same under another id.
    fn is_same(&self, other: &Grant) -> bool {
        (self.role, self.to, self.at, self.from, self.until)
            == (other.role, other.to, other.at, other.from, other.until)
            && self.values == other.values
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

/// The live facts, in memory.
#[derive(Clone, Debug)]
pub struct Register {
    names: Interner,
    /// Beside `entities`, at the same places.
    heads: Vec<Head>,
    entities: Vec<Entity>,
    by_name: HashTable<u32>,
    hasher: RandomState,
    grants: Vec<Option<Grant>>,
    grant_ids: HashMap<Box<str>, u32>,
    next_grant: u64,
    /// What lies directly within something.
    contents: HashMap<EntityId, Vec<EntityId>>,
    /// Entities whose record names something by relation, tenancy or a group's tenant.
    named_by: HashMap<EntityId, Vec<EntityId>>,
    /// Grants at a place.
    placed: HashMap<EntityId, Vec<u32>>,
    activations: Vec<Option<Activation>>,
    activation_ids: HashMap<Box<str>, u32>,
    next_activation: u64,
    /// Activations of a grant.
    active: HashMap<u32, Vec<u32>>,
    /// Activations for a subject.
    active_for: HashMap<EntityId, Vec<u32>>,
    /// Roles made by tenants, by `tenant/key`.
    made: BTreeMap<Sym, MadeRole>,
    live_entities: usize,
    live_grants: usize,
}

impl Default for Register {
    fn default() -> Self {
        let mut names = Interner::default();
        for kind in ["user", "service", "group", "tenant"] {
            names.intern(kind);
        }
        Register {
            names,
            heads: Vec::new(),
            entities: Vec::new(),
            by_name: HashTable::new(),
            hasher: RandomState::default(),
            grants: Vec::new(),
            grant_ids: HashMap::new(),
            next_grant: 1,
            contents: HashMap::new(),
            named_by: HashMap::new(),
            placed: HashMap::new(),
            activations: Vec::new(),
            activation_ids: HashMap::new(),
            next_activation: 1,
            active: HashMap::new(),
            active_for: HashMap::new(),
            made: BTreeMap::new(),
            live_entities: 0,
            live_grants: 0,
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

    /// How many names there are; all of them lie below.
    pub fn names(&self) -> usize {
        self.names.len()
    }

    /// The newest entity of a name, deleted or not.
    pub fn find(&self, name: &str) -> Option<EntityId> {
        let hash = self.hasher.hash_one(name);
        self.by_name.find(hash, |id| &*self.entities[*id as usize].name == name).map(|id| EntityId(*id))
    }

    /// The entity registered under a name now.
    pub fn registered(&self, name: &str) -> Option<EntityId> {
        self.find(name).filter(|id| self.state(*id) != State::Deleted)
    }

    /// `type:id`.
    pub fn name(&self, id: EntityId) -> &str {
        &self.entities[id.index()].name
    }

    /// The text after the colon.
    pub fn id_text(&self, id: EntityId) -> &str {
        self.name(id).split_once(':').map_or("", |(_, id)| id)
    }

    /// Its type.
    pub fn kind(&self, id: EntityId) -> Sym {
        self.heads[id.index()].kind
    }

    /// Its state.
    pub fn state(&self, id: EntityId) -> State {
        self.heads[id.index()].state
    }

    /// What it lies within.
    pub fn within(&self, id: EntityId) -> Option<EntityId> {
        let within = self.heads[id.index()].within;
        (within != Head::NONE).then_some(EntityId(within))
    }

    /// The tenant of a group.
    pub fn group_tenant(&self, id: EntityId) -> Option<EntityId> {
        let tenant = self.heads[id.index()].tenant;
        (tenant != Head::NONE).then_some(EntityId(tenant))
    }

    /// Whether roles that arrive outside do not arrive here.
    pub fn is_detached(&self, id: EntityId) -> bool {
        self.heads[id.index()].detached
    }

    /// All that is said of it.
    pub fn record(&self, id: EntityId) -> &Record {
        &self.entities[id.index()].record
    }

    /// The groups it is a direct member of.
    pub fn groups(&self, id: EntityId) -> &[EntityId] {
        &self.entities[id.index()].groups
    }

    /// The grants to it, not to its groups.
    pub fn grants_to(&self, id: EntityId) -> impl Iterator<Item = (u32, &Grant)> {
        self.held(id).iter().filter_map(|held| Some((held.grant, self.grant(held.grant)?)))
    }

    /// The grants to it in short, not to its groups.
    pub fn held(&self, id: EntityId) -> &[Held] {
        &self.entities[id.index()].held
    }

    /// A grant by its place in the table.
    pub fn grant(&self, at: u32) -> Option<&Grant> {
        self.grants.get(at as usize)?.as_ref()
    }

    /// A grant by its id.
    pub fn grant_by_id(&self, id: &str) -> Option<&Grant> {
        self.grant(*self.grant_ids.get(id)?)
    }

    /// All grants.
    pub fn all_grants(&self) -> impl Iterator<Item = &Grant> {
        self.grants.iter().flatten()
    }

    /// The place of a grant in the table.
    pub fn grant_place(&self, id: &str) -> Option<u32> {
        self.grant_ids.get(id).copied()
    }

    /// The grants at a place, whoever holds them.
    pub fn grants_at(&self, place: EntityId) -> &[u32] {
        self.placed.get(&place).map_or(&[], Vec::as_slice)
    }

    /// The activations of a grant.
    pub fn activations_of(&self, grant: u32) -> impl Iterator<Item = &Activation> {
        let of = self.active.get(&grant).map_or(&[][..], Vec::as_slice);
        of.iter().filter_map(|at| self.activations.get(*at as usize)?.as_ref())
    }

    /// All activations.
    pub fn all_activations(&self) -> impl Iterator<Item = &Activation> {
        self.activations.iter().flatten()
    }

    /// An activation by its id.
    pub fn activation_by_id(&self, id: &str) -> Option<&Activation> {
        self.activations.get(*self.activation_ids.get(id)? as usize)?.as_ref()
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
                waiting.extend(self.record(next).members.iter().filter(|member| seen.insert(**member)));
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
        let ids = (0..u32::try_from(self.entities.len()).unwrap_or(u32::MAX)).map(EntityId);
        ids.filter(|id| self.state(*id) != State::Deleted)
    }

    /// All entities there ever were, deleted ones among them.
    pub fn every_entity(&self) -> impl Iterator<Item = EntityId> + '_ {
        (0..u32::try_from(self.entities.len()).unwrap_or(u32::MAX)).map(EntityId)
    }

    /// What lies directly within it.
    pub fn contents(&self, id: EntityId) -> &[EntityId] {
        self.contents.get(&id).map_or(&[], Vec::as_slice)
    }

    /// How many entities are registered.
    pub fn entity_count(&self) -> usize {
        self.live_entities
    }

    /// How many grants there are.
    pub fn grant_count(&self) -> usize {
        self.live_grants
    }

    /// How much memory it takes, in bytes: what is allocated, free room among it, without what the
    /// allocator adds.
    pub fn size_bytes(&self) -> usize {
        fn list<T>(list: &Vec<T>) -> usize {
            list.capacity() * size_of::<T>()
        }
        fn map<K, V>(map: &HashMap<K, Vec<V>>) -> usize {
            map.capacity() * (size_of::<K>() + size_of::<Vec<V>>() + 1)
                + map.values().map(list).sum::<usize>()
        }
        fn ids(ids: &HashMap<Box<str>, u32>) -> usize {
            // The texts are counted with what they name.
            ids.capacity() * (size_of::<(Box<str>, u32)>() + 1) + ids.keys().map(|id| id.len()).sum::<usize>()
        }
        let stated = |value: &Stated| match value {
            Stated::One(scalar) => scalar.size_bytes(),
            Stated::Many(scalars) => list(scalars) + scalars.iter().map(Scalar::size_bytes).sum::<usize>(),
            Stated::Unfit => 0,
        };
        let entity = |entity: &Entity| {
            let Record { tenants, members, attributes, relations, .. } = &entity.record;
            entity.name.len()
                + list(&entity.groups)
                + list(&entity.held)
                + list(tenants)
                + list(members)
                + list(attributes)
                + attributes.iter().map(|(_, value)| stated(value)).sum::<usize>()
                + list(relations)
                + relations.iter().map(|(_, to)| list(to)).sum::<usize>()
        };
        let grant = |grant: &Grant| {
            let values = grant
                .values
                .iter()
                .map(|(_, values)| list(values) + values.iter().map(Scalar::size_bytes).sum::<usize>());
            grant.id.len() + list(&grant.values) + values.sum::<usize>()
        };
        let activation =
            |of: &Activation| of.id.len() + of.reason.len() + of.session.as_ref().map_or(0, |s| s.len());
        let made = |(_, role): (&Sym, &MadeRole)| {
            size_of::<(Sym, MadeRole)>()
                + list(&role.permissions)
                + role.permissions.iter().map(|p| p.len()).sum::<usize>()
        };
        size_of::<Register>()
            + self.names.size_bytes()
            + list(&self.heads)
            + list(&self.entities)
            + self.entities.iter().map(entity).sum::<usize>()
            + self.by_name.capacity() * (size_of::<u32>() + 1)
            + list(&self.grants)
            + self.grants.iter().flatten().map(grant).sum::<usize>()
            + ids(&self.grant_ids)
            + map(&self.contents)
            + map(&self.named_by)
            + map(&self.placed)
            + list(&self.activations)
            + self.activations.iter().flatten().map(activation).sum::<usize>()
            + ids(&self.activation_ids)
            + map(&self.active)
            + map(&self.active_for)
            + self.made.iter().map(made).sum::<usize>()
    }

    /// How many facts it holds: each entity, attribute value, relation target, membership, place and
    /// grant is one.
    pub fn fact_count(&self) -> usize {
        let of = |record: &Record| {
            1 + usize::from(record.within.is_some())
                + record.tenants.len()
                + record.members.len()
                + record.attributes.len()
                + record.relations.iter().map(|(_, to)| to.len()).sum::<usize>()
        };
        let entities = self.all_entities().map(|id| of(self.record(id))).sum::<usize>();
        entities + self.live_grants + self.activation_ids.len() + self.made.len()
    }

    // -- writing: each keeps the indexes, and gives what undoes it -------------------------------

    fn intern(&mut self, text: &str) -> Sym {
        Sym(self.names.intern(text))
    }

    /// Makes an entity without a word said of it.
    fn create(&mut self, name: &str, kind: Sym) -> EntityId {
        let id = u32::try_from(self.entities.len()).expect("fewer than 2^32 entities");
        let hash = self.hasher.hash_one(name);
        // The newest entity of a name is the one found under it.
        if let Ok(entry) = self.by_name.find_entry(hash, |id| &*self.entities[*id as usize].name == name) {
            entry.remove();
        }
        self.heads.push(Head::new(kind, &Record::default()));
        self.entities.push(Entity {
            name: name.into(),
            record: Record::default(),
            groups: Vec::new(),
            held: Vec::new(),
        });
        self.index_name(id, hash);
        self.live_entities += 1;
        EntityId(id)
    }

    fn index_name(&mut self, id: u32, hash: u64) {
        let Register { by_name, entities, hasher, .. } = self;
        by_name.insert_unique(hash, id, |id| hasher.hash_one(&*entities[*id as usize].name));
    }

    /// Takes back [`Register::create`]: only the newest entity, and only while nothing names it.
    fn uncreate(&mut self, id: EntityId, before: Option<EntityId>) {
        let hash = self.hasher.hash_one(self.name(id));
        if let Ok(entry) = self.by_name.find_entry(hash, |known| *known == id.0) {
            entry.remove();
        }
        if let Some(before) = before {
            self.index_name(before.0, hash);
        }
        self.entities.truncate(id.index());
        self.heads.truncate(id.index());
        self.live_entities -= 1;
    }

    /// Replaces all that is said of an entity, and returns what was said before.
    fn set_record(&mut self, id: EntityId, mut record: Record) -> Record {
        // Records are written seldom and kept by the million.
        record.tenants.shrink_to_fit();
        record.members.shrink_to_fit();
        record.attributes.shrink_to_fit();
        record.relations.shrink_to_fit();
        record.relations.iter_mut().for_each(|(_, to)| to.shrink_to_fit());
        let head = &mut self.heads[id.index()];
        *head = Head::new(head.kind, &record);
        let old = std::mem::replace(&mut self.entities[id.index()].record, record.clone());
        self.unlink(id, &old);
        self.link(id, &record);
        if old.state != State::Deleted && record.state == State::Deleted {
            self.live_entities -= 1;
        } else if old.state == State::Deleted && record.state != State::Deleted {
            self.live_entities += 1;
        }
        old
    }

    fn link(&mut self, id: EntityId, record: &Record) {
        if let Some(outer) = record.within {
            push(self.contents.entry(outer).or_default(), id);
        }
        for member in &record.members {
            push(&mut self.entities[member.index()].groups, id);
        }
        for named in named(record) {
            push(self.named_by.entry(named).or_default(), id);
        }
    }

    fn unlink(&mut self, id: EntityId, record: &Record) {
        if let Some(outer) = record.within {
            forget(&mut self.contents, outer, &id);
        }
        for member in &record.members {
            take(&mut self.entities[member.index()].groups, &id);
        }
        for named in named(record) {
            forget(&mut self.named_by, named, &id);
        }
    }

    fn add_grant(&mut self, grant: Grant) -> u32 {
        let at = u32::try_from(self.grants.len()).expect("fewer than 2^32 grants");
        self.grants.push(None);
        self.put_grant(at, grant);
        at
    }

    fn put_grant(&mut self, at: u32, grant: Grant) {
        self.grant_ids.insert(grant.id.clone(), at);
        let held = Held { role: grant.role, at: grant.at, grant: at };
        push(&mut self.entities[grant.to.index()].held, held);
        if let PlaceOf::At(place) = grant.at {
            push(self.placed.entry(place).or_default(), at);
        }
        self.grants[at as usize] = Some(grant);
        self.live_grants += 1;
    }

    fn take_grant(&mut self, at: u32) -> Option<Grant> {
        let grant = self.grants.get_mut(at as usize)?.take()?;
        self.grant_ids.remove(&grant.id);
        let held = Held { role: grant.role, at: grant.at, grant: at };
        take(&mut self.entities[grant.to.index()].held, &held);
        if let PlaceOf::At(place) = grant.at {
            forget(&mut self.placed, place, &at);
        }
        self.live_grants -= 1;
        Some(grant)
    }
}

impl Register {
    fn add_activation(&mut self, activation: Activation) -> u32 {
        let at = u32::try_from(self.activations.len()).expect("fewer than 2^32 activations");
        self.activations.push(None);
        self.put_activation(at, activation);
        at
    }

    fn put_activation(&mut self, at: u32, activation: Activation) {
        self.activation_ids.insert(activation.id.clone(), at);
        self.active.entry(activation.grant).or_default().push(at);
        self.active_for.entry(activation.subject).or_default().push(at);
        self.activations[at as usize] = Some(activation);
    }

    fn take_activation(&mut self, at: u32) -> Option<Activation> {
        let activation = self.activations.get_mut(at as usize)?.take()?;
        self.activation_ids.remove(&activation.id);
        forget(&mut self.active, activation.grant, &at);
        forget(&mut self.active_for, activation.subject, &at);
        Some(activation)
    }

    /// Puts a role under its name, or takes away what is there; gives what was there before.
    fn set_made(&mut self, key: Sym, role: Option<MadeRole>) -> Option<MadeRole> {
        match role {
            Some(role) => self.made.insert(key, role),
            None => self.made.remove(&key),
        }
    }
}

/// What a record names other than by containment and membership.
fn named(record: &Record) -> Vec<EntityId> {
    let related = record.relations.iter().flat_map(|(_, to)| to.iter().copied());
    related.chain(record.tenants.iter().copied()).chain(record.tenant).collect()
}

/// Most lists hold one thing or two: they grow by one at first, not to a handful at once.
fn push<T>(list: &mut Vec<T>, item: T) {
    const FEW: usize = 4;
    if list.len() == list.capacity() && list.len() < FEW {
        list.reserve_exact(1);
    }
    list.push(item);
}

fn take<T: PartialEq>(list: &mut Vec<T>, item: &T) {
    if let Some(at) = list.iter().position(|known| known == item) {
        list.swap_remove(at);
    }
}

fn forget<K: Eq + std::hash::Hash, T: PartialEq>(map: &mut HashMap<K, Vec<T>>, key: K, item: &T) {
    if let Some(list) = map.get_mut(&key) {
        take(list, item);
        if list.is_empty() {
            map.remove(&key);
        }
    }
}
