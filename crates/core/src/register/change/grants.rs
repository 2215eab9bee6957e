//! Grants, their activations, and the roles tenants make.

use super::*;

impl Batch<'_, '_> {
    pub(super) fn grant(&mut self, line: &GrantLine) -> Result<(), String> {
        let to = self.found(&line.to)?;
        let at = match line.at.as_str() {
            "everywhere" => PlaceOf::Everywhere,
            place => PlaceOf::At(self.found(place)?),
        };
        if let (Some(from), Some(until)) = (line.from, line.until)
            && from >= until
        {
            return Err(format!("it would end at {until}, before it begins at {from}"));
        }
        let holder = self.register.text(self.register.kind(to)).to_owned();
        if !matches!(holder.as_str(), "user" | "service" | "group") {
            return Err(format!("roles are held by users, services and groups, not by {}", line.to));
        }
        let place = match at {
            PlaceOf::Everywhere => None,
            PlaceOf::At(id) => Some(self.register.text(self.register.kind(id)).to_owned()),
        };
        if matches!(place.as_deref(), Some("user" | "service" | "group")) {
            return Err(format!("{} is no place: a place is everywhere, a tenant or a resource", line.at));
        }
        if line.role.contains('/') {
            self.fits_made(line, &holder)?;
        } else {
            for policy in self.policies {
                fits_role(policy, line, &holder, place.as_deref())?;
            }
        }
        let mut values: Vec<_> =
            line.values.iter().map(|(name, values)| (self.register.intern(name), values.clone())).collect();
        values.sort_by_key(|(name, _)| *name);
        let role = self.register.intern(&line.role);
        let id = line.id.clone().unwrap_or_default();
        let terms = Terms { from: line.from, until: line.until, values };
        let grant = OwnGrant { id: id.as_str().into(), role, to, at, terms };
        if let Some((_, same)) = self.register.grants_to(to).find(|(_, known)| grant.says(known)) {
            if line.id.as_deref().is_none_or(|id| GrantId::new(id) == same.id) {
                return Ok(());
            }
            return Err(format!("{} says the same already", same.id));
        }
        self.add_grant(grant)
    }

    pub(super) fn add_grant(&mut self, mut grant: OwnGrant) -> Result<(), String> {
        if grant.id.is_empty() {
            while self.register.grants.find(&format!("g-{}", self.register.next.grant)).is_some() {
                self.register.next.grant += 1;
            }
            grant.id = format!("g-{}", self.register.next.grant).into();
        } else if self.register.grants.find(&grant.id).is_some() {
            return Err(format!("another grant is called {} already", grant.id));
        } else {
            split_entity(&format!("grant:{}", grant.id)).map_err(|_| {
                format!("{:?} is no id for a grant: no white space, at most 250 bytes", grant.id)
            })?;
        }
        let id = grant.id.clone();
        self.parted.push((grant.to, self.at));
        let at = self.register.add_grant(grant);
        self.undo.push(Undo::Granted(at));
        self.effects.push((self.at, Effect::Granted(id)));
        Ok(())
    }

    pub(super) fn end_grant(&mut self, id: &str) -> Result<(), String> {
        let at = self.grant_at(id)?;
        self.end_grant_at(at);
        Ok(())
    }

    pub(super) fn end_grant_at(&mut self, at: u32) {
        for activation in self.register.active.numbers_of_grant(at).to_vec() {
            self.end_activation_at(activation);
        }
        if let Some(grant) = self.register.take_grant(at) {
            self.effects.push((self.at, Effect::Ended(grant.id.clone())));
            self.undo.push(Undo::Ended(at, grant));
        }
    }

    /// A grant of a role that a tenant made.
    fn fits_made(&self, line: &GrantLine, holder: &str) -> Result<(), String> {
        let made = self.register.sym(&line.role).and_then(|key| self.register.made_role(key));
        if made.is_none() {
            let known = self.register.made_roles().map(|(key, _)| self.register.text(key));
            let near = did_you_mean(&line.role, known);
            return Err(format!("no tenant has made a role {:?}{near}", line.role));
        }
        if holder == "service" {
            return Err(format!("{:?} is a tenant's role and is held by users", line.role));
        }
        if !line.values.is_empty() {
            return Err(format!("{:?} is a tenant's role and has no values", line.role));
        }
        Ok(())
    }

    // -- activations ---------------------------------------------------------------------------

