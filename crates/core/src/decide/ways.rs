//! By which ways a permission can come at all: the grants that may give it, the relations that name
//! whom it is conferred on, the groups and tenants whose members it is for. Whoever wants all
//! resources of a subject, or all subjects of a resource, need only look where one of them leads.

use super::question::{Question, Resource, Subject};
use super::{Engine, Named};
use crate::charter::model::{
    Condition, GroupId, KindId, List, Model, NameId, Operand, OperandId, Path, PathId, PermId, RoleId, Root,
    Step, Test, TestId,
};
use crate::charter::policy::Policy;
use crate::charter::syntax::GivenTo;
use crate::register::{EntityId, PlaceOf, Register, State, Sym};
use std::collections::BTreeSet;

/// The ways of one permission.
#[derive(Clone, Debug, Default)]
pub(crate) struct Ways {
    permission: Option<PermId>,
    /// Roles of which a grant may give it at what lies within its place.
    roles: BTreeSet<RoleId>,
    /// Relations of the resource, or of what it lies within, that may lead to who has it.
    naming: BTreeSet<NameId>,
    /// Whoever is a member of one of these may have it anywhere.
    groups: BTreeSet<GroupId>,
    /// Whether members of the resource's tenant may have it.
    members: bool,
    /// Whether it may come some other way.
    otherwise: bool,
}

impl Ways {
    /// Of a permission.
    pub fn of(policy: &Policy, permission: PermId) -> Ways {
        let model = policy.model();
        let kind = model.permissions[permission.index()].kind;
        let all = || (0..model.roles.len()).map(RoleId::at);
        let mut made = Ways { permission: Some(permission), ..Ways::default() };
        made.roles.extend(all().filter(|role| policy.may_give(*role, permission)));
        for role in policy.given().iter().filter(|role| policy.may_give(**role, permission)) {
            made.given(model, kind, *role);
        }
        let roots = policy.conferred_roots(permission).iter().copied();
        let mut waiting: Vec<RoleId> = roots.filter(|role| policy.may_give(*role, permission)).collect();
        let mut seen = BTreeSet::new();
        while let Some(role) = waiting.pop() {
            if !seen.insert(role) {
                continue;
            }
            for confer in model.confers.iter().filter(|confer| confer.role == role) {
                match (confer.holds, outwards(&confer.path)) {
                    (None, Some(Some(name))) => drop(made.naming.insert(name)),
                    (Some(held), Some(None)) => {
                        made.roles.extend(all().filter(|role| policy.includes(*role, held)));
                        let given = policy.given().iter().filter(|role| policy.includes(**role, held));
                        given.for_each(|role| made.given(model, kind, *role));
                        waiting.extend_from_slice(policy.conferred_including(held));
                    }
                    _ => made.otherwise = true,
                }
            }
        }
        for rule in policy.allows(permission) {
            let rule = &model.rules[rule.index()];
            let Some(when) = &rule.when else { continue };
            match needs(when, when.root) {
                Some(Need::Named(name)) => drop(made.naming.insert(name)),
                Some(Need::Member(group)) => drop(made.groups.insert(group)),
                None if rule.across_tenants => made.otherwise = true,
                None => made.within_tenant(model, kind),
            }
        }
        made
    }

    fn given(&mut self, model: &Model, kind: KindId, role: RoleId) {
        match model.roles[role.index()].given_to {
            Some(GivenTo::Members) => self.within_tenant(model, kind),
            Some(_) => self.otherwise = true,
            None => {}
        }
    }

    /// It is for members of the tenant, or for everybody where there may be none.
    fn within_tenant(&mut self, model: &Model, kind: KindId) {
        match ends_in_tenants(model, kind) {
            true => self.members = true,
            false => self.otherwise = true,
        }
    }

