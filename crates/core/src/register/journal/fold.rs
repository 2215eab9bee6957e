//! Entries applied to a register. Nothing is asked of a charter here: they were found valid when they
//! were made. That they fit this register is asked all the same.

use super::Entry;
use crate::names::made_role_name;
use crate::register::grants::OwnGrant;
use crate::register::line::{ActivationLine, EntityLine, GrantLine, TenantRoleLine};
use crate::register::{Activation, EntityId, MadeRole, PlaceOf, Record, Register, State, Sym, Terms};

/// An entry that does not fit the register it is applied to.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Unfit {
    /// It names what is not registered.
    #[error("{0} is not registered")]
    NotRegistered(String),
    /// It ends, or activates, what is not there.
    #[error("there is no {what} {id}")]
    NotThere {
        /// A grant, an activation, a role.
        what: &'static str,
        /// Which.
        id: String,
    },
    /// It gives an id that is taken.
    #[error("there is a {what} {id} already")]
    Taken {
        /// A grant or an activation.
        what: &'static str,
        /// Which.
        id: String,
    },
    /// Something still names what is gone.
    #[error("{0} is gone, and something still names it")]
    StillNamed(String),
    /// A state that entities do not have.
    #[error("{0} is no state")]
    NoState(String),
}

impl Register {
    /// Applies entries, in whatever order they stand: what ended first, and everything is made before
    /// anything is said of it.
    ///
    /// # Errors
    /// The first that does not fit. The register is then half of something, and to be thrown away.
    pub fn fold(&mut self, entries: &[Entry]) -> Result<(), Unfit> {
        let mut gone = Vec::new();
        for entry in entries {
            match entry {
                Entry::ActivationEnded { id, .. } => self.fold_activation_end(id)?,
                Entry::GrantEnded { id, .. } => self.fold_grant_end(id)?,
                Entry::TenantRoleEnded(name) => self.fold_role_end(name)?,
                _ => {}
            }
        }
        for entry in entries {
            if let Entry::Deleted(name) = entry {
                gone.push(self.fold_delete(name));
            }
        }
        for entry in entries {
            if let Entry::Entity(line) = entry
                && self.registered(&line.name).is_none()
            {
                self.fold_create(&line.name);
            }
        }
        for entry in entries {
            if let Entry::Entity(line) = entry {
                self.fold_entity(line)?;
            }
        }
        for entry in entries {
            match entry {
                Entry::TenantRole(line) => self.fold_role(line)?,
                Entry::Grant(line) => self.fold_grant(line)?,
                _ => {}
            }
        }
        for entry in entries {
            match entry {
                Entry::Activation(line) => self.fold_activation(line)?,
                Entry::Next(next) => self.skip_ids(*next),
                _ => {}
            }
        }
        gone.into_iter()
            .find_map(|id| self.is_named(id).then(|| Unfit::StillNamed(self.name(id).to_owned())))
            .map_or(Ok(()), Err)
    }

