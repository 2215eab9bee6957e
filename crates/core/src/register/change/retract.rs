//! Taking away what was said.

use super::*;

impl Batch<'_, '_> {
    pub(super) fn retract(&mut self, retraction: &Retraction, at: usize) -> Result<(), String> {
        match retraction {
            Retraction::Attribute { entity, name, value } => {
                let id = self.found(entity)?;
                let sym = self.register.sym(name);
                let known = sym.and_then(|sym| self.register.attribute(id, sym)).cloned();
                let (Some(sym), Some(known)) = (sym, known) else {
                    return Err(format!("nothing is stated of {entity}.{name}"));
                };
                if value.as_ref().is_some_and(|value| *value != known) {
                    return Err(format!("{entity}.{name} is {}, not that", known.to_json()));
                }
                let mut record = self.register.record(id);
                record.attributes.retain(|(known, _)| *known != sym);
                self.set(id, record, at);
            }
            Retraction::Related { entity, name, target } => {
                let id = self.found(entity)?;
                let mut record = self.register.record(id);
                let sym = self.register.sym(name);
                let target = target.as_ref().map(|target| self.found(target)).transpose()?;
                let before = record.clone();
                for (known, to) in &mut record.relations {
                    if Some(*known) == sym {
                        to.retain(|known| target.is_some_and(|target| *known != target));
                    }
                }
                record.relations.retain(|(known, to)| Some(*known) != sym || !to.is_empty());
                if record == before {
                    return Err(format!("{entity}.{name} does not lead there"));
                }
                self.set(id, record, at);
            }
            Retraction::Member { entity, of } => {
                let id = self.found(entity)?;
                let of = self.found(of)?;
                let of_group = self.register.kind(of) == Sym::GROUP;
                let (changed, gone) = if of_group { (of, id) } else { (id, of) };
                let mut record = self.register.record(changed);
                let list = if of_group { &mut record.members } else { &mut record.tenants };
                let before = list.len();
                list.retain(|known| *known != gone);
                if list.len() == before {
                    return Err(format!("{entity} is not in {}", self.register.name(of)));
                }
                self.set(changed, record, at);
            }
            Retraction::Detached(entity) => {
                let id = self.found(entity)?;
                self.change_record(id, |record| record.detached = false);
            }
            Retraction::Suspended(entity) => {
                let id = self.found(entity)?;
                self.change_record(id, |record| record.state = State::Active);
            }
            Retraction::Activation(line) => {
                let grant = self.register.grant_place(&line.grant);
                let subject = self.found(&line.subject)?;
                let fits = |activation: &&Activation| {
                    Some(activation.grant) == grant
                        && activation.subject == subject
                        && line.session.as_deref().is_none_or(|s| activation.session.as_deref() == Some(s))
                };
                let found: Vec<u32> = self
                    .register
                    .all_activations()
                    .filter(fits)
                    .filter_map(|activation| self.register.active.find(&activation.id))
                    .collect();
                if found.is_empty() {
                    return Err(format!("{} is not activated for {}", line.grant, line.subject));
                }
                found.into_iter().for_each(|at| self.end_activation_at(at));
            }
            Retraction::Grant(line) => {
                let to = self.found(&line.to)?;
                let place = if line.at == "everywhere" {
                    PlaceOf::Everywhere
                } else {
                    PlaceOf::At(self.found(&line.at)?)
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
                    [] => {
                        return Err(format!(
                            "{} holds no {} at {} by a grant of its own",
                            line.to, line.role, line.at
                        ));
                    }
                    [one] => self.end_grant_at(*one),
                    many => return Err(format!("{} grants say that; end one by its id", many.len())),
                }
            }
        }
        Ok(())
    }
}
