//! Roles and rules: what is given, to whom, and under which condition.

use super::typing::{self, Surroundings};
use super::{MAX_INCLUSION, Scope, errors};
use crate::charter::model::{Clause, HeldAt, KindId, PermId, Role, RoleId, Rule, Standby};
use crate::charter::syntax::condition::{Expr, ExprKind};
use crate::charter::syntax::{self, Effect, GivenTo, Tree};
use crate::source::{At, Finding};
use std::collections::HashSet;

/// The roles each role includes, as far as they exist.
pub fn includes(roles: &[&syntax::Role]) -> Vec<Vec<RoleId>> {
    let find = |key: &str| roles.binary_search_by(|role| role.key.value.as_str().cmp(key)).ok();
    roles
        .iter()
        .map(|role| {
            let mut inner: Vec<RoleId> =
                role.includes.iter().filter_map(|key| find(&key.value).map(RoleId::at)).collect();
            inner.sort_unstable();
            inner.dedup();
            inner
        })
        .collect()
}

/// All roles.
pub fn roles(scope: &Scope<'_>, findings: &mut Vec<Finding>) -> Vec<Role> {
    for role in &scope.roles {
        unknown_includes(scope, role, findings);
    }
    let Some(order) = inclusion_order(scope, findings) else { return Vec::new() };
    let mut made: Vec<Option<Role>> = vec![None; scope.roles.len()];
    // What each role gives if all conditions are true: what `except` can take out of.
    let mut gives: Vec<Vec<PermId>> = vec![Vec::new(); scope.roles.len()];
    for id in order {
        let (role, given) = self::role(scope, id, &made, &gives, findings);
        made[id.index()] = Some(role);
        gives[id.index()] = given;
    }
    made.into_iter().flatten().collect()
}

fn unknown_includes(scope: &Scope<'_>, role: &syntax::Role, findings: &mut Vec<Finding>) {
    for key in &role.includes {
        scope.known_role(key, findings);
    }
}

/// Included roles before those that include them; none if inclusion runs in a circle.
fn inclusion_order(scope: &Scope<'_>, findings: &mut Vec<Finding>) -> Option<Vec<RoleId>> {
    let count = scope.roles.len();
    let mut waits: Vec<usize> = scope.includes.iter().map(Vec::len).collect();
    let mut outer: Vec<Vec<usize>> = vec![Vec::new(); count];
    for (at, inner) in scope.includes.iter().enumerate() {
        for id in inner {
            outer[id.index()].push(at);
        }
    }
    let mut depth = vec![0usize; count];
    let mut order: Vec<RoleId> = Vec::new();
    let mut ready: Vec<usize> = (0..count).filter(|at| waits[*at] == 0).collect();
    while let Some(at) = ready.pop() {
        order.push(RoleId::at(at));
        for next in &outer[at] {
            depth[*next] = depth[*next].max(depth[at] + 1);
            waits[*next] -= 1;
            if waits[*next] == 0 {
                ready.push(*next);
            }
        }
    }
    for (at, depth) in depth.iter().enumerate() {
        if *depth > MAX_INCLUSION && waits[at] == 0 {
            let key = &scope.roles[at].key;
            let message = format!("{:?} includes roles more than {MAX_INCLUSION} deep", key.value);
            findings.push(Finding::error("over-a-bound", key.span, message));
        }
    }
    if order.len() == count {
        return Some(order);
    }
    let told = (0..count).find(|at| waits[*at] > 0)?;
    findings.push(inclusion_loop(scope, told, &waits));
    None
}

/// Follows a role that waits for itself until the circle closes, and tells the circle.
fn inclusion_loop(scope: &Scope<'_>, start: usize, waits: &[usize]) -> Finding {
    let mut walk = vec![start];
    loop {
        let here = walk[walk.len() - 1];
        let next = scope.includes[here].iter().map(|id| id.index()).find(|at| waits[*at] > 0);
        let next = next.unwrap_or(here);
        if let Some(from) = walk.iter().position(|at| *at == next) {
            let keys: Vec<&str> =
                walk[from..].iter().chain([&next]).map(|at| scope.roles[*at].key.value.as_str()).collect();
            let span = scope.roles[next].key.span;
            return errors::inclusion_loop::told(span, &keys);
        }
        walk.push(next);
    }
}

