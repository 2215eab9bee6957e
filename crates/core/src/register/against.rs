//! A charter held against a register: roles that nobody holds, grants that give nothing under it.

use super::change::grant_fits;
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
pub fn idle<'r>(policy: &Policy, register: &'r Register) -> Vec<(Grant<'r>, String)> {
    let grants = register.all_grants();
    grants.filter_map(|grant| Some((grant, grant_fits(policy, register, &grant).err()?))).collect()
}
