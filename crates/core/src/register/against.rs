//! A charter held against a register: roles that nobody holds, grants that give nothing under it.

use super::change::{entity_fits, fits_tenant_clauses, grant_fits};
use super::wrong::Wrong;
use super::{Grant, Register};
use crate::charter::model::RoleId;
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

/// Facts that the charter does not permit, in words, at most so many: entities of types it does not
/// declare, attributes and relations that do not fit, grants and tenants' roles that give nothing.
///
/// Costs a look at every fact.
pub fn unfit(policy: &Policy, register: &Register, most: usize) -> Vec<String> {
    let entities = register.all_entities().filter_map(|id| {
        let why = entity_fits(policy, register, id).err()?;
        Some(format!("{}: {why}", register.name(id)))
    });
    let grants = idle(policy, register).into_iter().map(|(grant, why)| format!("grant {}: {why}", grant.id));
    let roles = register.made_roles().filter_map(|(key, role)| {
        let why = role.permissions.iter().find_map(|pattern| fits_tenant_clauses(policy, pattern).err())?;
        Some(format!("{}: {why}", register.text(key)))
    });
    entities.chain(grants).chain(roles).take(most).collect()
}
