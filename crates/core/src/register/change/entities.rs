//! What is said of entities, and their end.

use super::*;

impl Batch<'_, '_> {
    pub(super) fn found(&self, name: &str) -> Result<EntityId, Wrong> {
        split_entity(name)?;
        self.register.registered(name).filter(|id| self.sees(*id)).ok_or_else(|| {
            let deleted = self.checks.sight.is_everything()
                && self.register.find(name).is_some_and(|id| self.register.state(id) == State::Deleted);
            if deleted { Wrong::Deleted(name.into()) } else { Wrong::NotRegistered(name.into()) }
        })
    }

    /// An entity of one of some kinds; where only one is possible its prefix may be left out.
    pub(super) fn reference(&self, text: &str, kinds: &[&str], what: &str) -> Result<EntityId, Wrong> {
        let prefix = text.split_once(':').map(|(prefix, _)| prefix);
        let known = prefix.is_some_and(|prefix| {
            kinds.contains(&prefix) || self.checks.policies.iter().any(|policy| policy.kind(prefix).is_some())
        });
        let full = match kinds {
            [only] if !known => format!("{only}:{text}"),
            _ => text.to_owned(),
        };
        let (kind, _) = split_entity(&full)?;
        if !kinds.is_empty() && !kinds.contains(&kind) {
            return Err(Wrong::WrongKind {
                what: what.into(),
                kinds: kinds.join(" or ").into(),
                name: full.into(),
            });
        }
        self.found(&full)
    }

    pub(super) fn set(&mut self, id: EntityId, record: Record) {
        let old = self.register.record(id);
        if old == record {
            return;
        }
        if old.within != record.within || old.members != record.members {
            self.moved.push((id, self.at));
            // As sets: one more member of a very large group is written often.
            let before: HashSet<EntityId> = old.members.iter().copied().collect();
            let more = record.members.iter().filter(|member| !before.contains(*member));
            let mut parted: Vec<_> = more.map(|member| (*member, self.at)).collect();
            self.parted.append(&mut parted);
        }
        self.put(id, &record);
    }

    /// Replaces what is said of an entity.
    fn put(&mut self, id: EntityId, record: &Record) {
        self.leaving(id, record);
        let old = self.register.set_record(id, record);
        self.undo.push(Undo::Record(id, old));
        self.note(id);
    }

    /// Notes who is a member of a group no longer.
    fn leaving(&mut self, group: EntityId, new: &Record) {
        let old = self.register.members(group);
        if old == new.members {
            return;
        }
        let after: HashSet<EntityId> = new.members.iter().copied().collect();
        let gone = old.iter().filter(|member| !after.contains(*member));
        self.left.extend(gone.map(|member| (*member, self.at)));
    }

    /// Ends what was activated for somebody who holds the grant no longer: it must not count again
    /// should they come back.
    pub(super) fn settle(&mut self) {
        self.aside = true;
        for (member, at) in std::mem::take(&mut self.left) {
            self.at = at;
            for subject in self.register.subjects_of(member) {
                let holders: HashSet<EntityId> = self.register.holders_of(subject).into_iter().collect();
                for activation in self.register.active.numbers_of_subject(subject).to_vec() {
                    let grant = self.register.active.get(activation).map(|of| of.grant);
                    let to = grant.and_then(|grant| self.register.grant(grant)).map(|grant| grant.to);
                    if !to.is_some_and(|to| holders.contains(&to)) {
                        self.end_activation_at(activation);
                    }
                }
            }
        }
    }

