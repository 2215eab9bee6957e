//! What the decisions about one permission can depend on, and all of it as a text: where the texts
//! of two charters are the same, no answer about the permission differs.

use crate::charter::model::{Condition, Operand, Path, PermId, RoleId, Root, Step};
use crate::charter::policy::Policy;
use crate::charter::print;
use std::collections::BTreeSet;
use std::fmt::Write as _;

/// All that answers about one permission depend on.
#[derive(Clone, Debug, Default)]
pub struct Depends {
    /// Everything, as a text.
    pub text: String,
    /// Names of attributes and relations that are read.
    pub read: BTreeSet<String>,
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
    /// Of one permission.
    pub fn of(policy: &Policy, permission: PermId) -> Depends {
        let model = policy.model();
        let mut roles = BTreeSet::new();
        let mut waiting: Vec<RoleId> = Vec::new();
        let mut conditions: Vec<&Condition> = Vec::new();
        let mut made = Depends::default();
        let all = || (0..model.roles.len()).map(RoleId::at);
        waiting.extend(all().filter(|role| policy.may_give(*role, permission)));
        for rule in policy.denies(permission).iter().chain(policy.allows(permission)) {
            let rule = &model.rules[rule.index()];
            let _ = writeln!(
                made.text,
                "rule {} {:?} {} {}",
                rule.key, rule.effect, rule.for_anyone, rule.across_tenants
            );
            conditions.extend(&rule.when);
        }
        for clause in policy.tenant_clauses(permission) {
            made.text.push_str("tenants may\n");
            conditions.extend(&model.tenant_clauses[*clause as usize].when);
        }
        for (a, b) in policy.separated(permission) {
            waiting.extend([*a, *b]);
            let _ =
                writeln!(made.text, "apart {} {}", model.roles[a.index()].key, model.roles[b.index()].key);
        }
        waiting.extend(conditions.iter().flat_map(|condition| condition.roles_asked()));
        while let Some(role) = waiting.pop() {
            if !roles.insert(role) {
                continue;
            }
            // Whoever includes it holds it; what it includes it may give.
            waiting
                .extend(all().filter(|other| policy.includes(*other, role) || policy.includes(role, *other)));
            let of = &model.roles[role.index()];
            let standby = of.standby.iter().filter_map(|standby| standby.when.as_ref());
            let clauses = of.clauses.iter().filter(|clause| clause.permissions.contains(&permission));
            let own = of.when.iter().chain(standby).chain(clauses.map(|clause| &clause.when));
            let confers = model.confers.iter().filter(|confer| confer.role == role);
            for confer in confers {
                waiting.extend(confer.holds);
                conditions.extend(&confer.when);
                waiting.extend(confer.when.iter().flat_map(Condition::roles_asked));
                made.path(policy, &confer.path);
            }
            for condition in own {
                waiting.extend(condition.roles_asked());
                conditions.push(condition);
            }
        }
        for role in &roles {
            made.role(policy, *role, permission);
        }
        for condition in conditions {
            let _ = writeln!(made.text, "when {}", print::condition(model, condition));
            made.condition(policy, condition);
        }
        made.declarations(policy);
        made
    }

    fn role(&mut self, policy: &Policy, id: RoleId, permission: PermId) {
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
        let _ = writeln!(
            self.text,
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
            role.includes.iter().map(key).collect::<Vec<_>>(),
            role.standby.as_ref().map(|standby| (
                standby.longest,
                standby.when.as_ref().map(|when| print::condition(model, when))
            )),
        );
        for confer in model.confers.iter().filter(|confer| confer.role == id) {
            let _ = writeln!(
                self.text,
                "{} confers {} holds {:?} at {} through {} when {:?}",
                model.kinds[confer.kind.index()].key,
                role.key,
                confer.holds.as_ref().map(key),
                confer.path_text,
                confer.through_detached,
                confer.when.as_ref().map(|when| print::condition(model, when)),
            );
        }
    }

    fn condition(&mut self, policy: &Policy, condition: &Condition) {
        for path in &condition.paths {
            self.path(policy, path);
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

    fn path(&mut self, policy: &Policy, path: &Path) {
        for step in &path.steps {
            if let Step::Attribute(name) | Step::Relation(name) = step {
                self.read.insert(policy.name(*name).to_owned());
            }
        }
    }

    /// How what is read is declared, and what lies within what.
    fn declarations(&mut self, policy: &Policy) {
        for kind in &policy.model().kinds {
            let within: Vec<&str> =
                kind.within.iter().map(|outer| policy.model().kinds[outer.index()].key.as_str()).collect();
            let _ = writeln!(self.text, "type {} within {within:?}", kind.key);
            for attribute in &kind.attributes {
                if self.read.contains(policy.name(attribute.name)) {
                    let _ = writeln!(
                        self.text,
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
                        self.text,
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
                self.text,
                "context {} {:?} {:?} {:?}",
                policy.name(attribute.name),
                attribute.kind,
                attribute.values,
                attribute.default
            );
        }
    }
}
