//! From what was written to what it means: names become ids, wildcards are expanded, conditions
//! are typed, and everything that cannot be meant is told, all of it in one pass.
//!
//! The order is: kinds and names ([`declare`]), roles and rules ([`give`]), what comes from
//! relationships ([`confer`]), separations ([`separate`]), what tenants may make ([`made`]), routes
//! and affordances ([`connect`]), what tokens mean ([`issue`]); all of their conditions by [`typing`]; then the doubts
//! ([`lints`]). Later steps see only what the earlier ones made.

mod confer;
mod connect;
mod declare;
mod errors;
mod give;
mod issue;
mod lints;
mod made;
mod separate;
#[cfg(test)]
mod testing;
pub mod typing;

pub use connect::{MAX_SEGMENTS, METHODS};
pub(crate) use connect::{crossing, is_partial, pattern, together};

use super::model::{Attribute, Condition, Kind, KindId, Model, Named, PermId, Permission, RoleId};
use super::policy::Policy;
use super::syntax::condition::Expr;
use super::syntax::{NamedCondition, Role, Tree};
use crate::interner::Interner;
use crate::source::{At, Finding, Severity, Sources, Span};
use std::collections::HashMap;

/// Deepest chain of roles that include one another.
pub const MAX_INCLUSION: usize = 32;

/// Checks a tree against itself. The model is there only if there is no error in `findings`.
pub fn check(tree: &Tree, sources: &Sources, findings: &mut Vec<Finding>) -> Option<Model> {
    let mut names = Interner::default();
    let applications = declare::applications(tree);
    let (kinds, permissions) = declare::kinds(tree, &applications, &mut names, findings);
    let context = declare::attributes(&tree.context, &mut names, None, findings);
    for role in &tree.roles {
        for (name, _) in &role.values {
            names.intern(&name.value);
        }
    }
    let mut groups: Vec<String> = tree.groups.iter().map(|group| group.key.value.clone()).collect();
    groups.sort();
    let mut roles: Vec<&Role> = tree.roles.iter().collect();
    roles.sort_by(|a, b| a.key.value.cmp(&b.key.value));
    roles.dedup_by(|a, b| a.key.value == b.key.value);
    let scope = Scope {
        sources,
        names: &names,
        kinds: &kinds,
        permissions: &permissions,
        known: Known::of(&kinds, &permissions),
        context: &context,
        groups: &groups,
        conditions: &tree.conditions,
        includes: give::includes(&roles),
        roles,
    };
    let roles = give::roles(&scope, findings);
    let rules = give::rules(&scope, tree, findings);
    let (confers, ranges) = confer::confers(&scope, tree, &roles, findings);
    let strata = confer::strata(&scope, &confers, findings);
    let separations = separate::separations(&scope, tree, findings);
    let tenant_clauses = made::clauses(&scope, tree, &roles, findings);
    let (routes, paths) = connect::routes(&scope, tree, &applications, findings);
    let affordances = connect::affordances(&scope, tree, &applications, findings);
    let issuers = issue::issuers(&scope, tree, &applications, findings);
    give::unused_conditions(&scope, tree, findings);
    let mut kinds = kinds.clone();
    for (kind, range) in kinds.iter_mut().zip(ranges) {
        kind.confers = range;
    }
    let model = Model {
        name: tree
            .head
            .as_ref()
            .and_then(|head| head.name.clone())
            .map_or_else(String::new, |name| name.value),
        applications,
        names: names.clone(),
        kinds,
        permissions: permissions.clone(),
        groups: groups.clone(),
        context: context.clone(),
        roles,
        rules,
        confers,
        strata,
        separations,
        tenant_clauses,
        routes,
        paths,
        affordances,
        issuers,
        named: tree.conditions.iter().filter_map(|named| written(sources, named)).collect(),
    };
    if findings.iter().any(|finding| finding.severity == Severity::Error) {
        return None;
    }
    lints::look(&model, tree, findings);
    Some(model)
}

fn written(sources: &Sources, named: &NamedCondition) -> Option<Named> {
    let text = sources.text(named.when.as_ref()?.span).trim().to_owned();
    Some(Named { key: named.key.value.clone(), text, span: named.key.span })
}