fn role(
    scope: &Scope<'_>,
    id: RoleId,
    made: &[Option<Role>],
    gives: &[Vec<PermId>],
    findings: &mut Vec<Finding>,
) -> (Role, Vec<PermId>) {
    let written = scope.roles[id.index()];
    let includes = scope.includes[id.index()].clone();
    let permissions = scope.expand_all(&written.permissions, false, findings);
    let values: Vec<_> = written.values.iter().map(|(name, kind)| (name.value.clone(), kind.value)).collect();
    let clauses = clauses(scope, written, &values, findings);

    let mut before_except: Vec<PermId> = permissions.clone();
    before_except.extend(clauses.iter().flat_map(|clause| clause.permissions.iter().copied()));
    before_except.extend(includes.iter().flat_map(|inner| gives[inner.index()].iter().copied()));
    before_except.sort_unstable();
    before_except.dedup();
    let except = excepted(scope, written, &before_except, findings);
    let mut given = before_except;
    given.retain(|permission| !except.contains(permission));

    let kinds = scope.kinds_met(&given, &written.permissions);
    let around = Surroundings {
        kinds: &kinds,
        grant: Some(&values),
        regardless: written.regardless,
        standby: false,
        split: "a clause of their own, each with its own when",
    };
    let when = match &written.when {
        // Without permissions there is no type to judge names by; the lint says what is wrong.
        Some(expr) if !kinds.is_empty() => typing::condition(scope, around, expr, findings),
        _ => None,
    };
    let (held_by_users, held_by_services) = held_by(written, findings);
    let role = Role {
        key: written.key.value.clone(),
        name: written.name.clone().map_or_else(|| written.key.value.clone(), |name| name.value),
        description: written.description.clone().map_or_else(String::new, |text| text.value),
        permissions,
        includes,
        except,
        held_by_users,
        held_by_services,
        held_at: held_at(scope, written, findings),
        grantable: written.grantable,
        values,
        when,
        given_to: written.given_to.as_ref().map(|given| given.value),
        clauses,
        standby: standby(scope, written, findings),
        span: written.key.span,
    };
    fits_included(written, &role, made, findings);
    fits_gift(written, &role, findings);
    (role, given)
}

fn clauses(
    scope: &Scope<'_>,
    written: &syntax::Role,
    values: &[(String, crate::value::ValueType)],
    findings: &mut Vec<Finding>,
) -> Vec<Clause> {
    let mut all = Vec::new();
    for clause in &written.clauses {
        let permissions = scope.expand_all(&clause.permissions, false, findings);
        let kinds = scope.kinds_met(&permissions, &clause.permissions);
        let around = Surroundings {
            kinds: &kinds,
            grant: Some(values),
            regardless: clause.regardless,
            standby: false,
            split: "a clause of their own",
        };
        let when = clause.when.as_ref().filter(|_| !kinds.is_empty());
        if let Some(when) = when.and_then(|expr| typing::condition(scope, around, expr, findings)) {
            all.push(Clause { permissions, when, span: clause.span });
        }
    }
    all
}

fn standby(scope: &Scope<'_>, written: &syntax::Role, findings: &mut Vec<Finding>) -> Option<Standby> {
    let standby = written.standby.as_ref()?;
    let around = Surroundings { kinds: &[], grant: None, regardless: false, standby: true, split: "" };
    let when = standby.when.as_ref().and_then(|expr| typing::condition(scope, around, expr, findings));
    Some(Standby { longest: standby.longest?, when, reason: standby.reason, by_self: standby.by_self })
}

fn excepted(
    scope: &Scope<'_>,
    written: &syntax::Role,
    given: &[PermId],
    findings: &mut Vec<Finding>,
) -> Vec<PermId> {
    let mut all = Vec::new();
    for pattern in &written.except {
        let taken = scope.expand(pattern, false, findings);
        if !taken.is_empty() && !taken.iter().any(|permission| given.contains(permission)) {
            findings.push(errors::except_nothing::told(pattern.span, &pattern.value, &written.key.value));
        }
        all.extend(taken);
    }
    all.sort_unstable();
    all.dedup();
    all
}

