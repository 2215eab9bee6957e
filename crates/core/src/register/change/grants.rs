//! Grants, their activations, and the roles tenants make.

use super::*;

/// How many ids are looked through for one that is near: more would take long.
const NEAR_AMONG: usize = 10_000;

impl Batch<'_, '_> {
    pub(super) fn grant(&mut self, line: &GrantLine) -> Result<(), Wrong> {
        let to = self.found(&line.to)?;
        let at = match line.at.as_str() {
            "everywhere" => PlaceOf::Everywhere,
            place => PlaceOf::At(self.found(place)?),
        };
        in_order(line.from, line.until)?;
        let holder = self.register.text(self.register.kind(to)).to_owned();
        if !matches!(holder.as_str(), "user" | "service" | "group") {
            return Err(Wrong::NoHolder(line.to.as_str().into()));
        }
        let place = match at {
            PlaceOf::Everywhere => None,
            PlaceOf::At(id) => Some(self.register.text(self.register.kind(id)).to_owned()),
        };
        if matches!(place.as_deref(), Some("user" | "service" | "group")) {
            return Err(Wrong::NoPlace(line.at.as_str().into()));
        }
        if line.role.contains('/') {
            self.fits_made(line, &holder)?;
        } else {
            if !is_key(&line.role) {
                return Err(Wrong::NotAKey(line.role.as_str().into()));
            }
            let all = self.declared("", |policy| declared_role(policy, &line.role))?;
            for (policy, declared) in all {
                fits_role(policy, declared, line, &holder, place.as_deref())?;
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
            return Err(Wrong::Same { id: same.id.to_string().into() });
        }
        self.add_grant(grant)
    }

    fn add_grant(&mut self, mut grant: OwnGrant) -> Result<(), Wrong> {
        if grant.id.is_empty() {
            while self.register.grants.find(&format!("g-{}", self.register.next.grant)).is_some() {
                self.register.next.grant += 1;
            }
            grant.id = format!("g-{}", self.register.next.grant).into();
        } else if self.register.grants.find(&grant.id).is_some() {
            return Err(Wrong::IdTaken { what: "grant", id: grant.id });
        } else if !is_id(&grant.id) {
            return Err(Wrong::NoId { what: "a grant", id: grant.id });
        }
        let id = grant.id.clone();
        self.parted.push((grant.to, self.at));
        let at = self.register.add_grant(grant);
        self.undo.push(Undo::Granted(at));
        self.touch(Thing::Grant(id));
        Ok(())
    }

    pub(super) fn end_grant(&mut self, id: &str) -> Result<(), Wrong> {
        let at = self.grant_at(id)?;
        self.end_grant_at(at);
        Ok(())
    }

    pub(super) fn end_grant_at(&mut self, at: u32) {
        for activation in self.register.active.numbers_of_grant(at).to_vec() {
            self.aside(|batch| batch.end_activation_at(activation));
        }
        if let Some(grant) = self.register.take_grant(at) {
            self.touch(Thing::Grant(grant.id.clone()));
            self.undo.push(Undo::Ended(at, grant));
        }
    }

    /// A grant of a role that a tenant made.
    fn fits_made(&self, line: &GrantLine, holder: &str) -> Result<(), Wrong> {
        self.made(&line.role)?;
        let role = line.role.as_str().into();
        if holder == "service" {
            return Err(Wrong::MadeForUsers { role });
        }
        if !line.values.is_empty() {
            return Err(Wrong::MadeWithoutValues { role });
        }
        Ok(())
    }

    /// A role that a tenant made, by its name.
    fn made(&self, name: &str) -> Result<Sym, Wrong> {
        let seen = |role: &MadeRole| self.sees(role.tenant);
        let known = self.register.sym(name).filter(|key| self.register.made_role(*key).is_some_and(seen));
        known.ok_or_else(|| {
            let all = self.register.made_roles().filter(|(_, role)| seen(role));
            let near = Near::of(name, all.take(NEAR_AMONG).map(|(key, _)| self.register.text(key)));
            Wrong::NotMade { role: name.into(), near }
        })
    }

    // -- activations ---------------------------------------------------------------------------

    pub(super) fn activate(&mut self, line: &ActivationLine) -> Result<(), Wrong> {
        let at = self.grant_at(&line.grant)?;
        let subject = self.found(&line.subject)?;
        let grant = self.register.grant(at).ok_or_else(|| Wrong::NoSuch {
            what: "grant",
            id: line.grant.as_str().into(),
            near: Near::default(),
        })?;
        if !matches!(self.register.kind(subject), Sym::USER | Sym::SERVICE) {
            return Err(Wrong::NotForWhom(line.subject.as_str().into()));
        }
        // Without a charter, as in samples, memberships may be stated later.
        let checked = !self.checks.policies.is_empty();
        if checked && !self.register.holders_of(subject).contains(&grant.to) {
            return Err(Wrong::GivenToAnother {
                grant: line.grant.as_str().into(),
                holder: self.register.name(grant.to).into(),
                subject: line.subject.as_str().into(),
            });
        }
        let role = self.register.text(grant.role).to_owned();
        let until = self.until(line, &role)?;
        in_order(line.from, until)?;
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
            return Err(Wrong::Same { id: same.id.clone() });
        }
        if activation.id.is_empty() {
            let next = |register: &Register| format!("a-{}", register.next.activation);
            while self.register.active.find(&next(self.register)).is_some() {
                self.register.next.activation += 1;
            }
            activation.id = next(self.register).into();
        } else if self.register.active.find(&activation.id).is_some() {
            return Err(Wrong::IdTaken { what: "activation", id: activation.id });
        } else if !is_id(&activation.id) {
            return Err(Wrong::NoId { what: "an activation", id: activation.id });
        }
        let id = activation.id.clone();
        let at = self.register.add_activation(activation);
        self.undo.push(Undo::Activated(at));
        self.touch(Thing::Activation(id));
        Ok(())
    }