    pub(super) fn entity(&mut self, line: &EntityLine) -> Result<(), Wrong> {
        let id = self.found(&line.name)?;
        let is_new = self.awaited.remove(&id);
        let (kind, _) = split_entity(&line.name)?;
        if line.state.as_deref() == Some(State::Deleted.word()) {
            return self.known_as_deleted(line, id, is_new);
        }
        let kind = kind.to_owned();
        let old = self.register.record(id);
        let mut record = if line.merge { old.clone() } else { Record::default() };
        said_of_its_kind(line, &kind)?;
        match line.state.as_deref() {
            None => {}
            Some("active") => record.state = State::Active,
            Some("suspended") => record.state = State::Suspended,
            Some(word) => {
                let near = Near::of(word, ["active", "suspended"]);
                return Err(Wrong::UnknownState { word: word.into(), near });
            }
        }
        if let Some(within) = &line.within {
            record.within = within.as_ref().map(|outer| self.outer(outer, &kind)).transpose()?;
        }
        if let Some(detached) = line.detached {
            record.detached = detached;
        }
        if let Some(tenant) = &line.tenant {
            record.tenant =
                tenant.as_ref().map(|tenant| self.reference(tenant, &["tenant"], "tenant")).transpose()?;
        }
        if let Some(tenants) = &line.tenants {
            self.add_all(&mut record.tenants, tenants, &["tenant"], "each of tenants")?;
        }
        if let Some(members) = &line.members {
            self.add_all(&mut record.members, members, &["user", "service", "group"], "a member")?;
        }
        self.attributes(&mut record, line, &kind)?;
        self.relations(&mut record, line, &kind)?;
        self.fits(&line.name, &kind, &record)?;
        if line.drop && self.leaves_tenant(&old, &record).is_some() {
            record.relations.clear();
            self.drop_inside(id);
        } else {
            self.stays_in_tenant(id, &old, &record)?;
        }
        self.set(id, record);
        Ok(())
    }

    /// A register that is loaded anew tells what was deleted: those names stay known as that.
    fn known_as_deleted(&mut self, line: &EntityLine, id: EntityId, is_new: bool) -> Result<(), Wrong> {
        let said = EntityLine { name: line.name.clone(), state: line.state.clone(), ..EntityLine::default() };
        if !is_new || *line != said {
            return Err(Wrong::DeletedIsNoState);
        }
        self.delete_one(id);
        Ok(())
    }

    fn outer(&mut self, outer: &str, kind: &str) -> Result<EntityId, Wrong> {
        let what = format!("what a {kind} lies within");
        let all = self.declared(kind, |policy| {
            let model = policy.model();
            let within = policy.kind(kind).map_or(&[][..], |kind| &model.kinds[kind.index()].within);
            let within: Vec<&str> =
                within.iter().map(|kind| model.kinds[kind.index()].key.as_str()).collect();
            let nowhere = within.is_empty();
            if nowhere { Err(Wrong::LiesNowhere { kind: kind.into() }) } else { Ok(within) }
        })?;
        let mut found = None;
        for (_, allowed) in &all {
            let outer = found.map_or(outer, |id| self.register.name(id));
            found = Some(self.reference(outer, allowed, &what)?);
        }
        found.map_or_else(|| self.reference(outer, &[], &what), Ok)
    }

    fn add_all(
        &self,
        list: &mut Vec<EntityId>,
        names: &[String],
        kinds: &[&str],
        what: &str,
    ) -> Result<(), Wrong> {
        for name in names {
            list.push(self.reference(name, kinds, what)?);
        }
        list.sort_unstable();
        list.dedup();
        if list.len() > MAX_MEMBERS {
            return Err(Wrong::ListTooLong(MAX_MEMBERS));
        }
        Ok(())
    }

    fn attributes(&mut self, record: &mut Record, line: &EntityLine, kind: &str) -> Result<(), Wrong> {
        for (name, value) in &line.attributes {
            let all = self.declared(kind, |policy| declared_attribute(policy, kind, name))?;
            if let Some(value) = value {
                all.iter().try_for_each(|(_, attribute)| fits_attribute(attribute, name, value))?;
            }
            if value == &Some(Stated::Unfit) {
                return Err(Wrong::NoValue(name.as_str().into()));
            }
            let sym = self.register.intern(name);
            record.attributes.retain(|(known, _)| *known != sym);
            if let Some(value) = value {
                // Under a charter a list attribute is a list, even where one value was written.
                let many = all.first().is_some_and(|(_, attribute)| attribute.many);
                let value = match value {
                    Stated::One(one) if many => Stated::Many(vec![one.clone()]),
                    value => value.clone(),
                };
                all.iter().try_for_each(|(_, attribute)| fits_attribute(attribute, name, &value))?;
                record.attributes.push((sym, value));
            }
        }
        record.attributes.sort_by_key(|(name, _)| *name);
        Ok(())
    }

