//! A charter held against a register: roles that nobody holds, grants that give nothing under it.

use super::change::{entity_fits, fits_tenant_clauses, grant_fits};
use super::wrong::Wrong;
use super::{Grant, MadeRole, PlaceOf, Register, Sym};
use crate::charter::model::{KindId, PermId, RoleId};
use crate::charter::policy::Policy;
use crate::source::Finding;

/// Roles that could be held and that nobody holds, by a grant of them or of one that includes them.
pub fn unheld(policy: &Policy, register: &Register) -> Vec<Finding> {
    let model = policy.model();
    let mut held = vec![false; model.roles.len()];
    let granted = register.all_grants().filter_map(|grant| policy.role(register.text(grant.role)));
    let given = policy.given().iter().copied();
    let conferred = model.confers.iter().map(|confer| confer.role);
    for outer in granted.chain(given).chain(conferred) {
        for (at, is_held) in held.iter_mut().enumerate() {
            *is_held |= policy.includes(outer, RoleId::at(at));
        }
    }
    let unheld = model.roles.iter().zip(held).filter(|(_, held)| !held);
    unheld
        .map(|(role, _)| {
            let finding = Finding::warning("unheld", role.span, format!("nobody holds {:?}", role.key));
            finding.help("grant it, or take it out")
        })
        .collect()
}

/// Grants that the charter does not permit, each with the reason: they give nothing under it.
pub fn idle<'r>(policy: &Policy, register: &'r Register) -> Vec<(Grant<'r>, Wrong)> {
    let grants = register.all_grants();
    grants.filter_map(|grant| Some((grant, grant_fits(policy, register, &grant).err()?))).collect()
}

/// Grants that are permitted and do not do what they seem to, each with what will happen: to a group of another
/// tenant than the place's, and of a role that gives nothing there.
pub fn doubtful<'r>(policy: &Policy, register: &'r Register) -> Vec<(Grant<'r>, String)> {
    let grants = register.all_grants().filter(|grant| grant_fits(policy, register, grant).is_ok());
    let doubt = |grant: &Grant<'r>| {
        let PlaceOf::At(place) = grant.at else { return None };
        let name = |id| register.name(id);
        let (of, at) = (register.group_tenant(grant.to), register.tenant_of(place));
        if let (Sym::GROUP, Some(of)) = (register.kind(grant.to), of)
            && at != Some(of)
        {
            return Some(format!(
                "{} is a group of {}, and {} does not lie there: none of its members gets anything by it; \
                 grant it to a group of that tenant, or of none",
                name(grant.to),
                name(of),
                name(place)
            ));
        }
        let role = policy.role(register.text(grant.role))?;
        let inside = kinds_inside(policy, policy.kind(register.text(register.kind(place)))?);
        let gives = policy.model().permissions.iter().enumerate().any(|(at, permission)| {
            inside.contains(&permission.kind) && policy.may_give(role, PermId::at(at))
        });
        (!gives).then(|| {
            format!(
                "{} gives nothing at {}, nor at what may lie in it; grant it where what it is for lies",
                register.text(grant.role),
                name(place)
            )
        })
    };
    grants.filter_map(|grant| doubt(&grant).map(|why| (grant, why))).collect()
}

/// A type, and all that may lie in it.
fn kinds_inside(policy: &Policy, kind: KindId) -> Vec<KindId> {
    let mut all = vec![kind];
    let mut at = 0;
    while at < all.len() {
        for (inner, declared) in policy.model().kinds.iter().enumerate() {
            let inner = KindId::at(inner);
            if declared.within.contains(&all[at]) && !all.contains(&inner) {
                all.push(inner);
            }
        }
        at += 1;
    }
    all
}

/// Facts that the charter does not permit, in words, at most so many: entities of types it does not
/// declare, attributes and relations that do not fit, grants and tenants' roles that give nothing.
///
/// Costs a look at every fact. `go_on` is asked now and then; once it says no, it ends where it is.
pub fn unfit(
    policy: &Policy,
    register: &Register,
    most: usize,
    go_on: &mut dyn FnMut() -> bool,
) -> Vec<String> {
    unfit_beside((policy, &|_| true), &[], register, most, go_on)
}

/// The same for a charter that is live beside others: of types for whose owner it is not live (`owns`), and of
/// roles that another one declares, it ignores what it does not declare.
pub fn unfit_beside(
    (policy, owns): (&Policy, &dyn Fn(&str) -> bool),
    others: &[&Policy],
    register: &Register,
    most: usize,
    go_on: &mut dyn FnMut() -> bool,
) -> Vec<String> {
    let entity = |id| {
        let whole = owns(register.text(register.kind(id)));
        Some(format!("{}: {}", register.name(id), entity_fits(policy, register, id, whole).err()?))
    };
    let grant = |grant: Grant<'_>| {
        let why = grant_fits(policy, register, &grant).err()?;
        let key = register.text(grant.role);
        let ignored = policy.role(key).is_none() && others.iter().any(|other| other.role(key).is_some());
        (!ignored).then(|| format!("grant {}: {why}", grant.id))
    };
    let role = |(key, role): (Sym, &MadeRole)| {
        let ignored = |pattern: &str| {
            policy.expand(pattern).is_empty() && others.iter().any(|other| !other.expand(pattern).is_empty())
        };
        let counts = role.permissions.iter().filter(|pattern| !ignored(pattern));
        let why = counts.into_iter().find_map(|pattern| fits_tenant_clauses(policy, pattern).err())?;
        Some(format!("{}: {why}", register.text(key)))
    };
    let entities = register.all_entities().map(entity);
    let all = entities.chain(register.all_grants().map(grant)).chain(register.made_roles().map(role));
    let goes_on = all.enumerate().take_while(|(at, _)| at % 1024 != 1023 || go_on());
    goes_on.filter_map(|(_, wrong)| wrong).take(most).collect()
}
