//! What operators may do: their keys are services of a small charter of its own, which the same
//! core decides about.

use crate::node::gate::permission::{Permission, Permissions};
use jiff::Timestamp;
use ostrog_core::charter;
use ostrog_core::prelude::{Policy, Register, Request, Sources, World, decide, line, with_scratch};
use ostrog_core::release::settings;
use ostrog_store::key::Right;
use serde_json::json;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, LazyLock};

static CHARTER: LazyLock<Arc<Policy>> = LazyLock::new(|| {
    let sources = Sources::single("operators.toml", include_str!("operators.toml"));
    Arc::new(charter::read(&sources).policy.expect("the built-in charter has no errors"))
});

/// Who asks the built-in charter.
const SUBJECT: &str = "service:operator";

/// What one operator may do: everywhere, and at tenants.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Rights {
    everywhere: Permissions,
    /// By `tenant:id`; what is held everywhere is held there too.
    at: BTreeMap<String, Permissions>,
}

impl Rights {
    /// What roles at places come to, asked of the core once.
    pub fn of(rights: &[Right]) -> Rights {
        let places = rights.iter().map(|right| right.at.as_str()).filter(|at| *at != "everywhere");
        let tenants: BTreeSet<&str> = places.collect();
        let mut lines = vec![json!({ "entity": SUBJECT })];
        lines.extend(tenants.iter().map(|tenant| json!({ "entity": tenant })));
        for right in rights {
            lines.push(json!({ "grant": { "role": right.role, "to": SUBJECT, "at": right.at } }));
        }
        let mut world = World::new(Arc::clone(&CHARTER), Register::default());
        let changes: Result<Vec<_>, _> = lines.iter().map(line::from_json).collect();
        // Rights that make no sense are no rights.
        if !changes.is_ok_and(|changes| world.apply(&changes).is_ok()) {
            tracing::error!("the rights of a key cannot be read; it has none");
            return Rights::default();
        }
        let held = |tenant: Option<&str>| {
            let all = Permission::OF_OPERATORS.into_iter();
            all.filter(|permission| may(&world, *permission, tenant)).collect()
        };
        Rights {
            everywhere: held(None),
            at: tenants.iter().map(|tenant| ((*tenant).to_owned(), held(Some(tenant)))).collect(),
        }
    }

    /// What an application's key is kept to.
    pub fn of_application(endpoints: &[String]) -> Rights {
        let all = Permission::OF_APPLICATIONS.into_iter();
        let kept = all.filter(|permission| endpoints.iter().any(|kept| kept == permission.name()));
        Rights { everywhere: kept.collect(), at: BTreeMap::new() }
    }

    /// What a reverse proxy's key is for.
    pub fn of_proxy() -> Rights {
        Rights { everywhere: [Permission::RouteCheck].into_iter().collect(), at: BTreeMap::new() }
    }

    /// Whether a permission is held for what lies in a tenant, or in none.
    pub fn may(&self, permission: Permission, tenant: Option<&str>) -> bool {
        self.held(tenant).has(permission)
    }

    fn held(&self, tenant: Option<&str>) -> Permissions {
        tenant.and_then(|tenant| self.at.get(tenant)).copied().unwrap_or(self.everywhere)
    }

    /// Whether a permission is held somewhere.
    pub fn may_somewhere(&self, permission: Permission) -> bool {
        self.everywhere.has(permission) || self.tenants(permission).next().is_some()
    }

    /// The tenants by name at which a permission is held, beside those that are not named.
    pub fn tenants(&self, permission: Permission) -> impl Iterator<Item = &str> {
        self.at.iter().filter(move |(_, held)| held.has(permission)).map(|(tenant, _)| tenant.as_str())
    }

    /// Whether everything that others may is held here too.
    pub fn cover(&self, others: &Rights) -> bool {
        self.everywhere.cover(others.everywhere)
            && others.at.iter().all(|(tenant, held)| self.held(Some(tenant)).cover(*held))
    }
}

/// Asks the core.
fn may(world: &World, permission: Permission, tenant: Option<&str>) -> bool {
    let at = tenant.filter(|_| permission.name().starts_with("register:"));
    let request = Request {
        subject: SUBJECT.to_owned(),
        permission: permission.name().to_owned(),
        of_resource: at.map(|tenant| ("within".to_owned(), tenant.into())).into_iter().collect(),
        ..Request::default()
    };
    let asked = request.resolve(world.engine(), Timestamp::UNIX_EPOCH);
    let question = asked.ok().and_then(|asked| asked.question.ok());
    question
        .is_some_and(|question| with_scratch(|scratch| decide(world.engine(), &question, scratch)).allowed)
}

/// Why rights cannot be given, if they cannot.
pub fn wrong(rights: &[Right]) -> Option<String> {
    let roles = &CHARTER.model().roles;
    rights.iter().find_map(|right| {
        let Some(role) = CHARTER.role(&right.role).map(|role| &roles[role.index()]) else {
            let near =
                ostrog_core::names::did_you_mean(&right.role, roles.iter().map(|role| role.key.as_str()));
            return Some(format!("there is no operator's role {:?}{near}", right.role));
        };
        let everywhere = right.at == "everywhere";
        if !everywhere && !right.at.starts_with("tenant:") {
            return Some(format!("{:?} is no place of a right: everywhere, or tenant:id", right.at));
        }
        let only = role.held_at.as_ref().is_some() && !everywhere;
        only.then(|| format!("{:?} is held everywhere, not at {}", right.role, right.at))
    })
}

