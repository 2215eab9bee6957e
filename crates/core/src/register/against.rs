//! A charter held against a register: roles that nobody holds, grants that give nothing under it.

use super::change::{entity_fits, fits_tenant_clauses, grant_fits};
use super::wrong::Wrong;
use super::{Grant, MadeRole, Register, Sym};
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
/// Costs a look at every fact. `go_on` is asked now and then; once it says no, it ends where it is.
pub fn unfit(
    policy: &Policy,
    register: &Register,
    most: usize,
    go_on: &mut dyn FnMut() -> bool,
) -> Vec<String> {
    let entity = |id| Some(format!("{}: {}", register.name(id), entity_fits(policy, register, id).err()?));
    let grant = |grant: Grant<'_>| {
        let why = grant_fits(policy, register, &grant).err()?;
        Some(format!("grant {}: {why}", grant.id))
    };
    let role = |(key, role): (Sym, &MadeRole)| {
        let why = role.permissions.iter().find_map(|pattern| fits_tenant_clauses(policy, pattern).err())?;
        Some(format!("{}: {why}", register.text(key)))
    };
    let entities = register.all_entities().map(entity);
    let all = entities.chain(register.all_grants().map(grant)).chain(register.made_roles().map(role));
    let goes_on = all.enumerate().take_while(|(at, _)| at % 1024 != 1023 || go_on());
    goes_on.filter_map(|(_, wrong)| wrong).take(most).collect()
}
