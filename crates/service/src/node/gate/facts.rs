//! The register as far as its reader may read it. Everything is looked for among what they may read;
//! what they may only name (users and services, and what lies in no tenant) is found by [`Facts::named`].

use super::Looks;
use crate::node::names::Names;
use ostrog_core::charter::model::Stated;
use ostrog_core::charter::policy::Policy;
use ostrog_core::prelude::{Engine, InForce, Register, Sight};
use ostrog_core::register::{Activation, EntityId, Grant, MadeRole, PlaceOf, Sym};
use ostrog_core::value::Scalar;
use ostrog_wire::register as wire;
use serde::de::DeserializeOwned;
use serde_json::Value;
use sha2::{Digest as _, Sha256};

/// Facts in sight.
#[derive(Clone, Copy, Debug)]
pub struct Facts<'s> {
    in_force: &'s InForce,
    sight: &'s Sight,
    looks: &'s Looks,
}

/// Something that may be read.
#[derive(Clone, Copy, Debug)]
pub struct Seen<'s> {
    facts: Facts<'s>,
    id: EntityId,
}

impl<'s> Facts<'s> {
    pub(super) fn new(in_force: &'s InForce, sight: &'s Sight, looks: &'s Looks) -> Facts<'s> {
        Facts { in_force, sight, looks }
    }

    /// Ready to be asked; what is out of sight is not there.
    pub fn engine(&self) -> Engine<'s> {
        self.in_force.last().engine_in(self.sight)
    }

