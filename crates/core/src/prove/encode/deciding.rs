//! The answer: deny rules above candidates, candidates from arriving roles and allow rules.

use super::super::formula::{Bit, Tri};
use super::things::ThingId;
use super::{Edge, Encoding};
use crate::charter::model::{KindId, PermId, RoleId};

impl<'p> Encoding<'p> {
    /// Whether a permission is allowed.
    pub fn allowed(&mut self, permission: PermId) -> Bit {
        let (denied, candidate) = (self.denied(permission), self.candidate(permission));
        self.formula.and(candidate, !denied)
    }

    /// A deny rule whose condition is true or undetermined.
    fn denied(&mut self, permission: PermId) -> Bit {
        let mut denied = self.formula.no();
        for rule in self.policy.denies(permission) {
            let applies = match &self.policy.model().rules[rule.index()].when {
                None => self.formula.yes(),
                Some(when) => self.condition(when, self.resource, None).may,
            };
            denied = self.formula.or(denied, applies);
        }
        denied
    }

    fn candidate(&mut self, permission: PermId) -> Bit {
        let by_role = self.by_role(permission);
        let by_rule = self.by_rule(permission);
        let by_made = self.by_tenants_role(permission);
        self.formula.any([by_role, by_rule, by_made])
    }

    fn by_role(&mut self, permission: PermId) -> Bit {
        let mut found = self.formula.no();
        for role in (0..self.policy.model().roles.len()).map(RoleId::at) {
            if !self.policy.may_give(role, permission) {
                continue;
            }
            let granted = self.granted(role, self.resource);
            let gives = self.gives(role, permission, Some(role)).sure;
            let by_grant = self.formula.and(granted, gives);
            let given = self.given(role, self.resource);
            let conferred = self.conferred(role, self.resource).sure;
            let without = self.formula.or(given, conferred);
            let gives =
                if without == self.formula.no() { without } else { self.gives(role, permission, None).sure };
            let without = self.formula.and(without, gives);
            let arrives = self.formula.or(by_grant, without);
            let taken = self.taken(role);
            let counts = self.formula.and(arrives, !taken);
            found = self.formula.or(found, counts);
        }
        found
    }

    /// Whether a role includes one that is separated from another the subject possibly holds here,
    /// itself possibly held.
    fn taken(&mut self, role: RoleId) -> Bit {
        let mut taken = self.formula.no();
        for separation in &self.policy.model().separations {
            for (n, a) in separation.roles.iter().enumerate() {
                for b in &separation.roles[n + 1..] {
                    if self.policy.includes(role, *a) || self.policy.includes(role, *b) {
                        let (a, b) = (self.holds(*a, self.resource).may, self.holds(*b, self.resource).may);
                        let both = self.formula.and(a, b);
                        taken = self.formula.or(taken, both);
                    }
                }
            }
        }
        taken
    }

    /// Whether an arriving role gives a permission; `grant` is the role whose grant is at hand.
    fn gives(&mut self, role: RoleId, permission: PermId, grant: Option<RoleId>) -> Tri {
        let no = Tri::plain(self.formula.no());
        if !self.policy.may_give(role, permission) {
            return no;
        }
        let written = self.role(role);
        let mut found = Tri::plain(self.formula.constant(written.permissions.contains(&permission)));
        for clause in written.clauses.iter().filter(|clause| clause.permissions.contains(&permission)) {
            let when = self.condition(&clause.when, self.resource, grant);
            found = self.formula.or3(found, when);
        }
        for inner in &written.includes {
            let inner = self.gives(*inner, permission, grant);
            found = self.formula.or3(found, inner);
        }
        match &written.when {
            None => found,
            Some(when) => {
                let when = self.condition(when, self.resource, grant);
                self.formula.and3(when, found)
            }
        }
    }

    fn by_rule(&mut self, permission: PermId) -> Bit {
        let mut found = self.formula.no();
        let kind = self.policy.model().permissions[permission.index()].kind;
        let lies_nowhere = self.policy.model().kinds[kind.index()].within.is_empty();
        for rule in self.policy.allows(permission) {
            let rule = &self.policy.model().rules[rule.index()];
            // An allow rule always has a condition; without one it would open nothing.
            let Some(when) = &rule.when else { continue };
            let somebody = self.thing(self.subject).there;
            let fits = if rule.for_anyone { self.formula.yes() } else { somebody };
            let sealed = if rule.across_tenants || lies_nowhere {
                self.formula.yes()
            } else {
                let member = self.is_member_at(self.resource);
                let of_none = self.has_no_tenant(self.resource);
                self.formula.or(member, of_none)
            };
            let when = self.condition(when, self.resource, None).sure;
            let allows = self.formula.all([fits, sealed, when]);
            found = self.formula.or(found, allows);
        }
        found
    }

    /// Whether something lies in what has no tenant: where it lies in nothing, but should, that is unknown.
    fn has_no_tenant(&mut self, thing: ThingId) -> Bit {
        let (outer, tenant) = (self.child(thing, Edge::Within), self.child(thing, Edge::Tenant));
        let (lies, there) = (self.thing(outer).there, self.thing(tenant).there);
        self.formula.and(lies, !there)
    }

    /// A role that the resource's tenant made for its users.
    fn by_tenants_role(&mut self, permission: PermId) -> Bit {
        if self.policy.tenant_clauses(permission).is_empty() {
            return self.formula.no();
        }
        let made = self.formula.free();
        let tenant = self.child(self.resource, Edge::Tenant);
        let there = self.thing(tenant).there;
        let user = self.is_kind(self.subject, KindId::USER);
        self.formula.implies(made, there);
        self.formula.implies(made, user);
        self.unlikely.push(made);
        self.made.push((permission, made));
        let mut guarded = self.formula.no();
        for clause in self.policy.tenant_clauses(permission) {
            let when = match &self.policy.model().tenant_clauses[*clause as usize].when {
                None => self.formula.yes(),
                Some(when) => self.condition(when, self.resource, None).sure,
            };
            guarded = self.formula.or(guarded, when);
        }
        self.formula.and(made, guarded)
    }
}
