//! What the decisions about one permission can depend on, and all of it as a text: where the texts
//! of two charters are the same, no answer about the permission differs.

use crate::charter::model::{Condition, Operand, Path, PermId, RoleId, Root, Step};
use crate::charter::policy::Policy;
use crate::charter::print;
use crate::decide::ways::{compared, outwards};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

/// All that answers about one permission depend on.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Depends {
    /// Everything but the roles, as a text.
    pub rest: String,
    /// The roles, by key, each as a text.
    pub roles: BTreeMap<String, String>,
    /// Names of attributes and relations that are read.
    pub read: BTreeSet<String>,
    /// Of these, relations of which it matters where they lead, not only whether to the subject.
    pub followed: BTreeSet<String>,
    /// Whether it matters which resource it is, not only what is said of it.
    pub by_name: bool,
    /// Whether it matters what a resource lies within, not only what is said of that.
    pub by_outer_name: bool,
    /// Whether it matters who it is.
    pub by_subject_name: bool,
    /// Entities the charter names.
    pub named: BTreeSet<String>,
}

impl Depends {
    /// If nothing differs from another but roles, and all that differ come by grants alone: these, and what
    /// includes them. Where none of them is granted to a subject, nothing differs for it.
    pub fn but_for(&self, other: &Depends, policies: [&Policy; 2]) -> Option<BTreeSet<String>> {
        if self.rest != other.rest {
            return None;
        }
        let keys = self.roles.keys().chain(other.roles.keys());
        let differs = |key: &&String| self.roles.get(*key) != other.roles.get(*key);
        let mut differing: BTreeSet<String> = keys.filter(differs).cloned().collect();
        for policy in policies {
            let inner: Vec<RoleId> = differing.iter().filter_map(|key| policy.role(key)).collect();
            let roles = policy.model().roles.iter().enumerate().map(|(at, role)| (RoleId::at(at), role));
            for (id, role) in roles.filter(|(id, _)| inner.iter().any(|inner| policy.includes(*id, *inner))) {
                if role.given_to.is_some() || policy.is_conferred(id) {
                    return None;
                }
                differing.insert(role.key.clone());
            }
            // Who holds one of them may get something elsewhere.
            let held = policy.model().confers.iter().filter_map(|confer| confer.holds);
            if held.into_iter().any(|role| differing.contains(&policy.model().roles[role.index()].key)) {
                return None;
            }
        }
        Some(differing)
    }

    /// What either of two depends on; what they come to is told of neither.
    pub fn either(mut self, other: Depends) -> Depends {
        self.read.extend(other.read);
        self.followed.extend(other.followed);
        self.roles.extend(other.roles);
        self.named.extend(other.named);
        self.by_name |= other.by_name;
        self.by_outer_name |= other.by_outer_name;
        self.by_subject_name |= other.by_subject_name;
        self
    }

    /// Whether it is a relation by which only the subject itself is looked for.
    pub fn is_compared(&self, name: &str) -> bool {
        self.read.contains(name) && !self.followed.contains(name)
    }

    /// Of one permission.
    pub fn of(policy: &Policy, permission: PermId) -> Depends {
        let model = policy.model();
        let mut roles = BTreeSet::new();
        let mut waiting: Vec<RoleId> = Vec::new();
        let mut conditions: Vec<&Condition> = Vec::new();
        let mut made = Depends::default();
        // Whether what relations confer is asked about elsewhere than around the resource.
        let mut leads_aside = false;
        let all = || (0..model.roles.len()).map(RoleId::at);
        waiting.extend(all().filter(|role| policy.may_give(*role, permission)));
        for rule in policy.denies(permission).iter().chain(policy.allows(permission)) {
            let rule = &model.rules[rule.index()];
            let _ = writeln!(
                made.rest,
                "rule {} {:?} {} {} when {:?}",
                rule.key,
                rule.effect,
                rule.for_anyone,
                rule.across_tenants,
                rule.when.as_ref().map(|when| print::condition(model, when))
            );
            conditions.extend(&rule.when);
        }
        for clause in policy.tenant_clauses(permission) {
            let when = &model.tenant_clauses[*clause as usize].when;
            let told = when.as_ref().map(|when| print::condition(model, when));
            let _ = writeln!(made.rest, "tenants may {told:?}");
            conditions.extend(when);
        }
        for (a, b) in policy.separated(permission) {
            waiting.extend([*a, *b]);
            let _ =
                writeln!(made.rest, "apart {} {}", model.roles[a.index()].key, model.roles[b.index()].key);
        }
        waiting.extend(conditions.iter().flat_map(|condition| condition.roles_asked()));
        while let Some(role) = waiting.pop() {
            if !roles.insert(role) {
                continue;
            }
            // Whoever includes it holds it.
            waiting.extend(all().filter(|other| policy.includes(*other, role)));
            let of = &model.roles[role.index()];
            let standby = of.standby.iter().filter_map(|standby| standby.when.as_ref());
            let clauses = of.clauses.iter().filter(|clause| clause.permissions.contains(&permission));
            let own = of.when.iter().chain(standby).chain(clauses.map(|clause| &clause.when));
            let confers = model.confers.iter().filter(|confer| confer.role == role);
            for confer in confers {
                waiting.extend(confer.holds);
                conditions.extend(&confer.when);
                waiting.extend(confer.when.iter().flat_map(Condition::roles_asked));
                let outwards = outwards(&confer.path);
                leads_aside |= confer.holds.is_some() && outwards != Some(None);
                made.path(policy, &confer.path, confer.holds.is_none() && outwards.is_some());
            }
            for condition in own {
                waiting.extend(condition.roles_asked());
                conditions.push(condition);
            }
        }
        for role in &roles {
            made.role(policy, *role, permission, &roles);
        }
        for condition in conditions {
            made.condition(policy, condition);
        }
        if leads_aside {
            made.followed.clone_from(&made.read);
        }
        made.declarations(policy);
        made
    }