    pub(super) fn activate(&mut self, line: &ActivationLine) -> Result<(), String> {
        let at = self.grant_at(&line.grant)?;
        let subject = self.found(&line.subject)?;
        let grant = self.register.grant(at).ok_or("the grant is gone")?;
        if !matches!(self.register.kind(subject), Sym::USER | Sym::SERVICE) {
            return Err(format!("a grant is activated for a user or service, not for {}", line.subject));
        }
        // Of a membership that has ended since, a recorded activation may be left: it counts for nothing.
        if !self.policies.is_empty() && !self.register.holders_of(subject).contains(&grant.to) {
            let holder = self.register.name(grant.to);
            return Err(format!("{} was given to {holder}, not to {}", line.grant, line.subject));
        }
        let key = self.register.text(grant.role).to_owned();
        let mut until = line.until;
        for policy in self.policies {
            let role = policy.role(&key).map(|role| &policy.model().roles[role.index()]);
            let Some(standby) = role.and_then(|role| role.standby.as_ref()) else {
                return Err(format!("{key:?} is not on standby: its grants count without an activation"));
            };
            if standby.reason && !line.assumed && line.reason.as_deref().is_none_or(|r| r.trim().is_empty()) {
                return Err(format!("{key:?} is activated with a reason"));
            }
            if !line.assumed {
                until = until.or(line.from.and_then(|from| from.checked_add(standby.longest).ok()));
            }
            if let (Some(from), Some(until)) = (line.from, until)
                && from.checked_add(standby.longest).is_ok_and(|longest| longest < until)
            {
                let longest = crate::value::Value::Duration(standby.longest);
                return Err(format!("{key:?} is activated for at most {longest}"));
            }
        }
        if until.is_none() && !line.assumed {
            return Err("an activation ends: say until".to_owned());
        }
        if let (Some(from), Some(until)) = (line.from, until)
            && from >= until
        {
            return Err(format!("it would end at {until}, before it begins at {from}"));
        }
        let mut activation = Activation {
            id: line.id.as_deref().unwrap_or_default().into(),
            grant: at,
            subject,
            session: line.session.as_deref().map(Into::into),
            from: line.from,
            until,
            reason: line.reason.as_deref().unwrap_or_default().into(),
        };
        if let Some(same) = self.register.activations_of(at).find(|known| known.is_same(&activation)) {
            if line.id.as_deref().is_none_or(|id| id == &*same.id) {
                return Ok(());
            }
            return Err(format!("{} says the same already", same.id));
        }
        if activation.id.is_empty() {
            let next = |register: &Register| format!("a-{}", register.next.activation);
            while self.register.active.find(&next(self.register)).is_some() {
                self.register.next.activation += 1;
            }
            activation.id = next(self.register).into();
        } else if self.register.active.find(&activation.id).is_some() {
            return Err(format!("another activation is called {} already", activation.id));
        } else {
            split_entity(&format!("activation:{}", activation.id))
                .map_err(|_| format!("{:?} is no id for an activation: no white space", activation.id))?;
        }
        let id = activation.id.clone();
        let at = self.register.add_activation(activation);
        self.undo.push(Undo::Activated(at));
        self.effects.push((self.at, Effect::Activated(id)));
        Ok(())
    }

    fn grant_at(&self, id: &str) -> Result<u32, String> {
        self.register.grant_place(id).ok_or_else(|| {
            let known: Vec<String> =
                self.register.all_grants().take(10_000).map(|grant| grant.id.to_string()).collect();
            let near = did_you_mean(id, known.iter().map(String::as_str));
            format!("no grant is called {id:?}{near}")
        })
    }

    pub(super) fn end_activation(&mut self, id: &str) -> Result<(), String> {
        let at = self.register.active.find(id).ok_or_else(|| {
            let near = did_you_mean(id, self.register.active.ids().take(10_000));
            format!("no activation is called {id:?}{near}")
        })?;
        self.end_activation_at(at);
        Ok(())
    }

    pub(super) fn end_activation_at(&mut self, at: u32) {
        if let Some(activation) = self.register.active.take(at) {
            self.effects.push((self.at, Effect::Deactivated(activation.id.clone())));
            self.undo.push(Undo::Deactivated(activation));
        }
    }

    // -- tenants' own roles --------------------------------------------------------------------

    pub(super) fn tenant_role(&mut self, line: &TenantRoleLine) -> Result<(), String> {
        let tenant = self.reference(&line.tenant, &["tenant"], "tenant")?;
        if !is_key(&line.key) {
            return Err(format!(
                "{:?} is not a key: a to z, 0 to 9 and hyphens, a letter first, at most 64",
                line.key
            ));
        }
        if line.permissions.is_empty() {
            return Err("a tenant's role gives something: permissions is empty".to_owned());
        }
        for policy in self.policies {
            line.permissions.iter().try_for_each(|pattern| fits_tenant_clauses(policy, pattern))?;
        }
        let full = format!("{}/{}", self.register.id_text(tenant), line.key);
        let key = self.register.intern(&full);
        let mut permissions: Vec<Box<str>> =
            line.permissions.iter().map(|text| text.as_str().into()).collect();
        permissions.sort_unstable();
        permissions.dedup();
        let role = MadeRole { tenant, name: line.name.as_deref().map(Into::into), permissions };
        if self.register.made_role(key) != Some(&role) {
            let before = self.register.set_made(key, Some(role));
            self.undo.push(Undo::Made(key, before));
            self.effects.push((self.at, Effect::Made(key)));
        }
        Ok(())
    }

    pub(super) fn end_tenant_role(&mut self, key: &str) -> Result<(), String> {
        let known = self.register.sym(key).filter(|sym| self.register.made_role(*sym).is_some());
        let Some(sym) = known else {
            let known = self.register.made_roles().map(|(key, _)| self.register.text(key));
            return Err(format!("no tenant has made a role {key:?}{}", did_you_mean(key, known)));
        };
        self.end_made(sym);
        Ok(())
    }

    /// Ends a tenant's role and its grants: one made later under the same name is another role.
    pub(super) fn end_made(&mut self, key: Sym) {
        let of_it = |(at, grant): (u32, Grant<'_>)| (grant.role == key).then_some(at);
        let grants: Vec<u32> = self.register.grants.iter().filter_map(of_it).collect();
        for at in grants {
            self.end_grant_at(at);
        }
        let before = self.register.set_made(key, None);
        self.undo.push(Undo::Made(key, before));
        self.effects.push((self.at, Effect::Unmade(key)));
    }
}