/// The roles that operators may have.
pub fn roles() -> Vec<&'static str> {
    CHARTER.model().roles.iter().map(|role| role.key.as_str()).collect()
}

/// What somebody would be let do that they are not, and the other way round: by the permission, everywhere or at a
/// tenant.
pub fn moved(before: &Rights, after: &Rights) -> Vec<(bool, String)> {
    let tenants: BTreeSet<Option<&str>> =
        before.at.keys().chain(after.at.keys()).map(|tenant| Some(tenant.as_str())).chain([None]).collect();
    let mut all = Vec::new();
    for permission in Permission::OF_OPERATORS {
        for tenant in &tenants {
            let [was, is] = [before, after].map(|rights| rights.may(permission, *tenant));
            let everywhere = [before, after].map(|rights| rights.may(permission, None));
            // What is so everywhere is told once.
            if was != is && (tenant.is_none() || everywhere == [false, false]) {
                all.push((is, format!("{permission} at {}", tenant.unwrap_or("everywhere"))));
            }
        }
    }
    all
}

/// What roles that the settings give come to.
pub fn rights_of<'r>(all: impl IntoIterator<Item = &'r settings::Right>) -> Rights {
    let right = |right: &settings::Right| Right { role: right.role.clone(), at: right.at.clone() };
    Rights::of(&all.into_iter().map(right).collect::<Vec<_>>())
}

/// Whether some rights make an owner.
pub fn is_owner(rights: &[Right]) -> bool {
    rights.iter().any(|right| right.role == "owner")
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn rights(all: &[(&str, &str)]) -> Vec<Right> {
        all.iter().map(|(role, at)| Right { role: (*role).to_owned(), at: (*at).to_owned() }).collect()
    }

    #[rstest]
    #[case(&[("owner", "everywhere")], "keys:keep", None, true)]
    #[case(&[("reader", "everywhere")], "register:read", Some("tenant:north"), true)]
    #[case(&[("reader", "everywhere")], "register:entities", None, false)]
    #[case(&[("grant-editor", "tenant:north")], "register:grants", Some("tenant:north"), true)]
    #[case(&[("grant-editor", "tenant:north")], "register:grants", Some("tenant:south"), false)]
    #[case(&[("grant-editor", "tenant:north")], "register:grants", None, false)]
    #[case(&[("grant-editor", "tenant:north")], "register:entities", Some("tenant:north"), false)]
    #[case(&[("key-keeper", "everywhere")], "charter:release", None, false)]
    #[case(&[], "register:read", None, false)]
    fn rights_reach_as_far_as_their_place(
        #[case] held: &[(&str, &str)],
        #[case] permission: &str,
        #[case] tenant: Option<&str>,
        #[case] may: bool,
    ) {
        let permission = Permission::OF_OPERATORS.into_iter().find(|known| known.name() == permission);
        assert_eq!(Rights::of(&rights(held)).may(permission.expect("is one"), tenant), may);
    }

    #[test]
    fn nobody_covers_more_than_they_hold() {
        let of = |role, at| Rights::of(&rights(&[(role, at)]));
        let keeper = of("key-keeper", "everywhere");
        assert!(keeper.cover(&of("reader", "tenant:north")));
        assert!(keeper.cover(&keeper));
        assert!(!keeper.cover(&of("owner", "everywhere")));
        assert!(!keeper.cover(&of("grant-editor", "tenant:north")));
        let north = of("register-editor", "tenant:north");
        assert!(north.cover(&of("grant-editor", "tenant:north")));
        assert!(!north.cover(&of("grant-editor", "tenant:south")));
        assert!(!north.cover(&of("grant-editor", "everywhere")));
        assert!(of("owner", "everywhere").cover(&north));
    }

    #[test]
    fn the_charter_and_the_list_know_the_same() {
        let declared = CHARTER.model().permissions.iter().map(|permission| permission.text.as_str());
        let listed = Permission::OF_OPERATORS.iter().map(|permission| permission.name());
        assert_eq!(declared.collect::<BTreeSet<_>>(), listed.collect::<BTreeSet<_>>());
    }

    #[test]
    fn rights_that_make_no_sense_are_told_and_give_nothing() {
        let wrong = |role, at| super::wrong(&rights(&[(role, at)]));
        assert_eq!(
            wrong("raeder", "everywhere").as_deref(),
            Some("there is no operator's role \"raeder\"; did you mean \"reader\"?")
        );
        assert_eq!(
            wrong("reader", "vessel:a").as_deref(),
            Some("\"vessel:a\" is no place of a right: everywhere, or tenant:id")
        );
        assert_eq!(
            wrong("owner", "tenant:north").as_deref(),
            Some("\"owner\" is held everywhere, not at tenant:north")
        );
        assert_eq!(Rights::of(&rights(&[("owner", "tenant:north")])), Rights::default());
    }
}