    /// Of what it includes only what matters is told.
    fn role(&mut self, policy: &Policy, id: RoleId, permission: PermId, that_matter: &BTreeSet<RoleId>) {
        let model = policy.model();
        let role = &model.roles[id.index()];
        let key = |role: &RoleId| model.roles[role.index()].key.as_str();
        let held_at = role.held_at.as_ref().map(|held| {
            (
                held.everywhere,
                held.kinds.iter().map(|kind| model.kinds[kind.index()].key.as_str()).collect::<Vec<_>>(),
            )
        });
        let clauses: Vec<String> = role
            .clauses
            .iter()
            .filter(|clause| clause.permissions.contains(&permission))
            .map(|clause| print::condition(model, &clause.when))
            .collect();
        let mut text = String::new();
        let _ = writeln!(
            text,
            "role {} own {} out {} users {} services {} at {held_at:?} grantable {} values {:?} when {:?} to {:?} clauses {clauses:?} includes {:?} standby {:?}",
            role.key,
            role.permissions.contains(&permission),
            role.except.contains(&permission),
            role.held_by_users,
            role.held_by_services,
            role.grantable,
            role.values,
            role.when.as_ref().map(|when| print::condition(model, when)),
            role.given_to,
            role.includes.iter().filter(|inner| that_matter.contains(*inner)).map(key).collect::<Vec<_>>(),
            role.standby.as_ref().map(|standby| (
                standby.longest,
                standby.when.as_ref().map(|when| print::condition(model, when))
            )),
        );
        for confer in model.confers.iter().filter(|confer| confer.role == id) {
            let _ = writeln!(
                self.rest,
                "{} confers {} holds {:?} at {} through {} when {:?}",
                model.kinds[confer.kind.index()].key,
                role.key,
                confer.holds.as_ref().map(key),
                confer.path_text,
                confer.through_detached,
                confer.when.as_ref().map(|when| print::condition(model, when)),
            );
        }
        self.roles.insert(role.key.clone(), text);
    }

    fn condition(&mut self, policy: &Policy, condition: &Condition) {
        let compared = compared(condition);
        for (at, path) in condition.paths.iter().enumerate() {
            self.path(policy, path, compared.contains(&at));
            match (path.root, &*path.steps) {
                (Root::Resource, [] | [.., Step::Id]) => self.by_name = true,
                (Root::Subject, [.., Step::Id]) => self.by_subject_name = true,
                _ => {}
            }
            // What it lies within, told apart by name or id.
            let last = path.steps.len().checked_sub(2).and_then(|at| path.steps.get(at));
            let ends_outside = matches!(path.steps.last(), Some(Step::Within));
            let names_outer = matches!((last, path.steps.last()), (Some(Step::Within), Some(Step::Id)));
            self.by_outer_name |= ends_outside || names_outer;
            // A relation may lead to what is then compared with the resource itself.
            if matches!(path.steps.last(), Some(Step::Relation(_) | Step::Within))
                && path.root == Root::Subject
            {
                self.by_name = true;
            }
        }
        for operand in &condition.operands {
            if let Operand::Entity(name) = operand {
                self.named.insert(name.to_string());
            }
        }
        for test in &condition.tests {
            if let crate::charter::model::Test::In(_, crate::charter::model::List::Entities(names)) = test {
                self.named.extend(names.iter().map(ToString::to_string));
            }
        }
    }

    /// A path, and whether all that matters of its end is whether the subject is there.
    fn path(&mut self, policy: &Policy, path: &Path, is_compared: bool) {
        for step in &path.steps {
            if let Step::Attribute(name) | Step::Relation(name) = step {
                self.read.insert(policy.name(*name).to_owned());
            }
            if let (Step::Relation(name), false) = (step, is_compared) {
                self.followed.insert(policy.name(*name).to_owned());
            }
        }
    }

    /// How what is read is declared, and what lies within what.
    fn declarations(&mut self, policy: &Policy) {
        for kind in &policy.model().kinds {
            let within: Vec<&str> =
                kind.within.iter().map(|outer| policy.model().kinds[outer.index()].key.as_str()).collect();
            let _ = writeln!(self.rest, "type {} within {within:?}", kind.key);
            for attribute in &kind.attributes {
                if self.read.contains(policy.name(attribute.name)) {
                    let _ = writeln!(
                        self.rest,
                        "{} {:?} {} {:?} {:?} {:?}",
                        policy.name(attribute.name),
                        attribute.kind,
                        attribute.many,
                        attribute.from,
                        attribute.values,
                        attribute.default
                    );
                }
            }
            for relation in &kind.relations {
                if self.read.contains(policy.name(relation.name)) {
                    let to: Vec<&str> =
                        relation.to.iter().map(|to| policy.model().kinds[to.index()].key.as_str()).collect();
                    let _ = writeln!(
                        self.rest,
                        "{} {to:?} {} {:?} {} {}",
                        policy.name(relation.name),
                        relation.many,
                        relation.from,
                        relation.default_empty,
                        relation.across_tenants
                    );
                }
            }
        }
        for attribute in &policy.model().context {
            let _ = writeln!(
                self.rest,
                "context {} {:?} {:?} {:?}",
                policy.name(attribute.name),
                attribute.kind,
                attribute.values,
                attribute.default
            );
        }
    }
}