    /// The places within which all that the subject could have it for lies; none if it could be anywhere.
    /// What names the subject itself by a relation that is `left_out` is not among them.
    pub fn places(
        &self,
        engine: Engine<'_>,
        question: &Question,
        left_out: &dyn Fn(&str) -> bool,
    ) -> Option<Vec<EntityId>> {
        let Subject::Entity(subject) = question.subject else { return None };
        let register = engine.register;
        let mut holders = register.holders_of(subject);
        let vouched = question.vouched.as_deref();
        if let Some(vouched) = vouched {
            if self.groups.iter().any(|group| vouched.declared.contains(group)) {
                return None;
            }
            holders.extend(vouched.closure(register));
            holders.sort_unstable();
            holders.dedup();
        }
        let group = |group: &GroupId| engine.link.groups[group.index()];
        if self.otherwise || self.groups.iter().filter_map(group).any(|group| holders.contains(&group)) {
            return None;
        }
        let mut places = Vec::new();
        for holder in &holders {
            for held in register.held(*holder) {
                match held.at() {
                    _ if !self.may_give(engine, engine.link.roles[held.role.0 as usize]) => {}
                    PlaceOf::Everywhere => return None,
                    PlaceOf::At(place) => places.push(place),
                }
            }
            let names = self.naming.iter().filter_map(|name| engine.link.names[name.index()]);
            let names: Vec<Sym> =
                names.filter(|name| *holder != subject || !left_out(register.text(*name))).collect();
            places.extend(naming(register, *holder, |name| names.contains(&name)));
        }
        if self.members {
            places.extend_from_slice(register.tenants(subject));
            places.extend(vouched.iter().flat_map(|vouched| &vouched.tenants));
        }
        places.sort_unstable();
        places.dedup();
        Some(places)
    }

    fn may_give(&self, engine: Engine<'_>, role: Option<Named>) -> bool {
        match role {
            Some(Named::Role(role)) => self.roles.contains(&role),
            Some(Named::Made(at)) => self
                .permission
                .is_some_and(|it| engine.link.made[at as usize].permissions.binary_search(&it).is_ok()),
            None => false,
        }
    }

    /// Every active user and service who could have it for a resource, in order.
    pub fn subjects<'e>(
        &self,
        engine: Engine<'e>,
        question: &Question,
    ) -> Box<dyn Iterator<Item = EntityId> + 'e> {
        let register = engine.register;
        let active = move |id: &EntityId| {
            matches!(register.kind(*id), Sym::USER | Sym::SERVICE) && register.state(*id) == State::Active
        };
        let start = match question.resource {
            Resource::Registered(id) => Some(id),
            Resource::Stated { within, .. } => within,
        };
        // What the request says of the resource may name anybody.
        let is_said = question.of_resource.relations.iter().any(|(name, _)| self.naming.contains(name));
        if self.otherwise || is_said {
            return Box::new(register.all_entities().filter(active));
        }
        // Who holds something everywhere is not indexed by place.
        let everywhere = register.all_grants().filter(|grant| grant.at == PlaceOf::Everywhere);
        let mut holders: Vec<EntityId> = everywhere.map(|grant| grant.to).collect();
        holders.extend(self.groups.iter().filter_map(|group| engine.link.groups[group.index()]));
        for place in std::iter::successors(start, |id| register.within(*id)) {
            holders.extend(register.grants_at(place).iter().filter_map(|at| Some(register.grant(*at)?.to)));
            let names = self.naming.iter().filter_map(|name| engine.link.names[name.index()]);
            holders.extend(names.filter_map(|name| register.relation(place, name)).flatten());
            if self.members && register.kind(place) == Sym::TENANT {
                let members = register.named_by(place).iter();
                holders.extend(members.filter(|id| register.tenants(**id).contains(&place)));
            }
        }
        holders.sort_unstable();
        holders.dedup();
        let mut subjects: Vec<EntityId> = holders
            .into_iter()
            .filter(|id| matches!(register.kind(*id), Sym::USER | Sym::SERVICE | Sym::GROUP))
            .flat_map(|id| register.subjects_of(id))
            .collect();
        subjects.sort_unstable();
        subjects.dedup();
        Box::new(subjects.into_iter().filter(active))
    }
}

/// What names something by a relation, of those whose name is `meant`.
pub(crate) fn naming(
    register: &Register,
    id: EntityId,
    meant: impl Fn(Sym) -> bool,
) -> impl Iterator<Item = EntityId> {
    register
        .named_by(id)
        .iter()
        .copied()
        .filter(move |namer| register.relations(*namer).any(|(name, to)| meant(name) && to.contains(&id)))
}

