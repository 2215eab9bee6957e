//! What tenants may put into roles of their own making.

use super::typing::{self, Surroundings};
use super::{Scope, errors};
use crate::charter::model::{PermId, Role, TenantClause};
use crate::charter::syntax::Tree;
use crate::source::Finding;

/// All clauses, in the order they were written.
pub fn clauses(
    scope: &Scope<'_>,
    tree: &Tree,
    roles: &[Role],
    findings: &mut Vec<Finding>,
) -> Vec<TenantClause> {
    let mut all = Vec::new();
    for written in &tree.tenant_roles {
        let permissions = scope.expand_all(&written.permissions, false, findings);
        let kinds = scope.kinds_met(&permissions, &written.permissions);
        let around = Surroundings {
            kinds: &kinds,
            grant: None,
            regardless: written.regardless,
            standby: false,
            split: "a clause of their own",
        };
        let when = written.when.as_ref().filter(|_| !kinds.is_empty());
        let typed = when.and_then(|expr| typing::condition(scope, around, expr, findings));
        if written.when.is_none() && !written.unguarded {
            for pattern in &written.permissions {
                for permission in scope.expand(pattern, false, &mut Vec::new()) {
                    if always_guarded(roles, permission) {
                        let text = &scope.permissions[permission.index()].text;
                        findings.push(errors::tenant_unguarded::told(pattern.span, text));
                    }
                }
            }
        }
        if typed.is_some() || written.when.is_none() {
            all.push(TenantClause { permissions, when: typed, span: written.span });
        }
    }
    all
}

/// Whether some role gives a permission, and none does so whatever its conditions are.
fn always_guarded(roles: &[Role], permission: PermId) -> bool {
    let mut given = false;
    for at in 0..roles.len() {
        match gives(roles, at, permission) {
            Gives::Surely => return false,
            Gives::Perhaps => given = true,
            Gives::Never => {}
        }
    }
    given
}

#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Gives {
    Never,
    Perhaps,
    Surely,
}

/// Inclusion has no loops once there are roles at all.
fn gives(roles: &[Role], at: usize, permission: PermId) -> Gives {
    let role = &roles[at];
    if role.except.contains(&permission) {
        return Gives::Never;
    }
    let mut best = if role.permissions.contains(&permission) {
        Gives::Surely
    } else if role.clauses.iter().any(|clause| clause.permissions.contains(&permission)) {
        Gives::Perhaps
    } else {
        Gives::Never
    };
    for inner in &role.includes {
        best = best.max(gives(roles, inner.index(), permission));
    }
    if role.when.is_some() { best.min(Gives::Perhaps) } else { best }
}