fn held_by(written: &syntax::Role, findings: &mut Vec<Finding>) -> (bool, bool) {
    let Some(kinds) = &written.held_by else { return (true, false) };
    for kind in kinds {
        if !matches!(kind.value.as_str(), "user" | "service") {
            let message = format!("held-by names user or service, not {:?}", kind.value);
            let finding = Finding::error("unknown-type", kind.span, message);
            findings.push(finding.meant(&kind.value, ["user", "service"]));
        }
    }
    let has = |name: &str| kinds.iter().any(|kind| kind.value == name);
    (has("user"), has("service"))
}

fn held_at(scope: &Scope<'_>, written: &syntax::Role, findings: &mut Vec<Finding>) -> Option<HeldAt> {
    let mut held = HeldAt::default();
    for place in written.held_at.as_ref()? {
        if place.value == "everywhere" {
            held.everywhere = true;
            continue;
        }
        match scope.kind(&place.value).filter(|kind| kind.is_resource() || *kind == KindId::TENANT) {
            Some(kind) => held.kinds.push(kind),
            None => {
                let known = scope.kinds.iter().skip(3).map(|kind| kind.key.as_str()).chain(["everywhere"]);
                let message = format!("unknown place {:?}", place.value);
                let finding = Finding::error("unknown-type", place.span, message).meant(&place.value, known);
                findings.push(finding.help("places are everywhere, tenant and resource types"));
            }
        }
    }
    Some(held)
}

/// Whether a role may include what it includes.
fn fits_included(written: &syntax::Role, role: &Role, made: &[Option<Role>], findings: &mut Vec<Finding>) {
    for (id, at) in role.includes.iter().filter_map(|id| {
        let inner = made[id.index()].as_ref()?;
        Some((inner, written.includes.iter().find(|key| key.value == inner.key)?))
    }) {
        let (outer, inner) = (&role.key, &id.key);
        let differ = id.values.iter().any(|value| !role.values.contains(value));
        if differ {
            findings.push(errors::includes_values::told(at.span, outer, inner));
        }
        if id.standby.is_some() && role.standby.is_none() {
            findings.push(errors::includes_standby::told(at.span, outer, inner));
        }
        if (role.held_by_users && !id.held_by_users) || (role.held_by_services && !id.held_by_services) {
            findings.push(errors::held_wider::by(at.span, outer, inner));
        }
        let wider = match (&role.held_at, &id.held_at) {
            (_, None) => false,
            (None, Some(_)) => true,
            (Some(outer), Some(inner)) => {
                (outer.everywhere && !inner.everywhere)
                    || outer.kinds.iter().any(|kind| !inner.kinds.contains(kind))
            }
        };
        if wider {
            findings.push(errors::held_wider::places(at.span, outer, inner));
        }
    }
}

fn fits_gift(written: &syntax::Role, role: &Role, findings: &mut Vec<Finding>) {
    let Some(given) = &written.given_to else { return };
    let whom = given.value.text();
    if !role.values.is_empty() {
        findings.push(errors::given_without_grant::values(given.span, &role.key, whom));
    }
    if role.standby.is_some() {
        findings.push(errors::given_without_grant::standby(given.span, &role.key, whom));
    }
}

/// All rules, by key.
pub fn rules(scope: &Scope<'_>, tree: &Tree, findings: &mut Vec<Finding>) -> Vec<Rule> {
    let mut all: Vec<Rule> = tree.rules.iter().filter_map(|rule| self::rule(scope, rule, findings)).collect();
    all.sort_by(|a, b| a.key.cmp(&b.key));
    all
}

fn rule(scope: &Scope<'_>, written: &syntax::Rule, findings: &mut Vec<Finding>) -> Option<Rule> {
    let effect = written.effect.as_ref()?.value;
    let deny = effect == Effect::Deny;
    let permissions = scope.expand_all(&written.permissions, deny, findings);
    let kinds = scope.kinds_met(&permissions, &written.permissions);
    let around = Surroundings {
        kinds: &kinds,
        grant: None,
        regardless: written.regardless,
        standby: false,
        split: "a rule of their own",
    };
    let before = findings.len();
    let when = written
        .when
        .as_ref()
        .filter(|_| !kinds.is_empty())
        .and_then(|expr| typing::condition(scope, around, expr, findings));
    let key = written.key.as_ref()?;
    if when.is_none() && written.when.is_some() && findings.len() > before {
        return None;
    }
    let for_anyone = written.for_whom.as_ref().is_some_and(|whom| whom.value == GivenTo::Anyone);
    if deny {
        for (stated, name) in
            [(written.for_whom.is_some(), "for"), (written.across_tenants, "across-tenants")]
        {
            if stated {
                let message = format!("{name} belongs to allow rules; a deny rule reaches everybody");
                findings
                    .push(Finding::error("unknown-key", written.span, message).help("say it in the when"));
            }
        }
    } else {
        allow_fits(scope, written, key, &kinds, for_anyone, findings);
    }
    Some(Rule {
        key: key.value.clone(),
        effect,
        permissions,
        when,
        message: written.message.clone(),
        advice: written.advice.clone(),
        for_anyone,
        across_tenants: written.across_tenants,
        span: key.span,
    })
}