/// Types a condition that stands beside a checked charter, about resources of one type. `sources`
/// are the texts the condition is from.
pub fn condition_beside(
    policy: &Policy,
    kind: KindId,
    expr: &Expr,
    sources: &Sources,
    findings: &mut Vec<Finding>,
) -> Option<Condition> {
    // The charter has no errors: what is found anew in its text has been told before.
    let tree = super::syntax::read(policy.sources(), &mut Vec::new());
    let model = policy.model();
    let mut roles: Vec<&Role> = tree.roles.iter().collect();
    roles.sort_by(|a, b| a.key.value.cmp(&b.key.value));
    let scope = Scope {
        sources,
        names: &model.names,
        kinds: &model.kinds,
        permissions: &model.permissions,
        known: Known::of(&model.kinds, &model.permissions),
        context: &model.context,
        groups: &model.groups,
        conditions: &tree.conditions,
        includes: give::includes(&roles),
        roles,
    };
    let around = typing::Surroundings {
        kinds: &[kind],
        grant: None,
        // What is held is asked about here, not what it then gives.
        regardless: true,
        standby: false,
        split: "a guarantee of its own",
    };
    typing::condition(&scope, around, expr, findings)
}

/// Where types and permissions are, by what they are called.
#[derive(Debug)]
struct Known<'a> {
    kinds: HashMap<&'a str, KindId>,
    permissions: HashMap<&'a str, PermId>,
}

impl<'a> Known<'a> {
    fn of(kinds: &'a [Kind], permissions: &'a [Permission]) -> Known<'a> {
        // Of two of one name the first counts.
        let kinds = kinds.iter().enumerate().rev().map(|(at, kind)| (kind.key.as_str(), KindId::at(at)));
        let permissions = permissions.iter().enumerate().rev();
        Known {
            kinds: kinds.collect(),
            permissions: permissions.map(|(at, one)| (one.text.as_str(), PermId::at(at))).collect(),
        }
    }
}

/// Everything that can be named.
#[derive(Debug)]
pub struct Scope<'a> {
    sources: &'a Sources,
    names: &'a Interner,
    kinds: &'a [Kind],
    permissions: &'a [Permission],
    known: Known<'a>,
    context: &'a [Attribute],
    groups: &'a [String],
    conditions: &'a [NamedCondition],
    /// By key; positions are role ids.
    roles: Vec<&'a Role>,
    /// The roles each role includes, as far as they exist.
    includes: Vec<Vec<RoleId>>,
}

