//! What arrives at a thing, and what is held there: by grants, without one, and by relationship.

use super::super::formula::{Bit, Tri};
use super::{Edge, Encoding, ListKey, ThingId, Value};
use crate::charter::model::{Confer, KindId, Role, RoleId, Step};
use crate::charter::syntax::GivenTo;

impl<'p> Encoding<'p> {
    pub fn role(&self, role: RoleId) -> &'p Role {
        &self.policy.model().roles[role.index()]
    }

    /// Whether the subject is of a kind that may hold a role.
    pub fn may_hold(&mut self, role: RoleId) -> Bit {
        let held = self.role(role);
        let (users, services) = (held.held_by_users, held.held_by_services);
        let (user, service) =
            (self.is_kind(self.subject, KindId::USER), self.is_kind(self.subject, KindId::SERVICE));
        let (no, yes) = (self.formula.no(), self.formula.yes());
        let (u, s) = (if users { yes } else { no }, if services { yes } else { no });
        let (user, service) = (self.formula.and(user, u), self.formula.and(service, s));
        self.formula.or(user, service)
    }

    /// Whether a live grant of a role arrives at a thing, and is active if it has to be.
    pub fn granted(&mut self, role: RoleId, at: ThingId) -> Bit {
        if !self.role(role).grantable {
            return self.formula.no();
        }
        let everywhere = self.granted_everywhere(role);
        let around = self.granted_around(role, at);
        // A group of a tenant that holds it everywhere stands for its members only there.
        let by_tenants_group = self.granted_by_tenants_group(role, at);
        let arrives = self.formula.any([everywhere, around, by_tenants_group]);
        let (may, active) = (self.may_hold(role), self.active(role));
        self.formula.all([arrives, may, active])
    }

    fn permits(&self, role: RoleId, place: Option<KindId>) -> bool {
        self.role(role).held_at.as_ref().is_none_or(|held| held.permits(place))
    }

    fn granted_everywhere(&mut self, role: RoleId) -> Bit {
        if !self.permits(role, None) {
            return self.formula.no();
        }
        if let Some(known) = self.everywhere.get(&role) {
            return *known;
        }
        let bit = self.formula.free();
        self.unlikely.push(bit);
        self.everywhere.insert(role, bit);
        bit
    }

    fn granted_by_tenants_group(&mut self, role: RoleId, at: ThingId) -> Bit {
        if !self.permits(role, None) {
            return self.formula.no();
        }
        let tenant = self.child(at, Edge::Tenant);
        if let Some(known) = self.by_group.get(&(role, tenant)) {
            return *known;
        }
        let bit = self.formula.free();
        let there = self.thing(tenant).there;
        self.formula.implies(bit, there);
        self.unlikely.push(bit);
        self.by_group.insert((role, tenant), bit);
        bit
    }

    /// Whether it is granted at the thing, or at one around it that it is not detached from.
    fn granted_around(&mut self, role: RoleId, at: ThingId) -> Bit {
        if let Some(known) = self.chains.get(&(role, at)) {
            return *known;
        }
        let here = self.granted_here(role, at);
        let inner_kinds: Vec<KindId> = self.thing(at).kinds.iter().map(|(kind, _)| *kind).collect();
        let bit = if !self.reaches_place(role, &inner_kinds) {
            here
        } else {
            let outer = self.child(at, Edge::Within);
            let from_outer = if self.thing(outer).depth > self.depth + 3 && self.recurs(&inner_kinds) {
                self.leave_beyond(&format!("grants of {}", self.role(role).key), outer);
                self.formula.free()
            } else {
                self.granted_around(role, outer)
            };
            let (detached, there) = (self.is_detached(at), self.thing(outer).there);
            let inherited = self.formula.all([from_outer, there, !detached]);
            self.formula.or(here, inherited)
        };
        self.chains.insert((role, at), bit);
        bit
    }

    fn granted_here(&mut self, role: RoleId, at: ThingId) -> Bit {
        let kinds = self.thing(at).kinds.clone();
        let permitted: Vec<Bit> =
            kinds.iter().filter(|(kind, _)| self.permits(role, Some(*kind))).map(|(_, is)| *is).collect();
        if permitted.is_empty() {
            return self.formula.no();
        }
        let bit = match self.local.get(&(role, at)) {
            Some(known) => *known,
            None => {
                let bit = self.formula.free();
                self.local.insert((role, at), bit);
                bit
            }
        };
        let (permitted, registered) = (self.formula.any(permitted), self.is_registered(at));
        self.formula.all([bit, permitted, registered])
    }

    /// Whether a grant of the role may stand at something around such kinds.
    fn reaches_place(&self, role: RoleId, kinds: &[KindId]) -> bool {
        self.around(kinds).into_iter().any(|kind| self.permits(role, Some(kind)))
    }

    /// Whether such kinds may lie in each other without end.
    fn recurs(&self, kinds: &[KindId]) -> bool {
        let around = self.around(kinds);
        around.iter().any(|kind| self.around(&[*kind]).contains(kind))
    }

    /// The kinds that may lie around these.
    pub fn around(&self, kinds: &[KindId]) -> Vec<KindId> {
        let model = self.policy.model();
        let mut found: Vec<KindId> = Vec::new();
        let mut waiting = kinds.to_vec();
        while let Some(kind) = waiting.pop() {
            for outer in &model.kinds[kind.index()].within {
                if !found.contains(outer) {
                    found.push(*outer);
                    waiting.push(*outer);
                }
            }
        }
        found
    }

    /// Whether a grant of it counts now: always, or activated while its condition is true.
    fn active(&mut self, role: RoleId) -> Bit {
        let Some(standby) = &self.role(role).standby else { return self.formula.yes() };
        if let Some(known) = self.standing.get(&role) {
            return *known;
        }
        let active = match &standby.when {
            None => self.formula.yes(),
            Some(when) => self.condition(when, self.resource, None).sure,
        };
        self.standing.insert(role, active);
        active
    }

    /// Whether a role arrives without a grant.
    pub fn given(&mut self, role: RoleId, at: ThingId) -> Bit {
        let anonymous = !self.thing(self.subject).there;
        match self.role(role).given_to {
            None => self.formula.no(),
            Some(GivenTo::Anyone) => {
                let may = self.may_hold(role);
                self.formula.or(anonymous, may)
            }
            Some(GivenTo::SignedIn) => self.may_hold(role),
            Some(GivenTo::Members) => {
                let (may, member) = (self.may_hold(role), self.is_member_at(at));
                self.formula.and(may, member)
            }
        }
    }

    /// Whether the subject is a member of a thing's tenant.
    pub fn is_member_at(&mut self, at: ThingId) -> Bit {
        let tenant = self.child(at, Edge::Tenant);
        if let Some(known) = self.of_tenant.get(&tenant) {
            return *known;
        }
        let bit = self.formula.free();
        let (there, somebody) = (self.thing(tenant).there, self.thing(self.subject).there);
        self.formula.implies(bit, there);
        self.formula.implies(bit, somebody);
        self.of_tenant.insert(tenant, bit);
        bit
    }

    /// Whether a role is held at a thing: it arrives, or one that includes it does.
    pub fn holds(&mut self, role: RoleId, at: ThingId) -> Tri {
        let mut held = Tri::plain(self.formula.no());
        for outer in (0..self.policy.model().roles.len()).map(RoleId::at) {
            if self.policy.includes(outer, role) {
                let arrives = self.arrives(outer, at);
                held = self.formula.or3(held, arrives);
            }
        }
        held
    }

    /// Whether a role arrives at a thing, one way or another.
    pub fn arrives(&mut self, role: RoleId, at: ThingId) -> Tri {
        let (granted, given) = (self.granted(role, at), self.given(role, at));
        let plain = self.formula.or(granted, given);
        let conferred = self.conferred(role, at);
        self.formula.or3(Tri::plain(plain), conferred)
    }

    /// Whether relationships confer a role at a thing.
    pub fn conferred(&mut self, role: RoleId, at: ThingId) -> Tri {
        if let Some(known) = self.conferrals.get(&(role, at)) {
            return *known;
        }
        let model = self.policy.model();
        let kinds: Vec<KindId> = self.thing(at).kinds.iter().map(|(kind, _)| *kind).collect();
        let confers = |kind: &KindId| self.policy.confers_of(*kind).any(|(_, confer)| confer.role == role);
        let from_around = self.around(&kinds).iter().any(confers);
        let none = Tri::plain(self.formula.no());
        if !self.policy.is_conferred(role) || (!from_around && !kinds.iter().any(confers)) {
            return none;
        }
        let value = if self.thing(at).depth > self.depth {
            // Too many steps away to tell apart: it may be anything.
            self.leave_beyond(&format!("whether {} comes by relationship", self.role(role).key), at);
            self.formula.free_tri()
        } else {
            let mut value = none;
            if from_around {
                let outer = self.child(at, Edge::Within);
                let of_outer = self.conferred(role, outer);
                let (detached, there) = (self.is_detached(at), self.thing(outer).there);
                let passes = self.formula.and(!detached, there);
                let inherited = self.formula.and3(of_outer, Tri::plain(passes));
                value = self.formula.or3(value, inherited);
            }
            for (kind, is) in self.thing(at).kinds.clone() {
                for at_confer in model.kinds[kind.index()].confers.clone() {
                    let confer = &model.confers[at_confer as usize];
                    if confer.role == role {
                        let one = self.confer(confer, at);
                        let one = self.formula.and3(one, Tri::plain(is));
                        value = self.formula.or3(value, one);
                    }
                }
            }
            value
        };
        let may_hold = self.may_hold(role);
        let value = self.formula.and3(value, Tri::plain(may_hold));
        // Beyond the bound on what one decision depends on, none of it is known.
        let open = self.formula.and(self.too_many, may_hold);
        let value =
            Tri { sure: self.formula.and(value.sure, !self.too_many), may: self.formula.or(value.may, open) };
        self.conferrals.insert((role, at), value);
        value
    }

    fn confer(&mut self, confer: &Confer, at: ThingId) -> Tri {
        let when = match &confer.when {
            None => Tri::plain(self.formula.yes()),
            Some(when) => self.condition(when, at, None),
        };
        let to = self.at_the_end(confer, at);
        self.formula.and3(when, to)
    }

    /// Whether the subject stands, or holds the other role, at the end of the path.
    fn at_the_end(&mut self, confer: &Confer, at: ThingId) -> Tri {
        let (before, rest) = self.split(at, &confer.path.steps);
        let mut thing = at;
        // Where the path would lead out of what is detached, it ends; where a step is missing, it is
        // open.
        let mut cut = self.formula.no();
        for step in before {
            if *step == Step::Within && !confer.through_detached {
                let detached = self.is_detached(thing);
                let here = self.thing(thing).there;
                let stops = self.formula.and(detached, here);
                cut = self.formula.or(cut, stops);
            }
            thing = match step {
                Step::Within => self.child(thing, Edge::Within),
                Step::Tenant => self.child(thing, Edge::Tenant),
                Step::Relation(name) => self.child(thing, Edge::Relation(*name)),
                _ => return self.formula.free_tri(),
            };
        }
        let found = if rest.is_empty() {
            let there = self.thing(thing).there;
            let held = match confer.holds {
                None => Tri::plain(self.is_or_in(thing)),
                Some(role) => self.holds(role, thing),
            };
            Tri { sure: self.formula.and(there, held.sure), may: self.formula.or(!there, held.may) }
        } else {
            self.at_many_ends(confer, thing, rest)
        };
        self.formula.and3(found, Tri::plain(!cut))
    }

    fn at_many_ends(&mut self, confer: &Confer, thing: ThingId, rest: &[Step]) -> Tri {
        // A condition's path leads on out of what is detached, this one need not.
        let list = match rest {
            [_] => self.path_list(thing, rest),
            _ => self.list(ListKey::Ends(thing, rest.into())),
        };
        let whole = self.lists[list].1.whole;
        let kinds = self.kinds_after(thing, rest);
        match confer.holds {
            None => {
                let among = self.among_list(list, &kinds);
                Tri { sure: among, may: self.formula.or(!whole, among) }
            }
            Some(role) => {
                // One end where it is surely held, and one where it possibly is, if there are any.
                let ends = [0, 1].map(|n| self.child(thing, Edge::End(rest.into(), n)));
                for end in ends {
                    let member = self.member(list, Value::Thing(end));
                    let there = self.thing(end).there;
                    self.formula.implies(there, member);
                }
                let (first, second) = (self.holds(role, ends[0]), self.holds(role, ends[1]));
                let (here, there) = (self.thing(ends[0]).there, self.thing(ends[1]).there);
                let sure = self.formula.and(here, first.sure);
                let possible = self.formula.and(there, second.may);
                let open = self.formula.or(!whole, possible);
                Tri { sure, may: self.formula.or(sure, open) }
            }
        }
    }
}