fn allow_fits(
    scope: &Scope<'_>,
    written: &syntax::Rule,
    key: &At<String>,
    kinds: &[KindId],
    for_anyone: bool,
    findings: &mut Vec<Finding>,
) {
    if written.when.is_none() {
        findings.push(errors::allow_rule::without_when(key.span, &key.value));
    }
    let tenanted = kinds.iter().find(|kind| !scope.kinds[kind.index()].within.is_empty());
    if let (true, false, Some(kind)) = (for_anyone, written.across_tenants, tenanted) {
        let kind = &scope.kinds[kind.index()].key;
        findings.push(errors::allow_rule::anyone_in_tenant(key.span, &key.value, kind));
    }
}

/// A named condition that nothing meets is checked as far as it can be: it must not loop, and
/// nobody reads it.
pub fn unused_conditions(scope: &Scope<'_>, tree: &Tree, findings: &mut Vec<Finding>) {
    let mut met = HashSet::new();
    let mut waiting: Vec<&Expr> = Vec::new();
    waiting.extend(tree.roles.iter().filter_map(|role| role.when.as_ref()));
    waiting
        .extend(tree.roles.iter().flat_map(|role| &role.clauses).filter_map(|clause| clause.when.as_ref()));
    waiting.extend(tree.rules.iter().filter_map(|rule| rule.when.as_ref()));
    waiting.extend(tree.roles.iter().filter_map(|role| role.standby.as_ref()?.when.as_ref()));
    waiting.extend(tree.tenant_roles.iter().filter_map(|clause| clause.when.as_ref()));
    let confers = tree.resources.iter().flat_map(|resource| &resource.confers);
    waiting.extend(confers.filter_map(|confer| confer.when.as_ref()));
    while let Some(expr) = waiting.pop() {
        match &expr.kind {
            ExprKind::Not(inner) => waiting.push(inner),
            ExprKind::All(parts) | ExprKind::Any(parts) | ExprKind::List(parts) => waiting.extend(parts),
            ExprKind::Binary(_, left, right) => waiting.extend([left.as_ref(), right.as_ref()]),
            ExprKind::Call(name, _, arguments) => {
                waiting.extend(arguments);
                if let ("meets", [Expr { kind: ExprKind::Literal(crate::value::Scalar::Text(key)), .. }]) =
                    (name.as_str(), arguments.as_slice())
                    && met.insert(key.to_string())
                    && let Some(named) = tree.conditions.iter().find(|named| named.key.value == **key)
                {
                    waiting.extend(named.when.as_ref());
                }
            }
            ExprKind::Error | ExprKind::Literal(_) | ExprKind::Path(_) => {}
        }
    }
    for named in tree.conditions.iter().filter(|named| !met.contains(&named.key.value)) {
        let message = format!("no condition meets {:?}", named.key.value);
        let finding = Finding::warning("unused-condition", named.key.span, message);
        findings.push(finding.help("use it as meets('…'), or take it out"));
        // Typed against every type at once, only the mistakes that no type could mend are told.
        let kinds: Vec<KindId> = (4..scope.kinds.len()).map(KindId::at).collect();
        let mut found = Vec::new();
        for kind in &kinds {
            let around = Surroundings {
                kinds: std::slice::from_ref(kind),
                grant: None,
                regardless: named.regardless,
                standby: false,
                split: "",
            };
            found.clear();
            if named
                .when
                .as_ref()
                .and_then(|expr| typing::condition(scope, around, expr, &mut found))
                .is_some()
            {
                break;
            }
        }
        findings.append(&mut found);
    }
}
