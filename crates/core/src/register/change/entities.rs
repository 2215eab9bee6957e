//! What is said of entities, and their end.

use super::*;

impl Batch<'_, '_> {
    pub(super) fn found(&self, name: &str) -> Result<EntityId, String> {
        split_entity(name)?;
        self.register.registered(name).ok_or_else(|| {
            let deleted = self.register.find(name).is_some();
            if deleted { format!("{name} is deleted") } else { format!("{name} is not registered") }
        })
    }

    /// An entity of one of some kinds; where only one is possible its prefix may be left out.
    pub(super) fn reference(&self, text: &str, kinds: &[&str], what: &str) -> Result<EntityId, String> {
        let prefix = text.split_once(':').map(|(prefix, _)| prefix);
        let known = prefix.is_some_and(|prefix| {
            kinds.contains(&prefix) || self.policies.iter().any(|policy| policy.kind(prefix).is_some())
        });
        let full = match kinds {
            [only] if !known => format!("{only}:{text}"),
            _ => text.to_owned(),
        };
        let (kind, _) = split_entity(&full)?;
        if !kinds.is_empty() && !kinds.contains(&kind) {
            return Err(format!("{what} is a {}, not {full}", kinds.join(" or ")));
        }
        self.found(&full)
    }

    pub(super) fn set(&mut self, id: EntityId, record: Record, at: usize) {
        let old = self.register.record(id);
        if old == record {
            return;
        }
        if old.within != record.within || old.members != record.members {
            self.moved.push((id, at));
            // As sets: one more member of a very large group is written often.
            let before: HashSet<EntityId> = old.members.iter().copied().collect();
            let more = record.members.iter().filter(|member| !before.contains(*member));
            let mut parted: Vec<_> = more.map(|member| (*member, at)).collect();
            self.parted.append(&mut parted);
        }
        self.leaving(id, &record, at);
        let old = self.register.set_record(id, &record);
        self.undo.push(Undo::Record(id, old));
        self.note(at, id);
    }

    /// Notes who is a member of a group no longer.
    fn leaving(&mut self, group: EntityId, new: &Record, at: usize) {
        let old = self.register.members(group);
        if old == new.members {
            return;
        }
        let after: HashSet<EntityId> = new.members.iter().copied().collect();
        let gone = old.iter().filter(|member| !after.contains(*member));
        self.left.extend(gone.map(|member| (*member, at)));
    }