/// Whether all that lies around a type ends at tenants.
fn ends_in_tenants(model: &Model, kind: KindId) -> bool {
    let mut seen = BTreeSet::new();
    let mut waiting = vec![kind];
    while let Some(kind) = waiting.pop() {
        let outer = &model.kinds[kind.index()].within;
        if outer.is_empty() && kind != KindId::TENANT {
            return false;
        }
        waiting.extend(outer.iter().filter(|outer| seen.insert(**outer)));
    }
    true
}

/// A path that leads from the resource outwards, and at its end to whom a relation names, if there is one.
pub(crate) fn outwards(path: &Path) -> Option<Option<NameId>> {
    let outer = |steps: &[Step]| steps.iter().all(|step| *step == Step::Within);
    match &*path.steps {
        _ if path.root != Root::Resource => None,
        [rest @ .., Step::Relation(name)] if outer(rest) => Some(Some(*name)),
        steps if outer(steps) => Some(None),
        _ => None,
    }
}

/// What must be so of the subject for a condition to be true.
enum Need {
    /// A relation outwards names it, or a group that it is in.
    Named(NameId),
    /// It is in a group.
    Member(GroupId),
}

fn needs(condition: &Condition, at: TestId) -> Option<Need> {
    let named = |path: PathId| outwards(&condition.paths[path.index()]).flatten().map(Need::Named);
    match &condition.tests[at.index()] {
        Test::All(parts) => parts.iter().find_map(|part| needs(condition, *part)),
        Test::Member(group) => Some(Need::Member(*group)),
        Test::Among(path) => named(*path),
        Test::In(who, List::Path(path)) if is_subject(condition, *who) => named(*path),
        Test::Equal(a, b) => match (path_of(condition, *a), path_of(condition, *b)) {
            (Some(path), _) if is_subject(condition, *b) => named(path),
            (_, Some(path)) if is_subject(condition, *a) => named(path),
            _ => None,
        },
        _ => None,
    }
}

fn path_of(condition: &Condition, operand: OperandId) -> Option<PathId> {
    match condition.operands[operand.index()] {
        Operand::Path(path) => Some(path),
        _ => None,
    }
}

/// Whether an operand is `subject`, as it stands.
fn is_subject(condition: &Condition, operand: OperandId) -> bool {
    path_of(condition, operand).is_some_and(|path| {
        let path = &condition.paths[path.index()];
        path.root == Root::Subject && path.steps.is_empty()
    })
}

/// The paths of a condition by which nothing is asked but whether they lead, and whether to the subject.
pub(crate) fn compared(condition: &Condition) -> BTreeSet<usize> {
    let mut asked = vec![0_usize; condition.paths.len()];
    let mut compared = vec![0_usize; condition.paths.len()];
    for operand in &condition.operands {
        match operand {
            Operand::Path(path) | Operand::Count(List::Path(path)) => asked[path.index()] += 1,
            _ => {}
        }
    }
    for test in &condition.tests {
        let lists: &[&List] = match test {
            Test::In(_, list) | Test::InNetwork(_, list) => &[list],
            Test::Overlaps(a, b) | Test::OverlapNetworks(a, b) => &[a, b],
            _ => &[],
        };
        for list in lists {
            if let List::Path(path) = list {
                asked[path.index()] += 1;
            }
        }
        match test {
            Test::Among(path) | Test::Known(path) => {
                asked[path.index()] += 1;
                compared[path.index()] += 1;
            }
            Test::In(who, List::Path(path)) if is_subject(condition, *who) => compared[path.index()] += 1,
            Test::Equal(a, b) => {
                for (one, other) in [(a, b), (b, a)] {
                    if let Some(path) = path_of(condition, *one).filter(|_| is_subject(condition, *other)) {
                        compared[path.index()] += 1;
                    }
                }
            }
            _ => {}
        }
    }
    let only = |at: &usize| compared[*at] > 0 && compared[*at] == asked[*at];
    (0..condition.paths.len()).filter(only).filter(|at| outwards(&condition.paths[*at]).is_some()).collect()
}
