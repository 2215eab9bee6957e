//! Whose facts somebody sees: what is looked for is looked for among those only, so that what is not
//! theirs and what is not there answer alike.

use super::{EntityId, Grant, PlaceOf, Register, State, Sym};
use std::collections::BTreeSet;

/// Whose facts are seen.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Sight {
    /// All.
    #[default]
    Everything,
    /// What lies in these tenants.
    Tenants(BTreeSet<EntityId>),
}

impl Sight {
    /// Whether that is everything.
    pub fn is_everything(&self) -> bool {
        matches!(self, Sight::Everything)
    }

    /// Whether an entity may be named: what may be read; users and services, who lie in no tenant; and
    /// what else lies in none. What lies in another tenant may not.
    pub fn names(&self, register: &Register, id: EntityId) -> bool {
        let Sight::Tenants(tenants) = self else { return true };
        // Of what is deleted it is not known any more where it lay.
        register.state(id) != State::Deleted
            && register.tenant_of(id).is_none_or(|tenant| tenants.contains(&tenant))
    }

    /// Whether what is said of an entity may be read: of what lies in one of the tenants, of its groups,
    /// and of its members.
    pub fn reads(&self, register: &Register, id: EntityId) -> bool {
        let Sight::Tenants(tenants) = self else { return true };
        match register.kind(id) {
            Sym::USER | Sym::SERVICE => register.tenants(id).iter().any(|tenant| tenants.contains(tenant)),
            _ => register.tenant_of(id).is_some_and(|tenant| tenants.contains(&tenant)),
        }
    }

    /// Whether a grant may be read: where its place may.
    pub fn reads_grant(&self, register: &Register, grant: &Grant<'_>) -> bool {
        match grant.at {
            PlaceOf::Everywhere => self.is_everything(),
            PlaceOf::At(place) => self.reads(register, place),
        }
    }

    /// Everything that may be read, each once, without looking at anything else: of one tenant first
    /// itself, then what lies in it, its groups, and its members.
    pub fn all<'r>(&'r self, register: &'r Register) -> Box<dyn Iterator<Item = EntityId> + 'r> {
        let Sight::Tenants(tenants) = self else { return Box::new(register.all_entities()) };
        let mut seen = BTreeSet::new();
        let each = tenants.iter().flat_map(|tenant| {
            let of = register.named_by(*tenant).iter().copied();
            let of = of.filter(|id| {
                let groups = register.kind(*id) == Sym::GROUP && register.group_tenant(*id) == Some(*tenant);
                groups || register.tenants(*id).contains(tenant)
            });
            Inside { register, waiting: vec![*tenant] }.chain(of)
        });
        // A member of two of the tenants is met twice.
        let one = tenants.len() == 1;
        Box::new(each.filter(move |id| one || seen.insert(*id)))
    }
}

/// What lies within something, itself first.
struct Inside<'r> {
    register: &'r Register,
    waiting: Vec<EntityId>,
}

impl Iterator for Inside<'_> {
    type Item = EntityId;

    fn next(&mut self) -> Option<EntityId> {
        let next = self.waiting.pop()?;
        self.waiting.extend_from_slice(self.register.contents(next));
        Some(next)
    }
}

impl Register {
    /// The tenant at the end of what an entity lies in: a group's, a resource's, a tenant itself; users
    /// and services have memberships, not a tenant.
    pub fn tenant_of(&self, id: EntityId) -> Option<EntityId> {
        match self.kind(id) {
            Sym::USER | Sym::SERVICE => None,
            Sym::GROUP => self.group_tenant(id),
            _ => {
                let mut at = id;
                while let Some(outer) = self.within(at) {
                    at = outer;
                }
                (self.kind(at) == Sym::TENANT).then_some(at)
            }
        }
    }
}
