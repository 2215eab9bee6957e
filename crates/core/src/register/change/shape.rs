//! What must hold of the register as a whole after a batch: no loops, no walk too long, nobody with
//! both roles of a separation.

use super::*;
use crate::charter::model::RoleId;
use std::collections::BTreeMap;

/// A role of a separation, and a grant by which it is held.
type Held<'g, 'r> = (RoleId, &'g Grant<'r>);

impl Batch<'_, '_> {
    /// Loops and depth, for everything that was moved.
    pub(super) fn shape(&self) -> Vec<Refusal> {
        let mut refusals = Vec::new();
        for (id, change) in &self.moved {
            if self.register.state(*id) == State::Deleted {
                continue;
            }
            if let Err(why) = self.containment(*id).and_then(|()| self.nesting(*id)) {
                refusals.push(Refusal { change: *change, why });
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
        if self.checks.policies.iter().all(|policy| policy.model().separations.is_empty()) {
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
                    && let Err(why) = self.separated(subject)
                {
                    refusals.push(Refusal { change, why });
                }
            }
        }
        refusals
    }

    /// Whether somebody would hold two roles of a separation. Costs a look at each grant to them, and a
    /// sort of those that count for a separation.
    fn separated(&self, subject: EntityId) -> Result<(), Wrong> {
        let register = &self.register;
        let holders = register.holders_of(subject);
        let grants: Vec<Grant<'_>> = holders
            .iter()
            .flat_map(|holder| register.grants_to(*holder))
            .map(|(_, grant)| grant)
            .filter(|grant| grant.terms.until.zip(self.checks.now).is_none_or(|(until, now)| now < until))
            .collect();
        for policy in self.checks.policies {
            for separation in &policy.model().separations {
                let held = grants.iter().filter_map(|grant| {
                    let role = policy.role(register.text(grant.role))?;
                    Some((self.separated_role(policy, &separation.roles, role)?, grant))
                });
                if let Some(((a, first), (b, second))) = self.both(held) {
                    let key = |role: RoleId| policy.model().roles[role.index()].key.as_str().into();
                    return Err(Wrong::Separated {
                        subject: register.name(subject).into(),
                        first: key(a),
                        by_first: self.called(first),
                        second: key(b),
                        by_second: self.called(second),
                        separation: separation.key.as_str().into(),
                    });
                }
            }
        }
        Ok(())
    }

    /// Two grants of different roles at one place, or at two of which one contains the other. By place,
    /// the first grant of each role is enough.
    fn both<'g, 'r: 'g>(
        &self,
        held: impl Iterator<Item = (RoleId, &'g Grant<'r>)>,
    ) -> Option<(Held<'g, 'r>, Held<'g, 'r>)> {
        let mut by_place: BTreeMap<Option<EntityId>, Vec<Held<'g, 'r>>> = BTreeMap::new();
        for (role, grant) in held {
            let place = match grant.at {
                PlaceOf::Everywhere => None,
                PlaceOf::At(id) => Some(id),
            };
            let here = by_place.entry(place).or_default();
            if !here.iter().any(|(known, _)| *known == role) {
                here.push((role, grant));
            }
        }
        for (place, here) in &by_place {
            let outer = std::iter::successors(*place, |id| self.register.within(*id)).map(Some);
            let around = outer.chain([None]);
            for other in around.filter_map(|at| by_place.get(&at)).flatten() {
                if let Some(one) = here.iter().find(|(role, _)| *role != other.0) {
                    let two = [*one, *other];
                    let (a, b) = if two[0].0 < two[1].0 { (two[0], two[1]) } else { (two[1], two[0]) };
                    return Some((a, b));
                }
            }
        }
        None
    }

    /// The id of a grant, for those who may read it.
    fn called(&self, grant: &Grant<'_>) -> Box<str> {
        match self.checks.sight.reads_grant(self.register, grant) {
            true => grant.id.to_string().into(),
            false => "another grant".into(),
        }
    }

    /// The role of a separation that holding another one means to hold. One role cannot mean two
    /// of them: the charter would be refused.
    fn separated_role(&self, policy: &Policy, roles: &[RoleId], held: RoleId) -> Option<RoleId> {
        roles.iter().copied().find(|role| policy.includes(held, *role))
    }

    // -- loops and depth -----------------------------------------------------------------------

    fn containment(&self, id: EntityId) -> Result<(), Wrong> {
        let register = &self.register;
        let name = || register.name(id).into();
        let mut above = 0;
        let mut at = id;
        while let Some(outer) = register.within(at) {
            above += 1;
            if outer == id {
                return Err(Wrong::WithinItself { name: name() });
            }
            if above > MAX_CONTAINMENT {
                return Err(Wrong::TooDeep { name: name() });
            }
            at = outer;
        }
        let mut level = vec![id];
        for below in 0.. {
            if above + below > MAX_CONTAINMENT {
                return Err(Wrong::ContentsTooDeep { name: name() });
            }
            level = level.iter().flat_map(|id| register.contents(*id).iter().copied()).collect();
            if level.is_empty() {
                break;
            }
        }
        Ok(())
    }

    fn nesting(&self, id: EntityId) -> Result<(), Wrong> {
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
                    return Err(Wrong::MemberOfItself { name: register.name(id).into() });
                }
                if next.is_empty() {
                    break;
                }
                total += 1;
                if total > MAX_NESTING {
                    return Err(Wrong::NestedTooDeep { name: register.name(id).into() });
                }
                level = next;
            }
        }
        Ok(())
    }
}
