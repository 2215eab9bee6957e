//! Writing facts: each step keeps the indexes true, and gives what undoes it.

use super::*;
use crate::names::folded;
use std::borrow::Cow;

impl Register {
    pub(super) fn intern(&mut self, text: &str) -> Sym {
        Sym(self.names.intern(text))
    }

    /// Makes an entity without a word said of it.
    pub(super) fn create(&mut self, name: &str, kind: Sym) -> EntityId {
        let hash = self.hasher.hash_one(name);
        // The newest entity of a name is the one found under it.
        if let Some(before) = self.find(name) {
            self.by_name.remove(hash, before.0);
            self.forget_folded(before.0);
        }
        self.heads.push(Head::new(kind));
        self.rests.push(Rest::default());
        let id = self.entities.push(name);
        self.index_name(id, hash);
        self.live_entities += 1;
        EntityId(id)
    }

    fn index_name(&mut self, id: u32, hash: u64) {
        let Register { by_name, entities, hasher, .. } = self;
        by_name.insert(hash, id, |id| hasher.hash_one(entities.get(id)));
        let name = self.entities.get(id);
        if let (true, Cow::Owned(folded)) = (is_subject(name), folded(name)) {
            let Register { by_folded, entities, hasher, .. } = self;
            by_folded.insert(hasher.hash_one(&*folded), id, |id| {
                hasher.hash_one(&*self::folded(entities.get(id)))
            });
        }
    }

    fn forget_folded(&mut self, id: u32) {
        let hash = match (is_subject(self.entities.get(id)), folded(self.entities.get(id))) {
            (true, Cow::Owned(folded)) => self.hasher.hash_one(&*folded),
            _ => return,
        };
        self.by_folded.remove(hash, id);
    }

    /// Takes back [`Register::create`]: only the newest entity, and only while nothing names it.
    pub(super) fn uncreate(&mut self, id: EntityId, before: Option<EntityId>) {
        let hash = self.hasher.hash_one(self.name(id));
        self.by_name.remove(hash, id.0);
        self.forget_folded(id.0);
        if let Some(before) = before {
            self.index_name(before.0, hash);
        }
        self.entities.truncate(id.0);
        self.heads.truncate(id.index());
        self.rests.truncate(id.index());
        self.live_entities -= 1;
    }

    /// Replaces all that is said of an entity, and returns what was said before.
    pub(super) fn set_record(&mut self, id: EntityId, record: &Record) -> Record {
        let old = self.record(id);
        let pack = |entity: Option<EntityId>| entity.map_or(Head::NONE, |id| id.0);
        let head = self.heads.get_mut(id.index());
        (head.within, head.tenant) = (pack(record.within), pack(record.tenant));
        (head.state, head.detached) = (record.state, record.detached);
        self.set_attributes(id, record);
        self.set_relations(id, record);
        let of_group = self.kind(id) == Sym::GROUP;
        let members = if of_group { &record.members } else { &record.tenants };
        self.ids.set(&mut self.rests.get_mut(id.index()).members, members);
        self.link(id, &old, record);
        if old.state != State::Deleted && record.state == State::Deleted {
            self.live_entities -= 1;
        } else if old.state == State::Deleted && record.state != State::Deleted {
            self.live_entities += 1;
        }
        old
    }

    fn set_attributes(&mut self, id: EntityId, record: &Record) {
        let list = &mut self.rests.get_mut(id.index()).attributes;
        // The new ones first: what stays as it is need not be forgotten and found again.
        let new: Vec<_> =
            record.attributes.iter().map(|(name, value)| (*name, self.values.take(value))).collect();
        for (_, value) in self.attributes.get(*list) {
            self.values.leave(*value);
        }
        self.attributes.set(list, &new);
    }

    fn set_relations(&mut self, id: EntityId, record: &Record) {
        let list = &mut self.rests.get_mut(id.index()).relations;
        for (_, to) in self.relations.get(*list) {
            self.ids.set(&mut to.clone(), &[]);
        }
        let mut new = Vec::with_capacity(record.relations.len());
        for (name, targets) in &record.relations {
            let mut to = List::default();
            self.ids.set(&mut to, targets);
            new.push((*name, to));
        }
        self.relations.set(list, &new);
    }