    fn relations(&mut self, record: &mut Record, line: &EntityLine, kind: &str) -> Result<(), Wrong> {
        for (name, related) in &line.relations {
            let all = self.declared(kind, |policy| declared_relation(policy, kind, name))?;
            let single = all.iter().any(|(_, relation)| !relation.many);
            let kinds: Vec<Vec<&str>> = all
                .iter()
                .map(|(policy, relation)| {
                    relation.to.iter().map(|kind| policy.model().kinds[kind.index()].key.as_str()).collect()
                })
                .collect();
            let sym = self.register.intern(name);
            let mut to = Vec::new();
            if let Some(known) = record.relation(sym).filter(|_| related.as_ref().is_some_and(|r| r.add)) {
                to.extend_from_slice(known);
            }
            record.relations.retain(|(known, _)| *known != sym);
            let Some(related) = related else { continue };
            let mut seen: HashSet<EntityId> = to.iter().copied().collect();
            for target in &related.to {
                let what = format!("{name:?}");
                let (first, others) = kinds.split_first().map_or((&[][..], &[][..]), |(a, b)| (a, b));
                let target = self.reference(target, first, &what)?;
                for kinds in others {
                    self.reference(self.register.name(target), kinds, &what)?;
                }
                if seen.insert(target) {
                    to.push(target);
                }
            }
            if single && to.len() != 1 {
                return Err(Wrong::LeadsToOne { name: name.as_str().into(), count: to.len() });
            }
            if to.len() > MAX_LIST {
                return Err(Wrong::LeadsToTooMany { name: name.as_str().into(), most: MAX_LIST });
            }
            record.relations.push((sym, to));
        }
        record.relations.sort_by_key(|(name, _)| *name);
        Ok(())
    }

    /// What a whole record must have.
    fn fits(&self, name: &str, kind: &str, record: &Record) -> Result<(), Wrong> {
        for policy in self.checks.policies {
            let model = policy.model();
            let Some(declared) = policy.kind(kind).map(|kind| &model.kinds[kind.index()]) else { continue };
            if !declared.within.is_empty() && record.within.is_none() {
                let outer = declared.within.iter().map(|kind| model.kinds[kind.index()].key.as_str());
                let kinds = outer.collect::<Vec<_>>().join(" or ").into();
                return Err(Wrong::MustLieWithin { name: name.into(), kinds });
            }
        }
        Ok(())
    }

    /// A resource does not change its tenant: grants and relations made under one would count
    /// under another.
    fn stays_in_tenant(&self, id: EntityId, old: &Record, new: &Record) -> Result<(), Wrong> {
        let Some((from, to)) = self.leaves_tenant(old, new) else { return Ok(()) };
        let name = |id: EntityId| self.register.name(id).into();
        Err(Wrong::LeavesTenant { name: name(id), from: name(from), to: name(to) })
    }

    /// The ends of containment that a move would go from and to, if they differ.
    fn leaves_tenant(&self, old: &Record, new: &Record) -> Option<(EntityId, EntityId)> {
        let root = |mut at: EntityId| {
            for _ in 0..=MAX_CONTAINMENT {
                match self.register.within(at) {
                    Some(outer) => at = outer,
                    None => break,
                }
            }
            at
        };
        let (from, to) = (root(old.within?), root(new.within?));
        (from != to).then_some((from, to))
    }

    /// Everything that lies within, itself first. Within a batch containment may run in a circle
    /// until the batch is looked at as a whole, so each is visited once.
    fn inside(&self, id: EntityId) -> Vec<EntityId> {
        let mut waiting = vec![id];
        let mut order = Vec::new();
        let mut seen = HashSet::new();
        while let Some(next) = waiting.pop() {
            if seen.insert(next) {
                order.push(next);
                waiting.extend_from_slice(self.register.contents(next));
            }
        }
        order
    }