    /// The charter that was put live last.
    pub fn policy(&self) -> &'s Policy {
        self.in_force.last().policy()
    }

    /// The charters that may say what a fact about a type means: the one that is live for whoever owns it; where
    /// nobody does, all of them, the one that was put live last first.
    pub fn policies_of(&self, kind: &str) -> impl Iterator<Item = &'s Policy> + use<'s> {
        let owner = self.in_force.owners().of(kind);
        let all = self.in_force.worlds().iter().enumerate();
        let all = all.filter(move |(at, _)| owner.is_none_or(|owner| owner == *at));
        all.map(|(_, world)| &**world.policy())
    }

    fn register(&self) -> &'s Register {
        self.in_force.register()
    }

    /// Whether that is everything.
    pub fn is_everything(&self) -> bool {
        self.sight.is_everything()
    }

    /// Whether what is said of something may be read.
    pub fn may_read(&self, id: EntityId) -> bool {
        self.sight.reads(self.register(), id)
    }

    /// Something by its name, if it may be read.
    pub fn find(&self, name: &str) -> Option<Seen<'s>> {
        self.looks.up();
        let id = self.register().registered(name).filter(|id| self.may_read(*id))?;
        Some(Seen { facts: *self, id })
    }

    /// Something by its name, if it may be named.
    pub fn named(&self, name: &str) -> Option<EntityId> {
        self.looks.up();
        let register = self.register();
        register.registered(name).filter(|id| self.sight.names(register, *id))
    }

    /// Everything that may be read.
    pub fn all(&self) -> impl Iterator<Item = Seen<'s>> + use<'s> {
        let facts = *self;
        self.sight.all(self.register()).map(move |id| Seen { facts, id })
    }

    /// Everything, by name, from a name on; of those who may read all of it.
    pub fn by_name<'n>(&self, names: &'n Names, start: &str) -> impl Iterator<Item = Seen<'n>>
    where
        's: 'n,
    {
        let facts: Facts<'n> = *self;
        names
            .from(facts.register(), start)
            .filter(move |id| facts.may_read(*id))
            .map(move |id| Seen { facts, id })
    }

    /// Everything that may be read of some names.
    pub fn seen(&self, ids: &'s [EntityId]) -> impl Iterator<Item = Seen<'s>> + use<'s> {
        let facts = *self;
        ids.iter().filter(move |id| facts.may_read(**id)).map(move |id| Seen { facts, id: *id })
    }

    /// Grants at places that may be read: to a holder, at a place, or all.
    pub fn grants(&self, to: Option<&str>, at: Option<&str>) -> Box<dyn Iterator<Item = Grant<'s>> + 's> {
        let (register, facts) = (self.register(), *self);
        let place = match at {
            Some("everywhere") => Some(PlaceOf::Everywhere),
            Some(name) => match self.find(name) {
                Some(seen) => Some(PlaceOf::At(seen.id)),
                None => return Box::new(std::iter::empty()),
            },
            None => None,
        };
        let all: Box<dyn Iterator<Item = Grant<'s>>> = match (to, place) {
            (Some(name), _) => match self.named(name) {
                Some(holder) => Box::new(register.grants_to(holder).map(|(_, grant)| grant)),
                None => return Box::new(std::iter::empty()),
            },
            (None, Some(PlaceOf::At(place))) => {
                Box::new(register.grants_at(place).iter().filter_map(|at| register.grant(*at)))
            }
            (None, _) if facts.is_everything() => Box::new(register.all_grants()),
            // Of a tenant's operator only what was given in the tenant is looked at.
            (None, _) => Box::new(
                facts
                    .sight
                    .all(register)
                    .flat_map(|id| register.grants_at(id))
                    .filter_map(|at| register.grant(*at)),
            ),
        };
        let fits = move |grant: &Grant<'_>| place.is_none_or(|place| grant.at == place);
        Box::new(all.filter(move |grant| fits(grant) && facts.reads_grant(grant)))
    }

    /// Whether a grant may be read: where its place may.
    pub fn reads_grant(&self, grant: &Grant<'_>) -> bool {
        self.sight.reads_grant(self.register(), grant)
    }

    /// A grant by its id, if it may be read.
    pub fn grant(&self, id: &str) -> Option<Grant<'s>> {
        self.looks.up();
        self.register().grant_by_id(id).filter(|grant| self.reads_grant(grant))
    }

    /// Activations of grants that may be read.
    pub fn activations(&self) -> impl Iterator<Item = &'s Activation> + use<'s> {
        let facts = *self;
        let register = self.register();
        register.all_activations().filter(move |activation| {
            register.grant(activation.grant).is_some_and(|grant| facts.reads_grant(&grant))
        })
    }

    /// Roles that tenants made, of those that may be read, with their names.
    pub fn made_roles(&self) -> impl Iterator<Item = (Sym, &'s MadeRole)> + use<'s> {
        let facts = *self;
        self.register().made_roles().filter(move |(_, role)| facts.may_read(role.tenant))
    }

    /// The name of something.
    pub fn name(&self, id: EntityId) -> &'s str {
        self.register().name(id)
    }

    /// The key of a role, a relation or a type.
    pub fn text(&self, key: Sym) -> &'s str {
        self.register().text(key)
    }

    // -- as lines ------------------------------------------------------------------------------

    /// A grant as its line.
    pub fn grant_line(&self, grant: &Grant<'_>) -> wire::GrantLine {
        line(self.register().grant_json(grant))
    }

    /// An activation as its line.
    pub fn activation_line(&self, activation: &Activation) -> wire::ActivationLine {
        line(self.register().activation_json(activation))
    }

    /// A tenant's role as its line.
    pub fn made_line(&self, key: Sym, role: &MadeRole) -> wire::TenantRoleLine {
        line(self.register().made_json(key, role))
    }
}