    /// Keeps what lies where, who is in which group, and who is named by whom.
    fn link(&mut self, id: EntityId, old: &Record, new: &Record) {
        let Register { ids, heads, rests, .. } = self;
        if old.within != new.within {
            if let Some(outer) = old.within {
                ids.take(&mut rests.get_mut(outer.index()).contents, id);
            }
            if let Some(outer) = new.within {
                ids.push(&mut rests.get_mut(outer.index()).contents, id);
            }
        }
        for member in missing(&old.members, &new.members) {
            ids.take(&mut heads.get_mut(member.index()).groups, id);
        }
        for member in missing(&new.members, &old.members) {
            ids.push(&mut heads.get_mut(member.index()).groups, id);
        }
        // Only what is different: a tenant may be named by a million.
        let (before, now) = (named(old), named(new));
        for named in missing(&before, &now) {
            ids.take(&mut rests.get_mut(named.index()).named_by, id);
        }
        for named in missing(&now, &before) {
            ids.push(&mut rests.get_mut(named.index()).named_by, id);
        }
    }

    pub(super) fn add_grant(&mut self, grant: OwnGrant) -> u32 {
        if let GrantId::Number(number) = GrantId::new(&grant.id) {
            self.next.grant = self.next.grant.max(u64::from(number) + 1);
        }
        let (to, at, role) = (grant.to, grant.at, grant.role);
        let terms = grant.terms.clone();
        let place = self.grants.add(grant);
        self.link_grant(to, at, Held::new(role, at, place, &terms));
        place
    }

    pub(super) fn put_grant(&mut self, place: u32, grant: OwnGrant) {
        let held = Held::new(grant.role, grant.at, place, &grant.terms);
        let (to, at) = (grant.to, grant.at);
        self.grants.put(place, grant);
        self.link_grant(to, at, held);
    }

    fn link_grant(&mut self, to: EntityId, at: PlaceOf, held: Held) {
        self.held.push(&mut self.heads.get_mut(to.index()).held, held);
        if let PlaceOf::At(at) = at {
            self.placed.push(&mut self.rests.get_mut(at.index()).placed, held.grant());
        }
    }

    pub(super) fn take_grant(&mut self, place: u32) -> Option<OwnGrant> {
        let grant = self.grants.take(place)?;
        let held = Held::new(grant.role, grant.at, place, &grant.terms);
        self.held.take(&mut self.heads.get_mut(grant.to.index()).held, held);
        if let PlaceOf::At(at) = grant.at {
            self.placed.take(&mut self.rests.get_mut(at.index()).placed, place);
        }
        Some(grant)
    }

    pub(super) fn add_activation(&mut self, activation: Activation) -> u32 {
        if let Some(number) = activation.id.strip_prefix("a-").and_then(|number| number.parse::<u32>().ok()) {
            self.next.activation = self.next.activation.max(u64::from(number) + 1);
        }
        self.active.add(activation)
    }

    /// Puts a role under its name, or takes away what is there; gives what was there before.
    pub(super) fn set_made(&mut self, key: Sym, role: Option<MadeRole>) -> Option<MadeRole> {
        match role {
            Some(role) => self.made.insert(key, role),
            None => self.made.remove(&key),
        }
    }
}

/// What stands in one list and not in another.
fn missing<'l>(list: &'l [EntityId], other: &[EntityId]) -> impl Iterator<Item = &'l EntityId> {
    // As a set: one more member of a very large group is written often.
    let list = if list == other { &[] } else { list };
    let other: HashSet<EntityId> =
        if list.is_empty() { HashSet::new() } else { other.iter().copied().collect() };
    list.iter().filter(move |id| !other.contains(*id))
}

/// What a record names other than by containment and membership, each once.
fn named(record: &Record) -> Vec<EntityId> {
    let related = record.relations.iter().flat_map(|(_, to)| to.iter().copied());
    let mut named: Vec<_> = related.chain(record.tenants.iter().copied()).chain(record.tenant).collect();
    named.sort_unstable();
    named.dedup();
    named
}

/// Whether it is the name of a user or service: those are named by tokens.
fn is_subject(name: &str) -> bool {
    name.starts_with("user:") || name.starts_with("service:")
}
