//! What must hold of the register as a whole after a batch: no loops, no walk too long, nobody with
//! both roles of a separation.

use super::*;
use crate::charter::model::RoleId;

impl Batch<'_, '_> {
    /// Loops and depth, for everything that was moved.
    pub(super) fn shape(&self) -> Vec<Refusal> {
        let mut refusals = Vec::new();
        for (id, change) in &self.moved {
            if self.register.state(*id) == State::Deleted {
                continue;
            }
            if let Err(message) = self.containment(*id).and_then(|()| self.nesting(*id)) {
                refusals.push(Refusal { change: *change, message });
            }
        }
        if refusals.is_empty() {
            refusals.extend(self.separations());
        }
        refusals
    }

    // -- separations ---------------------------------------------------------------------------

    /// Who may hold more than before, or at places that lie otherwise than before, and would hold
    /// both roles of a separation by grants that have not ended.
    fn separations(&self) -> Vec<Refusal> {
        let mut refusals = Vec::new();
        if self.policies.iter().all(|policy| policy.model().separations.is_empty()) {
            return refusals;
        }
        let mut changed: Vec<(EntityId, usize)> = self.parted.clone();
        for (id, change) in &self.moved {
            let mut inside = vec![*id];
            while let Some(next) = inside.pop() {
                let grants = self.register.grants_at(next).iter();
                changed.extend(grants.filter_map(|at| Some((self.register.grant(*at)?.to, *change))));
                inside.extend_from_slice(self.register.contents(next));
            }
        }
        let mut seen = HashSet::new();
        for (holder, change) in changed {
            if self.register.state(holder) == State::Deleted {
                continue;
            }
            for subject in self.register.subjects_of(holder) {
                if seen.insert(subject)
                    && let Err(message) = self.separated(subject)
                {
                    refusals.push(Refusal { change, message });
                }
            }
        }
        refusals
    }

    fn separated(&self, subject: EntityId) -> Result<(), String> {
        let register = &self.register;
        let holders = register.holders_of(subject);
        let grants: Vec<Grant<'_>> = holders
            .iter()
            .flat_map(|holder| register.grants_to(*holder))
            .map(|(_, grant)| grant)
            .filter(|grant| grant.terms.until.zip(self.now).is_none_or(|(until, now)| now < until))
            .collect();
        for policy in self.policies {
            let roles: Vec<_> = grants.iter().map(|grant| policy.role(register.text(grant.role))).collect();
            for separation in &policy.model().separations {
                for (at, first) in grants.iter().enumerate() {
                    let Some(a) = self.separated_role(policy, &separation.roles, roles[at]) else { continue };
                    for (second, role) in grants.iter().zip(&roles) {
                        let Some(b) = self.separated_role(policy, &separation.roles, *role) else { continue };
                        if a < b && (self.contains(first.at, second.at) || self.contains(second.at, first.at))
                        {
                            let key = |role: RoleId| &policy.model().roles[role.index()].key;
                            return Err(format!(
                                "{} would hold {:?} by {} and {:?} by {}, which the separation {:?} forbids",
                                register.name(subject),
                                key(a),
                                first.id,
                                key(b),
                                second.id,
                                separation.key
                            ));
                        }
                    }
                }
            }
        }
        Ok(())
    }

    /// The role of a separation that holding another one means to hold. One role cannot mean two
    /// of them: the charter would be refused.
    fn separated_role(&self, policy: &Policy, roles: &[RoleId], held: Option<RoleId>) -> Option<RoleId> {
        roles.iter().copied().find(|role| held.is_some_and(|held| policy.includes(held, *role)))
    }

    /// Whether one place is the other, or the other lies within it.
    fn contains(&self, outer: PlaceOf, inner: PlaceOf) -> bool {
        let (PlaceOf::At(outer), PlaceOf::At(inner)) = (outer, inner) else {
            return outer == PlaceOf::Everywhere;
        };
        let mut at = Some(inner);
        while let Some(id) = at {
            if id == outer {
                return true;
            }
            at = self.register.within(id);
        }
        false
    }

    // -- loops and depth -----------------------------------------------------------------------

    pub(super) fn containment(&self, id: EntityId) -> Result<(), String> {
        let register = &self.register;
        let mut above = 0;
        let mut at = id;
        while let Some(outer) = register.within(at) {
            above += 1;
            if outer == id {
                return Err(format!("{} would lie within itself", register.name(id)));
            }
            if above > MAX_CONTAINMENT {
                return Err(format!(
                    "{} would lie more than {MAX_CONTAINMENT} deep, or in a circle",
                    register.name(id)
                ));
            }
            at = outer;
        }
        let mut level = vec![id];
        for below in 0.. {
            if above + below > MAX_CONTAINMENT {
                return Err(format!(
                    "what lies within {} would lie more than {MAX_CONTAINMENT} deep",
                    register.name(id)
                ));
            }
            level = level.iter().flat_map(|id| register.contents(*id).iter().copied()).collect();
            if level.is_empty() {
                break;
            }
        }
        Ok(())
    }

    pub(super) fn nesting(&self, id: EntityId) -> Result<(), String> {
        let register = &self.register;
        if register.kind(id) != Sym::GROUP {
            return Ok(());
        }
        let groups_in = |id: &EntityId| {
            let members = register.members(*id).iter().copied();
            members.filter(|member| register.kind(*member) == Sym::GROUP).collect::<Vec<_>>()
        };
        let groups_of = |id: &EntityId| register.groups(*id).to_vec();
        let mut total = 1;
        for step in [&groups_of as &dyn Fn(&EntityId) -> Vec<EntityId>, &groups_in] {
            let mut level = vec![id];
            loop {
                let mut next: Vec<EntityId> = level.iter().flat_map(step).collect();
                next.sort_unstable();
                next.dedup();
                if next.contains(&id) {
                    return Err(format!("{} would be a member of itself", register.name(id)));
                }
                if next.is_empty() {
                    break;
                }
                total += 1;
                if total > MAX_NESTING {
                    return Err(format!(
                        "{} would stand in groups more than {MAX_NESTING} deep",
                        register.name(id)
                    ));
                }
                level = next;
            }
        }
        Ok(())
    }
}
