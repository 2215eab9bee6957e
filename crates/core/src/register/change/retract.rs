//! Taking away what was said.

use super::*;

impl Batch<'_, '_> {
    pub(super) fn retract(&mut self, retraction: &Retraction) -> Result<(), Wrong> {
        match retraction {
            Retraction::Attribute { entity, name, value } => {
                self.retract_attribute(entity, name, value.as_ref())
            }
            Retraction::Related { entity, name, target } => {
                self.retract_related(entity, name, target.as_deref())
            }
            Retraction::Member { entity, of } => self.retract_member(entity, of),
            Retraction::Detached(entity) => {
                let id = self.found(entity)?;
                self.change_record(id, |record| record.detached = false);
                Ok(())
            }
            Retraction::Suspended(entity) => {
                let id = self.found(entity)?;
                self.change_record(id, |record| record.state = State::Active);
                Ok(())
            }
            Retraction::Activation(line) => self.retract_activation(line),
            Retraction::Grant(line) => self.retract_grant(line),
        }
    }

    fn retract_attribute(&mut self, entity: &str, name: &str, value: Option<&Stated>) -> Result<(), Wrong> {
        let id = self.found(entity)?;
        let path = || format!("{entity}.{name}").into();
        let sym = self.register.sym(name);
        let known = sym.and_then(|sym| self.register.attribute(id, sym)).cloned();
        let (Some(sym), Some(known)) = (sym, known) else { return Err(Wrong::NothingStated(path())) };
        if value.is_some_and(|value| *value != known) {
            let value = known.to_json().to_string().into();
            return Err(Wrong::IsSomethingElse { path: path(), value });
        }
        let mut record = self.register.record(id);
        record.attributes.retain(|(known, _)| *known != sym);
        self.set(id, record);
        Ok(())
    }

    fn retract_related(&mut self, entity: &str, name: &str, target: Option<&str>) -> Result<(), Wrong> {
        let id = self.found(entity)?;
        let mut record = self.register.record(id);
        let sym = self.register.sym(name);
        let target = target.map(|target| self.found(target)).transpose()?;
        let before = record.clone();
        for (known, to) in &mut record.relations {
            if Some(*known) == sym {
                to.retain(|known| target.is_some_and(|target| *known != target));
            }
        }
        record.relations.retain(|(known, to)| Some(*known) != sym || !to.is_empty());
        if record == before {
            return Err(Wrong::LeadsElsewhere(format!("{entity}.{name}").into()));
        }
        self.set(id, record);
        Ok(())
    }

    fn retract_member(&mut self, entity: &str, of: &str) -> Result<(), Wrong> {
        let id = self.found(entity)?;
        let of = self.found(of)?;
        let of_group = self.register.kind(of) == Sym::GROUP;
        let (changed, gone) = if of_group { (of, id) } else { (id, of) };
        let mut record = self.register.record(changed);
        let list = if of_group { &mut record.members } else { &mut record.tenants };
        let before = list.len();
        list.retain(|known| *known != gone);
        if list.len() == before {
            return Err(Wrong::NotIn { entity: entity.into(), of: self.register.name(of).into() });
        }
        self.set(changed, record);
        Ok(())
    }

    fn retract_activation(&mut self, line: &ActivationLine) -> Result<(), Wrong> {
        let grant = self.grant_at(&line.grant)?;
        let subject = self.found(&line.subject)?;
        let session = line.session.as_deref();
        let fits = |activation: &Activation| {
            activation.grant == grant
                && activation.subject == subject
                && session.is_none_or(|wanted| activation.session.as_deref() == Some(wanted))
        };
        let numbers = self.register.active.numbers_of_grant(grant).iter().copied();
        let found: Vec<u32> = numbers.filter(|at| self.register.active.get(*at).is_some_and(fits)).collect();
        if found.is_empty() {
            let (grant, subject) = (line.grant.as_str().into(), line.subject.as_str().into());
            return Err(Wrong::NotActivated { grant, subject });
        }
        found.into_iter().for_each(|at| self.end_activation_at(at));
        Ok(())
    }

    fn retract_grant(&mut self, line: &GrantLine) -> Result<(), Wrong> {
        let to = self.found(&line.to)?;
        let place = match line.at.as_str() {
            "everywhere" => PlaceOf::Everywhere,
            place => PlaceOf::At(self.found(place)?),
        };
        let role = self.register.sym(&line.role);
        let same = |grant: &Grant<'_>| {
            Some(grant.role) == role
                && grant.at == place
                && line.from.is_none_or(|from| grant.terms.from == Some(from))
                && line.until.is_none_or(|until| grant.terms.until == Some(until))
        };
        let found: Vec<u32> =
            self.register.grants_to(to).filter(|(_, grant)| same(grant)).map(|(at, _)| at).collect();
        match found.as_slice() {
            [] => Err(Wrong::HoldsNone {
                to: line.to.as_str().into(),
                role: line.role.as_str().into(),
                at: line.at.as_str().into(),
            }),
            [one] => {
                self.end_grant_at(*one);
                Ok(())
            }
            many => Err(Wrong::SeveralGrants(many.len())),
        }
    }
}