    /// Ends what was activated for somebody who holds the grant no longer: it must not count again
    /// should they come back.
    pub(super) fn settle(&mut self) {
        for (member, at) in std::mem::take(&mut self.left) {
            self.at = at;
            for subject in self.register.subjects_of(member) {
                let holders = self.register.holders_of(subject);
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

    /// Notes that more or something else is said of an entity: once, however often it is said.
    pub(super) fn note(&mut self, at: usize, id: EntityId) {
        if self.noted.insert(id) {
            self.effects.push((at, Effect::Entity(id)));
        }
    }

    pub(super) fn entity(&mut self, line: &EntityLine, at: usize) -> Result<(), String> {
        let id = self.found(&line.name)?;
        let (kind, _) = split_entity(&line.name)?;
        let kind = kind.to_owned();
        let old = self.register.record(id);
        let mut record = if line.merge { old.clone() } else { Record::default() };
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
                return Err(format!("{key} is said of {whose} only, and {} is a {kind}", line.name));
            }
        }
        match line.state.as_deref() {
            None => {}
            Some("active") => record.state = State::Active,
            Some("suspended") => record.state = State::Suspended,
            Some("deleted") => return Err("to delete, write {\"delete\":\"type:id\"}".to_owned()),
            Some(other) => {
                return Err(format!(
                    "unknown state {other:?}{}",
                    did_you_mean(other, ["active", "suspended"])
                ));
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
        self.set(id, record, at);
        Ok(())
    }

    pub(super) fn outer(&self, outer: &str, kind: &str) -> Result<EntityId, String> {
        let allowed: Vec<&str> = self.policies.first().map_or_else(Vec::new, |policy| {
            let model = policy.model();
            let within = policy.kind(kind).map_or(&[][..], |kind| &model.kinds[kind.index()].within);
            within.iter().map(|kind| model.kinds[kind.index()].key.as_str()).collect()
        });
        if allowed.is_empty() && !self.policies.is_empty() {
            return Err(format!("a {kind} lies nowhere: its type declares no within"));
        }
        self.reference(outer, &allowed, &format!("what a {kind} lies within"))
    }

    pub(super) fn add_all(
        &self,
        list: &mut Vec<EntityId>,
        names: &[String],
        kinds: &[&str],
        what: &str,
    ) -> Result<(), String> {
        for name in names {
            list.push(self.reference(name, kinds, what)?);
        }
        list.sort_unstable();
        list.dedup();
        if list.len() > MAX_LIST * 100 {
            return Err(format!("more than {} in one list", MAX_LIST * 100));
        }
        Ok(())
    }

    pub(super) fn attributes(
        &mut self,
        record: &mut Record,
        line: &EntityLine,
        kind: &str,
    ) -> Result<(), String> {
        for (name, value) in &line.attributes {
            for policy in self.policies {
                let attribute = declared_attribute(policy, kind, name)?;
                if let Some(value) = value {
                    fits_attribute(attribute, name, value)?;
                }
            }
            if value == &Some(Stated::Unfit) {
                return Err(format!("the attribute {name:?} is a text, number, boolean or a list of them"));
            }
            let sym = self.register.intern(name);
            record.attributes.retain(|(known, _)| *known != sym);
            if let Some(value) = value {
                // Under a charter a list attribute is a list, even where one value was written.
                let many = self
                    .policies
                    .first()
                    .is_some_and(|policy| declared_attribute(policy, kind, name).is_ok_and(|a| a.many));
                let value = match value {
                    Stated::One(one) if many => Stated::Many(vec![one.clone()]),
                    value => value.clone(),
                };
                record.attributes.push((sym, value));
            }
        }
        record.attributes.sort_by_key(|(name, _)| *name);
        Ok(())
    }

    pub(super) fn relations(
        &mut self,
        record: &mut Record,
        line: &EntityLine,
        kind: &str,
    ) -> Result<(), String> {
        for (name, related) in &line.relations {
            let mut kinds: Vec<String> = Vec::new();
            let mut single = false;
            for policy in self.policies {
                let relation = declared_relation(policy, kind, name)?;
                kinds =
                    relation.to.iter().map(|kind| policy.model().kinds[kind.index()].key.clone()).collect();
                single |= !relation.many;
            }
            let sym = self.register.intern(name);
            let mut to = Vec::new();
            if let Some(known) = record.relation(sym).filter(|_| related.as_ref().is_some_and(|r| r.add)) {
                to.extend_from_slice(known);
            }
            record.relations.retain(|(known, _)| *known != sym);
            let Some(related) = related else { continue };
            let kinds: Vec<&str> = kinds.iter().map(String::as_str).collect();
            for target in &related.to {
                let target = self.reference(target, &kinds, &format!("{name:?}"))?;
                if !to.contains(&target) {
                    to.push(target);
                }
            }
            if single && to.len() != 1 {
                return Err(format!("{name:?} leads to one thing, not {}; null removes it", to.len()));
            }
            if to.len() > MAX_LIST {
                return Err(format!("{name:?} leads to more than {MAX_LIST} things"));
            }
            record.relations.push((sym, to));
        }
        record.relations.sort_by_key(|(name, _)| *name);
        Ok(())
    }

    /// What a whole record must have.
    pub(super) fn fits(&self, name: &str, kind: &str, record: &Record) -> Result<(), String> {
        for policy in self.policies {
            let Some(declared) = policy.kind(kind).map(|kind| &policy.model().kinds[kind.index()]) else {
                continue;
            };
            if !declared.within.is_empty() && record.within.is_none() {
                let outer: Vec<&str> = declared
                    .within
                    .iter()
                    .map(|kind| policy.model().kinds[kind.index()].key.as_str())
                    .collect();
                return Err(format!("{name} must lie within a {}", outer.join(" or ")));
            }
        }
        Ok(())
    }

    /// A resource does not change its tenant: grants and relations made under one would count
    /// under another.
    pub(super) fn stays_in_tenant(&self, id: EntityId, old: &Record, new: &Record) -> Result<(), String> {
        let Some((from, to)) = self.leaves_tenant(old, new) else { return Ok(()) };
        let name = self.register.name(id);
        Err(format!(
            "{name} cannot move from {} to {}: it would change its tenant; say \"drop\": true to move it \
             without the grants, activations and relations of all that moves",
            self.register.name(from),
            self.register.name(to)
        ))
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
                self.end_grant_at(at);
            }
            if moving != id {
                self.change_record(moving, |record| record.relations.clear());
            }
        }
    }

    pub(super) fn delete(&mut self, name: &str, contents: bool) -> Result<(), String> {
        let id = self.found(name)?;
        let inside = self.register.contents(id).to_vec();
        if !inside.is_empty() && !contents {
            let first = self.register.name(inside[0]);
            return Err(format!(
                "{name} contains {} more, {first} among them; delete those first, or say \"with-contents\": true",
                inside.len()
            ));
        }
        // Innermost first.
        for id in self.inside(id).into_iter().rev() {
            self.delete_one(id);
        }
        Ok(())
    }

    /// Ends every fact that names an entity, and the entity.
    pub(super) fn delete_one(&mut self, id: EntityId) {
        let mut grants: Vec<u32> = self.register.grants_to(id).map(|(at, _)| at).collect();
        grants.extend(self.register.grants_at(id));
        for at in grants {
            self.end_grant_at(at);
        }
        for at in self.register.active.numbers_of_subject(id).to_vec() {
            self.end_activation_at(at);
        }
        let made = self.register.made_roles().filter(|(_, role)| role.tenant == id);
        for key in made.map(|(key, _)| key).collect::<Vec<_>>() {
            self.end_made(key);
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
        let old = self.register.set_record(id, &Record { state: State::Deleted, ..Record::default() });
        self.undo.push(Undo::Record(id, old));
        self.effects.push((self.at, Effect::Deleted(id)));
    }

    pub(super) fn change_record(&mut self, id: EntityId, edit: impl FnOnce(&mut Record)) {
        let mut record = self.register.record(id);
        edit(&mut record);
        if record != self.register.record(id) {
            self.leaving(id, &record, self.at);
            let old = self.register.set_record(id, &record);
            self.undo.push(Undo::Record(id, old));
            self.note(self.at, id);
        }
    }
}