    /// Ends the grants at, and the relations of, a resource and all that lies within it.
    fn drop_inside(&mut self, id: EntityId) {
        for moving in self.inside(id) {
            for at in self.register.grants_at(moving).to_vec() {
                self.aside(|batch| batch.end_grant_at(at));
            }
            if moving != id {
                self.change_record(moving, |record| record.relations.clear());
            }
        }
    }

    pub(super) fn delete(&mut self, name: &str, contents: bool) -> Result<(), Wrong> {
        let id = self.found(name)?;
        if self.awaited.contains(&id) {
            // A line further down speaks of it; as yet it is not there.
            return Err(Wrong::NotRegistered(name.into()));
        }
        let inside = self.register.contents(id);
        if let (Some(first), false) = (inside.first(), contents) {
            let first = self.register.name(*first).into();
            return Err(Wrong::Contains { name: name.into(), count: inside.len(), first });
        }
        // Innermost first.
        for id in self.inside(id).into_iter().rev() {
            self.delete_one(id);
        }
        Ok(())
    }

    /// Ends every fact that names an entity, and the entity. If a line further down speaks of its name,
    /// that is a new entity, and what stands in between may name it.
    fn delete_one(&mut self, id: EntityId) {
        self.aside(|batch| batch.forget(id));
        let gone = Record { state: State::Deleted, ..Record::default() };
        self.put(id, &gone);
        let name = self.register.name(id).to_owned();
        if self.later.get(&name).is_some_and(|at| *at > self.at)
            && let Some((kind, _)) = name.split_once(':')
        {
            self.create(&name, kind);
        }
    }

    /// Ends every fact that names an entity.
    fn forget(&mut self, id: EntityId) {
        let mut grants: Vec<u32> = self.register.grants_to(id).map(|(at, _)| at).collect();
        grants.extend(self.register.grants_at(id));
        for at in grants {
            self.end_grant_at(at);
        }
        for at in self.register.active.numbers_of_subject(id).to_vec() {
            self.end_activation_at(at);
        }
        if self.register.kind(id) == Sym::TENANT {
            let made = self.register.made_roles().filter(|(_, role)| role.tenant == id);
            for key in made.map(|(key, _)| key).collect::<Vec<_>>() {
                self.end_made(key);
            }
        }
        for group in self.register.groups(id).to_vec() {
            self.change_record(group, |record| record.members.retain(|member| *member != id));
        }
        for other in self.register.named_by(id).to_vec() {
            self.change_record(other, |record| {
                record.tenants.retain(|tenant| *tenant != id);
                record.tenant = record.tenant.filter(|tenant| *tenant != id);
                // What led only there is missing now; what was stated empty stays so.
                record.relations.retain(|(_, to)| *to != [id]);
                for (_, to) in &mut record.relations {
                    to.retain(|target| *target != id);
                }
            });
        }
    }

    pub(super) fn change_record(&mut self, id: EntityId, edit: impl FnOnce(&mut Record)) {
        let mut record = self.register.record(id);
        edit(&mut record);
        if record != self.register.record(id) {
            self.put(id, &record);
        }
    }
}

/// Whether a line says of an entity only what can be said of its kind.
fn said_of_its_kind(line: &EntityLine, kind: &str) -> Result<(), Wrong> {
    let subject = kind == "user" || kind == "service";
    let resource = !subject && kind != "group" && kind != "tenant";
    for (stated, fits, key, whose) in [
        (line.state.is_some(), subject, "state", "users and services"),
        (line.tenants.is_some(), subject, "tenants", "users and services"),
        (line.tenant.is_some(), kind == "group", "tenant", "groups"),
        (line.members.is_some(), kind == "group", "members", "groups"),
        (line.within.is_some(), resource, "within", "resources"),
        (line.detached.is_some(), resource, "detached", "resources"),
    ] {
        if stated && !fits {
            let (name, kind) = (line.name.as_str().into(), kind.into());
            return Err(Wrong::NotSaidOf { key, whose, name, kind });
        }
    }
    Ok(())
}