impl<'a> Scope<'a> {
    fn text(&self, span: Span) -> &'a str {
        self.sources.text(span)
    }

    fn kind(&self, key: &str) -> Option<KindId> {
        self.known.kinds.get(key).copied()
    }

    fn role(&self, key: &str) -> Option<RoleId> {
        self.roles.binary_search_by(|role| role.key.value.as_str().cmp(key)).ok().map(RoleId::at)
    }

    /// The role of a key, or a finding that there is none.
    fn known_role(&self, key: &At<String>, findings: &mut Vec<Finding>) -> Option<RoleId> {
        let role = self.role(&key.value);
        if role.is_none() {
            let known = self.roles.iter().map(|role| role.key.value.as_str());
            let finding = Finding::error("unknown-role", key.span, format!("unknown role {:?}", key.value));
            findings.push(finding.meant(&key.value, known));
        }
        role
    }

    /// The resource type of a key, or a finding that there is none.
    fn known_type(&self, key: &str, span: Span, findings: &mut Vec<Finding>) -> Option<KindId> {
        let kind = self.kind(key).filter(|kind| kind.is_resource());
        if kind.is_none() {
            let known = self.kinds.iter().skip(4).map(|kind| kind.key.as_str());
            let finding = Finding::error("unknown-type", span, format!("unknown type {key:?}"));
            findings.push(finding.meant(key, known));
        }
        kind
    }

    /// One permission by its whole name, or a finding that there is none.
    fn known_permission(&self, text: &At<String>, findings: &mut Vec<Finding>) -> Option<PermId> {
        if text.value.contains('*') {
            let message = format!("{:?} stands for several permissions; one is needed here", text.value);
            findings.push(Finding::error("wildcard", text.span, message));
            return None;
        }
        self.expand(text, false, findings).first().copied()
    }

    /// A role with a `when` or `values` that is `role` or includes it, whose guard `holds` would
    /// not look at.
    fn guarded_through(&self, role: RoleId) -> Option<RoleId> {
        let mut seen = vec![false; self.roles.len()];
        let mut waiting = vec![role];
        while let Some(next) = waiting.pop() {
            if std::mem::replace(&mut seen[next.index()], true) {
                continue;
            }
            let written = self.roles[next.index()];
            if written.when.is_some() || !written.values.is_empty() {
                return Some(next);
            }
            let including = self.includes.iter().enumerate().filter(|(_, inner)| inner.contains(&next));
            waiting.extend(including.map(|(outer, _)| RoleId::at(outer)));
        }
        None
    }

    /// The permissions a pattern stands for.
    fn expand(&self, pattern: &At<String>, all_allowed: bool, findings: &mut Vec<Finding>) -> Vec<PermId> {
        let text = pattern.value.as_str();
        if text == "*" {
            if all_allowed {
                return (0..self.permissions.len()).map(PermId::at).collect();
            }
            let finding =
                Finding::error("wildcard", pattern.span, "\"*\" alone is allowed in deny rules only");
            let types: Vec<String> = self
                .kinds
                .iter()
                .filter(|kind| kind.application.is_some() && !kind.permissions.is_empty())
                .map(|kind| format!("\"{}:*\"", kind.key))
                .collect();
            let example = match &types[..] {
                [] => "declare a type with actions first".to_owned(),
                [only] => format!("name the type: {only}"),
                [first, ..] => format!("name each type: {first}, …"),
            };
            findings.push(finding.help(example));
            return Vec::new();
        }
        if let Some(id) = self.known.permissions.get(text) {
            return vec![*id];
        }
        let Some((kind_key, action)) = text.split_once(':') else {
            let ending = format!(":{text}");
            let same = self.permissions.iter().find(|permission| permission.text.ends_with(&ending));
            let near = same.map_or_else(String::new, |p| format!("; did you mean {:?}?", p.text));
            let message = format!("{text:?} is not a permission: write type:action{near}");
            findings.push(Finding::error("unknown-permission", pattern.span, message));
            return Vec::new();
        };
        match self.kind(kind_key).filter(|kind| kind.is_resource()) {
            Some(kind) if action == "*" => {
                let range = self.kinds[kind.index()].permissions.clone();
                if range.is_empty() {
                    let message = format!("{kind_key:?} has no actions");
                    findings.push(Finding::error("unknown-permission", pattern.span, message));
                }
                range.map(PermId).collect()
            }
            Some(_) | None => {
                let known = self.permissions.iter().map(|permission| permission.text.as_str());
                let wildcards: Vec<String> = self
                    .kinds
                    .iter()
                    .filter(|kind| action == "*" && kind.application.is_some())
                    .map(|kind| format!("{}:*", kind.key))
                    .collect();
                let message = format!("unknown permission {text:?}");
                let finding = Finding::error("unknown-permission", pattern.span, message);
                findings.push(finding.meant(text, known.chain(wildcards.iter().map(String::as_str))));
                Vec::new()
            }
        }
    }

    fn expand_all(
        &self,
        patterns: &[At<String>],
        all_allowed: bool,
        findings: &mut Vec<Finding>,
    ) -> Vec<PermId> {
        let mut all: Vec<PermId> =
            patterns.iter().flat_map(|pattern| self.expand(pattern, all_allowed, findings)).collect();
        all.sort_unstable();
        all.dedup();
        all
    }

    /// The resource types a condition on some permissions can meet. A misspelt action still says
    /// which type is meant, so that the condition beside it is looked at all the same.
    fn kinds_met(&self, permissions: &[PermId], patterns: &[At<String>]) -> Vec<KindId> {
        let known = |text: &str| self.known.permissions.contains_key(text);
        let misspelt = patterns.iter().filter(|pattern| !known(&pattern.value)).filter_map(|pattern| {
            let (kind, action) = pattern.value.split_once(':')?;
            self.kind(kind).filter(|kind| kind.is_resource() && action != "*")
        });
        let met = permissions.iter().map(|p| self.permissions[p.index()].kind);
        let mut kinds: Vec<KindId> = met.chain(misspelt).collect();
        kinds.sort_unstable();
        kinds.dedup();
        kinds
    }
}