    /// When an activation ends, if its role's terms are kept.
    fn until(&mut self, line: &ActivationLine, key: &str) -> Result<Option<Timestamp>, Wrong> {
        let mut until = line.until;
        let role = || key.into();
        let all = self.declared("", |policy| declared_role(policy, key));
        for (_, declared) in all.map_err(|_| Wrong::NotOnStandby { role: role() })? {
            let standby = declared.standby.as_ref().ok_or_else(|| Wrong::NotOnStandby { role: role() })?;
            if line.assumed {
                continue;
            }
            if standby.reason && line.reason.as_deref().is_none_or(|reason| reason.trim().is_empty()) {
                return Err(Wrong::NeedsReason { role: role() });
            }
            until = until.or(line.from.and_then(|from| from.checked_add(standby.longest).ok()));
            if let (Some(from), Some(until)) = (line.from, until)
                && from.checked_add(standby.longest).is_ok_and(|longest| longest < until)
            {
                let longest = crate::value::Value::Duration(standby.longest).to_string().into();
                return Err(Wrong::TooLong { role: role(), longest });
            }
        }
        if until.is_none() && !line.assumed {
            return Err(Wrong::NeedsEnd);
        }
        Ok(until)
    }

    /// A grant by its id, if it may be named.
    pub(super) fn grant_at(&self, id: &str) -> Result<u32, Wrong> {
        let sight = self.checks.sight;
        let seen =
            |at: &u32| self.register.grant(*at).is_some_and(|grant| sight.reads_grant(self.register, &grant));
        self.register.grant_place(id).filter(seen).ok_or_else(|| {
            let known: Vec<String> = match sight {
                Sight::Everything => {
                    self.register.all_grants().take(NEAR_AMONG).map(|grant| grant.id.to_string()).collect()
                }
                Sight::Tenants(_) => Vec::new(),
            };
            let near = Near::of(id, known.iter().map(String::as_str));
            Wrong::NoSuch { what: "grant", id: id.into(), near }
        })
    }

    pub(super) fn end_activation(&mut self, id: &str) -> Result<(), Wrong> {
        let sight = self.checks.sight;
        let seen = |at: &u32| {
            let grant = self.register.active.get(*at).and_then(|of| self.register.grant(of.grant));
            grant.is_some_and(|grant| sight.reads_grant(self.register, &grant))
        };
        let at = self.register.active.find(id).filter(seen).ok_or_else(|| {
            let known = self.register.active.ids().take(if sight.is_everything() { NEAR_AMONG } else { 0 });
            Wrong::NoSuch { what: "activation", id: id.into(), near: Near::of(id, known) }
        })?;
        self.end_activation_at(at);
        Ok(())
    }

    pub(super) fn end_activation_at(&mut self, at: u32) {
        if let Some(activation) = self.register.active.take(at) {
            self.touch(Thing::Activation(activation.id.clone()));
            self.undo.push(Undo::Deactivated(activation));
        }
    }

    // -- tenants' own roles --------------------------------------------------------------------

    pub(super) fn tenant_role(&mut self, line: &TenantRoleLine) -> Result<(), Wrong> {
        let tenant = self.reference(&line.tenant, &["tenant"], "tenant")?;
        if !is_key(&line.key) {
            return Err(Wrong::NotARoleKey(line.key.as_str().into()));
        }
        if line.permissions.is_empty() {
            return Err(Wrong::GivesNothing);
        }
        for pattern in &line.permissions {
            let kind = pattern.split(':').next().unwrap_or_default();
            for (policy, permissions) in
                self.declared(kind, |policy| declared_permissions(policy, pattern))?
            {
                for_tenants(policy, &permissions)?;
            }
        }
        let full = made_role_name(self.register.id_text(tenant), &line.key);
        let key = self.register.intern(&full);
        let mut permissions: Vec<Box<str>> =
            line.permissions.iter().map(|text| text.as_str().into()).collect();
        permissions.sort_unstable();
        permissions.dedup();
        let role = MadeRole { tenant, name: line.name.as_deref().map(Into::into), permissions };
        if self.register.made_role(key) != Some(&role) {
            let before = self.register.set_made(key, Some(role));
            self.undo.push(Undo::Made(key, before));
            self.touch(Thing::Made(key));
        }
        Ok(())
    }

    pub(super) fn end_tenant_role(&mut self, name: &str) -> Result<(), Wrong> {
        let key = self.made(name)?;
        self.end_made(key);
        Ok(())
    }

    /// Ends a tenant's role and its grants: one made later under the same name is another role.
    pub(super) fn end_made(&mut self, key: Sym) {
        let of_it = |(at, grant): (u32, Grant<'_>)| (grant.role == key).then_some(at);
        let grants: Vec<u32> = self.register.grants.iter().filter_map(of_it).collect();
        for at in grants {
            self.aside(|batch| batch.end_grant_at(at));
        }
        let before = self.register.set_made(key, None);
        self.undo.push(Undo::Made(key, before));
        self.touch(Thing::Made(key));
    }
}

fn in_order(from: Option<Timestamp>, until: Option<Timestamp>) -> Result<(), Wrong> {
    match (from, until) {
        (Some(from), Some(until)) if from >= until => Err(Wrong::EndsBeforeItBegins { from, until }),
        _ => Ok(()),
    }
}