impl<'s> Seen<'s> {
    fn register(&self) -> &'s Register {
        self.facts.register()
    }

    /// Its number in the register.
    pub fn id(&self) -> EntityId {
        self.id
    }

    /// `type:id`
    pub fn name(&self) -> &'s str {
        self.register().name(self.id)
    }

    /// All that is said of it, without what leads out of sight: of a member of two tenants only those
    /// that may be read are told.
    pub fn line(&self) -> wire::EntityLine {
        self.in_sight(self.register().entity_json(self.id))
    }

    fn in_sight(&self, all: Value) -> wire::EntityLine {
        let mut told: wire::EntityLine = line(all);
        if !self.facts.is_everything() && !told.tenants.is_empty() {
            told.tenants =
                self.facts.seen(self.register().tenants(self.id)).map(|seen| seen.name().into()).collect();
            told.tenants.sort_unstable();
        }
        told
    }

    /// The same with the number of its members in place of all of them: it may have a million.
    pub fn brief_line(&self) -> wire::EntityLine {
        let members = self.register().members(self.id).len();
        let told = self.in_sight(self.register().entity_json_without_members(self.id));
        wire::EntityLine { member_count: (members > 0).then_some(members), ..told }
    }

    /// What stands for all that its reader is told of it, as an `ETag`.
    pub fn tag(&self) -> String {
        tag(&self.line())
    }

    /// The groups it is a direct member of.
    pub fn groups(&self) -> impl Iterator<Item = Seen<'s>> + use<'s> {
        self.facts.seen(self.register().groups(self.id))
    }

    /// The members of a group: whoever reads a group reads who is in it.
    pub fn members(&self) -> impl ExactSizeIterator<Item = &'s str> + use<'s> {
        let register = self.register();
        register.members(self.id).iter().map(|member| register.name(*member))
    }

    /// Grants to it.
    pub fn grants(&self) -> impl Iterator<Item = Grant<'s>> + use<'s> {
        let facts = self.facts;
        let all = self.register().grants_to(self.id).map(|(_, grant)| grant);
        all.filter(move |grant| facts.reads_grant(grant))
    }

    /// What lies directly within it.
    pub fn contents(&self) -> impl ExactSizeIterator<Item = Seen<'s>> + use<'s> {
        let facts = self.facts;
        self.register().contents(self.id).iter().map(move |id| Seen { facts, id: *id })
    }

    /// What it lies within, from the inner to the outer.
    pub fn outer(&self) -> impl Iterator<Item = Seen<'s>> + use<'s> {
        let (register, facts) = (self.register(), self.facts);
        let outer = std::iter::successors(register.within(self.id), |outer| register.within(*outer));
        outer.map(move |id| Seen { facts, id })
    }

    /// Whether roles that arrive around it stop at it.
    pub fn is_detached(&self) -> bool {
        self.register().is_detached(self.id)
    }

    /// Its type.
    pub fn kind(&self) -> &'s str {
        self.register().text(self.register().kind(self.id))
    }

    /// Its relations by name, with the names of what they lead to.
    pub fn relations(&self) -> impl Iterator<Item = (&'s str, &'s [EntityId])> + use<'s> {
        let register = self.register();
        register.relations(self.id).map(|(name, to)| (register.text(name), to))
    }

    /// What names it by a relation, each with the relation.
    pub fn namers(&self) -> impl Iterator<Item = (Seen<'s>, &'s str)> + use<'s> {
        let id = self.id;
        let all = self.facts.seen(self.register().named_by(id));
        all.flat_map(move |namer| {
            let by = namer.relations().filter(move |(_, to)| to.contains(&id));
            by.map(move |(relation, _)| (namer, relation))
        })
    }

    /// Whether a text stands in its name or in what is stated of it; upper and lower case of Latin letters
    /// are one.
    pub fn mentions(&self, text: &str) -> bool {
        let stands_in = |whole: &str| {
            whole.as_bytes().windows(text.len()).any(|part| part.eq_ignore_ascii_case(text.as_bytes()))
        };
        let is_said = |one: &Scalar| matches!(one, Scalar::Text(said) if stands_in(said));
        text.is_empty()
            || stands_in(self.name())
            || self.register().attributes(self.id).any(|(_, stated)| match stated {
                Stated::One(one) => is_said(one),
                Stated::Many(many) => many.iter().any(is_said),
                Stated::Unfit => false,
            })
    }

    /// Whether an attribute is stated to be, or to hold, a value.
    pub fn states(&self, name: &str, value: &Value) -> bool {
        let register = self.register();
        let stated = register.sym(name).and_then(|name| register.attribute(self.id, name));
        stated.is_some_and(|stated| match stated {
            Stated::One(one) => one.to_json() == *value,
            Stated::Many(many) => many.iter().any(|one| one.to_json() == *value),
            Stated::Unfit => false,
        })
    }

    /// How many grants were given at it.
    pub fn grants_here(&self) -> usize {
        self.register().grants_at(self.id).len()
    }
}

/// What stands for a line.
fn tag(line: &wire::EntityLine) -> String {
    let bytes = serde_json::to_vec(line).unwrap_or_default();
    format!("\"{}\"", hex::encode(&Sha256::digest(bytes)[..12]))
}

/// A line of the journal as the type it is told as.
fn line<T: DeserializeOwned + Default>(line: Value) -> T {
    serde_json::from_value(line).unwrap_or_else(|error| {
        tracing::error!(%error, "a line of the register is not as it is described");
        T::default()
    })
}