    /// Makes entities of which nothing is said as yet, so that entries that are folded in parts may name
    /// each other.
    pub fn fold_names<'n>(&mut self, names: impl Iterator<Item = &'n str>) {
        for name in names {
            if self.registered(name).is_none() {
                self.fold_create(name);
            }
        }
    }

    fn known(&self, name: &str) -> Result<EntityId, Unfit> {
        self.registered(name).ok_or_else(|| Unfit::NotRegistered(name.to_owned()))
    }

    fn fold_create(&mut self, name: &str) -> EntityId {
        let kind = name.split_once(':').map_or("", |(kind, _)| kind);
        let kind = self.intern(kind);
        self.create(name, kind)
    }

    /// Known as deleted from now on, whether or not it was there.
    fn fold_delete(&mut self, name: &str) -> EntityId {
        let id = self.registered(name).unwrap_or_else(|| self.fold_create(name));
        self.set_record(id, &Record { state: State::Deleted, ..Record::default() });
        id
    }

    /// Whether anything names an entity.
    fn is_named(&self, id: EntityId) -> bool {
        !self.groups(id).is_empty()
            || !self.named_by(id).is_empty()
            || !self.contents(id).is_empty()
            || !self.held(id).is_empty()
            || !self.grants_at(id).is_empty()
            || !self.active.numbers_of_subject(id).is_empty()
            || (self.kind(id) == Sym::TENANT && self.made_roles().any(|(_, role)| role.tenant == id))
    }

    fn fold_entity(&mut self, line: &EntityLine) -> Result<(), Unfit> {
        let id = self.known(&line.name)?;
        let all = |names: &Option<Vec<String>>| -> Result<Vec<EntityId>, Unfit> {
            let ids: Result<Vec<EntityId>, Unfit> =
                names.iter().flatten().map(|name| self.known(name)).collect();
            let mut ids = ids?;
            ids.sort_unstable();
            Ok(ids)
        };
        let one = |name: &Option<Option<String>>| -> Result<Option<EntityId>, Unfit> {
            name.iter().flatten().next().map(|name| self.known(name)).transpose()
        };
        let state = match line.state.as_deref() {
            None | Some("active") => State::Active,
            Some("suspended") => State::Suspended,
            Some(other) => return Err(Unfit::NoState(other.to_owned())),
        };
        let mut record = Record {
            state,
            within: one(&line.within)?,
            detached: line.detached.unwrap_or(false),
            tenant: one(&line.tenant)?,
            tenants: all(&line.tenants)?,
            members: all(&line.members)?,
            attributes: Vec::new(),
            relations: Vec::new(),
        };
        let mut relations = Vec::new();
        for (name, related) in &line.relations {
            let to: Result<Vec<EntityId>, Unfit> =
                related.iter().flat_map(|related| &related.to).map(|name| self.known(name)).collect();
            relations.push((name, to?));
        }
        record.relations = relations.into_iter().map(|(name, to)| (self.intern(name), to)).collect();
        for (name, value) in &line.attributes {
            let name = self.intern(name);
            record.attributes.extend(value.clone().map(|value| (name, value)));
        }
        record.attributes.sort_by_key(|(name, _)| *name);
        record.relations.sort_by_key(|(name, _)| *name);
        self.set_record(id, &record);
        Ok(())
    }

    fn fold_role(&mut self, line: &TenantRoleLine) -> Result<(), Unfit> {
        let tenant = self.known(&line.tenant)?;
        let key = self.intern(&Entry::role_name(line));
        debug_assert_eq!(self.text(key), made_role_name(self.id_text(tenant), &line.key));
        let permissions = line.permissions.iter().map(|pattern| pattern.as_str().into()).collect();
        let role = MadeRole { tenant, name: line.name.as_deref().map(Into::into), permissions };
        self.set_made(key, Some(role));
        Ok(())
    }

    fn fold_role_end(&mut self, name: &str) -> Result<(), Unfit> {
        let key = self.sym(name).filter(|key| self.made_role(*key).is_some());
        let key = key.ok_or_else(|| Unfit::NotThere { what: "tenant's role", id: name.to_owned() })?;
        self.set_made(key, None);
        Ok(())
    }

    fn fold_grant(&mut self, line: &GrantLine) -> Result<(), Unfit> {
        let id = line.id.as_deref().unwrap_or_default();
        if self.grants.find(id).is_some() {
            return Err(Unfit::Taken { what: "grant", id: id.to_owned() });
        }
        let to = self.known(&line.to)?;
        let at = match line.at.as_str() {
            "everywhere" => PlaceOf::Everywhere,
            place => PlaceOf::At(self.known(place)?),
        };
        let mut values: Vec<_> =
            line.values.iter().map(|(name, values)| (self.intern(name), values.clone())).collect();
        values.sort_by_key(|(name, _)| *name);
        let role = self.intern(&line.role);
        let terms = Terms { from: line.from, until: line.until, values };
        self.add_grant(OwnGrant { id: id.into(), role, to, at, terms });
        Ok(())
    }

    fn fold_grant_end(&mut self, id: &str) -> Result<(), Unfit> {
        let missing = || Unfit::NotThere { what: "grant", id: id.to_owned() };
        let at = self.grants.find(id).ok_or_else(missing)?;
        if !self.active.numbers_of_grant(at).is_empty() {
            return Err(Unfit::StillNamed(format!("the grant {id}")));
        }
        self.take_grant(at).map(|_| ()).ok_or_else(missing)
    }

    fn fold_activation(&mut self, line: &ActivationLine) -> Result<(), Unfit> {
        let id = line.id.as_deref().unwrap_or_default();
        if self.active.find(id).is_some() {
            return Err(Unfit::Taken { what: "activation", id: id.to_owned() });
        }
        let missing = || Unfit::NotThere { what: "grant", id: line.grant.clone() };
        let grant = self.grants.find(&line.grant).ok_or_else(missing)?;
        let subject = self.known(&line.subject)?;
        self.add_activation(Activation {
            id: id.into(),
            grant,
            subject,
            session: line.session.as_deref().map(Into::into),
            from: line.from,
            until: line.until,
            reason: line.reason.as_deref().unwrap_or_default().into(),
        });
        Ok(())
    }

    fn fold_activation_end(&mut self, id: &str) -> Result<(), Unfit> {
        let missing = || Unfit::NotThere { what: "activation", id: id.to_owned() };
        let at = self.active.find(id).ok_or_else(missing)?;
        self.active.take(at);
        Ok(())
    }
}
